// Package notice keeps one notice per matter, not one per reading. A notice opens when its matter appears, is updated
// while it gets worse or better, and closes by itself when the matter is gone.
package notice

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/core/health"
)

// Kind distinguishes matters that must never be confused: a pool that fills up is not a pool that fails.
type Kind string

// The kinds.
const (
	Drive    Kind = "drive"
	Section  Kind = "section" // several drives of one section at once: a shelf, a fan, a cable
	Host     Kind = "host"
	Filling  Kind = "filling"
	Pool     Kind = "pool" // the state of a whole pool is unknown
	Recovery Kind = "recovery"
	Alarm    Kind = "alarm"   // a drive that must be put back at once
	Place    Kind = "place"   // a drive is not where it was
	Shelf    Kind = "shelf"   // a part of an enclosure
	Service  Kind = "service" // the service itself cannot do its work
)

// Matter is something that people should know now.
type Matter struct {
	Key      string // the same as long as it is the same matter
	Kind     Kind
	Severity health.Verdict // watch, replace, dead, or unknown for a host that is not reporting
	Says     string
	Do       string
	Host     string
	Pool     string
	Bay      string
	Drives   []string // keys
}

// Same reports whether two matters have the same content.
func (m Matter) Same(as Matter) bool {
	return m.Key == as.Key && m.Kind == as.Kind && m.Severity == as.Severity && m.Says == as.Says && m.Do == as.Do &&
		m.Host == as.Host && m.Pool == as.Pool && m.Bay == as.Bay && slices.Equal(m.Drives, as.Drives)
}

// Notice is a matter that people are or were notified of.
type Notice struct {
	ID string `json:"id"`
	Matter
	Opened  time.Time      `json:"opened"`
	Changed time.Time      `json:"changed"` // when it last got worse or better
	Closed  time.Time      `json:"closed"`  // zero while it is open
	Worst   health.Verdict `json:"worst"`
	// Acknowledged is who saw it, and its severity then.
	Acknowledged *Ack `json:"acknowledged,omitempty"`
	// Muted is the time until which no messages are sent about it; zero when it is not muted.
	Muted time.Time `json:"muted"`
	// MutedWhy is the reason given for muting.
	MutedWhy string `json:"muted_why,omitempty"`
	// Told are the channels that got a message about it: they also get its updates and its end.
	Told []string `json:"told,omitempty"`
}

// Ack records that a person saw a notice.
type Ack struct {
	By       string         `json:"by"`
	Note     string         `json:"note"`
	At       time.Time      `json:"at"`
	Severity health.Verdict `json:"severity"`
}

// Open reports whether the matter is not gone yet.
func (n Notice) Open() bool { return n.Closed.IsZero() }

// Quiet reports whether no message is to be sent now: somebody saw it or muted it, and it did not get worse since.
func (n Notice) Quiet(now time.Time) bool { return n.Acknowledged != nil || now.Before(n.Muted) }

// Turn is a kind of change of a notice.
type Turn string

// The kinds of changes.
const (
	Opened Turn = "opened"
	Worse  Turn = "got worse"
	Better Turn = "got better"
	Closed Turn = "closed"
)

// Change is a notice that changed, with the kind of change.
type Change struct {
	Turn Turn
	Notice
}

// rank orders severities of notices: unknown is above none and below all others.
func rank(v health.Verdict) int { return v.Gravity() }

// Update takes the present matters and gives the open notices and the changes. newID gives ids for new ones. A notice
// that gets worse is sent again, even if it was acknowledged or muted.
func Update(open []Notice, matters []Matter, now time.Time, newID func() string) (out []Notice, changes []Change) {
	of := map[string]Matter{}
	for _, m := range matters {
		if was, twice := of[m.Key]; !twice || rank(m.Severity) > rank(was.Severity) {
			of[m.Key] = m
		}
	}
	for _, n := range open {
		m, still := of[n.Key]
		if !still {
			n.Closed = now
			changes = append(changes, Change{Closed, n})
			continue
		}
		delete(of, n.Key)
		before := n.Severity
		n.Matter = m
		switch {
		case rank(m.Severity) > rank(before):
			n.Changed = now
			if rank(m.Severity) > rank(n.Worst) {
				n.Worst = m.Severity
			}
			if n.Acknowledged != nil && rank(m.Severity) > rank(n.Acknowledged.Severity) {
				n.Acknowledged = nil
			}
			n.Muted = time.Time{}
			changes = append(changes, Change{Worse, n})
		case rank(m.Severity) < rank(before):
			n.Changed = now
			changes = append(changes, Change{Better, n})
		}
		out = append(out, n)
	}
	var fresh []Matter
	for _, m := range of {
		fresh = append(fresh, m)
	}
	slices.SortFunc(fresh, func(a, b Matter) int { return strings.Compare(a.Key, b.Key) })
	for _, m := range fresh {
		n := Notice{ID: newID(), Matter: m, Opened: now, Changed: now, Worst: m.Severity}
		out = append(out, n)
		changes = append(changes, Change{Opened, n})
	}
	return out, changes
}

