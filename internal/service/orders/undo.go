package orders

import (
	"errors"

	"lantern/internal/api"
	"lantern/internal/service/ledger"
	"lantern/internal/store"
)

// Undo reads the orders of a failed batch again from the store.
func (s *State) Undo(b *store.Batch) error {
	var failed []error
	for _, o := range store.Of[store.Order](b) {
		delete(s.Waiting, o.ID)
		failed = append(
			failed,
			ledger.Reread(s.Ledger, s.take, "id = ? and state = ?", o.ID, string(api.OrderStateWaiting)),
		)
	}
	return errors.Join(failed...)
}
