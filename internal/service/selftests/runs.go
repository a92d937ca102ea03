package selftests

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
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/service/orders"
	"lantern/internal/service/problem"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// Run is a self-test that was ordered. Before is the top of the drive's log then; Answered is when the drive accepted
// it.
type Run struct {
	api.TestRun
	Before   []api.SelfTest `json:"before"`
	Answered time.Time      `json:"answered"`
	Stopping bool           `json:"stopping"`
	// Takes is its expected duration; Moved is when it last made progress.
	Takes time.Duration `json:"takes,omitempty"`
	Moved time.Time     `json:"moved,omitzero"`
}

func (r *Run) row() *store.TestRun {
	return &store.TestRun{ID: r.Id, Drive: r.Drive, Ended: !r.EndedAt.IsZero(), Doc: ledger.Document(r)}
}

func (s *State) LoadRuns() error {
	rows, err := store.All[store.TestRun](s.Store, "id", "ended = ?", false)
	if err != nil {
		return err
	}
	s.Runs = map[string]*Run{}
	for _, row := range rows {
		r := &Run{}
		if err := json.Unmarshal(row.Doc, r); err != nil {
			return fmt.Errorf("self-test %s: %w", row.ID, err)
		}
		s.Runs[r.Drive] = r
		s.stalled(r)
	}
	return nil
}

// top is the part of a log that identifies its state.
func top(tests []api.SelfTest) []api.SelfTest { return slices.Clone(tests[:min(len(tests), 3)]) }

// testable are the drives that an order for tests names, in order of their bays.
func (s *State) testable(req api.TestOrder) (out []*fleet.Drive, err error) {
	where, err := history.ParseWhere(req.Where)
	if err != nil {
		return nil, problem.New(422, "bad-where", "All metrics: lantern metrics", "%s.", err)
	}
	switch {
	case req.Drive != "":
		d, err := s.fleet.FindDrive(req.Drive)
		return []*fleet.Drive{d}, err
	case req.Pool != "":
		p, err := s.fleet.FindPool(req.Pool)
		if err != nil {
			return nil, err
		}
		p.Everyone(func(_ string, m *pool.Member) {
			if d := s.fleet.Drives[m.Drive]; d != nil {
				out = append(out, d)
			}
		})
	case req.Host != "":
		if s.fleet.Hosts[req.Host] == nil {
			return nil, fleet.NoHost(s.fleet, req.Host)
		}
		fallthrough
	case req.Where != "":
		for _, d := range s.fleet.Drives {
			if (d.Host == req.Host || req.Host == "") && d.Present {
				out = append(out, d)
			}
		}
	default:
		return nil, problem.New(
			422,
			"no-drive",
			"Name a drive, a pool or a host, or say for which drives it is.",
			"The request names no drives to test.",
		)
	}
	out = slices.DeleteFunc(out, func(d *fleet.Drive) bool {
		return slices.ContainsFunc(where, func(c history.Comparison) bool { return !c.Holds(d.Record) })
	})
	slices.SortFunc(out, fleet.ByPlace)
	if len(out) == 0 {
		return nil, problem.New(
			404,
			"no-drive",
			"See which drives there are: lantern drives",
			"This names no drive.",
		)
	}
	return out, nil
}

// MayTest says why a drive cannot be tested now; empty when it can.
func (s *State) MayTest(d *fleet.Drive, at fleet.Place, kind drive.SelfTestKind, now time.Time) string {
	_, has := d.Reading.TestMinutes[string(kind)]
	switch h := s.fleet.Hosts[d.Host]; {
	case !d.Present:
		return "it does not answer"
	case h == nil || s.fleet.Late(h, now):
		return d.Host + " does not report"
	case d.Blind != "":
		return "it reports no health data: " + d.Blind
	case !d.Reading.SelfTests:
		return "it has no self-tests"
	case !has && len(d.Reading.TestMinutes) > 0:
		return "it has no " + string(kind) + " self-test"
	case s.Runs[d.Key()] != nil || d.Reading.Testing.RemainingPercent > 0:
		return "it is being tested already"
	case at.Pool != nil && at.Pool.Recovers():
		return at.Pool.Name + " is recovering, and is left in peace until that is done"
	}
	if at.Pool != nil {
		if lead, begun := s.fleet.Work.SwapIn(at.Pool.ID); begun {
			return fmt.Sprintf("a swap is under way in %s, led by %s", at.Pool.Name, lead)
		}
	}
	return ""
}

// groupTests reports whether another member of a drive's group is being tested: tests started by people also run one at
// a time.
func (s *State) groupTests(d *fleet.Drive, at fleet.Place) string {
	for _, k := range at.Peers {
		if other := s.fleet.Drives[k]; other != nil && other != d &&
			(s.Runs[k] != nil || other.Reading.Testing.RemainingPercent > 0) {
			return fmt.Sprintf("%s of the same group is being tested: one at a time", other.Tail())
		}
	}
	return ""
}

