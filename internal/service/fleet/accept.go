package fleet

import (
	"fmt"
	"lantern/internal/core/accept"
	"lantern/internal/core/drive"
	"maps"
	"slices"
	"time"
)

// Accepted is how a drive's newest acceptance ended.
type Accepted struct {
	ID    string    `json:"id"`
	State string    `json:"state"`
	At    time.Time `json:"at"`
	Says  string    `json:"says"`
}

// Words tells of it; empty for a drive that has not passed.
func (a Accepted) Words() string {
	if a.State != string(accept.Passed) {
		return ""
	}
	return fmt.Sprintf("accepted by test on %s: %s", a.At.UTC().Format("2006-01-02"), a.Says)
}

// Counts are a drive's newest counters.
func Counts(d *Drive) accept.Counts {
	out := accept.Counts{At: d.Reading.At, Values: map[drive.MetricName]float64{}}
	for _, n := range slices.Sorted(maps.Keys(d.Record)) {
		if p, ok := d.Record[n].Last(); ok {
			out.Values[n] = p.Value
		}
	}
	return out
}
