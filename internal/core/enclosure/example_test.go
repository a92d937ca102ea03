package enclosure_test

import (
	"fmt"

	"lantern/internal/core/enclosure"
)

// A bay is named by its host, the section of an enclosure, and its number there.
func ExampleParseAddress() {
	a, err := enclosure.ParseAddress("skerry/front/7")
	fmt.Println(a.Host, a.Section, a.Number, err)
	// Output: skerry front 7 <nil>
}
