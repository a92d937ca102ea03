package service

import (
	"slices"
	"testing"
	"time"

	"lantern/internal/api"

	"github.com/stretchr/testify/require"
)

// TestSelfTests: a test is ordered once, one of a group at a time, never where a pool recovers; what became of it is
// read from the drive's own log, over restarts; one that left no word is distinguished from one that failed.
func TestSelfTests(t *testing.T) {
	b := newBench(t)
	log := []api.SelfTest{{Kind: "short", Result: "passed", Hours: 90, Lba: -1}}
	say := func(testing int, tests ...api.SelfTest) {
		b.clock.forward(time.Minute)
		for i := range b.drives {
			b.drives[i].Reading = api.Reading{
				At:        b.clock.Now(),
				SelfTests: true,
				Metrics:   map[string]float64{"power_on_hours": 100},
				Tests:     log,
			}
		}
		if b.drives[0].Reading.Testing.RemainingPercent = testing; testing == 0 {
			b.drives[0].Reading.Tests = append(tests, log...)
		}
		b.report()
	}
	asked := 0
	order := func(drive string, kind api.TestOrderKind) api.TestRun {
		all, err := b.s.Selftests.StartTests("ida", api.TestOrder{Drive: drive, Kind: kind})
		require.NoError(t, err)
		require.Len(t, all, 1)
		return all[0]
	}
	answer := func(state api.OutcomeState, says string) api.Order {
		orders, err := b.s.Orders.TakeOrders(t.Context(), "fulmar", time.Millisecond)
		require.NoError(t, err)
		orders = slices.DeleteFunc(orders, func(o api.Order) bool {
			if o.Kind == api.OrderKindAddress { // the content of the failed address is requested once, at once
				require.EqualValues(t, 77, o.FirstLba)
				require.NoError(
					t,
					b.s.TakeOutcome(
						"fulmar",
						o.Id,
						api.Outcome{State: api.OutcomeStateDone, Says: "/deep/a.wav in plankton"},
					),
				)
				asked++
			}
			return o.Kind == api.OrderKindAddress
		})
		require.Len(t, orders, 1)
		require.NoError(t, b.s.TakeOutcome("fulmar", orders[0].Id, api.Outcome{State: state, Says: says}))
		return orders[0]
	}
	newest := func() api.TestRun {
		all, err := b.s.Selftests.TestRuns("AA001")
		require.NoError(t, err)
		return all[0]
	}
	say(0)
	require.Equal(t, api.TestRunStateOrdered, order("AA001", api.TestOrderKindExtended).State)
	o := answer(api.OutcomeStateDone, "the drive accepted it")
	require.Equal(t, "KH3AA001", o.Drive.Serial, "an order names a drive by identity")
	require.True(t, o.On)
	require.Contains(t, order("AA001", api.TestOrderKindShort).Says, "being tested already")
	require.Contains(t, order("BB002", api.TestOrderKindShort).Says, "AA001 of the same group is being tested")
	say(90)
	b.restart()
	require.Equal(t, api.TestRunStateRunning, newest().State)
	require.Equal(t, 90, newest().RemainingPercent)
	say(40)
	say(0, api.SelfTest{Kind: "extended", Result: "failed", Hours: 104, Lba: 77})
	require.Equal(t, api.TestRunStateFailed, newest().State)
	require.Equal(t, "failed at LBA 77", newest().Says)
	d, err := b.s.Views.Drive("AA001")
	require.NoError(t, err)
	require.Equal(t, "self-test-failed", d.Findings[0].Rule, "a finding within one report")
	require.Equal(t, int64(77), d.FailedAt.Lba)

	log = append([]api.SelfTest{{Kind: "extended", Result: "failed", Hours: 104, Lba: 77}}, log...)
	order("AA001", api.TestOrderKindShort)
	answer(api.OutcomeStateDone, "")
	say(50)
	stopped, err := b.s.Selftests.StopTests("bo", api.TestOrder{Drive: "AA001"})
	require.NoError(t, err)
	require.Len(t, stopped, 1)
	require.False(t, answer(api.OutcomeStateDone, "").On)
	say(0, api.SelfTest{Kind: "short", Result: "aborted", Hours: 105, Lba: -1})
	require.Equal(t, api.TestRunStateAborted, newest().State)

	log = append([]api.SelfTest{{Kind: "short", Result: "aborted", Hours: 105, Lba: -1}}, log...)
	order("AA001", api.TestOrderKindShort)
	answer(api.OutcomeStateDone, "")
	say(0)
	require.Equal(t, api.TestRunStateOrdered, newest().State, "it may still be written")
	b.clock.forward(20 * time.Minute)
	say(0)
	require.Equal(t, api.TestRunStateLost, newest().State, "no word is not a failure")

	order("AA001", api.TestOrderKindConveyance)
	answer(api.OutcomeStateRefused, "AA001 has no conveyance self-test")
	require.Equal(t, api.TestRunStateRefused, newest().State)
	b.pool.Recoveries = []api.RecoveryReport{
		{Id: "rec", Kind: "resilver", State: "running", StartedAt: b.clock.Now(), TodoBytes: 100},
	}
	say(0)
	require.Contains(t, order("BB002", api.TestOrderKindShort).Says, "plankton is recovering")
	b.drives = b.drives[:2]
	b.pool.Recoveries = nil
	say(0)
	require.Contains(t, order("CC003", api.TestOrderKindShort).Says, "does not answer")
	all, err := b.s.Selftests.StartTests("ida", api.TestOrder{Pool: "plankton"})
	require.NoError(t, err)
	states := map[api.TestRunState]int{}
	for _, r := range all {
		states[r.State]++
	}
	require.Equal(
		t,
		map[api.TestRunState]int{"ordered": 1, "refused": 2},
		states,
		"a pool is tested one of a group at a time",
	)
	for _, r := range all {
		if r.State == api.TestRunStateOrdered {
			b.drives = slices.DeleteFunc(
				slices.Clone(b.drives),
				func(d api.DriveReport) bool { return "wwn-"+d.Identity.Wwn == r.Drive },
			)
		}
	}
	b.report()
	require.Equal(
		t,
		api.TestRunStateOrdered,
		order("BB002", api.TestOrderKindShort).State,
		"a drive that left does not hold its group's tests up for ever",
	)
	_, err = b.s.Selftests.StartTests("ida", api.TestOrder{})
	b.problem(err, "no-drive", "")
	_, err = b.s.Selftests.StartTests("ida", api.TestOrder{Host: "nowhere"})
	b.problem(err, "no-host", "")
	d, err = b.s.Views.Drive("AA001")
	require.NoError(t, err)
	require.Equal(t, api.FailedAt{Lba: 77, Says: "/deep/a.wav in plankton"}, d.FailedAt)
	require.LessOrEqual(t, asked, 3, "each drive once")
}
