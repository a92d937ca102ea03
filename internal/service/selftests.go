package service

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/history"
	"lantern/internal/core/pool"
	"lantern/internal/core/selftest"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// testRun is a self-test that was ordered. Before is what stood at the top of the drive's log then; Answered is when the drive
// took it.
type testRun struct {
	api.TestRun
	Before   []api.SelfTest `json:"before"`
	Answered time.Time      `json:"answered"`
	Stopping bool           `json:"stopping"`
	// Takes is how long it is expected to take; Moved is when it last made progress.
	Takes time.Duration `json:"takes,omitempty"`
	Moved time.Time     `json:"moved,omitzero"`
}

func (r *testRun) row() *store.TestRun {
	return &store.TestRun{ID: r.Id, Drive: r.Drive, Ended: !r.EndedAt.IsZero(), Doc: document(r)}
}

func (s *Service) loadRuns() error {
	rows, err := store.All[store.TestRun](s.store, "id", "ended = ?", false)
	if err != nil {
		return err
	}
	s.runs = map[string]*testRun{}
	for _, row := range rows {
		r := &testRun{}
		if err := json.Unmarshal(row.Doc, r); err != nil {
			return fmt.Errorf("self-test %s: %w", row.ID, err)
		}
		s.runs[r.Drive] = r
		s.stalled(r)
	}
	return nil
}

// top is as much of a log as tells one moment of it from the next.
func top(tests []api.SelfTest) []api.SelfTest { return slices.Clone(tests[:min(len(tests), 3)]) }

// testable are the drives that an order for tests names, in order of their bays.
func (s *Service) testable(req api.TestOrder) (out []*disk, err error) {
	where, err := history.ParseWhere(req.Where)
	if err != nil {
		return nil, problem(422, "bad-where", "All metrics: lantern metrics", "%s.", err)
	}
	switch {
	case req.Drive != "":
		d, err := s.findDrive(req.Drive)
		return []*disk{d}, err
	case req.Pool != "":
		p, err := s.findPool(req.Pool)
		if err != nil {
			return nil, err
		}
		p.Everyone(func(_ string, m *pool.Member) {
			if d := s.drives[m.Drive]; d != nil {
				out = append(out, d)
			}
		})
	case req.Host != "":
		if s.hosts[req.Host] == nil {
			return nil, problem(404, "no-host", "List them with: lantern host list", "There is no host %q.", req.Host)
		}
		fallthrough
	case req.Where != "":
		for _, d := range s.drives {
			if (d.Host == req.Host || req.Host == "") && d.Present {
				out = append(out, d)
			}
		}
	default:
		return nil, problem(422, "no-drive", "Name a drive, a pool or a host, or say for which drives it is.", "Nothing says which drives are to be tested.")
	}
	out = slices.DeleteFunc(out, func(d *disk) bool {
		return slices.ContainsFunc(where, func(c history.Comparison) bool { return !c.Holds(d.record) })
	})
	slices.SortFunc(out, byPlace)
	if len(out) == 0 {
		return nil, problem(404, "no-drive", "See which drives there are: lantern drives", "No drive is meant by that.")
	}
	return out, nil
}

// mayTest says why a drive cannot be tested now; empty when it can.
func (s *Service) mayTest(d *disk, at place, kind drive.SelfTestKind, now time.Time) string {
	_, has := d.Reading.TestMinutes[string(kind)]
	switch h := s.hosts[d.Host]; {
	case !d.Present:
		return "it does not answer"
	case h == nil || s.late(h, now):
		return d.Host + " does not report"
	case d.Blind != "":
		return "it is blind: " + d.Blind
	case !d.Reading.SelfTests:
		return "it has no self-tests"
	case !has && len(d.Reading.TestMinutes) > 0:
		return "it has no " + string(kind) + " self-test"
	case s.runs[d.Desc.Key()] != nil || d.Reading.Testing.RemainingPercent > 0:
		return "it is being tested already"
	case at.pool != nil && len(at.pool.running) > 0:
		return at.pool.Name + " is recovering, and is left in peace until that is done"
	}
	if at.pool != nil {
		if lead, begun := s.work.swapIn(at.pool.ID); begun {
			return fmt.Sprintf("a swap is under way in %s, led by %s", at.pool.Name, lead)
		}
	}
	return ""
}

