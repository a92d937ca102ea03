package fleet

import (
	"fmt"
	"slices"

	"lantern/internal/api"
	"lantern/internal/core/enclosure"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// EnclosuresOf are a host's enclosures: reported ones, and ones that people described. A reported enclosure takes
// precedence over a description of the same section.
func (s *State) EnclosuresOf(h *Host) []api.EnclosureReport {
	out := slices.Clone(h.LastReport.Enclosures)
	for i := range out {
		out[i].Sections = slices.Clone(out[i].Sections)
		// the description gives the arrangement of an enclosure that reports its slots only
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

// Told reports whether a host's enclosure itself reports a section.
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

// Plain reports whether the enclosure reports a section's slots, but not their arrangement.
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

// Placed gives the bay of a drive as its host reports it, else from people's observations.
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

// Port is the port of a drive in its host's newest report.
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

// LoadLayouts loads the layouts and people's observations of bays from the store.
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
