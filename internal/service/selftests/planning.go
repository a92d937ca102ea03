package selftests

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/selftest"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/store"
)

// Tests are placed so far ahead and kept; what a view shows beyond is worked out for it. Between changes, places are
// looked over now and then.
const (
	planAhead  = 8 * 24 * time.Hour
	replanEach = 15 * time.Minute
	replanWall = 30 * time.Second
)

// members are the drives that tests are planned for, in the order in which they came.
func (s *State) members(plans map[string]*plan, now time.Time) []selftest.Member {
	return s.membersUntil(plans, now, now.Add(planAhead))
}

func (s *State) membersUntil(plans map[string]*plan, now, until time.Time) (out []selftest.Member) {
	var core []*selftest.Plan
	dues := map[string][]selftest.Due{}
	for name, p := range plans {
		core = append(core, &p.Plan)
		for _, t := range p.tests {
			dues[name] = append(
				dues[name],
				selftest.Due{Kind: t.kind, Periods: t.rule.Periods(selftest.Span{From: now, To: until}, t.within)},
			)
		}
	}
	slices.SortFunc(core, func(a, b *selftest.Plan) int { return cmp.Compare(a.Name, b.Name) })
	ratios := s.TestRatios()
	places := s.judging.Places()
	for _, d := range s.fleet.ByAge() {
		if !d.Present || !d.Reading.SelfTests {
			continue
		}
		w := s.fleet.Where(d, places[d.Key()])
		r := selftest.Choose(core, w)
		if r.Plan == nil {
			continue
		}
		m := selftest.Member{
			Where: w,
			Plan:  r.Plan,
			Since: d.FirstAt,
			Takes: map[drive.SelfTestKind]time.Duration{},
			Last:  map[drive.SelfTestKind]time.Time{},
		}
		if since := plans[r.Plan.Name].Since; since.After(m.Since) {
			m.Since = since
		}
		last := s.fleet.LastTests(d)
		for _, due := range dues[r.Plan.Name] {
			if _, has := d.Reading.TestMinutes[string(due.Kind)]; !has && len(d.Reading.TestMinutes) > 0 {
				continue
			}
			m.Dues = append(m.Dues, due)
			m.Takes[due.Kind] = s.TestTakes(d, due.Kind, ratios)
			m.Last[due.Kind] = last[due.Kind].At
		}
		out = append(out, m)
	}
	return out
}

// TestTakes is how long a test of a drive will take.
func (s *State) TestTakes(d *fleet.Drive, kind drive.SelfTestKind, ratios map[string]float64) time.Duration {
	estimate := time.Duration(d.Reading.TestMinutes[string(kind)] * float64(time.Minute))
	return selftest.Takes(kind, estimate, d.Took[string(kind)], ratios[d.Desc.Model+"/"+string(kind)])
}

// TestRatios are, by model and kind of test, how many times its own estimate each drive's newest test took, the middle
// one of all.
func (s *State) TestRatios() map[string]float64 {
	all := map[string][]float64{}
	for _, d := range s.fleet.Drives {
		for kind, took := range d.Took {
			if estimate := d.Reading.TestMinutes[kind]; estimate > 0 && len(took) > 0 {
				k := d.Desc.Model + "/" + kind
				all[k] = append(all[k], took[0].Minutes()/estimate)
			}
		}
	}
	out := map[string]float64{}
	for k, ratios := range all {
		slices.Sort(ratios)
		out[k] = ratios[len(ratios)/2]
	}
	return out
}

// pace keeps work that is done at each change from taking more than a twentieth of the time: in a large fleet something
// changes all the time. Work that takes no time is done at once.
type pace struct{ began, ended time.Time }

func (p *pace) begin() { p.began = time.Now() }
func (p *pace) end()   { p.ended = time.Now() }
func (p *pace) ready() bool {
	const brief, share = 20 * time.Millisecond, 20
	took := p.ended.Sub(p.began)
	return took < brief || time.Since(p.ended) > share*took
}

// replan brings what is planned up to date. For many drives that takes seconds: it is done while others are served, and
// taken over by a later tick.
func (s *State) replan(b *store.Batch, now time.Time) {
	s.planner.at = now.Add(s.Clock.AtLeast(replanEach, replanWall))
	s.planner.shape = s.testShape()
	members := s.members(s.plans, now)
	items := slices.Clone(s.Items)
	s.testedAnyhow(items)
	if len(members) < s.Background {
		s.planner.draft = nil
		next, crowds := selftest.Schedule(items, members, now)
		s.keepItems(b, next)
		s.keepCrowds(crowds)
		return
	}
	d := &draft{was: slices.Clone(s.Items), done: make(chan struct{})}
	go func() {
		defer close(d.done)
		next, crowds := selftest.Schedule(items, members, now)
		d.crowds, d.change = crowds, selftest.Changes(d.was, next)
	}()
	s.planner.draft = d // one that is not ready is of no use any more
}