// groupTests says whether another of a drive's group is being tested: those that people start go one at a time as well.
func (s *Service) groupTests(d *disk, at place) string {
	for _, k := range at.peers {
		if other := s.drives[k]; other != nil && other != d && (s.runs[k] != nil || other.Reading.Testing.RemainingPercent > 0) {
			return fmt.Sprintf("%s of the same group is being tested: one at a time", other.tail())
		}
	}
	return ""
}

// span checks what a selective test is to look at.
func span(d *disk, req api.TestOrder) error {
	sectors := int64(d.Desc.Capacity / max(1, d.Desc.LogicalSector))
	if req.Kind == api.TestOrderKindSelective && (req.LastLba < req.FirstLba || req.LastLba >= sectors) {
		return problem(422, "bad-span", fmt.Sprintf("%s has addresses 0 to %d.", d.tail(), sectors-1), "A selective test goes from one address to a higher one of the drive, not from %d to %d.", req.FirstLba, req.LastLba)
	}
	return nil
}

// StartTests orders a self-test of each drive that may be tested now, and says of the others why not.
func (s *Service) StartTests(by string, req api.TestOrder) ([]api.TestRun, error) {
	req.Kind = cmp.Or(req.Kind, api.TestOrderKindShort)
	s.mu.Lock()
	defer s.mu.Unlock()
	drives, err := s.testable(req)
	if err != nil {
		return nil, err
	}
	now, places := s.clock.Now(), s.places()
	b := &store.Batch{}
	out := []api.TestRun{}
	begun := 0
	for _, d := range drives {
		if err := span(d, req); err != nil {
			return nil, err
		}
	}
	for _, d := range drives {
		at := places[d.Desc.Key()]
		if why := cmp.Or(s.mayTest(d, at, drive.SelfTestKind(req.Kind), now), s.groupTests(d, at)); why != "" {
			r := s.newRun(d, at, string(req.Kind), by, now)
			r.State, r.Says, r.EndedAt = api.TestRunStateRefused, why, now
			out = append(out, r.TestRun)
			continue
		}
		r := s.beginTest(b, d, at, req, by, now)
		b.Put(r.row())
		out = append(out, r.TestRun)
		begun++
	}
	if begun == 0 {
		return out, nil
	}
	return out, s.commit(b)
}

func (s *Service) newRun(d *disk, at place, kind, by string, now time.Time) *testRun {
	r := &testRun{TestRun: api.TestRun{Id: newID(), Drive: d.Desc.Key(), Tail: d.tail(), Bay: d.bay(), Kind: kind, State: api.TestRunStateOrdered, By: by, OrderedAt: now, Lba: -1, Says: "it was asked of the drive"},
		Before: top(d.Reading.Tests), Takes: s.testTakes(d, drive.SelfTestKind(kind), nil)}
	if at.pool != nil {
		r.Pool = at.pool.Name
	}
	return r
}

// beginTest orders one test, and notes it at once, so that the next of its group waits.
func (s *Service) beginTest(b *store.Batch, d *disk, at place, req api.TestOrder, by string, now time.Time) *testRun {
	r := s.newRun(d, at, string(req.Kind), by, now)
	s.runs[r.Drive] = r
	s.order(b, &order{Order: api.Order{Host: d.Host, Kind: api.OrderKindSelftest, By: by, Drive: wire.Identity(d.Desc.Identity), Test: r.Kind, On: true, Wake: req.Wake, FirstLba: req.FirstLba, LastLba: req.LastLba}, test: r.Drive})
	return r
}

// StopTests orders the self-tests of drives to stop.
func (s *Service) StopTests(by string, req api.TestOrder) ([]api.TestRun, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	drives, err := s.testable(req)
	if err != nil {
		return nil, err
	}
	b := &store.Batch{}
	out := []api.TestRun{}
	for _, d := range drives {
		r := s.runs[d.Desc.Key()]
		if r == nil {
			continue
		}
		s.stopTest(b, d, r, by)
		out = append(out, r.TestRun)
	}
	return out, s.commit(b)
}

