package capacity

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
)

// counted is how much fits when stripe after stripe is laid by hand: each has its pieces on different places, those
// with the most room left, which is the best that can be done. A piece is one byte.
func counted(rooms []int, protect pool.Protection) (n int) {
	rooms = slices.Clone(rooms)
	for {
		slices.SortFunc(rooms, func(a, b int) int { return b - a })
		width, data := protect.Tolerance+1, 1
		if protect.Data > 1 {
			width, data = protect.Data+protect.Tolerance, protect.Data
		}
		if protect.Data < 0 {
			if width = len(rooms); slices.Contains(rooms, 0) {
				width = slices.Index(rooms, 0)
			}
			data = width - protect.Tolerance
		}
		if data < 1 || width > len(rooms) || rooms[width-1] == 0 {
			return n
		}
		for i := range width {
			rooms[i]--
		}
		n += data
	}
}

// TestHolds: the capacity of groups is what can be placed on their members piece by piece.
func TestHolds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		protect := pool.Protection{
			Tolerance: rapid.IntRange(0, 3).Draw(t, "tolerance"),
			Data:      rapid.SampledFrom([]int{-1, 0, 1, 2, 3}).Draw(t, "data"),
			Domains:   rapid.Bool().Draw(t, "domains"),
		}
		var members []pool.Member
		of := map[string]int{}
		for i := range rapid.IntRange(1, 9).Draw(t, "n") {
			m := pool.Member{Slot: fmt.Sprint(i), Domain: fmt.Sprint("host ", rapid.IntRange(0, 4).Draw(t, "host")),
				Size: drive.Bytes(rapid.IntRange(1, 60).Draw(t, "size"))}
			members = append(members, m)
			if protect.Domains {
				of[m.Domain] += int(m.Size)
			} else {
				of[m.Slot] = int(m.Size)
			}
		}
		var rooms []int
		for _, r := range of {
			rooms = append(rooms, r)
		}
		got := groupHolds(members, protect, true)
		want := counted(rooms, protect)
		// Pieces of one byte, so that no remainder smaller than a stripe is left.
		require.InDelta(t, want, got, float64(max(1, protect.Data)), "%v %v", rooms, protect)
		require.LessOrEqual(t, float64(want), got+0.001)
	})
	// As many places as pieces: the smallest place is the limit, however sums of its parts are rounded.
	for size := 1.0; size < 2000; size++ {
		for w := 2; w < 12; w++ {
			rooms := slices.Repeat([]float64{size}, w)
			rooms[w-1] = 3 * size
			require.InDelta(t, size, spreadHolds(rooms, pool.Protection{Tolerance: w - 1}), 1e-9*size)
		}
	}
}

func group(name string, n int, size drive.Bytes, protect pool.Protection) pool.Group {
	g := pool.Group{Name: name, Protect: protect}
	for i := range n {
		g.Members = append(g.Members, pool.Member{Slot: fmt.Sprint(name, ".", i), Size: size, Domain: fmt.Sprint("h", i%3),
			State: pool.Online})
	}
	return g
}