// draft is what is planned while it is being worked out.
type draft struct {
	was    []selftest.Item // what was planned then
	done   chan struct{}   // closed when what follows is there
	change *selftest.Change
	crowds []selftest.Crowd
}

// takeDraft takes over what was worked out meanwhile. What became of a test in that time stands.
func (s *State) takeDraft(b *store.Batch) {
	select {
	case <-s.planner.draft.done:
		d := s.planner.draft
		next, put, drop := d.change.Over(s.Items)
		for _, it := range put {
			b.Put(itemRow(it))
		}
		for _, it := range drop {
			b.Drop(itemRow(it))
		}
		s.Items, s.planner.draft = next, nil
		s.keepCrowds(d.crowds)
		s.planner.pace.end()
	default:
	}
}

// noPlace is a test for which no place was found.
type noPlace struct {
	drive  string
	kind   drive.SelfTestKind
	period selftest.Span
}

// keepCrowds keeps why tests find no place.
func (s *State) keepCrowds(crowds []selftest.Crowd) {
	s.unplaced = map[noPlace]string{}
	for _, c := range crowds {
		for _, key := range c.Left {
			s.unplaced[noPlace{key, c.Kind, c.Period}] = c.Says
		}
	}
}

// testedAnyhow marks what somebody else did: a drive that was tested in a period is done for it.
func (s *State) testedAnyhow(items []selftest.Item) {
	last := map[string]map[drive.SelfTestKind]fleet.LastTest{}
	for i := range items {
		it := &items[i]
		d := s.fleet.Drives[it.Drive]
		if d == nil || it.State != selftest.Planned {
			continue
		}
		if last[it.Drive] == nil {
			last[it.Drive] = s.fleet.LastTests(d)
		}
		if l, ok := last[it.Drive][it.Kind]; ok && it.Period.Holds(l.At) {
			it.Tested(l.At, "it was tested in this period already")
		}
	}
}

// keepItems takes items over and writes down what of them changed.
func (s *State) keepItems(b *store.Batch, next []selftest.Item) {
	type id struct {
		drive string
		kind  drive.SelfTestKind
		from  int64
	}
	idOf := func(it *selftest.Item) id { return id{it.Drive, it.Kind, it.Period.From.Unix()} }
	before := make(map[id]*selftest.Item, len(s.Items))
	for i := range s.Items {
		before[idOf(&s.Items[i])] = &s.Items[i]
	}
	for i := range next {
		id := idOf(&next[i])
		if was, known := before[id]; !known || *was != next[i] {
			b.Put(itemRow(&next[i]))
		}
		delete(before, id)
	}
	for _, it := range before {
		b.Drop(itemRow(it))
	}
	s.Items = next
}

func ItemID(it *selftest.Item) string {
	return fmt.Sprintf("%s %s %d", it.Drive, it.Kind, it.Period.From.Unix())
}

func itemRow(it *selftest.Item) *store.PlannedTest {
	return &store.PlannedTest{
		Drive: it.Drive,
		Kind:  string(it.Kind),
		From:  it.Period.From.Unix(),
		Doc:   ledger.Document(it),
	}
}

// testShape is equal as long as nothing changed that the placing of tests depends on.
func (s *State) testShape() string {
	n, present := 0, 0
	for _, d := range s.fleet.Drives {
		n++
		if d.Present && d.Reading.SelfTests {
			present++
		}
	}
	members := 0
	for _, p := range s.fleet.Pools {
		p.Everyone(func(string, *pool.Member) { members++ })
	}
	return fmt.Sprint(n, present, members, len(s.fleet.Hosts))
}

