package pool

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"lantern/internal/core/drive"
)

// fixed makes a pool of striped groups and mirrors: members of several sizes, some lost, some volumes that stop early.
func fixed(r *rand.Rand) Pool {
	g := Group{Name: "g", Protect: Protection{Data: []int{0, -1}[r.IntN(2)]}}
	for i := range 2 + r.IntN(4) {
		m := Member{
			Slot:   fmt.Sprint(i),
			State:  Online,
			Size:   drive.Bytes(2 + r.IntN(4)),
			Domain: fmt.Sprint("h", r.IntN(2)),
		}
		m.Used = drive.Bytes(r.IntN(int(m.Size)))
		m.Needs = []drive.Bytes{0, m.Used + 1}[r.IntN(2)]
		if r.IntN(6) == 0 {
			m.State = []MemberState{Missing, Faulty, Failing}[r.IntN(3)]
		}
		g.Members = append(g.Members, m)
	}
	g.Protect.Tolerance = r.IntN(min(3, len(g.Members)))
	if g.Protect.Tolerance > 0 && r.IntN(4) == 0 {
		g.Protect.StopsAt = 1 + r.IntN(g.Protect.Tolerance)
	}
	p := Pool{Name: "p", Groups: []Group{g}}
	if r.IntN(2) == 0 {
		p.Volumes = []Volume{{Name: "v"}}
	}
	return p
}

// TestMovesLoseNothing: in groups in which nothing moves to other members, an order of changes is found exactly if
// there is one in which all data are available at every step and every drive is large enough; the oracle tries every
// order.
func TestMovesLoseNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	found, refused := 0, 0
	for range 6000 {
		p := fixed(r)
		g := p.Groups[0]
		var changes []Change
		for i, slot := range r.Perm(len(g.Members))[:1+r.IntN(min(3, len(g.Members)))] {
			changes = append(
				changes,
				Change{
					Out:   fmt.Sprint(slot),
					After: r.IntN(2) == 0,
					In:    &Member{Slot: fmt.Sprint("new", i), State: Online, Size: drive.Bytes(1 + r.IntN(6))},
				},
			)
		}
		lostAtFirst := 0
		lost := map[string]bool{}
		for _, m := range g.Members {
			if m.State == Missing || m.State == Faulty {
				lost[m.Slot] = true
				lostAtFirst++
			}
		}
		large := true
		for _, c := range changes {
			m, _, _ := p.Slot(c.Out)
			least := m.Needs
			if least == 0 {
				least = m.Size
			}
			large = large && c.In.Size >= max(least, m.Used)
		}
		stops := g.Protect.StopsAt
		// safe reports whether the changes can be made in an order, one after the other.
		safe := func(order []int) bool {
			gone := map[string]bool{}
			for s := range lost {
				gone[s] = true
			}
			for _, i := range order {
				c := changes[i]
				was := len(gone)
				if gone[c.Out] && was > g.Protect.Tolerance {
					return false // it can only be restored automatically
				}
				if !gone[c.Out] && c.After {
					n := was + 1
					if was <= g.Protect.Tolerance &&
						(n > g.Protect.Tolerance || n == len(g.Members) || stops > 0 && n >= stops) {
						return false
					}
				}
				delete(gone, c.Out)
			}
			return true
		}
		want := false
		var all func(order []int)
		all = func(order []int) {
			if len(order) == len(changes) {
				want = want || large && safe(order)
			}
			for i := range changes {
				if !slices.Contains(order, i) {
					all(append(slices.Clone(order), i))
				}
			}
		}
		all(nil)
		if lostAtFirst > g.Protect.Tolerance {
			continue // lost already; this test does not cover which drives may still be changed
		}
		got, err := p.BestOrder("g", changes, 0)
		require.Equal(t, want, err == nil, "%v: %+v changes %+v", err, p, changes)
		if err != nil {
			refused++
			continue
		}
		found++
		var order []int
		for _, s := range got.Steps {
			order = append(order, s.Change)
			require.False(t, s.Known && s.Margin < 0)
		}
		require.True(t, safe(order), "%+v: %+v", p, got)
	}
	require.Greater(t, found, 500)
	require.Greater(t, refused, 1000)
	// Impossible or unknown requests are refused with a reason.
	p := Pool{
		Name: "p",
		Groups: []Group{
			{
				Name:    "g",
				Protect: Protection{Tolerance: 1},
				Members: []Member{{Slot: "a", State: Online, Size: 4, Used: 2}, {Slot: "b", State: Online, Size: 4}},
			},
		},
	}
	in := func(n drive.Bytes) *Member { return &Member{Slot: "new", State: Online, Size: n} }
	for want, c := range map[string][]Change{
		"a is named in two changes":              {{Out: "a", In: in(8)}, {Out: "a"}},
		"it is 3 bytes too small":                {{Out: "a", In: in(1)}},
		"a drive can only be replaced there":     {{Out: "a"}},
		"z is not a member of g":                 {{Out: "z", In: in(4)}},
		"the size of new is not known":           {{Out: "a", In: in(0)}},
		"without it, group g would be lost. Use": {{Out: "a", In: in(4), After: true}},
	} {
		q := p.clone()
		if want[0] == 'w' {
			q.Groups[0].Protect.Tolerance = 0
		}
		_, err := q.BestOrder("g", c, 0)
		require.ErrorContains(t, err, want)
	}
	q := p.With(StateUnkn, "b")
	_, err := q.BestOrder("g", []Change{{Out: "a", In: in(4)}}, 0)
	require.ErrorContains(t, err, "not known")
}

