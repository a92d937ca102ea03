package load

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestStolen: the share of the processors' time that others took, in all and in the worst part; and lines of other
// systems are not read wrongly.
func TestStolen(t *testing.T) {
	got, ok := parseTicks("cpu  6535411 30689 708198 2695078 93032 0 40703 747020 0 0\ncpu0 1 2\n")
	require.True(t, ok)
	require.Equal(t, ticks{all: 6535411 + 30689 + 708198 + 2695078 + 93032 + 40703 + 747020, stolen: 747020}, got)
	for _, text := range []string{"", "cpu 1 2 3", "intr 5", "cpu a b c d e f g h"} {
		_, ok = parseTicks(text)
		require.False(t, ok, text)
	}
	require.Zero(t, ticks{}.since(ticks{}))
	require.Zero(t, ticks{all: 5, stolen: 1}.since(ticks{all: 9, stolen: 2}), "the counters began again")

	// Of 100 ticks each, others take 10, 60 and 20; then the measurement ends.
	times := []ticks{{100, 5}, {200, 15}, {300, 75}, {400, 95}}
	ctx, end := context.WithCancel(t.Context())
	defer end()
	n := 0
	result := watchStolen(ctx, func() (ticks, bool) {
		x := times[min(n, len(times)-1)]
		if n++; n == len(times) {
			end()
		}
		return x, true
	}, time.Millisecond)
	s := <-result
	require.InDelta(t, 0.3, s.Mean, 1e-9)
	require.InDelta(t, 0.6, s.Most, 1e-9)
	require.Zero(t, <-watchStolen(ctx, func() (ticks, bool) { return ticks{}, false }, time.Millisecond))
}
