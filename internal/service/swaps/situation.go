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

// mattersBeside are the present matters of a swap's pool or host, except about the old drive: severe ones, and all
// about a whole section or a part of a shelf. A pool that fills up does not count.
func (s *State) mattersBeside(plan swap.State, now time.Time) (out []string) {
	all := append(s.judging.DriveMatters(func(d *fleet.Drive, at fleet.Place) bool {
		return d.Key() != plan.Old.Key() && (d.Host == plan.Host || at.Pool != nil && at.Pool.ID == plan.PoolID)
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

// facts are the inputs of a situation: the plan, its old drive, and its pools.
type facts struct {
	*State
	plan  swap.State
	now   time.Time
	old   *fleet.Drive // nil where it is not known
	pools map[string]bool
}

// situation is the input of the checks. An unknown fact stays unset, and stops (R7).
func (s *State) situation(plan swap.State) swap.Situation {
	f := facts{State: s, plan: plan, now: s.Clock.Now(), old: s.fleet.Drives[plan.Old.Key()], pools: map[string]bool{}}
	x := swap.Situation{Plan: plan, Now: f.now, Below: s.fleet.Below}
	x.BayKnown = f.old != nil && f.old.Section != "" && f.old.How.Sure()
	if f.old != nil {
		if uses, known := s.fleet.OtherUses(f.old); known {
			x.Uses = swap.Told(uses)
		}
	}
	f.hostFacts(&x)
	f.seatFacts(&x)
	f.poolFacts(&x)
	x.Neighbours = swap.Told(f.neighbours())
	if plan.New != nil {
		key := plan.New.Key()
		x.NewVerdict = s.judging.Judge()[key].Verdict
		if n := s.fleet.Drives[key]; n != nil && !n.Reading.At.IsZero() && n.Blind == "" {
			x.NewPast = accept.Past(fleet.Counts(n))
		}
	}
	at, clean := s.recoveries.LastScrub(plan.PoolID)
	x.Scrub = swap.Told(swap.ScrubFacts{At: at, Clean: clean})
	f.otherSwaps(&x)
	if f.old != nil {
		x.Twin, x.Peers = swap.Told(f.twin()), swap.Told(f.leftSince())
	}
	if stock := s.stockFor(plan, plan.Host); stock != nil {
		x.Stock = stock.Tail() + ", " + fleet.PlaceWords(stock) + ","
	}
	return x
}

// hostFacts are whether the host reports, and its clock error.
func (f facts) hostFacts(x *swap.Situation) {
	h := f.fleet.Hosts[f.plan.Host]
	if h == nil || f.fleet.Late(h, f.now) {
		x.Host = swap.Told(swap.HostFacts{Late: true})
		return
	}
	skew := h.Skew
	if skew.Abs() < f.Clock.AtLeast(0, 3*time.Second) {
		skew = 0 // where the lab's time runs fast, the transit of a report takes long
	}
	x.PoolSeen, x.Host = h.SeenAt, swap.Told(swap.HostFacts{Skew: skew})
}

// seatFacts are the places of the old drive, and the recoveries in their pools. f.pools gets the ids of these.
func (f facts) seatFacts(x *swap.Situation) {
	seats := f.plan.AllSeats()
	seen, moving := len(seats) > 0, "" // all pools of the drive
	for _, at := range seats {
		seat := swap.SeatFacts{Slot: at.Slot}
		p := f.fleet.Pools[at.PoolID]
		if p == nil {
			seen = false
			x.Seats = append(x.Seats, seat)
			continue
		}
		f.pools[p.ID] = true
		seat.Pool, seat.Witness, seat.Differs = &p.Pool, p.Witness.Source, p.Witness.Differs
		if seat.WitnessAt = p.Witness.At; p.Witness.Source != "" && seat.WitnessAt.IsZero() {
			seat.WitnessAt = p.At // it came with the newest report
		}
		seat.Unknown = p.WhyUnknown()
		if kind := f.recoveries.MovesIn(p); kind != "" {
			moving = kind
		}
		x.Seats = append(x.Seats, seat)
	}
	if seen {
		x.Recovery, x.Above = swap.Told(moving), swap.Told(f.fleet.Above(f.pools))
	}
}

// poolFacts are the facts about the other members of the pool, and other matters.
func (f facts) poolFacts(x *swap.Situation) {
	var matters []string
	if p := f.fleet.Pools[f.plan.PoolID]; p != nil {
		x.Pool, x.PoolSeen = &p.Pool, p.At
		verdicts, worst, testing := f.judging.Judge(), swap.Grave{}, []string(nil)
		p.Everyone(func(_ string, m *pool.Member) {
			other := f.fleet.Drives[m.Drive]
			if m.Drive != "" && other == f.old {
				return
			}
			v := verdicts[m.Drive].Verdict
			if (other == nil || v == health.Unknown) && !m.Lost() && m.State != pool.Out {
				name := m.Slot
				if other != nil {
					name = other.Tail()
				}
				worst.Unknown = append(worst.Unknown, name)
			}
			if other == nil {
				return
			}
			if v.Gravity() >= health.Replace.Gravity() && v.Gravity() > worst.Verdict.Gravity() {
				worst.Tail, worst.Verdict = other.Tail(), v
			}
			if r := f.selftests.Runs[m.Drive]; r != nil && r.EndedAt.IsZero() {
				testing = append(testing, other.Tail())
			}
		})
		x.Gravest, x.Testing = swap.Told(worst), swap.Told(testing)
		if p.Torn {
			matters = append(matters, p.Name+" changed while it was read: what is shown may not fit together")
		}
	}
	x.Matters = swap.Told(append(matters, f.mattersBeside(f.plan, f.now)...))
}

// neighbours are the other pools on the host.
func (f facts) neighbours() (out []swap.Neighbour) {
	for _, p := range f.fleet.Pools {
		here := false
		p.Everyone(func(_ string, m *pool.Member) { here = here || m.Domain == f.plan.Host })
		if here && !f.pools[p.ID] {
			out = append(out, swap.Neighbour{Pool: &p.Pool, Recovery: f.recoveries.MovesIn(p)})
		}
	}
	slices.SortFunc(out, func(a, b swap.Neighbour) int { return strings.Compare(a.Pool.Name, b.Pool.Name) })
	return out
}

// otherSwaps are the swaps under way in the same pools, or on the same host. A plan changes nothing; a swap that has
// begun comes first, then the one planned first.
func (f facts) otherSwaps(x *swap.Situation) {
	x.OtherSwap, x.OnHost = swap.Told(""), swap.Told("")
	for _, w := range f.OpenSwaps() {
		here := func(seat swap.Seat) bool { return f.pools[seat.PoolID] }
		switch {
		case w.ID == f.plan.ID || w.Phase == swap.Planned:
		case f.pools[w.PoolID] || slices.ContainsFunc(w.Seats, here):
			x.OtherSwap = swap.Told(w.Lead)
		case w.Host == f.plan.Host:
			x.OnHost = swap.Told(w.Pool)
		}
	}
}

// twin is the place of another drive with the label tail of the old one; empty when there is none.
func (f facts) twin() (place string) {
	for key, other := range f.fleet.Drives {
		if key != f.plan.Old.Key() && other.Present && other.Tail() == f.plan.Old.Tail() {
			place = fleet.PlaceWords(other)
		}
	}
	return place
}

// leftSince are the members on the host that stopped answering since the swap began.
func (f facts) leftSince() (away []string) {
	began := f.plan.StartedAt
	if began.IsZero() {
		return nil
	}
	for key, other := range f.fleet.Drives {
		if key == f.plan.Old.Key() || other.Host != f.plan.Host || other.Present || other.Replaced ||
			!other.SeenAt.After(began) {
			continue
		}
		if p, m, _ := f.fleet.Member(key); p != nil && m.State != pool.Out {
			away = append(away, other.Tail()+" of "+p.Name)
		}
	}
	slices.Sort(away)
	return away
}
