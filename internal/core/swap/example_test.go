package swap_test

import (
	"fmt"

	"lantern/internal/core/pool"
	"lantern/internal/core/swap"
)

// With a bay free, the new drive is filled while the old one helps, and the old one leaves last.
func ExampleCompose() {
	mirror := &pool.Pool{ID: "p", Name: "plankton", Groups: []pool.Group{{
		Name:    "mirror",
		Protect: pool.Protection{Tolerance: 1},
		Members: []pool.Member{{Slot: "1", State: pool.Online}, {Slot: "2", State: pool.Online}},
	}}}
	r := swap.Compose(swap.Ground{
		Pool:   mirror,
		Slot:   "2",
		Offers: []string{"join", "beside"},
		Free:   "fulmar/front/9",
		Clean:  true,
	})
	fmt.Println(r.Name)
	fmt.Println(r.Steps)
	// Output:
	// the new drive first, into a free bay
	// [planned insert confirm join recover pull verify]
}
