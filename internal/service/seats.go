package service

import (
	"slices"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/stack"
	"lantern/internal/core/swap"
	"lantern/internal/wire"
)

// notSwapped says why a drive that is in no pool has no swap, and whether it can be pulled: only when it was established that nothing
// uses it.
func (s *Service) notSwapped(d *disk) error {
	if why, do := s.notFree(d); why != "" {
		kind := "in-use"
		if !d.Present || !d.Looked {
			kind = "use-unknown"
		}
		return problem(409, kind, do+" Then look again: lantern drive "+d.tail(), "%s is in no known pool, but it is not known to be unused: %s.", d.tail(), why)
	}
	return problem(409, "no-member", "It can be pulled.", "%s is in no pool and nothing uses it: both its ends were read and are blank, and %s showed no use of it at %s. There is nothing to swap.", d.tail(), d.Host, s.hosts[d.Host].SeenAt.UTC().Format("15:04:05 UTC"))
}

// swapSeats are those places of a drive that a swap fills: a spare among others is filled like them. It is an error when one of the
// pools is not known to be as it is shown; none are given of a drive that is nothing but a spare.
func (s *Service) swapSeats(d *disk, all []seat) (out []seat, err error) {
	only := true
	for _, x := range all {
		if says, do := x.pool.trouble(); !x.pool.known() {
			return nil, problem(409, "pool-unknown", do, "%s cannot be swapped now: %s.", d.tail(), says)
		}
		spare := slices.ContainsFunc(x.pool.Spares, func(m pool.Member) bool { return m.Slot == x.member.Slot })
		only = only && spare
	}
	if only {
		return nil, nil
	}
	return all, nil
}

// spareOnly says whether a spare can be pulled.
func (s *Service) spareOnly(d *disk, all []seat) error {
	for _, x := range all {
		if x.member.State != pool.Standby || x.member.StandsFor != "" {
			return problem(409, "is-spare", "Swap the member that it stands for; it is a spare again then.", "%s is a spare of %s, and not idle: it is %s.", d.tail(), x.pool.Name, x.member.State)
		}
	}
	h := s.hosts[d.Host]
	uses, known := s.otherUses(d)
	switch {
	case !d.Present || h == nil || s.late(h, s.clock.Now()):
		return problem(409, "use-unknown", "Wait until "+d.Host+" reports it.", "%s is a spare of %s; what it does now is not known: its newest report is of %s.", d.tail(), all[0].pool.Name, d.SeenAt.UTC().Format("2006-01-02 15:04:05"))
	case all[0].pool.unknown() != "":
		return problem(409, "pool-unknown", "Wait for a report of it.", "%s is a spare of %s: %s.", d.tail(), all[0].pool.Name, all[0].pool.unknown())
	case known && len(uses) > 0:
		return problem(409, "in-use", "Stop these uses first.", "%s is a spare of %s, and is used for something else as well: %s.", d.tail(), all[0].pool.Name, useWords(s.unaccounted(d)))
	case !known:
		return problem(409, "use-unknown", "Bring a newer agent to "+d.Host+", or look there by hand.", "%s is a spare of %s; what else uses it is not known.", d.tail(), all[0].pool.Name)
	}
	return problem(409, "is-spare", "An idle spare holds no data: it can be pulled. Its pool has one spare less then.", "%s is a spare of %s, stands by, and nothing else uses it.", d.tail(), all[0].pool.Name)
}

// seat gives a plan all places of its old drive: sizes add up to what its partitions need.
func (s *Service) seat(plan *swap.State, d *disk, p *poolState, m pool.Member, all []seat) {
	first := func(x seat) bool { return x.pool == p && x.member.Slot == m.Slot }
	ordered := slices.Clone(all)
	slices.SortStableFunc(ordered, func(a, b seat) int { return b2i(first(b)) - b2i(first(a)) })
	plan.Seats = nil
	var least pool.Margin
	for i, x := range ordered {
		at := swap.Seat{Pool: x.pool.Name, PoolID: x.pool.ID, Slot: x.member.Slot, Partition: x.member.Partition, Layers: x.member.Layers, Needs: x.member.Needs, Hand: x.pool.Watched}
		if !x.pool.Watched && !slices.Contains(x.pool.offers, "join") && !slices.Contains(x.pool.offers, "admit") {
			at.Hand = true
		}
		if at.Hand {
			at.Layers = nil // what lies between is the pool system's own
		}
		at.Margin, _ = s.margin(x.pool)
		if x.member.Lost() || x.member.State == pool.Out {
			slots := x.pool.SlotsOf(d.Desc.Key())
			after := x.pool.With(pool.Online, append(slots, x.member.Slot)...)
			at.Margin, _ = after.DriveMargin(s.below)
		}
		if i == 0 || at.Margin < least {
			least = at.Margin
		}
		plan.Seats = append(plan.Seats, at)
	}
	plan.Margin = least
	if slices.ContainsFunc(plan.Seats, func(x swap.Seat) bool { return x.Partition > 0 || len(x.Layers) > 0 }) {
		plan.Needs = max(plan.Needs, s.roomFor(d))
	}
}

// roomFor is the least size of a drive that takes the place of one whose members lie on partitions or other layers: what its partitions
// need; as much as it has itself where its table is not known, or where what lies between takes some room that nobody here knows.
func (s *Service) roomFor(d *disk) drive.Bytes {
	t, err := wire.ToPartitionTable(d.Layout)
	if err != nil || len(t.Parts) == 0 {
		return d.Desc.Capacity
	}
	return drive.Bytes(t.Needs())
}

// prepared says whether on the new drive of a swap there stands what a seat needs below its pool, open and empty.
func (s *Service) prepared(key string, at swap.Seat) bool {
	above := at.Above()
	if len(above) == 0 {
		return true
	}
	d := s.drives[key]
	if d == nil || !d.Present {
		return false
	}
	return slices.ContainsFunc(d.Uses, func(u api.Use) bool {
		top := above[len(above)-1]
		open := u.Kind == "empty "+top || top == string(stack.Crypt) && u.Kind == stack.OpenCrypt
		return !u.Active && open && u.Partition == at.Partition && u.Bytes >= int64(at.Needs)
	})
}

// newAt finds the new drive of a swap in a pool: at the seat, or where else the pool has put it.
func (s *Service) newAt(p *poolState, key string, at swap.Seat) (m pool.Member, group string, ok bool) {
	if m, group, ok := p.Slot(at.Slot); ok && m.On(key) {
		return m, group, true
	}
	p.Everyone(func(g string, x *pool.Member) {
		if !ok && x.On(key) && x.Partition == at.Partition {
			m, group, ok = *x, g, true
		}
	})
	return m, group, ok
}

// viewSeats are the places of a swap.
func (s *Service) viewSeats(w *swapState) (out []api.Place) {
	for _, x := range w.Seats {
		v := api.Place{Pool: x.Pool, PoolId: x.PoolID, Slot: x.Slot, Role: api.PlaceMember, Partition: x.Partition, NeedsBytes: int64(x.Needs), Joined: x.Joined}
		if p := s.pools[x.PoolID]; p != nil {
			m, group, _ := p.Slot(x.Slot)
			v.State, v.Group, v.Device, v.Margin = string(m.State), group, m.Device, wire.Margin(s.margin(p))
		}
		out = append(out, v)
	}
	return out
}
