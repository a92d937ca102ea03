package accept

import (
	"fmt"
	"time"

	"lantern/internal/core/record"
)

// SurfaceReport is the progress of a surface test, as the agent reports it.
type SurfaceReport struct {
	Pass  string  `json:"pass"` // write or verify
	Done  int64   `json:"done"` // bytes of this pass
	Size  int64   `json:"size"`
	Rate  float64 `json:"rate"`
	State string  `json:"state"` // running, paused, finished, failed, stopped
	Bad   []int64 `json:"bad,omitempty"`
	Says  string  `json:"says,omitempty"`
	// Faults are all bad places found, in order of address.
	Faults []SurfaceFault `json:"faults,omitempty"`
}

// SurfaceFault is one bad place: an address, a number of consecutive bytes, and "not written", "not read" or "differs".
type SurfaceFault struct {
	At    int64  `json:"at"`
	Bytes int64  `json:"bytes"`
	What  string `json:"what"`
}

// looked is the part of the surface that was written and read back.
func (r SurfaceReport) looked() string {
	share := func(n int64) string {
		return fmt.Sprintf("%d of %d bytes (%.1f %%)", n, r.Size, 100*float64(n)/float64(max(1, r.Size)))
	}
	switch {
	case r.State == "finished":
		return fmt.Sprintf("all %d bytes, written with patterns and read back", r.Size)
	case r.Pass == "verify":
		return fmt.Sprintf("all %d bytes, written with patterns; read back: %s", r.Size, share(r.Done))
	}
	return "written with patterns: " + share(r.Done) + "; nothing was read back"
}

// SurfaceSeen records the agent's report of a surface test.
func (s State) SurfaceSeen(at time.Time, r SurfaceReport) (State, []Order) {
	if !s.Outcome.Open() || s.Stage() != Surface {
		return s, nil
	}
	before := s.Surface
	s.Surface = r
	c := record.Check{ID: "surface", Title: "Surface test", Looked: r.looked(), Result: record.Passes}
	switch r.State {
	case "finished":
		c.Found = "everything was read back as it was written"
		s.found(c)
		s.say(at, record.Seen, "its whole surface was written and read back")
		s.Since = at
		s.Outcome = Running
		return s.goOn(at)
	case "failed":
		c.Found, c.Result, c.Do = r.Says, record.Stops, "Send it back."
		s.found(c)
		s.end(at)
	case "paused", "stopped":
		if s.Outcome == Running && before.State != r.State {
			s.Outcome, s.Asked = Paused, false
			s.say(at, record.Seen, "the writing rests at %d of %d bytes: %s", r.Done, r.Size, r.Says)
		}
	case "running":
		if s.Outcome == Paused && before.State != "running" {
			s.Outcome, s.Asked = Running, true
		}
	}
	return s, nil
}

// inner is the pace on the innermost tracks of a rotating drive relative to the outermost: about the ratio of their
// lengths.
const inner = 0.5

// Finish is the estimated end of the surface test, between two times; ok is false while no estimate is possible. The
// soonest assumes the pace so far; the latest assumes that it falls as it does towards the inner tracks.
func (s *State) Finish(now time.Time) (soonest, latest time.Time, ok bool) {
	u := s.Surface
	if s.Outcome != Running || s.Stage() != Surface || u.State != "running" || u.Rate <= 0 || u.Size <= 0 {
		return soonest, latest, false
	}
	left := float64(u.Size - u.Done)
	if u.Pass == "write" {
		left += float64(u.Size)
	}
	after := func(rate float64) time.Time { return now.Add(time.Duration(left / rate * float64(time.Second))) }
	return after(u.Rate), after(u.Rate * inner), true
}
