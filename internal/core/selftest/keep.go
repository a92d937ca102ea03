package selftest

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"lantern/internal/core/drive"
)

// State is the state of an item.
type State string

// An item is planned until its test begins. Done means that the test ended by itself, passed or failed; dropped, that a
// person stopped it; missed, that its period ended without it.
const (
	Planned State = "planned"
	Running State = "running"
	Done    State = "done"
	Dropped State = "dropped"
	Missed  State = "missed"
)

// Item is one test that one drive is to run in one period.
type Item struct {
	Drive  string             `json:"drive"`
	Kind   drive.SelfTestKind `json:"kind"`
	Plan   string             `json:"plan"`
	Period Span               `json:"period"`
	At     time.Time          `json:"at,omitzero"` // planned or actual beginning; zero when no time was found
	Takes  time.Duration      `json:"takes"`
	Share  float64            `json:"share"`
	Misses int                `json:"misses,omitempty"` // earlier periods in a row without this test
	State  State              `json:"state"`
	Run    string             `json:"run,omitempty"`
	Tries  int                `json:"tries,omitempty"` // tries that ended without a result
	// NotBefore delays it after a try; Why is the reason why it waits or waited, Since is since when.
	NotBefore time.Time `json:"not_before,omitzero"`
	Why       string    `json:"why,omitempty"`
	Since     time.Time `json:"since,omitzero"`
}

// Due is a test of a plan with the periods to be scheduled, in order.
type Due struct {
	Kind    drive.SelfTestKind
	Periods []Span
}

// Member is a drive that a plan covers. Members are given in the order in which they appeared.
type Member struct {
	Where Where
	Plan  *Plan
	Dues  []Due
	Since time.Time // from when on the plan holds for it
	Takes map[drive.SelfTestKind]time.Duration
	// Last is when each kind of test last ended, from the drive's own log.
	Last map[drive.SelfTestKind]time.Time
}

// rememberFor is how long an item that is over is kept.
const rememberFor = 35 * 24 * time.Hour

// Schedule updates the items: it removes those that no plan wants any more, adds missing ones, and gives every waiting
// item a time. Items that are already due keep their time, so that the reason for their delay is shown.
func Schedule(old []Item, members []Member, now time.Time) ([]Item, []Crowd) {
	b := book{now: now, span: Span{now, now}, of: map[string]*Member{}, wanted: map[itemID]bool{},
		known: map[itemID]bool{}, last: map[line]Item{}}
	b.want(members)
	for _, it := range old {
		b.keep(it)
	}
	nth := map[string]int{}
	for i := range members {
		m := &members[i]
		b.add(m, Share(nth[m.Plan.Name]))
		nth[m.Plan.Name]++
	}
	room := b.room(members)
	jobs, which := b.jobs()
	placed := Place(jobs, room)
	for n, i := range which {
		b.items[i].At = placed[n].At
	}
	return b.items, Forecast(placed, room)
}

// itemID names an item: one test of one drive in one period.
type itemID struct {
	drive string
	kind  drive.SelfTestKind
	from  int64
}

func (it Item) id() itemID { return itemID{it.Drive, it.Kind, it.Period.From.Unix()} }

// line is all items of one kind of test on one drive.
type line struct {
	drive string
	kind  drive.SelfTestKind
}

// book is a schedule while it is updated.
type book struct {
	now    time.Time
	span   Span // from now to the end of the last period that is wanted
	of     map[string]*Member
	wanted map[itemID]bool
	items  []Item
	known  map[itemID]bool // items of earlier schedules: it is decided whether they have a time
	last   map[line]Item   // the newest period of each line
}

// want records the tests that the members' plans require.
func (b *book) want(members []Member) {
	for i := range members {
		m := &members[i]
		b.of[m.Where.Drive] = m
		for _, d := range m.Dues {
			for _, p := range d.Periods {
				b.wanted[itemID{m.Where.Drive, d.Kind, p.From.Unix()}] = true
				if p.To.After(b.span.To) {
					b.span.To = p.To
				}
			}
		}
	}
}

// keep keeps an item, unless no plan wants it or it ended long ago.
func (b *book) keep(it Item) {
	m := b.of[it.Drive]
	switch it.State {
	case Planned:
		if m == nil || m.Plan.Name != it.Plan || !b.wanted[it.id()] && b.now.Before(it.Period.To) {
			return
		}
	case Running:
	default:
		if b.now.Sub(it.Period.To) > rememberFor {
			return
		}
	}
	b.items = append(b.items, it)
	b.known[it.id()] = true
	if l := (line{it.Drive, it.Kind}); b.last[l].Period.From.Before(it.Period.From) {
		b.last[l] = it
	}
}