func (s *Service) stopTest(b *store.Batch, d *disk, r *testRun, by string) {
	r.Stopping, r.Says = true, by+" asked it to stop"
	s.order(b, &order{Order: api.Order{Host: d.Host, Kind: api.OrderKindSelftest, By: by, Drive: wire.Identity(d.Desc.Identity), Test: r.Kind}, test: r.Drive})
	b.Put(r.row())
}

// testAnswered notes what came of an order to start or stop a test.
func (s *Service) testAnswered(b *store.Batch, o *order) {
	r := s.runs[wire.ToIdentity(o.Drive).Key()]
	if r == nil {
		return
	}
	switch {
	case o.State == api.OrderStateDone && o.On:
		r.Answered = s.clock.Now()
	case o.State == api.OrderStateDone:
	case o.On:
		if it := s.testItem(r.Id); it != nil {
			it.Refused(s.clock.Now(), o.Says)
			b.Put(itemRow(it))
		}
		s.endTest(b, r, api.TestRunStateRefused, o.Says)
		return
	default:
		r.Stopping, r.Says = false, "it did not stop: "+o.Says
	}
	b.Put(r.row())
}

func (s *Service) endTest(b *store.Batch, r *testRun, state api.TestRunState, says string) {
	r.State, r.Says, r.EndedAt, r.RemainingPercent = state, says, s.clock.Now(), 0
	r.StalledSince = time.Time{}
	b.Put(r.row())
	delete(s.runs, r.Drive)
	s.stalled(r)
	told := state == api.TestRunStatePassed || state == api.TestRunStateFailed
	if it := s.testItem(r.Id); it != nil {
		it.Ended(r.EndedAt, told, r.Stopping, says)
		b.Put(itemRow(it))
	}
	if d := s.drives[r.Drive]; d != nil && told && !r.Answered.IsZero() {
		if d.Took == nil {
			d.Took = map[string][]time.Duration{}
		}
		d.Took[r.Kind] = append([]time.Duration{r.EndedAt.Sub(r.Answered).Round(time.Second)}, d.Took[r.Kind][:min(2, len(d.Took[r.Kind]))]...)
		b.Put(d.row())
	}
	s.happened(b, api.EventKindDrive, r.Drive, fmt.Sprintf("%s self-test of %s: %s", r.Kind, r.Tail, says))
	s.testEnded(b, r)
}

// logged is how long a drive may take to write a test into its log.
const logged = 15 * time.Minute

// followTest reads from the drive itself what became of its test (R6).
func (s *Service) followTest(b *store.Batch, key string, rd api.Reading) {
	r := s.runs[key]
	if r == nil || r.Answered.IsZero() || !rd.At.After(r.Answered) {
		return
	}
	if rd.Testing.RemainingPercent > 0 {
		if r.State != api.TestRunStateRunning {
			r.State, r.StartedAt = api.TestRunStateRunning, rd.At
		}
		if r.Moved.IsZero() || rd.Testing.RemainingPercent != r.RemainingPercent {
			r.Moved, r.StalledSince = rd.At, time.Time{}
		}
		if rd.At.Sub(r.Moved) > selftest.Patience(r.Takes) && r.StalledSince.IsZero() {
			r.StalledSince = r.Moved
			s.happened(b, api.EventKindDrive, key, fmt.Sprintf("%s self-test of %s has made no progress since %s", r.Kind, r.Tail, r.Moved.Format(time.RFC3339)))
		}
		s.progress(api.Event{Kind: api.EventKindDrive, At: rd.At, Subject: key, Says: "progress"})
		r.RemainingPercent, r.Says = rd.Testing.RemainingPercent, fmt.Sprintf("%d %% are left", rd.Testing.RemainingPercent)
		if !r.StalledSince.IsZero() {
			r.Says = fmt.Sprintf("no progress for %s, %d %% are left: stop it, and start it again", selftest.Words(rd.At.Sub(r.StalledSince)), rd.Testing.RemainingPercent)
		}
		s.stalled(r)
		b.Put(r.row())
		return
	}
	if now := top(rd.Tests); len(now) > 0 && !slices.Equal(now, r.Before) {
		one := now[0]
		state, says := api.TestRunStatePassed, "passed"
		switch one.Result {
		case "failed":
			state, says, r.Lba = api.TestRunStateFailed, "failed", one.Lba
			if one.Lba >= 0 {
				says = fmt.Sprintf("failed at LBA %d", one.Lba)
			}
		case "aborted":
			state, says = api.TestRunStateAborted, "was stopped before its end"
		case "interrupted":
			state, says = api.TestRunStateInterrupted, "was interrupted by a reset or a loss of power; it says nothing of the drive"
		case "could not run":
			state, says = api.TestRunStateAborted, "could not run"
		}
		s.endTest(b, r, state, says)
		return
	}
	if rd.At.Sub(r.Answered) > logged {
		s.endTest(b, r, api.TestRunStateLost, "ended without a word in the drive's log: its power or its bus was cut, or it never began")
	}
}

