package service

import (
	"slices"
	"strings"

	"lantern/internal/api"
	"lantern/internal/core/health"
	"lantern/internal/core/pool"
	"lantern/internal/wire"
)

// What would happen to a pool: nothing here is ordered or kept. The pool is copied first, so that whoever asks much holds
// nobody up.

func (s *Service) poolCopy(name string) (pool.Pool, error) {
	p, err := s.findPool(name)
	if err != nil {
		return pool.Pool{}, err
	}
	q := s.asKnown(p)
	return q.Through(s.below), nil
}

// memberNames turns the label tails among names of members into the keys of their drives.
func (s *Service) memberNames(p *pool.Pool, names []string) []string {
	out := slices.Clone(names)
	for i, n := range out {
		if _, _, ok := p.Slot(n); ok {
			continue
		}
		var found []string
		for _, key := range p.Drives(s.below) {
			if d := s.drives[key]; d != nil && (key == n || strings.EqualFold(d.tail(), n) || d.Desc.TailMatches(n)) {
				found = append(found, key)
			}
		}
		if len(found) == 1 {
			out[i] = found[0]
		}
	}
	return out
}

// lostWith turns drives below a pool into the places that are lost with them: none where what lies between bears it.
func (s *Service) lostWith(p *pool.Pool, names []string) (out []string) {
	var below []string
	for _, n := range names {
		if s.drives[n] == nil || len(p.SlotsOf(n)) > 0 || !slices.Contains(p.Drives(s.below), n) {
			out = append(out, n)
		} else {
			below = append(below, n)
		}
	}
	if len(below) == 0 {
		return out
	}
	q := p.WithoutDrives(s.below, below) // together: what bears each alone need not bear all of them
	q.Everyone(func(_ string, m *pool.Member) {
		if was, _, _ := p.Slot(m.Slot); m.State == pool.Missing && was.State != pool.Missing && !slices.Contains(out, m.Slot) {
			out = append(out, m.Slot)
		}
	})
	return out
}

func (s *Service) label(p *pool.Pool) func(slot string) api.LostMember {
	all := map[string]api.LostMember{}
	p.Everyone(func(_ string, m *pool.Member) {
		v := api.LostMember{Slot: m.Slot, Drive: m.Drive}
		if d := s.drives[m.Drive]; d != nil {
			v.Tail, v.Bay = d.tail(), d.bay()
		}
		all[m.Slot] = v
	})
	return func(slot string) api.LostMember { return all[slot] }
}

// WhatIf says what becomes of a pool when members are lost, and if asked of every set of so many.
func (s *Service) WhatIf(name string, lose []string, survives int, limit float64) (api.Prospect, error) {
	s.mu.Lock()
	p, err := s.poolCopy(name)
	if err != nil {
		s.mu.Unlock()
		return api.Prospect{}, err
	}
	names, label := s.lostWith(&p, s.memberNames(&p, lose)), s.label(&p)
	s.mu.Unlock()
	out, err := wire.WhatIf(&p, names, survives, limit, label)
	if err != nil {
		return out, problem(422, "bad-question", "See its members: lantern pool "+p.Name, "%s.", err)
	}
	return out, nil
}

// PlanMoves finds the order of changes in a pool that moves least.
func (s *Service) PlanMoves(name string, asked api.MovesAsked) (api.MoveOrder, error) {
	s.mu.Lock()
	p, err := s.poolCopy(name)
	if err != nil {
		s.mu.Unlock()
		return api.MoveOrder{}, err
	}
	for i, c := range asked.Changes {
		if c.Out != "" {
			asked.Changes[i].Out = s.memberNames(&p, []string{c.Out})[0]
		}
	}
	s.mu.Unlock()
	out, err := wire.Moves(&p, asked)
	if err != nil {
		return out, problem(422, "bad-question", "See the pool and its members: lantern pool "+p.Name, "%s.", err)
	}
	return out, nil
}

// Fit says for each member of a pool what size takes its place, and which drives a swap would take for it: spares of the pool, and
// sound drives of the same host that nothing uses.
func (s *Service) Fit(name string) ([]api.Fit, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, err := s.poolCopy(name)
	if err != nil {
		return nil, err
	}
	verdicts := s.judge()
	var free []*disk
	for key, d := range s.drives {
		if inUse, _ := s.notFree(d); inUse == "" && verdicts[key].verdict == health.Sound && s.distrust(d) == "" {
			free = append(free, d)
		}
	}
	slices.SortFunc(free, func(a, b *disk) int { return strings.Compare(a.tail(), b.tail()) })
	out := []api.Fit{}
	label := s.label(&p)
	p.Everyone(func(group string, m *pool.Member) {
		v := api.Fit{Slot: m.Slot, Group: group, Spare: slices.ContainsFunc(p.Spares, func(x pool.Member) bool { return x.Slot == m.Slot }), Tail: label(m.Slot).Tail, Candidates: []api.LostMember{}}
		place, why, ok := s.placeOf(&p, *m)
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
			if s.spareOffered(&p, place, &p.Spares[i]) {
				v.Candidates = append(v.Candidates, label(p.Spares[i].Slot))
			}
		}
		for _, d := range free {
			if offered(place, *s.swapDrive(d), d.Host) {
				v.Candidates = append(v.Candidates, api.LostMember{Tail: d.tail(), Bay: d.bay(), Drive: d.Desc.Key()})
			}
		}
		out = append(out, v)
	})
	return out, nil
}
