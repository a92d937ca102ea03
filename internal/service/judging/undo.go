package judging

import (
	"lantern/internal/store"
)

// Undo keeps the findings of a failed batch for the next one: they are computed from facts in memory, and stay valid
// with these. Rules are read again from the store.
func (s *State) Undo(b *store.Batch) error {
	for _, row := range store.Of[store.Standing](b) {
		s.unwritten[row.Drive] = true
	}
	s.Forget()
	s.foundLog = append(store.Of[store.FoundLog](b), s.foundLog...)
	if len(store.Of[store.Setting](b))+len(store.Of[store.OwnRule](b)) > 0 {
		return s.loadRules()
	}
	return nil
}

// Forget marks every drive for judging.
func (s *State) Forget() { s.judged = nil }
