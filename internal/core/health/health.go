// Package health turns what is known of a drive into findings with their evidence, and findings into a verdict.
//
// Strong evidence can say replace. Weak evidence can say watch and no more. How fast a number grows matters more than
// what it is. Not knowing is a verdict of its own.
package health

import (
	"cmp"
	"slices"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/history"
	"lantern/internal/core/pool"
)

// Verdict is what a drive's gravest finding makes of it.
type Verdict string

// Sound to dead are in order of gravity; unknown stands apart and is never taken for either end.
const (
	Sound   Verdict = "sound"
	Unknown Verdict = "unknown"
	Watch   Verdict = "watch"
	Replace Verdict = "replace"
	Dead    Verdict = "dead"
)

var gravity = map[Verdict]int{Sound: 0, Unknown: 1, Watch: 2, Replace: 3, Dead: 4}

// Gravity orders verdicts, sound first.
func (v Verdict) Gravity() int { return gravity[v] }

// Evidence is one observed value a finding rests on.
type Evidence struct {
	Metric drive.MetricName `json:"metric,omitempty"`
	Says   string           `json:"says"` // the value with its unit, in words
	At     time.Time        `json:"at"`
	Source string           `json:"source"`
}

// Finding is a rule that holds for a drive.
type Finding struct {
	Rule     string           `json:"rule"`
	Verdict  Verdict          `json:"verdict"`
	Strength drive.Strength   `json:"strength"`
	Says     string           `json:"says"` // one sentence, without the drive's name
	Do       string           `json:"do"`   // the next action
	Since    time.Time        `json:"since"`
	Evidence []Evidence       `json:"evidence"`
	Metric   drive.MetricName `json:"metric,omitempty"` // the metric to draw
	// Growth is how much the metric grew within a day: findings that grow come before those that stand.
	Growth float64 `json:"growth"`
	// Idle is true when nothing is to be done about it now.
	Idle bool `json:"idle"`
}

// Sibling is a drive of the same batch that failed.
type Sibling struct {
	Tail string
	Why  string // what makes it a sibling
	At   time.Time
}

// Subject is everything that is known of one drive at one moment.
type Subject struct {
	FirstAt  time.Time // when it was first seen
	LastAt   time.Time // newest reading, or newest sight for a drive that cannot be read
	Present  bool      // answered in its host's newest report
	GoneAt   time.Time // when it was last seen, for one that is not present
	Removed  bool      // taken out on purpose: not a fault
	HostLate bool      // its host's reports stopped coming
	Blind    string    // why it cannot tell about itself; empty when it can
	Bad      *drive.Unreadable
	Failing  bool // SMART RETURN STATUS
	Record   history.Record
	Tests    []drive.SelfTest // newest first
	// PeerLatency is the median read latency of its group's other members, in seconds; 0 when unknown.
	PeerLatency float64
	// Filling is true while a recovery writes to it: it may be slow.
	Filling  bool
	Member   pool.MemberState // empty when in no pool
	Siblings []Sibling
}

// Judge gives the findings that hold, the gravest first, and the verdict they make.
func Judge(s Subject) ([]Finding, Verdict) {
	var out []Finding
	for _, r := range rules {
		if f, ok := r.holds(s); ok {
			f.Rule = r.id
			f.Strength = r.strength
			if (f.Strength == drive.Weak || f.Strength == drive.Path) && f.Verdict.Gravity() > Watch.Gravity() {
				f.Verdict = Watch // weak evidence says watch and no more, whatever its rule thinks
			}
			out = append(out, f)
		}
	}
	slices.SortStableFunc(out, func(a, b Finding) int {
		return cmp.Or(
			-cmp.Compare(a.Verdict.Gravity(), b.Verdict.Gravity()),
			-cmp.Compare(a.Growth, b.Growth),
			a.Since.Compare(b.Since),
		)
	})
	switch {
	case s.HostLate:
		// What was found still stands in the list, but what is true now is not known (R7).
		return out, Unknown
	case len(out) == 0:
		return nil, Sound
	}
	return out, out[0].Verdict
}
