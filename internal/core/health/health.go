// Package health derives findings with evidence from the facts about a drive, and a verdict from the findings.
//
// Strong evidence can lead to replace, weak evidence to watch at most. The growth of a count matters more than the
// count itself. "Unknown" is a separate verdict.
//
// Evaluate gives the rules that hold, as numbers; Settle keeps a finding open until its cause has been gone for some
// time; Tell writes findings as text.
package health

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/history"
	"lantern/internal/core/pool"
)

// Verdict is the verdict of a drive's worst finding.
type Verdict string

// Sound to dead are in order of severity; unknown is outside this order and is treated as neither good nor bad. A
// finding with the verdict sound is a remark: it is shown on the drive's own page and does not change the verdict.
const (
	Sound   Verdict = "sound"
	Unknown Verdict = "unknown"
	Watch   Verdict = "watch"
	Replace Verdict = "replace"
	Dead    Verdict = "dead"
)

// Gravity orders verdicts, sound first.
func (v Verdict) Gravity() int {
	switch v {
	case Unknown:
		return 1
	case Watch:
		return 2
	case Replace:
		return 3
	case Dead:
		return 4
	}
	return 0
}

// Evidence is one observed value a finding rests on.
type Evidence struct {
	Metric drive.MetricName `json:"metric,omitempty"`
	Says   string           `json:"says"` // the value with its unit, in words
	At     time.Time        `json:"at"`
	Source string           `json:"source"`
}

// Finding is a rule that holds for a drive, in words.
type Finding struct {
	Rule     string           `json:"rule"`
	Verdict  Verdict          `json:"verdict"`
	Strength drive.Strength   `json:"strength"`
	Says     string           `json:"says"` // one sentence, without the drive's name
	Do       string           `json:"do"`   // the next action
	Since    time.Time        `json:"since"`
	Evidence []Evidence       `json:"evidence"`
	Metric   drive.MetricName `json:"metric,omitempty"` // the metric of its chart
	// Growth is the growth of the metric within a day: growing findings come before constant ones.
	Growth float64 `json:"growth"`
	// Idle is true when nothing is to be done about it now.
	Idle bool `json:"idle"`
}

// Hit is a rule that holds, as numbers. It contains what its text needs, so that a finding can still be shown when its
// rule no longer holds.
type Hit struct {
	Rule    string           `json:"rule"`
	Verdict Verdict          `json:"verdict"`
	Since   time.Time        `json:"since"`
	At      time.Time        `json:"at"` // of the newest value it rests on
	Metric  drive.MetricName `json:"metric,omitempty"`
	Growth  float64          `json:"growth,omitempty"`
	Idle    bool             `json:"idle,omitempty"`
	// Source is the source of the metric; empty where it is not known.
	Source string `json:"source,omitempty"`
	// N and Text are the values that the rule measured, in the order that its text expects.
	N    [4]float64 `json:"n"`
	Text []string   `json:"text,omitempty"`
}

// Own is the prefix of the ids of people's own rules. Their hits carry their texts: title, action, then evidence.
const Own = "own:"

// ownHold is how long a finding of such a rule stays open.
const ownHold = day

// Standing is a hit that was raised and not cleared yet.
type Standing struct {
	Hit
	Raised time.Time `json:"raised"`
	Seen   time.Time `json:"seen"`  // when its rule last held
	Grave  time.Time `json:"grave"` // when it last held with this verdict
}

// Sibling is a drive that has something in common with this one and failed.
type Sibling struct {
	Tail string
	Why  string // what makes it a sibling
	At   time.Time
	// Hours is true when they share only their power-on hours, which gives only a remark.
	Hours bool
}

// Stay is a time in a bay; To is zero while it lasts.
type Stay struct {
	Bay      string
	From, To time.Time
}

// Shift is an unexpected place of a drive, as found by package enclosure.
type Shift struct {
	Kind  enclosure.MoveKind
	Says  string // without the drive's name in front
	Do    string
	Since time.Time
}

// Group holds robust statistics of the same metric of peers or neighbours: a single bad value does not change them.
type Group struct {
	N      int
	Median float64
	MAD    float64 // median of the absolute deviations from the median
}

