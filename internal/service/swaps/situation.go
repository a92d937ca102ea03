package swaps

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/core/accept"
	"lantern/internal/core/health"
	"lantern/internal/core/notice"
	"lantern/internal/core/pool"
	"lantern/internal/core/swap"
	"lantern/internal/service/fleet"
)

// mattersBeside are what there is to tell of a swap's pool or host now that is not about the old drive: what is grave,
// and what is about a whole section or a part of a shelf, however grave. That a pool fills up is none.
func (s *State) mattersBeside(plan swap.State, now time.Time) (out []string) {
	all := append(s.judging.DriveMatters(func(d *fleet.Drive, at fleet.Place) bool {
		return d.Desc.Key() != plan.Old.Key() && (d.Host == plan.Host || at.Pool != nil && at.Pool.ID == plan.PoolID)
	}), s.bays.Shelves(now)...)
	slices.SortFunc(all, func(a, b notice.Matter) int {
		return cmp.Or(b.Severity.Gravity()-a.Severity.Gravity(), strings.Compare(a.Key, b.Key))
	})
	for _, m := range all {
		elsewhere := m.Kind == notice.Shelf && m.Host != plan.Host
		grave := m.Severity.Gravity() >= health.Replace.Gravity() || m.Kind == notice.Section || m.Kind == notice.Shelf
		if grave && !elsewhere {
			out = append(out, strings.TrimSuffix(m.Says, "."))
		}
	}
	const most = 3
	if more := len(out) - most; more > 0 {
		out = append(out[:most], fmt.Sprintf("and %d more", more))
	}
	return out
}

// situation is what the checks look at.
func (s *State) situation(plan swap.State) swap.Situation {
	now := s.Clock.Now()
	x := swap.Situation{Plan: plan, Now: now}
	if h := s.fleet.Hosts[plan.Host]; h == nil || s.fleet.Late(h, now) {
		x.Host = swap.Told(swap.HostFacts{Late: true})
	} else {
		skew := h.Skew
		if skew.Abs() < s.Clock.AtLeast(0, 3*time.Second) {
			skew = 0 // where time runs fast, the way of a report takes long
		}
		x.PoolSeen, x.Host = h.SeenAt, swap.Told(swap.HostFacts{Skew: skew})
	}
	d := s.fleet.Drives[plan.Old.Key()]
	x.BayKnown = d != nil && d.Section != "" && d.How.Sure()
	verdicts := s.judging.Judge()
	x.Below = s.fleet.Below
	if d != nil {
		if uses, known := s.fleet.OtherUses(d); known {
			x.Uses = swap.Told(uses)
		}
	}
	ids := map[string]bool{}
	seen := len(plan.AllSeats()) > 0 // all pools of the drive
	moving := ""
	for _, at := range plan.AllSeats() {
		f := swap.SeatFacts{Slot: at.Slot}
		if p := s.fleet.Pools[at.PoolID]; p != nil {
			ids[p.ID] = true
			f.Pool, f.Witness, f.Differs = &p.Pool, p.Witness.Source, p.Witness.Differs
			if f.WitnessAt = p.Witness.At; p.Witness.Source != "" && f.WitnessAt.IsZero() {
				f.WitnessAt = p.At // it came with the newest report
			}
			f.Unknown = p.WhyUnknown()
			for _, id := range p.Running {
				moving = string(s.recoveries.Courses[id].Report.Kind)
			}
		} else {
			seen = false
		}
		x.Seats = append(x.Seats, f)
	}
	if seen {
		x.Recovery, x.Above = swap.Told(moving), swap.Told(s.fleet.Above(ids))
	}
	var matters, testing []string
	if p := s.fleet.Pools[plan.PoolID]; p != nil {
		x.Pool, x.PoolSeen = &p.Pool, p.At
		worst := swap.Grave{}
		p.Everyone(func(_ string, m *pool.Member) {
			v := verdicts[m.Drive].Verdict
			other := s.fleet.Drives[m.Drive]
			if other != nil && other != d && v.Gravity() >= health.Replace.Gravity() &&
				v.Gravity() > worst.Verdict.Gravity() {
				worst = swap.Grave{Tail: other.Tail(), Verdict: v}
			}
			if r := s.selftests.Runs[m.Drive]; r != nil && other != nil && other != d && r.EndedAt.IsZero() {
				testing = append(testing, other.Tail())
			}
		})
		x.Gravest, x.Testing = swap.Told(worst), swap.Told(testing)
		if p.Torn {
			matters = append(matters, p.Name+" changed while it was read: what is shown may not fit together")
		}
	}
	x.Matters = swap.Told(append(matters, s.mattersBeside(plan, now)...))
	var neighbours []swap.Neighbour
	for _, p := range s.fleet.Pools {
		here := false
		p.Everyone(func(_ string, m *pool.Member) { here = here || m.Domain == plan.Host })
		if ids[p.ID] || !here {
			continue
		}
		n := swap.Neighbour{Pool: &p.Pool}
		for _, id := range p.Running {
			n.Recovery = string(s.recoveries.Courses[id].Report.Kind)
		}
		neighbours = append(neighbours, n)
	}
	slices.SortFunc(neighbours, func(a, b swap.Neighbour) int { return strings.Compare(a.Pool.Name, b.Pool.Name) })
	x.Neighbours = swap.Told(neighbours)
	if plan.New != nil {
		key := plan.New.Key()
		x.NewVerdict = verdicts[key].Verdict
		if n := s.fleet.Drives[key]; n != nil && !n.Reading.At.IsZero() && n.Blind == "" {
			x.NewPast = accept.Past(fleet.Counts(n))
		}
	}
	at, clean := s.recoveries.LastScrub(plan.PoolID)
	x.Scrub = swap.Told(swap.ScrubFacts{At: at, Clean: clean})
	x.OtherSwap, x.OnHost = swap.Told(""), swap.Told("")
	for _, w := range s.OpenSwaps() {
		switch {
		case w.ID == plan.ID || w.Phase == swap.Planned:
			// A plan touches nothing; who has begun comes first, else who planned first.
		case ids[w.PoolID] || slices.ContainsFunc(w.Seats, func(x swap.Seat) bool { return ids[x.PoolID] }):
			x.OtherSwap = swap.Told(w.Lead)
		case w.Host == plan.Host:
			x.OnHost = swap.Told(w.Pool)
		}
	}
	began := plan.StartedAt
	twin, away := "", []string(nil)
	for key, other := range s.fleet.Drives {
		if key == plan.Old.Key() || d == nil {
			continue
		}
		if other.Tail() == plan.Old.Tail() && other.Present {
			twin = fleet.PlaceWords(other)
		}
		if other.Host == plan.Host && !other.Present && !other.Replaced && !began.IsZero() &&
			other.SeenAt.After(began) {
			if p, m, _ := s.fleet.Member(key); p != nil && m.State != pool.Out {
				away = append(away, fmt.Sprintf("%s of %s", other.Tail(), p.Name))
			}
		}
	}
	slices.Sort(away)
	if d != nil {
		x.Twin, x.Peers = swap.Told(twin), swap.Told(away)
	}
	if stock := s.stockFor(plan, plan.Host); stock != nil {
		x.Stock = stock.Tail() + ", " + fleet.PlaceWords(stock) + ","
	}
	return x
}
