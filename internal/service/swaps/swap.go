package swaps

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/record"
	"lantern/internal/core/swap"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/service/orders"
	"lantern/internal/service/problem"
	"lantern/internal/store"
	"lantern/internal/wire"

	"github.com/oklog/ulid/v2"
)

// apply applies an event to a swap, stores it if it changed anything, and gives the orders of the core.
func (s *State) apply(b *store.Batch, w *Swap, e swap.Event) error {
	if w.Differs != "" && w.Phase.Open() && e.Kind != swap.AbandonIt && e.Kind != swap.LeadIt {
		if e.Kind.Observed() {
			return nil // reports are not applied by rules that do not match
		}
		return problem.New(
			409,
			"swap-unknown",
			"Look at the pool itself, then end this swap and plan anew: lantern swap abandon "+w.Old.Tail()+" --reason \"...\"",
			"The step of the swap of %s is not known: %s.",
			w.Old.Tail(),
			w.Differs,
		)
	}
	next, orders, err := swap.Apply(w.State, e)
	if err != nil {
		return err
	}
	on := trace(next) != trace(w.State)
	if on {
		w.version++
		b.Add(&store.SwapEvent{Swap: next.ID, Seq: w.version, At: e.At, Doc: ledger.Document(e), After: stood(next)})
		if n := len(next.Log); n > len(w.Log) {
			kind := api.EventKindSwap
			if next.Alarms > w.Alarms {
				kind = api.EventKindAlarm
				s.Urgent = true
			}
			s.AddEvent(b, kind, next.ID, fmt.Sprintf("%s: %s", next.Pool, next.Log[n-1].Says))
		} else {
			s.AddEvent(b, api.EventKindSwap, next.ID, next.Pool+": "+next.Now().Title)
		}
		if next.Phase == swap.Closed {
			if d := s.fleet.Drives[next.Old.Key()]; d != nil {
				d.Replaced = true
				d.Remember(fleet.Past{At: e.At, Says: "was taken out of " + next.Pool + " by a swap"})
				d.Stock = next.Fate != nil && next.Fate.Kind == swap.Reused
				d.Touch()
				b.Put(d.Row())
			}
		}
	}
	if now := lookOf(next); now != lookOf(w.State) || on && len(next.Gate)+len(next.Closing) > 0 {
		b.Put(&store.SwapLook{Swap: next.ID, Seq: w.version, Doc: []byte(now)})
	}
	w.State = next
	s.swapToCampaigns(b, w, e.At)
	for _, o := range orders {
		s.passOn(b, w, o, e)
	}
	return nil
}

// look is the result of the newest look of a swap.
type look struct {
	Gate    []record.Check `json:"gate"`
	Closing []record.Check `json:"closing"`
}

func lookOf(s swap.State) string { return string(ledger.Document(look{s.Gate, s.Closing})) }

// trace differs between two states when something must be recorded. Only the results of checks count: their texts
// follow the newest report.
func trace(s swap.State) string {
	results := func(in []record.Check) (out []record.Check) {
		for _, c := range in {
			out = append(out, record.Check{ID: c.ID, Result: c.Result})
		}
		return out
	}
	s.Closing, s.Gate = results(s.Closing), nil
	return string(ledger.Document(s))
}

