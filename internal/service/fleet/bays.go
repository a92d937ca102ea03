package fleet

import (
	"lantern/internal/core/enclosure"
)

func BoolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}

func (s *State) RoomOf(name string) string {
	if h := s.Hosts[name]; h != nil {
		return h.Room
	}
	return ""
}

// Occupants are the drives in a host's bays; where none answers, the one that was last seen there, if its pool still counts
// on it.
func (s *State) Occupants(host string) map[enclosure.Address]*Drive {
	out := map[enclosure.Address]*Drive{}
	for key, d := range s.Drives {
		if d.Host != host || d.Section == "" {
			continue
		}
		at := enclosure.Address{Host: host, Section: d.Section, Number: d.Bay}
		was := out[at]
		if was != nil && was.Present && (!d.Present || was.Desc.Key() < key) {
			continue // two in one bay are told of elsewhere; the map shows the same one each time
		}
		if d.Present || (was == nil || !was.Present && d.SeenAt.After(was.SeenAt)) && len(s.poolsWith(key)) > 0 {
			out[at] = d
		}
	}
	return out
}
