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

// Retention is how long records are kept of which nothing else depends. Readings, findings, swaps, notices and the
// audit are not among them.
type Retention struct {
	Events     time.Duration // what happened, one line each
	Orders     time.Duration // orders that have an outcome
	Deliveries time.Duration // messages that went out
	Past       time.Duration // changes of the records, so that they can be had as they were; 0 for none
}

// UsualRetention is what is kept where nothing else is said.
var UsualRetention = Retention{Events: 3 * year, Orders: 2 * year, Deliveries: year, Past: 30 * 24 * time.Hour}

const (
	year = 366 * 24 * time.Hour
	// LeastRetention is the shortest time that can be asked for: what runs and what is looked at now must be there.
	LeastRetention = 30 * 24 * time.Hour
	// answersLast is how long the answer to a request is kept, so that the same request again has the same answer.
	answersLast = 24 * time.Hour
	// packEach is how often, in real time, it is looked whether notes of earlier moments can be packed.
	packEach = 10 * time.Second
	// tidyEach is how often it is looked at what is too old.
	tidyEach = time.Hour
)

// SetRetention says how long records are kept.
func (s *Service) SetRetention(r Retention) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.retention = r
}

// KeepPast has every change of the records noted, so that they can be had as they were, or drops what was noted.
func (s *Service) KeepPast() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.retention.Past <= 0 {
		return s.Store.NoPast()
	}
	return s.Store.KeepPast(s.Clock.Now)
}

// PastSince is the earliest moment as of which everything can be asked; zero when none is kept.
func (s *Service) PastSince() (time.Time, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.Store.PastSince()
}

// ErrNoPast means that nothing is kept of so long ago.
var ErrNoPast = store.ErrNoPast

// NewPast loads the records of an earlier moment: c shows that moment, and stands still.
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

// Tidy lets go of records that are too old, now and then, and thins out the courses of recoveries that ended.
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
		// Readers need not wait for it: nothing in memory depends on what it changes.
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
	_, answers := store.Remove[store.Answer](s.Store, "at < ?", time.Now().UTC().Add(-answersLast))
	_, events := store.Remove[store.Event](s.Store, "at < ?", now.Add(-r.Events))
	_, orders := store.Remove[store.Order](
		s.Store,
		"state <> ? and id < ?",
		string(api.OrderStateWaiting),
		idBefore(now.Add(-r.Orders)),
	)
	_, sent := store.Remove[store.Delivery](s.Store, "done = ? and made < ?", true, now.Add(-r.Deliveries).UnixMilli())
	past := s.Store.ForgetPast(now.Add(-r.Past))
	return errors.Join(answers, events, orders, sent, past, s.Store.Shrink())
}

// idBefore is the least of the ids that are made at a moment.
func idBefore(at time.Time) string {
	var id ulid.ULID
	if err := id.SetTime(ulid.Timestamp(at)); err != nil {
		return "" // a time that no id can have: none is older
	}
	return id.String()
}
