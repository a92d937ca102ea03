package service

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/pool"
	"lantern/internal/core/selftest"
	"lantern/internal/store"
)

// Tests are placed so far ahead and kept; what a view shows beyond is worked out for it. Between changes, places are looked
// over now and then.
const (
	planAhead  = 8 * 24 * time.Hour
	replanEach = 15 * time.Minute
	replanWall = 30 * time.Second
)

// where is what a drive shares with others.
func (s *Service) where(d *disk, at place) selftest.Where {
	w := selftest.Where{Drive: d.Desc.Key(), Host: d.Host}
	if at.pool != nil {
		w.Pool, w.PoolName, w.Group = at.pool.ID, at.pool.Name, at.group
		if s.twins()[w.PoolName] { // two pools of one name are told apart by id
			w.PoolName += " " + w.Pool
		}
	}
	if h := s.hosts[d.Host]; h != nil && d.Section != "" {
		for _, l := range s.layouts[d.Host] {
			if slices.ContainsFunc(l.Sections, func(sec enclosure.Section) bool { return sec.Name == d.Section }) {
				w.Enclosure = l.Name
			}
		}
		for _, e := range h.report.Enclosures {
			if slices.ContainsFunc(e.Sections, func(sec api.SectionReport) bool { return sec.Name == d.Section }) {
				w.Enclosure = e.Name
			}
		}
	}
	return w
}

// twins are the names that more than one pool has.
func (s *Service) twins() map[string]bool {
	if s.twinNames == nil {
		s.twinNames = map[string]bool{}
		seen := map[string]bool{}
		for _, p := range s.pools {
			s.twinNames[p.Name] = seen[p.Name]
			seen[p.Name] = true
		}
	}
	return s.twinNames
}

// members are the drives that tests are planned for, in the order in which they came.
func (s *Service) members(plans map[string]*plan, now time.Time) []selftest.Member {
	return s.membersUntil(plans, now, now.Add(planAhead))
}

func (s *Service) membersUntil(plans map[string]*plan, now, until time.Time) (out []selftest.Member) {
	var core []*selftest.Plan
	dues := map[string][]selftest.Due{}
	for name, p := range plans {
		core = append(core, &p.Plan)
		for _, t := range p.tests {
			dues[name] = append(dues[name], selftest.Due{Kind: t.kind, Periods: t.rule.Periods(selftest.Span{From: now, To: until}, t.within)})
		}
	}
	slices.SortFunc(core, func(a, b *selftest.Plan) int { return cmp.Compare(a.Name, b.Name) })
	ratios := s.testRatios()
	places := s.places()
	for _, d := range s.sorted() {
		if !d.Present || !d.Reading.SelfTests {
			continue
		}
		w := s.where(d, places[d.Desc.Key()])
		r := selftest.Choose(core, w)
		if r.Plan == nil {
			continue
		}
		m := selftest.Member{Where: w, Plan: r.Plan, Since: d.FirstAt, Takes: map[drive.SelfTestKind]time.Duration{}, Last: map[drive.SelfTestKind]time.Time{}}
		if since := plans[r.Plan.Name].Since; since.After(m.Since) {
			m.Since = since
		}
		last := s.lastTests(d)
		for _, due := range dues[r.Plan.Name] {
			if _, has := d.Reading.TestMinutes[string(due.Kind)]; !has && len(d.Reading.TestMinutes) > 0 {
				continue
			}
			m.Dues = append(m.Dues, due)
			m.Takes[due.Kind] = s.testTakes(d, due.Kind, ratios)
			m.Last[due.Kind] = last[due.Kind].at
		}
		out = append(out, m)
	}
	return out
}

// testTakes is how long a test of a drive will take.
func (s *Service) testTakes(d *disk, kind drive.SelfTestKind, ratios map[string][]float64) time.Duration {
	estimate := time.Duration(d.Reading.TestMinutes[string(kind)] * float64(time.Minute))
	return selftest.Takes(kind, estimate, d.Took[string(kind)], ratios[d.Desc.Model+"/"+string(kind)])
}

