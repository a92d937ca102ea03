package capacity

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var t0 = time.Date(2026, 9, 1, 12, 0, 0, 0, time.UTC)

func course(n int, used func(day float64) float64) (out []Use) {
	for i := range n {
		out = append(out, Use{t0.AddDate(0, 0, i), used(float64(i))})
	}
	return out
}

// TestForecast: the forecast of an evenly growing pool is that of a straight line; a jump, a weekly rhythm and noise
// change it little; a pool that does not grow has no date; too little data give none.
func TestForecast(t *testing.T) {
	now := t0.AddDate(0, 0, 89)
	even := func(day float64) float64 { return 4e12 + day*10e9 }
	f, ok := Of(course(90, even), 8e12, now)
	require.True(t, ok)
	left := (8e12 - even(89)) / 10e9
	require.InDelta(t, left, f.Likely.Sub(now).Hours()/24, 0.1)
	require.Equal(t, f.Soonest, f.Latest, "it is certain")

	r := rand.New(rand.NewPCG(1, 2))
	for name, used := range map[string]func(float64) float64{
		"a jump": func(d float64) float64 {
			return even(d) + map[bool]float64{true: 300e9}[d > 60] - 300e9*map[bool]float64{true: 1}[d > 65]
		},
		"a week":      func(d float64) float64 { return even(d) + 200e9*math.Sin(2*math.Pi*d/7) },
		"noise":       func(d float64) float64 { return even(d) + 20e9*r.NormFloat64() },
		"a wrong day": func(d float64) float64 { return even(d) * map[bool]float64{true: 0, false: 1}[d == 40] },
	} {
		f, ok := Of(course(90, used), 8e12, now)
		require.True(t, ok, name)
		require.InEpsilon(t, 10e9, f.Growth, 0.15, name)
		require.False(t, f.Soonest.After(f.Likely) || f.Likely.After(f.Latest) && !f.Latest.IsZero(), name)
	}
	f, ok = Of(course(90, func(d float64) float64 { return 4e12 - d*1e9 }), 8e12, now)
	require.True(t, ok)
	require.True(t, f.Likely.IsZero() && f.Soonest.IsZero())
	_, ok = Of(course(4, even), 8e12, now)
	require.False(t, ok)
	_, ok = Of(nil, 8e12, now)
	require.False(t, ok)
	many := course(30, even)
	for i := range 10 { // several values of one day count once
		many = append(many, Use{many[29].At.Add(time.Duration(i) * time.Minute), 1})
	}
	_, ok = Of(many, 8e12, now)
	require.True(t, ok)
}

// TestOrder: whatever came, the soonest is not after the likely, nor that after the latest, and none lies in the past.
func TestOrder(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var uses []Use
		for range rapid.IntRange(0, 60).Draw(t, "n") {
			uses = append(
				uses,
				Use{
					t0.Add(time.Duration(rapid.IntRange(0, 90*24).Draw(t, "hour")) * time.Hour),
					rapid.Float64Range(0, 9e12).Draw(t, "used"),
				},
			)
		}
		now := t0.AddDate(0, 0, 91)
		f, ok := Of(uses, 8e12, now)
		if !ok {
			return
		}
		require.LessOrEqual(t, f.Slow, f.Growth)
		require.LessOrEqual(t, f.Growth, f.Fast)
		for _, at := range []time.Time{f.Soonest, f.Likely, f.Latest} {
			require.True(t, at.IsZero() || !at.Before(now))
		}
		if !f.Likely.IsZero() {
			require.False(t, f.Soonest.After(f.Likely))
		}
	})
}
