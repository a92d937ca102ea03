// Package words writes numbers with what they count.
package words

import "strconv"

// Count is a number of things, such as "1 place" and "2 places".
func Count(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return strconv.Itoa(n) + " " + thing + "s"
}
