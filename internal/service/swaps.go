package service

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/oklog/ulid/v2"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/record"
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
			if next.Alarms > w.Alarms {
				kind = api.EventKindAlarm
				s.urgent = true
			}
			s.happened(b, kind, next.ID, fmt.Sprintf("%s: %s", next.Pool, next.Log[n-1].Says))
		} else {
			s.happened(b, api.EventKindSwap, next.ID, next.Pool+": "+next.Now().Title)
		}
		if next.Phase == swap.Closed {
			if d := s.drives[next.Old.Key()]; d != nil {
				d.Replaced = true
				d.remember(past{e.At, "was taken out of " + next.Pool + " by a swap"})
				d.Stock = next.Fate != nil && next.Fate.Kind == swap.Reused
				d.version++
				b.Put(d.row())
			}
		}
	}
	w.State = next
	s.swapToCampaigns(b, w, e.At)
	for _, o := range orders {
		s.passOn(b, w, o, e)
	}
	return nil
}

// trace differs between two states when something happened that must be on record. Checks count with their results only:
// they tell of the newest report each time.
func trace(s swap.State) string {
	results := func(in []record.Check) (out []record.Check) {
		for _, c := range in {
			out = append(out, record.Check{ID: c.ID, Result: c.Result})
		}
		return out
	}
	s.Closing, s.Gate = results(s.Closing), nil
	return string(document(s))
}

// passOn makes the orders of the core orders to a host.
func (s *Service) passOn(b *store.Batch, w *swapState, o swap.Order, e swap.Event) {
	if o.Kind == swap.OrderDark {
		bays := []string{w.Old.Bay}
		if w.New != nil {
			bays = append(bays, w.New.Bay)
		}
		for _, l := range s.lights {
			if slices.Contains(bays, l.Bay) && (l.State == api.LightStateAsked || l.State == api.LightStateLit) {
				l.Until = e.At
				s.dim(b, l)
			}
		}
		return
	}
	out := api.Order{Host: w.Host, Kind: api.OrderKind(o.Kind), By: e.By, Pool: w.PoolID, Slot: w.Slot, Slots: o.Slots, Drive: wire.Identity(o.Drive), Spare: o.Spare}
	if o.Kind.Writes() {
		out.NeedsBytes = int64(w.Needs)
		if o.Seat.PoolID != "" {
			out.Pool, out.Slot, out.Partition, out.Layers = o.Seat.PoolID, o.Seat.Slot, o.Seat.Partition, o.Seat.Layers
			if o.Seat.Partition > 0 || len(o.Seat.Layers) > 0 {
				out.NeedsBytes = int64(o.Seat.Needs)
			}
		}
		if o.Kind == swap.OrderLayout {
			if d := s.drives[w.Old.Key()]; d != nil {
				out.Layout = d.Layout
			}
		}
		if d := s.drives[o.Drive.Key()]; d != nil {
			out.Host = d.Host
		}
	} else if o.Kind != swap.OrderDrain && o.Kind != swap.OrderRelease {
		out.Drive = api.Identity{}
		if o.Seat.PoolID != "" {
			out.Pool, out.Slot = o.Seat.PoolID, o.Seat.Slot
		}
		if p := s.pools[out.Pool]; p != nil {
			out.Host = p.reporter // whoever speaks for the pool
		}
	}
	s.order(b, &order{swap: w.ID, nth: o.Number, Order: out})
}

