// Package recovery follows any movement that restores or shifts redundancy: how far it is, how fast, and when it may end.
package recovery

import (
	"math"
	"slices"
	"time"

	"lantern/internal/core/drive"
)

// Kind is what is being done.
type Kind string

// The movements.
const (
	Resilver  Kind = "resilver"
	Rebuild   Kind = "rebuild"
	Rebalance Kind = "rebalance"
	Drain     Kind = "drain"
	Scrub     Kind = "scrub"
	Grow      Kind = "grow"
)

// State is where it stands.
type State string

// A recovery that ended is finished, stopped by a person, or failed.
const (
	Running  State = "running"
	Paused   State = "paused"
	Finished State = "finished"
	Stopped  State = "stopped"
	Failed   State = "failed"
)

// Sample is how much was done at one moment, of how much as known then.
type Sample struct {
	At   time.Time   `json:"at"`
	Done drive.Bytes `json:"done"`
	Todo drive.Bytes `json:"todo"` // the whole, not the rest
}

// Range is a finish as three quantiles: one in ten recoveries would end before P10, one in ten after P90.
type Range struct{ P10, P50, P90 time.Time }

// View is what can be said of a recovery at one moment.
type View struct {
	Share       float64 // 0 to 1
	RateNow     float64 // bytes a second, over the newest tenth of the course
	RateOverall float64
	Finish      *Range // nil when nothing can be said yet
	Why         string // when Finish is nil, why
	Stalled     bool
	StalledFor  time.Duration
}

// minSamples is how many moments of progress must have been seen before a finish is named.
const minSamples = 4

// leastSpread is how unsteady, relative to its mean, a rate is taken to be at least: a course seen in few parts looks
// steadier than it is.
const leastSpread = 0.15

// Look says what can be said at now from the course so far, samples in order of time.
//
// The finish is estimated from the rates of the course's parts, weighted towards the newest. Rotating media slow down
// from the outer to the inner tracks to about half (zoned recording), so the rest is taken to run between "as now" and
// "falling on to half of the best rate": the range holds both, and widens with how unsteady the rates were.
func Look(samples []Sample, state State, now time.Time) View {
	var v View
	samples = lastRun(samples)
	if len(samples) == 0 {
		v.Why = "no progress was reported yet"
		return v
	}
	first, last := samples[0], samples[len(samples)-1]
	if last.Todo > 0 {
		v.Share = math.Min(1, float64(last.Done)/float64(last.Todo))
	}
	if d := last.At.Sub(first.At).Seconds(); d > 0 {
		v.RateOverall = float64(last.Done-first.Done) / d
	}
	if state != Running {
		v.Why = "it is " + string(state)
		return v
	}
	parts := rates(samples, 10)
	if len(parts) > 0 {
		v.RateNow = parts[len(parts)-1]
	}
	v.StalledFor = now.Sub(lastProgress(samples))
	v.Stalled = v.StalledFor > stallAfter(samples)
	switch {
	case v.Stalled:
		v.Why = "it makes no progress"
		return v
	case len(samples) < minSamples || v.RateNow <= 0:
		v.Why = "too little progress was seen yet"
		return v
	}
	rest := float64(last.Todo) - float64(last.Done)
	best, mean, spread := weigh(parts)
	slow := math.Min(mean, math.Max(best/2, mean*(0.5+0.5*v.Share)))
	mid := (mean + slow) / 2
	doubt := math.Max(spread, leastSpread) / math.Sqrt(float64(len(parts)))
	at := func(rate float64) time.Time {
		return last.At.Add(time.Duration(rest / rate * float64(time.Second))).Round(time.Second)
	}
	// 1.2816 is the 90th percentile of the standard normal distribution.
	v.Finish = &Range{
		P10: at(mean * (1 + 1.2816*doubt + 0.02)),
		P50: at(mid),
		P90: at(slow / (1 + 1.2816*doubt + 0.05)),
	}
	return v
}

// lastRun leaves out what came before the recovery last began again: its done went backwards.
func lastRun(s []Sample) []Sample {
	for i := len(s) - 1; i > 0; i-- {
		if s[i].Done < s[i-1].Done {
			return s[i:]
		}
	}
	return s
}

func lastProgress(s []Sample) time.Time {
	for i := len(s) - 1; i > 0; i-- {
		if s[i].Done > s[i-1].Done {
			return s[i].At
		}
	}
	return s[0].At
}

// stallAfter is how long without progress is no longer this recovery's habit: five times its longest pause between two
// steps so far, but never under a minute.
func stallAfter(s []Sample) time.Duration {
	longest := 12 * time.Second
	since := s[0].At
	for i := 1; i < len(s); i++ {
		if s[i].Done > s[i-1].Done {
			longest = max(longest, s[i].At.Sub(since))
			since = s[i].At
		}
	}
	return 5 * longest
}

// rates gives the mean rates of up to n parts of equal duration.
func rates(s []Sample, n int) []float64 {
	n = min(n, len(s)-1)
	if n < 1 {
		return nil
	}
	whole := s[len(s)-1].At.Sub(s[0].At)
	var out []float64
	from := s[0]
	for i, j := 1, 1; i < len(s); i++ {
		if s[i].At.Sub(s[0].At) >= whole*time.Duration(j)/time.Duration(n) && s[i].At.After(from.At) {
			out = append(out, float64(s[i].Done-from.Done)/s[i].At.Sub(from.At).Seconds())
			from = s[i]
			for j <= n && s[i].At.Sub(s[0].At) >= whole*time.Duration(j)/time.Duration(n) {
				j++
			}
		}
	}
	return out
}

// weigh gives the best rate, the mean weighted towards the newest, and the relative spread around it.
func weigh(parts []float64) (best, mean, spread float64) {
	best = slices.Max(parts)
	var weights float64
	for i, r := range parts {
		w := math.Pow(2, float64(i))
		mean += w * r
		weights += w
	}
	mean /= weights
	for _, r := range parts {
		spread += (r - mean) * (r - mean)
	}
	spread = math.Sqrt(spread/float64(len(parts))) / mean
	return best, mean, spread
}

// Report is what a pool system says of one of its recoveries at one moment.
type Report struct {
	ID        string // lasting, unique within the fleet
	Kind      Kind
	State     State
	StartedAt time.Time
	EndedAt   time.Time
	Slot      string // the place it fills, if one
	Drive     string // key of the drive it fills, if one
	Sample
	Found        uint64 // errors
	Repaired     uint64
	Unrepairable uint64
	Phase        string // what it does now, in words, if known
	Flows        []Flow // what each member gave and took, where it is known
	Slowest      string // slot of the member that holds it up, if known, and why it is believed to
	SlowestWhy   string
}

// Flow is how much was read from and written to a member for a recovery.
type Flow struct {
	Slot    string      `json:"slot"`
	Read    drive.Bytes `json:"read"`
	Written drive.Bytes `json:"written"`
}

// Priority is what a recovery gets beside the users.
type Priority string

// The three priorities; each pool system maps them on what it has.
const (
	Low    Priority = "low"
	Normal Priority = "normal"
	High   Priority = "high"
)
