package service

import (
	"errors"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"

	"lantern/internal/api"
	"lantern/internal/service/fleet"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// errAgain is for reports that were processed together with one that failed. Their agents send them again.
var errAgain = errors.New("the report was not stored because another one in the same transaction failed")

var errTaken = problem.New(
	409,
	"used-id",
	"Nothing needs to be done: it was accepted before.",
	"A report with this id was accepted before.",
)

// intake is a report that waits for the lock of the service. err is valid when done is set, with the lock held.
type intake struct {
	from   string
	report api.Report
	err    error
	done   bool
}

// waiting has the reports that wait for the lock. Whoever gets the lock first processes all of them and writes them in
// one transaction, so that they wait for the disk once ("group commit").
type waiting struct {
	mu      sync.Mutex // guards reports; it may be taken while the lock of the service is held
	reports []*intake
	people  atomic.Int32 // requests of people under way
}

// The greatest number of reports in one transaction: without requests of people, and with some under way. Large groups
// need fewer writes to the disk, small ones let people wait less.
const (
	groupMost   = 16
	groupBeside = 4
)

// BeginRequest records that a request of a person is under way, until done is called. Meanwhile reports are processed
// in smaller groups.
func BeginRequest(s *Service) (done func()) {
	s.waiting.people.Add(1)
	return func() { s.waiting.people.Add(-1) }
}

func (w *waiting) add(r *intake) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.reports = append(w.reports, r)
}

// group removes and returns the oldest reports. It ends before a second report of a host, because that is compared with
// what the store has of the first.
func (w *waiting) group() (out []*intake) {
	w.mu.Lock()
	defer w.mu.Unlock()
	hosts, most := map[string]bool{}, groupMost
	if w.people.Load() > 0 {
		most = groupBeside
	}
	for _, r := range w.reports {
		if hosts[r.from] || len(out) == most {
			break
		}
		hosts[r.from] = true
		out = append(out, r)
	}
	w.reports = slices.Delete(w.reports, 0, len(out))
	return out
}

// TakeReport processes and stores a report of an agent. from is the host whose token came with it.
func (s *Service) TakeReport(from string, r api.Report) error {
	in := &intake{from: from, report: r}
	s.waiting.add(in)
	for !takeGroup(s, in) { // others get the lock after each group
	}
	return in.err
}

// takeGroup processes a group of waiting reports, unless the given one was processed already, and reports whether that
// one is done now.
func takeGroup(s *Service, in *intake) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !in.done {
		s.takeGroupLocked(s.waiting.group())
	}
	return in.done
}

// takeGroupLocked processes reports in order and writes them in one transaction: all of them, or none.
func (s *Service) takeGroupLocked(group []*intake) {
	for _, in := range group {
		in.err, in.done = errAgain, true // unless it gets further
	}
	var taken []*intake
	var batches []*store.Batch
	ids, unknown := usedIDs(s.Store, group)
	for _, in := range group {
		h, err := s.checkLocked(in.from, &in.report, ids)
		if err == nil && unknown != nil {
			err = unknown
		}
		if err != nil {
			in.err = err
			continue
		}
		ids[in.report.Id] = true
		b := &store.Batch{
			Observed: true,
			Once:     &store.ReportID{ID: in.report.Id, Host: in.from, At: in.report.At},
		}
		taken, batches = append(taken, in), append(batches, b)
		c := &fleet.Change{Batch: b, Host: h, Report: in.report, Live: s.Fleet.Newer(h, &in.report)}
		if err := s.guard(&in.report, func() error { s.pass(c); return nil }); err != nil {
			s.UndoAll(batches)
			in.err = err
			return
		}
	}
	if len(taken) == 0 {
		return
	}
	written := false
	err := s.guard(&taken[0].report, func() error {
		err := s.Commit(batches...)
		written = true
		return err
	})
	if !written {
		s.UndoAll(batches)
	}
	if (!written || errors.Is(err, store.ErrTwice)) && len(taken) > 1 {
		return // it is about one of them, and not known which
	}
	for _, in := range taken {
		if in.err = err; err != nil {
			continue
		}
		h := s.Fleet.Hosts[in.from]
		if h.Taken = append(h.Taken, in.report.Id); len(h.Taken) > fleet.IdsAtHand {
			h.Taken = slices.Delete(h.Taken, 0, fleet.IdsAtHand/2)
		}
	}
}

// usedIDs are the ids of reports in a group that were stored before.
func usedIDs(records *store.Store, group []*intake) (map[string]bool, error) {
	var ids []string
	for _, in := range group {
		ids = append(ids, in.report.Id)
	}
	known, err := store.All[store.ReportID](records, "id", "id IN ?", ids)
	out := map[string]bool{}
	for _, x := range known {
		out[x.ID] = true
	}
	return out, err
}

// checkLocked returns the host of a report, and corrects the times in it. used are the ids of earlier reports.
func (s *Service) checkLocked(from string, r *api.Report, used map[string]bool) (*fleet.Host, error) {
	h := s.Fleet.Hosts[from]
	if h != nil {
		h.Known(r)
	}
	if h == nil || r.Host != from {
		return nil, problem.New(
			403,
			"unknown-host",
			"Enrol it with: lantern host enrol "+r.Host,
			"This token is not for a host named %q.",
			r.Host,
		)
	}
	if r.Id == "" || r.IntervalSeconds <= 0 {
		return nil, problem.Forever(
			422,
			"bad-report",
			"Every report has an id and says when the next is due.",
			"The report is not complete.",
		)
	}
	if slices.Contains(h.Taken, r.Id) || used[r.Id] {
		return nil, errTaken
	}
	return h, s.Fleet.Align(h, r)
}

// guard turns a panic of f into an error: a fault of ours must not end the service, and the agent must not send the
// report again.
func (s *Service) guard(r *api.Report, f func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			s.Log.Error("a report could not be processed", "host", r.Host, "report", r.Id, "panic", p,
				"stack", string(debug.Stack()))
			err = problem.Forever(422, "bad-report", "Send the service's log to whoever maintains it.",
				"The service failed on this report: %v.", p)
		}
	}()
	return f()
}

// pass processes a report in stages, each once and in order. No stage calls another: what one needs from another is in
// the change, or an event.
func (s *Service) pass(c *fleet.Change) {
	for _, stage := range []struct {
		take func(*fleet.Change)
		past bool // whether it takes a report that is not newer than what is known
	}{
		{s.Fleet.TakeDrives, true},
		{s.Readings.Take, true},
		{s.Fleet.TakeHost, false},
		{s.Fleet.TakePools, false},
		{s.Readings.TakePools, false},
		{s.Recoveries.Take, false},
		{s.Selftests.Take, true},
		{s.Fleet.KeepDrives, true},
		{func(*fleet.Change) { s.Changed() }, false}, // what follows asks for findings and margins
		{s.Stock.Take, false},
		{s.Swaps.Take, false},
		{s.Bays.Take, false},
	} {
		if c.Live || stage.past {
			stage.take(c)
		}
	}
}
