package main

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAim: over unlike recoveries, from a quarter on, our likely finish errs half as much as the rule of three, and the range
// holds the truth about as often as it says.
func TestAim(t *testing.T) {
	c := judge(67, 3)
	require.Equal(t, 201, c.runs)
	for i, share := range at {
		require.Greater(t, c.told[i], 190, "at %v a finish is named", share)
		inside := float64(c.inside[i]) / float64(c.told[i])
		require.True(t, inside > 0.7 && inside < 0.9, "at %v the truth lies within the range %.0f %% of the time", share, 100*inside)
		if share >= 0.25 {
			require.Less(t, median(c.ours[i]), median(c.plain[i])/2, "at %v", share)
		}
	}
}