// testRatios are, by model and kind of test, how many times its own estimate each drive's newest test took.
func (s *Service) testRatios() map[string][]float64 {
	out := map[string][]float64{}
	for _, d := range s.drives {
		for kind, took := range d.Took {
			if estimate := d.Reading.TestMinutes[kind]; estimate > 0 && len(took) > 0 {
				k := d.Desc.Model + "/" + kind
				out[k] = append(out[k], took[0].Minutes()/estimate)
			}
		}
	}
	return out
}

// lastTest is the newest test of a kind that came to an end of its own, passed or failed.
type lastTest struct {
	at     time.Time
	about  bool
	result string
}

func (s *Service) lastTests(d *disk) map[drive.SelfTestKind]lastTest {
	out := map[drive.SelfTestKind]lastTest{}
	hours := d.record["power_on_hours"]
	now, _ := hours.Last()
	for _, t := range d.Reading.Tests {
		kind := drive.SelfTestKind(t.Kind)
		if _, known := out[kind]; known || t.Result != string(drive.SelfTestPassed) && t.Result != string(drive.SelfTestFailed) {
			continue
		}
		at, about := hours.Reached(testHours(t.Hours, now.Value))
		out[kind] = lastTest{at, about, t.Result}
	}
	return out
}

// replan brings what is planned up to date. s.mu is held.
func (s *Service) replan(b *store.Batch, now time.Time) {
	members := s.members(s.plans, now)
	items := slices.Clone(s.items)
	s.testedAnyhow(items)
	next, crowds := selftest.Schedule(items, members, now)
	s.keepItems(b, next)
	s.crowds = crowds
	s.replanAt = now.Add(s.clock.AtLeast(replanEach, replanWall))
	s.shape = s.testShape()
}

// testedAnyhow marks what somebody else did: a drive that was tested in a period is done for it.
func (s *Service) testedAnyhow(items []selftest.Item) {
	last := map[string]map[drive.SelfTestKind]lastTest{}
	for i := range items {
		it := &items[i]
		d := s.drives[it.Drive]
		if d == nil || it.State != selftest.Planned {
			continue
		}
		if last[it.Drive] == nil {
			last[it.Drive] = s.lastTests(d)
		}
		if l, ok := last[it.Drive][it.Kind]; ok && it.Period.Holds(l.at) {
			it.Tested(l.at, "it was tested in this period already")
		}
	}
}

// keepItems takes items over and writes down what of them changed.
func (s *Service) keepItems(b *store.Batch, next []selftest.Item) {
	before := make(map[string]selftest.Item, len(s.items))
	for _, it := range s.items {
		before[itemID(&it)] = it
	}
	for i := range next {
		id := itemID(&next[i])
		if was, known := before[id]; !known || was != next[i] {
			b.Put(itemRow(&next[i]))
		}
		delete(before, id)
	}
	for _, it := range before {
		b.Drop(itemRow(&it))
	}
	s.items = next
}

func itemID(it *selftest.Item) string {
	return fmt.Sprintf("%s %s %d", it.Drive, it.Kind, it.Period.From.Unix())
}

func itemRow(it *selftest.Item) *store.PlannedTest {
	return &store.PlannedTest{Drive: it.Drive, Kind: string(it.Kind), From: it.Period.From.Unix(), Doc: document(it)}
}

// testShape is equal as long as nothing changed that the placing of tests depends on.
func (s *Service) testShape() string {
	n, present := 0, 0
	for _, d := range s.drives {
		n++
		if d.Present && d.Reading.SelfTests {
			present++
		}
	}
	members := 0
	for _, p := range s.pools {
		p.Everyone(func(string, *pool.Member) { members++ })
	}
	return fmt.Sprint(n, present, members, len(s.hosts))
}

