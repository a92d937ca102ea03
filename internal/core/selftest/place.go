package selftest

import (
	"cmp"
	"math"
	"slices"
	"sort"
	"time"

	"lantern/internal/core/drive"
)

// Job is one test that needs a time: one drive, one kind, one period.
type Job struct {
	Drive  string
	Kind   drive.SelfTestKind
	Plan   string
	Period Span          // it begins and ends in it
	Takes  time.Duration // how long it runs
	Over   bool          // it may overrun the window that it begins in
	Uses   []string      // what it shares with others, such as its group and its host
	At     time.Time     // its planned beginning from an earlier placement; zero when it has none yet
	Fixed  bool          // it runs or has run: At is fixed
	Share  float64       // wanted position in its period, from 0 to 1, counted in allowed time
	Missed int           // number of periods that ended without it
}

// Room is where tests may be placed.
type Room struct {
	Now     time.Time         // nothing is placed before
	Allowed map[string][]Span // of each plan: windows without barred times, merged
	Limits  map[string]int    // limits on shared resources; a resource that is not listed has none
}

// Share gives the nth drive of a plan its position in a period. The positions are evenly spread for any number of
// drives: each new one falls into one of the longest gaps of those before it (the golden ratio's sequence; Knuth, The
// Art of Computer Programming 3, 6.4, theorem S).
func Share(n int) float64 {
	const golden = 0.618033988749894848
	_, f := math.Modf(float64(n+1) * golden)
	return f
}

// Place gives every job a time at which it may begin: within its period and a window, and within the limits. A job
// keeps its time as long as that time is still valid. A job without a possible time gets none. The result is
// deterministic, and jobs keep their order.
func Place(jobs []Job, room Room) []Job {
	p := newPlacer(jobs, room)
	var fresh []int
	for _, i := range p.order() {
		j := &p.jobs[i]
		switch {
		case j.Fixed:
			p.occupy(i)
		case !j.At.IsZero() && p.good(i, j.At):
			p.occupy(i)
		default:
			j.At = time.Time{}
			fresh = append(fresh, i)
		}
	}
	var left []int
	for _, i := range fresh {
		if !p.seek(i, p.wanted(i)) {
			left = append(left, i)
		}
	}
	p.repair(left)
	return p.jobs
}

type placer struct {
	jobs  []Job
	room  Room
	lines [][]*timeline // of each job: what it shares, with a limit
	names map[string]*timeline
	cuts  map[cut][]Span
	users map[*timeline][]int // jobs that share it and can be moved
}

type cut struct {
	plan     string
	from, to int64
}

func newPlacer(jobs []Job, room Room) *placer {
	if on := room.Now.Truncate(time.Minute); on.Before(room.Now) {
		room.Now = on.Add(time.Minute) // people read whole minutes
	}
	p := &placer{
		jobs:  slices.Clone(jobs),
		room:  room,
		lines: make([][]*timeline, len(jobs)),
		names: map[string]*timeline{},
		cuts:  map[cut][]Span{},
	}
	for i, j := range p.jobs {
		p.lines[i] = append(p.lines[i], p.line("drive "+j.Drive, 1)) // one test at a time
		for _, name := range j.Uses {
			if n := room.Limits[name]; n > 0 {
				p.lines[i] = append(p.lines[i], p.line(name, n))
			}
		}
	}
	return p
}

func (p *placer) line(name string, limit int) *timeline {
	l := p.names[name]
	if l == nil {
		l = &timeline{limit: limit}
		p.names[name] = l
	}
	return l
}

// order is the order of placement: running jobs, jobs with a time, jobs missed before, long tests before short ones;
// then the given order, which is by seniority.
func (p *placer) order() []int {
	out := make([]int, len(p.jobs))
	for i := range out {
		out[i] = i
	}
	slices.SortStableFunc(out, func(a, b int) int {
		x, y := &p.jobs[a], &p.jobs[b]
		return cmp.Or(
			before(x.Fixed, y.Fixed),
			before(!x.At.IsZero(), !y.At.IsZero()),
			cmp.Compare(y.Missed, x.Missed),
			cmp.Compare(weight(y.Kind), weight(x.Kind)),
		)
	})
	return out
}

func before(a, b bool) int {
	switch {
	case a && !b:
		return -1
	case b && !a:
		return 1
	}
	return 0
}

