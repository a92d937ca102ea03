package bounds

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// TestCheck: each kind of bound is enforced, at any depth, by its own figure or the default one.
func TestCheck(t *testing.T) {
	section := func(change func(s *api.SectionReport)) api.Report {
		s := api.SectionReport{Name: "front", Rows: 2, Columns: 6, Lit: []int{1}}
		change(&s)
		return api.Report{Enclosures: []api.EnclosureReport{{Name: "shelf", Sections: []api.SectionReport{s}}}}
	}
	reading := func(r api.Reading) api.Report { return api.Report{Drives: []api.DriveReport{{Reading: r}}} }
	many := map[string]float64{}
	for range 2000 {
		many[strings.Repeat("x", len(many)+1)] = 1
	}
	for says, r := range map[string]api.Report{
		"":                           section(func(*api.SectionReport) {}),
		"rows is 10000; at most 64":  section(func(s *api.SectionReport) { s.Rows = 10000 }),
		"columns is -1; at least 0":  section(func(s *api.SectionReport) { s.Columns = -1 }),
		"lit[0] is 9000":             section(func(s *api.SectionReport) { s.Lit = []int{9000} }),
		"name has 65 characters":     section(func(s *api.SectionReport) { s.Name = strings.Repeat("ä", 65) }),
		"drives has 4001 entries":    {Drives: make([]api.DriveReport, 4001)},
		"metrics has 2000 entries":   reading(api.Reading{Metrics: many}),
		"Report.at is 9999":          {At: time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)},
		"why has 5000 characters":    reading(api.Reading{Unreadable: []api.BadPage{{Why: strings.Repeat("x", 5000)}}}),
		"bytes has 200000 bytes":     reading(api.Reading{Unreadable: []api.BadPage{{Bytes: make([]byte, 200000)}}}),
		"capacity_bytes is -2":       {Drives: []api.DriveReport{{CapacityBytes: -2}}},
		"interval_seconds is 1e+300": {IntervalSeconds: 1e300},
	} {
		if err := Check(r); says == "" {
			require.NoError(t, err)
		} else {
			require.ErrorContains(t, err, says)
		}
	}
}

// FuzzCheck: no report makes it panic.
func FuzzCheck(f *testing.F) {
	f.Add([]byte(`{"drives":[{"reading":{"metrics":{"x":1}}}],"pools":[{"groups":[{}]}]}`))
	f.Fuzz(func(_ *testing.T, in []byte) {
		var r api.Report
		if json.Unmarshal(in, &r) == nil {
			_ = Check(r)
		}
	})
}
