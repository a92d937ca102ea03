package stock

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/accept"
	"lantern/internal/core/drive"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/service/orders"
	"lantern/internal/service/problem"
	"lantern/internal/service/selftests"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// Acceptance is the acceptance test of one drive.
type Acceptance struct{ accept.State }

func (a *Acceptance) row() *store.Acceptance {
	return &store.Acceptance{ID: a.ID, Doc: ledger.Document(a.State)}
}

// LoadAcceptances loads the acceptance tests and their policy from the store.
func (s *State) LoadAcceptances() error {
	rows, err := store.All[store.Acceptance](s.Store, "id", "")
	if err != nil {
		return err
	}
	s.AcceptanceByID = map[string]*Acceptance{}
	for _, row := range rows {
		if err := s.take(row); err != nil {
			return err
		}
	}
	return s.loadPolicy()
}

func (s *State) take(row store.Acceptance) error {
	state, err := accept.Decode(row.Doc)
	if err != nil {
		return fmt.Errorf("acceptance %s: %w", row.ID, err)
	}
	s.AcceptanceByID[state.ID] = &Acceptance{state}
	return nil
}

func (s *State) loadPolicy() error {
	policies, err := store.Newest[store.AcceptPolicy](s.Store, 1, "")
	if err != nil {
		return err
	}
	s.policy = acceptPolicy{}
	for _, p := range policies {
		if err := json.Unmarshal(p.Doc, &s.policy.AcceptPolicy); err != nil {
			return fmt.Errorf("what new drives are tested for: %w", err)
		}
	}
	return nil
}

// AcceptPolicy is the default policy for new drives.
type acceptPolicy struct{ api.AcceptPolicy }

func (p acceptPolicy) stages() []accept.Stage { return accept.Policy(p.Surface, p.Extended) }

// AcceptPolicy gives the policy.
func (s *Service) AcceptPolicy() api.AcceptPolicy {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.policy.AcceptPolicy
}

// SetAcceptPolicy sets the policy. Tests under way are not changed.
func (s *Service) SetAcceptPolicy(by string, p api.AcceptPolicy) (api.AcceptPolicy, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if p.RateBytes < 0 {
		return p, badRate()
	}
	p.SetBy, p.SetAt = by, s.Clock.Now()
	b := &store.Batch{}
	b.Put(&store.AcceptPolicy{ID: ledger.NewID(), Doc: ledger.Document(p)})
	s.policy = acceptPolicy{p}
	s.AddEvent(b, api.EventKindAcceptance, "", by+" set what new drives are tested for")
	return p, s.Commit(b)
}

func badRate() error {
	return problem.New(422, "bad-rate", "Such as 100MB; nothing for 150 MB a second.", "A rate is not negative.")
}

