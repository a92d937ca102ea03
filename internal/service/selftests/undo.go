package selftests

import (
	"errors"
	"time"

	"lantern/internal/store"
)

// Undo reads the self-tests and plans of a failed batch again from the store.
func (s *State) Undo(b *store.Batch) error {
	var failed []error
	if len(store.Of[store.TestRun](b)) > 0 {
		for key := range s.Runs {
			if d := s.fleet.Drives[key]; d != nil {
				d.Stalled = time.Time{}
				d.Touch()
			}
		}
		failed = append(failed, s.LoadRuns())
	}
	if len(store.Of[store.Plan](b))+len(store.Of[store.PlannedTest](b)) > 0 {
		failed = append(failed, s.LoadPlans())
	}
	return errors.Join(failed...)
}
