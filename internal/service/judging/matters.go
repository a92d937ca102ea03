package judging

import (
	"reflect"

	"lantern/internal/core/notice"
	"lantern/internal/service/fleet"
)

// matters are the matters of all drives, by host. Those of a host are computed again when the state of one of its
// drives changed.
type matters struct {
	touched int // number of the next judgement to look at
	hosts   map[string]*hostMatters
	of      map[string]string // host by drive
}

// hostMatters are the matters of one host's drives. A matter that several drives share belongs to one section, and so
// to one host.
type hostMatters struct {
	said    map[string]notice.Said // by drive
	matters []notice.Matter
	again   bool // said changed
}

// DriveMatters are the matters of the drives for which among is true.
func (s *State) DriveMatters(among func(*fleet.Drive, fleet.Place) bool) []notice.Matter {
	places := s.Places()
	var said []notice.Said
	for key := range s.Judge() {
		if d := s.fleet.Drives[key]; among(d, places[key]) {
			if x, any := s.said(key, d, places[key]); any {
				said = append(said, x)
			}
		}
	}
	return notice.OfDrives(said)
}

// AllMatters are the matters of all drives.
func (s *State) AllMatters() (out []notice.Matter) {
	m := &s.matters
	keys, next, all := s.Touched(m.touched)
	if all || m.hosts == nil {
		*m = matters{hosts: map[string]*hostMatters{}, of: map[string]string{}}
		keys = keys[:0:0]
		for key := range s.fleet.Drives {
			keys = append(keys, key)
		}
	}
	m.touched = next
	places := s.Places()
	for _, key := range keys {
		s.say(key, places[key])
	}
	for key := range m.of {
		if s.fleet.Drives[key] == nil {
			s.say(key, fleet.Place{})
		}
	}
	for _, h := range m.hosts {
		if h.again {
			h.again, h.matters = false, nil
			said := make([]notice.Said, 0, len(h.said))
			for _, x := range h.said {
				said = append(said, x)
			}
			h.matters = notice.OfDrives(said)
		}
		out = append(out, h.matters...)
	}
	return out
}

// say updates the input of one drive.
func (s *State) say(key string, at fleet.Place) {
	m, d := &s.matters, s.fleet.Drives[key]
	var x notice.Said
	any, host := false, ""
	if d != nil {
		x, any = s.said(key, d, at)
		host = d.Host
	}
	if was, known := m.of[key]; known && (!any || was != host) {
		delete(m.hosts[was].said, key)
		m.hosts[was].again = true
		delete(m.of, key)
	}
	if !any {
		return
	}
	h := m.hosts[host]
	if h == nil {
		h = &hostMatters{said: map[string]notice.Said{}}
		m.hosts[host] = h
	}
	if was, known := h.said[key]; !known || !reflect.DeepEqual(was, x) {
		h.said[key], h.again, m.of[key] = x, true, host
	}
}

// said is the input of one drive; any is false if there is none.
func (s *State) said(key string, d *fleet.Drive, at fleet.Place) (x notice.Said, any bool) {
	j := s.judged.of[key]
	if len(j.Findings) == 0 || !d.Present && at.Pool == nil && !s.fleet.UsedWhenLast(d) {
		return x, false
	}
	x = notice.Said{
		Key:      key,
		Tail:     d.Tail(),
		Host:     d.Host,
		Section:  d.Section,
		Bay:      d.BayName(),
		Verdict:  j.Verdict,
		Findings: j.Findings,
	}
	if at.Pool != nil {
		x.Pool = at.Pool.Name
	}
	return x, true
}
