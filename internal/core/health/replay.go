package health

import (
	"slices"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/history"
)

// Replay judges the past of one drive, reading by reading, in order of time. What is known beside its numbers is set in
// its Subject.
type Replay struct {
	Subject
	limits   *Thresholds
	standing []Standing
	verdict  Verdict
	rules    []string
	thinned  time.Time
}

// NewReplay begins with a drive of which nothing is known yet.
func NewReplay(limits *Thresholds) *Replay {
	return &Replay{Subject: Subject{Present: true, Record: history.Record{}}, limits: limits, verdict: Sound}
}

// Change is a verdict, or what it rests on, that became another.
type Change struct {
	At       time.Time `json:"at"`
	Drive    string    `json:"drive"`
	From     Verdict   `json:"from"`
	Verdict  Verdict   `json:"verdict"`
	Findings []Finding `json:"findings"`
}

// Read takes one reading in; ok is true when verdict or findings changed. A reading that is not newer than the one
// before is passed over.
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

// Tally says how good judgements of the past were.
type Tally struct {
	Drives    int
	Failures  int             // drives that failed
	Flagged   int             // of those, how many were to be replaced before they did
	InTime    int             // of those, how many long enough before
	Leads     []time.Duration // from the first replace to the failure
	SoundFor  float64         // years, all together, in which drives that did not fail were watched
	False     int             // drives that did not fail and were to be replaced
	ByRule    map[string]int  // which rule was the first to say so of drives that failed
	FalseRule map[string]int  // and of drives that did not
}

// LeadWanted is how long before a failure a person wants to know.
const LeadWanted = 48 * time.Hour

// Add counts one drive: when it was watched, when it failed (zero: it did not), and when it was first to be replaced
// (zero: never), by which rule.
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

// FalsePer1000 is how many drives that did not fail were to be replaced, for 1,000 years of such drives.
func (t *Tally) FalsePer1000() float64 {
	if t.SoundFor == 0 {
		return 0
	}
	return float64(t.False) / t.SoundFor * 1000
}
