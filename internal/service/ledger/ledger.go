package ledger

import (
	"encoding/json"
	"errors"
	"log/slog"
	"slices"
	"sync/atomic"
	"time"

	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/store"

	"github.com/oklog/ulid/v2"
)

// Ledger is the path of every change: it is written first, then sent to listeners.
type Ledger struct {
	Mu    Lock // guards the state of the whole service
	Clock clock.Clock
	Store *store.Store
	// Write stores batches in one transaction: Store.Write, in tests something around it.
	Write func(...*store.Batch) error
	Log   *slog.Logger
	bus   *bus
	// generation counts the changes: values computed from an older one are computed again.
	Generation int
	// Urgent is true when notices must be updated at the next tick.
	Urgent bool
	// Before adds related records to a batch, After is called after a batch was written; Undo reverts in memory a batch
	// that was not written.
	Before, After func(*store.Batch)
	Undo          func(*store.Batch) error
	Disk          Disk // under the records
	// Restored is set after a restore until somebody confirms that the service that made the backup no longer runs:
	// until then no orders are given out.
	Restored store.Restored
	restored atomic.Bool // whether it is set; it can be read without the lock
}

// IsRestored reports whether Restored is set. It needs no lock.
func (s *Ledger) IsRestored() bool { return s.restored.Load() }

// New makes a Ledger on a store.
func New(st *store.Store, c clock.Clock, log *slog.Logger) *Ledger {
	l := &Ledger{Clock: c, Store: st, Write: st.Write, Log: log, bus: newBus()}
	var err error
	if l.Restored, err = st.Restored(); err != nil {
		log.Error("whether these records were restored cannot be read: no order is given", "error", err)
		l.Restored = store.Restored{At: c.Now(), From: "a backup that cannot be named"}
	}
	l.restored.Store(!l.Restored.At.IsZero())
	return l
}

// slowWrite is the duration of a write above which it is logged.
const slowWrite = time.Second

// Commit writes batches in one transaction and then sends their events. If it fails, what they changed in memory is
// undone. Readers may see what only records observations while it is written, so that they do not wait for the disk. A
// change by a person or a procedure is hidden until it is written. Must be called with Mu held for a change.
func (s *Ledger) Commit(batches ...*store.Batch) error {
	if s.Mu.reading {
		panic("a change with the lock that is for reading")
	}
	s.Before(batches[len(batches)-1])
	batches = slices.DeleteFunc(slices.Clone(batches), (*store.Batch).Empty)
	if len(batches) == 0 {
		return nil // no change, so the judgement stays valid
	}
	s.Changed()
	begun := time.Now()
	err := s.write(batches)
	if took := time.Since(begun); took > slowWrite {
		records := 0
		for _, b := range batches {
			records += len(b.Records())
		}
		s.Log.Warn("the disk under the records is slow: all other changes waited for one to be written", "took", took,
			"records", records)
	}
	if s.wrote(err); err != nil {
		s.UndoAll(batches)
		return err
	}
	for _, b := range batches {
		s.After(b)
	}
	for _, b := range batches {
		for _, e := range b.Events {
			s.bus.send(api.Event{Id: e.ID, Kind: api.EventKind(e.Kind), At: e.At, Subject: e.Subject, Says: e.Says})
		}
	}
	return nil
}

// write stores batches, and lets readers in meanwhile if they only record observations. While writing fails, it does
// not, so that nobody is shown what is taken back again.
func (s *Ledger) write(batches []*store.Batch) error {
	write := func() error { return s.Write(batches...) }
	if s.Disk.Failed != "" || slices.ContainsFunc(batches, decides) {
		return write()
	}
	return s.Aside(write)
}

// Aside runs f, which uses the store and nothing in memory, and lets readers in meanwhile. Must be called with Mu held
// for a change.
func (s *Ledger) Aside(f func() error) error {
	defer s.Mu.letRead()()
	return f()
}

// decides reports whether a batch records more than observations, which are true even if they cannot be written.
func decides(b *store.Batch) bool {
	return !b.Observed || slices.ContainsFunc(b.Records(), func(record any) bool {
		switch record.(type) {
		case *store.Host, *store.Drive, *store.Reading, *store.BadPage, *store.Recovery, *store.Sample,
			*store.Standing, *store.FoundLog, *store.TestRun, *store.PlannedTest, *store.Notice, *store.PoolUse,
			*store.Delivery:
			return false
		}
		return true
	})
}

// UndoAll reverts in memory batches that were not written, the last first.
func (s *Ledger) UndoAll(batches []*store.Batch) {
	for _, b := range slices.Backward(batches) {
		if err := s.Undo(b); err != nil {
			s.Log.Error("a change that was not written could not be undone in memory", "error", err)
		}
	}
	s.Changed()
}

// Changed invalidates values computed before.
func (s *Ledger) Changed() { s.Generation++ }

// AddEvent adds an event to a batch.
func (s *Ledger) AddEvent(b *store.Batch, kind api.EventKind, subject, says string) {
	b.Events = append(b.Events, &store.Event{Kind: string(kind), At: s.Clock.Now(), Subject: subject, Says: says})
}

// Send notifies live views of progress; it is not stored.
func (s *Ledger) Send(e api.Event) { s.bus.send(e) }

// NewID makes an id; ids sort by time.
func NewID() string { return ulid.Make().String() }

// Document is the JSON of one of our own plain structures.
func Document(v any) []byte {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // only our own plain structures are passed here
	}
	return b
}

// Reread reads one record of a failed batch again from the store, and passes it to take; a missing record is not
// passed.
func Reread[T any](l *Ledger, take func(T) error, where string, args ...any) error {
	row, err := store.One[T](l.Store, where, args...)
	switch {
	case errors.Is(err, store.ErrNone):
		return nil
	case err != nil:
		return err
	}
	return take(row)
}