// Robust computes a group from values; it sorts them.
func Robust(values []float64) (g Group) {
	if g.N = len(values); g.N == 0 {
		return g
	}
	g.Median = median(values)
	for i, v := range values {
		values[i] = max(v-g.Median, g.Median-v)
	}
	g.MAD = median(values)
	return g
}

func median(v []float64) float64 {
	slices.Sort(v)
	if n := len(v); n%2 == 0 {
		return (v[n/2-1] + v[n/2]) / 2
	}
	return v[len(v)/2]
}

// sigma makes a MAD comparable to a standard deviation of a normal distribution (Rousseeuw and Croux 1993).
const sigma = 1.4826

// Subject holds all known facts about one drive at one moment.
type Subject struct {
	FirstAt   time.Time // when it was first seen
	LastAt    time.Time // newest reading, or when it was last seen for a drive that cannot be read
	Present   bool      // answered in its host's newest report
	GoneAt    time.Time // when it was last seen, for one that is not present
	Removed   bool      // removed on purpose: not a fault
	HostLate  bool      // its host's reports stopped coming
	Blind     string    // why it gives no health data; empty when it does
	Contested string    // why its identity is not known; empty when it is known
	Bad       *drive.Unreadable
	Failing   bool     // the drive itself predicts its failure
	Warnings  []string // NVMe: critical warnings
	Medium    drive.Medium
	Record    history.Record
	// Sources are the sources of the newest value of each metric, where known.
	Sources map[drive.MetricName]string
	Tests   []drive.SelfTest // newest first
	// SectorHolds is what its pool stores at FailedLBA, where a self-test stopped; empty when unknown.
	SectorHolds string
	FailedLBA   int64
	// Stalled is since when its running self-test has made no progress; zero when none is stalled.
	Stalled time.Time
	// TestsTold is true when its self-test capability is known; CanTest is false when it supports none.
	TestsTold, CanTest bool
	// Peers are the read latencies, in seconds, of its group's other members; Neighbours the temperatures, in degrees
	// Celsius, of the other drives in its section of its enclosure.
	Peers, Neighbours Group
	// Filling is true while a recovery writes to it: it may be slow.
	Filling bool
	Member  pool.MemberState // empty when in no pool; of several places the worst
	// Used is true when something that belongs to no pool used the drive when it was last seen.
	Used bool
	// Paths are the paths to it, where there are or were several.
	Paths    []Path
	Siblings []Sibling
	Stays    []Stay // the bays it was in, in order of time
	// BayMates are the tails of other drives whose links were bad while they were in the bay where it is now.
	BayMates []string
	// Shift says what is unexpected about its place; empty when nothing is.
	Shift Shift
	// CleanScrub is when the last scrub of its pool without errors ended; zero when there was none.
	CleanScrub time.Time
}

// Path is one path from a host to a drive.
type Path struct {
	Name, Port string
	Works      bool
	SeenAt     time.Time // when it was last there
}

// Evaluate gives the rules that hold. Rules about facts that cannot be known while the host is not reporting are left
// out.
func Evaluate(s *Subject, t *Thresholds) []Hit {
	return evaluate(s, t, func(*Rule) bool { return true })
}

// EvaluateSiblings gives the rules that hold among those that depend only on a drive's siblings.
func EvaluateSiblings(siblings []Sibling, now time.Time, t *Thresholds) []Hit {
	return evaluate(
		&Subject{LastAt: now, Present: true, Siblings: siblings},
		t,
		func(r *Rule) bool { return r.ofSiblings },
	)
}

func evaluate(s *Subject, t *Thresholds, asked func(*Rule) bool) []Hit {
	var out []Hit
	for i := range rules {
		r := &rules[i]
		if t.off[r.ID] || !asked(r) {
			continue
		}
		h := r.holds(s, t)
		if h == nil {
			continue
		}
		h.Rule = r.ID
		if h.Verdict.Gravity() > r.Level.Gravity() {
			h.Verdict = r.Level // weak evidence leads to "watch" at most
		}
		if h.At.IsZero() {
			h.At = s.LastAt
		}
		if h.Metric != "" {
			h.Source = s.Sources[h.Metric]
		}
		out = append(out, *h)
	}
	return out
}

