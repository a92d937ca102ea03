package recovery

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lantern/internal/core/drive"
)

// TestThin: the remaining samples are some of the original ones, in order, with both ends; their number is bounded,
// thinning again changes nothing, and the progress at every moment is the same to within one part of the work.
func TestThin(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		parts := rapid.IntRange(1, 60).Draw(t, "parts")
		todo := drive.Bytes(rapid.Uint64Range(1, 1e13).Draw(t, "todo"))
		at, done := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC), drive.Bytes(0)
		var s []Sample
		restarts := 0
		for range rapid.IntRange(0, 600).Draw(t, "n") {
			s = append(s, Sample{At: at, Done: done, Todo: todo})
			at = at.Add(time.Duration(rapid.IntRange(1, 600).Draw(t, "seconds")) * time.Second)
			switch rapid.IntRange(0, 60).Draw(t, "what") {
			case 0:
				done, restarts = 0, restarts+1
			case 1, 2, 3: // it stands still
			default:
				done = min(todo, done+drive.Bytes(rapid.Uint64Range(0, uint64(todo)/100+1).Draw(t, "bytes")))
			}
		}
		thin := Thin(s, parts)
		require.LessOrEqual(t, len(thin), max(len(s), 0))
		require.LessOrEqual(t, len(thin), (2*parts+2)*(restarts+1)+2)
		require.Equal(t, thin, Thin(thin, parts))
		if len(s) == 0 {
			return
		}
		require.Equal(t, s[0], thin[0])
		require.Equal(t, s[len(s)-1], thin[len(thin)-1])
		k := 0
		for _, x := range s {
			for k+1 < len(thin) && !thin[k+1].At.After(x.At) {
				k++
			}
			low, high := thin[k].Done, thin[k].Done
			if k+1 < len(thin) && thin[k+1].Done > high {
				high = thin[k+1].Done
			}
			one := float64(todo)/float64(parts) + 1
			require.True(t, float64(x.Done) >= float64(low)-one && float64(x.Done) <= float64(high)+one)
		}
	})
}
