package service

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/accept"
	"lantern/internal/core/drive"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// acceptance is the test of one drive before it is trusted.
type acceptance struct{ accept.State }

// accepted is how a drive's newest acceptance ended.
type accepted struct {
	ID    string    `json:"id"`
	State string    `json:"state"`
	At    time.Time `json:"at"`
	Says  string    `json:"says"`
}

// words tells of it; empty for a drive that has not passed.
func (a accepted) words() string {
	if a.State != string(accept.Passed) {
		return ""
	}
	return fmt.Sprintf("accepted by test on %s: %s", a.At.UTC().Format("2006-01-02"), a.Says)
}

func (a *acceptance) row() *store.Acceptance {
	return &store.Acceptance{ID: a.ID, Doc: document(a.State)}
}

func (s *Service) loadAcceptances() error {
	rows, err := store.All[store.Acceptance](s.store, "id", "")
	if err != nil {
		return err
	}
	policies, err := store.Newest[store.AcceptPolicy](s.store, 1, "")
	if err != nil {
		return err
	}
	for _, p := range policies {
		if err := json.Unmarshal(p.Doc, &s.acceptPolicy.AcceptPolicy); err != nil {
			return fmt.Errorf("what new drives are tested for: %w", err)
		}
	}
	s.acceptances = map[string]*acceptance{}
	for _, row := range rows {
		state, err := accept.Decode(row.Doc)
		if err != nil {
			return fmt.Errorf("acceptance %s: %w", row.ID, err)
		}
		s.acceptances[state.ID] = &acceptance{state}
	}
	return nil
}

// acceptPolicy is what new drives are tested for if nobody says otherwise.
type acceptPolicy struct{ api.AcceptPolicy }

func (p acceptPolicy) stages() []accept.Stage { return accept.Policy(p.Surface, p.Extended) }

// AcceptPolicy gives it.
func (s *Service) AcceptPolicy() api.AcceptPolicy {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.acceptPolicy.AcceptPolicy
}

// SetAcceptPolicy sets it. Tests that are under way go on as they were begun.
func (s *Service) SetAcceptPolicy(by string, p api.AcceptPolicy) (api.AcceptPolicy, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if p.RateBytes < 0 {
		return p, badRate()
	}
	p.SetBy, p.SetAt = by, s.clock.Now()
	b := &store.Batch{}
	b.Put(&store.AcceptPolicy{ID: newID(), Doc: document(p)})
	s.acceptPolicy = acceptPolicy{p}
	s.happened(b, api.EventKindAcceptance, "", by+" set what new drives are tested for")
	return p, s.commit(b)
}

func badRate() error {
	return problem(422, "bad-rate", "Such as 100MB; nothing for 150 MB a second.", "A rate is not negative.")
}

// Accept begins to test a drive before it is trusted. Where its surface is written, the label tail must have been typed (R3).
func (s *Service) Accept(by string, req api.AcceptDrive) (api.Acceptance, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.findDrive(req.Drive)
	if err != nil {
		return api.Acceptance{}, err
	}
	key := d.Desc.Key()
	if a := s.acceptanceOf(key); a != nil {
		return s.viewAcceptance(a), nil // said twice is said once
	}
	if p := s.acceptPolicy; req.ByPolicy {
		req.Surface, req.Extended, req.RateBytes = p.Surface, p.Extended, p.RateBytes
	}
	p, _, _ := s.member(key)
	h := s.hosts[d.Host]
	lead, waits := s.work.waitsIn(key)
	inUse, wipe := s.notFree(d)
	switch {
	case !d.Present:
		return api.Acceptance{}, problem(409, "drive-away", "Put it into any free bay first.", "%s does not answer.", d.tail())
	case h == nil || s.late(h, s.clock.Now()):
		return api.Acceptance{}, problem(409, "host-quiet", "Bring its agent back first.", "%s does not report, so nothing can be tested there.", d.Host)
	case p != nil:
		return api.Acceptance{}, problem(409, "is-member", "Only a drive that holds nothing is tested so.", "%s is a member of %s.", d.tail(), p.Name)
	case inUse != "":
		return api.Acceptance{}, problem(409, "drive-refused", wipe, "%s cannot be tested: %s.", d.tail(), inUse)
	case waits && lead != by:
		return api.Acceptance{}, problem(409, "led-by-another", "Ask them.", "%s leads the swap that it waits for.", lead)
	case !waits && s.work.promised(key, "") != "":
		return api.Acceptance{}, problem(409, "promised", "Test it before, or afterwards.", "%s is promised to the swap of %s.", d.tail(), s.work.promised(key, ""))
	case req.Surface && !d.Desc.TailMatches(req.Tail):
		return api.Acceptance{}, problem(409, "wrong-tail", "Read the label; nothing was written.", "%q is not the label tail of the drive whose whole surface is to be written.", req.Tail)
	case req.RateBytes < 0:
		return api.Acceptance{}, badRate()
	}
	a := &acceptance{accept.State{ID: newID(), By: by, Drive: d.Desc.Identity, Host: d.Host, Bay: d.bay(), Rate: req.RateBytes, Stages: accept.Policy(req.Surface, req.Extended)}}
	s.acceptances[a.ID] = a
	b := &store.Batch{}
	next, orders := accept.Begin(a.State, s.clock.Now(), counts(d))
	s.turn(b, a, next, orders)
	return s.viewAcceptance(a), s.commit(b)
}

