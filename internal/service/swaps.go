package service

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"

	"lantern/internal/api"
	"lantern/internal/core/health"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/core/swap"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// apply gives an event to a swap, keeps it if it changed anything, and passes on what the core orders. s.mu is held.
func (s *Service) apply(b *store.Batch, w *swapState, e swap.Event) error {
	next, orders, err := swap.Apply(w.State, e)
	if err != nil {
		return err
	}
	if trace(next) != trace(w.State) {
		w.version++
		b.Add(&store.SwapEvent{Swap: next.ID, Seq: w.version, At: e.At, Doc: document(e)})
		if n := len(next.Log); n > len(w.Log) {
			kind := api.EventKindSwap
			if len(next.Wrong) > len(w.Wrong) {
				kind = api.EventKindAlarm
				s.notifiedAt = time.Time{} // everybody is told with the next look, at once
			}
			s.happened(b, kind, next.ID, fmt.Sprintf("%s: %s", next.Pool, next.Log[n-1].Says))
		} else {
			s.happened(b, api.EventKindSwap, next.ID, next.Pool+": "+next.Now().Title)
		}
		if next.Phase == swap.Closed {
			if d := s.drives[next.Old.Key()]; d != nil {
				d.Replaced = true
				d.version++
				b.Put(d.row())
			}
		}
	}
	w.State = next
	for _, o := range orders {
		s.passOn(b, w, o, e)
	}
	return nil
}

// trace differs between two states when something happened that must be on record.
func trace(s swap.State) string {
	t := fmt.Sprint(s.ID, s.Phase, len(s.Log), s.Recovery, s.Order, s.Ordered, s.Refused, len(s.Wrong))
	for _, c := range s.Closing {
		t += c.ID + string(c.Result)
	}
	return t
}

// passOn makes the orders of the core orders to a host.
func (s *Service) passOn(b *store.Batch, w *swapState, o swap.Order, e swap.Event) {
	switch o.Kind {
	case swap.OrderJoin:
		s.order(b, &order{swap: w.ID, nth: o.Number, Order: api.Order{Host: w.Host, Kind: api.OrderKindJoin, By: e.By, Pool: w.PoolID,
			Slot: w.Slot, Drive: wire.Identity(o.New), NeedsBytes: int64(w.Needs)}})
	case swap.OrderDark:
		for _, l := range s.lights {
			if l.Bay == w.Old.Bay && (l.State == api.LightStateAsked || l.State == api.LightStateLit) {
				l.Until = e.At
				s.dim(b, l)
			}
		}
	}
}

// toSwaps tells every open swap on a host what was seen of a drive there.
func (s *Service) toSwaps(b *store.Batch, hostName string, d *disk, e swap.Event) {
	for _, w := range s.openSwaps() {
		if w.Host == hostName {
			e.Drive = s.swapDrive(d)
			_ = s.apply(b, w, e) // what was observed is never refused
		}
	}
}

func (s *Service) openSwaps() (out []*swapState) {
	for _, w := range s.swaps {
		if w.Phase.Open() {
			out = append(out, w)
		}
	}
	slices.SortFunc(out, func(a, b *swapState) int { return a.PlannedAt.Compare(b.PlannedAt) })
	return out
}

// poolToSwaps tells the pool's open swap what its pool shows.
func (s *Service) poolToSwaps(b *store.Batch, at time.Time, poolID string) {
	p := s.pools[poolID]
	for _, w := range s.openSwaps() {
		if w.PoolID != poolID || p == nil {
			continue
		}
		m, _, _ := p.Slot(w.Slot)
		v := &swap.PoolView{Member: m.State, Drive: m.Drive, Recovering: len(p.running) > 0}
		for _, c := range s.recov {
			if c.PoolID == poolID && c.Report.Slot == w.Slot && !c.Report.StartedAt.Before(w.BegunAt.Truncate(time.Second)) {
				v.Recovery, v.Unrepairable = c.Report.ID, c.Report.Unrepairable
			}
		}
		if w.New != nil {
			v.NewVerdict = string(s.judge()[w.New.Key()].verdict)
		}
		v.LightOn = s.lit(w.Old.Bay)
		e := swap.Event{Kind: swap.PoolSeen, At: at, Pool: v}
		e.Margin, v.MarginKnown = p.Margin()
		v.Without, _, _ = p.Without(w.Slot)
		_ = s.apply(b, w, e)
	}
}

