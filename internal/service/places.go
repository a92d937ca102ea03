package service

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"

	"lantern/internal/api"
	"lantern/internal/core/enclosure"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// bayMaps is what people found out of bays that no enclosure tells of: layouts, spots and walks, by host.
type bayMaps struct {
	layouts map[string][]enclosure.Layout
	spots   map[string][]enclosure.Spot
	surveys map[string]*enclosure.Survey
}

func (s *Service) loadBays() error {
	s.bayMaps = bayMaps{map[string][]enclosure.Layout{}, map[string][]enclosure.Spot{}, map[string]*enclosure.Survey{}}
	layouts, err := store.All[store.Layout](s.store, "host, name", "")
	if err != nil {
		return err
	}
	for _, row := range layouts {
		l, err := fromDocument[enclosure.Layout](row.Doc)
		if err != nil {
			return fmt.Errorf("layout %s of %s: %w", row.Name, row.Host, err)
		}
		s.layouts[row.Host] = append(s.layouts[row.Host], l)
	}
	spots, err := store.All[store.Spot](s.store, "host, section, number", "")
	if err != nil {
		return err
	}
	for _, row := range spots {
		sp, err := fromDocument[enclosure.Spot](row.Doc)
		if err != nil {
			return fmt.Errorf("bay %s/%s/%d: %w", row.Host, row.Section, row.Number, err)
		}
		s.spots[row.Host] = append(s.spots[row.Host], sp)
	}
	surveys, err := store.All[store.Survey](s.store, "host", "")
	if err != nil {
		return err
	}
	for _, row := range surveys {
		w := &enclosure.Survey{}
		if err := json.Unmarshal(row.Doc, w); err != nil {
			return fmt.Errorf("survey of %s: %w", row.Host, err)
		}
		s.surveys[row.Host] = w
	}
	return nil
}

// enclosuresOf are a host's enclosures: those that it tells of, and those that people described. An enclosure that tells
// of itself stands before a description of the same section.
func (s *Service) enclosuresOf(h *host) []api.EnclosureReport {
	out := slices.Clone(h.report.Enclosures)
	for i := range out {
		out[i].Sections = slices.Clone(out[i].Sections)
		for k, sec := range out[i].Sections { // one that tells of its slots, but not how they stand, looks as somebody described it
			if drawn, ok := s.section(h.Name, sec.Name); ok && sec.Plain {
				v := wire.Enclosure(enclosure.Layout{Sections: []enclosure.Section{drawn}}, nil).Sections[0]
				v.Lit, v.Occupied, v.Plain = sec.Lit, sec.Occupied, true
				out[i].Sections[k] = v
			}
		}
	}
	for _, l := range s.layouts[h.Name] {
		e := wire.Enclosure(l, nil)
		e.Sections = slices.DeleteFunc(e.Sections, func(sec api.SectionReport) bool { return told(h, sec.Name) })
		if len(e.Sections) > 0 {
			out = append(out, e)
		}
	}
	return out
}

// told says whether a host's enclosure itself tells of a section.
func told(h *host, section string) bool {
	for _, e := range h.report.Enclosures {
		for _, sec := range e.Sections {
			if sec.Name == section {
				return true
			}
		}
	}
	return false
}

// plain says whether the enclosure tells of a section's slots, but not how they stand.
func plain(h *host, section string) bool {
	for _, e := range h.report.Enclosures {
		for _, sec := range e.Sections {
			if sec.Name == section {
				return sec.Plain
			}
		}
	}
	return false
}

// placed gives the bay of a drive as its host tells it, or else as people found it out.
func (s *Service) placed(host string, r api.DriveReport, key string) (section string, bay int, how enclosure.How) {
	if r.Section != "" {
		return r.Section, r.Bay, enclosure.Told
	}
	sp, how := enclosure.Find(s.spots[host], key, r.Port)
	return sp.Section, sp.Number, how
}

