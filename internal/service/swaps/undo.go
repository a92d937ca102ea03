package swaps

import (
	"errors"

	"lantern/internal/store"
)

// Undo plays those swaps again from their events in the store, and reads those campaigns again, that are in a batch
// which was not written.
func (s *State) Undo(b *store.Batch) error {
	var failed []error
	for _, e := range store.Of[store.SwapEvent](b) {
		delete(s.SwapByID, e.Swap)
		failed = append(failed, s.loadSwaps("swap = ?", e.Swap))
	}
	for _, c := range store.Of[store.Campaign](b) {
		delete(s.CampaignByID, c.ID)
		failed = append(failed, s.loadCampaigns("id = ?", c.ID))
	}
	return errors.Join(failed...)
}
