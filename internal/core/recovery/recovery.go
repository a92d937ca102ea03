// Package recovery follows every process that restores or moves redundancy: its progress, its pace, and its estimated
// finish.
package recovery

import (
	"math"
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

// State is the state of a recovery.
type State string

// A recovery that ended is finished, stopped by a person, or failed.
const (
	Running  State = "running"
	Paused   State = "paused"
	Finished State = "finished"
	Stopped  State = "stopped"
	Failed   State = "failed"
)

// Sample is the progress at one moment: bytes done, and the whole as known then.
type Sample struct {
	At   time.Time   `json:"at"`
	Done drive.Bytes `json:"done"`
	Todo drive.Bytes `json:"todo"` // the whole, not the remainder
}

// Range is an estimated finish as three quantiles: one recovery in ten ends before P10, one in ten after P90.
type Range struct{ P10, P50, P90 time.Time }

// View is the description of a recovery at one moment.
type View struct {
	Share       float64 // 0 to 1
	RateNow     float64 // bytes a second, over the newest tenth of the course
	RateOverall float64
	Finish      *Range // nil when no estimate is possible yet
	Why         string // the reason when Finish is nil
	Stalled     bool
	StalledFor  time.Duration
	Again       time.Time // when it restarted from the beginning; zero when it did not
}

// Known holds facts besides the course so far.
type Known struct {
	// Reach is how far the data extends towards the innermost tracks, 0 to 1; 0 for media without tracks, negative when
	// unknown.
	Reach float64
	// Past are the profiles of earlier recoveries of the same kind in the same pool, and Kin of those elsewhere whose
	// drives are of the same model.
	Past, Kin []Profile
	// Told is the range for this same course and knowledge, where it was computed before: computing it takes some
	// milliseconds.
	Told *Range
	// Habit is the longest pause without progress in the pool's earlier recoveries that ended well.
	Habit time.Duration
	// Scores are those of the pool's earlier recoveries (see Scores): how right their ranges were.
	Scores []float64
	// Behind is what it waits for, when the pool does other work first.
	Behind string
}

// minSamples is how many moments of progress must have been seen before a finish is estimated.
const minSamples = 4

// Look describes a recovery at now from its course so far; samples are in order of time.
func Look(samples []Sample, state State, k Known, now time.Time) View {
	var v View
	run := lastRun(samples)
	if len(run) == 0 {
		v.Why = "no progress was reported yet"
		return v
	}
	if len(run) < len(samples) {
		v.Again = run[0].At
	}
	samples = run
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
	if parts := rates(samples, 10); len(parts) > 0 {
		v.RateNow = parts[len(parts)-1]
	}
	v.StalledFor = now.Sub(lastProgress(samples))
	v.Stalled = v.StalledFor > max(stallAfter(samples), 2*k.Habit) && k.Behind == ""
	switch {
	case k.Behind != "" && v.StalledFor > time.Minute:
		v.Why = "it waits behind " + k.Behind
	case v.Stalled:
		v.Why = "it makes no progress"
	case moves(samples) < minSamples || v.RateOverall <= 0:
		v.Why = "too little progress was seen yet"
	case k.Told != nil:
		v.Finish = k.Told
	default:
		if v.Finish = finish(samples, k); v.Finish == nil {
			v.Why = "at the pace seen so far it would take longer than a year"
		}
	}
	return v
}

// moves counts the moments at which progress was seen.
func moves(s []Sample) (n int) {
	for i := 1; i < len(s); i++ {
		if s[i].Done > s[i-1].Done {
			n++
		}
	}
	return n
}

// lastRun omits the samples before the last restart of the recovery, where done went backwards.
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

// stallAfter is the time without progress after which this recovery is called stalled: five times its longest pause
// between two steps so far, but at least a minute.
func stallAfter(s []Sample) time.Duration {
	return max(time.Minute, 5*LongestPause(s))
}

// LongestPause is the longest time between two steps of a course.
func LongestPause(s []Sample) (longest time.Duration) {
	if len(s) == 0 {
		return 0
	}
	since := s[0].At
	for i := 1; i < len(s); i++ {
		if s[i].Done > s[i-1].Done {
			longest = max(longest, s[i].At.Sub(since))
			since = s[i].At
		}
	}
	return longest
}

// rates gives the mean paces of up to n parts of equal duration.
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

// Report is the pool system's report of one of its recoveries at one moment.
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
	Phase        string // its present work, in words, if known
	Flows        []Flow // bytes read from and written to each member, where known
	Slowest      string // slot of the member that limits it, if known, and the reason for that
	SlowestWhy   string
}

// Flow is the number of bytes read from and written to a member for a recovery.
type Flow struct {
	Slot    string      `json:"slot"`
	Read    drive.Bytes `json:"read"`
	Written drive.Bytes `json:"written"`
}

// Priority is the share of I/O that a recovery gets beside the users.
type Priority string

// The three priorities; each pool driver maps them to the settings of its pool system.
const (
	Low    Priority = "low"
	Normal Priority = "normal"
	High   Priority = "high"
)
