package recoveries

import (
	"lantern/internal/core/recovery"
	"time"
)

func (s *State) LastScrub(poolID string) (at time.Time, clean bool) {
	for _, c := range s.Courses {
		if c.PoolID == poolID && c.Report.Kind == recovery.Scrub && c.Report.State == recovery.Finished && c.Report.EndedAt.After(at) {
			at, clean = c.Report.EndedAt, c.Report.Unrepairable == 0
		}
	}
	return at, clean
}
