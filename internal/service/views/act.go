package views

import (
	"fmt"
	"slices"
	"strings"

	"lantern/internal/api"
	"lantern/internal/service/fleet"
	"lantern/internal/service/orders"
	"lantern/internal/service/problem"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// ActOnPool orders a scrub, a rebalance, an additional member, or the stop of a running one.
func (s *Service) ActOnPool(by, name string, a api.PoolAction) (api.Order, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, err := s.fleet.FindPool(name)
	if err != nil {
		return api.Order{}, err
	}
	if a.Action == api.PoolActionActionForget {
		return api.Order{
			Kind:  "forget",
			Host:  p.Reporter,
			State: api.OrderStateDone,
			By:    by,
			Pool:  p.ID,
			At:    s.Clock.Now(),
			Says:  p.Name + " is forgotten",
		}, fleet.Forget(s.fleet, by, p, "")
	}
	if says, do := p.Trouble(); !p.Known() {
		return api.Order{}, problem.New(409, "pool-unknown", do, "%s.", says)
	}
	if h := s.fleet.Hosts[p.Reporter]; h == nil || s.fleet.Late(h, s.Clock.Now()) {
		return api.Order{}, problem.New(
			409,
			"host-quiet",
			"Bring its agent back first.",
			"%s does not report, so nothing can be ordered there.",
			p.Reporter,
		)
	}
	o := &orders.Order{Order: api.Order{Host: p.Reporter, Kind: api.OrderKind(a.Action), By: by, Pool: p.ID}}
	if p.Watched {
		return api.Order{}, problem.New(
			409,
			"not-offered",
			"Use the pool system's own tool; what comes of it shows here.",
			"%s is watch only: it takes no orders.",
			p.Name,
		)
	}
	if !slices.Contains(p.Offers, string(a.Action)) {
		return api.Order{}, problem.New(
			409,
			"not-offered",
			"It offers: "+strings.Join(p.Offers, ", ")+".",
			"%s offers no %s.",
			p.Name,
			a.Action,
		)
	}
	switch a.Action {
	case api.PoolActionActionPriority:
		if a.Priority == "" {
			return api.Order{}, problem.New(422, "bad-priority", "It is low, normal or high.", "No priority was named.")
		}
		o.Order.Priority = string(a.Priority)
	case api.PoolActionActionScrub, api.PoolActionActionRebalance, api.PoolActionActionDrain:
		o.Order.Below = a.Below
		if a.Action == api.PoolActionActionDrain {
			slot, err := s.progress.Drainable(p, a.Drive)
			if err != nil {
				return api.Order{}, err
			}
			m, _, _ := p.Slot(slot)
			d := s.fleet.Drives[m.Drive]
			if d == nil || !d.Present {
				return api.Order{}, problem.New(
					409,
					"no-member",
					"A drive that does not answer is replaced, not drained.",
					"The drive at place %s does not answer.",
					slot,
				)
			}
			o.Order.Slot, o.Order.Drive, o.Host = slot, wire.Identity(d.Desc.Identity), d.Host
		}
		if moves := s.recoveries.MovesIn(p); moves != "" {
			return api.Order{}, problem.New(
				409,
				"recovering",
				"Wait until it has ended.",
				"A %s is running in %s.",
				moves,
				p.Name,
			)
		}
	case api.PoolActionActionStop, api.PoolActionActionNudge, api.PoolActionActionGrow:
	case api.PoolActionActionAdmit:
		d, err := s.admissible(a)
		if err != nil {
			return api.Order{}, err
		}
		o.Host, o.Order.Drive = d.Host, wire.Identity(d.Desc.Identity)
	default:
		return api.Order{}, problem.New(
			422,
			"unknown-action",
			"It is one of scrub, rebalance, drain, admit, nudge, grow, stop, priority.",
			"%q is not an action.",
			a.Action,
		)
	}
	b := &store.Batch{}
	s.orders.Give(b, o)
	s.AddEvent(b, api.EventKindPool, p.ID, fmt.Sprintf("%s: %s ordered by %s", p.Name, a.Action, by))
	return o.Order, s.Commit(b)
}

// admissible finds the drive to be added to a pool, and refuses one that must not be added.
func (s *State) admissible(a api.PoolAction) (*fleet.Drive, error) {
	d, err := s.fleet.FindDrive(a.Drive)
	if err != nil {
		return nil, err
	}
	inUse, _ := s.fleet.NotFree(d)
	switch {
	case !d.Desc.TailMatches(a.Tail):
		return nil, problem.New(
			409,
			"wrong-tail",
			"Read the label; nothing was written.",
			"%q is not the label tail of %s.",
			a.Tail,
			d.Tail(),
		)
	case inUse != "":
		return nil, problem.New(
			409,
			"drive-refused",
			"Put in another drive.",
			"%s cannot be used: %s.",
			d.Tail(),
			inUse,
		)
	case s.stock.AcceptanceOf(d.Key()) != nil:
		return nil, problem.New(
			409,
			"drive-refused",
			"Wait until it has passed.",
			"%s is being tested, and not accepted yet.",
			d.Tail(),
		)
	case s.swaps.Promised(d.Key(), "") != "":
		return nil, problem.New(
			409,
			"drive-refused",
			"Put in another drive.",
			"%s is reserved by the swap of %s.",
			d.Tail(),
			s.swaps.Promised(d.Key(), ""),
		)
	}
	return d, nil
}