// counts are a drive's newest counters.
func counts(d *disk) accept.Counts {
	out := accept.Counts{At: d.Reading.At, Values: map[drive.MetricName]float64{}}
	for _, n := range slices.Sorted(maps.Keys(d.record)) {
		if p, ok := d.record[n].Last(); ok {
			out.Values[n] = p.Value
		}
	}
	return out
}

// turn keeps the next state of an acceptance, and passes its orders on. s.mu is held.
func (s *Service) turn(b *store.Batch, a *acceptance, next accept.State, todo []accept.Order) {
	if string(document(a.State)) == string(document(next)) && len(todo) == 0 {
		return
	}
	says := ""
	if n := len(next.Log); n > len(a.Log) {
		says = next.Log[n-1].Says
	}
	a.State = next
	d := s.drives[a.Drive.Key()]
	for _, o := range todo {
		if d == nil {
			break
		}
		out := api.Order{Host: d.Host, Kind: api.OrderKindSurface, By: a.By, Drive: wire.Identity(a.Drive), Acceptance: a.ID, RateBytes: a.Rate, On: o.Kind == accept.OrderSurface}
		switch o.Kind {
		case accept.OrderTest:
			at, now := s.places()[a.Drive.Key()], s.clock.Now()
			why := s.mayTest(d, at, o.Test, now)
			if why != "" && (!d.Reading.SelfTests && (!d.Reading.At.IsZero() || d.Blind != "")) {
				further, more := a.CannotTest(now, "it has no self-tests that could be asked for")
				s.turn(b, a, further, more)
				return
			}
			if why != "" {
				a.Asked = false // it is asked for again when it may be tested
				continue
			}
			s.beginTest(b, d, at, api.TestOrder{Kind: api.TestOrderKind(o.Test)}, a.By, now)
			continue
		case accept.OrderStop:
			if r := s.runs[a.Drive.Key()]; r != nil {
				s.stopTest(b, d, r, a.By)
			}
			if a.Surface.Size == 0 {
				continue
			}
			out.Test = "stop"
		case accept.OrderPause:
			out.Test = "pause"
		}
		s.order(b, &order{Order: out})
	}
	b.Put(a.row())
	if d != nil {
		d.Accepted = accepted{ID: a.ID, State: string(a.Outcome), At: cmp.Or(a.EndedAt, s.clock.Now()), Says: a.Words()}
		if a.Outcome == accept.Passed {
			d.Stock = true
		}
		d.version++
		b.Put(d.row())
	}
	if says != "" {
		s.happened(b, api.EventKindAcceptance, a.ID, fmt.Sprintf("%s: %s", a.Drive.Tail(), says))
	} else {
		s.progress(api.Event{Kind: api.EventKindAcceptance, At: s.clock.Now(), Subject: a.ID, Says: "progress"})
	}
}

// acceptanceOf is the open acceptance of a drive.
func (s *Service) acceptanceOf(key string) *acceptance {
	for _, a := range s.acceptances {
		if a.Outcome.Open() && a.Drive.Key() == key {
			return a
		}
	}
	return nil
}