// Rank sorts notices for display: unseen ones first, then the worse, then the older.
func Rank(all []Notice, now time.Time) {
	slices.SortStableFunc(all, func(a, b Notice) int {
		quiet := func(n Notice) int {
			switch {
			case !n.Open():
				return 2
			case n.Quiet(now):
				return 1
			}
			return 0
		}
		return cmp.Or(
			cmp.Compare(quiet(a), quiet(b)),
			-cmp.Compare(rank(a.Severity), rank(b.Severity)),
			a.Opened.Compare(b.Opened),
			strings.Compare(a.Key, b.Key),
		)
	})
}

// Said is the input of one drive: its verdict and the rules behind it.
type Said struct {
	Key, Tail, Host, Section, Bay, Pool string
	Verdict                             health.Verdict
	Findings                            []health.Finding
}

// shared are the rules that point to a shared cause when several drives of one section have them at once.
var shared = map[string]string{
	"vanished":               "do not answer any more: look at the shelf, its power and its cable first",
	"too-hot":                "are too hot: look at the cooling",
	"hotter-than-neighbours": "are far warmer than their neighbours: look at the fans",
	"link-crc":               "have bad links: look at the cable or the backplane they share",
}

// together is the least number of drives of a section that make one matter.
const together = 3

// OfDrives makes matters from the verdicts of drives: one for each drive, for any number of findings; one for a section
// when several of its drives have a finding with a possible shared cause.
func OfDrives(all []Said) (out []Matter) {
	type place struct{ host, section, rule string }
	crowd := map[place][]Said{}
	for _, s := range all {
		for _, f := range s.Findings {
			if shared[f.Rule] != "" && s.Section != "" && f.Verdict.Gravity() >= health.Watch.Gravity() {
				at := place{s.Host, s.Section, f.Rule}
				crowd[at] = append(crowd[at], s)
			}
		}
	}
	taken := map[string]string{} // shared findings of each drive, by its key
	for at, drives := range crowd {
		if len(drives) < together {
			continue
		}
		m := Matter{
			Key:      "section/" + at.host + "/" + at.section + "/" + at.rule,
			Kind:     Section,
			Host:     at.host,
			Severity: health.Watch,
			Says: fmt.Sprintf(
				"%d drives of %s/%s %s",
				len(drives),
				at.host,
				at.section,
				shared[at.rule],
			),
			Do: "One common cause is more likely than many.",
		}
		for _, s := range drives {
			m.Drives = append(m.Drives, s.Key)
			for _, f := range s.Findings {
				if f.Rule == at.rule && f.Verdict.Gravity() > m.Severity.Gravity() {
					m.Severity = f.Verdict
				}
			}
			taken[s.Key+" "+at.rule] = at.rule
		}
		slices.Sort(m.Drives)
		out = append(out, m)
	}
	for _, s := range all {
		var worst *health.Finding
		for i, f := range s.Findings {
			if f.Idle || f.Verdict.Gravity() < health.Watch.Gravity() || taken[s.Key+" "+f.Rule] != "" {
				continue
			}
			if worst == nil || f.Verdict.Gravity() > worst.Verdict.Gravity() {
				worst = &s.Findings[i]
			}
		}
		if worst != nil {
			out = append(
				out,
				Matter{
					Key:      "drive/" + s.Key,
					Kind:     Drive,
					Severity: worst.Verdict,
					Says:     s.Tail + " " + worst.Says,
					Do:       worst.Do,
					Host:     s.Host,
					Pool:     s.Pool,
					Bay:      s.Bay,
					Drives:   []string{s.Key},
				},
			)
		}
	}
	return out
}

// Fullness is the fill level of a pool over time.
type Fullness struct {
	Pool     string
	ID       string
	Used     float64 // bytes
	Capacity float64
	PerDay   float64 // growth in bytes a day; zero or less when it does not fill up
}

// Fill levels at which people are notified.
const (
	FillingAt = 0.80
	NearlyAt  = 0.90
)

// OfFilling makes a matter for a pool that fills up; ok is false when it does not.
func OfFilling(f Fullness, now time.Time) (m Matter, ok bool) {
	if f.Capacity <= 0 || f.Used/f.Capacity < FillingAt {
		return m, false
	}
	m = Matter{
		Key:      "filling/" + f.ID,
		Kind:     Filling,
		Severity: health.Watch,
		Pool:     f.Pool,
		Says:     fmt.Sprintf("%s is %.0f %% full", f.Pool, 100*f.Used/f.Capacity),
		Do:       "Make space, or plan for more.",
	}
	if f.Used/f.Capacity >= NearlyAt {
		m.Severity = health.Replace
		m.Do = "Make space now: a full pool can neither be written to nor be repaired."
	}
	if days := (f.Capacity - f.Used) / f.PerDay; f.PerDay > 0 && days < 5*365 {
		m.Says += fmt.Sprintf(
			", and full on about %s at the present rate",
			now.Add(time.Duration(days*24)*time.Hour).Format("2006-01-02"),
		)
	}
	return m, true
}
