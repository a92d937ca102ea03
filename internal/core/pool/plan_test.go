package pool

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"lantern/internal/core/drive"
)

// spread makes a small pool whose pieces lie anywhere: sizes and volumes of a few bytes, so that everything can be
// tried.
func spread(r *rand.Rand) Pool {
	g := Group{Name: "g", Protect: Protection{None: true}, Spread: true}
	for i := range 2 + r.IntN(4) {
		g.Members = append(
			g.Members,
			Member{
				Slot:   fmt.Sprint(i),
				State:  Online,
				Size:   drive.Bytes(1 + r.IntN(5)),
				Domain: fmt.Sprintf("h%d", r.IntN(3)),
			},
		)
	}
	p := Pool{Name: "p", Groups: []Group{g}}
	for v := range 1 + r.IntN(2) {
		pr := Protection{Tolerance: r.IntN(3), Data: 1 + r.IntN(2), Domains: r.IntN(2) == 0}
		p.Volumes = append(
			p.Volumes,
			Volume{Name: fmt.Sprint("v", v), Group: "g", Protect: pr, Used: drive.Bytes((1 + r.IntN(3)) * pr.Data)},
		)
	}
	return p
}

// placeable tries to lay stripe after stripe on every choice of places that has room.
func placeable(p Pool, members []Member) bool {
	all := map[string]bool{}
	for _, m := range p.Groups[0].Members {
		all[m.Domain] = true
	}
	room := make([]int, len(members))
	for i, m := range members {
		room[i] = int(m.Size)
	}
	var stripes []Protection
	for _, v := range p.Volumes {
		for range int(v.Used) / v.Protect.Data {
			stripes = append(stripes, v.Protect)
		}
	}
	var lay func(stripe, piece, from int, domains map[string]int) bool
	lay = func(stripe, piece, from int, domains map[string]int) bool {
		if stripe == len(stripes) {
			return true
		}
		pr := stripes[stripe]
		if piece == pr.Data+pr.Tolerance {
			return lay(stripe+1, 0, 0, map[string]int{})
		}
		for i := from; i < len(members); i++ {
			d := members[i].Domain
			if room[i] == 0 || pr.Domains && domains[d] >= (pr.Data+pr.Tolerance+len(all)-1)/len(all) {
				continue
			}
			room[i]--
			domains[d]++
			ok := lay(stripe, piece+1, i+1, domains)
			domains[d]--
			room[i]++
			if ok {
				return true
			}
		}
		return false
	}
	return lay(0, 0, 0, map[string]int{})
}

// TestRoomAgainstOracle compares the flow with trying every placement.
func TestRoomAgainstOracle(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	fit, sumFits := 0, 0
	for range 3000 {
		p := spread(r)
		leaves := p.Groups[0].Members[r.IntN(len(p.Groups[0].Members))]
		left := slices.DeleteFunc(
			slices.Clone(p.Groups[0].Members),
			func(m Member) bool { return m.Slot == leaves.Slot },
		)
		want := placeable(p, left)
		got := p.Room([]string{leaves.Slot}, 1)
		require.Equal(t, want, got.Fits, "%s: %+v", got.Why, p)
		if want {
			fit++
			continue
		}
		sizes, need := 0, 0
		for _, m := range left {
			sizes += int(m.Size)
		}
		for _, v := range p.Volumes {
			need += int(v.Used) / v.Protect.Data * (v.Protect.Data + v.Protect.Tolerance)
		}
		if need <= sizes {
			sumFits++
		}
	}
	require.Greater(t, fit, 300)
	require.Greater(t, sumFits, 300, "by the sum it would fit, drive by drive it does not")
}

