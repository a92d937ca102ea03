package fleet

import (
	"slices"

	"lantern/internal/api"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/pool"
	"lantern/internal/core/selftest"
)

func BoolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}

// Occupants are the drives in a host's bays; where none answers, the one last seen there, if its pool still has a place
// for it.
func (s *State) Occupants(host string) map[enclosure.Address]*Drive {
	out := map[enclosure.Address]*Drive{}
	for key, d := range s.Drives {
		if d.Host != host || d.Section == "" {
			continue
		}
		at := enclosure.Address{Host: host, Section: d.Section, Number: d.Bay}
		was := out[at]
		if was != nil && was.Present && (!d.Present || was.Desc.Key() < key) {
			continue // two drives in one bay are reported elsewhere; the map always shows the same one
		}
		if d.Present || (was == nil || !was.Present && d.SeenAt.After(was.SeenAt)) && len(s.PoolsWith(key)) > 0 {
			out[at] = d
		}
	}
	return out
}

func (s *State) BadLink(key string, d *Drive, bay string) {
	if s.BadLinks[bay] == nil {
		s.BadLinks[bay] = map[string]string{}
	}
	s.BadLinks[bay][key] = d.Tail()
	s.BadLinksVersion++
}

// Know adds a drive to memory.
func (s *State) Know(key string, d *Drive) {
	d.key, d.index = key, &s.index
	d.Touch()
	s.Drives[key] = d
	s.Batches[Batch(d)] = append(s.Batches[Batch(d)], key)
}

// Batch is the common part of the serials of possible siblings.
func Batch(d *Drive) string {
	if n := len(d.Desc.Serial); n > 3 {
		return d.Desc.Model + "/" + d.Desc.Serial[:n-3]
	}
	return ""
}

// Place is where in its pool a drive is, with its peers' latency.
type Place struct {
	Pool    *Pool
	Member  pool.Member
	Group   string
	Peers   []string
	Filling bool
	// also are its further places: the one above is the worst.
	Also []Place
}

// Every calls f for each place of a drive.
func (at Place) Every(f func(Place)) {
	if at.Pool == nil {
		return
	}
	f(at)
	for _, x := range at.Also {
		f(x)
	}
}

// WorseThan reports whether a place is worse than another; margins are those of pools.
func (at Place) WorseThan(o Place, margins map[string]int) bool {
	if at.Member.State != o.Member.State {
		return pool.Worse(at.Member.State, o.Member.State)
	}
	return margins[at.Pool.ID] < margins[o.Pool.ID]
}

// Where is what a drive shares with others.
func (s *State) Where(d *Drive, at Place) selftest.Where {
	w := selftest.Where{Drive: d.Key(), Host: d.Host}
	if at.Pool != nil {
		w.Pool, w.PoolName, w.Group = at.Pool.ID, at.Pool.Name, at.Group
		if s.twins()[w.PoolName] { // pools of one name are distinguished by id
			w.PoolName += " " + w.Pool
		}
	}
	if h := s.Hosts[d.Host]; h != nil && d.Section != "" {
		for _, l := range s.Layouts[d.Host] {
			if slices.ContainsFunc(l.Sections, func(sec enclosure.Section) bool { return sec.Name == d.Section }) {
				w.Enclosure = l.Name
			}
		}
		for _, e := range h.LastReport.Enclosures {
			if slices.ContainsFunc(e.Sections, func(sec api.SectionReport) bool { return sec.Name == d.Section }) {
				w.Enclosure = e.Name
			}
		}
	}
	return w
}