// TestWays: the capacity that another group, another host, one more drive and larger drives add, in pools of each kind;
// if the sizes do not match the pool's capacity, or the volumes have several protections, there is no answer.
func TestWays(t *testing.T) {
	double := pool.Protection{Tolerance: 2, Data: -1}
	mirror := pool.Protection{Tolerance: 1, Data: 1}
	three := pool.Protection{Tolerance: 2, Data: 1, Domains: true}
	none := pool.Protection{None: true}
	spread := func(g pool.Group) pool.Group { g.Spread = true; return g }
	dedicated := group("d", 4, 8e12, pool.Protection{Tolerance: 1, Data: -1})
	dedicated.Members[3].Parity = true
	several := group("e", 4, 4e12, pool.Protection{Tolerance: 1, Data: -1})
	several.Members[0].Parity, several.Members[0].Size = true, 6e12
	set := group("s", 6, 8e12, double)
	set.Members[0].State, set.Members[0].Size = pool.Out, 0
	for name, c := range map[string]struct {
		pool pool.Pool
		size drive.Bytes
		want []Way
	}{
		"two groups": {pool.Pool{Capacity: 48e12, Groups: []pool.Group{group("a", 6, 4e12, double),
			group("b", 6, 8e12, double)}}, 0,
			[]Way{{AnotherGroup, "b", 6, 8e12, 32e12}, {LargerDrives, "", 12, 16e12, 80e12}}},
		"some is kept back": {pool.Pool{Capacity: 28.8e12, Groups: []pool.Group{group("b", 6, 8e12, double)}}, 8e12,
			[]Way{{AnotherGroup, "b", 6, 8e12, 28.8e12}}},
		"mirrors": {pool.Pool{Capacity: 4e12, Groups: []pool.Group{group("m", 2, 4e12, mirror)}}, 10e12,
			[]Way{{AnotherGroup, "m", 2, 4e12, 4e12}, {LargerDrives, "", 2, 10e12, 6e12}}},
		"a member was set aside": {pool.Pool{Capacity: 24e12, Groups: []pool.Group{set}}, 8e12,
			[]Way{{AnotherGroup, "s", 5, 8e12, 24e12}}},
		"dedicated parity": {pool.Pool{Capacity: 24e12, Groups: []pool.Group{dedicated}}, 16e12,
			[]Way{{AnotherGroup, "d", 4, 8e12, 24e12}, {LargerDrives, "", 4, 16e12, 24e12}}},
		"dedicated parity, several sizes": {pool.Pool{Capacity: 12e12, Groups: []pool.Group{several}}, 1,
			[]Way{{AnotherGroup, "e", 4, 0, 12e12}}},
		"over hosts": {pool.Pool{Capacity: 8e12, Groups: []pool.Group{spread(group("o", 6, 4e12, three))}}, 8e12,
			[]Way{{AnotherHost, "h0", 2, 4e12, 2.666e12}, {LargerDrives, "", 6, 8e12, 8e12}}},
		"pieces anywhere": {pool.Pool{Capacity: 6e12, Groups: []pool.Group{spread(group("p", 3, 4e12, none))},
			Volumes: []pool.Volume{{Protect: mirror, Used: 1e12}, {Protect: three, Used: 1e9}}}, 4e12,
			[]Way{{AnotherDrive, "p", 1, 4e12, 2e12}}},
		"one of two": {pool.Pool{Capacity: 4e12, Groups: []pool.Group{spread(group("p", 2, 4e12, mirror))}}, 4e12,
			[]Way{{AnotherDrive, "p", 1, 4e12, 2e12}}},
		"several protections": {pool.Pool{Capacity: 6e12, Groups: []pool.Group{spread(group("p", 3, 4e12, none))},
			Volumes: []pool.Volume{{Protect: mirror, Used: 1e12}, {Protect: three, Used: 1e12}}}, 0, nil},
		"it does not add up": {pool.Pool{Capacity: 12e12, Groups: []pool.Group{group("m", 2, 4e12, mirror)}}, 0, nil},
		"a size is unknown":  {pool.Pool{Capacity: 12e12, Groups: []pool.Group{group("m", 2, 0, mirror)}}, 0, nil},
		"no groups":          {pool.Pool{Capacity: 12e12}, 0, nil},
	} {
		before := fmt.Sprintf("%+v", c.pool)
		got, ok := Ways(&c.pool, c.size)
		require.Equal(t, c.want != nil, ok, name)
		require.Len(t, got, len(c.want), name)
		for i, w := range c.want {
			require.InEpsilon(t, float64(w.Adds), float64(got[i].Adds), 0.01, name)
			got[i].Adds = w.Adds
			require.Equal(t, w, got[i], name)
		}
		require.Equal(t, before, fmt.Sprintf("%+v", c.pool), "the pool is not changed")
	}
}
