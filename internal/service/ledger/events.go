package ledger

import (
	"sync"

	"lantern/internal/api"
	"lantern/internal/store"
)

// bus delivers events to the present listeners. A listener that is too slow loses its channel and must resume from the
// last id it has seen, so a slow console never delays the service.
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

// Listen gives the events after an id, then new ones; stop must be called. An id of 0 means from now on. Events with id
// 0 are about progress and are not stored.
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

// Announce sends live views an event that is not stored, such as a change of the lab's speed.
func (s *Ledger) Announce(kind api.EventKind, subject, says string) {
	s.Send(api.Event{Kind: kind, At: s.Clock.Now(), Subject: subject, Says: says})
}
