package service

import (
	"errors"
	"log/slog"
	"time"

	"github.com/oklog/ulid/v2"

	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/store"
)

// Retention is how long records without dependants are kept. Readings, findings, swaps, notices and the audit are not
// among them.
type Retention struct {
	Events     time.Duration // events, one line each
	Orders     time.Duration // orders that have an outcome
	Deliveries time.Duration // sent messages
	Past       time.Duration // changes of the records, for earlier states; 0 for none
}

// UsualRetention is the default retention.
var UsualRetention = Retention{Events: 3 * year, Orders: 2 * year, Deliveries: year, Past: 30 * 24 * time.Hour}

const (
	year = 366 * 24 * time.Hour
	// LeastRetention is the shortest time that can be set: running work and its present views need these records.
	LeastRetention = 30 * 24 * time.Hour
	// answersLast is how long the answer to a request is kept, so that a repeated request gets the same answer.
	answersLast = 24 * time.Hour
	// packEach is how often, in real time, recorded changes are checked for packing.
	packEach = 10 * time.Second
	// tidyEach is how often old records are deleted.
	tidyEach = time.Hour
)

// SetRetention sets how long records are kept.
func (s *Service) SetRetention(r Retention) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.retention = r
}

// KeepPast turns the recording of changes on, so that earlier states can be read, or off, and deletes recorded ones.
func (s *Service) KeepPast() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.retention.Past <= 0 {
		return s.Store.NoPast()
	}
	return s.Store.KeepPast(s.Clock.Now)
}

// PastSince is the earliest moment whose state can be read; zero when none is kept.
func (s *Service) PastSince() (time.Time, error) { return s.Store.PastSince() } // it needs nothing in memory

// ErrNoPast means that no state is kept from so long ago.
var ErrNoPast = store.ErrNoPast

// NewPast loads the records of an earlier moment: c is a clock that always shows that moment.
func NewPast(st *store.Store, c clock.Clock) (*Service, error) {
	s, err := New(st, c, slog.New(slog.DiscardHandler))
	if err != nil {
		return nil, err
	}
	s.Fleet.GraceUntil = time.Time{} // nothing was started then
	for _, h := range s.Fleet.Hosts {
		h.Heard = true
	}
	return s, nil
}

// Tidy deletes old records from time to time, and thins the courses of recoveries that ended.
func (s *Service) Tidy() error {
	now := s.Clock.Now()
	s.mu.Lock()
	found, err := s.Recoveries.Thin(now)
	pack := time.Since(s.packed) > packEach
	s.mu.Unlock()
	if found || err != nil {
		return err // one at a time
	}
	if pack {
		// Readers need not wait for it: nothing in memory depends on its changes.
		if more, err := s.Store.PackPast(); more || err != nil {
			return err
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if pack {
		s.packed = time.Now()
	}
	if now.Sub(s.tidied) < tidyEach && !now.Before(s.tidied) {
		return nil
	}
	s.tidied = now
	r := s.retention
	return s.Aside(func() error { return forget(s.Store, now, r) })
}

// forget deletes records that were kept long enough.
func forget(st *store.Store, now time.Time, r Retention) error {
	_, answers := store.Remove[store.Answer](st, "at < ?", time.Now().UTC().Add(-answersLast))
	_, events := store.Remove[store.Event](st, "at < ?", now.Add(-r.Events))
	_, orders := store.Remove[store.Order](
		st,
		"state <> ? and id < ?",
		string(api.OrderStateWaiting),
		idBefore(now.Add(-r.Orders)),
	)
	_, sent := store.Remove[store.Delivery](st, "done = ? and made < ?", true, now.Add(-r.Deliveries).UnixMilli())
	past := st.ForgetPast(now.Add(-r.Past))
	return errors.Join(answers, events, orders, sent, past, st.Shrink())
}

// idBefore is the least id made at a moment.
func idBefore(at time.Time) string {
	var id ulid.ULID
	if err := id.SetTime(ulid.Timestamp(at)); err != nil {
		return "" // before all ids
	}
	return id.String()
}
