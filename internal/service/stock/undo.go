package stock

import (
	"errors"

	"lantern/internal/store"
)

// Undo reads the tests of new drives again that are in a batch which was not written, and what they are tested for.
func (s *State) Undo(b *store.Batch) error {
	var failed []error
	for _, a := range store.Of[store.Acceptance](b) {
		delete(s.AcceptanceByID, a.ID)
		row, err := store.One[store.Acceptance](s.Store, "id = ?", a.ID)
		if err == nil {
			err = s.take(row)
		}
		if !errors.Is(err, store.ErrNone) {
			failed = append(failed, err)
		}
	}
	if len(store.Of[store.AcceptPolicy](b)) > 0 {
		failed = append(failed, s.loadPolicy())
	}
	return errors.Join(failed...)
}
