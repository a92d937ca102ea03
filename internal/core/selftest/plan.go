package selftest

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/core/drive"
)

// ScopeKind is the kind of a plan's scope.
type ScopeKind string

// A plan covers all drives, the drives of a host or of a pool, or single drives; each is more specific than the one
// before.
const (
	Fleet  ScopeKind = "fleet"
	Host   ScopeKind = "host"
	Pool   ScopeKind = "pool"
	Single ScopeKind = "drive"
)

var ranks = map[ScopeKind]int{Fleet: 1, Host: 2, Pool: 3, Single: 4}

// Scope is one scope of a plan. Name is a host's name, a pool's id or a drive's key; empty for the fleet.
type Scope struct {
	Kind ScopeKind `json:"kind"`
	Name string    `json:"name,omitempty"`
}

// Limits are the numbers of drives that may run self-tests at once; zero is no limit.
type Limits struct {
	Group     int `json:"group"`
	Pool      int `json:"pool"`
	Enclosure int `json:"enclosure"`
	Host      int `json:"host"`
}

// Plan defines which tests are due when, and what delays them.
type Plan struct {
	Name    string
	Scopes  []Scope
	Zone    *time.Location
	Windows []Window // tests run within these only; none: at any time
	Barred  []Window // and never within these
	Over    bool     // a test may overrun the window that it began in
	Limits  Limits
	Margin  int     // none begins in a pool that can lose fewer members than this
	Busy    float64 // nor where drives are busy for more than this share of the time; 0: no limit
	Wake    bool    // sleeping drives are woken for tests
}

// Allowed gives the time in which a plan's tests may run.
func (p *Plan) Allowed(in Span) []Span {
	open := []Span{in}
	if len(p.Windows) > 0 {
		open = Expand(p.Windows, p.Zone, in, Open)
	}
	return Without(open, Expand(p.Barred, p.Zone, in, Closed))
}

// Place is the place of a drive: the names by which a plan covers it, and what it shares with others.
type Where struct {
	Drive, Host, Enclosure, Pool, PoolName, Group string
}

// Uses are the names of the shared resources of a drive, as used in limits.
func (w Where) Uses() (out []string) {
	if w.Group != "" {
		out = append(out, "group "+w.Group+" of "+w.PoolName)
	}
	if w.Pool != "" {
		out = append(out, "pool "+w.PoolName)
	}
	if w.Enclosure != "" {
		out = append(out, "enclosure "+w.Enclosure+" of "+w.Host)
	}
	return append(out, "host "+w.Host)
}

// Limit is the number of simultaneous tests that a plan allows for a resource, named as in Uses.
func (l Limits) Limit(use string) int {
	kind, _, _ := strings.Cut(use, " ")
	return map[string]int{"group": l.Group, "pool": l.Pool, "enclosure": l.Enclosure, "host": l.Host}[kind]
}

// Tighten merges limits: the lowest limit of all plans for each resource.
func Tighten(limits map[string]int, p *Plan, w Where) {
	for _, use := range w.Uses() {
		if n := p.Limits.Limit(use); n > 0 && (limits[use] == 0 || n < limits[use]) {
			limits[use] = n
		}
	}
}

func (s Scope) covers(w Where) bool {
	switch s.Kind {
	case Fleet:
		return true
	case Host:
		return s.Name == w.Host
	case Pool:
		return s.Name == w.Pool
	}
	return s.Name == w.Drive
}

// Rules is the plan that a drive follows: the most specific one that covers it.
type Rules struct {
	Plan *Plan
	Why  string // in words
	// Also are further plans that are equally specific: it is ambiguous which is meant. The first by name is followed.
	Also []*Plan
	// Else is the plan that would be followed otherwise; nil when there is none.
	Else *Plan
}