// Tick lets tests begin whose time has come, and says what keeps the others back.
func (s *State) Tick(t *fleet.Tick) {
	b, now := t.Batch, t.Now
	if now.Before(s.fleet.GraceUntil) { // hosts that were there before a restart are given time to report
		return
	}
	if s.planner.draft != nil {
		s.takeDraft(b)
	}
	due := !now.Before(s.planner.at)
	if s.planner.draft == nil && (due || s.planner.pace.ready() && s.testShape() != s.planner.shape) {
		s.planner.pace.begin()
		s.replan(b, now)
		s.planner.pace.end()
	}
	if now.Before(s.turnAt) {
		return
	}
	s.turnAt = now.Add(s.Clock.AtLeast(time.Second, time.Second))
	places := s.judging.Places()
	tests := s.due(places, now)
	if len(tests) == 0 {
		return
	}
	running, limits := s.runningTests(tests, places)
	before := make([]selftest.Item, len(tests))
	for i, w := range tests {
		before[i] = *w.Item
	}
	for _, it := range selftest.Turn(tests, limits, running, now) {
		d, at := s.fleet.Drives[it.Drive], places[it.Drive]
		r := s.BeginTest(
			b,
			d,
			at,
			api.TestOrder{Kind: api.TestOrderKind(it.Kind), Wake: s.plans[it.Plan].Wake},
			"plan "+it.Plan,
			now,
		)
		r.Plan, r.Takes, it.Run = it.Plan, it.Takes, r.Id
		b.Put(r.row())
	}
	for i, w := range tests {
		if before[i] == *w.Item {
			continue
		}
		b.Put(itemRow(w.Item))
		if w.State == selftest.Missed {
			s.AddEvent(
				b,
				api.EventKindDrive,
				w.Drive,
				fmt.Sprintf(
					"%s self-test of %s did not take place in its period: %s",
					w.Kind,
					s.fleet.Drives[w.Drive].Tail(),
					w.Why,
				),
			)
		}
	}
}

// due are the planned tests whose turn it is, or whose period is over.
func (s *State) due(places map[string]fleet.Place, now time.Time) (out []selftest.Waiting) {
	for i := range s.Items {
		it := &s.Items[i]
		if it.State != selftest.Planned || !it.Due(now) && now.Before(it.Period.To) {
			continue
		}
		d, p := s.fleet.Drives[it.Drive], s.plans[it.Plan]
		if d == nil || p == nil {
			continue
		}
		w := s.fleet.Where(d, places[it.Drive])
		waiting := selftest.Waiting{Item: it, Plan: &p.Plan, Uses: w.Uses()}
		if it.Due(now) {
			waiting.Blocked = s.keepsFromTest(d, places[it.Drive], p, it.Kind, now)
		}
		out = append(out, waiting)
	}
	return out
}

// runningTests counts the tests that run by what they use, and gives how many may at once: of what the due ones use.
func (s *State) runningTests(
	due []selftest.Waiting,
	places map[string]fleet.Place,
) (running, limits map[string]int) {
	running, limits = map[string]int{}, map[string]int{}
	core := s.CorePlans(nil, "")
	near := map[string]bool{} // drives that may use the same: those of the same hosts and of the same pools
	hosts, pools, onHost := map[string]bool{}, map[*fleet.Pool]bool{}, s.fleet.ByHost()
	for _, w := range due {
		d, p := s.fleet.Drives[w.Drive], places[w.Drive].Pool
		if !hosts[d.Host] {
			hosts[d.Host] = true
			for _, x := range onHost(d.Host) {
				near[x.Key()] = true
			}
		}
		if p != nil && !pools[p] {
			pools[p] = true
			for key := range p.DriveKeys() {
				near[key] = true
			}
		}
	}
	for key := range near {
		d := s.fleet.Drives[key]
		if d == nil {
			continue
		}
		w := s.fleet.Where(d, places[key])
		if s.Runs[w.Drive] != nil || d.Reading.Testing.RemainingPercent > 0 && d.Present {
			for _, use := range w.Uses() {
				running[use]++
			}
		}
		if r := selftest.Choose(core, w); r.Plan != nil {
			selftest.Tighten(limits, r.Plan, w)
		}
	}
	return running, limits
}

// keepsFromTest says what keeps a planned test of a drive back now.
func (s *State) keepsFromTest(
	d *fleet.Drive,
	at fleet.Place,
	p *plan,
	kind drive.SelfTestKind,
	now time.Time,
) string {
	if why := s.MayTest(d, at, kind, now); why != "" {
		return why
	}
	if at.Pool == nil {
		if p.Busy > 0 && d.Busy > p.Busy {
			return fmt.Sprintf("it is %.0f %% busy; tests begin below %.0f %%", d.Busy*100, p.Busy*100)
		}
		return ""
	}
	why := ""
	at.Every(func(x fleet.Place) {
		if margin, known := s.fleet.Margin(x.Pool); known && int(margin) < p.Margin && why == "" {
			why = fmt.Sprintf("%s: %s; tests begin when %d more may", x.Pool.Name, margin, p.Margin)
		}
	})
	if why != "" {
		return why
	}
	if busy := s.fleet.PoolBusy(at.Pool); p.Busy > 0 && busy > p.Busy {
		return fmt.Sprintf("%s is %.0f %% busy; tests begin below %.0f %%", at.Pool.Name, busy*100, p.Busy*100)
	}
	return ""
}

// testItem finds what a run was planned as.
func (s *State) testItem(r *Run) *selftest.Item {
	for _, it := range s.TestsOf(r.Drive) {
		if it.Run == r.Id && r.Id != "" {
			return it
		}
	}
	return nil
}
