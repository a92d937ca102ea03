package recoveries

import (
	"lantern/internal/api"
	"lantern/internal/core/recovery"
	"lantern/internal/service/fleet"
	"lantern/internal/wire"
	"slices"
)

// CopyOf is a pool as its host told of it, with what is remembered of its recoveries.
func (s *State) CopyOf(p *fleet.Pool) api.PoolReport {
	var rs []recovery.Report
	for _, c := range s.Courses {
		if c.PoolID == p.ID {
			rs = append(rs, c.Report)
		}
	}
	slices.SortFunc(rs, func(a, b recovery.Report) int { return a.StartedAt.Compare(b.StartedAt) })
	const most = 8
	rs = rs[max(0, len(rs)-most):]
	r := wire.Pool(p.Pool, rs)
	r.Offers, r.Priority, r.Waits = p.Offers, p.Priority, p.Waits
	return r
}
