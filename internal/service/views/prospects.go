package views

import (
	"slices"
	"strings"

	"lantern/internal/api"
	"lantern/internal/core/health"
	"lantern/internal/core/pool"
	"lantern/internal/service/fleet"
	"lantern/internal/service/problem"
	"lantern/internal/service/stock"
	"lantern/internal/wire"
)

// What would happen to a pool: nothing here is ordered or stored. The pool is copied first, so that long computations
// delay nobody.

func (s *State) poolCopy(name string) (pool.Pool, error) {
	p, err := s.fleet.FindPool(name)
	if err != nil {
		return pool.Pool{}, err
	}
	q := s.fleet.AsKnown(p)
	return q.Through(s.fleet.Below), nil
}

// WhatIf answers what happens to a pool when members are lost, and on request for every set of n members.
func (s *Service) WhatIf(name string, lose []string, survives int, limit float64) (api.Prospect, error) {
	s.mu.RLock()
	p, err := s.poolCopy(name)
	if err != nil {
		s.mu.RUnlock()
		return api.Prospect{}, err
	}
	names, label := s.progress.LostWith(&p, s.progress.MemberNames(&p, lose)), s.progress.Label(&p)
	s.mu.RUnlock()
	out, err := wire.WhatIf(&p, names, survives, limit, label)
	if err != nil {
		return out, problem.New(422, "bad-question", "See its members: lantern pool "+p.Name, "%s.", err)
	}
	return out, nil
}

// PlanMoves finds the order of changes in a pool that moves least.
func (s *Service) PlanMoves(name string, asked api.MovesAsked) (api.MoveOrder, error) {
	s.mu.RLock()
	p, err := s.poolCopy(name)
	if err != nil {
		s.mu.RUnlock()
		return api.MoveOrder{}, err
	}
	for i, c := range asked.Changes {
		if c.Out != "" {
			asked.Changes[i].Out = s.progress.MemberNames(&p, []string{c.Out})[0]
		}
	}
	s.mu.RUnlock()
	out, err := wire.Moves(&p, asked)
	if err != nil {
		return out, problem.New(422, "bad-question", "See the pool and its members: lantern pool "+p.Name, "%s.", err)
	}
	return out, nil
}

// Fit gives for each member of a pool the size of a replacement, and the drives that a swap would accept: spares of the
// pool, and sound unused drives of the same host.
func (s *Service) Fit(name string) ([]api.Fit, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	p, err := s.poolCopy(name)
	if err != nil {
		return nil, err
	}
	verdicts := s.judging.Judge()
	var free []*fleet.Drive
	for key, d := range s.fleet.Drives {
		if inUse, _ := s.fleet.NotFree(
			d,
		); inUse == "" && verdicts[key].Verdict == health.Sound &&
			s.fleet.Distrust(d) == "" {
			free = append(free, d)
		}
	}
	slices.SortFunc(free, func(a, b *fleet.Drive) int { return strings.Compare(a.Tail(), b.Tail()) })
	out := []api.Fit{}
	label := s.progress.Label(&p)
	p.Everyone(func(group string, m *pool.Member) {
		v := api.Fit{
			Slot:       m.Slot,
			Group:      group,
			Spare:      slices.ContainsFunc(p.Spares, func(x pool.Member) bool { return x.Slot == m.Slot }),
			Tail:       label(m.Slot).Tail,
			Candidates: []api.LostMember{},
		}
		place, why, ok := s.stock.PlaceOf(&p, *m)
		if !ok {
			v.WhyLeast = "the size of this member is not known"
			out = append(out, v)
			return
		}
		v.LeastBytes, v.WhyLeast, v.MostBytes = int64(place.Needs), why, int64(place.AtMost)
		if size, _ := p.Fit(m.Slot); size.Most > 0 {
			v.WhyMost = size.WhyMost
		}
		for i := range p.Spares {
			if s.stock.SpareOffered(&p, place, &p.Spares[i]) {
				v.Candidates = append(v.Candidates, label(p.Spares[i].Slot))
			}
		}
		for _, d := range free {
			if stock.Offered(place, *s.stock.SwapDrive(d), d.Host) {
				v.Candidates = append(
					v.Candidates,
					api.LostMember{Tail: d.Tail(), Bay: d.BayName(), Drive: d.Key()},
				)
			}
		}
		out = append(out, v)
	})
	return out, nil
}
