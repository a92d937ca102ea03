package recoveries

import (
	"lantern/internal/core/recovery"
)

// Newest is the recovery of a pool that runs, else the one that began last; of a slot, if one is named.
func (s *State) Newest(poolID, slot string) (best *Course) {
	for _, c := range s.Courses {
		if c.PoolID != poolID || slot != "" && c.Report.Slot != slot {
			continue
		}
		if best == nil || Running(c) && !Running(best) || Running(c) == Running(best) && c.Report.StartedAt.After(best.Report.StartedAt) {
			best = c
		}
	}
	return best
}

func Running(c *Course) bool {
	return c.Report.State == recovery.Running || c.Report.State == recovery.Paused
}
