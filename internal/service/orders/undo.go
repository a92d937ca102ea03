package orders

import (
	"errors"

	"lantern/internal/api"
	"lantern/internal/store"
)

// Undo reads the orders again that are in a batch which was not written.
func (s *State) Undo(b *store.Batch) error {
	var failed []error
	for _, o := range store.Of[store.Order](b) {
		delete(s.Waiting, o.ID)
		row, err := store.One[store.Order](s.Store, "id = ? and state = ?", o.ID, string(api.OrderStateWaiting))
		if err == nil {
			err = s.take(row)
		}
		if !errors.Is(err, store.ErrNone) {
			failed = append(failed, err)
		}
	}
	return errors.Join(failed...)
}
