package main

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAim: over different recoveries, from a quarter on, the error of our estimate is half that of the rule of three,
// and the range has the true finish about as often as it says.
func TestAim(t *testing.T) {
	c := judge(67, 3)
	require.Equal(t, 201, c.runs)
	for i, share := range at {
		require.Greater(t, c.told[i], 190, "at %v a finish is named", share)
		inside := float64(c.inside[i]) / float64(c.told[i])
		require.True(
			t,
			inside > 0.7 && inside < 0.9,
			"at %v the truth lies within the range %.0f %% of the time",
			share,
			100*inside,
		)
		if share >= 0.25 {
			require.Less(t, median(c.ours[i]), median(c.plain[i])/2, "at %v", share)
		}
	}
}

// TestShapes: judged by their shapes, on seeds that nothing was adjusted on: the aims of the whole, and of no shape
// whose course shows what it is does the likely finish err more than the rule of three, from half on.
func TestShapes(t *testing.T) {
	cards := judgeShapes(20, held)
	all := &card{}
	for shape, c := range cards {
		for i := range at {
			all.ours[i], all.inside[i], all.told[i] = append(
				all.ours[i],
				c.ours[i]...), all.inside[i]+c.inside[i], all.told[i]+c.told[i]
			if at[i] >= 0.5 {
				require.Less(
					t,
					median(c.ours[i]),
					max(0.02, 1.2*median(c.plain[i])),
					"%s at %v, where the rule of three errs by %v",
					shape,
					at[i],
					median(c.plain[i]),
				)
			}
		}
		if shape == "constant" || shape == "zones" {
			require.Less(t, median(c.ours[2]), 0.03, shape)
			require.Less(t, median(c.ours[3]), 0.03, shape)
		}
	}
	for i, aim := range []float64{1, 0.08, 0.06, 0.03} {
		require.Less(t, median(all.ours[i]), aim, "at %v", at[i])
		inside := float64(all.inside[i]) / float64(all.told[i])
		require.True(
			t,
			inside > 0.72 && inside < 0.92,
			"at %v the truth lies within the range %.0f %% of the time",
			at[i],
			100*inside,
		)
	}
}