// plannedTests lets tests begin whose time has come, and says what keeps the others back. s.mu is held.
func (s *Service) plannedTests(b *store.Batch, now time.Time) {
	if now.Before(s.graceUntil) { // hosts that were there before a restart are given time to report
		return
	}
	if !now.Before(s.replanAt) || s.testShape() != s.shape {
		s.replan(b, now)
	}
	if now.Before(s.turnAt) {
		return
	}
	s.turnAt = now.Add(s.clock.AtLeast(time.Second, time.Second))
	var due []selftest.Waiting
	places := s.places()
	limits := map[string]int{}
	for i := range s.items {
		it := &s.items[i]
		if it.State != selftest.Planned || !it.Due(now) && now.Before(it.Period.To) {
			continue
		}
		d, p := s.drives[it.Drive], s.plans[it.Plan]
		if d == nil || p == nil {
			continue
		}
		w := s.where(d, places[it.Drive])
		waiting := selftest.Waiting{Item: it, Plan: &p.Plan, Uses: w.Uses()}
		if it.Due(now) {
			waiting.Blocked = s.keepsFromTest(d, places[it.Drive], p, it.Kind, now)
		}
		due = append(due, waiting)
	}
	if len(due) == 0 {
		return
	}
	running := map[string]int{}
	core := s.corePlans(nil, "")
	for _, d := range s.drives {
		w := s.where(d, places[d.Desc.Key()])
		if s.runs[w.Drive] != nil || d.Reading.Testing.RemainingPercent > 0 && d.Present {
			for _, use := range w.Uses() {
				running[use]++
			}
		}
		if r := selftest.Choose(core, w); r.Plan != nil {
			selftest.Tighten(limits, r.Plan, w)
		}
	}
	before := make([]selftest.Item, len(due))
	for i, w := range due {
		before[i] = *w.Item
	}
	for _, it := range selftest.Turn(due, limits, running, now) {
		d, at := s.drives[it.Drive], places[it.Drive]
		r := s.beginTest(b, d, at, api.TestOrder{Kind: api.TestOrderKind(it.Kind), Wake: s.plans[it.Plan].Wake}, "plan "+it.Plan, now)
		r.Plan, r.Takes, it.Run = it.Plan, it.Takes, r.Id
		b.Put(r.row())
	}
	for i, w := range due {
		if before[i] == *w.Item {
			continue
		}
		b.Put(itemRow(w.Item))
		if w.State == selftest.Missed {
			s.happened(b, api.EventKindDrive, w.Drive, fmt.Sprintf("%s self-test of %s did not take place in its period: %s", w.Kind, s.drives[w.Drive].tail(), w.Why))
		}
	}
}

// keepsFromTest says what keeps a planned test of a drive back now.
func (s *Service) keepsFromTest(d *disk, at place, p *plan, kind drive.SelfTestKind, now time.Time) string {
	if why := s.mayTest(d, at, kind, now); why != "" {
		return why
	}
	if at.pool == nil {
		if p.Busy > 0 && d.busy > p.Busy {
			return fmt.Sprintf("it is %.0f %% busy; tests begin below %.0f %%", d.busy*100, p.Busy*100)
		}
		return ""
	}
	why := ""
	at.every(func(x place) {
		if margin, known := s.margin(x.pool); known && int(margin) < p.Margin && why == "" {
			why = fmt.Sprintf("%s: %s; tests begin when %d more may", x.pool.Name, margin, p.Margin)
		}
	})
	if why != "" {
		return why
	}
	if busy := s.poolBusy(at.pool); p.Busy > 0 && busy > p.Busy {
		return fmt.Sprintf("%s is %.0f %% busy; tests begin below %.0f %%", at.pool.Name, busy*100, p.Busy*100)
	}
	return ""
}

// poolBusy is the mean of how busy a pool's drives are: one sick member alone does not make a busy pool.
func (s *Service) poolBusy(p *poolState) float64 {
	sum, n := 0.0, 0
	p.Everyone(func(_ string, m *pool.Member) {
		if d := s.drives[m.Drive]; d != nil && d.Present {
			sum += d.busy
			n++
		}
	})
	return sum / float64(max(1, n))
}

// busyAverage is over how long a drive's I/O is averaged.
const busyAverage = 5 * time.Minute

// feel takes in how busy a drive was since the report before, as an average over some minutes.
func (d *disk) feel(busy float64, at time.Time) {
	if span := at.Sub(d.busyAt); d.busyAt.IsZero() || span >= busyAverage {
		d.busy = busy
	} else if span > 0 {
		d.busy += (busy - d.busy) * float64(span) / float64(busyAverage)
	}
	d.busyAt = at
}

// testItem finds what a run was planned as.
func (s *Service) testItem(run string) *selftest.Item {
	for i := range s.items {
		if s.items[i].Run == run && run != "" {
			return &s.items[i]
		}
	}
	return nil
}
