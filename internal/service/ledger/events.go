package ledger

import (
	"sync"

	"lantern/internal/api"
	"lantern/internal/store"
)

// bus hands events to whoever listens now. A listener that does not keep up loses its channel and must resume from the
// last id it has seen; so a slow console never holds the service up.
type bus struct {
	mu   sync.Mutex
	next int
	to   map[int]chan api.Event
}

func newBus() *bus { return &bus{to: map[int]chan api.Event{}} }

func (b *bus) send(e api.Event) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for id, c := range b.to {
		select {
		case c <- e:
		default:
			close(c)
			delete(b.to, id)
		}
	}
}

func (b *bus) listen() (<-chan api.Event, func()) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.next++
	id, c := b.next, make(chan api.Event, 256)
	b.to[id] = c
	return c, func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		if _, there := b.to[id]; there {
			delete(b.to, id)
			close(c)
		}
	}
}

// Listen gives the events after an id, then those that happen from now on; stop must be called. An id of 0 begins now.
// Events with id 0 tell of progress; they are not kept.
func (s *Ledger) Listen(after int64) (past []api.Event, live <-chan api.Event, stop func(), err error) {
	live, stop = s.bus.listen()
	if after > 0 {
		rows, err := store.All[store.Event](s.Store, "id", "id > ?", after)
		if err != nil {
			stop()
			return nil, nil, nil, err
		}
		for _, e := range rows {
			past = append(
				past,
				api.Event{Id: e.ID, Kind: api.EventKind(e.Kind), At: e.At, Subject: e.Subject, Says: e.Says},
			)
		}
	}
	return past, live, stop, nil
}

// Announce tells live views of something that is not kept, such as a change of the lab's pace.
func (s *Ledger) Announce(kind api.EventKind, subject, says string) {
	s.Send(api.Event{Kind: kind, At: s.Clock.Now(), Subject: subject, Says: says})
}
