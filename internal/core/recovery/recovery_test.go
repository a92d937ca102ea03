package recovery

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/core/drive"
)

var t0 = time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)

// course simulates a recovery whose rate falls towards the inner tracks by fall, with noise, and says when it ended.
func course(fall, noise float64, seed uint64) (all []Sample, end time.Time) {
	const todo = 3e12
	r := rand.New(rand.NewPCG(seed, 5))
	at, done := t0, 0.0
	all = append(all, Sample{At: at, Todo: todo})
	for done < todo {
		rate := 180e6 * (1 - fall*done/todo) * math.Exp(noise*r.NormFloat64())
		at = at.Add(time.Minute)
		done = math.Min(todo, done+60*rate)
		all = append(all, Sample{At: at, Done: drive.Bytes(done), Todo: todo})
	}
	return all, at
}

// TestFinish: over unlike courses, from a quarter on, the range holds the truth most of the time, and our likely finish
// errs less than the rule of three.
func TestFinish(t *testing.T) {
	var inside, all int
	var ours, plain float64
	for seed := range uint64(60) {
		fall := 0.1 + 0.4*float64(seed%5)/4
		c, end := course(fall, 0.15, seed)
		for _, share := range []float64{0.25, 0.5, 0.75} {
			k := 0
			for float64(c[k].Done) < share*3e12 {
				k++
			}
			now := c[k].At
			v := Look(c[:k+1], Running, Known{Reach: -1}, now)
			require.NotNil(t, v.Finish, v.Why)
			require.False(
				t,
				v.Finish.P50.Before(v.Finish.P10) || v.Finish.P90.Before(v.Finish.P50),
				"quantiles are in order",
			)
			all++
			if !end.Before(v.Finish.P10) && !end.After(v.Finish.P90) {
				inside++
			}
			whole := time.Duration(float64(now.Sub(t0)) * 3e12 / float64(c[k].Done))
			ours += math.Abs(v.Finish.P50.Sub(end).Hours())
			plain += math.Abs(t0.Add(whole).Sub(end).Hours())
		}
	}
	require.Greater(t, float64(inside)/float64(all), 0.7, "%d of %d", inside, all)
	require.Less(t, ours, plain)
}

func TestStalledBegunAgainAndTooEarly(t *testing.T) {
	c, _ := course(0.3, 0.05, 1)
	v := Look(c[:60], Running, Known{}, c[59].At.Add(time.Hour))
	require.True(t, v.Stalled)
	require.Equal(t, time.Hour, v.StalledFor)
	require.Nil(t, v.Finish, "nothing is promised of what does not move")
	require.False(
		t,
		Look(c[:60], Running, Known{}, c[59].At.Add(2*time.Minute)).Stalled,
		"slower than usual is not stalled",
	)

	again := append(
		append([]Sample(nil), c[:60]...),
		Sample{At: c[59].At.Add(time.Minute), Todo: c[0].Todo},
		Sample{At: c[59].At.Add(2 * time.Minute), Done: 5e9, Todo: c[0].Todo},
	)
	v = Look(again, Running, Known{}, again[len(again)-1].At)
	require.InDelta(t, 5e9/60, v.RateOverall, 1e3, "what was done before it began again does not count")

	require.Equal(t, "too little progress was seen yet", Look(c[:2], Running, Known{}, c[1].At).Why)
	require.Equal(t, "no progress was reported yet", Look(nil, Running, Known{}, t0).Why)
	v = Look(c, Finished, Known{}, t0)
	require.Equal(t, 1.0, v.Share)
	require.Equal(t, "it is finished", v.Why)
}

// TestEveryCourseHasAFinishOrAReason: a course with many samples has an estimated finish, and one without has a reason.
func TestEveryCourseHasAFinishOrAReason(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 800 {
		s := []Sample{{At: t0, Todo: 1e12}}
		for range 1 + r.IntN(40) {
			before := s[len(s)-1]
			gap := time.Duration(math.Exp(math.Log(1e9) + r.Float64()*math.Log(1e5))) // a second to a day
			done := before.Done
			if r.IntN(4) > 0 {
				done += drive.Bytes(math.Exp(r.Float64() * math.Log(2e10)))
			}
			s = append(s, Sample{At: before.At.Add(gap), Done: done, Todo: 1e12})
		}
		now := s[len(s)-1].At
		v := Look(s, Running, Known{Reach: -1}, now)
		require.True(t, (v.Finish == nil) == (v.Why != ""), "%v: %q", s, v.Why)
		if moves(s) >= minSamples && !v.Stalled && v.Finish == nil {
			slowest, from := math.Inf(1), s[0]
			for _, x := range s[1:] {
				if x.Done > from.Done {
					slowest = math.Min(slowest, float64(x.Done-from.Done)/x.At.Sub(from.At).Seconds())
					from = x
				}
			}
			require.Less(t, slowest*longest.Seconds(), 1e12, "it was slow at some time: %v: %s", s, v.Why)
		}
		if v.Finish != nil {
			require.True(t, v.Finish.P10.After(now) && !v.Finish.P90.Before(v.Finish.P10), "%v", v.Finish)
		}
	}
}

// BenchmarkFinish estimates the finish of a recovery of some days, half done.
func BenchmarkFinish(b *testing.B) {
	c, _ := course(0.3, 0.15, 1)
	for b.Loop() {
		Look(c[:len(c)/2], Running, Known{Reach: -1}, c[len(c)/2].At)
	}
}