func weight(k drive.SelfTestKind) int {
	if k == drive.SelfTestExtended {
		return 1
	}
	return 0
}

// open are the spans in which a job may be placed.
func (p *placer) open(i int) []Span {
	j := &p.jobs[i]
	in := j.Period
	if p.room.Now.After(in.From) {
		in.From = p.room.Now
	}
	key := cut{j.Plan, in.From.UnixNano(), in.To.UnixNano()}
	spans, known := p.cuts[key]
	if !known {
		spans = Within(p.room.Allowed[j.Plan], in)
		p.cuts[key] = spans
	}
	return spans
}

// last is the latest beginning in a span; it may be before the span.
func (j *Job) last(s Span) time.Time {
	if j.Over {
		end := j.Period.To.Add(-j.Takes)
		if s.To.Add(-1).Before(end) {
			end = s.To.Add(-1)
		}
		return end
	}
	return s.To.Add(-j.Takes)
}

// good reports whether a job may begin at t.
func (p *placer) good(i int, t time.Time) bool {
	at, ok := p.next(i, t)
	return ok && at.Equal(t)
}

// wanted is the beginning that follows from a job's share: that far into its remaining allowed time. A missed job is
// wanted at once. The time is rounded to a multiple of the job's length, so that equal tests follow each other without
// gaps.
func (p *placer) wanted(i int) time.Time {
	j := &p.jobs[i]
	spans := p.open(i)
	if len(spans) == 0 {
		return j.Period.From
	}
	if j.Missed > 0 {
		return spans[0].From
	}
	var total time.Duration
	for _, s := range spans {
		total += max(0, j.last(s).Sub(s.From))
	}
	left := time.Duration(j.Share * float64(total))
	for _, s := range spans {
		room := max(0, j.last(s).Sub(s.From))
		if left > room {
			left -= room
			continue
		}
		if j.Takes > 0 {
			left = left / j.Takes * j.Takes
		}
		return s.From.Add(left)
	}
	return spans[0].From
}

// seek places a job at the first valid time from t on, or else at the first one in its period.
func (p *placer) seek(i int, t time.Time) bool {
	j := &p.jobs[i]
	at, ok := p.next(i, t)
	if !ok {
		at, ok = p.next(i, j.Period.From)
	}
	if ok {
		j.At = at.UTC()
		p.occupy(i)
	}
	return ok
}

// next is the first time not before t at which a job may begin.
func (p *placer) next(i int, t time.Time) (time.Time, bool) {
	j := &p.jobs[i]
	spans := p.open(i)
	n := sort.Search(len(spans), func(k int) bool { return spans[k].To.After(t) })
	for n < len(spans) {
		s := spans[n]
		if t.Before(s.From) {
			t = s.From
		}
		if t.After(j.last(s)) {
			n++
			continue
		}
		again := t
		for _, l := range p.lines[i] {
			again = l.free(again, j.Takes)
		}
		if again.Equal(t) {
			return t, true
		}
		for t = again; n < len(spans) && !spans[n].To.After(t); n++ {
		}
	}
	return t, false
}

func (p *placer) occupy(i int) {
	j := &p.jobs[i]
	for _, l := range p.lines[i] {
		l.add(booking{j.At, j.At.Add(j.Takes), i})
	}
}

func (p *placer) vacate(i int) {
	for _, l := range p.lines[i] {
		l.remove(i, p.jobs[i].At)
	}
	p.jobs[i].At = time.Time{}
}

// timeline is the use of one shared resource over time.
type timeline struct {
	limit    int
	bookings []booking // in order of their beginnings
	longest  time.Duration
}

type booking struct {
	from, to time.Time
	job      int
}

func (l *timeline) add(b booking) {
	at := sort.Search(len(l.bookings), func(k int) bool { return l.bookings[k].from.After(b.from) })
	l.bookings = slices.Insert(l.bookings, at, b)
	l.longest = max(l.longest, b.to.Sub(b.from))
}

func (l *timeline) remove(job int, from time.Time) {
	at := sort.Search(len(l.bookings), func(k int) bool { return !l.bookings[k].from.Before(from) })
	for l.bookings[at].job != job {
		at++
	}
	l.bookings = slices.Delete(l.bookings, at, at+1)
}

