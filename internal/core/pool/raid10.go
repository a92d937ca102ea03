package pool

import (
	"fmt"
	"slices"
)

// CopySets are the sets of members that hold the same data, for a raid10 of n members: as __raid10_find_phys of
// drivers/md/raid10.c places the copies of each chunk. The layout has near copies in its low byte, far copies in the
// next, and in bits 17 and 18 how far copies are kept together.
func CopySets(n, layout int) (sets [][]int) {
	near, far := max(1, layout&0xff), max(1, layout>>8&0xff)
	setSize := n
	switch layout >> 17 {
	case 1:
		setSize = n / far
	case 2:
		setSize = far * near
	}
	setSize = min(max(1, setSize), n)
	lastStart := (n/setSize - 1) * setSize
	lastSize := setSize + n%setSize
	seen := map[string]bool{}
	for chunk := range n {
		var on []int
		dev := chunk * near % n
		for range near {
			d := dev
			on = append(on, d)
			for range far - 1 {
				set := d / setSize
				d += near
				if n%setSize != 0 && d > lastStart {
					d = (d-lastStart)%lastSize + lastStart
				} else {
					d = d%setSize + setSize*set
				}
				on = append(on, d)
			}
			if dev++; dev >= n {
				dev = 0
			}
		}
		slices.Sort(on)
		on = slices.Compact(on)
		if key := fmt.Sprint(on); !seen[key] {
			seen[key] = true
			sets = append(sets, on)
		}
	}
	return sets
}