// TestSpares: as many lost members as possible get a fitting spare, and no smaller fitting one is left over; the oracle
// tries every assignment.
func TestSpares(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 10))
	several := 0
	for range 3000 {
		p := Pool{Name: "p", Groups: []Group{{Name: "g", Protect: Protection{Tolerance: 3}}}}
		for i := range 4 {
			p.Groups[0].Members = append(
				p.Groups[0].Members,
				Member{
					Slot:   fmt.Sprint(i),
					State:  Online,
					Domain: fmt.Sprint("h", r.IntN(2)),
					Size:   drive.Bytes(1 + r.IntN(5)),
				},
			)
		}
		for i := range r.IntN(4) {
			p.Spares = append(
				p.Spares,
				Member{
					Slot:   fmt.Sprint("s", i),
					State:  []MemberState{Standby, Standby, Faulty}[r.IntN(3)],
					Domain: []string{"", "h0", "h1"}[r.IntN(3)],
					Size:   drive.Bytes(1 + r.IntN(6)),
				},
			)
		}
		lose := []string{"0", "1", "2"}[:1+r.IntN(3)]
		fits := func(slot string, s Member) bool {
			m, _, _ := p.Slot(slot)
			return s.State == Standby && s.Size >= m.Size && (s.Domain == "" || s.Domain == m.Domain)
		}
		best := 0
		var try func(i, n int, used map[string]bool)
		try = func(i, n int, used map[string]bool) {
			best = max(best, n)
			if i == len(lose) {
				return
			}
			try(i+1, n, used)
			for _, s := range p.Spares {
				if !used[s.Slot] && fits(lose[i], s) {
					used[s.Slot] = true
					try(i+1, n+1, used)
					delete(used, s.Slot)
				}
			}
		}
		try(0, 0, map[string]bool{})
		got, used := 0, map[string]bool{}
		w := p.WhatIf(lose)
		for _, c := range w.Comebacks {
			if c.By == "" {
				require.NotContains(t, c.Says, "takes its place by")
				continue
			}
			got++
			s, _, _ := p.Slot(c.By)
			require.True(t, fits(c.Slot, s) && !used[c.By], "%+v: %+v", p, c)
			used[c.By] = true
			for _, other := range p.Spares {
				if len(lose) == 1 && fits(c.Slot, other) {
					require.LessOrEqual(t, s.Size, other.Size, "the smallest that fits")
				}
			}
		}
		require.Equal(t, best, got, "%+v", p)
		if best > 1 {
			several++
		}
	}
	require.Greater(t, several, 200)
}

// TestEffectsTellEachVolume: a volume that loses a member is never called safe, whatever limits the pool's margin; its
// limit is named; a certain loss is shown although other members are unknown; and a pool shows no loss that none of its
// volumes has.
func TestEffectsTellEachVolume(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	counted := map[Outcome]int{}
	for range 5000 {
		p := random(r)
		p.Everyone(func(group string, m *Member) {
			if group != "" && r.IntN(25) == 0 {
				m.State = StateUnkn
			}
		})
		var there []string
		for _, g := range p.Groups {
			for _, m := range g.Members {
				if m.State == Online {
					there = append(there, m.Slot)
				}
			}
		}
		if len(there) == 0 {
			continue
		}
		slot := there[r.IntN(len(there))]
		_, in, _ := p.Slot(slot)
		w := p.WhatIf([]string{slot})
		for _, e := range w.Effects {
			counted[e.Outcome]++
			if e.Volume == "" && e.Group == in && e.Outcome == Safe {
				m, _, _ := p.Slot(slot)
				l, _, logged := p.Slot(m.Log)
				require.True(t, logged && l.Lost(), "%s of %+v", slot, p)
			}
		}
		q := p.With(Missing, slot)
		if m, known := q.Margin(); known && m < 0 {
			require.True(t, slices.ContainsFunc(w.Effects, func(e Effect) bool { return e.Outcome == Lost }), "%+v", q)
		}
		// With every unknown member lost it is not better than the answer, and with every one online not worse.
		if m, known := q.Margin(); known {
			best := q.clone()
			best.Everyone(func(_ string, m *Member) {
				if m.State == StateUnkn {
					m.State = Online
				}
			})
			b, _ := best.Margin()
			require.Equal(t, b < 0, m < 0)
		}
	}
	require.Greater(t, min(counted[Safe], counted[Reduced], counted[Lost], counted[Untold]), 50, "%v", counted)

	// A log device holds the margin at none before and after: the mirror that lost a half is recognised, and the device
	// is named.
	m := func(slot string) Member { return Member{Slot: slot, State: Online, Log: "log.1", Size: 4} }
	p := Pool{
		Name: "p",
		Logs: []Member{{Slot: "log.1", State: Online}},
		Groups: []Group{
			{Name: "m1", Protect: Protection{Tolerance: 1}, Members: []Member{m("a"), m("b")}},
			{Name: "m2", Protect: Protection{Tolerance: 1}, Members: []Member{m("c"), m("d")}},
		},
		Volumes: []Volume{
			{Name: "films", Group: "m1", Protect: Protection{Tolerance: 1}},
			{Name: "scans", Group: "m2", Protect: Protection{Tolerance: 1}},
		},
	}
	w := p.WhatIf([]string{"a"})
	require.Equal(t, []Outcome{Reduced, Safe}, []Outcome{w.Effects[0].Outcome, w.Effects[1].Outcome})
	require.Equal(t, "log device log.1", p.LimitedBy())
	require.Equal(t, []string{"log device log.1", "volume films and log device log.1"}, []string{w.WasBy, w.IsBy})
	p.Logs[0].State = Missing
	require.Equal(
		t,
		[]string{"films", "scans"},
		p.LostVolumes(),
		"what depends on a log device that is missing is lost with it",
	)
	// 4+2 pieces over three hosts survive one host, not two.
	g := Group{Name: "g", Protect: Protection{Data: 4, Tolerance: 2, Domains: true}}
	for i := range 6 {
		g.Members = append(g.Members, Member{Slot: fmt.Sprint(i), State: Online, Domain: fmt.Sprint("h", i%3)})
	}
	margin, _ := (&Pool{Groups: []Group{g}}).Margin()
	require.EqualValues(t, 1, margin)
}