// span checks the range of a selective test.
func span(d *fleet.Drive, req api.TestOrder) error {
	sectors := int64(d.Desc.Capacity / max(1, d.Desc.LogicalSector))
	if req.Kind == api.TestOrderKindSelective && (req.LastLba < req.FirstLba || req.LastLba >= sectors) {
		return problem.New(
			422,
			"bad-span",
			fmt.Sprintf("%s has addresses 0 to %d.", d.Tail(), sectors-1),
			"A selective test goes from one address to a higher one of the drive, not from %d to %d.",
			req.FirstLba,
			req.LastLba,
		)
	}
	return nil
}

// StartTests orders a self-test of each drive that may be tested now, and gives the reason for the others.
func (s *Service) StartTests(by string, req api.TestOrder) ([]api.TestRun, error) {
	req.Kind = cmp.Or(req.Kind, api.TestOrderKindShort)
	s.mu.Lock()
	defer s.mu.Unlock()
	drives, err := s.testable(req)
	if err != nil {
		return nil, err
	}
	now, places := s.Clock.Now(), s.judging.Places()
	b := &store.Batch{}
	out := []api.TestRun{}
	begun := 0
	for _, d := range drives {
		if err := span(d, req); err != nil {
			return nil, err
		}
	}
	for _, d := range drives {
		at := places[d.Key()]
		if why := cmp.Or(s.MayTest(d, at, drive.SelfTestKind(req.Kind), now), s.groupTests(d, at)); why != "" {
			r := s.newRun(d, at, string(req.Kind), by, now)
			r.State, r.Says, r.EndedAt = api.TestRunStateRefused, why, now
			out = append(out, r.TestRun)
			continue
		}
		r := s.BeginTest(b, d, at, req, by, now)
		b.Put(r.row())
		out = append(out, r.TestRun)
		begun++
	}
	if begun == 0 {
		return out, nil
	}
	return out, s.Commit(b)
}

func (s *State) newRun(d *fleet.Drive, at fleet.Place, kind, by string, now time.Time) *Run {
	r := &Run{
		TestRun: api.TestRun{
			Id:        ledger.NewID(),
			Drive:     d.Key(),
			Tail:      d.Tail(),
			Bay:       d.BayName(),
			Kind:      kind,
			State:     api.TestRunStateOrdered,
			By:        by,
			OrderedAt: now,
			Lba:       -1,
			Says:      "not started yet",
		},
		Before: top(d.Reading.Tests),
		Takes:  s.TestTakes(d, drive.SelfTestKind(kind), nil),
	}
	if at.Pool != nil {
		r.Pool = at.Pool.Name
	}
	return r
}

// BeginTest orders one test, and records it at once, so that the next one of its group waits.
func (s *State) BeginTest(
	b *store.Batch,
	d *fleet.Drive,
	at fleet.Place,
	req api.TestOrder,
	by string,
	now time.Time,
) *Run {
	r := s.newRun(d, at, string(req.Kind), by, now)
	s.Runs[r.Drive] = r
	s.orders.Give(
		b,
		&orders.Order{
			Order: api.Order{
				Host:     d.Host,
				Kind:     api.OrderKindSelftest,
				By:       by,
				Drive:    wire.Identity(d.Desc.Identity),
				Test:     r.Kind,
				On:       true,
				Wake:     req.Wake,
				FirstLba: req.FirstLba,
				LastLba:  req.LastLba,
			},
			TestedDrive: r.Drive,
		},
	)
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
		r := s.Runs[d.Key()]
		if r == nil {
			continue
		}
		s.StopTest(b, d, r, by)
		out = append(out, r.TestRun)
	}
	return out, s.Commit(b)
}

func (s *State) StopTest(b *store.Batch, d *fleet.Drive, r *Run, by string) {
	r.Stopping, r.Says = true, by+" asked it to stop"
	s.orders.Give(
		b,
		&orders.Order{
			Order: api.Order{
				Host:  d.Host,
				Kind:  api.OrderKindSelftest,
				By:    by,
				Drive: wire.Identity(d.Desc.Identity),
				Test:  r.Kind,
			},
			TestedDrive: r.Drive,
		},
	)
	b.Put(r.row())
}

// TestRuns lists self-tests that were ordered, the newest first.
func (s *Service) TestRuns(name string) ([]api.TestRun, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	where, args := "1 = 1", []any(nil)
	if name != "" {
		d, err := s.fleet.FindDrive(name)
		if err != nil {
			return nil, err
		}
		where, args = "drive = ?", []any{d.Key()}
	}
	rows, err := store.Newest[store.TestRun](s.Store, 200, where, args...)
	if err != nil {
		return nil, err
	}
	out := make([]api.TestRun, 0, len(rows))
	for _, row := range rows {
		var r Run
		if json.Unmarshal(row.Doc, &r) == nil {
			out = append(out, r.TestRun)
		}
	}
	return out, nil
}
