package clock

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestLab(t *testing.T) {
	start := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	c := NewLab(start, 0)
	require.Equal(t, start, c.Now(), "at speed 0 it stands still")
	require.Equal(t, time.Minute, c.AtLeast(time.Minute, time.Hour))
	c.SetSpeed(36000)
	began := time.Now()
	require.NoError(t, c.Sleep(t.Context(), time.Hour))
	require.False(t, c.Now().Before(start.Add(time.Hour)))
	require.Less(t, time.Since(began), 20*time.Second, "an hour of the lab is no hour of ours")
	require.Equal(t, 36000*time.Second, c.AtLeast(time.Minute, time.Second), "limits do not shrink when time runs fast")
	before := c.Now()
	c.SetSpeed(0)
	require.False(t, c.Now().Before(before), "time never goes back")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(
		t,
		c.Sleep(ctx, time.Hour),
		context.Canceled,
		"who waits can be told to stop, also while it stands still",
	)
	require.ErrorIs(t, Real{}.Sleep(ctx, time.Hour), context.Canceled)
	require.Equal(t, time.Minute, Real{}.AtLeast(time.Second, time.Minute))
}