// passOn converts orders of the core to orders for a host.
func (s *State) passOn(b *store.Batch, w *Swap, o swap.Order, e swap.Event) {
	if o.Kind == swap.OrderDark {
		bays := []string{w.Old.Bay}
		if w.New != nil {
			bays = append(bays, w.New.Bay)
		}
		for _, l := range s.bays.LightByID {
			if slices.Contains(bays, l.Bay) && (l.State == api.LightStateAsked || l.State == api.LightStateLit) {
				l.Until = e.At
				s.bays.Dim(b, l)
			}
		}
		return
	}
	out := api.Order{
		Host:  w.Host,
		Kind:  api.OrderKind(o.Kind),
		By:    e.By,
		Pool:  w.PoolID,
		Slot:  w.Slot,
		Slots: o.Slots,
		Drive: wire.Identity(o.Drive),
		Spare: o.Spare,
	}
	if o.Kind.Writes() {
		out.NeedsBytes = int64(w.Needs)
		if o.Seat.PoolID != "" {
			out.Pool, out.Slot, out.Partition, out.Layers = o.Seat.PoolID, o.Seat.Slot, o.Seat.Partition, o.Seat.Layers
			if o.Seat.Partition > 0 || len(o.Seat.Layers) > 0 {
				out.NeedsBytes = int64(o.Seat.Needs)
			}
		}
		if o.Kind == swap.OrderLayout {
			if d := s.fleet.Drives[w.Old.Key()]; d != nil {
				out.Layout = d.Layout
			}
		}
		if d := s.fleet.Drives[o.Drive.Key()]; d != nil {
			out.Host = d.Host
		}
	} else if o.Kind != swap.OrderDrain && o.Kind != swap.OrderRelease {
		out.Drive = api.Identity{}
		if o.Seat.PoolID != "" {
			out.Pool, out.Slot = o.Seat.PoolID, o.Seat.Slot
		}
		if p := s.fleet.Pools[out.Pool]; p != nil {
			out.Host = p.Reporter // the host of the pool
		}
	}
	s.orders.Give(b, &orders.Order{SwapID: w.ID, Nth: o.Number, Order: out})
}

// PlanSwap plans the replacement of a drive. It changes nothing in the pool. An open plan of the same drive is returned
// again.
func (s *Service) PlanSwap(by, name string) (api.Swap, error) {
	return s.PlanSwapOf(by, api.PlanSwap{Drive: name})
}

// PlanSwapOf does the same with further wishes.
func (s *Service) PlanSwapOf(by string, req api.PlanSwap) (api.Swap, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.fleet.FindDrive(req.Drive)
	if err != nil {
		return api.Swap{}, err
	}
	return s.planSwap(by, d, 0, req.KeepSpare)
}

// planSwap plans it; the new drive must have at least the given size in bytes.
func (s *State) planSwap(by string, d *fleet.Drive, needs drive.Bytes, keepSpare bool) (api.Swap, error) {
	key := d.Key()
	for _, w := range s.OpenSwaps() {
		if w.Old.Key() == key {
			if w.Needs < needs {
				return api.Swap{}, problem.New(
					409,
					"swap-open",
					"Abandon it first.",
					"A swap of %s is planned by %s, for a new drive of only %d bytes.",
					d.Tail(),
					w.Lead,
					w.Needs,
				)
			}
			if _, _, err := s.refresh(w, keepSpare); err != nil {
				return api.Swap{}, err
			}
			return s.ViewSwap(s.SwapByID[w.ID]), nil
		}
	}
	plan, err := s.composed(d, needs, keepSpare)
	if err != nil {
		return api.Swap{}, err
	}
	plan.ID = ulid.Make().String()
	w := &Swap{}
	b := &store.Batch{}
	s.SwapByID[plan.ID] = w
	if err := s.apply(b, w, swap.Event{Kind: swap.PlanIt, At: s.Clock.Now(), By: by, Plan: plan}); err != nil {
		return api.Swap{}, err
	}
	if err := s.Commit(b); err != nil {
		return api.Swap{}, err
	}
	return s.ViewSwap(w), nil
}

// composed is the plan of a drive's swap from present facts; the new drive must have at least the given size in bytes.
func (s *State) composed(d *fleet.Drive, needs drive.Bytes, keepSpare bool) (*swap.State, error) {
	key := d.Key()
	seats := s.fleet.Seats(key)
	if len(seats) == 0 {
		return nil, s.notSwapped(d)
	}
	if seats, err := s.swapSeats(d, seats); err != nil {
		return nil, err
	} else if len(seats) == 0 {
		return nil, s.spareOnly(d, s.fleet.Seats(key))
	}
	p, m := seats[0].Pool, seats[0].Member
	for _, x := range seats {
		if x.Group != "" ||
			slices.ContainsFunc(x.Pool.Logs, func(l pool.Member) bool { return l.Slot == x.Member.Slot }) {
			p, m = x.Pool, x.Member
			break
		}
	}
	host := m.Domain
	if host == "" {
		host = d.Host
	}
	plan := swap.State{
		Pool:      p.Name,
		PoolID:    p.ID,
		Slot:      m.Slot,
		Host:      host,
		Old:       *s.stock.SwapDrive(d),
		OldGone:   !d.Present,
		Needs:     max(m.Needs, needs),
		Asked:     needs,
		KeepSpare: keepSpare,
		Members:   swap.Carrying(&p.Pool),
	}
	plan.Old.Ill = ""
	if place, _, ok := s.stock.PlaceOf(&p.Pool, m); ok {
		plan.Needs, plan.AtMost = max(plan.Needs, place.Needs), place.AtMost
	}
	s.seat(&plan, d, p, m, seats)
	g, stock := s.ground(p, m, d, plan)
	plan.Recipe = swap.Compose(g)
	if plan.Recipe.Spare != "" {
		x, _, _ := p.Slot(plan.Recipe.Spare)
		if plan.Early = s.stock.SwapDrive(s.fleet.Drives[x.Drive]); s.fleet.Drives[x.Drive] == nil {
			return nil, s.notSwapped(d)
		}
	} else if stock != nil && plan.Recipe.Beside {
		plan.Early = s.stock.SwapDrive(stock) // the new drive is in its bay already
	}
	return &plan, nil
}