// situation is what the checks before the start look at.
func (s *Service) situation(plan swap.State) swap.Situation {
	now := s.clock.Now()
	x := swap.Situation{Plan: plan}
	if h := s.hosts[plan.Host]; h == nil || s.late(h, now) {
		x.HostLate = true
	} else {
		x.PoolSeen = h.SeenAt
	}
	d := s.drives[plan.Old.Key()]
	x.BayKnown = d != nil && d.Section != "" && d.How.Sure()
	verdicts := s.judge()
	if p := s.pools[plan.PoolID]; p != nil {
		x.Pool, x.PoolSeen = &p.Pool, p.at
		for _, id := range p.running {
			x.Recovery = string(s.recov[id].Report.Kind)
		}
		p.Everyone(func(_ string, m *pool.Member) {
			v := verdicts[m.Drive].verdict
			if other := s.drives[m.Drive]; other != nil && other != d && v.Gravity() >= health.Replace.Gravity() && v.Gravity() > x.GravestIs.Gravity() {
				x.Gravest, x.GravestIs = other.tail(), v
			}
		})
	}
	for _, c := range s.recov {
		if c.PoolID == plan.PoolID && c.Report.Kind == recovery.Scrub && c.Report.State == recovery.Finished && c.Report.EndedAt.After(x.LastScrub) {
			x.LastScrub, x.ScrubClean = c.Report.EndedAt, c.Report.Unrepairable == 0
		}
	}
	for _, w := range s.openSwaps() {
		// A plan touches nothing; who has begun comes first, else who planned first.
		if w.PoolID == plan.PoolID && w.ID != plan.ID && (w.Phase != swap.Planned) {
			x.OtherSwap = w.Lead
		}
	}
	return x
}

// PlanSwap prepares the replacement of a drive. Nothing is touched. A plan of the same drive that is open is given again.
func (s *Service) PlanSwap(by, name string) (api.Swap, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.findDrive(name)
	if err != nil {
		return api.Swap{}, err
	}
	key := d.Desc.Key()
	for _, w := range s.openSwaps() {
		if w.Old.Key() == key {
			return s.viewSwap(w), nil
		}
	}
	p, m, _ := s.member(key)
	if p == nil {
		return api.Swap{}, problem(409, "no-member", "Nothing depends on it: it can be pulled.", "%s is in no pool, so there is nothing to swap.", d.tail())
	}
	for _, spare := range p.Spares {
		if spare.Slot == m.Slot {
			return api.Swap{}, problem(409, "is-spare", "A spare holds no data: it can be pulled.", "%s is a spare of %s.", d.tail(), p.Name)
		}
	}
	host := m.Domain
	if host == "" {
		host = d.Host
	}
	plan := swap.State{ID: ulid.Make().String(), Pool: p.Name, PoolID: p.ID, Slot: m.Slot, Host: host, Old: *s.swapDrive(d),
		OldGone: !d.Present, Needs: m.Needs}
	plan.Old.Ill = ""
	plan.Margin, _ = p.Margin()
	if m.Lost() {
		after := p.With(pool.Online, m.Slot)
		plan.Margin, _ = after.Margin()
	}
	w := &swapState{}
	b := &store.Batch{}
	s.swaps[plan.ID] = w
	if err := s.apply(b, w, swap.Event{Kind: swap.PlanIt, At: s.clock.Now(), By: by, Plan: &plan}); err != nil {
		return api.Swap{}, err
	}
	if err := s.commit(b); err != nil {
		return api.Swap{}, err
	}
	return s.viewSwap(w), nil
}

// act gives a person's event to a swap. match is the version the person saw; empty when any will do.
func (s *Service) act(id, match string, make func(w *swapState) swap.Event) (api.Swap, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	w := s.swaps[id]
	if w == nil {
		return api.Swap{}, problem(404, "no-swap", "List them with: lantern swap list", "There is no swap %q.", id)
	}
	if match != "" && match != "*" && match != ETag(w.version) {
		return api.Swap{}, problem(412, "swap-changed", "Look at it again before you go on.", "The swap has changed since you looked.")
	}
	b := &store.Batch{}
	before := w.State
	if err := s.apply(b, w, make(w)); err != nil {
		return api.Swap{}, err
	}
	if before.Phase == swap.Planned && w.Phase != swap.Planned && w.Phase.Open() {
		s.catchUp(b, w)
	}
	if err := s.commit(b); err != nil {
		return api.Swap{}, err
	}
	return s.viewSwap(s.swaps[id]), nil
}

// catchUp tells a swap that has just begun what was already so: an old drive that left before.
func (s *Service) catchUp(b *store.Batch, w *swapState) {
	if d := s.drives[w.Old.Key()]; d != nil && !d.Present {
		_ = s.apply(b, w, swap.Event{Kind: swap.DriveGone, At: s.clock.Now(), Drive: s.swapDrive(d)})
	}
}

