package selftests

import (
	"lantern/internal/api"
	"lantern/internal/service/fleet"
)

// Take reads from the drives themselves what became of their tests (R6). A drive that left its host while it was tested
// lost its test.
func (s *State) Take(c *fleet.Change) {
	for _, x := range c.Drives {
		if !x.Newest {
			continue
		}
		s.followTest(c.Batch, x.Key, x.Reading)
		if c.Live {
			s.failedAt(c.Batch, x.Drive)
		}
	}
	for _, key := range c.Gone {
		d := s.fleet.Drives[key]
		if r := s.Runs[key]; r != nil && d != nil && d.Host == c.Host.Name {
			s.endTest(c.Batch, r, api.TestRunStateLost, "it left its host while it was tested")
		}
	}
}
