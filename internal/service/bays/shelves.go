package bays

import (
	"fmt"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/health"
	"lantern/internal/core/notice"
)

// strangerFor is how long a bay may be occupied by a device that does not answer: a drive needs time to spin up.
const strangerFor = 2 * time.Minute

// Shelves are the matters of enclosures: faulty parts, and bays with a device that does not answer.
func (s *State) Shelves(now time.Time) (out []notice.Matter) {
	silent := map[string]time.Time{}
	for _, h := range s.fleet.Hosts {
		if s.fleet.Late(h, now) {
			continue
		}
		for _, e := range h.LastReport.Enclosures {
			for _, p := range e.Parts {
				if p.Says == "" {
					continue
				}
				m := notice.Matter{
					Key:      "shelf/" + h.Name + "/" + e.Name + "/" + p.Type + " " + p.Name,
					Kind:     notice.Shelf,
					Severity: health.Watch,
					Host:     h.Name,
					Says:     fmt.Sprintf("%s/%s: %s", h.Name, e.Name, p.Says),
					Do:       "Check it before its drives are damaged.",
				}
				if p.Grave {
					m.Severity, m.Do = health.Replace, "Replace it: what it cooled or fed has nothing left to "+
						"fall back on."
				}
				out = append(out, m)
			}
			type place struct {
				section string
				bay     int
			}
			answering := map[place]bool{}
			if slices.ContainsFunc(e.Sections, func(x api.SectionReport) bool { return len(x.Occupied) > 0 }) {
				for _, d := range s.fleet.ByHost(h.Name) {
					if d.Present {
						answering[place{d.Section, d.Bay}] = true
					}
				}
			}
			for _, sec := range e.Sections {
				for _, n := range sec.Occupied {
					if answering[place{sec.Name, n}] {
						continue
					}
					bay := enclosure.Address{Host: h.Name, Section: sec.Name, Number: n}.String()
					since, known := s.strangers[bay]
					if silent[bay] = since; !known {
						silent[bay] = now
					}
					if now.Sub(silent[bay]) >= strangerFor {
						out = append(
							out,
							notice.Matter{
								Key:      "occupied/" + bay,
								Kind:     notice.Place,
								Severity: health.Watch,
								Host:     h.Name,
								Bay:      bay,
								Says: fmt.Sprintf(
									"the enclosure says that something is in bay %s, and no drive answers there",
									bay,
								),
								Do: "Light the bay and look: a drive that does not spin up, one that is not " +
									"pushed home, or an empty caddy.",
							},
						)
					}
				}
			}
		}
	}
	s.strangers = silent
	return out
}
