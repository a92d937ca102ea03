package readings

import (
	"lantern/internal/store"
)

// Undo loads the records of the drives of a failed batch again.
func (s *State) Undo(b *store.Batch) error {
	of := map[string]int{}
	for _, row := range store.Of[store.Reading](b) {
		of[row.Drive]++
	}
	for _, r := range store.Of[store.DriveRecord](b) {
		if d := s.fleet.Drives[r.Drive]; d != nil {
			d.Saved = unsure
		}
	}
	for key, n := range of {
		if d := s.fleet.Drives[key]; d != nil {
			d.Loose -= n
			s.recall(key, d)
		}
	}
	return nil
}