// TestBestOrderAgainstOracle compares the search with trying every order.
func TestBestOrderAgainstOracle(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	compared, better := 0, 0
	for range 400 {
		p := Pool{
			Name:   "p",
			Groups: []Group{{Name: "g", Spread: true, Protect: Protection{Tolerance: 1, Domains: r.IntN(2) == 0}}},
		}
		for i := range 4 + r.IntN(4) {
			p.Groups[0].Members = append(
				p.Groups[0].Members,
				Member{
					Slot:   fmt.Sprint(i),
					State:  Online,
					Size:   drive.Bytes(1000 * (1 + r.IntN(4))),
					Used:   300,
					Domain: fmt.Sprintf("h%d", i%3),
				},
			)
		}
		p.Volumes = []Volume{
			{Name: "v", Group: "g", Protect: p.Groups[0].Protect, Used: drive.Bytes(500 + r.IntN(2500))},
		}
		var changes []Change
		for i := range 2 + r.IntN(3) {
			c := Change{}
			if kind := r.IntN(3); kind != 0 {
				c.Out = fmt.Sprint(i)
				c.After = r.IntN(2) == 0
			}
			if c.Out == "" || r.IntN(3) != 0 {
				c.In = &Member{
					Slot:   fmt.Sprintf("n%d", i),
					State:  Online,
					Size:   drive.Bytes(1000 * (1 + r.IntN(6))),
					Domain: fmt.Sprintf("h%d", i%3),
				}
			}
			changes = append(changes, c)
		}
		got, err := p.BestOrder("g", changes, 0.9)
		// Every order, each priced by what it moves from state to state, with kinds of one change each.
		s := &search{p: &p, g: p.Groups[0], changes: changes, limit: 0.9, shares: map[string]*laid{}}
		s.sort()
		s.kinds = nil
		for i := range changes {
			s.kinds = append(s.kinds, []int{i})
		}
		best, worst := math.Inf(1), 0.0
		var try func(done []int, bytes float64, n int)
		try = func(done []int, bytes float64, n int) {
			if n == len(changes) {
				best, worst = min(best, bytes), max(worst, bytes)
			}
			for k := range changes {
				if done[k] == 0 {
					if b, next, ok := s.cost(done, k); ok {
						try(next, bytes+b, n+1)
					}
				}
			}
		}
		try(make([]int, len(changes)), 0, 0)
		if math.IsInf(best, 1) {
			require.Error(t, err)
			continue
		}
		require.NoError(t, err)
		require.True(t, got.Proven)
		require.InDelta(t, best, float64(got.Bytes), float64(len(changes))+1)
		compared++
		if worst > best+10 {
			better++
		}
		var sum drive.Bytes
		for _, st := range got.Steps {
			for _, m := range st.Moves {
				sum += m.Bytes
			}
		}
		require.InDelta(t, float64(got.Bytes), float64(sum), 50, "what moves between drives is what moves in all")
	}
	require.Greater(t, compared, 200)
	require.Greater(t, better, 50, "the order mattered")
}

