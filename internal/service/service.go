// Package service is the application: the state of the fleet, the work under way, and the handling of reports and of
// people's requests. Each folder below it holds one subject. This package combines them, and passes everything that
// concerns several of them through them in order: a report, a tick of the clock, the outcome of an order.
package service

import (
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/core/notice"
	"lantern/internal/service/bays"
	"lantern/internal/service/fleet"
	"lantern/internal/service/inventory"
	"lantern/internal/service/judging"
	"lantern/internal/service/ledger"
	"lantern/internal/service/notices"
	"lantern/internal/service/orders"
	"lantern/internal/service/people"
	"lantern/internal/service/problem"
	"lantern/internal/service/progress"
	"lantern/internal/service/readings"
	"lantern/internal/service/recoveries"
	"lantern/internal/service/rehearsal"
	"lantern/internal/service/selftests"
	"lantern/internal/service/stock"
	"lantern/internal/service/swaps"
	"lantern/internal/service/views"
	"lantern/internal/store"
)

// Service is the whole application. Each part is used through its own methods, which take the one lock; every change
// goes through the ledger.
type Service struct {
	*ledger.Ledger
	mu      *ledger.Lock
	waiting waiting

	retention Retention
	tidied    time.Time // when old records were last deleted
	packed    time.Time // real time: when there was last nothing to pack

	Fleet      *fleet.Service
	People     *people.Service
	Recoveries *recoveries.State
	Readings   *readings.Service
	Judging    *judging.Service
	Orders     *orders.Service
	Progress   *progress.Service
	Bays       *bays.Service
	Selftests  *selftests.Service
	Stock      *stock.Service
	Swaps      *swaps.Service
	Inventory  *inventory.Service
	Notices    *notices.Service
	Views      *views.Service
	Rehearsal  *rehearsal.Service
}

// New loads everything from the store.
func New(st *store.Store, c clock.Clock, log *slog.Logger) (*Service, error) {
	l := ledger.New(st, c, log)
	f := fleet.New(l)
	p := people.New(l, f)
	r := recoveries.New(l, f)
	m := readings.New(l, f)
	j := judging.New(l, f, r, m)
	o := orders.New(l, f)
	g := progress.New(l, f, r, j, o)
	b := bays.New(l, f, j, o)
	t := selftests.New(l, f, j, o)
	k := stock.New(l, f, j, o, t)
	w := swaps.New(l, f, p, r, j, o, g, b, t, k)
	e := inventory.New(l, f, j)
	f.Bought = e.Bought
	n := notices.New(l, f, r, j, g, b, w)
	v := views.New(l, f, r, m, j, o, g, b, t, k, w, e)
	f.Work, t.Ended, w.News = w, k.TestToAcceptance, func() []notice.Notice { return n.Open }

	s := &Service{Ledger: l, mu: &l.Mu, retention: UsualRetention}
	s.Fleet, s.People, s.Recoveries, s.Readings = fleet.NewService(
		f,
		s.mu,
	), people.NewService(
		p,
		s.mu,
	), r, readings.NewService(
		m,
		s.mu,
	)
	s.Judging, s.Orders, s.Progress, s.Bays = judging.NewService(
		j,
		s.mu,
	), orders.NewService(
		o,
		s.mu,
	), progress.NewService(
		g,
		s.mu,
	), bays.NewService(
		b,
		s.mu,
	)
	s.Selftests, s.Stock, s.Swaps, s.Notices = selftests.NewService(
		t,
		s.mu,
	), stock.NewService(
		k,
		s.mu,
	), swaps.NewService(
		w,
		s.mu,
	), notices.NewService(
		n,
		s.mu,
	)
	s.Inventory = inventory.NewService(e, s.mu)
	s.Views = views.NewService(v, s.mu)
	s.Rehearsal = rehearsal.NewService(s.mu, l, f, r, j, t, k, w, s.Bays, s.Views)

	l.Before = j.WriteStanding
	l.After = func(*store.Batch) { m.RecallLate() }
	l.Undo = s.undo
	s.mu.Lock()
	defer s.mu.Unlock()
	return s, s.load()
}

// Alive returns when the service can make a change: whatever was under way has ended. A service in which that never
// happens must be started again.
func Alive(s *Service) {
	s.mu.Lock()
	defer s.mu.Unlock()
}

// Changes is a number that increases when displayed data may have changed.
func (s *Service) Changes() int {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.Generation
}

// load loads the state from the store: each part after those that it depends on.
func (s *Service) load() error {
	for _, load := range []func() error{
		s.Progress.LoadPriorities, s.Fleet.LoadLayouts, s.Fleet.LoadDrives, s.Readings.LoadReadings,
		s.Judging.Load, s.Fleet.LoadHosts,
		s.Notices.LoadNotices, s.Notices.LoadChannels, s.Notices.LoadDeliveries, s.Selftests.LoadRuns, s.Selftests.LoadPlans,
		s.Stock.LoadAcceptances, s.Swaps.LoadCampaigns, s.Swaps.LoadSwaps, s.Orders.Load, s.Bays.Load,
		s.Recoveries.LoadRecoveries, s.Inventory.Load,
	} {
		if err := load(); err != nil {
			return err
		}
	}
	return nil
}

// undo reverts in memory a batch that was not written: its records are read again, and nothing else.
func (s *Service) undo(b *store.Batch) error {
	for _, f := range slices.Backward(b.Undo) {
		f()
	}
	var failed []error
	for _, undo := range []func(*store.Batch) error{
		s.Fleet.Undo, s.Readings.Undo, s.Recoveries.Undo, s.Judging.Undo, s.Orders.Undo, s.Progress.Undo,
		s.Bays.Undo, s.Selftests.Undo, s.Stock.Undo,
		s.Swaps.Undo, s.Inventory.Undo, s.Notices.Undo,
	} {
		failed = append(failed, undo(b))
	}
	return errors.Join(failed...)
}

// Ready reports whether reports and orders can be recorded, and if not, or not for much longer, why.
func (s *Service) Ready() (says string, ready bool) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	says, _, _ = s.Trouble()
	return says, s.Disk.Failed == ""
}

// RestoredSays is the warning that these records were restored from a backup and that nobody took over yet; empty
// otherwise.
func (s *Service) RestoredSays() string {
	if !s.IsRestored() {
		return ""
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	if s.Restored.At.IsZero() {
		return ""
	}
	says, _, _ := s.Trouble()
	return strings.ToUpper(says[:1]) + says[1:]
}

// TakeOver allows orders after a restore from a backup: a person confirms that the previous service no longer runs.
func (s *Service) TakeOver(by, reason string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.Restored.At.IsZero() {
		return problem.New(
			409,
			"restored",
			"Nothing needs to be done.",
			"This service was not restored, or has taken over already.",
		)
	}
	if strings.TrimSpace(reason) == "" {
		return problem.New(422, "reason-needed", "Say how you know that the service before is gone.", "A reason is required.")
	}
	b := &store.Batch{}
	s.AddEvent(b, api.EventKindNotice, "restored", fmt.Sprintf("%s took over after the restore: %s", by, reason))
	if err := s.Commit(b); err != nil {
		return err
	}
	return s.Ledger.TakeOver()
}
