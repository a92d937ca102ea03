package service

import (
	"encoding/json"
	"log/slog"

	"github.com/oklog/ulid/v2"

	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/store"
)

// Ledger is what every change goes through: it is written first, then told to whoever listens.
type Ledger struct {
	clock clock.Clock
	store *store.Store
	log   *slog.Logger
	bus   *bus
	// generation counts the changes: what was worked out from an older one is worked out again.
	generation int
	// before adds to a batch what is kept with it, after follows a batch that was written, failed one that was not.
	before, after func(*store.Batch)
	failed        func(error) error
}

// commit writes a batch and then tells of its events. Must be called with the lock of the service held.
func (s *Ledger) commit(b *store.Batch) error {
	if s.before(b); b.Empty() {
		return nil // nothing happened, so what was judged stands
	}
	s.moved()
	if err := s.store.Write(b); err != nil {
		return s.failed(err)
	}
	s.after(b)
	for _, e := range b.Events {
		s.bus.send(api.Event{Id: e.ID, Kind: api.EventKind(e.Kind), At: e.At, Subject: e.Subject, Says: e.Says})
	}
	return nil
}

// moved makes what was worked out before be worked out again.
func (s *Ledger) moved() { s.generation++ }

// happened adds an event to a batch.
func (s *Ledger) happened(b *store.Batch, kind api.EventKind, subject, says string) {
	b.Events = append(b.Events, &store.Event{Kind: string(kind), At: s.clock.Now(), Subject: subject, Says: says})
}

// progress tells live views that something moved; it is not kept.
func (s *Ledger) progress(e api.Event) { s.bus.send(e) }

// newID names something so that names sort by time.
func newID() string { return ulid.Make().String() }

// document is the JSON of one of our own plain structures.
func document(v any) []byte {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // only our own plain structures come here
	}
	return b
}
