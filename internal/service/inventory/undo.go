package inventory

import (
	"lantern/internal/service/ledger"
	"lantern/internal/store"
)

// Undo reads those items again that are in a batch which was not written.
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
