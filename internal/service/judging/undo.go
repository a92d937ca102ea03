package judging

import (
	"lantern/internal/store"
)

// Undo keeps the findings of a batch that was not written to be written with the next one: they are made out of what is
// known, and stand as long as that does. Rules are read again.
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

// Forget lets every drive be judged again.
func (s *State) Forget() { s.judged = nil }
