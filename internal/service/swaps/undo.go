package swaps

import (
	"errors"

	"lantern/internal/store"
)

// Undo replays the swaps of a failed batch from their events in the store, and reads its campaigns again.
func (s *State) Undo(b *store.Batch) error {
	var failed []error
	again := map[string]bool{}
	for _, e := range store.Of[store.SwapEvent](b) {
		again[e.Swap] = true
	}
	for _, l := range store.Of[store.SwapLook](b) {
		again[l.Swap] = true
	}
	for id := range again {
		delete(s.SwapByID, id)
		failed = append(failed, s.loadSwaps("swap = ?", id))
	}
	for _, c := range store.Of[store.Campaign](b) {
		delete(s.CampaignByID, c.ID)
		failed = append(failed, s.loadCampaigns("id = ?", c.ID))
	}
	return errors.Join(failed...)
}
