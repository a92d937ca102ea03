package service

import (
	"errors"
	"fmt"
	"runtime/debug"

	"lantern/internal/api"
	"lantern/internal/service/fleet"
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
		return problem.New(404, "no-order", "", "No order %q for this host.", id)
	}
	b := &store.Batch{}
	s.end(b, o, api.OrderState(out.State), out.Says)
	return s.Commit(b)
}

// end writes down how an order ended and tells whoever gave it.
func (s *Service) end(b *store.Batch, o *orders.Order, state api.OrderState, says string) {
	s.Orders.End(b, o, state, says)
	ours := false
	for _, answered := range []func(*store.Batch, *orders.Order) bool{s.Swaps.Answered, s.Bays.Answered,
		s.Stock.Answered, s.Selftests.Answered} {
		ours = answered(b, o) || ours
	}
	if !ours {
		s.AddEvent(b, api.EventKindPool, o.Pool, fmt.Sprintf("%s on %s: %s, %s", o.Kind, o.Host, state, says))
	}
}

// guarded runs a stage. A fault in one of them is logged and keeps none of the others from their work.
func (s *Service) guarded(t *fleet.Tick, stage func(*fleet.Tick)) {
	defer func() {
		if p := recover(); p != nil {
			s.Log.Error("a part of what is due failed", "panic", p, "stack", string(debug.Stack()))
		}
	}()
	stage(t)
}

// Tick does what is due. It is called a few times a second, and lets the moment go through the stages, once and in
// order.
func (s *Service) Tick() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	t := &fleet.Tick{Batch: &store.Batch{}, Now: s.Clock.Now()}
	s.LookAtDisk(t.Now)
	for _, o := range s.Orders.Expired(t.Now) {
		s.end(t.Batch, o, api.OrderStateExpired, o.Host+" did not answer within the time limit")
	}
	for _, stage := range []func(*fleet.Tick){s.Bays.Tick, s.Fleet.Tick, s.Swaps.Tick, s.Stock.Tick,
		s.Selftests.Tick, s.Progress.Tick, s.Readings.Tick, s.Notices.Tick} {
		s.guarded(t, stage)
	}
	err := s.Commit(t.Batch)
	s.Notices.Emergency(t.Now)
	return errors.Join(err, s.Readings.Fold(), s.Readings.Forget(t.Now))
}