// Owed is what a swap left undone; empty when nothing is left.
func (s *State) Owed(w *Swap) swap.Debt {
	return w.Owed(func(id string) (*pool.Pool, bool) {
		if p := s.fleet.Pools[id]; p != nil {
			return &p.Pool, p.Known()
		}
		return nil, false
	})
}

// refresh composes a plan again from the newest facts, until it begins, and returns how it differs from the plan that
// was shown. Where no plan can be composed any more, the old one stays visible, and stale says why it must not begin.
func (s *State) refresh(w *Swap, keepSpare bool) (differs []string, stale, err error) {
	d := s.fleet.Drives[w.Old.Key()]
	if w.Phase != swap.Planned || d == nil || w.Differs != "" {
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
		return string(
			ledger.Document(
				[]any{x.Recipe, x.Slot, x.Host, x.Seats, x.Margin, x.Needs, x.AtMost, x.Old.Bay, x.KeepSpare, early},
			),
		)
	}
	if leads(*fresh) == leads(w.State) {
		return nil, nil, nil
	}
	differs = fresh.Recipe.Differs(w.Recipe)
	b := &store.Batch{}
	if err := s.apply(b, w, swap.Event{Kind: swap.ReplanIt, At: s.Clock.Now(), Plan: fresh}); err != nil {
		return nil, nil, err
	}
	return differs, nil, s.Commit(b)
}

// act applies a person's event to a swap. match is the version that the person saw; empty for any version.
func (s *Service) act(id, match string, make func(w *Swap) swap.Event) (api.Swap, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	w := s.SwapByID[id]
	if w == nil {
		return api.Swap{}, problem.New(404, "no-swap", "List them with: lantern swap list", "No swap %q.", id)
	}
	differs, stale, err := s.refresh(w, w.KeepSpare)
	if err != nil {
		return api.Swap{}, err
	}
	w = s.SwapByID[id]
	e := make(w)
	if e.Kind == swap.BeginIt && stale != nil {
		return api.Swap{}, stale
	}
	if e.Kind == swap.BeginIt && len(differs) > 0 {
		return api.Swap{}, problem.New(
			409,
			"plan-changed",
			"Look at it, and begin again if it is still right: lantern swap show "+w.Old.Tail(),
			"The plan changed since it was last shown: %s.",
			strings.Join(differs, "; "),
		)
	}
	if match != "" && match != "*" && match != ETag(w.version) {
		return s.actedOnOld(w, e)
	}
	b := &store.Batch{}
	before := w.State
	if err := s.apply(b, w, e); err != nil {
		return api.Swap{}, err
	}
	if before.Phase == swap.Planned && w.Phase != swap.Planned && w.Phase.Open() {
		s.catchUp(b, w)
	}
	if h := s.fleet.Hosts[w.Host]; h != nil && h.Quiet && w.Phase == swap.Down {
		// The host went down before that was asked for.
		_ = s.apply(b, w, swap.Event{Kind: swap.HostSeen, At: s.Clock.Now(), Quiet: true})
	}
	if err := s.Commit(b); err != nil {
		return api.Swap{}, err
	}
	return s.ViewSwap(s.SwapByID[id]), nil
}

