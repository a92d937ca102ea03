package swaps

import (
	"slices"

	"lantern/internal/api"
	"lantern/internal/core/pool"
	"lantern/internal/core/stack"
	"lantern/internal/core/swap"
	"lantern/internal/service/fleet"
	"lantern/internal/service/problem"
	"lantern/internal/wire"
)

// notSwapped says why a drive in no pool has no swap, and whether it can be pulled: only when it is established that
// nothing uses it.
func (s *State) notSwapped(d *fleet.Drive) error {
	if why, do := s.fleet.NotFree(d); why != "" {
		kind := "in-use"
		if !d.Present || !d.Looked {
			kind = "use-unknown"
		}
		return problem.New(
			409,
			kind,
			do+" Then look again: lantern drive "+d.Tail(),
			"%s is in no known pool, but it is not known to be unused: %s.",
			d.Tail(),
			why,
		)
	}
	return problem.New(
		409,
		"no-member",
		"It can be pulled.",
		"%s is in no pool and nothing uses it: both its ends were read and are blank, and %s showed no use of "+
			"it at %s. There is nothing to swap.",
		d.Tail(),
		d.Host,
		s.fleet.Hosts[d.Host].SeenAt.UTC().Format("15:04:05 UTC"),
	)
}

// swapSeats are the places of a drive that a swap fills; a spare place among others is filled too. It is an error when
// the state of one of the pools is not known; a drive that is only a spare has none.
func (s *State) swapSeats(d *fleet.Drive, all []fleet.Seat) (out []fleet.Seat, err error) {
	only := true
	for _, x := range all {
		if says, do := x.Pool.Trouble(); !x.Pool.Known() {
			return nil, problem.New(409, "pool-unknown", do, "%s cannot be swapped now: %s.", d.Tail(), says)
		}
		spare := slices.ContainsFunc(x.Pool.Spares, func(m pool.Member) bool { return m.Slot == x.Member.Slot })
		only = only && spare
	}
	if only {
		return nil, nil
	}
	return all, nil
}

// spareOnly reports whether a spare can be pulled.
func (s *State) spareOnly(d *fleet.Drive, all []fleet.Seat) error {
	for _, x := range all {
		if x.Member.State != pool.Standby || x.Member.StandsFor != "" {
			return problem.New(
				409,
				"is-spare",
				"Swap the member that it stands for; it is a spare again then.",
				"%s is a spare of %s, and not idle: it is %s.",
				d.Tail(),
				x.Pool.Name,
				x.Member.State,
			)
		}
	}
	h := s.fleet.Hosts[d.Host]
	uses, known := s.fleet.OtherUses(d)
	switch {
	case !d.Present || h == nil || s.fleet.Late(h, s.Clock.Now()):
		return problem.New(
			409,
			"use-unknown",
			"Wait until "+d.Host+" reports it.",
			"%s is a spare of %s; what it does now is not known: its newest report is of %s.",
			d.Tail(),
			all[0].Pool.Name,
			d.SeenAt.UTC().Format("2006-01-02 15:04:05"),
		)
	case all[0].Pool.WhyUnknown() != "":
		return problem.New(
			409,
			"pool-unknown",
			"Wait for a report of it.",
			"%s is a spare of %s: %s.",
			d.Tail(),
			all[0].Pool.Name,
			all[0].Pool.WhyUnknown(),
		)
	case known && len(uses) > 0:
		return problem.New(
			409,
			"in-use",
			"Stop these uses first.",
			"%s is a spare of %s, and is used for something else as well: %s.",
			d.Tail(),
			all[0].Pool.Name,
			fleet.UseWords(s.fleet.Unaccounted(d)),
		)
	case !known:
		return problem.New(
			409,
			"use-unknown",
			"Bring a newer agent to "+d.Host+", or look there by hand.",
			"%s is a spare of %s; what else uses it is not known.",
			d.Tail(),
			all[0].Pool.Name,
		)
	}
	return problem.New(
		409,
		"is-spare",
		"An idle spare holds no data: it can be pulled. Its pool has one spare less then.",
		"%s is a spare of %s, stands by, and nothing else uses it.",
		d.Tail(),
		all[0].Pool.Name,
	)
}

// seat adds all places of the old drive to a plan: its size is the sum that its partitions need.
func (s *State) seat(plan *swap.State, d *fleet.Drive, p *fleet.Pool, m pool.Member, all []fleet.Seat) {
	first := func(x fleet.Seat) bool { return x.Pool == p && x.Member.Slot == m.Slot }
	ordered := slices.Clone(all)
	slices.SortStableFunc(
		ordered,
		func(a, b fleet.Seat) int { return fleet.BoolInt(first(b)) - fleet.BoolInt(first(a)) },
	)
	plan.Seats = nil
	var least pool.Margin
	for i, x := range ordered {
		at := swap.Seat{
			Pool:      x.Pool.Name,
			PoolID:    x.Pool.ID,
			Slot:      x.Member.Slot,
			Partition: x.Member.Partition,
			Layers:    x.Member.Layers,
			Needs:     x.Member.Needs,
			Hand:      x.Pool.Watched,
		}
		if !x.Pool.Watched && !slices.Contains(x.Pool.Offers, "join") && !slices.Contains(x.Pool.Offers, "admit") {
			at.Hand = true
		}
		if at.Hand {
			at.Layers = nil // the layers in between belong to the pool system
		}
		at.Margin, _ = s.fleet.Margin(x.Pool)
		if x.Member.Lost() || x.Member.State == pool.Out {
			slots := x.Pool.SlotsOf(d.Key())
			after := x.Pool.With(pool.Online, append(slots, x.Member.Slot)...)
			at.Margin, _ = after.DriveMargin(s.fleet.Below)
		}
		if i == 0 || at.Margin < least {
			least = at.Margin
		}
		plan.Seats = append(plan.Seats, at)
	}
	plan.Margin = least
	if slices.ContainsFunc(plan.Seats, func(x swap.Seat) bool { return x.Partition > 0 || len(x.Layers) > 0 }) {
		plan.Needs = max(plan.Needs, s.stock.RoomFor(d))
	}
}

// prepared reports whether the new drive of a swap has the layers that a seat needs below its pool, open and empty.
func (s *State) prepared(key string, at swap.Seat) bool {
	above := at.Above()
	if len(above) == 0 {
		return true
	}
	d := s.fleet.Drives[key]
	if d == nil || !d.Present {
		return false
	}
	return slices.ContainsFunc(d.Uses, func(u api.Use) bool {
		top := above[len(above)-1]
		open := u.Kind == "empty "+top || top == string(stack.Crypt) && u.Kind == stack.OpenCrypt
		return !u.Active && open && u.Partition == at.Partition && u.Bytes >= int64(at.Needs)
	})
}

// viewSeats are the places of a swap.
func (s *State) viewSeats(w *Swap) (out []api.Place) {
	for _, x := range w.Seats {
		v := api.Place{
			Pool:       x.Pool,
			PoolId:     x.PoolID,
			Slot:       x.Slot,
			Role:       api.PlaceMember,
			Partition:  x.Partition,
			NeedsBytes: int64(x.Needs),
			Joined:     x.Joined,
		}
		if p := s.fleet.Pools[x.PoolID]; p != nil {
			m, group, _ := p.Slot(x.Slot)
			v.State, v.Group, v.Device, v.Margin = string(m.State), group, m.Device, wire.Margin(s.fleet.Margin(p))
		}
		out = append(out, v)
	}
	return out
}
