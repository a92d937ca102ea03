package recoveries

import (
	"errors"

	"lantern/internal/store"
)

// Undo reads the courses of a failed batch again from the store.
func (s *State) Undo(b *store.Batch) error {
	ids := map[string]bool{}
	for _, row := range store.Of[store.Recovery](b) {
		ids[row.ID] = true
	}
	for _, row := range store.Of[store.Sample](b) {
		ids[row.Recovery] = true
	}
	var failed []error
	for id := range ids {
		delete(s.Courses, id)
		s.added()
		failed = append(failed, s.load("id = ?", "recovery = ?", id))
	}
	return errors.Join(failed...)
}