// TestRuns lists self-tests that were ordered, the newest first.
func (s *Service) TestRuns(name string) ([]api.TestRun, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	where, args := "1 = 1", []any(nil)
	if name != "" {
		d, err := s.findDrive(name)
		if err != nil {
			return nil, err
		}
		where, args = "drive = ?", []any{d.Desc.Key()}
	}
	rows, err := store.Newest[store.TestRun](s.store, 200, where, args...)
	if err != nil {
		return nil, err
	}
	out := make([]api.TestRun, 0, len(rows))
	for _, row := range rows {
		var r testRun
		if json.Unmarshal(row.Doc, &r) == nil {
			out = append(out, r.TestRun)
		}
	}
	return out, nil
}

// AskAddress asks the pool of a drive what lies at an address.
func (s *Service) AskAddress(by, name string, lba int64) (api.Order, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.findDrive(name)
	if err != nil {
		return api.Order{}, err
	}
	sectors := int64(d.Desc.Capacity / max(1, d.Desc.LogicalSector))
	if lba < 0 || lba >= sectors && sectors > 0 {
		return api.Order{}, problem(422, "bad-span", fmt.Sprintf("%s has addresses 0 to %d.", d.tail(), sectors-1), "%d is no address of it.", lba)
	}
	if h := s.hosts[d.Host]; !d.Present || h == nil || s.late(h, s.clock.Now()) {
		return api.Order{}, problem(409, "host-quiet", "Ask when it answers again.", "Neither %s nor what lies on it can be asked now.", d.tail())
	}
	b := &store.Batch{}
	o := s.askAddress(b, d, by, lba)
	return o.Order, s.commit(b)
}

func (s *Service) askAddress(b *store.Batch, d *disk, by string, lba int64) *order {
	o := &order{Order: api.Order{Host: d.Host, Kind: api.OrderKindAddress, By: by, Drive: wire.Identity(d.Desc.Identity), FirstLba: lba}, test: d.Desc.Key()}
	s.order(b, o)
	return o
}

// failedAt asks once, for each place at which a self-test failed, what lies there.
func (s *Service) failedAt(b *store.Batch, d *disk) {
	for _, t := range d.Reading.Tests {
		if t.Result != string(drive.SelfTestFailed) {
			continue
		}
		if t.Lba >= 0 && (d.Failed == nil || d.Failed.Lba != t.Lba) {
			d.Failed = &api.FailedAt{Lba: t.Lba}
			b.Put(d.row())
			s.askAddress(b, d, "the service", t.Lba)
		}
		return
	}
}

// addressAnswered keeps what lies where a self-test failed.
func (s *Service) addressAnswered(b *store.Batch, o *order) {
	d := s.drives[wire.ToIdentity(o.Drive).Key()]
	switch {
	case d == nil || d.Failed == nil || d.Failed.Lba != o.FirstLba:
		return
	case o.State == api.OrderStateExpired:
		d.Failed = nil // nobody heard it: it is asked again with the next reading
	case o.State == api.OrderStateDone:
		d.Failed.Says = o.Says
	}
	d.version++
	b.Put(d.row())
}

// stalled notes of a drive since when its self-test makes no progress.
func (s *Service) stalled(r *testRun) {
	if d := s.drives[r.Drive]; d != nil {
		d.stalled = r.StalledSince
	}
}
