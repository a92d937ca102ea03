package health

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/core/history"
)

// slowerPlainly is slowerThanBefore as it is meant: the two times are put in order and compared.
func slowerPlainly(series history.Series, t *Thresholds) (middle, best float64, slow bool) {
	last, ok := series.Last()
	if !ok || last.Value < t.SlowFloor/2 || last.At().Sub(series[0].At()) < 14*day {
		return 0, 0, false
	}
	from := last.At().Add(-2 * day)
	var now, before weighed
	for i := 1; i < len(series); i++ {
		a, b := series[i-1].At(), series[i].At()
		if a.Before(from) {
			before = append(before, weight{series[i].Value, minTime(b, from).Sub(a)})
		}
		if b.After(from) {
			now = append(now, weight{series[i].Value, b.Sub(maxTime(a, from))})
		}
	}
	middle, best = now.quantile(0.5), before.quantile(0.25)
	return middle, best, best > 0 && middle >= t.SlowFloor/2 && now.quantile(0.15) >= t.SlowPast*best
}

// TestSlowerThanBefore: the omitted computations change no result.
func TestSlowerThanBefore(t *testing.T) {
	limits := Usual()
	found := 0
	for seed := range uint64(3000) {
		r := rand.New(rand.NewPCG(seed, 5))
		at := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
		var series history.Series
		base, factor, turn := 0.002+0.02*r.Float64(), 0.5+6*r.Float64(), r.IntN(90)
		for i := range 60 + r.IntN(60) {
			at = at.Add(time.Duration(1+r.IntN(20)) * time.Hour)
			v := base * (0.7 + 0.6*r.Float64())
			if i > turn {
				v *= factor
			}
			if r.IntN(20) == 0 {
				v *= 8
			}
			series = append(series, history.PointAt(at, v))
		}
		h := slowerThanBefore(&Subject{Record: history.Record{"read_latency_seconds": series}}, &limits)
		middle, best, slow := slowerPlainly(series, &limits)
		require.Equal(t, slow, h != nil, "seed %d", seed)
		if slow {
			found++
			require.Equal(t, [2]float64{middle, best}, [2]float64{h.N[0], h.N[1]}, "seed %d", seed)
		}
	}
	require.Greater(t, found, 100)
}
