package pool_test

import (
	"fmt"

	"lantern/internal/core/pool"
)

// A three-way mirror can lose two drives, whichever they are; without one of them it can lose one.
func ExamplePool_Margin() {
	p := pool.Pool{Name: "plankton", Groups: []pool.Group{{
		Name:    "mirror",
		Protect: pool.Protection{Tolerance: 2},
		Members: []pool.Member{
			{Slot: "1", State: pool.Online},
			{Slot: "2", State: pool.Online},
			{Slot: "3", State: pool.Online},
		},
	}}}
	now, known := p.Margin()
	fmt.Println(now, known)
	without := p.Losing("2")
	after, _ := without.Margin()
	fmt.Println(after)
	// Output:
	// can lose 2 more drives true
	// can lose 1 more drive
}
