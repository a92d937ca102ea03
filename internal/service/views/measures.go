package views

import (
	"cmp"

	"lantern/internal/core/health"
)

// Measures are the values of all drives for monitoring.
type Measures struct {
	// Of drives that are present or have a place in a pool.
	Drives   []DriveMeasure // those that are shown, by host and bay
	Verdicts map[health.Verdict]int
	Findings map[string]int // by rule
}

// DriveMeasure are the values of one drive for monitoring.
type DriveMeasure struct {
	Tail, Serial, Model, Host, Bay, Pool string
	Verdict                              health.Verdict
	Celsius                              float64 // where HasCelsius
	HasCelsius                           bool
}

// Measures gives the present values. shown says of which drives values are given one by one, by their verdicts.
func (s *Service) Measures(shown func(health.Verdict) bool) Measures {
	s.mu.RLock()
	defer s.mu.RUnlock()
	out := Measures{Verdicts: map[health.Verdict]int{}, Findings: map[string]int{}}
	verdicts, places := s.judging.Judge(), s.judging.Places()
	for _, d := range s.fleet.ByPlace() {
		key := d.Key()
		if !d.Present && places[key].Pool == nil {
			continue
		}
		j := verdicts[key]
		out.Verdicts[j.Verdict]++
		for _, f := range j.Findings {
			out.Findings[cmp.Or(string(f.Rule), "unnamed")]++
		}
		if !shown(j.Verdict) {
			continue
		}
		m := DriveMeasure{Tail: d.Desc.Tail(), Serial: d.Desc.Serial, Model: d.Desc.Model, Host: d.Host, Bay: d.BayName(),
			Verdict: j.Verdict}
		if p := places[key].Pool; p != nil {
			m.Pool = p.Name
		}
		if t, ok := d.Record["temperature_celsius"].Last(); ok {
			m.Celsius, m.HasCelsius = t.Value, true
		}
		out.Drives = append(out.Drives, m)
	}
	return out
}
