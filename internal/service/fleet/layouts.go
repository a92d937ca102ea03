package fleet

import (
	"fmt"
	"slices"

	"lantern/internal/api"
	"lantern/internal/core/enclosure"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// EnclosuresOf are a host's enclosures: those that it tells of, and those that people described. An enclosure that
// tells of itself stands before a description of the same section.
func (s *State) EnclosuresOf(h *Host) []api.EnclosureReport {
	out := slices.Clone(h.LastReport.Enclosures)
	for i := range out {
		out[i].Sections = slices.Clone(out[i].Sections)
		// one that tells of its slots, but not how they stand, looks as somebody described it
		for k, sec := range out[i].Sections {
			if drawn, ok := s.Section(h.Name, sec.Name); ok && sec.Plain {
				v := wire.Enclosure(enclosure.Layout{Sections: []enclosure.Section{drawn}}, nil).Sections[0]
				v.Lit, v.Occupied, v.Plain = sec.Lit, sec.Occupied, true
				out[i].Sections[k] = v
			}
		}
	}
	for _, l := range s.Layouts[h.Name] {
		e := wire.Enclosure(l, nil)
		e.Sections = slices.DeleteFunc(e.Sections, func(sec api.SectionReport) bool { return Told(h, sec.Name) })
		if len(e.Sections) > 0 {
			out = append(out, e)
		}
	}
	return out
}

// Told says whether a host's enclosure itself tells of a section.
func Told(h *Host, section string) bool {
	for _, e := range h.LastReport.Enclosures {
		for _, sec := range e.Sections {
			if sec.Name == section {
				return true
			}
		}
	}
	return false
}

// Plain says whether the enclosure tells of a section's slots, but not how they stand.
func Plain(h *Host, section string) bool {
	for _, e := range h.LastReport.Enclosures {
		for _, sec := range e.Sections {
			if sec.Name == section {
				return sec.Plain
			}
		}
	}
	return false
}

// Placed gives the bay of a drive as its host tells it, or else as people found it out.
func (s *State) Placed(host string, r api.DriveReport, key string) (section string, bay int, how enclosure.How) {
	if r.Section != "" {
		return r.Section, r.Bay, enclosure.Told
	}
	sp, how := enclosure.Find(s.Spots[host], key, r.Port)
	return sp.Section, sp.Number, how
}

func (s *State) Section(host, name string) (enclosure.Section, bool) {
	for _, l := range s.Layouts[host] {
		for _, sec := range l.Sections {
			if sec.Name == name {
				return sec, true
			}
		}
	}
	return enclosure.Section{}, false
}

// Port is what a drive hangs on by its host's newest report.
func (s *State) Port(d *Drive) string {
	if h := s.Hosts[d.Host]; h != nil {
		for _, r := range h.LastReport.Drives {
			if wire.ToIdentity(r.Identity).Key() == d.Key() {
				return r.Port
			}
		}
	}
	return ""
}

// LoadLayouts makes the layouts and what people saw in which bay from what is in the store.
func (s *State) LoadLayouts() error {
	s.Layouts, s.Spots = map[string][]enclosure.Layout{}, map[string][]enclosure.Spot{}
	layouts, err := store.All[store.Layout](s.Store, "host, name", "")
	if err != nil {
		return err
	}
	for _, row := range layouts {
		l, err := FromDocument[enclosure.Layout](row.Doc)
		if err != nil {
			return fmt.Errorf("layout %s of %s: %w", row.Name, row.Host, err)
		}
		s.Layouts[row.Host] = append(s.Layouts[row.Host], l)
	}
	spots, err := store.All[store.Spot](s.Store, "host, section, number", "")
	if err != nil {
		return err
	}
	for _, row := range spots {
		sp, err := FromDocument[enclosure.Spot](row.Doc)
		if err != nil {
			return fmt.Errorf("bay %s/%s/%d: %w", row.Host, row.Section, row.Number, err)
		}
		s.Spots[row.Host] = append(s.Spots[row.Host], sp)
	}
	return nil
}