// actedOnOld answers a person who saw an earlier state of a swap. A repeated action gets the present state: the first
// answer may have been lost. Everything else is refused.
func (s *Service) actedOnOld(w *Swap, e swap.Event) (api.Swap, error) {
	next, orders, err := swap.Apply(w.State, e)
	if err == nil && len(orders) == 0 && trace(next) == trace(w.State) {
		return s.ViewSwap(w), nil
	}
	if r := (*swap.Refusal)(nil); errors.As(err, &r) && r.Type == "begun-already" {
		return api.Swap{}, err
	}
	return api.Swap{}, problem.New(
		412,
		"swap-changed",
		"Look at it again before you go on.",
		"The swap has changed since you looked.",
	)
}

// catchUp applies to a swap that has just begun what happened before: an old drive that has left.
func (s *State) catchUp(b *store.Batch, w *Swap) {
	if d := s.fleet.Drives[w.Old.Key()]; d != nil && !d.Present {
		_ = s.apply(b, w, swap.Event{Kind: swap.DriveGone, At: s.Clock.Now(), Drive: s.stock.SwapDrive(d)})
	}
}

// ETag of a version of a swap.
func ETag(version int) string { return fmt.Sprintf(`"%d"`, version) }

// BeginSwap starts a planned swap if no check stops it.
func (s *Service) BeginSwap(by, id, match string, req api.BeginSwap) (api.Swap, error) {
	return s.act(id, match, func(w *Swap) swap.Event {
		return swap.Event{
			Kind:      swap.BeginIt,
			At:        s.Clock.Now(),
			By:        by,
			Reason:    req.Reason,
			Backup:    req.Backup.Time,
			NoBackup:  req.NoBackup,
			TypedPool: strings.TrimSpace(req.Pool),
			Checks:    swap.Checks(s.situation(w.State)),
		}
	})
}

// ConfirmSwap confirms the new drive by the label tail that a person read.
func (s *Service) ConfirmSwap(by, id, match string, req api.ConfirmTail) (api.Swap, error) {
	return s.act(id, match, func(w *Swap) swap.Event {
		e := swap.Event{Kind: swap.ConfirmIt, At: s.Clock.Now(), By: by, Tail: req.Tail, Reason: req.Reason}
		e.Drive, e.Checks = s.newcomer(w)
		return e
	})
}

// newcomer is the newest description of the new drive that waits to be confirmed, with its checks; nil when none waits.
func (s *State) newcomer(w *Swap) (*swap.Drive, []record.Check) {
	if w.Phase != swap.Confirm || w.New == nil {
		return nil, nil
	}
	st := w.State
	if d := s.fleet.Drives[w.New.Key()]; d != nil {
		st.New = s.stock.SwapDrive(d)
		st.New.Promised = s.Promised(w.New.Key(), w.ID)
	}
	return st.New, swap.Gate(s.situation(st), swap.Confirm)
}

// ActOnSwap performs a person's action: next, back, hold, resume, abandon.
func (s *Service) ActOnSwap(kind swap.EventKind, by, id, match, reason string) (api.Swap, error) {
	return s.act(id, match, func(w *Swap) swap.Event {
		e := swap.Event{Kind: kind, At: s.Clock.Now(), By: by, Reason: reason}
		if kind == swap.NextIt {
			e.Checks = swap.Gate(s.situation(w.State), w.Phase)
		}
		return e
	})
}

// LeadSwap hands the lead to somebody else, or takes it over.
func (s *Service) LeadSwap(by, id, match string, req api.LeadSwap) (api.Swap, error) {
	if to := strings.TrimSpace(req.To); to != "" && to != by {
		if err := s.people.PersonMay(to, api.Operator); err != nil {
			return api.Swap{}, err
		}
	}
	return s.act(id, match, func(*Swap) swap.Event {
		return swap.Event{
			Kind:   swap.LeadIt,
			At:     s.Clock.Now(),
			By:     by,
			To:     cmp.Or(strings.TrimSpace(req.To), by),
			Reason: req.Reason,
		}
	})
}

// FateOfOld records the fate of the replaced drive.
func (s *Service) FateOfOld(by, id, match string, req api.OldFate) (api.Swap, error) {
	return s.act(id, match, func(*Swap) swap.Event {
		return swap.Event{Kind: swap.FateIt, At: s.Clock.Now(), By: by, Fate: swap.FateKind(req.Fate), Reason: req.Note}
	})
}
