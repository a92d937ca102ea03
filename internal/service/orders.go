package service

import (
	"errors"
	"fmt"
	"runtime/debug"
	"time"

	"lantern/internal/api"
	"lantern/internal/service/fleet"
	"lantern/internal/service/orders"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// TakeOutcome records the outcome of an order. An outcome that is no longer awaited is recorded too, but changes
// nothing: the reports of the pool decide.
func (s *Service) TakeOutcome(from, id string, out api.Outcome) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	o := s.Orders.Waiting[id]
	if o == nil || o.Host != from {
		if _, err := store.One[store.Order](s.Store, "id = ? and host = ?", id, from); !errors.Is(err, store.ErrNone) {
			return err
		}
		return problem.New(404, "no-order", "", "No order %q for this host.", id)
	}
	b := &store.Batch{}
	s.end(b, o, api.OrderState(out.State), out.Says)
	return s.Commit(b)
}

// end records how an order ended and notifies the package that gave it.
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

// longStage is the duration of a stage above which it is logged: requests wait meanwhile.
const longStage = 250 * time.Millisecond

// guarded runs a stage. A panic in a stage is logged and does not stop the others.
func (s *Service) guarded(t *fleet.Tick, name string, stage func(*fleet.Tick)) {
	from := time.Now()
	defer func() {
		if p := recover(); p != nil {
			s.Log.Error("a part of what is due failed", "part", name, "panic", p, "stack", string(debug.Stack()))
		}
		if took := time.Since(from); took > longStage {
			s.Log.Debug("a part of what is due took long", "part", name, "took", took.Round(time.Millisecond))
		}
	}()
	stage(t)
}

// Tick does what is due. It is called a few times a second. Each stage sees the same moment, once and in order, and all
// changes are written in one transaction. Later parts take the lock separately, so that others wait less.
func (s *Service) Tick() error {
	var failed []error
	for _, part := range []struct {
		name string
		do   func(*fleet.Tick) error
	}{
		{"stages", s.stagesLocked},
		{"emergency", func(t *fleet.Tick) error { s.Notices.Emergency(t.Now); return nil }},
		{"folding", func(*fleet.Tick) error { return s.Readings.Fold() }},
		{"saving", func(*fleet.Tick) error { return s.Readings.Save() }},
		{"forgetting", func(t *fleet.Tick) error { return s.Readings.Forget(t.Now) }},
	} {
		failed = append(failed, s.locked(part.name, part.do))
	}
	return errors.Join(failed...)
}

// locked runs a part of a tick with the lock held.
func (s *Service) locked(name string, do func(*fleet.Tick) error) (err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	t := &fleet.Tick{Batch: &store.Batch{Observed: true}, Now: s.Clock.Now()}
	s.guarded(t, name, func(t *fleet.Tick) { err = do(t) })
	return err
}

// stagesLocked runs the stages for one moment.
func (s *Service) stagesLocked(t *fleet.Tick) (err error) {
	s.LookAtDisk(t.Now)
	for _, o := range s.Orders.Expired(t.Now) {
		s.end(t.Batch, o, api.OrderStateExpired, o.Host+" did not answer within the time limit")
	}
	for _, stage := range []struct {
		name string
		do   func(*fleet.Tick)
	}{
		{"bays", s.Bays.Tick}, {"fleet", s.Fleet.Tick}, {"swaps", s.Swaps.Tick}, {"stock", s.Stock.Tick},
		{"self-tests", s.Selftests.Tick}, {"progress", s.Progress.Tick}, {"readings", s.Readings.Tick},
		{"notices", s.Notices.Tick},
	} {
		s.guarded(t, stage.name, stage.do)
	}
	s.guarded(t, "writing it down", func(*fleet.Tick) { err = s.Commit(t.Batch) })
	return err
}
