package readings

import (
	"errors"
	"fmt"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/store"
)

// Line is one reading in an export.
type Line struct {
	Drive   string      `json:"drive"`
	At      time.Time   `json:"at"`
	Metrics api.Metrics `json:"metrics"`
}

// mostRefused is the number of refused lines that are reported.
const mostRefused = 100

// Import adds readings of the past, a batch at a time; next gives the lines until it returns false. An existing reading
// of a drive at the same time is kept.
func (s *Service) Import(next func() (Line, error, bool)) (out api.Imported, err error) {
	out.Refused = []api.RefusedLine{}
	const together = 500
	for n, more := 0, true; more; {
		// A slow sender must not delay the service: lines are read before the lock is taken.
		type arrived struct {
			Line
			bad error
		}
		var lines []arrived
		for more && len(lines) < together {
			var l arrived
			if l.Line, l.bad, more = next(); more {
				lines = append(lines, l)
			}
		}
		s.mu.Lock()
		b, here := &store.Batch{Observed: true}, map[string]bool{} // already in this batch
		for _, l := range lines {
			n++
			known, bad := false, l.bad
			if bad == nil {
				known, bad = s.importOne(b, here, l.Line)
			}
			switch {
			case bad != nil && len(out.Refused) < mostRefused:
				out.Refused = append(out.Refused, api.RefusedLine{Line: n, Why: bad.Error()})
			case bad != nil:
			case known:
				out.Known++
			default:
				out.Taken++
			}
		}
		err := s.Commit(b)
		s.mu.Unlock()
		if err != nil {
			return out, err
		}
	}
	return out, nil
}

func (s *State) importOne(b *store.Batch, here map[string]bool, l Line) (known bool, err error) {
	d, err := s.fleet.FindDrive(l.Drive)
	if err != nil {
		return false, err
	}
	if l.At.IsZero() || l.At.After(s.Clock.Now()) {
		return false, fmt.Errorf("its time is %s, which is not in the past", l.At.Format(time.RFC3339))
	}
	for n, v := range l.Metrics {
		m, ok := drive.MetricByName(drive.MetricName(n))
		if !ok {
			return false, fmt.Errorf("no metric %q; did you mean %s?", n, drive.Nearest(n))
		}
		if why := m.Implausible(v); why != "" {
			return false, fmt.Errorf("%s: %s", n, why)
		}
	}
	if len(l.Metrics) == 0 {
		return false, errors.New("it has no metrics")
	}
	key := d.Key()
	id := key + l.At.UTC().Format(" 2006-01-02T15:04:05.000")
	if here[id] {
		return true, nil
	}
	if known, err = s.has(key, l.At); err != nil || known {
		return known, err
	}
	here[id] = true
	s.Keep(b, key, d, l.At, l.Metrics)
	return false, nil
}