// Choose gives the plan that a drive follows.
func Choose(plans []*Plan, w Where) (r Rules) {
	type claim struct {
		plan  *Plan
		scope Scope
	}
	var claims []claim
	for _, p := range plans {
		best := Scope{}
		for _, s := range p.Scopes {
			if s.covers(w) && ranks[s.Kind] > ranks[best.Kind] {
				best = s
			}
		}
		if best.Kind != "" {
			claims = append(claims, claim{p, best})
		}
	}
	slices.SortFunc(claims, func(a, b claim) int {
		return cmp.Or(cmp.Compare(ranks[b.scope.Kind], ranks[a.scope.Kind]), cmp.Compare(a.plan.Name, b.plan.Name))
	})
	for i, c := range claims {
		switch {
		case i == 0:
			r.Plan, r.Why = c.plan, why(c.scope.Kind, w)
		case c.scope.Kind == claims[0].scope.Kind:
			r.Also = append(r.Also, c.plan)
		default:
			r.Else = c.plan
			return r
		}
	}
	return r
}

func why(k ScopeKind, w Where) string {
	switch k {
	case Fleet:
		return "it is for all drives that have no plan of their own"
	case Host:
		return "it is for the drives of " + w.Host
	case Pool:
		return "it is for the members of " + w.PoolName
	}
	return "it is the plan of this drive"
}

// Takes is the time allowed for a test, in whole minutes: the longest of the drive's newest three tests plus 10 %, if
// it ran any; else its own estimate (for an idle drive), corrected by the ratio on other drives of its model, plus 25
// %; and some minutes until its end is known. took is the newest first; others is the median ratio of duration to
// estimate on other drives of the model, 0 if unknown.
func Takes(kind drive.SelfTestKind, estimate time.Duration, took []time.Duration, others float64) time.Duration {
	const known = 5 * time.Minute
	out := estimate
	if out <= 0 { // not reported
		out = map[drive.SelfTestKind]time.Duration{drive.SelfTestShort: 2 * time.Minute,
			drive.SelfTestConveyance: 5 * time.Minute}[kind]
		out = cmp.Or(out, 8*time.Hour)
	}
	switch {
	case len(took) > 0:
		out = slices.Max(took[:min(len(took), 3)]) * 11 / 10
	case others > 0:
		out = time.Duration(float64(out) * others * 1.25)
	default:
		out = out * 5 / 4
	}
	return (out + known + time.Minute - 1).Truncate(time.Minute)
}

// Crowd is a set of drives that will not be tested in one period, and the reason.
type Crowd struct {
	Plan   string
	Kind   drive.SelfTestKind
	Period Span
	Of     string   // the resource that is too small for all, as in Uses; empty when each one does not fit alone
	Drives int      // how many drives are to be tested there
	Left   []string // keys of the drives without a time
	Says   string
}

// Forecast reports in advance what does not fit. jobs are the result of Place.
func Forecast(jobs []Job, room Room) []Crowd {
	type of struct {
		plan string
		kind drive.SelfTestKind
		from int64
	}
	all := map[of][]*Job{}
	var order []of
	for i := range jobs {
		j := &jobs[i]
		k := of{j.Plan, j.Kind, j.Period.From.UnixNano()}
		if all[k] == nil {
			order = append(order, k)
		}
		all[k] = append(all[k], j)
	}
	var out []Crowd
	for _, k := range order {
		var left []*Job
		for _, j := range all[k] {
			if j.At.IsZero() {
				left = append(left, j)
			}
		}
		if len(left) > 0 {
			out = append(out, crowd(all[k], left, room)...)
		}
	}
	return out
}

func crowd(all, left []*Job, room Room) (out []Crowd) {
	one := left[0]
	spans := Within(room.Allowed[one.Plan], one.Period)
	longest := Longest(spans)
	base := Crowd{Plan: one.Plan, Kind: one.Kind, Period: one.Period}
	var fits, not []*Job
	for _, j := range left {
		if fit := j.Takes <= longest || j.Over && longest > 0 && j.Takes <= j.Period.Len(); fit {
			fits = append(fits, j)
		} else {
			not = append(not, j)
		}
	}
	if len(not) > 0 {
		out = append(out, base.tooLong(not, longest, len(spans) > 0))
	}
	// Jobs that would fit alone are limited by a shared resource: the one with the greatest shortage.
	using, held := byUse(all), byUse(fits)
	done := make(map[*Job]bool, len(fits))
	for _, first := range fits {
		if done[first] {
			continue
		}
		best, bestNeed, bestHave := narrowest(first.Uses, using, room, spans)
		c, there, together := base, len(using[best]), held[best]
		if best == "" {
			there, together = len(all), fits
		}
		c.Of, c.Drives = best, there
		for _, j := range together {
			if !done[j] {
				done[j] = true
				c.Left = append(c.Left, j.Drive)
			}
		}
		if bestNeed > bestHave {
			c.Says = fmt.Sprintf(
				"%s in %s need %s; the windows allow %d. Allow more at once, widen the windows, or test less often.",
				testsOf(c.Kind, c.Drives),
				best,
				windowsWords(bestNeed, spans),
				bestHave,
			)
		} else {
			c.Says = fmt.Sprintf(
				"%s: no room is left for %d of them beside the other tests in %s. Allow more at once, widen the "+
					"windows, or test less often.",
				testsOf(c.Kind, c.Drives),
				len(c.Left),
				cmp.Or(best, "these windows"),
			)
		}
		out = append(out, c)
	}
	return out
}

