package service

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/pool"
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
	}
	return nil
}

// top is as much of a log as tells one moment of it from the next.
func top(tests []api.SelfTest) []api.SelfTest { return slices.Clone(tests[:min(len(tests), 3)]) }

// testable are the drives that an order for tests names, in order of their bays.
func (s *Service) testable(req api.TestOrder) (out []*disk, err error) {
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
		for _, d := range s.drives {
			if d.Host == req.Host && d.Present {
				out = append(out, d)
			}
		}
	default:
		return nil, problem(422, "no-drive", "Name a drive, a pool or a host.", "Nothing says which drives are to be tested.")
	}
	slices.SortFunc(out, byPlace)
	return out, nil
}

// mayTest says why a drive cannot be tested now; empty when it can.
func (s *Service) mayTest(d *disk, at place, now time.Time) string {
	switch h := s.hosts[d.Host]; {
	case !d.Present:
		return "it does not answer"
	case h == nil || s.late(h, now):
		return d.Host + " does not report"
	case d.Blind != "":
		return "it is blind: " + d.Blind
	case !d.Reading.SelfTests:
		return "it has no self-tests"
	case s.runs[d.Desc.Key()] != nil || d.Reading.Testing.RemainingPercent > 0:
		return "it is being tested already"
	case at.pool != nil && len(at.pool.running) > 0:
		return at.pool.Name + " is recovering, and is left in peace until that is done"
	}
	for _, k := range at.peers {
		if other := s.drives[k]; other != nil && other != d && (s.runs[k] != nil || other.Reading.Testing.RemainingPercent > 0) {
			return fmt.Sprintf("%s of the same group is being tested: one at a time", other.tail())
		}
	}
	return ""
}

// StartTests orders a self-test of each drive that may be tested now, and says of the others why not.
func (s *Service) StartTests(by string, req api.TestOrder) ([]api.TestRun, error) {
	if req.Kind == "" {
		req.Kind = api.Short
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	drives, err := s.testable(req)
	if err != nil {
		return nil, err
	}
	now, places := s.clock.Now(), s.places()
	b := &store.Batch{}
	out := []api.TestRun{}
	begun := map[string]*testRun{}
	for _, d := range drives {
		at := places[d.Desc.Key()]
		r := &testRun{TestRun: api.TestRun{Id: newID(), Drive: d.Desc.Key(), Tail: d.tail(), Bay: d.bay(), Kind: string(req.Kind), State: api.TestRunStateOrdered, By: by, OrderedAt: now, Lba: -1, Says: "it was asked of the drive"},
			Before: top(d.Reading.Tests)}
		if at.pool != nil {
			r.Pool = at.pool.Name
		}
		if why := s.mayTest(d, at, now); why != "" {
			r.State, r.Says, r.EndedAt = api.TestRunStateRefused, why, now
			out = append(out, r.TestRun)
			continue
		}
		s.runs[r.Drive] = r // so that the next of its group waits
		begun[r.Drive] = r
		s.order(b, &order{Order: api.Order{Host: d.Host, Kind: api.OrderKindSelftest, By: by, Drive: wire.Identity(d.Desc.Identity), Test: r.Kind, On: true}, test: r.Drive})
		b.Put(r.row())
		out = append(out, r.TestRun)
	}
	if len(begun) == 0 {
		return out, nil
	}
	return out, s.commit(b)
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
		r.Stopping, r.Says = true, by+" asked it to stop"
		s.order(b, &order{Order: api.Order{Host: d.Host, Kind: api.OrderKindSelftest, By: by, Drive: wire.Identity(d.Desc.Identity), Test: r.Kind}, test: r.Drive})
		b.Put(r.row())
		out = append(out, r.TestRun)
	}
	return out, s.commit(b)
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
		s.endTest(b, r, api.TestRunStateRefused, o.Says)
		return
	default:
		r.Stopping, r.Says = false, "it did not stop: "+o.Says
	}
	b.Put(r.row())
}

func (s *Service) endTest(b *store.Batch, r *testRun, state api.TestRunState, says string) {
	r.State, r.Says, r.EndedAt, r.RemainingPercent = state, says, s.clock.Now(), 0
	b.Put(r.row())
	delete(s.runs, r.Drive)
	s.happened(b, api.EventKindDrive, r.Drive, fmt.Sprintf("%s self-test of %s: %s", r.Kind, r.Tail, says))
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
		s.bus.send(api.Event{Kind: api.EventKindDrive, At: rd.At, Subject: key, Says: "progress"})
		r.RemainingPercent, r.Says = rd.Testing.RemainingPercent, fmt.Sprintf("%d %% are left", rd.Testing.RemainingPercent)
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