// Accept starts the acceptance test of a drive. Where its surface is written, the label tail must have been typed (R3).
func (s *Service) Accept(by string, req api.AcceptDrive) (api.Acceptance, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.fleet.FindDrive(req.Drive)
	if err != nil {
		return api.Acceptance{}, err
	}
	key := d.Key()
	if a := s.AcceptanceOf(key); a != nil {
		return s.ViewAcceptance(a), nil // repeated: nothing to do
	}
	if p := s.policy; req.ByPolicy {
		req.Surface, req.Extended, req.RateBytes = p.Surface, p.Extended, p.RateBytes
	}
	p, _, _ := s.fleet.Member(key)
	h := s.fleet.Hosts[d.Host]
	lead, waits := s.fleet.Work.WaitsIn(key)
	inUse, wipe := s.fleet.NotFree(d)
	switch {
	case !d.Present:
		return api.Acceptance{}, problem.New(
			409,
			"drive-away",
			"Put it into any free bay first.",
			"%s does not answer.",
			d.Tail(),
		)
	case h == nil || s.fleet.Late(h, s.Clock.Now()):
		return api.Acceptance{}, problem.New(
			409,
			"host-quiet",
			"Bring its agent back first.",
			"%s does not report, so nothing can be tested there.",
			d.Host,
		)
	case p != nil:
		return api.Acceptance{}, problem.New(
			409,
			"is-member",
			"Only a drive that holds nothing is tested so.",
			"%s is a member of %s.",
			d.Tail(),
			p.Name,
		)
	case inUse != "":
		return api.Acceptance{}, problem.New(409, "drive-refused", wipe, "%s cannot be tested: %s.", d.Tail(), inUse)
	case waits && lead != by:
		return api.Acceptance{}, problem.New(
			409,
			"led-by-another",
			"Ask them.",
			"%s leads the swap that it waits for.",
			lead,
		)
	case !waits && s.fleet.Work.Promised(key, "") != "":
		return api.Acceptance{}, problem.New(
			409,
			"promised",
			"Test it before, or afterwards.",
			"%s is reserved by the swap of %s.",
			d.Tail(),
			s.fleet.Work.Promised(key, ""),
		)
	case req.Surface && !d.Desc.TailMatches(req.Tail):
		return api.Acceptance{}, problem.New(
			409,
			"wrong-tail",
			"Read the label; nothing was written.",
			"%q is not the label tail of the drive whose whole surface is to be written.",
			req.Tail,
		)
	case req.RateBytes < 0:
		return api.Acceptance{}, badRate()
	}
	a := &Acceptance{
		accept.State{
			ID:     ledger.NewID(),
			By:     by,
			Drive:  d.Desc.Identity,
			Host:   d.Host,
			Bay:    d.BayName(),
			Rate:   req.RateBytes,
			Stages: accept.Policy(req.Surface, req.Extended),
		},
	}
	s.AcceptanceByID[a.ID] = a
	b := &store.Batch{}
	next, orders := accept.Begin(a.State, s.Clock.Now(), fleet.Counts(d))
	s.turn(b, a, next, orders)
	return s.ViewAcceptance(a), s.Commit(b)
}

// turn stores the next state of an acceptance, and gives its orders.
func (s *State) turn(b *store.Batch, a *Acceptance, next accept.State, todo []accept.Order) {
	if string(ledger.Document(a.State)) == string(ledger.Document(next)) && len(todo) == 0 {
		return
	}
	says := ""
	if n := len(next.Log); n > len(a.Log) {
		says = next.Log[n-1].Says
	}
	a.State = next
	d := s.fleet.Drives[a.Drive.Key()]
	for _, o := range todo {
		if d == nil {
			break
		}
		out := api.Order{
			Host:       d.Host,
			Kind:       api.OrderKindSurface,
			By:         a.By,
			Drive:      wire.Identity(a.Drive),
			Acceptance: a.ID,
			RateBytes:  a.Rate,
			On:         o.Kind == accept.OrderSurface,
		}
		switch o.Kind {
		case accept.OrderTest:
			at, now := s.judging.Places()[a.Drive.Key()], s.Clock.Now()
			why := s.selftests.MayTest(d, at, o.Test, now)
			if why != "" && (!d.Reading.SelfTests && (!d.Reading.At.IsZero() || d.Blind != "")) {
				further, more := a.CannotTest(now, "it has no self-tests that could be asked for")
				s.turn(b, a, further, more)
				return
			}
			if why != "" {
				a.Asked = false // it is ordered again when the drive may be tested
				continue
			}
			s.selftests.BeginTest(b, d, at, api.TestOrder{Kind: api.TestOrderKind(o.Test)}, a.By, now)
			continue
		case accept.OrderStop:
			if r := s.selftests.Runs[a.Drive.Key()]; r != nil {
				s.selftests.StopTest(b, d, r, a.By)
			}
			if a.Surface.Size == 0 {
				continue
			}
			out.Test = "stop"
		case accept.OrderPause:
			out.Test = "pause"
		}
		s.orders.Give(b, &orders.Order{Order: out})
	}
	b.Put(a.row())
	if d != nil {
		d.Accepted = fleet.Accepted{
			ID:    a.ID,
			State: string(a.Outcome),
			At:    cmp.Or(a.EndedAt, s.Clock.Now()),
			Says:  a.Words(),
		}
		if a.Outcome == accept.Passed {
			d.Stock = true
		}
		d.Touch()
		b.Put(d.Row())
	}
	if says != "" {
		s.AddEvent(b, api.EventKindAcceptance, a.ID, fmt.Sprintf("%s: %s", a.Drive.Tail(), says))
	} else {
		s.Send(api.Event{Kind: api.EventKindAcceptance, At: s.Clock.Now(), Subject: a.ID, Says: "progress"})
	}
}