// TestWhatIf asks people's questions about every kind of pool.
func TestWhatIf(t *testing.T) {
	const tb = drive.Bytes(1e12)
	m := func(slot, domain string) Member {
		return Member{Slot: slot, State: Online, Domain: domain, Size: 4 * tb, Used: 2 * tb, Needs: 4 * tb}
	}
	// Two groups of parity and a spare: the spare takes the place of one.
	parity := Pool{
		Name:    "two groups",
		Volumes: []Volume{{Name: "films", Used: 9 * tb}},
		Spares:  []Member{{Slot: "s", State: Standby, Size: 4 * tb}},
	}
	for g := range 2 {
		group := Group{Name: fmt.Sprint("g", g), Protect: Protection{Words: "single parity", Tolerance: 1}}
		for i := range 4 {
			group.Members = append(group.Members, m(fmt.Sprintf("%d.%d", g, i), "a"))
		}
		parity.Groups = append(parity.Groups, group)
	}
	w := parity.WhatIf([]string{"0.1"})
	require.Equal(t, Reduced, w.Worst())
	require.Equal(t, []Margin{1, 0, 1}, []Margin{w.Was, w.Is, w.Healed})
	require.Equal(t, "the spare s takes its place", w.Comebacks[0].Says)
	w = parity.WhatIf([]string{"0.1", "0.2"})
	require.Equal(t, []Effect{{Volume: "films", Was: 1, Is: -1, Used: 9 * tb, Outcome: Lost}}, w.Effects)
	require.Equal(t, "what was on it is lost: it comes back from a backup only", w.Comebacks[0].Says)
	require.Equal(t, Margin(-1), w.Healed)
	w = parity.WhatIf([]string{"0.1", "1.2"})
	weak := parity.With(Missing, "0.0")
	w2 := weak.WhatIf([]string{"1.2"})
	require.Equal(t, Reduced, w2.Worst(), "the least margin is what it was, and yet there is less of it")
	require.Equal(t, "nothing takes its place until a drive is put in", w.Comebacks[1].Says, "one spare is for one")
	e, err := parity.Survives(2)
	require.NoError(t, err)
	require.Equal(t, 28, e.Sets)
	require.Equal(t, map[Outcome]int{Lost: 12, Reduced: 16}, e.Of)

	// Copies over hosts: a host's log device takes its members along; with two of three hosts gone nothing is lost, and
	// nothing is served; what lay on one host cannot come back while there are only two others for three copies.
	far := Pool{
		Name: "far",
		Logs: []Member{{Slot: "log a", State: Online, Domain: "a"}},
		Volumes: []Volume{
			{Name: "v", Group: "g", Protect: Protection{Tolerance: 2, StopsAt: 2, Domains: true}, Used: 3 * tb},
		},
	}
	far.Groups = []Group{
		{
			Name:    "g",
			Protect: Protection{None: true},
			Spread:  true,
			Heals:   true,
			Members: []Member{m("a1", "a"), m("a2", "a"), m("b1", "b"), m("b2", "b"), m("c1", "c")},
		},
	}
	far.Groups[0].Members[0].Log, far.Groups[0].Members[1].Log = "log a", "log a"
	w = far.WhatIf([]string{"log a"})
	require.Equal(t, []string{"a1", "a2"}, w.Along)
	require.Equal(t, Reduced, w.Worst())
	require.Contains(t, w.Comebacks[1].Says, "v needs 3 failure domains, and 2 are left")
	slots, err := far.Places([]string{"b", "a1", "a2"})
	require.NoError(t, err)
	require.Equal(t, Unreachable, far.WhatIf(slots).Worst())
	w = far.WhatIf([]string{"b1"})
	require.Equal(t, "its share is restored on the others", w.Comebacks[0].Says)
	require.Equal(t, []Margin{2, 1, 2}, []Margin{w.Was, w.Is, w.Healed})
	full := far.clone()
	full.Limit = 0.7 // 3 TB must fit on the rest of b, of which 2.8 may be used
	require.Contains(
		t,
		full.WhatIf([]string{"b1"}).Comebacks[0].Says,
		"do not fit on the others within their failure domains and a fullness of 70 %",
	)
	_, err = far.Places([]string{"zz"})
	require.ErrorContains(t, err, `far has no member "zz"; its members are a1`)

	// A dedicated parity drive bounds the others from above.
	ded := Pool{
		Name: "ded",
		Groups: []Group{
			{
				Name:    "g",
				Protect: Protection{Tolerance: 1},
				Members: []Member{
					{Slot: "d1", Size: 2 * tb, Needs: tb},
					{Slot: "d2", Size: 3 * tb, Needs: tb},
					{Slot: "p", Size: 4 * tb, Needs: 4 * tb, Parity: true},
				},
			},
		},
	}
	fit, ok := ded.Fit("d1")
	require.True(t, ok)
	require.Equal(t, "", fit.Takes(4*tb))
	require.Equal(
		t,
		"it is 1 bytes too large: no data drive may be larger than the smallest parity drive, which has "+
			"4000000000000 bytes",
		fit.Takes(4*tb+1),
	)
	require.Contains(t, fit.Takes(tb-1), "it is 1 bytes too small")
	fit, _ = ded.Fit("p")
	require.Equal(t, 3*tb, fit.Least)
}

// BenchmarkBestOrder changes twenty-four unlike drives on six hosts.
func BenchmarkBestOrder(b *testing.B) {
	p := Pool{Name: "p", Groups: []Group{{Name: "g", Spread: true, Protect: Protection{Tolerance: 2, Domains: true}}}}
	var changes []Change
	for i := range 24 {
		m := Member{
			Slot:   fmt.Sprint(i),
			State:  Online,
			Size:   drive.Bytes(4e12 + float64(i%7)*1e12),
			Used:   2e12,
			Domain: fmt.Sprintf("h%d", i%6),
		}
		p.Groups[0].Members = append(p.Groups[0].Members, m)
		changes = append(
			changes,
			Change{
				Out: m.Slot,
				In: &Member{
					Slot:   fmt.Sprint("n", i),
					State:  Online,
					Size:   m.Size + drive.Bytes(float64(1+i%5)*2e12),
					Domain: m.Domain,
				},
				After: i%2 == 0,
			},
		)
	}
	p.Volumes = []Volume{{Name: "v", Group: "g", Protect: p.Groups[0].Protect, Used: 18e12}}
	for b.Loop() {
		o, err := p.BestOrder("g", changes, 0.95)
		if err != nil {
			b.Fatal(err)
		}
		b.ReportMetric(float64(o.AsIs)/float64(o.Bytes), "as-given/best")
	}
}