// free is the first time, not before t, from which the resource is free for the given length. While it is fully used,
// nothing can begin before the first use ends.
func (l *timeline) free(t time.Time, takes time.Duration) time.Time {
	var now []time.Time // ends of the uses at the moment considered
again:
	now = now[:0]
	first := sort.Search(len(l.bookings), func(k int) bool { return l.bookings[k].from.After(t.Add(-l.longest)) })
	for _, b := range l.bookings[first:] {
		if !b.from.Before(t.Add(takes)) && b.from.After(t) {
			break
		}
		if !b.to.After(t) {
			continue
		}
		now = slices.DeleteFunc(now, func(end time.Time) bool { return !end.After(b.from) })
		if now = append(now, b.to); len(now) >= l.limit {
			t = slices.MinFunc(now, time.Time.Compare)
			goto again
		}
	}
	return t
}

// Bounds of the repair: how many jobs are placed again together, and how many are tried in every order.
const (
	packAtMost   = 400
	searchAtMost = 7
)

// repair searches for times for jobs without one. Only here are jobs with a time moved: those that share a resource
// with such a job are placed again as early as possible, the most urgent first, and in every order when there are few.
// The result is used when more jobs have a time than before.
func (p *placer) repair(left []int) {
	done := map[int]bool{}
	for _, i := range left {
		if done[i] {
			continue
		}
		set := p.related(i)
		for _, k := range set {
			done[k] = true
		}
		if len(set) > packAtMost {
			continue
		}
		old := make([]time.Time, len(set))
		had := 0
		var stuck []int
		for n, k := range set {
			if old[n] = p.jobs[k].At; old[n].IsZero() {
				stuck = append(stuck, k)
				continue
			}
			had++
			p.vacate(k)
		}
		best, count := old, had
		try := func(order []int) {
			got := 0
			for _, k := range order {
				if at, ok := p.next(k, p.jobs[k].Period.From); ok {
					p.jobs[k].At = at.UTC()
					p.occupy(k)
					got++
				}
			}
			if got > count {
				count, best = got, make([]time.Time, len(set))
				for n, k := range set {
					best[n] = p.jobs[k].At
				}
			}
			for _, k := range order {
				if !p.jobs[k].At.IsZero() {
					p.vacate(k)
				}
			}
		}
		// A job that would not fit alone is no reason to move others.
		if slices.ContainsFunc(stuck, func(k int) bool { _, ok := p.next(k, p.jobs[k].Period.From); return ok }) {
			order := slices.Clone(set)
			slices.SortStableFunc(order, func(a, b int) int {
				x, y := &p.jobs[a], &p.jobs[b]
				return cmp.Or(
					cmp.Compare(y.Missed, x.Missed),
					x.Period.To.Compare(y.Period.To),
					cmp.Compare(y.Takes, x.Takes),
				)
			})
			try(order)
			if count < len(set) && len(set) <= searchAtMost {
				permute(set, func(o []int) bool { try(o); return count < len(set) })
			}
		}
		for n, k := range set {
			if p.jobs[k].At = best[n]; !best[n].IsZero() {
				p.occupy(k)
			}
		}
	}
}

// related are the movable jobs that are connected by shared resources in overlapping periods: the set that may have to
// move so that one of them gets a time.
func (p *placer) related(from int) []int {
	if p.users == nil {
		p.users = map[*timeline][]int{}
		for i := range p.jobs {
			if !p.jobs[i].Fixed {
				for _, l := range p.lines[i] {
					p.users[l] = append(p.users[l], i)
				}
			}
		}
	}
	seen := map[int]bool{from: true}
	set := []int{from}
	for n := 0; n < len(set) && len(set) <= packAtMost; n++ {
		j := &p.jobs[set[n]]
		for _, l := range p.lines[set[n]] {
			for _, k := range p.users[l] {
				o := &p.jobs[k]
				if !seen[k] && o.Period.From.Before(j.Period.To) && j.Period.From.Before(o.Period.To) {
					seen[k] = true
					set = append(set, k)
				}
			}
		}
	}
	slices.Sort(set)
	return set
}

// permute calls f with every order of set until it returns false.
func permute(set []int, f func([]int) bool) {
	order := slices.Clone(set)
	var rec func(n int) bool
	rec = func(n int) bool {
		if n == len(order) {
			return f(slices.Clone(order))
		}
		for i := n; i < len(order); i++ {
			order[n], order[i] = order[i], order[n]
			ok := rec(n + 1)
			order[n], order[i] = order[i], order[n]
			if !ok {
				return false
			}
		}
		return true
	}
	rec(0)
}
