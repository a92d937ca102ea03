package inventory

import (
	"lantern/internal/service/ledger"
	"lantern/internal/store"
)

// Undo reads the items of a failed batch again from the store.
func (s *State) Undo(b *store.Batch) error {
	for _, row := range store.Of[store.Inventory](b) {
		s.batches = nil
		s.fleet.BadLinksVersion++
		delete(s.items, row.Serial)
		if err := ledger.Reread(s.Ledger, s.take, "serial = ?", row.Serial); err != nil {
			return err
		}
	}
	return nil
}
