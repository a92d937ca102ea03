package service

import (
	"errors"
	"fmt"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/swap"
	"lantern/internal/service/orders"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// TakeOutcome keeps what came of an order. One that is not waited for any more is kept too, but changes nothing: what
// the pool shows will tell.
func (s *Service) TakeOutcome(from, id string, out api.Outcome) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	o := s.Orders.Waiting[id]
	if o == nil || o.Host != from {
		if _, err := store.One[store.Order](s.Store, "id = ? and host = ?", id, from); err == nil {
			return nil
		}
		return problem.New(404, "no-order", "", "There is no order %q for this host.", id)
	}
	b := &store.Batch{}
	s.end(b, o, api.OrderState(out.State), out.Says)
	return s.Commit(b)
}

// end writes down how an order ended and tells whoever gave it.
func (s *Service) end(b *store.Batch, o *orders.Order, state api.OrderState, says string) {
	o.State, o.Says = state, says
	delete(s.Orders.Waiting, o.Id)
	b.Put(o.Row())
	if w := s.Swaps.SwapByID[o.SwapID]; w != nil {
		_ = s.Swaps.Apply(b, w, swap.Event{Kind: swap.OrderDone, At: s.Clock.Now(), Order: o.Nth, Done: state == api.OrderStateDone, Outcome: says})
	}
	if l := s.Bays.LightByID[o.LightID]; l != nil {
		s.Bays.LightAnswered(b, l, o)
	}
	if c := s.Swaps.CampaignByID[o.SwapID]; c != nil {
		s.Swaps.KeepCampaign(b, c.Answered(s.Clock.Now(), state == api.OrderStateDone, says))
	}
	if a := s.Stock.AcceptanceByID[o.Acceptance]; a != nil && o.On && state != api.OrderStateDone {
		s.Stock.Turn(b, a, a.OrderFailed(s.Clock.Now(), says), nil)
	}
	if o.Kind == api.OrderKindSelftest {
		s.Selftests.TestAnswered(b, o)
	} else if o.Kind == api.OrderKindAddress {
		s.Selftests.AddressAnswered(b, o)
	} else if o.SwapID == "" && o.LightID == "" && o.Acceptance == "" {
		s.Happened(b, api.EventKindPool, o.Pool, fmt.Sprintf("%s on %s: %s, %s", o.Kind, o.Host, state, says))
	}
}

// Tick does what is due: lights that end, orders that nobody carried out, hosts that went quiet. It is called a few
// times a second.
func (s *Service) Tick() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.Clock.Now()
	b := &store.Batch{}
	for _, o := range s.Orders.Waiting {
		if now.After(o.Expires) {
			s.end(b, o, api.OrderStateExpired, o.Host+" did not answer within the time limit")
		}
	}
	for _, l := range s.Bays.LightByID {
		if (l.State == api.LightStateAsked || l.State == api.LightStateLit) && !now.Before(l.Until) {
			s.Bays.Dim(b, l)
		}
	}
	for _, h := range s.Fleet.Hosts {
		if !h.Quiet && !h.SeenAt.IsZero() && s.Fleet.Late(h, now) {
			h.Quiet = true
			s.Swaps.HostToSwaps(b, h.Name, true, now)
			s.Happened(b, api.EventKindHost, h.Name, h.Name+" has stopped reporting; what is known of it is of "+h.SeenAt.Format(time.RFC3339))
		}
	}
	s.Stock.GoOnAccepting(b, now)
	s.Selftests.StartPlanned(b, now)
	s.Progress.TurnPriorities(b, now)
	s.Readings.Thin(now)
	s.Notices.Notify(b, now)
	s.Notices.Digest(b, now)
	return errors.Join(s.Commit(b), s.Readings.Fold(), s.Readings.Forget(now))
}
