package judging

import (
	"reflect"

	"lantern/internal/core/notice"
	"lantern/internal/service/fleet"
)

// matters are what is to be told of drives, as it was worked out last: only of those hosts is it worked out again of
// whose drives something else is to be said.
type matters struct {
	touched int // up to where the judgement was followed
	hosts   map[string]*hostMatters
	of      map[string]string // host by drive
}

// hostMatters are those of one host's drives: what several drives share is told once a section, and a section is of one
// host.
type hostMatters struct {
	said    map[string]notice.Said // by drive
	matters []notice.Matter
	again   bool // said changed
}

// DriveMatters are what is to be told of those drives that are among them.
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

// AllMatters are what is to be told of all drives.
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

// say brings up to date what is to be said of a drive.
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

// said is what is to be said of a drive; any is false where it is nothing.
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
