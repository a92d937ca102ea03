package judging

import (
	"lantern/internal/core/notice"
	"lantern/internal/service/fleet"
)

// DriveMatters are what is to be told of those drives that are among them.
func (s *State) DriveMatters(among func(*fleet.Drive, fleet.Place) bool) []notice.Matter {
	of, places := s.Judge(), s.Places()
	var said []notice.Said
	for key, j := range of {
		d := s.fleet.Drives[key]
		at := places[key]
		if len(j.Findings) == 0 || !d.Present && at.Pool == nil && !s.fleet.UsedWhenLast(d) || !among(d, at) {
			continue
		}
		x := notice.Said{Key: key, Tail: d.Tail(), Host: d.Host, Section: d.Section, Bay: d.BayName(), Verdict: j.Verdict, Findings: j.Findings}
		if at.Pool != nil {
			x.Pool = at.Pool.Name
		}
		said = append(said, x)
	}
	return notice.OfDrives(said)
}
