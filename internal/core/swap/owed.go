package swap

import (
	"slices"

	"lantern/internal/core/pool"
)

// Debt is what a swap left undone, and what to do about it. The zero Debt means that nothing is left.
type Debt struct{ Says, Do string }

// Owed is what a swap that has ended left undone in its pools: one that was abandoned after it began, or one that used
// up a spare. now gives the present state of a pool, and whether that is known; nil for a pool that was forgotten.
// While the state of a pool is unknown, the debt stays (R7).
func (s *State) Owed(now func(poolID string) (p *pool.Pool, known bool)) Debt {
	used := s.Phase == Closed && s.Recipe.Spare != ""
	left := s.Phase == Abandoned && !s.StartedAt.IsZero()
	if !used && !left {
		return Debt{}
	}
	seats := s.Seats
	if len(seats) == 0 {
		seats = []Seat{{Pool: s.Pool, PoolID: s.PoolID, Slot: s.Slot}}
	}
	for i, seat := range seats {
		p, known := now(seat.PoolID)
		switch {
		case p == nil:
			continue
		case !known:
			return Debt{
				"unknown whether place " + seat.Slot + " of " + seat.Pool + " is filled since the " +
					"swap of " + s.Old.Tail() + " ended",
				"Wait for the next report of " + s.Host + ".",
			}
		case used:
			if i == 0 && !slices.ContainsFunc(p.Spares, func(m pool.Member) bool { return m.State == pool.Standby }) {
				return Debt{
					"no spare stands by since it took the place of " + s.Old.Tail(),
					"Put a new drive in and make it the spare of " + p.Name + ".",
				}
			}
			continue
		}
		if d := s.leftAt(p, seat.Slot, i == 0); d.Says != "" {
			return d
		}
	}
	return Debt{}
}

// leftAt is what an abandoned swap left undone at one place. Counted is true where Members belongs to this pool.
func (s *State) leftAt(p *pool.Pool, slot string, counted bool) Debt {
	old := s.Old.Tail()
	since, again := " since the swap of "+old+" was abandoned", "Plan its swap again: lantern swap plan "+old
	stands, behind := false, ""
	p.Everyone(func(_ string, m *pool.Member) {
		stands = stands || m.StandsFor == slot
		if m.Log == slot && (m.State == pool.Out || m.Lost() && m.State != pool.Recovering) {
			behind = m.Slot
		}
	})
	m, _, there := p.Slot(slot)
	switch {
	case !there && counted && s.Members > 0 && Carrying(p) < s.Members:
		return Debt{
			"place " + slot + " was removed and not replaced" + since,
			"Add a drive: lantern admit " + p.Name + " <drive>; then spread the data: lantern rebalance " + p.Name,
		}
	case there && m.State == pool.Out && !stands:
		return Debt{"place " + slot + " was emptied and not filled again" + since, again}
	case there && m.Lost() && m.State != pool.Recovering:
		return Debt{"place " + slot + " has no working member" + since, again}
	case behind != "":
		return Debt{
			"place " + behind + ", which depends on " + slot + ", is emptied or lost; the " +
				"swap of " + old + " was abandoned",
			again,
		}
	}
	return Debt{}
}

// Carrying is the number of members of a pool's groups that store data.
func Carrying(p *pool.Pool) (n int) {
	p.Everyone(func(group string, m *pool.Member) {
		if group != "" && m.State != pool.Out {
			n++
		}
	})
	return n
}
