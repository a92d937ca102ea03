package service

import (
	"slices"
	"testing"
	"time"

	"lantern/internal/api"
	"lantern/internal/service/fleet"

	"github.com/stretchr/testify/require"
)

// TestRecoveriesOverTime: a recovery is followed with its priorities and its risk; it stalls, begins again, is paused,
// and people are told each time; it ends while nobody looks, and the pool's own state says how; the next one knows how
// it went.
func TestRecoveriesOverTime(t *testing.T) {
	b := newBench(t)
	b.clock.forward(2 * fleet.Grace)
	step := func(r *api.RecoveryReport, d time.Duration, n int, each int64) {
		for range n {
			b.clock.forward(d - time.Second)
			r.DoneBytes = min(r.TodoBytes, r.DoneBytes+each)
			b.pool.Recoveries = []api.RecoveryReport{*r}
			b.report()
			require.NoError(t, b.s.Tick())
		}
	}
	open := func() (says []string) {
		require.NoError(t, b.s.Tick())
		all, err := b.s.Notices.Notices(false)
		require.NoError(t, err)
		for _, n := range all {
			if n.Kind == "recovery" {
				says = append(says, n.Says)
			}
		}
		return says
	}
	b.pool.Offers, b.pool.Priority = []string{"priority", "scrub"}, "normal"
	b.pool.Groups[0].Members[1].State = "recovering"
	r := &api.RecoveryReport{
		Id:         "r1",
		Kind:       "resilver",
		State:      "running",
		StartedAt:  b.clock.Now(),
		Slot:       "2",
		TodoBytes:  4e12,
		Phase:      "copying",
		Slowest:    "1",
		SlowestWhy: "it is hot",
		Flows:      []api.Flow{{Slot: "1", ReadBytes: 7}},
	}
	step(r, time.Minute, 30, 1e10)
	v, err := b.s.Progress.Recovery("r1")
	require.NoError(t, err)
	require.False(t, v.Finish.P50.IsZero(), v.Why)
	require.Equal(t, "AA001: it is hot", v.Slowest)
	require.Equal(t, "AA001", v.Flows[0].Tail)
	require.Len(t, v.Risk.Members, 2, "the two others")
	require.Equal(t, "losing one more member until then leaves: cannot lose another drive", v.Cost)
	require.NotEmpty(t, v.Risk.Another)
	require.Empty(t, v.Risk.Unreadable, "another still holds it")
	require.Empty(t, open())

	// Another priority by the hour: it is ordered once, and its effect is shown beside the previous pace.
	at := b.clock.Now()
	_, err = b.s.Views.SetPriorityHours(
		"ida",
		"plankton",
		api.PriorityHours{From: "25:00", To: "06:00", Within: "high", Otherwise: "low"},
	)
	b.problem(err, "bad-hours", "are not hours of a day")
	_, err = b.s.Views.SetPriorityHours(
		"ida",
		"plankton",
		api.PriorityHours{
			From:      at.Add(-time.Hour).Format("15:04"),
			To:        at.Add(time.Hour).Format("15:04"),
			Within:    "low",
			Otherwise: "high",
		},
	)
	require.NoError(t, err)
	require.NoError(t, b.s.Tick())
	require.NoError(t, b.s.Tick())
	orders, err := b.s.Orders.TakeOrders(t.Context(), "fulmar", 0)
	require.NoError(t, err)
	require.Len(t, orders, 1)
	require.Equal(t, "low", orders[0].Priority)
	require.NoError(t, b.s.TakeOutcome("fulmar", orders[0].Id, api.Outcome{State: api.OutcomeStateDone, Says: "so"}))
	b.pool.Priority = "low"
	step(r, time.Minute, 20, 4e9)
	v, err = b.s.Progress.Recovery("r1")
	require.NoError(t, err)
	require.Len(t, v.Priorities, 2)
	require.InDelta(t, 1e10/60, v.Priorities[0].Rate, 2e7)
	require.InDelta(t, 4e9/60, v.Priorities[1].Rate, 2e7)

	// It makes no progress for longer than any earlier pause; it continues; it begins again; it is paused.
	step(r, time.Minute, 8, 0)
	require.Contains(t, open(), "the resilver in plankton has stalled: it makes no progress")
	step(r, time.Minute, 2, 4e9)
	require.Empty(t, open())
	r.DoneBytes = 0
	step(r, time.Minute, 3, 4e9)
	require.Len(t, open(), 1)
	require.Contains(t, open()[0], "began again from its beginning at")
	r.State = "paused"
	step(r, time.Minute, 12, 0)
	require.Contains(t, open()[0], "is paused since")
	r.State = "running"
	step(r, time.Minute, 60, 4e10)
	require.Less(t, r.DoneBytes, r.TodoBytes+1)

	// The service is restarted; meanwhile the recovery has ended, and its pool no longer reports it.
	b.restart()
	b.pool.Recoveries, b.pool.Groups[0].Members[1].State = nil, "unknown"
	b.pool.Inconsistent = true
	b.report()
	v, err = b.s.Progress.Recovery("r1")
	require.NoError(t, err)
	require.Equal(t, api.RecoveryStateRunning, v.State, "of a pool of which nothing is known, nothing is concluded")
	b.pool.Inconsistent, b.pool.Groups[0].Members[1].State = false, "online"
	b.report()
	v, err = b.s.Progress.Recovery("r1")
	require.NoError(t, err)
	require.Equal(t, api.RecoveryStateFinished, v.State)
	require.NotEmpty(t, v.Summary)
	b.clock.forward(2 * fleet.Grace) // after a restart, hosts have some time before notices are sent
	b.report()
	require.Empty(t, open())

	// The next one, whose member is lost meanwhile, has failed, unless its pool reports otherwise.
	b.pool.Groups[0].Members[1].State = "recovering"
	r = &api.RecoveryReport{
		Id:        "r2",
		Kind:      "resilver",
		State:     "running",
		StartedAt: b.clock.Now(),
		Slot:      "2",
		TodoBytes: 4e12,
	}
	step(r, time.Minute, 5, 1e10)
	v, err = b.s.Progress.Recovery("r2")
	require.NoError(t, err)
	require.Equal(t, []string{"r1"}, v.Earlier)
	b.pool.Recoveries, b.pool.Groups[0].Members[1].State = nil, "missing"
	b.report()
	v, err = b.s.Progress.Recovery("r2")
	require.NoError(t, err)
	require.Equal(t, api.RecoveryStateFailed, v.State)
}

// TestFillingWithoutList: a member that is being filled makes the pool one that recovers (R4), even if the list of
// recoveries is empty, or has the recovery without a kind or in a state that nobody knows.
func TestFillingWithoutList(t *testing.T) {
	for _, recoveries := range [][]api.RecoveryReport{
		nil,
		{{Id: "r1", State: "running", StartedAt: t0}},
		{{Id: "r1", Kind: "resilver", State: "thinking", StartedAt: t0}},
	} {
		b := newBench(t)
		b.pool.Groups[0].Members[1].State = "recovering"
		b.pool.Recoveries = recoveries
		b.report()
		_, err := b.s.Views.ActOnPool("ida", "plankton", api.PoolAction{Action: api.PoolActionActionRebalance})
		b.problem(err, "recovering", "is running in plankton")
		w, err := b.s.Swaps.PlanSwap("ida", "AA001")
		require.NoError(t, err)
		i := slices.IndexFunc(w.Checks, func(c api.Check) bool { return c.Id == "no-recovery" })
		require.Equal(t, api.Stops, w.Checks[i].Result)
	}
}
