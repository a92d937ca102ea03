package selftests

import (
	"fmt"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/selftest"
	"lantern/internal/service/fleet"
	"lantern/internal/service/orders"
	"lantern/internal/service/problem"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// Answered records the outcome of an order about a self-test; ours is false for other orders.
func (s *State) Answered(b *store.Batch, o *orders.Order) (ours bool) {
	switch o.Kind {
	case api.OrderKindSelftest:
		s.testAnswered(b, o)
	case api.OrderKindAddress:
		s.addressAnswered(b, o)
	default:
		return false
	}
	return true
}

// testAnswered records the outcome of an order to start or stop a test.
func (s *State) testAnswered(b *store.Batch, o *orders.Order) {
	r := s.Runs[wire.ToIdentity(o.Drive).Key()]
	if r == nil {
		return
	}
	switch {
	case o.State == api.OrderStateDone && o.On:
		r.Answered = s.Clock.Now()
	case o.State == api.OrderStateDone:
	case o.On:
		if it := s.testItem(r); it != nil {
			it.Refused(s.Clock.Now(), o.Says)
			b.Put(itemRow(it))
		}
		s.endTest(b, r, api.TestRunStateRefused, o.Says)
		return
	default:
		r.Stopping, r.Says = false, "it did not stop: "+o.Says
	}
	b.Put(r.row())
}

func (s *State) endTest(b *store.Batch, r *Run, state api.TestRunState, says string) {
	r.State, r.Says, r.EndedAt, r.RemainingPercent = state, says, s.Clock.Now(), 0
	r.StalledSince = time.Time{}
	b.Put(r.row())
	delete(s.Runs, r.Drive)
	s.stalled(r)
	told := state == api.TestRunStatePassed || state == api.TestRunStateFailed
	if it := s.testItem(r); it != nil {
		it.Ended(r.EndedAt, told, r.Stopping, says)
		b.Put(itemRow(it))
	}
	if d := s.fleet.Drives[r.Drive]; d != nil && told && !r.Answered.IsZero() {
		if d.Took == nil {
			d.Took = map[string][]time.Duration{}
		}
		d.Took[r.Kind] = append(
			[]time.Duration{r.EndedAt.Sub(r.Answered).Round(time.Second)},
			d.Took[r.Kind][:min(2, len(d.Took[r.Kind]))]...)
		b.Put(d.Row())
	}
	s.AddEvent(b, api.EventKindDrive, r.Drive, fmt.Sprintf("%s self-test of %s: %s", r.Kind, r.Tail, says))
	s.Ended(b, r)
}

// logged is how long a drive may take to add a test to its log.
const logged = 15 * time.Minute

// followTest takes the result of a test from the drive's own log (R6).
func (s *State) followTest(b *store.Batch, key string, rd api.Reading) {
	r := s.Runs[key]
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
			s.AddEvent(
				b,
				api.EventKindDrive,
				key,
				fmt.Sprintf(
					"%s self-test of %s has made no progress since %s",
					r.Kind,
					r.Tail,
					r.Moved.Format(time.RFC3339),
				),
			)
		}
		s.Send(api.Event{Kind: api.EventKindDrive, At: rd.At, Subject: key, Says: "progress"})
		r.RemainingPercent, r.Says = rd.Testing.RemainingPercent, fmt.Sprintf(
			"%d %% left",
			rd.Testing.RemainingPercent,
		)
		if !r.StalledSince.IsZero() {
			r.Says = fmt.Sprintf(
				"no progress for %s, %d %% left: stop it, and start it again",
				selftest.Words(rd.At.Sub(r.StalledSince)),
				rd.Testing.RemainingPercent,
			)
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
			state, says = api.TestRunStateInterrupted, "was interrupted by a reset or a loss of power; it says "+
				"nothing of the drive"
		case "could not run":
			state, says = api.TestRunStateAborted, "could not run"
		}
		s.endTest(b, r, state, says)
		return
	}
	if rd.At.Sub(r.Answered) > logged {
		s.endTest(
			b,
			r,
			api.TestRunStateLost,
			"ended without a word in the drive's log: its power or its bus was cut, or it never began",
		)
	}
}

// AskAddress asks the pool of a drive what it stores at an address.
func (s *Service) AskAddress(by, name string, lba int64) (api.Order, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.fleet.FindDrive(name)
	if err != nil {
		return api.Order{}, err
	}
	sectors := int64(d.Desc.Capacity / max(1, d.Desc.LogicalSector))
	if lba < 0 || lba >= sectors && sectors > 0 {
		return api.Order{}, problem.New(
			422,
			"bad-span",
			fmt.Sprintf("%s has addresses 0 to %d.", d.Tail(), sectors-1),
			"%d is not an address of this drive.",
			lba,
		)
	}
	if h := s.fleet.Hosts[d.Host]; !d.Present || h == nil || s.fleet.Late(h, s.Clock.Now()) {
		return api.Order{}, problem.New(
			409,
			"host-quiet",
			"Ask when it answers again.",
			"Neither %s nor what is on it can be asked now.",
			d.Tail(),
		)
	}
	b := &store.Batch{}
	o := s.askAddress(b, d, by, lba)
	return o.Order, s.Commit(b)
}

func (s *State) askAddress(b *store.Batch, d *fleet.Drive, by string, lba int64) *orders.Order {
	o := &orders.Order{
		Order: api.Order{
			Host:     d.Host,
			Kind:     api.OrderKindAddress,
			By:       by,
			Drive:    wire.Identity(d.Desc.Identity),
			FirstLba: lba,
		},
		TestedDrive: d.Key(),
	}
	s.orders.Give(b, o)
	return o
}

// failedAt asks once, for each address at which a self-test failed, what is stored there.
func (s *State) failedAt(b *store.Batch, d *fleet.Drive) {
	for _, t := range d.Reading.Tests {
		if t.Result != string(drive.SelfTestFailed) {
			continue
		}
		if t.Lba >= 0 && (d.Failed == nil || d.Failed.Lba != t.Lba) {
			d.Failed = &api.FailedAt{Lba: t.Lba}
			b.Put(d.Row())
			s.askAddress(b, d, "the service", t.Lba)
		}
		return
	}
}

// addressAnswered records what is stored where a self-test failed.
func (s *State) addressAnswered(b *store.Batch, o *orders.Order) {
	d := s.fleet.Drives[wire.ToIdentity(o.Drive).Key()]
	switch {
	case d == nil || d.Failed == nil || d.Failed.Lba != o.FirstLba:
		return
	case o.State == api.OrderStateExpired:
		d.Failed = nil // no agent took the order: it is given again with the next reading
	case o.State == api.OrderStateDone:
		d.Failed.Says = o.Says
	}
	d.Touch()
	b.Put(d.Row())
}

// stalled records since when a drive's self-test makes no progress.
func (s *State) stalled(r *Run) {
	if d := s.fleet.Drives[r.Drive]; d != nil && !d.Stalled.Equal(r.StalledSince) {
		d.Stalled = r.StalledSince
		d.Touch() // a finding depends on it
	}
}