// toSwaps tells every open swap on a host what was seen of a drive there.
func (s *Service) toSwaps(b *store.Batch, hostName string, d *disk, e swap.Event) {
	for _, w := range s.openSwaps() {
		if w.Host == hostName {
			e.Drive = s.swapDrive(d)
			e.Drive.Promised = s.promised(d.Desc.Key(), w.ID)
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

// PlanSwap prepares the replacement of a drive. Nothing is touched. A plan of the same drive that is open is given again.
func (s *Service) PlanSwap(by, name string) (api.Swap, error) {
	return s.PlanSwapOf(by, api.PlanSwap{Drive: name})
}

// PlanSwapOf does the same with what else was asked for.
func (s *Service) PlanSwapOf(by string, req api.PlanSwap) (api.Swap, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.findDrive(req.Drive)
	if err != nil {
		return api.Swap{}, err
	}
	return s.planSwap(by, d, 0, req.KeepSpare)
}

// planSwap prepares it; the new drive has at least so many bytes.
func (s *Service) planSwap(by string, d *disk, needs drive.Bytes, keepSpare bool) (api.Swap, error) {
	key := d.Desc.Key()
	for _, w := range s.openSwaps() {
		if w.Old.Key() == key {
			if w.Needs < needs {
				return api.Swap{}, problem(409, "swap-open", "Abandon it first.", "A swap of %s is planned by %s, for a new drive of only %d bytes.", d.tail(), w.Lead, w.Needs)
			}
			if _, _, err := s.refresh(w, keepSpare); err != nil {
				return api.Swap{}, err
			}
			return s.viewSwap(s.swaps[w.ID]), nil
		}
	}
	plan, err := s.composed(d, needs, keepSpare)
	if err != nil {
		return api.Swap{}, err
	}
	plan.ID = ulid.Make().String()
	w := &swapState{}
	b := &store.Batch{}
	s.swaps[plan.ID] = w
	if err := s.apply(b, w, swap.Event{Kind: swap.PlanIt, At: s.clock.Now(), By: by, Plan: plan}); err != nil {
		return api.Swap{}, err
	}
	if err := s.commit(b); err != nil {
		return api.Swap{}, err
	}
	return s.viewSwap(w), nil
}

// composed is the plan of a drive's swap as things are now; the new drive has at least so many bytes. Must be called with s.mu held.
func (s *Service) composed(d *disk, needs drive.Bytes, keepSpare bool) (*swap.State, error) {
	key := d.Desc.Key()
	seats := s.seats(key)
	if len(seats) == 0 {
		return nil, s.notSwapped(d)
	}
	if seats, err := s.swapSeats(d, seats); err != nil {
		return nil, err
	} else if len(seats) == 0 {
		return nil, s.spareOnly(d, s.seats(key))
	}
	p, m := seats[0].pool, seats[0].member
	for _, x := range seats {
		if x.group != "" || slices.ContainsFunc(x.pool.Logs, func(l pool.Member) bool { return l.Slot == x.member.Slot }) {
			p, m = x.pool, x.member
			break
		}
	}
	host := m.Domain
	if host == "" {
		host = d.Host
	}
	plan := swap.State{Pool: p.Name, PoolID: p.ID, Slot: m.Slot, Host: host, Old: *s.swapDrive(d),
		OldGone: !d.Present, Needs: max(m.Needs, needs), Asked: needs, KeepSpare: keepSpare, Members: swap.Carrying(&p.Pool)}
	plan.Old.Ill = ""
	if place, _, ok := s.placeOf(&p.Pool, m); ok {
		plan.Needs, plan.AtMost = max(plan.Needs, place.Needs), place.AtMost
	}
	s.seat(&plan, d, p, m, seats)
	g, stock := s.ground(p, m, d, plan)
	plan.Recipe = swap.Compose(g)
	if plan.Recipe.Spare != "" {
		x, _, _ := p.Slot(plan.Recipe.Spare)
		if plan.Early = s.swapDrive(s.drives[x.Drive]); s.drives[x.Drive] == nil {
			return nil, s.notSwapped(d)
		}
	} else if stock != nil && plan.Recipe.Beside {
		plan.Early = s.swapDrive(stock) // it waits in its bay already
	}
	return &plan, nil
}

// owed is what a swap left undone; empty when nothing is. Must be called with s.mu held.
func (s *Service) owed(w *swapState) swap.Debt {
	return w.Owed(func(id string) (*pool.Pool, bool) {
		if p := s.pools[id]; p != nil {
			return &p.Pool, p.known()
		}
		return nil, false
	})
}

// refresh composes a plan again from the newest facts, until it begins, and returns how it differs from the plan that was shown. Where no
// plan can be composed any more, the old one stays to be looked at, and stale says why it must not begin. Must be called with s.mu held.
func (s *Service) refresh(w *swapState, keepSpare bool) (differs []string, stale, err error) {
	d := s.drives[w.Old.Key()]
	if w.Phase != swap.Planned || d == nil {
		return nil, nil, nil
	}
	fresh, stale := s.composed(d, w.Asked, keepSpare)
	if stale != nil {
		return nil, stale, nil
	}
	leads := func(x swap.State) string {
		early := ""
		if x.Early != nil {
			early = x.Early.Key()
		}
		x.Recipe.Why = nil
		return string(document([]any{x.Recipe, x.Slot, x.Host, x.Seats, x.Margin, x.Needs, x.AtMost, x.Old.Bay, x.KeepSpare, early}))
	}
	if leads(*fresh) == leads(w.State) {
		return nil, nil, nil
	}
	differs = fresh.Recipe.Differs(w.Recipe)
	b := &store.Batch{}
	if err := s.apply(b, w, swap.Event{Kind: swap.ReplanIt, At: s.clock.Now(), Plan: fresh}); err != nil {
		return nil, nil, err
	}
	return differs, nil, s.commit(b)
}

// act gives a person's event to a swap. match is the version the person saw; empty when any will do.
func (s *Service) act(id, match string, make func(w *swapState) swap.Event) (api.Swap, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	w := s.swaps[id]
	if w == nil {
		return api.Swap{}, problem(404, "no-swap", "List them with: lantern swap list", "There is no swap %q.", id)
	}
	differs, stale, err := s.refresh(w, w.KeepSpare)
	if err != nil {
		return api.Swap{}, err
	}
	w = s.swaps[id]
	e := make(w)
	if e.Kind == swap.BeginIt {
		if stale != nil {
			return api.Swap{}, stale
		}
		if len(differs) > 0 {
			return api.Swap{}, problem(409, "plan-changed", "Look at it, and begin again if it is still right: lantern swap show "+w.Old.Tail(), "The plan changed since it was last shown: %s.", strings.Join(differs, "; "))
		}
	}
	if match != "" && match != "*" && match != ETag(w.version) {
		// Who says again what was done already is told how it stands: the first answer may have been lost on its way.
		if next, orders, err := swap.Apply(w.State, e); err == nil && len(orders) == 0 && trace(next) == trace(w.State) {
			return s.viewSwap(w), nil
		}
		return api.Swap{}, problem(412, "swap-changed", "Look at it again before you go on.", "The swap has changed since you looked.")
	}
	b := &store.Batch{}
	before := w.State
	if err := s.apply(b, w, e); err != nil {
		return api.Swap{}, err
	}
	if before.Phase == swap.Planned && w.Phase != swap.Planned && w.Phase.Open() {
		s.catchUp(b, w)
	}
	if h := s.hosts[w.Host]; h != nil && h.quiet && w.Phase == swap.Down {
		// Somebody was quick: it went down before that was asked for.
		_ = s.apply(b, w, swap.Event{Kind: swap.HostSeen, At: s.clock.Now(), Quiet: true})
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
func (s *Service) BeginSwap(by, id, match string, req api.BeginSwap) (api.Swap, error) {
	return s.act(id, match, func(w *swapState) swap.Event {
		return swap.Event{Kind: swap.BeginIt, At: s.clock.Now(), By: by, Reason: req.Reason, Backup: req.Backup.Time, NoBackup: req.NoBackup, TypedPool: strings.TrimSpace(req.Pool), Checks: swap.Checks(s.situation(w.State))}
	})
}

// ConfirmSwap takes the label tail that a person read.
func (s *Service) ConfirmSwap(by, id, match string, req api.ConfirmTail) (api.Swap, error) {
	return s.act(id, match, func(w *swapState) swap.Event {
		e := swap.Event{Kind: swap.ConfirmIt, At: s.clock.Now(), By: by, Tail: req.Tail, Reason: req.Reason}
		e.Drive, e.Checks = s.newcomer(w)
		return e
	})
}

// newcomer is the new drive that waits to be confirmed, as it is known now, and what was looked at of it; nil when none waits.
func (s *Service) newcomer(w *swapState) (*swap.Drive, []record.Check) {
	if w.Phase != swap.Confirm || w.New == nil {
		return nil, nil
	}
	st := w.State
	if d := s.drives[w.New.Key()]; d != nil {
		st.New = s.swapDrive(d)
		st.New.Promised = s.promised(w.New.Key(), w.ID)
	}
	return st.New, swap.Gate(s.situation(st), swap.Confirm)
}

// ActOnSwap takes a person's word: next, back, hold, resume, abandon.
func (s *Service) ActOnSwap(kind swap.EventKind, by, id, match, reason string) (api.Swap, error) {
	return s.act(id, match, func(w *swapState) swap.Event {
		e := swap.Event{Kind: kind, At: s.clock.Now(), By: by, Reason: reason}
		if kind == swap.NextIt {
			e.Checks = swap.Gate(s.situation(w.State), w.Phase)
		}
		return e
	})
}

// LeadSwap hands the lead to somebody else, or takes it over.
func (s *Service) LeadSwap(by, id, match string, req api.LeadSwap) (api.Swap, error) {
	if to := strings.TrimSpace(req.To); to != "" && to != by {
		if err := s.personKnown(to); err != nil {
			return api.Swap{}, err
		}
	}
	return s.act(id, match, func(*swapState) swap.Event {
		return swap.Event{Kind: swap.LeadIt, At: s.clock.Now(), By: by, To: cmp.Or(strings.TrimSpace(req.To), by), Reason: req.Reason}
	})
}

// FateOfOld records what becomes of the drive that was replaced.
func (s *Service) FateOfOld(by, id, match string, req api.OldFate) (api.Swap, error) {
	return s.act(id, match, func(*swapState) swap.Event {
		return swap.Event{Kind: swap.FateIt, At: s.clock.Now(), By: by, Fate: swap.FateKind(req.Fate), Reason: req.Note}
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
	if a.Action == api.PoolActionActionForget {
		return api.Order{Kind: "forget", Host: p.reporter, State: api.OrderStateDone, By: by, Pool: p.ID, At: s.clock.Now(), Says: p.Name + " is forgotten"}, s.ForgetPool(by, p)
	}
	if says, do := p.trouble(); !p.known() {
		return api.Order{}, problem(409, "pool-unknown", do, "%s.", says)
	}
	if h := s.hosts[p.reporter]; h == nil || s.late(h, s.clock.Now()) {
		return api.Order{}, problem(409, "host-quiet", "Bring its agent back first.", "%s does not report, so nothing can be ordered there.", p.reporter)
	}
	o := &order{Order: api.Order{Host: p.reporter, Kind: api.OrderKind(a.Action), By: by, Pool: p.ID}}
	if p.Watched {
		return api.Order{}, problem(409, "not-offered", "Use the pool system's own tool; what comes of it shows here.", "%s is watch only: it takes no orders.", p.Name)
	}
	if !slices.Contains(p.offers, string(a.Action)) {
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
	case api.PoolActionActionStop, api.PoolActionActionNudge, api.PoolActionActionGrow:
	case api.PoolActionActionAdmit:
		d, err := s.findDrive(a.Drive)
		if err != nil {
			return api.Order{}, err
		}
		inUse, _ := s.notFree(d)
		switch {
		case !d.Desc.TailMatches(a.Tail):
			return api.Order{}, problem(409, "wrong-tail", "Read the label; nothing was written.", "%q is not the label tail of %s.", a.Tail, d.tail())
		case inUse != "":
			return api.Order{}, problem(409, "drive-refused", "Put in another drive.", "%s cannot be used: %s.", d.tail(), inUse)
		case s.acceptanceOf(d.Desc.Key()) != nil:
			return api.Order{}, problem(409, "drive-refused", "Wait until it has passed.", "%s is being tested, and not accepted yet.", d.tail())
		case s.promised(d.Desc.Key(), "") != "":
			return api.Order{}, problem(409, "drive-refused", "Put in another drive.", "%s is promised to the swap of %s.", d.tail(), s.promised(d.Desc.Key(), ""))
		}
		o.Host, o.Order.Drive = d.Host, wire.Identity(d.Desc.Identity)
	default:
		return api.Order{}, problem(422, "unknown-action", "It is one of scrub, rebalance, drain, admit, nudge, grow, stop, priority.", "%q is no action.", a.Action)
	}
	b := &store.Batch{}
	s.order(b, o)
	s.happened(b, api.EventKindPool, p.ID, fmt.Sprintf("%s: %s ordered by %s", p.Name, a.Action, by))
	return o.Order, s.commit(b)
}
