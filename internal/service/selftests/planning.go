package selftests

import (
	"cmp"
	"fmt"
	"maps"
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

// Tests are planned this far ahead and stored; later ones are computed for a view. Without changes, plans are checked
// from time to time.
const (
	planAhead  = 8 * 24 * time.Hour
	replanEach = 15 * time.Minute
	replanWall = 30 * time.Second
)

// members are the drives that tests are planned for, in the order in which they appeared.
func (s *State) members(plans map[string]*plan, now time.Time) []selftest.Member {
	return s.membersUntil(plans, now, now.Add(planAhead))
}

func (s *State) membersUntil(plans map[string]*plan, now, until time.Time) (out []selftest.Member) {
	g := s.gather(plans, now, until)
	places := s.judging.Places()
	for _, d := range s.fleet.ByAge() {
		if m, ok := g.member(d, places[d.Key()]); ok {
			out = append(out, m)
		}
	}
	return out
}

// gathering holds the inputs of members.
type gathering struct {
	*State
	plans  map[string]*plan
	core   []*selftest.Plan
	dues   map[string][]selftest.Due
	ratios map[string]float64
}

// gather collects the inputs of members, for tests from now until a time.
func (s *State) gather(plans map[string]*plan, now, until time.Time) gathering {
	g := gathering{s, maps.Clone(plans), nil, map[string][]selftest.Due{}, s.TestRatios()}
	for name, p := range plans {
		g.core = append(g.core, &p.Plan)
		for _, t := range p.tests {
			g.dues[name] = append(
				g.dues[name],
				selftest.Due{Kind: t.kind, Periods: t.rule.Periods(selftest.Span{From: now, To: until}, t.within)},
			)
		}
	}
	slices.SortFunc(g.core, func(a, b *selftest.Plan) int { return cmp.Compare(a.Name, b.Name) })
	return g
}

// member is a drive with the tests to plan for it; ok is false if there are none.
func (g gathering) member(d *fleet.Drive, at fleet.Place) (m selftest.Member, ok bool) {
	if !d.Present || !d.Reading.SelfTests {
		return m, false
	}
	w := g.fleet.Where(d, at)
	r := selftest.Choose(g.core, w)
	if r.Plan == nil {
		return m, false
	}
	m = selftest.Member{
		Where: w,
		Plan:  r.Plan,
		Since: d.FirstAt,
		Takes: map[drive.SelfTestKind]time.Duration{},
		Last:  map[drive.SelfTestKind]time.Time{},
	}
	if since := g.plans[r.Plan.Name].Since; since.After(m.Since) {
		m.Since = since
	}
	last := g.fleet.LastTests(d)
	for _, due := range g.dues[r.Plan.Name] {
		if _, has := d.Reading.TestMinutes[string(due.Kind)]; !has && len(d.Reading.TestMinutes) > 0 {
			continue
		}
		m.Dues = append(m.Dues, due)
		m.Takes[due.Kind] = g.TestTakes(d, due.Kind, g.ratios)
		m.Last[due.Kind] = last[due.Kind].At
	}
	return m, true
}

// TestTakes is how long a test of a drive will take.
func (s *State) TestTakes(d *fleet.Drive, kind drive.SelfTestKind, ratios map[string]float64) time.Duration {
	estimate := time.Duration(d.Reading.TestMinutes[string(kind)] * float64(time.Minute))
	return selftest.Takes(kind, estimate, d.Took[string(kind)], ratios[d.Desc.Model+"/"+string(kind)])
}

// TestRatios are the medians of the ratios of duration to estimate, by model and kind of test; the newest test of each
// drive counts.
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

// pace limits work that is repeated at each change to a twentieth of the time: in a large fleet changes never stop.
// Brief work is not limited.
type pace struct{ began, ended time.Time }

func (p *pace) begin() { p.began = time.Now() }
func (p *pace) end()   { p.ended = time.Now() }
func (p *pace) ready() bool {
	const brief, share = 20 * time.Millisecond, 20
	took := p.ended.Sub(p.began)
	return took < brief || time.Since(p.ended) > share*took
}

// replan brings the plan up to date. For many drives that takes seconds: it is done in the background, and a later tick
// takes the result.
func (s *State) replan(b *store.Batch, now time.Time) {
	s.planner.at = now.Add(s.Clock.AtLeast(replanEach, replanWall))
	s.planner.shape = s.testShape()
	s.planner.draft = nil // an unfinished draft is out of date now
	s.writeItems(b, len(s.planner.unwritten))
	if len(s.fleet.Drives) >= s.Background {
		s.planner.draft = &draft{now: now, gathering: s.gather(s.plans, now, now.Add(planAhead)),
			left: slices.Clone(s.fleet.ByAge())}
		return
	}
	members := s.members(s.plans, now)
	next, crowds := selftest.Schedule(selftest.TestedAnyhow(s.Items, members), members, now)
	s.keepItems(b, next)
	s.keepCrowds(crowds)
}

// draft is an unfinished plan: first each tick gathers some members, then the plan is made in the background.
type draft struct {
	now       time.Time
	gathering gathering
	left      []*fleet.Drive // not gathered yet
	members   []selftest.Member
	done      chan struct{} // closed when the result is ready; nil while members are gathered
	change    *selftest.Change
	crowds    []selftest.Crowd
}

// gatherAtOnce is how many drives each tick gathers.
const gatherAtOnce = 1000

// goOn performs the next step of a draft. When the plan is ready, it takes effect; tests that began or ended meanwhile
// keep their state.
func (s *State) goOn(b *store.Batch, d *draft) {
	if d.done == nil {
		places := s.judging.Places()
		n := min(len(d.left), gatherAtOnce)
		for _, x := range d.left[:n] {
			if m, ok := d.gathering.member(x, places[x.Key()]); ok && s.fleet.Drives[x.Key()] == x {
				d.members = append(d.members, m)
			}
		}
		if d.left = d.left[n:]; len(d.left) > 0 {
			return
		}
		d.done = make(chan struct{})
		was := slices.Clone(s.Items)
		go func() {
			defer close(d.done)
			next, crowds := selftest.Schedule(selftest.TestedAnyhow(was, d.members), d.members, d.now)
			d.crowds, d.change = crowds, selftest.Changes(was, next)
		}()
		return
	}
	select {
	case <-d.done:
		next, put, drop := d.change.Over(s.Items)
		for _, it := range drop {
			b.Drop(itemRow(it))
		}
		s.Items, s.planner.draft, s.planner.unwritten = next, nil, put
		s.writeItems(b, writeAtOnce)
		s.keepCrowds(d.crowds)
		s.planner.pace.end()
	default:
	}
}

// writeAtOnce is how many planned tests each tick stores. After a restart before all are stored, the rest is planned
// again.
const writeAtOnce = 500

// writeItems stores some of the planned tests that are not stored yet.
func (s *State) writeItems(b *store.Batch, most int) {
	n := min(len(s.planner.unwritten), most)
	for _, it := range s.planner.unwritten[:n] {
		b.Put(itemRow(it))
	}
	s.planner.unwritten = s.planner.unwritten[n:]
}

// noPlace describes a test without a possible time in its period.
type noPlace struct {
	drive  string
	kind   drive.SelfTestKind
	period selftest.Span
}

// keepCrowds stores the reasons of tests without a possible time in their period.
func (s *State) keepCrowds(crowds []selftest.Crowd) {
	s.unplaced = map[noPlace]string{}
	for _, c := range crowds {
		for _, key := range c.Left {
			s.unplaced[noPlace{key, c.Kind, c.Period}] = c.Says
		}
	}
}

// keepItems replaces the items and writes the changed ones.
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

// shapeEach is how often testShape is computed in a large fleet: it visits everything.
const shapeEach = 10 * time.Second

func (s *State) shapeChanged() bool {
	if len(s.fleet.Drives) >= s.Background && time.Since(s.planner.shapeAt) < shapeEach {
		return false
	}
	s.planner.shapeAt = time.Now()
	return s.testShape() != s.planner.shape
}

// testShape is equal as long as nothing changed that the planning depends on.
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

// Tick starts due tests, and records why the others must wait.
func (s *State) Tick(t *fleet.Tick) {
	b, now := t.Batch, t.Now
	if now.Before(s.fleet.GraceUntil) { // known hosts have time to report after a restart
		return
	}
	s.writeItems(b, writeAtOnce)
	if d := s.planner.draft; d != nil {
		s.goOn(b, d)
	}
	due, idle := !now.Before(s.planner.at), s.planner.draft == nil && len(s.planner.unwritten) == 0
	if idle && (due || s.planner.pace.ready() && s.shapeChanged()) {
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

// runningTests counts the running tests by what they use, and gives the limits. It covers what the due tests use.
func (s *State) runningTests(
	due []selftest.Waiting,
	places map[string]fleet.Place,
) (running, limits map[string]int) {
	running, limits = map[string]int{}, map[string]int{}
	core := s.CorePlans(nil, "")
	near := map[string]bool{} // drives that may use the same: on the same hosts or in the same pools
	hosts, pools := map[string]bool{}, map[*fleet.Pool]bool{}
	for _, w := range due {
		d, p := s.fleet.Drives[w.Drive], places[w.Drive].Pool
		if !hosts[d.Host] {
			hosts[d.Host] = true
			for _, x := range s.fleet.ByHost(d.Host) {
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

// keepsFromTest says why a planned test of a drive must wait now.
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
			why = fmt.Sprintf("%s: %s; tests start when the pool can lose %d more", x.Pool.Name, margin, p.Margin)
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

// testItem finds the planned item of a run.
func (s *State) testItem(r *Run) *selftest.Item {
	for _, it := range s.TestsOf(r.Drive) {
		if it.Run == r.Id && r.Id != "" {
			return it
		}
	}
	return nil
}
