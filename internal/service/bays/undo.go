package bays

import (
	"errors"

	"lantern/internal/service/ledger"
	"lantern/internal/store"
)

// Undo reads the lights and surveys of a failed batch again from the store.
func (s *State) Undo(b *store.Batch) error {
	var failed []error
	for _, l := range store.Of[store.Light](b) {
		delete(s.LightByID, l.ID)
		failed = append(failed, ledger.Reread(s.Ledger, s.take, "id = ? and ended = ?", l.ID, false))
	}
	if len(store.Of[store.Survey](b)) > 0 {
		failed = append(failed, s.loadSurveys())
	}
	return errors.Join(failed...)
}