// Settle applies hysteresis to findings. A rule that holds raises or keeps its finding. A finding whose rule no longer
// holds stays open for the time that the rule sets, and a lower verdict replaces a worse one only after the same time.
// So findings do not appear and vanish with every reading.
func Settle(before []Standing, hits []Hit, now time.Time) []Standing {
	out := make([]Standing, 0, len(hits))
	taken := 0
	for _, h := range hits {
		s := Standing{Hit: h, Raised: now, Seen: now, Grave: now}
		if i := slices.IndexFunc(before, func(b Standing) bool { return b.Rule == h.Rule }); i >= 0 {
			taken++
			was := before[i]
			s.Raised = was.Raised
			if was.Verdict.Gravity() > h.Verdict.Gravity() && now.Sub(was.Grave) < holdOf(h.Rule) {
				// It is better, but not yet for long enough.
				was.Seen = now
				s = was
			}
		}
		out = append(out, s)
	}
	if taken == len(before) {
		return out
	}
	for _, was := range before {
		if !slices.ContainsFunc(hits, func(h Hit) bool { return h.Rule == was.Rule }) &&
			now.Sub(was.Seen) < holdOf(was.Rule) {
			out = append(out, was)
		}
	}
	return out
}

func holdOf(id string) time.Duration {
	if r := ruleOf(id); r != nil {
		return r.Hold
	}
	if strings.HasPrefix(id, Own) {
		return ownHold
	}
	return 0
}

// Tell writes the open findings as text, the worst first, and gives the verdict.
func Tell(standing []Standing, hostLate bool, now time.Time) ([]Finding, Verdict) {
	out := make([]Finding, 0, len(standing))
	for _, s := range standing {
		out = append(out, s.Finding(now))
	}
	slices.SortStableFunc(out, func(a, b Finding) int {
		return cmp.Or(
			-cmp.Compare(a.Verdict.Gravity(), b.Verdict.Gravity()),
			-cmp.Compare(a.Growth, b.Growth),
			a.Since.Compare(b.Since),
		)
	})
	return out, VerdictOf(standing, hostLate)
}

// VerdictOf gives the verdict of a drive's worst finding. While its host is not reporting, earlier findings stay open,
// but the present state is not known (R7).
func VerdictOf(standing []Standing, hostLate bool) Verdict {
	if hostLate {
		return Unknown
	}
	v := Sound
	for _, s := range standing {
		if s.Verdict.Gravity() > v.Gravity() {
			v = s.Verdict
		}
	}
	return v
}

// Finding writes one standing hit as text.
func (s Standing) Finding(now time.Time) Finding {
	f := Finding{Rule: s.Rule, Verdict: s.Verdict, Since: s.Since, Metric: s.Metric, Growth: s.Growth, Idle: s.Idle}
	r := ruleOf(s.Rule)
	if strings.HasPrefix(s.Rule, Own) && len(s.Text) >= 2 {
		f.Says, f.Do, f.Strength = s.Text[0], s.Text[1], drive.Strong
		for _, says := range s.Text[2:] {
			f.Evidence = append(f.Evidence, Evidence{Metric: s.Metric, Says: says, At: s.At, Source: "rule " + s.Rule})
		}
		if f.Since.IsZero() {
			f.Since = s.Raised
		}
		return f
	}
	if r == nil {
		f.Says, f.Do, f.Strength = "was found by the rule "+s.Rule+", which is gone", "Look at its numbers.", drive.Weak
		f.Evidence = []Evidence{{Says: "the rule held", At: s.Seen, Source: s.Rule}}
		return f
	}
	f.Strength = r.Strength
	f.Says, f.Do, f.Evidence = r.words(s.Hit)
	for i := range f.Evidence {
		if e := &f.Evidence[i]; e.Metric != "" && e.Metric == s.Metric && e.Source == "" {
			e.Source = drive.SourceOf(s.Metric, s.Source)
		}
	}
	if f.Do == "" {
		f.Do = r.Do
	}
	if f.Since.IsZero() {
		f.Since = s.Raised
	}
	if s.Seen.Before(now) && !s.Seen.IsZero() {
		f.Evidence = append(
			f.Evidence,
			Evidence{
				Metric: s.Metric,
				Says:   "no longer true; the finding stays until that has lasted for " + span(r.Hold),
				At:     s.Seen,
				Source: "rule " + r.ID,
			},
		)
	}
	return f
}
