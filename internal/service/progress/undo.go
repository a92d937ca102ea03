package progress

import (
	"lantern/internal/store"
)

// Undo reads the hours of a failed batch again from the store.
func (s *State) Undo(b *store.Batch) error {
	if len(store.Of[store.PriorityHours](b)) > 0 {
		return s.LoadPriorities()
	}
	return nil
}
