package fleet

import (
	"time"

	"lantern/internal/api"
	"lantern/internal/store"
)

// Tick is one moment of the clock on its way through the stages.
type Tick struct {
	Batch *store.Batch
	Now   time.Time
	Quiet []string // names of hosts that have stopped reporting since the tick before
}

// Tick finds the hosts that have stopped reporting.
func (s *State) Tick(t *Tick) {
	s.settle(t.Now)
	for _, h := range s.Hosts {
		if !h.Quiet && !h.SeenAt.IsZero() && s.Late(h, t.Now) {
			h.Quiet = true
			t.Batch.Undo = append(t.Batch.Undo, func() { h.Quiet = false })
			t.Quiet = append(t.Quiet, h.Name)
			s.AddEvent(
				t.Batch,
				api.EventKindHost,
				h.Name,
				h.Name+" has stopped reporting; what is known of it is of "+h.SeenAt.Format(time.RFC3339),
			)
		}
	}
}