// toAcceptance tells the acceptance of a drive what a report says of it.
func (s *Service) toAcceptance(b *store.Batch, key string, d *disk, r api.DriveReport, told time.Time) {
	a := s.acceptanceOf(key)
	if a == nil {
		return
	}
	now := s.clock.Now()
	next := a.State
	next.Host, next.Bay = d.Host, d.bay()
	var orders []accept.Order
	if u := r.Surface; u.Id == a.ID && !(next.Asked && next.Surface.State == "" && u.State != api.SurfaceReportStateRunning && next.Surface.Done == u.DoneBytes) {
		next, orders = next.SurfaceSeen(told, accept.SurfaceReport{Pass: string(u.Pass), Done: u.DoneBytes, Size: u.SizeBytes, Rate: u.RateBytes, State: string(u.State), Bad: u.Bad, Says: u.Says, Faults: toFaults(u.Faults)})
	}
	switch {
	case !r.Reading.At.IsZero():
		next = next.CountsSeen(counts(d))
	case d.Blind != "" && d.Reading.At.IsZero():
		next = next.NoCounts(now, d.Blind)
	}
	s.turn(b, a, next, orders)
}

// testToAcceptance tells the acceptance of a drive how its self-test ended.
func (s *Service) testToAcceptance(b *store.Batch, r *testRun) {
	if a := s.acceptanceOf(r.Drive); a != nil {
		next, orders := a.TestEnded(r.EndedAt, drive.SelfTestKind(r.Kind), r.State == api.TestRunStatePassed, r.State == api.TestRunStateFailed, r.Says)
		s.turn(b, a, next, orders)
	}
}

// goOnAccepting orders what could not be ordered before.
func (s *Service) goOnAccepting(b *store.Batch, now time.Time) {
	for _, a := range s.acceptances {
		if d := s.drives[a.Drive.Key()]; a.Outcome == accept.Running && !a.Asked && d != nil && d.Present {
			if next, orders := a.Orders(now); len(orders) > 0 {
				s.turn(b, a, next, orders)
			}
		}
	}
}

// ActOnAcceptance takes a person's word: pause, resume, stop.
func (s *Service) ActOnAcceptance(by, id, what, reason string) (api.Acceptance, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	a, err := s.findAcceptance(id)
	if err != nil {
		return api.Acceptance{}, err
	}
	next, orders, why := a.Act(s.clock.Now(), by, what, reason)
	if why != "" {
		return api.Acceptance{}, problem(409, "not-now", "See how it stands: lantern accept show "+a.Drive.Tail(), "%s: %s.", a.Drive.Tail(), why)
	}
	b := &store.Batch{}
	s.turn(b, a, next, orders)
	return s.viewAcceptance(a), s.commit(b)
}

// findAcceptance finds one by its id, or the newest of a drive by its label tail.
func (s *Service) findAcceptance(name string) (best *acceptance, err error) {
	if a := s.acceptances[name]; a != nil {
		return a, nil
	}
	for _, a := range s.acceptances {
		if (strings.EqualFold(a.Drive.Tail(), name) || strings.EqualFold(a.Drive.Serial, name) || a.Drive.Key() == name) && (best == nil || a.ID > best.ID) {
			best = a
		}
	}
	if best == nil {
		return nil, problem(404, "no-acceptance", "List them with: lantern accept list", "No test of a new drive is known by %q.", name)
	}
	return best, nil
}

// Acceptance is one.
func (s *Service) Acceptance(name string) (api.Acceptance, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	a, err := s.findAcceptance(name)
	if err != nil {
		return api.Acceptance{}, err
	}
	return s.viewAcceptance(a), nil
}

// Acceptances lists them, the newest first.
func (s *Service) Acceptances() []api.Acceptance {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.Acceptance{}
	for _, a := range s.acceptances {
		out = append(out, s.viewAcceptance(a))
	}
	slices.SortFunc(out, func(a, b api.Acceptance) int { return cmp.Compare(b.Id, a.Id) })
	return out
}

func (s *Service) viewAcceptance(a *acceptance) api.Acceptance {
	out := api.Acceptance{Id: a.ID, Drive: a.Drive.Key(), Tail: a.Drive.Tail(), Model: a.Drive.Model, Host: a.Host, Bay: a.Bay, By: a.By, State: api.AcceptanceState(a.Outcome), Stage: string(a.Stage()),
		Stages: []string{}, Says: a.Words(), Checks: viewChecks(a.Checks), Log: viewLog(a.Log), BegunAt: a.BegunAt, EndedAt: a.EndedAt, SeenAt: s.clock.Now()}
	for _, st := range a.Stages {
		out.Stages = append(out.Stages, string(st))
	}
	out.Soonest, out.Latest, _ = a.Finish(s.clock.Now())
	if u := a.Surface; u.Size > 0 {
		out.Surface = api.SurfaceReport{Id: a.ID, Pass: api.SurfaceReportPass(u.Pass), DoneBytes: u.Done, SizeBytes: u.Size, RateBytes: u.Rate, State: api.SurfaceReportState(cmp.Or(u.State, "running")), Bad: u.Bad, Says: u.Says}
		for _, x := range u.Faults {
			out.Surface.Faults = append(out.Surface.Faults, api.SurfaceFault{At: x.At, Bytes: x.Bytes, What: api.SurfaceFaultWhat(x.What)})
		}
	}
	return out
}

