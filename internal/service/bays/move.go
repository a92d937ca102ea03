package bays

import (
	"fmt"
	"slices"

	"lantern/internal/api"
	"lantern/internal/core/enclosure"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// MoveLayout moves a described enclosure to the host that it is connected to now. The drives seen in its bays stay
// known as guesses until somebody looks again, since the enclosure was moved by hand. Observations by the ports of the
// previous host are deleted.
func (s *Service) MoveLayout(by, from, layout, to string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	target := s.fleet.Hosts[to]
	if target == nil {
		return fleet.NoHost(s.fleet, to)
	}
	i := slices.IndexFunc(s.fleet.Layouts[from], func(l enclosure.Layout) bool { return l.Name == layout })
	switch {
	case i < 0:
		return problem.New(
			404,
			"no-layout",
			"List them with: lantern enclosure list "+from,
			"%s has no described enclosure %q.",
			from,
			layout,
		)
	case from == to:
		return problem.New(409, "bad-layout", "Name another host.", "%s has it already.", to)
	case s.fleet.Work.OnHost(from) || s.fleet.Work.OnHost(to):
		return problem.New(409, "swap-open", "End it first: lantern swap list", "A swap is open on %s or on %s.", from, to)
	case s.surveys[from] != nil || s.surveys[to] != nil:
		return problem.New(
			409,
			"survey-open",
			"End it first: lantern survey end",
			"A survey is open on %s or on %s.",
			from,
			to,
		)
	}
	l := s.fleet.Layouts[from][i]
	for _, sec := range l.Sections {
		if _, there := s.fleet.Section(to, sec.Name); there || fleet.Told(target, sec.Name) {
			return problem.New(
				409,
				"bad-layout",
				"Give it another name there first: lantern enclosure define.",
				"%s has a section %s already.",
				to,
				sec.Name,
			)
		}
	}
	b := &store.Batch{}
	b.Drop(&store.Layout{Host: from, Name: layout})
	b.Put(&store.Layout{Host: to, Name: layout, Doc: ledger.Document(l)})
	ours := func(sp enclosure.Spot) bool {
		return slices.ContainsFunc(l.Sections, func(sec enclosure.Section) bool { return sec.Name == sp.Section })
	}
	var left, moved []enclosure.Spot
	for _, sp := range s.fleet.Spots[from] {
		if !ours(sp) {
			left = append(left, sp)
			continue
		}
		b.Drop(&store.Spot{Host: from, Section: sp.Section, Number: sp.Number})
		if sp.Port, sp.Moved = "", true; sp.Drive != "" {
			moved = append(moved, sp)
			b.Put(&store.Spot{Host: to, Section: sp.Section, Number: sp.Number, Doc: ledger.Document(sp)})
		}
	}
	s.fleet.Layouts[from] = slices.Delete(slices.Clone(s.fleet.Layouts[from]), i, i+1)
	s.fleet.Layouts[to] = append(slices.Clone(s.fleet.Layouts[to]), l)
	s.fleet.Spots[from], s.fleet.Spots[to] = left, append(slices.Clone(s.fleet.Spots[to]), moved...)
	if s.fleet.Hosts[from] != nil {
		s.replace(b, from)
	}
	s.replace(b, to)
	for _, host := range []string{from, to} {
		s.AddEvent(b, api.EventKindHost, host, fmt.Sprintf("%s moved the enclosure %s from %s to %s", by, layout, from, to))
	}
	return s.Commit(b)
}
