package recoveries

import (
	"time"

	"lantern/internal/core/recovery"
	"lantern/internal/service/ledger"
	"lantern/internal/store"
)

const (
	// thinAfter is how long after its end a course is thinned, and to how many parts of its work.
	thinAfter = 24 * time.Hour
	thinParts = 400
)

// Thin removes samples of one course that ended some time ago, and reports whether it found one. Otherwise a year of
// recoveries would fill disk and memory.
func (s *State) Thin(now time.Time) (found bool, err error) {
	for id, c := range s.Courses {
		if c.EndedAt.IsZero() || now.Sub(c.EndedAt) < thinAfter || len(c.Samples) <= 2*thinParts+2 {
			continue
		}
		thin := recovery.Thin(c.Samples, thinParts)
		if len(thin) == len(c.Samples) {
			continue // it restarted many times, and that is kept
		}
		pause := c.LongestPause() // which is not visible afterwards
		next := *c
		next.Pause = &pause
		b := &store.Batch{}
		b.Put(&store.Recovery{ID: id, Pool: c.PoolID, Started: c.StartedAt, Doc: ledger.Document(next)})
		if err := s.Commit(b); err != nil {
			return true, err
		}
		kept := make([]int64, 0, len(thin))
		for _, x := range thin {
			kept = append(kept, x.At.UnixMilli())
		}
		if _, err := store.Remove[store.Sample](s.Store, "recovery = ? and at not in ?", id, kept); err != nil {
			return true, err
		}
		s.Courses[id].Pause, s.Courses[id].Samples = &pause, thin
		return true, nil
	}
	return false, nil
}

// LongestPause is the longest time without progress of a course.
func (c *Course) LongestPause() time.Duration {
	if c.Pause != nil {
		return *c.Pause
	}
	return recovery.LongestPause(c.Samples)
}
