package selftests

import (
	"lantern/internal/api"
	"lantern/internal/service/fleet"
)

// Take takes the results of tests from the drives themselves (R6). A drive that left its host during a test lost the
// test.
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