// AcceptanceOf is the open acceptance of a drive.
func (s *State) AcceptanceOf(key string) *Acceptance {
	for _, a := range s.AcceptanceByID {
		if a.Outcome.Open() && a.Drive.Key() == key {
			return a
		}
	}
	return nil
}

// Take passes a report to the acceptance tests of its drives.
func (s *State) Take(c *fleet.Change) {
	for _, x := range c.Drives {
		s.seen(c.Batch, x.Key, x.Drive, *x.Says, c.Report.At)
	}
}

// seen passes a report to the acceptance test of a drive.
func (s *State) seen(b *store.Batch, key string, d *fleet.Drive, r api.DriveReport, told time.Time) {
	a := s.AcceptanceOf(key)
	if a == nil {
		return
	}
	now := s.Clock.Now()
	next := a.State
	next.Host, next.Bay = d.Host, d.BayName()
	var orders []accept.Order
	if u := r.Surface; u.Id == a.ID &&
		!(next.Asked && next.Surface.State == "" && u.State != api.SurfaceReportStateRunning &&
			next.Surface.Done == u.DoneBytes) {
		next, orders = next.SurfaceSeen(
			told,
			accept.SurfaceReport{
				Pass:   string(u.Pass),
				Done:   u.DoneBytes,
				Size:   u.SizeBytes,
				Rate:   u.RateBytes,
				State:  string(u.State),
				Bad:    u.Bad,
				Says:   u.Says,
				Faults: toFaults(u.Faults),
			},
		)
	}
	switch {
	case !r.Reading.At.IsZero():
		next = next.CountsSeen(fleet.Counts(d))
	case d.Blind != "" && d.Reading.At.IsZero():
		next = next.NoCounts(now, d.Blind)
	}
	s.turn(b, a, next, orders)
}

// TestToAcceptance passes the end of a self-test to the acceptance test of its drive.
func (s *State) TestToAcceptance(b *store.Batch, r *selftests.Run) {
	if a := s.AcceptanceOf(r.Drive); a != nil {
		next, orders := a.TestEnded(
			r.EndedAt,
			drive.SelfTestKind(r.Kind),
			r.State == api.TestRunStatePassed,
			r.State == api.TestRunStateFailed,
			r.Says,
		)
		s.turn(b, a, next, orders)
	}
}

// Answered records the outcome of an order of an acceptance test; ours is false for other orders.
func (s *State) Answered(b *store.Batch, o *orders.Order) (ours bool) {
	if a := s.AcceptanceByID[o.Acceptance]; a != nil && o.On && o.State != api.OrderStateDone {
		s.turn(b, a, a.OrderFailed(s.Clock.Now(), o.Says), nil)
	}
	return o.Acceptance != ""
}

// Tick orders what could not be ordered before.
func (s *State) Tick(t *fleet.Tick) {
	b, now := t.Batch, t.Now
	for _, a := range s.AcceptanceByID {
		if d := s.fleet.Drives[a.Drive.Key()]; a.Outcome == accept.Running && !a.Asked && d != nil && d.Present {
			if next, orders := a.Orders(now); len(orders) > 0 {
				s.turn(b, a, next, orders)
			}
		}
	}
}