func toFaults(in []api.SurfaceFault) (out []accept.SurfaceFault) {
	for _, x := range in {
		out = append(out, accept.SurfaceFault{At: x.At, Bytes: x.Bytes, What: string(x.What)})
	}
	return out
}

// Stock lists the drives that are kept to replace others: those that people put there, those that were accepted, and those
// in a bay that hold nothing and are in no pool.
func (s *Service) Stock() []api.StockItem {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.StockItem{}
	for key, d := range s.drives {
		if s.isStock(key, d) {
			out = append(out, s.viewStock(key, d))
		}
	}
	slices.SortFunc(out, func(a, b api.StockItem) int {
		return cmp.Or(b2i(b.Here)-b2i(a.Here), cmp.Compare(a.Model, b.Model), cmp.Compare(a.Tail, b.Tail))
	})
	return out
}

func (s *Service) isStock(key string, d *disk) bool {
	if p, _, _ := s.member(key); p != nil {
		return false
	}
	if d.Stock {
		return true
	}
	inUse, _ := s.notFree(d)
	return inUse == "" && d.Blind == "" && !d.Replaced && s.distrust(d) == ""
}

func (s *Service) viewStock(key string, d *disk) api.StockItem {
	v := api.StockItem{Drive: key, Tail: d.tail(), Model: d.Desc.Model, CapacityBytes: int64(d.Desc.Capacity), Medium: string(d.Desc.Medium), Here: d.Present, Note: d.StockNote,
		Accepted: api.StockItemAcceptedNone, Promised: s.work.promised(key, ""), Fits: []string{}}
	if d.Present {
		v.Place = placeWords(d)
	}
	switch d.Accepted.State {
	case string(accept.Passed):
		v.Accepted = api.StockItemAcceptedPassed
	case string(accept.Failed):
		v.Accepted = api.StockItemAcceptedFailed
	case string(accept.Running), string(accept.Paused):
		v.Accepted = api.StockItemAcceptedRunning
	}
	if d.Accepted.ID != "" {
		v.AcceptedAt, v.Says = d.Accepted.At, d.Accepted.Says
	}
	if p, ok := d.record["power_on_hours"].Last(); ok {
		v.PowerOnHours = p.Value
	}
	mine := *s.swapDrive(d)
	if why := s.distrust(d); why != "" {
		v.Says = "it " + why // it fits nowhere before it was tested and accepted
	} else {
		mine.Testing = false // that it is being tested is told beside it
		v.Fits = append(v.Fits, s.fitsPools(mine)...)
	}
	return v
}

// KeepInStock says that a drive is kept to replace others.
func (s *Service) KeepInStock(by, name, note string) (api.StockItem, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.findDrive(name)
	if err != nil {
		return api.StockItem{}, err
	}
	key := d.Desc.Key()
	if p, _, _ := s.member(key); p != nil {
		return api.StockItem{}, problem(409, "is-member", "Swap it out first.", "%s is a member of %s.", d.tail(), p.Name)
	}
	b := &store.Batch{}
	d.Stock, d.StockNote = true, strings.TrimSpace(note)
	d.version++
	b.Put(d.row())
	s.happened(b, api.EventKindDrive, key, fmt.Sprintf("%s keeps %s in stock", by, d.tail()))
	return s.viewStock(key, d), s.commit(b)
}

// DropFromStock says that it is not any more.
func (s *Service) DropFromStock(by, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.findDrive(name)
	if err != nil {
		return err
	}
	if !d.Stock {
		return nil
	}
	b := &store.Batch{}
	d.Stock, d.StockNote = false, ""
	d.version++
	b.Put(d.row())
	s.happened(b, api.EventKindDrive, d.Desc.Key(), fmt.Sprintf("%s takes %s out of the stock", by, d.tail()))
	return s.commit(b)
}