// add adds the items of a member's plan that are missing.
func (b *book) add(m *Member, share float64) {
	for _, d := range m.Dues {
		l := line{m.Where.Drive, d.Kind}
		for _, p := range d.Periods {
			it := Item{
				Drive:  m.Where.Drive,
				Kind:   d.Kind,
				Plan:   m.Plan.Name,
				Period: p,
				State:  Planned,
				Share:  share,
				Takes:  m.Takes[d.Kind],
			}
			if b.known[it.id()] || !b.now.Before(p.To) {
				continue
			}
			// A period that began before the plan applied is used only for drives that have waited long enough already.
			if p.From.Before(m.Since) && m.Last[d.Kind].After(p.From.Add(-p.Len())) {
				continue
			}
			if prev, ok := b.last[l]; ok && prev.Period.From.Before(p.From) {
				it.Share = prev.Share
				if b.known[prev.id()] && (prev.State == Missed || prev.State == Planned && prev.At.IsZero()) {
					it.Misses = prev.Misses + 1
				}
			}
			b.items = append(b.items, it)
			b.last[l] = it
		}
	}
}

// room is what the plans allow.
func (b *book) room(members []Member) Room {
	room := Room{Now: b.now, Allowed: map[string][]Span{}, Limits: map[string]int{}}
	for i := range members {
		m := &members[i]
		if room.Allowed[m.Plan.Name] == nil {
			room.Allowed[m.Plan.Name] = m.Plan.Allowed(b.span)
		}
		Tighten(room.Limits, m.Plan, m.Where)
	}
	return room
}

// jobs are the items that need a time, with the index of each among the items.
func (b *book) jobs() (jobs []Job, which []int) {
	for i := range b.items {
		it := &b.items[i]
		m := b.of[it.Drive]
		waits := it.State == Planned && !it.Due(b.now) || it.State == Running
		if m == nil || !waits || !b.now.Before(it.Period.To) {
			continue
		}
		if it.State == Planned {
			it.Takes = m.Takes[it.Kind]
		}
		jobs = append(jobs, Job{
			Drive:  it.Drive,
			Kind:   it.Kind,
			Plan:   it.Plan,
			Period: it.Period,
			Takes:  it.Takes,
			Over:   m.Plan.Over,
			Uses:   m.Where.Uses(),
			At:     it.At,
			Fixed:  it.State == Running,
			Share:  it.Share,
			Missed: it.Misses,
		})
		which = append(which, i)
	}
	return jobs, which
}

// Due reports whether a planned item is due.
func (it *Item) Due(now time.Time) bool {
	return it.State == Planned && !it.At.IsZero() && !now.Before(it.At)
}

// Waiting is an item that may be due, with the facts that decide whether it begins.
type Waiting struct {
	*Item
	Plan    *Plan
	Uses    []string
	Blocked string // the reason why it must wait now; empty when there is none
}

// TestedAnyhow gives a copy of the items. A planned item is done if its drive was tested in the item's period, whoever
// ordered that test.
func TestedAnyhow(items []Item, members []Member) []Item {
	of := make(map[string]*Member, len(members))
	for i := range members {
		of[members[i].Where.Drive] = &members[i]
	}
	out := slices.Clone(items)
	for i := range out {
		it := &out[i]
		if m := of[it.Drive]; m != nil && it.State == Planned {
			if at := m.Last[it.Kind]; !at.IsZero() && it.Period.Holds(at) {
				it.Tested(at, TestedBefore)
			}
		}
	}
	return out
}

// TestedBefore is the reason of an item that TestedAnyhow sets to done.
const TestedBefore = "it was tested in this period already"

// Change is the difference between an earlier plan and a new one. The tests of the earlier plan can go on while the new
// one is made.
type Change struct {
	was, next []Item
	at        map[itemID]int // index in next, by id
	put       []int          // indexes in next: new or changed items
	drop      []int          // indexes in was: items that are no longer planned
}

// Changes compares an earlier plan with a new one.
func Changes(was, next []Item) *Change {
	c := &Change{was: was, next: next, at: make(map[itemID]int, len(next))}
	for i := range next {
		c.at[next[i].id()] = i
	}
	same := make([]bool, len(next))
	for i := range was {
		at, still := c.at[was[i].id()]
		if !still {
			c.drop = append(c.drop, i)
			continue
		}
		same[at] = next[at] == was[i]
	}
	for i := range next {
		if !same[i] {
			c.put = append(c.put, i)
		}
	}
	return c
}

