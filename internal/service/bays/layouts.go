package bays

import (
	"cmp"
	"fmt"
	"slices"

	"lantern/internal/api"
	"lantern/internal/core/enclosure"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// Layouts lists how a host's enclosures look.
func (s *Service) Layouts(name string) ([]api.Layout, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	h := s.fleet.Hosts[name]
	if h == nil {
		return nil, fleet.NoHost(s.fleet, name)
	}
	out := []api.Layout{}
	for _, e := range h.LastReport.Enclosures {
		l := enclosure.Layout{Name: e.Name}
		for _, sec := range e.Sections {
			l.Sections = append(l.Sections, wire.ToSection(sec))
		}
		v := wire.Layout(l)
		v.Told = true
		out = append(out, v)
	}
	for _, l := range s.fleet.Layouts[name] {
		out = append(out, wire.Layout(l))
	}
	return out, nil
}

// SetLayout keeps how an enclosure looks. Observations of bays that it no longer has are deleted.
func (s *Service) SetLayout(by, name string, l api.Layout) (api.Layout, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := s.fleet.Hosts[name]
	if h == nil {
		return l, fleet.NoHost(s.fleet, name)
	}
	next, err := wire.ToLayout(l)
	if err != nil {
		return l, problem.New(
			422,
			"bad-layout",
			"See: lantern enclosure define --help",
			"This layout cannot be: %s.",
			err,
		)
	}
	for _, other := range s.fleet.Layouts[name] {
		for _, sec := range next.Sections {
			if other.Name != next.Name &&
				slices.ContainsFunc(other.Sections, func(x enclosure.Section) bool { return x.Name == sec.Name }) {
				return l, problem.New(
					409,
					"bad-layout",
					"Give it another name: it is part of every bay's address.",
					"%s has a section %s already, in %s.",
					name,
					sec.Name,
					other.Name,
				)
			}
		}
	}
	for _, sec := range next.Sections {
		if fleet.Told(h, sec.Name) && !fleet.Plain(h, sec.Name) {
			return l, problem.New(
				409,
				"bad-layout",
				"Give the section another name.",
				"The enclosure of %s reports a section %s itself.",
				name,
				sec.Name,
			)
		}
	}
	b := &store.Batch{}
	b.Put(&store.Layout{Host: name, Name: next.Name, Doc: ledger.Document(next)})
	s.fleet.Layouts[name] = append(
		slices.DeleteFunc(s.fleet.Layouts[name], func(x enclosure.Layout) bool { return x.Name == next.Name }),
		next,
	)
	slices.SortFunc(s.fleet.Layouts[name], func(a, b enclosure.Layout) int { return cmp.Compare(a.Name, b.Name) })
	s.forgetSpots(b, name)
	s.AddEvent(b, api.EventKindHost, name, fmt.Sprintf("%s described the enclosure %s of %s", by, next.Name, name))
	return wire.Layout(next), s.Commit(b)
}

// RemoveLayout deletes a layout and the observations of its bays.
func (s *Service) RemoveLayout(by, name, layout string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := slices.IndexFunc(s.fleet.Layouts[name], func(l enclosure.Layout) bool { return l.Name == layout })
	if i < 0 {
		return problem.New(
			404,
			"no-layout",
			"List them with: lantern enclosure list "+name,
			"%s has no described enclosure %q.",
			name,
			layout,
		)
	}
	b := &store.Batch{}
	b.Drop(&store.Layout{Host: name, Name: layout})
	s.fleet.Layouts[name] = slices.Delete(slices.Clone(s.fleet.Layouts[name]), i, i+1)
	s.forgetSpots(b, name)
	s.AddEvent(b, api.EventKindHost, name, fmt.Sprintf("%s removed the enclosure %s of %s", by, layout, name))
	return s.Commit(b)
}

// forgetSpots deletes the observations of bays that no layout has, and updates the places of drives.
func (s *State) forgetSpots(b *store.Batch, name string) {
	var left []enclosure.Spot
	for _, sp := range s.fleet.Spots[name] {
		if sec, ok := s.fleet.Section(name, sp.Section); ok {
			if _, ok := sec.Place(sp.Number); ok {
				left = append(left, sp)
				continue
			}
		}
		b.Drop(&store.Spot{Host: name, Section: sp.Section, Number: sp.Number})
	}
	s.fleet.Spots[name] = left
	s.replace(b, name)
}

// replace updates the bays of a host's drives.
func (s *State) replace(b *store.Batch, name string) {
	now := s.Clock.Now()
	h := s.fleet.Hosts[name]
	for _, r := range h.LastReport.Drives {
		key := wire.ToIdentity(r.Identity).Key()
		d := s.fleet.Drives[key]
		if d == nil || !d.Present || d.Host != name {
			continue
		}
		section, bay, how := s.fleet.Placed(name, r, key)
		if section == d.Section && bay == d.Bay && how == d.How {
			continue
		}
		// The drive did not move; only the knowledge of its place changed.
		if n := len(d.Stays); n > 0 && section != "" {
			d.Stays[n-1].Bay = fmt.Sprintf("%s/%s/%d", name, section, bay)
		} else {
			d.Stay(name, section, bay, now)
		}
		d.Section, d.Bay, d.How = section, bay, how
		d.Touch()
		b.Put(d.Row())
	}
	s.Changed()
}

// keepSpot records that a drive was seen in a bay.
func (s *State) keepSpot(b *store.Batch, host string, sp enclosure.Spot) {
	s.fleet.Spots[host] = append(slices.DeleteFunc(s.fleet.Spots[host], func(x enclosure.Spot) bool {
		if x.Section == sp.Section && x.Number == sp.Number {
			return true
		}
		if x.Drive == sp.Drive || x.Port != "" && x.Port == sp.Port { // it was in another bay before
			b.Drop(&store.Spot{Host: host, Section: x.Section, Number: x.Number})
			return true
		}
		return false
	}), sp)
	b.Put(&store.Spot{Host: host, Section: sp.Section, Number: sp.Number, Doc: ledger.Document(sp)})
}

// ConfirmBay records that a person saw a drive in a bay, or deletes the observation of the bay.
func (s *Service) ConfirmBay(by string, req api.Spot) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	a, err := enclosure.ParseAddress(req.Bay)
	if err != nil {
		return problem.New(422, "bad-bay", "See: lantern bays <host>", "%s.", err)
	}
	sec, ok := s.fleet.Section(a.Host, a.Section)
	if _, has := sec.Place(a.Number); !ok || !has {
		return problem.New(404, "no-bay", "See: lantern bays "+a.Host, "No described enclosure has a bay %s.", req.Bay)
	}
	b := &store.Batch{}
	if req.Drive == "" {
		s.fleet.Spots[a.Host] = slices.DeleteFunc(
			s.fleet.Spots[a.Host],
			func(x enclosure.Spot) bool { return x.Section == a.Section && x.Number == a.Number },
		)
		b.Drop(&store.Spot{Host: a.Host, Section: a.Section, Number: a.Number})
		s.replace(b, a.Host)
		s.AddEvent(b, api.EventKindHost, a.Host, fmt.Sprintf("%s removed what was known about bay %s", by, a))
		return s.Commit(b)
	}
	d, err := s.fleet.FindDrive(req.Drive)
	if err != nil {
		return err
	}
	if d.Host != a.Host || !d.Present {
		return problem.New(
			409,
			"other-host",
			"Look which host it reports from: lantern drive "+d.Tail(),
			"%s does not answer on %s.",
			d.Tail(),
			a.Host,
		)
	}
	if was := s.fleet.Occupants(a.Host)[a]; was != nil && was != d && was.Present && was.How.Sure() && !req.Replace {
		return problem.New(
			409,
			"bay-taken",
			"Check the bay. If it is "+d.Tail()+": lantern enclosure confirm --replace "+a.String()+" "+d.Tail()+".",
			"%s was seen in bay %s, and it still reports.",
			was.Tail(),
			a,
		)
	}
	s.keepSpot(
		b,
		a.Host,
		enclosure.Spot{
			Section: a.Section,
			Number:  a.Number,
			Drive:   d.Key(),
			Port:    s.fleet.Port(d),
			By:      by,
			At:      s.Clock.Now(),
		},
	)
	s.replace(b, a.Host)
	s.AddEvent(b, api.EventKindDrive, d.Key(), fmt.Sprintf("%s saw %s in bay %s", by, d.Tail(), a))
	return s.Commit(b)
}
