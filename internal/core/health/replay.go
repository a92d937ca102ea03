package health

import (
	"slices"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/history"
)

// Replay judges the past of one drive, reading by reading, in order of time. Facts other than readings are set in its
// Subject.
type Replay struct {
	Subject
	limits   *Thresholds
	standing []Standing
	verdict  Verdict
	rules    []string
	thinned  time.Time
}

// NewReplay begins with a drive without any known facts.
func NewReplay(limits *Thresholds) *Replay {
	return &Replay{Subject: Subject{Present: true, Record: history.Record{}}, limits: limits, verdict: Sound}
}

// Change is a change of the verdict or of its findings.
type Change struct {
	At       time.Time `json:"at"`
	Drive    string    `json:"drive"`
	From     Verdict   `json:"from"`
	Verdict  Verdict   `json:"verdict"`
	Findings []Finding `json:"findings"`
}

// Read adds one reading; ok is true when the verdict or the findings changed. A reading that is not newer than the one
// before is ignored.
func (r *Replay) Read(at time.Time, metrics map[drive.MetricName]float64) (c Change, ok bool) {
	if r.FirstAt.IsZero() {
		r.FirstAt = at
	} else if !at.After(r.LastAt) {
		return c, false
	}
	r.LastAt = at
	r.Record.Add(at, metrics)
	if at.Sub(r.thinned) > 7*day {
		r.thinned = at
		r.Record.Thin(at)
		for n, s := range r.Record {
			if kept := s.Since(at.Add(-100 * day)); len(kept) > 0 && 2*len(kept) < len(s) {
				r.Record[n] = slices.Clone(kept)
			}
		}
	}
	hits := Evaluate(&r.Subject, r.limits)
	if len(hits)+len(r.standing) == 0 && r.verdict == Sound {
		return c, false
	}
	r.standing = Settle(r.standing, hits, at)
	verdict := VerdictOf(r.standing, false)
	same := verdict == r.verdict && len(r.standing) == len(r.rules)
	for i := 0; same && i < len(r.rules); i++ {
		same = r.rules[i] == r.standing[i].Rule
	}
	if same {
		return c, false
	}
	c = Change{At: at, From: r.verdict, Verdict: verdict}
	c.Findings, _ = Tell(r.standing, false, at)
	r.verdict, r.rules = verdict, r.rules[:0]
	for _, s := range r.standing {
		r.rules = append(r.rules, s.Rule)
	}
	return c, true
}

// Tally measures how good judgements of the past were.
type Tally struct {
	Drives    int
	Failures  int             // drives that failed
	Flagged   int             // of those, how many were flagged "replace" before they failed
	InTime    int             // of those, how many were flagged long enough before
	Leads     []time.Duration // from the first replace to the failure
	SoundFor  float64         // total years of observation of drives that did not fail
	False     int             // drives that did not fail and were flagged "replace"
	ByRule    map[string]int  // first rule that flagged, of drives that failed
	FalseRule map[string]int  // the same, of drives that did not fail
}

// LeadWanted is how long before a failure a flag is useful.
const LeadWanted = 48 * time.Hour

// Add counts one drive: the time of observation, when it failed (zero: it did not), and when it was first flagged
// "replace" (zero: never), by which rule.
func (t *Tally) Add(from, to, failed, replace time.Time, rule string) {
	if t.ByRule == nil {
		t.ByRule, t.FalseRule = map[string]int{}, map[string]int{}
	}
	t.Drives++
	if failed.IsZero() {
		t.SoundFor += to.Sub(from).Hours() / (365 * 24)
		if !replace.IsZero() {
			t.False++
			t.FalseRule[rule]++
		}
		return
	}
	t.Failures++
	if replace.IsZero() || replace.After(failed) {
		return
	}
	lead := failed.Sub(replace)
	t.Flagged++
	t.ByRule[rule]++
	t.Leads = append(t.Leads, lead)
	if lead >= LeadWanted {
		t.InTime++
	}
}

// Merge adds what another tally counted.
func (t *Tally) Merge(o Tally) {
	t.Drives, t.Failures, t.Flagged, t.InTime, t.False = t.Drives+o.Drives, t.Failures+o.Failures,
		t.Flagged+o.Flagged, t.InTime+o.InTime, t.False+o.False
	t.SoundFor += o.SoundFor
	t.Leads = append(t.Leads, o.Leads...)
	if t.ByRule == nil {
		t.ByRule, t.FalseRule = map[string]int{}, map[string]int{}
	}
	for r, n := range o.ByRule {
		t.ByRule[r] += n
	}
	for r, n := range o.FalseRule {
		t.FalseRule[r] += n
	}
}

// Lead is a quantile of the lead times; zero when nothing was flagged.
func (t *Tally) Lead(quantile float64) time.Duration {
	if len(t.Leads) == 0 {
		return 0
	}
	slices.Sort(t.Leads)
	return t.Leads[int(quantile*float64(len(t.Leads)-1))]
}

// FalsePer1000 is the number of false "replace" flags per 1,000 drive years.
func (t *Tally) FalsePer1000() float64 {
	if t.SoundFor == 0 {
		return 0
	}
	return float64(t.False) / t.SoundFor * 1000
}
