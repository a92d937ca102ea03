package progress

import (
	"cmp"
	"slices"

	"lantern/internal/api"
	"lantern/internal/service/fleet"
	"lantern/internal/service/problem"
)

// Recoveries lists recoveries, the newest first, without their course.
func (s *Service) Recoveries(poolName string, limit int) ([]api.Recovery, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	out := []api.Recovery{}
	id := poolName
	if p, err := s.fleet.FindPool(poolName); err == nil {
		id = p.ID // under any earlier name
	}
	for _, c := range s.recoveries.InOrder() {
		if poolName == "" || c.PoolName == poolName || c.PoolID == id {
			out = append(out, s.ViewRecovery(c, false))
		}
	}
	slices.SortFunc(out, func(a, b api.Recovery) int {
		return cmp.Or(
			-cmp.Compare(
				fleet.BoolInt(a.State == api.RecoveryStateRunning),
				fleet.BoolInt(b.State == api.RecoveryStateRunning),
			),
			b.StartedAt.Compare(a.StartedAt),
			cmp.Compare(a.Id, b.Id),
		)
	})
	if limit == 0 {
		limit = 200
	}
	return out[:min(limit, len(out))], nil
}

// Recovery is one recovery with its course.
func (s *Service) Recovery(id string) (api.Recovery, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	c := s.recoveries.Courses[id]
	if c == nil {
		return api.Recovery{}, problem.New(
			404,
			"no-recovery",
			"See: lantern recoveries",
			"No recovery %q.",
			id,
		)
	}
	return s.ViewRecovery(c, true), nil
}
