// Package nearest finds the name that somebody meant who mistyped it.
package nearest

import (
	"fmt"
	"strings"

	"github.com/agnivade/levenshtein"
)

// Meant is the end of a sentence about a name that is not there: it asks for the nearest one, if one is near.
func Meant(typed string, names []string) string {
	if best := Among(typed, names); best != "" {
		return fmt.Sprintf("; did you mean %q?", best)
	}
	return "."
}

// Among gives the name that takes the fewest changes to reach, or that begins with what was typed; empty when none is
// near.
func Among(typed string, names []string) string {
	best, least := "", 1+max(1, (len([]rune(typed))+1)/3)
	small := strings.ToLower(typed)
	for _, n := range names {
		d := levenshtein.ComputeDistance(small, strings.ToLower(n))
		if len(small) > 2 && strings.HasPrefix(strings.ToLower(n), small) {
			d = min(d, 1)
		}
		if d < least || d == least && best != "" && n < best {
			best, least = n, d
		}
	}
	return best
}