// TestRoomSaysWhenOthersMove: if the placement is known, there is room for the pieces of the leaving member exactly if
// the oracle, which tries every place, finds it; if it is not known, there is no claim that some placement would
// refute.
func TestRoomSaysWhenOthersMove(t *testing.T) {
	r := rand.New(rand.NewPCG(13, 14))
	others, straight := 0, 0
	for range 4000 {
		n := 3 + r.IntN(3)
		pr := Protection{Tolerance: 1 + r.IntN(2), Data: 1, Domains: r.IntN(2) == 0}
		if pr.Tolerance+1 > n {
			continue
		}
		p := Pool{
			Name:    "p",
			Groups:  []Group{{Name: "g", Protect: Protection{None: true}, Spread: true}},
			Volumes: []Volume{{Name: "v", Group: "g", Protect: pr}},
		}
		g := &p.Groups[0]
		for i := range n {
			g.Members = append(g.Members, Member{Slot: fmt.Sprint(i), State: Online, Domain: fmt.Sprint("h", i%4)})
		}
		for range 1 + r.IntN(4) {
			e := Extent{Need: 1, Bytes: 1}
			domains := map[string]bool{}
			for _, i := range r.Perm(n) {
				if m := &g.Members[i]; len(e.Slots) <= pr.Tolerance && !(pr.Domains && domains[m.Domain]) {
					e.Slots = append(e.Slots, m.Slot)
					domains[m.Domain] = true
				}
			}
			if len(e.Slots) == pr.Tolerance+1 {
				p.Volumes[0].Extents = append(p.Volumes[0].Extents, e)
				p.Volumes[0].Used++
				for _, s := range e.Slots {
					p.Everyone(func(_ string, m *Member) {
						if m.Slot == s {
							m.Used++
						}
					})
				}
			}
		}
		for i := range g.Members {
			g.Members[i].Size = g.Members[i].Used + drive.Bytes(r.IntN(2))
		}
		if len(p.Volumes[0].Extents) == 0 {
			continue
		}
		free := map[string]int{}
		domain := map[string]string{}
		for _, m := range g.Members {
			free[m.Slot], domain[m.Slot] = int(m.Size-m.Used), m.Domain
		}
		var moving []Extent
		for _, e := range p.Volumes[0].Extents {
			if slices.Contains(e.Slots, "0") {
				moving = append(moving, e)
			}
		}
		var place func(i int) bool
		place = func(i int) bool {
			if i == len(moving) {
				return true
			}
			for _, m := range g.Members {
				taken := slices.ContainsFunc(
					moving[i].Slots,
					func(s string) bool { return s == m.Slot || pr.Domains && s != "0" && domain[s] == m.Domain },
				)
				if m.Slot == "0" || taken || free[m.Slot] == 0 {
					continue
				}
				free[m.Slot]--
				ok := place(i + 1)
				free[m.Slot]++
				if ok {
					return true
				}
			}
			return false
		}
		enough := place(0)
		got := p.Room([]string{"0"}, 1)
		if enough {
			require.True(t, got.Fits, "%+v", p)
		}
		if got.Fits {
			require.Equal(t, !enough, got.Others, "%+v", p)
			if straight++; !enough {
				others++
			}
		}
		p.Volumes[0].Extents = nil
		if got := p.Room([]string{"0"}, 1); got.Fits && !got.Others {
			require.True(t, enough, "%+v", p)
		}
	}
	require.Greater(t, straight, 300)
	require.Greater(t, others, 20)
}
