package progress

import (
	"lantern/internal/store"
)

// Undo reads the hours again that are in a batch which was not written.
func (s *State) Undo(b *store.Batch) error {
	if len(store.Of[store.PriorityHours](b)) > 0 {
		return s.LoadPriorities()
	}
	return nil
}