// Layouts lists how a host's enclosures look.
func (s *Service) Layouts(name string) ([]api.Layout, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := s.hosts[name]
	if h == nil {
		return nil, problem(404, "no-host", "List them with: lantern host list", "There is no host %q.", name)
	}
	out := []api.Layout{}
	for _, e := range h.report.Enclosures {
		l := enclosure.Layout{Name: e.Name}
		for _, sec := range e.Sections {
			l.Sections = append(l.Sections, wire.ToSection(sec))
		}
		v := wire.Layout(l)
		v.Told = true
		out = append(out, v)
	}
	for _, l := range s.layouts[name] {
		out = append(out, wire.Layout(l))
	}
	return out, nil
}

// SetLayout keeps how an enclosure looks. Bays that it does not have any more are forgotten.
func (s *Service) SetLayout(by, name string, l api.Layout) (api.Layout, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := s.hosts[name]
	if h == nil {
		return l, problem(404, "no-host", "List them with: lantern host list", "There is no host %q.", name)
	}
	next, err := wire.ToLayout(l)
	if err != nil {
		return l, problem(422, "bad-layout", "See: lantern enclosure define --help", "This layout cannot be: %s.", err)
	}
	for _, other := range s.layouts[name] {
		for _, sec := range next.Sections {
			if other.Name != next.Name && slices.ContainsFunc(other.Sections, func(x enclosure.Section) bool { return x.Name == sec.Name }) {
				return l, problem(409, "bad-layout", "Give it another name: it is part of every bay's address.", "%s has a section %s already, in %s.", name, sec.Name, other.Name)
			}
		}
	}
	for _, sec := range next.Sections {
		if told(h, sec.Name) && !plain(h, sec.Name) {
			return l, problem(409, "bad-layout", "Give the section another name.", "The enclosure of %s tells of a section %s itself.", name, sec.Name)
		}
	}
	b := &store.Batch{}
	b.Put(&store.Layout{Host: name, Name: next.Name, Doc: document(next)})
	s.layouts[name] = append(slices.DeleteFunc(s.layouts[name], func(x enclosure.Layout) bool { return x.Name == next.Name }), next)
	slices.SortFunc(s.layouts[name], func(a, b enclosure.Layout) int { return cmp.Compare(a.Name, b.Name) })
	s.forgetSpots(b, name)
	s.happened(b, api.EventKindHost, name, fmt.Sprintf("%s described the enclosure %s of %s", by, next.Name, name))
	return wire.Layout(next), s.commit(b)
}

// RemoveLayout forgets a description, and what was found out of its bays.
func (s *Service) RemoveLayout(by, name, layout string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := slices.IndexFunc(s.layouts[name], func(l enclosure.Layout) bool { return l.Name == layout })
	if i < 0 {
		return problem(404, "no-layout", "List them with: lantern enclosure list "+name, "%s has no described enclosure %q.", name, layout)
	}
	b := &store.Batch{}
	b.Drop(&store.Layout{Host: name, Name: layout})
	s.layouts[name] = slices.Delete(slices.Clone(s.layouts[name]), i, i+1)
	s.forgetSpots(b, name)
	s.happened(b, api.EventKindHost, name, fmt.Sprintf("%s removed the enclosure %s of %s", by, layout, name))
	return s.commit(b)
}

// forgetSpots forgets what is known of bays that no layout has, and puts drives where they are by what is left.
func (s *Service) forgetSpots(b *store.Batch, name string) {
	var left []enclosure.Spot
	for _, sp := range s.spots[name] {
		if sec, ok := s.section(name, sp.Section); ok {
			if _, ok := sec.Place(sp.Number); ok {
				left = append(left, sp)
				continue
			}
		}
		b.Drop(&store.Spot{Host: name, Section: sp.Section, Number: sp.Number})
	}
	s.spots[name] = left
	s.replace(b, name)
}