// Over gives the new plan. is are the present items of the earlier plan in the same order: an item that changed in the
// meantime keeps its present state. put are the items to store, drop those to remove from the store.
func (c *Change) Over(is []Item) (next []Item, put, drop []*Item) {
	turned, stays := map[int]bool{}, map[int]bool{}
	for i := range is {
		if is[i] == c.was[i] {
			continue
		}
		if at, still := c.at[is[i].id()]; still {
			c.next[at], turned[at] = is[i], true
			continue
		}
		c.next = append(c.next, is[i]) // not in the new plan, but it has begun or ended since
		stays[i] = true
	}
	for _, i := range c.put {
		if !turned[i] {
			put = append(put, &c.next[i])
		}
	}
	for _, i := range c.drop {
		if !stays[i] {
			drop = append(drop, &is[i])
		}
	}
	return c.next, put, drop
}

// Turn updates due items. It returns those that begin now and counts them in running; those that cannot begin get a
// reason; those whose period has ended are missed. The longest waiting item is first, and the limits apply: tests that
// a host missed while it was off are made up one after the other, within the windows.
func Turn(items []Waiting, limits, running map[string]int, now time.Time) (begin []*Item) {
	items = slices.Clone(items)
	slices.SortStableFunc(
		items,
		func(a, b Waiting) int { return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Drive, b.Drive)) },
	)
	ahead := map[*Plan][]Span{} // the windows of the next days
	for _, w := range items {
		switch {
		case w.State != Planned:
		case !now.Before(w.Period.To):
			if w.Why == "" {
				w.hold("no time was found for it", now)
			}
			w.State = Missed
		case !w.Due(now):
		case now.Before(w.NotBefore):
		default:
			if _, known := ahead[w.Plan]; !known {
				ahead[w.Plan] = w.Plan.Allowed(Span{now, now.Add(8 * 24 * time.Hour)})
			}
			if why := w.keeps(ahead[w.Plan], limits, running, now); why != "" {
				w.hold(why, now)
				continue
			}
			w.State, w.Why, w.Since, w.At = Running, "", time.Time{}, now
			for _, use := range w.Uses {
				running[use]++
			}
			begin = append(begin, w.Item)
		}
	}
	return begin
}

func (it *Item) hold(why string, now time.Time) {
	if it.Why = why; it.Since.IsZero() {
		it.Since = now
	}
}

// keeps gives the reason why an item cannot begin now.
func (w *Waiting) keeps(spans []Span, limits, running map[string]int, now time.Time) string {
	if len(spans) == 0 || spans[0].From.After(now) || !w.Plan.Over && now.Add(w.Takes).After(spans[0].To) {
		for _, s := range spans {
			if s.From.After(now) && (w.Plan.Over || s.Len() >= w.Takes) {
				return "it waits for the next window, " + s.From.In(w.Plan.Zone).Format("Mon 15:04")
			}
		}
		return "it waits for a window of " + Words(w.Takes)
	}
	if w.Blocked != "" {
		return w.Blocked
	}
	for _, use := range w.Uses {
		if n := limits[use]; n > 0 && running[use] >= n {
			return fmt.Sprintf("in %s %s", use, atOnce(running[use]))
		}
	}
	return ""
}

func atOnce(n int) string {
	if n == 1 {
		return "another is being tested, one at a time"
	}
	return fmt.Sprintf("%d are being tested, no more at once", n)
}

// Retries: so often a test tries that ended without a result is tried again, and so long after.
const (
	mostTries = 3
	tryAfter  = time.Hour
)

// Ended records the end of the test that an item began. told is false when it ended without a result: the drive was
// reset or lost power, or somebody else stopped the test.
func (it *Item) Ended(now time.Time, told, stopped bool, says string) {
	it.Run = ""
	switch {
	case told:
		it.State, it.Why, it.Since = Done, "", time.Time{}
	case stopped:
		it.State, it.Why = Dropped, says
	default:
		it.Tries++
		it.hold(says, now)
		if it.State = Planned; it.Tries >= mostTries {
			it.State, it.Why = Missed, fmt.Sprintf("it was tried %d times, and %s", it.Tries, says)
		}
		it.NotBefore = now.Add(tryAfter)
	}
}

// Refused records that the drive refused the order; it is tried again later, as often as its period allows.
func (it *Item) Refused(now time.Time, why string) {
	it.Run, it.State, it.NotBefore = "", Planned, now.Add(tryAfter)
	it.hold(why, now)
}

// Tested records that the drive was tested by another order; the item is then done.
func (it *Item) Tested(at time.Time, why string) {
	it.State, it.At, it.Why, it.Since = Done, at, why, time.Time{}
}

// Patience is how long a test may show no progress before it is called stalled: drives report progress in steps of 10
// %.
func Patience(takes time.Duration) time.Duration { return max(30*time.Minute, takes/4) }
