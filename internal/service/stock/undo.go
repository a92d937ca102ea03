package stock

import (
	"errors"

	"lantern/internal/service/ledger"
	"lantern/internal/store"
)

// Undo reads the acceptance tests and the policy of a failed batch again from the store.
func (s *State) Undo(b *store.Batch) error {
	var failed []error
	for _, a := range store.Of[store.Acceptance](b) {
		delete(s.AcceptanceByID, a.ID)
		failed = append(failed, ledger.Reread(s.Ledger, s.take, "id = ?", a.ID))
	}
	if len(store.Of[store.AcceptPolicy](b)) > 0 {
		failed = append(failed, s.loadPolicy())
	}
	return errors.Join(failed...)
}