// ETag of a version of a swap.
func ETag(version int) string { return fmt.Sprintf(`"%d"`, version) }

// BeginSwap starts a planned swap if no check stops it.
func (s *Service) BeginSwap(by, id, match, reason string) (api.Swap, error) {
	return s.act(id, match, func(w *swapState) swap.Event {
		return swap.Event{Kind: swap.BeginIt, At: s.clock.Now(), By: by, Reason: reason, Checks: swap.Checks(s.situation(w.State))}
	})
}

// ConfirmSwap takes the label tail that a person read.
func (s *Service) ConfirmSwap(by, id, match, tail string) (api.Swap, error) {
	return s.act(id, match, func(*swapState) swap.Event {
		return swap.Event{Kind: swap.ConfirmIt, At: s.clock.Now(), By: by, Tail: tail}
	})
}

// AbandonSwap ends a swap before its end.
func (s *Service) AbandonSwap(by, id, match, reason string) (api.Swap, error) {
	return s.act(id, match, func(*swapState) swap.Event {
		return swap.Event{Kind: swap.AbandonIt, At: s.clock.Now(), By: by, Reason: reason}
	})
}

// ActOnPool orders a scrub, a rebalance, a further member, or that what runs is stopped.
func (s *Service) ActOnPool(by, name string, a api.PoolAction) (api.Order, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, err := s.findPool(name)
	if err != nil {
		return api.Order{}, err
	}
	if h := s.hosts[p.reporter]; h == nil || s.late(h, s.clock.Now()) {
		return api.Order{}, problem(409, "host-quiet", "Bring its agent back first.", "%s does not report, so nothing can be ordered there.", p.reporter)
	}
	o := &order{Order: api.Order{Host: p.reporter, Kind: api.OrderKind(a.Action), By: by, Pool: p.ID}}
	if len(p.offers) > 0 && !slices.Contains(p.offers, string(a.Action)) {
		return api.Order{}, problem(409, "not-offered", "It offers: "+strings.Join(p.offers, ", ")+".", "%s offers no %s.", p.Name, a.Action)
	}
	switch a.Action {
	case api.PoolActionActionPriority:
		if a.Priority == "" {
			return api.Order{}, problem(422, "bad-priority", "It is low, normal or high.", "No priority was named.")
		}
		o.Order.Priority = string(a.Priority)
	case api.PoolActionActionScrub, api.PoolActionActionRebalance, api.PoolActionActionDrain:
		o.Order.Below = a.Below
		if a.Action == api.PoolActionActionDrain {
			slot, err := s.drainable(p, a.Drive)
			if err != nil {
				return api.Order{}, err
			}
			m, _, _ := p.Slot(slot)
			d := s.drives[m.Drive]
			if d == nil || !d.Present {
				return api.Order{}, problem(409, "no-member", "A drive that does not answer is replaced, not drained.", "The drive at place %s does not answer.", slot)
			}
			o.Order.Slot, o.Order.Drive, o.Host = slot, wire.Identity(d.Desc.Identity), d.Host
		}
		if len(p.running) > 0 {
			return api.Order{}, problem(409, "recovering", "Wait until it has ended.", "A %s is running in %s.", s.recov[p.running[0]].Report.Kind, p.Name)
		}
	case api.PoolActionActionStop:
	case api.PoolActionActionAdmit:
		d, err := s.findDrive(a.Drive)
		if err != nil {
			return api.Order{}, err
		}
		switch {
		case !d.Desc.TailMatches(a.Tail):
			return api.Order{}, problem(409, "wrong-tail", "Read the label; nothing was written.", "%q is not the label tail of %s.", a.Tail, d.tail())
		case len(d.Holds) > 0:
			return api.Order{}, problem(409, "drive-refused", "Put in another drive.", "%s cannot be used: it carries somebody's data (%s).", d.tail(), d.Holds[0])
		case !d.Present:
			return api.Order{}, problem(409, "drive-refused", "Put it in first.", "%s does not answer.", d.tail())
		}
		o.Host, o.Order.Drive = d.Host, wire.Identity(d.Desc.Identity)
	default:
		return api.Order{}, problem(422, "unknown-action", "It is one of scrub, rebalance, drain, admit, stop, priority.", "%q is no action.", a.Action)
	}
	b := &store.Batch{}
	s.order(b, o)
	s.happened(b, api.EventKindPool, p.ID, fmt.Sprintf("%s: %s ordered by %s", p.Name, a.Action, by))
	return o.Order, s.commit(b)
}
