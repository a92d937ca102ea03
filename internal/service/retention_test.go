package service

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/core/recovery"
	"lantern/internal/store"
)

// TestTidy: what is too old goes, what is not stays; a recovery that ended is thinned out once, with its ends, its
// longest pause and what it adds to the estimate of the next one as they were, before a restart and after it.
func TestTidy(t *testing.T) {
	b := newBench(t)
	b.s.Fleet.GraceUntil = time.Time{}
	begin := b.clock.Now()
	b.pool.Recoveries = []api.RecoveryReport{
		{Id: "v1", Kind: "scrub", State: "running", StartedAt: begin, TodoBytes: 8e12},
	}
	b.report()
	rows := &store.Batch{}
	for n := 1; n < 9000; n++ { // it stands still for an hour in the middle
		at := begin.Add(time.Duration(n) * 4 * time.Second)
		if n > 4500 {
			at = at.Add(time.Hour)
		}
		rows.Add(&store.Sample{Recovery: "v1", At: at.UnixMilli(), Done: int64(n) * 8e12 / 9000, Todo: 8e12})
	}
	require.NoError(t, b.store.Write(rows))
	b.restart()
	b.clock.forward(12 * time.Hour)
	b.pool.Recoveries[0].State, b.pool.Recoveries[0].DoneBytes, b.pool.Recoveries[0].EndedAt = "finished", 8e12,
		b.clock.Now()
	b.report()
	course := func() (samples int, pause time.Duration, whole bool) {
		c := b.s.Recoveries.Courses["v1"]
		_, whole = recovery.ProfileOf(c.Samples)
		return len(c.Samples), c.LongestPause(), whole
	}
	before, pause, whole := course()
	require.Greater(t, before, 8900)
	require.True(t, whole)
	require.NoError(t, b.s.Tidy())
	same, _, _ := course()
	require.Equal(t, before, same, "it ended just now")
	b.clock.forward(25 * time.Hour)
	require.NoError(t, b.s.Tidy())
	for range 2 {
		after, still, whole := course()
		require.Less(t, after, 900)
		require.Greater(t, after, 300)
		require.Equal(t, pause, still)
		require.True(t, whole)
		kept, err := store.All[store.Sample](b.store, "at", "recovery = ?", "v1")
		require.NoError(t, err)
		require.Equal(t, after, len(kept)) //nolint:testifylint // they are many
		b.restart()
		b.s.Fleet.GraceUntil = time.Time{}
	}

	events := func() int {
		all, err := store.All[store.Event](b.store, "id", "")
		require.NoError(t, err)
		return len(all)
	}
	require.NoError(t, b.s.Tidy())
	had := events()
	require.Positive(t, had)
	_, err := b.s.Bays.LightOn("ida", api.LightOn{Drive: "AA001", Seconds: 600})
	b.problem(err, "host-quiet", "fulmar")
	b.report()
	_, err = b.s.Bays.LightOn("ida", api.LightOn{Drive: "AA001", Seconds: 600})
	require.NoError(t, err)
	b.clock.forward(2 * 365 * 24 * time.Hour)
	require.NoError(t, b.s.Tidy())
	require.GreaterOrEqual(t, events(), had, "they are kept for three years")
	b.s.SetRetention(Retention{Events: LeastRetention, Orders: LeastRetention, Deliveries: LeastRetention})
	b.clock.forward(2 * time.Hour)
	require.NoError(t, b.s.Tidy())
	require.Zero(t, events())
	waiting, err := store.All[store.Order](b.store, "id", "")
	require.NoError(t, err)
	require.Len(t, waiting, 1, "an order without an outcome is never too old")
	require.NotEmpty(t, b.s.Views.AllPools())
}