// byUse are jobs by what they use.
func byUse(jobs []*Job) map[string][]*Job {
	out := map[string][]*Job{}
	for _, j := range jobs {
		for _, use := range j.Uses {
			out[use] = append(out[use], j)
		}
	}
	return out
}

// tooLong are tests that fit no window.
func (c Crowd) tooLong(not []*Job, longest time.Duration, windows bool) Crowd {
	c.Drives = len(not)
	var most time.Duration
	for _, j := range not {
		c.Left = append(c.Left, j.Drive)
		most = max(most, j.Takes)
	}
	c.Says = fmt.Sprintf(
		"%s: %s up to %s, and the longest window is %s. Widen the windows, or let tests run past their end.",
		testsOf(c.Kind, len(not)),
		takes(len(not)),
		Words(most),
		Words(longest),
	)
	if !windows {
		c.Says = testsOf(c.Kind, len(not)) + ": the plan has no window at all in this period. Give it one."
	}
	return c
}

// narrowest is the shared resource with the greatest shortage; empty when nothing has a limit.
func narrowest(uses []string, using map[string][]*Job, room Room, spans []Span) (best string, bestNeed, bestHave int) {
	for _, use := range uses {
		limit := room.Limits[use]
		if limit == 0 {
			continue
		}
		need, have := nights(using[use], limit, spans)
		if best == "" || need*bestHave > bestNeed*have {
			best, bestNeed, bestHave = use, need, have
		}
	}
	return best, bestNeed, bestHave
}

// nights is how many windows the jobs need that use one thing, so many at once, and how many there are. Time without
// windows counts in days.
func nights(all []*Job, limit int, spans []Span) (need, have int) {
	var takes time.Duration
	n := len(all)
	for _, j := range all {
		takes = max(takes, j.Takes)
	}
	var slots, total int
	for _, s := range spans {
		k := int(s.Len()/takes) * limit
		slots += k
		if k > 0 {
			total++
		}
	}
	if total == 1 {
		total = max(1, int(Longest(spans)/(24*time.Hour)))
	}
	if slots == 0 {
		return n, total
	}
	return (n*total + slots - 1) / slots, total
}

func windowsWords(n int, spans []Span) string {
	word := "window"
	switch {
	case len(spans) == 1:
		word = "day"
	case spans[0].From.YearDay() != spans[0].To.YearDay():
		word = "night"
	}
	if n != 1 {
		word += "s"
	}
	return fmt.Sprintf("%d %s", n, word)
}

func testsOf(k drive.SelfTestKind, n int) string {
	if n == 1 {
		return string(k) + " self-test of 1 drive"
	}
	return fmt.Sprintf("%s self-tests of %d drives", k, n)
}

func takes(n int) string {
	if n == 1 {
		return "it takes"
	}
	return "they take"
}

// Words says a length of time as people do, to the minute.
func Words(d time.Duration) string {
	d = d.Round(time.Minute)
	h, m := int(d/time.Hour), int(d%time.Hour/time.Minute)
	switch {
	case h >= 48 && m == 0 && h%24 == 0:
		return fmt.Sprintf("%d days", h/24)
	case h == 0:
		return fmt.Sprintf("%d min", m)
	case m == 0:
		return fmt.Sprintf("%d h", h)
	}
	return fmt.Sprintf("%d h %d min", h, m)
}
