package recoveries

import (
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/service/fleet"
	"time"
)

// CleanScrubs says when a scrub of each pool last ended that found nothing.
func (s *State) CleanScrubs() map[string]time.Time {
	out := map[string]time.Time{}
	for _, c := range s.Courses {
		if c.Kind == recovery.Scrub && c.State == recovery.Finished && c.Report.Found == 0 && c.EndedAt.After(out[c.PoolID]) {
			out[c.PoolID] = c.EndedAt
		}
	}
	return out
}

// PlacesOf are the places in one pool by drive.
func (s *State) PlacesOf(p *fleet.Pool, out map[string][]fleet.Place) {
	filling := map[string]bool{}
	for _, id := range p.Running {
		if c := s.Courses[id]; c != nil && c.State == recovery.Running {
			filling[c.Report.Drive] = true
		}
	}
	p.Everyone(func(group string, m *pool.Member) {
		for _, key := range append([]string{m.Drive}, m.Drives...) {
			if key != "" {
				out[key] = append(out[key], fleet.Place{Pool: p, Member: *m, Group: group, Filling: filling[key]})
			}
		}
	})
	for _, g := range p.Groups {
		var keys []string
		for _, m := range g.Members {
			keys = append(keys, m.Drive)
		}
		for _, k := range keys {
			for i := range out[k] {
				if out[k][i].Group == g.Name {
					out[k][i].Peers = keys
				}
			}
		}
	}
}
