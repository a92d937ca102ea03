package service

import (
	"errors"
	"runtime/debug"
	"slices"

	"lantern/internal/api"
	"lantern/internal/service/fleet"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

var errTaken = problem.New(
	409,
	"used-id",
	"Nothing needs to be done: it was taken before.",
	"A report with this id was taken already.",
)

// TakeReport takes in what an agent says. from is the host whose token came with it.
func (s *Service) TakeReport(from string, r api.Report) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := s.Fleet.Hosts[from]
	if h != nil {
		h.Known(&r)
	}
	if h == nil || r.Host != from {
		return problem.New(
			403,
			"unknown-host",
			"Enrol it with: lantern host enrol "+r.Host,
			"This token is not for a host named %q.",
			r.Host,
		)
	}
	if r.Id == "" || r.IntervalSeconds <= 0 {
		return problem.Forever(
			422,
			"bad-report",
			"Every report has an id and says when the next is due.",
			"The report is not complete.",
		)
	}
	if slices.Contains(h.Taken, r.Id) {
		return errTaken
	}
	switch _, err := store.One[store.ReportID](s.Store, "id = ?", r.Id); {
	case err == nil:
		return errTaken
	case !errors.Is(err, store.ErrNone):
		return err
	}
	if err := s.Fleet.Align(h, &r); err != nil {
		return err
	}
	b := &store.Batch{Once: &store.ReportID{ID: r.Id, Host: from, At: r.At}}
	if err := s.pass(&fleet.Change{Batch: b, Host: h, Report: r, Live: s.Fleet.Newer(h, &r)}); err != nil {
		return err
	}
	if h.Taken = append(h.Taken, r.Id); len(h.Taken) > fleet.IdsAtHand {
		h.Taken = slices.Delete(h.Taken, 0, fleet.IdsAtHand/2)
	}
	return nil
}

// pass lets a report go through the stages, once and in order. No stage calls another: what one wants of another is in
// the change, or an event.
func (s *Service) pass(c *fleet.Change) (err error) {
	defer func() {
		if p := recover(); p != nil {
			// A fault of ours must not end the service, nor be met again with every try: nothing of the report is kept.
			s.Log.Error("a report could not be taken in", "host", c.Host.Name, "report", c.Report.Id, "panic", p,
				"stack", string(debug.Stack()))
			if undo := s.undo(c.Batch); undo != nil {
				s.Log.Error("what was not written could not be taken back", "error", undo)
			}
			s.Changed()
			err = problem.Forever(422, "bad-report", "Send the service's log to whoever maintains it.",
				"The service failed on this report: %v.", p)
		}
	}()
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
	return s.Commit(c.Batch)
}