// ActOnAcceptance performs a person's action: pause, resume, stop.
func (s *Service) ActOnAcceptance(by, id, what, reason string) (api.Acceptance, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	a, err := s.FindAcceptance(id)
	if err != nil {
		return api.Acceptance{}, err
	}
	next, orders, why := a.Act(s.Clock.Now(), by, what, reason)
	if why != "" {
		return api.Acceptance{}, problem.New(
			409,
			"not-now",
			"See its state: lantern accept show "+a.Drive.Tail(),
			"%s: %s.",
			a.Drive.Tail(),
			why,
		)
	}
	b := &store.Batch{}
	s.turn(b, a, next, orders)
	return s.ViewAcceptance(a), s.Commit(b)
}

// FindAcceptance finds an acceptance by its id, or the newest one of a drive by its label tail.
func (s *State) FindAcceptance(name string) (best *Acceptance, err error) {
	if a := s.AcceptanceByID[name]; a != nil {
		return a, nil
	}
	for _, a := range s.AcceptanceByID {
		if (strings.EqualFold(a.Drive.Tail(), name) || strings.EqualFold(a.Drive.Serial, name) || a.Drive.Key() == name) &&
			(best == nil || a.ID > best.ID) {
			best = a
		}
	}
	if best == nil {
		return nil, problem.New(
			404,
			"no-acceptance",
			"List them with: lantern accept list",
			"No test of a new drive is known by %q.",
			name,
		)
	}
	return best, nil
}

// Acceptance is one.
func (s *Service) Acceptance(name string) (api.Acceptance, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	a, err := s.FindAcceptance(name)
	if err != nil {
		return api.Acceptance{}, err
	}
	return s.ViewAcceptance(a), nil
}

// Acceptances lists them, the newest first.
func (s *Service) Acceptances() []api.Acceptance {
	s.mu.RLock()
	defer s.mu.RUnlock()
	out := []api.Acceptance{}
	for _, a := range s.AcceptanceByID {
		out = append(out, s.ViewAcceptance(a))
	}
	slices.SortFunc(out, func(a, b api.Acceptance) int { return cmp.Compare(b.Id, a.Id) })
	return out
}

func (s *State) ViewAcceptance(a *Acceptance) api.Acceptance {
	out := api.Acceptance{
		Id:      a.ID,
		Drive:   a.Drive.Key(),
		Tail:    a.Drive.Tail(),
		Model:   a.Drive.Model,
		Host:    a.Host,
		Bay:     a.Bay,
		By:      a.By,
		State:   api.AcceptanceState(a.Outcome),
		Stage:   string(a.Stage()),
		Stages:  []string{},
		Says:    a.Words(),
		Checks:  ViewChecks(a.Checks),
		Log:     ViewLog(a.Log),
		BegunAt: a.BegunAt,
		EndedAt: a.EndedAt,
		SeenAt:  s.Clock.Now(),
	}
	for _, st := range a.Stages {
		out.Stages = append(out.Stages, string(st))
	}
	out.Soonest, out.Latest, _ = a.Finish(s.Clock.Now())
	if u := a.Surface; u.Size > 0 {
		out.Surface = api.SurfaceReport{
			Id:        a.ID,
			Pass:      api.SurfaceReportPass(u.Pass),
			DoneBytes: u.Done,
			SizeBytes: u.Size,
			RateBytes: u.Rate,
			State:     api.SurfaceReportState(cmp.Or(u.State, "running")),
			Bad:       u.Bad,
			Says:      u.Says,
		}
		for _, x := range u.Faults {
			out.Surface.Faults = append(
				out.Surface.Faults,
				api.SurfaceFault{At: x.At, Bytes: x.Bytes, What: api.SurfaceFaultWhat(x.What)},
			)
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