func (s *Service) section(host, name string) (enclosure.Section, bool) {
	for _, l := range s.layouts[host] {
		for _, sec := range l.Sections {
			if sec.Name == name {
				return sec, true
			}
		}
	}
	return enclosure.Section{}, false
}

// replace puts the drives of a host into the bays that are known of them now.
func (s *Service) replace(b *store.Batch, name string) {
	now := s.clock.Now()
	h := s.hosts[name]
	for _, r := range h.report.Drives {
		key := wire.ToIdentity(r.Identity).Key()
		d := s.drives[key]
		if d == nil || !d.Present || d.Host != name {
			continue
		}
		section, bay, how := s.placed(name, r, key)
		if section == d.Section && bay == d.Bay && how == d.How {
			continue
		}
		// It did not move; what is known of it did.
		if n := len(d.Stays); n > 0 && section != "" {
			d.Stays[n-1].Bay = fmt.Sprintf("%s/%s/%d", name, section, bay)
		} else {
			d.stay(name, section, bay, now)
		}
		d.Section, d.Bay, d.How = section, bay, how
		d.version++
		b.Put(d.row())
	}
	s.moved()
}

// keepSpot notes that a drive was seen in a bay.
func (s *Service) keepSpot(b *store.Batch, host string, sp enclosure.Spot) {
	s.spots[host] = append(slices.DeleteFunc(s.spots[host], func(x enclosure.Spot) bool {
		if x.Section == sp.Section && x.Number == sp.Number {
			return true
		}
		if x.Drive == sp.Drive || x.Port != "" && x.Port == sp.Port { // it was elsewhere before
			b.Drop(&store.Spot{Host: host, Section: x.Section, Number: x.Number})
			return true
		}
		return false
	}), sp)
	b.Put(&store.Spot{Host: host, Section: sp.Section, Number: sp.Number, Doc: document(sp)})
}

// ConfirmBay notes that a person saw a drive in a bay, or forgets what was known of the bay.
func (s *Service) ConfirmBay(by string, req api.Spot) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	a, err := enclosure.ParseAddress(req.Bay)
	if err != nil {
		return problem(422, "bad-bay", "See: lantern bays <host>", "%s.", err)
	}
	sec, ok := s.section(a.Host, a.Section)
	if _, has := sec.Place(a.Number); !ok || !has {
		return problem(404, "no-bay", "See: lantern bays "+a.Host, "No described enclosure has a bay %s.", req.Bay)
	}
	b := &store.Batch{}
	if req.Drive == "" {
		s.spots[a.Host] = slices.DeleteFunc(s.spots[a.Host], func(x enclosure.Spot) bool { return x.Section == a.Section && x.Number == a.Number })
		b.Drop(&store.Spot{Host: a.Host, Section: a.Section, Number: a.Number})
		s.replace(b, a.Host)
		s.happened(b, api.EventKindHost, a.Host, fmt.Sprintf("%s forgot what was known of bay %s", by, a))
		return s.commit(b)
	}
	d, err := s.findDrive(req.Drive)
	if err != nil {
		return err
	}
	if d.Host != a.Host || !d.Present {
		return problem(409, "other-host", "Look which host it reports from: lantern drive "+d.tail(), "%s does not answer on %s.", d.tail(), a.Host)
	}
	s.keepSpot(b, a.Host, enclosure.Spot{Section: a.Section, Number: a.Number, Drive: d.Desc.Key(), Port: s.port(d), By: by, At: s.clock.Now()})
	s.replace(b, a.Host)
	s.happened(b, api.EventKindDrive, d.Desc.Key(), fmt.Sprintf("%s saw %s in bay %s", by, d.tail(), a))
	return s.commit(b)
}

// port is what a drive hangs on by its host's newest report.
func (s *Service) port(d *disk) string {
	if h := s.hosts[d.Host]; h != nil {
		for _, r := range h.report.Drives {
			if wire.ToIdentity(r.Identity).Key() == d.Desc.Key() {
				return r.Port
			}
		}
	}
	return ""
}
