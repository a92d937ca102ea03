package pool

import (
	"fmt"
	"math/bits"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestDriveMargin: over pools in pools and drives with several places, the margin is that of a trial of every set of
// drives, with the losses computed bottom up, independent of the tested code.
func TestDriveMargin(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		drives := rapid.IntRange(2, 6).Draw(t, "drives")
		key := func(i int) string { return fmt.Sprint("d", i) }
		pools := map[string]*Pool{}
		lower := rapid.IntRange(0, 3).Draw(t, "lower")
		// needs[i] are, for each pool, its members as sets of drives or another pool, and how many it can lose.
		type member struct {
			on    []int
			under string
			away  bool
		}
		members := map[string][]member{}
		make1 := func(id string, unders []string) {
			p := &Pool{ID: id, Name: id}
			n := rapid.IntRange(1, 4).Draw(t, "members")
			g := Group{Name: "g", Protect: Protection{Tolerance: rapid.IntRange(0, n-1).Draw(t, "tolerance")}}
			for i := range n {
				m, x := Member{Slot: fmt.Sprint(i), State: Online}, member{}
				switch {
				case len(unders) > 0 && rapid.Bool().Draw(t, "under"):
					x.under = rapid.SampledFrom(unders).Draw(t, "which")
					m.Under = x.under
				default:
					x.on = []int{rapid.IntRange(0, drives-1).Draw(t, "drive")}
					m.Drive = key(x.on[0])
					if rapid.IntRange(0, 4).Draw(t, "wide") == 0 {
						x.on = append(x.on, rapid.IntRange(0, drives-1).Draw(t, "second"))
						m.Drives = []string{key(x.on[1])}
					}
				}
				if rapid.IntRange(0, 5).Draw(t, "away") == 0 {
					m.State, x.away = Missing, true
				}
				g.Members = append(g.Members, m)
				members[id] = append(members[id], x)
			}
			p.Groups = []Group{g}
			pools[id] = p
		}
		var unders []string
		for i := range lower {
			id := fmt.Sprint("low", i)
			make1(id, unders)
			unders = append(unders, id)
		}
		make1("top", unders)
		var lost func(id string, set int) bool
		lost = func(id string, set int) bool {
			n := 0
			for _, m := range members[id] {
				gone := m.away || m.under != "" && lost(m.under, set)
				for _, d := range m.on {
					gone = gone || set&(1<<d) != 0
				}
				if gone {
					n++
				}
			}
			return n > pools[id].Groups[0].Protect.Tolerance
		}
		want := drives
		if lost("top", 0) {
			want = -1
		}
		for set := 1; set < 1<<drives && want >= 0; set++ {
			if lost("top", set) {
				want = min(want, bits.OnesCount(uint(set))-1)
			}
		}
		top := pools["top"]
		lookup := func(id string) *Pool { return pools[id] }
		got, known := top.DriveMargin(lookup)
		// An unused drive does not count as one that can be lost.
		if want = min(
			want,
			len(top.Drives(lookup)),
		); !known || want < 0 && got >= 0 ||
			want >= 0 && int(got) != want {
			t.Fatalf("%d (known: %v), trying says %d\n%+v\n%v", got, known, want, members, top.Groups[0].Protect)
		}
		for d := range drives {
			if q := top.WithoutDrives(lookup, []string{key(d)}); true {
				m, _ := q.Margin()
				require.Equal(t, lost("top", 1<<d), m < 0)
			}
		}
	})
}

// TestLayersFailClosed: a member that is a pool of which nothing is known makes the margin unknown, not good.
func TestLayersFailClosed(t *testing.T) {
	p := Pool{
		Groups: []Group{
			{
				Name:    "g",
				Protect: Protection{Tolerance: 1},
				Members: []Member{{Slot: "0", State: Online, Under: "md"}, {Slot: "1", State: Online, Drive: "b"}},
			},
		},
	}
	_, known := p.DriveMargin(func(string) *Pool { return nil })
	require.False(t, known)
	low := &Pool{
		Groups: []Group{
			{
				Name:    "g",
				Protect: Protection{Tolerance: 1},
				Members: []Member{{Slot: "0", State: StateUnkn, Drive: "a"}, {Slot: "1", State: Online, Drive: "c"}},
			},
		},
	}
	_, known = p.DriveMargin(func(string) *Pool { return low })
	require.False(t, known)
	low.Groups[0].Members[0].State = Online
	m, known := p.DriveMargin(func(string) *Pool { return low })
	require.True(t, known)
	require.EqualValues(t, 2, m, "two of the mirror below and one beside it")
	// A member on an unknown drive cannot be tried, so nothing is promised, also if the drive is a layer below.
	named := low.Groups[0].Members[1].Drive
	low.Groups[0].Members[1].Drive = ""
	_, known = p.DriveMargin(func(string) *Pool { return low })
	require.False(t, known)
	_, known = low.DriveMargin(nil)
	require.True(t, known, "where members are drives, they are what is lost")
	low.Groups[0].Members[1].State = Missing
	_, known = p.DriveMargin(func(string) *Pool { return low })
	require.True(t, known)
	low.Groups[0].Members[1].Drive = named
	for text, want := range map[string]MemberState{"FAULTY": StateUnkn, "offline": StateUnkn, "": StateUnkn,
		"online": Online, "faulty": Faulty} {
		require.Equal(t, want, ParseState(text))
	}
}

// TestDisagreements: every member that is counted on must be borne out by its own metadata.
func TestDisagreements(t *testing.T) {
	p := Pool{
		Groups: []Group{
			{
				Members: []Member{
					{Slot: "0", State: Online},
					{Slot: "1", State: Online},
					{Slot: "2", State: Missing},
					{Slot: "3", State: Failing},
				},
			},
		},
	}
	got := p.Disagreements(
		[]Testimony{{Slot: "0", Agrees: true}, {Slot: "1", Says: "its superblock is 9 events old"}},
	)
	require.Equal(
		t,
		[]string{
			"place 1: the pool shows it online, its superblock is 9 events old",
			"place 3: the pool shows it failing, its own metadata could not be read",
		},
		got,
	)
}
