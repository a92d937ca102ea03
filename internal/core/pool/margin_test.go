package pool

import (
	"fmt"
	"math/bits"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// random makes a small pool of any kind: some members lost, some depending on log devices, protection by group or by
// volume, counted by member or by domain.
func random(r *rand.Rand) Pool {
	p := Pool{Name: "p"}
	logs := r.IntN(3)
	for i := range logs {
		p.Logs = append(p.Logs, Member{Slot: fmt.Sprintf("log%d", i), State: Online})
		if r.IntN(12) == 0 {
			p.Logs[i].State = Missing // and the pool system did not report it for the members
		}
	}
	n := 0
	for g := range 1 + r.IntN(2) {
		group := Group{
			Name:    fmt.Sprintf("g%d", g),
			Protect: Protection{Tolerance: r.IntN(3), Data: r.IntN(3), Domains: r.IntN(3) == 0, None: r.IntN(4) == 0},
		}
		for range 2 + r.IntN(3) {
			m := Member{Slot: fmt.Sprintf("m%d", n), State: Online, Domain: fmt.Sprintf("h%d", r.IntN(3))}
			if logs > 0 && r.IntN(2) == 0 {
				m.Log = fmt.Sprintf("log%d", r.IntN(logs))
			}
			if r.IntN(5) == 0 {
				m.State = []MemberState{Missing, Faulty, Recovering}[r.IntN(3)]
			}
			n++
			group.Members = append(group.Members, m)
		}
		if group.Protect.None {
			for v := range 1 + r.IntN(3) {
				vol := Volume{
					Name:    fmt.Sprintf("%sv%d", group.Name, v),
					Group:   group.Name,
					Protect: Protection{Tolerance: r.IntN(3), Data: r.IntN(3), Domains: r.IntN(3) == 0},
				}
				for range max(0, r.IntN(5)-2) { // for some it is known which members hold which parts
					e := Extent{}
					for _, i := range r.Perm(len(group.Members))[:1+r.IntN(len(group.Members))] {
						e.Slots = append(e.Slots, group.Members[i].Slot)
					}
					e.Need = 1 + r.IntN(len(e.Slots))
					vol.Extents = append(vol.Extents, e)
				}
				p.Volumes = append(p.Volumes, vol)
			}
		}
		p.Groups = append(p.Groups, group)
	}
	return p
}

// broken says, in the slowest and plainest way, whether a protection on a group has lost data.
func broken(g Group, pr Protection, gone map[string]bool) bool {
	domains := map[string]bool{}
	members := 0
	all := true
	for _, m := range g.Members {
		if !m.Lost() && !gone[m.Slot] && (m.Log == "" || !gone[m.Log]) {
			all = false
		}
		if m.Lost() || gone[m.Slot] || m.Log != "" && gone[m.Log] {
			members++
			domains[m.Domain] = true
		}
	}
	if all || !pr.Domains {
		return all || members > pr.Tolerance
	}
	// A stripe is on so many domains; where there are more pieces than domains, some hold more of it, and any may be
	// those.
	every := map[string]bool{}
	for _, m := range g.Members {
		every[m.Domain] = true
	}
	var names []string
	for d := range every {
		names = append(names, d)
	}
	width := max(1, pr.Data) + pr.Tolerance
	for set := range uint(1) << len(names) {
		if bits.OnesCount(set) != width%len(names) {
			continue
		}
		lost := 0
		for i, d := range names {
			if domains[d] {
				lost += width/len(names) + int(set>>i&1)
			}
		}
		if lost > pr.Tolerance {
			return true
		}
	}
	return false
}

// brokenVolume says so of a volume: extent by extent, where they are known.
func brokenVolume(g Group, v Volume, gone map[string]bool) bool {
	if len(v.Extents) == 0 {
		return broken(g, v.Protect, gone)
	}
	for _, e := range v.Extents {
		left := 0
		for _, m := range g.Members {
			if slices.Contains(e.Slots, m.Slot) && !m.Lost() && !gone[m.Slot] && (m.Log == "" || !gone[m.Log]) {
				left++
			}
		}
		if left < e.Need {
			return true
		}
	}
	return false
}

// oracle tries every set of further losses, of members and of log devices, and gives the size of the smallest that
// loses data, less one.
func oracle(p Pool) (Margin, bool) {
	for _, l := range p.Logs {
		if l.Lost() { // and with it all members that depend on it
			p.Everyone(func(_ string, m *Member) {
				if m.Log == l.Slot {
					m.State = Missing
				}
			})
		}
	}
	var slots []string
	p.Everyone(func(_ string, m *Member) {
		if !m.Lost() {
			slots = append(slots, m.Slot)
		}
	})
	protections := 0
	best := len(slots) + 1
	for set := range uint(1) << len(slots) {
		if bits.OnesCount(set) >= best {
			continue
		}
		gone := map[string]bool{}
		for i, s := range slots {
			gone[s] = set&(1<<i) != 0
		}
		for _, g := range p.Groups {
			if !g.Protect.None {
				protections++
				if broken(g, g.Protect, gone) {
					best = min(best, bits.OnesCount(set))
				}
			}
			for _, v := range p.Volumes {
				if v.Group != g.Name {
					continue
				}
				protections++
				if brokenVolume(g, v, gone) {
					best = min(best, bits.OnesCount(set))
				}
			}
		}
	}
	return Margin(best - 1), protections > 0
}

// TestMarginAgainstOracle compares the clever computation with the plain one on ten thousand pools.
func TestMarginAgainstOracle(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	compared := 0
	for range 10_000 {
		p := random(r)
		want, known := oracle(p.clone())
		got, ok := p.Margin()
		require.Equal(t, known, ok)
		if !known {
			continue
		}
		compared++
		for n := 1; n <= 2 && want >= 0; n++ { // every set of n is survived if and only if the margin says so
			if e, err := p.Survives(n); err == nil {
				require.Equal(t, want < Margin(n), e.Of[Lost] > 0, "%d of %+v", n, p)
			}
		}
		if want < 0 {
			require.Negative(t, int(got), "%+v", p)
			continue
		}
		require.Equal(t, want, got, "%+v", p)
	}
	require.Greater(t, compared, 8000)
}

func TestWithoutNamesVolumes(t *testing.T) {
	p := Pool{
		Groups: []Group{
			{
				Name:    "drives",
				Protect: Protection{None: true},
				Members: []Member{{Slot: "1", State: Online}, {Slot: "2", State: Online}, {Slot: "3", State: Out}},
			},
		},
		Volumes: []Volume{
			{Name: "thumbnails", Group: "drives"},
			{Name: "scans", Group: "drives", Protect: Protection{Tolerance: 1}},
		},
	}
	m, _ := p.Margin()
	require.Equal(t, "cannot lose another drive", m.String())
	after, lost, known := p.Without("2")
	require.True(t, known)
	require.Equal(t, "data is lost", after.String())
	require.Equal(t, []string{"thumbnails"}, lost)
	require.Equal(t, Online, p.Groups[0].Members[1].State, "asking changes nothing")
	q := p.With(StateUnkn, "1")
	_, known = q.Margin()
	require.False(t, known, "of which nobody can tell whether they are there, nobody can tell the margin (R7)")
	_, known = q.VolumeMargin(q.Volumes[1])
	require.False(t, known)
	_, known = (&Pool{}).Margin()
	require.False(t, known, "a pool nobody knows anything of has no margin, least of all a good one (R7)")
	require.Equal(t, "can lose 2 more drives", Margin(2).String())
}
