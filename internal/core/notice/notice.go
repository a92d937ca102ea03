// Package notice keeps one notice per matter, not one per reading: it opens when a matter comes up, follows it while it
// gets worse or better, and closes by itself when the matter is gone.
package notice

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/core/health"
)

// Kind tells matters apart that must never be mistaken for each other: a pool that fills up is not one that fails.
type Kind string

// The kinds.
const (
	Drive    Kind = "drive"
	Section  Kind = "section" // several drives of one section at once: a shelf, a fan, a cable
	Host     Kind = "host"
	Filling  Kind = "filling"
	Pool     Kind = "pool" // a pool as a whole is not known to be as it was
	Recovery Kind = "recovery"
	Alarm    Kind = "alarm"   // a drive that must be put back at once
	Place    Kind = "place"   // a drive is not where it was
	Shelf    Kind = "shelf"   // a part of an enclosure
	Service  Kind = "service" // the service itself cannot do its work
)

// Matter is something that people ought to know now.
type Matter struct {
	Key      string // the same as long as it is the same matter
	Kind     Kind
	Severity health.Verdict // watch, replace, dead, or unknown for a host that is silent
	Says     string
	Do       string
	Host     string
	Pool     string
	Bay      string
	Drives   []string // keys
}

// Same says whether two matters say the same.
func (m Matter) Same(as Matter) bool {
	return m.Key == as.Key && m.Kind == as.Kind && m.Severity == as.Severity && m.Says == as.Says && m.Do == as.Do &&
		m.Host == as.Host && m.Pool == as.Pool && m.Bay == as.Bay && slices.Equal(m.Drives, as.Drives)
}

// Notice is a matter that people were or are told of.
type Notice struct {
	ID string `json:"id"`
	Matter
	Opened  time.Time      `json:"opened"`
	Changed time.Time      `json:"changed"` // when it last got worse or better
	Closed  time.Time      `json:"closed"`  // zero while it is open
	Worst   health.Verdict `json:"worst"`
	// Acknowledged says who saw it, and how grave it was then.
	Acknowledged *Ack `json:"acknowledged,omitempty"`
	// Muted is until when nothing is said of it; zero when it is not.
	Muted time.Time `json:"muted"`
	// MutedWhy is why, as whoever muted it said.
	MutedWhy string `json:"muted_why,omitempty"`
	// Told are the channels that a message about it was given to: they are told how it goes on, and how it ends.
	Told []string `json:"told,omitempty"`
}

// Ack is somebody's word that they saw a notice.
type Ack struct {
	By       string         `json:"by"`
	Note     string         `json:"note"`
	At       time.Time      `json:"at"`
	Severity health.Verdict `json:"severity"`
}

// Open says whether the matter is not gone yet.
func (n Notice) Open() bool { return n.Closed.IsZero() }

// Quiet says whether nothing is to be said of it now: somebody saw it, or muted it, and it did not get worse since.
func (n Notice) Quiet(now time.Time) bool { return n.Acknowledged != nil || now.Before(n.Muted) }

// Turn is what became of a notice.
type Turn string

// The turns of a notice.
const (
	Opened Turn = "opened"
	Worse  Turn = "got worse"
	Better Turn = "got better"
	Closed Turn = "closed"
)

// Change is a notice that took a turn.
type Change struct {
	Turn Turn
	Notice
}

// rank orders severities for notices: what is not known is graver than nothing and milder than anything that is.
func rank(v health.Verdict) int { return v.Gravity() }

// Update takes the matters of now and gives back the open notices and what changed. newID names new ones. A notice that
// gets worse is sent again, whoever acknowledged or muted it.
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

// Rank puts notices in the order in which they are read: those nobody saw first, then the graver, then the older.
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

// Said is one drive's part of the matters: its verdict, and the rules it rests on.
type Said struct {
	Key, Tail, Host, Section, Bay, Pool string
	Verdict                             health.Verdict
	Findings                            []health.Finding
}

// shared are the rules that, when several drives of one section show them at once, accuse what they share.
var shared = map[string]string{
	"vanished":               "do not answer any more: look at the shelf, its power and its cable first",
	"too-hot":                "are too hot: look at the cooling",
	"hotter-than-neighbours": "are far warmer than their neighbours: look at the fans",
	"link-crc":               "have bad links: look at the cable or the backplane they share",
}

// together is how many drives of a section make one matter.
const together = 3

// OfDrives makes matters of what is said of drives: one a drive, however many findings; one a section when several of
// its drives show the same thing that they may share.
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
	taken := map[string]string{} // which of its findings a drive shares, by its key
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

// Fullness is how full a pool is over time.
type Fullness struct {
	Pool     string
	ID       string
	Used     float64 // bytes
	Capacity float64
	PerDay   float64 // bytes a day at the present rate; zero or less when it does not fill up
}

// Levels at which people are told that a pool fills up.
const (
	FillingAt = 0.80
	NearlyAt  = 0.90
)

// OfFilling makes a matter of a pool that fills up; ok is false when it does not.
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
