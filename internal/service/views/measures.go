package views

import (
	"cmp"
	"slices"

	"lantern/internal/core/health"
	"lantern/internal/service/fleet"
)

// Measures are the values of all drives for monitoring.
type Measures struct {
	Drives   []DriveMeasure // those that are present or have a place in a pool, by host and bay
	Findings map[string]int // by rule
}

// DriveMeasure are the values of one drive for monitoring.
type DriveMeasure struct {
	Tail, Serial, Model, Host, Bay, Pool string
	Verdict                              health.Verdict
	Celsius                              float64 // where HasCelsius
	HasCelsius                           bool
}

// Measures gives the present values.
func (s *Service) Measures() Measures {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := Measures{Findings: map[string]int{}}
	verdicts, places := s.judging.Judge(), s.judging.Places()
	drives := make([]*fleet.Drive, 0, len(s.fleet.Drives))
	for key, d := range s.fleet.Drives {
		if d.Present || places[key].Pool != nil {
			drives = append(drives, d)
		}
	}
	slices.SortFunc(drives, fleet.ByPlace)
	for _, d := range drives {
		key := d.Key()
		m := DriveMeasure{Tail: d.Desc.Tail(), Serial: d.Desc.Serial, Model: d.Desc.Model, Host: d.Host, Bay: d.BayName(),
			Verdict: verdicts[key].Verdict}
		if p := places[key].Pool; p != nil {
			m.Pool = p.Name
		}
		if t, ok := d.Record["temperature_celsius"].Last(); ok {
			m.Celsius, m.HasCelsius = t.Value, true
		}
		out.Drives = append(out.Drives, m)
		for _, f := range verdicts[key].Findings {
			out.Findings[cmp.Or(string(f.Rule), "unnamed")]++
		}
	}
	return out
}
