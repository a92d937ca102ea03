package recovery

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestRiskAgainstSimulation lets drives die at their rates, very often, and counts.
func TestRiskAgainstSimulation(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	others := []Member{{"sound", 3}, {"sound", 5}, {"watch", 5}, {"replace", 5}, {"unknown", 1}}
	span := 400 * time.Hour
	finish := Range{P10: t0.Add(span), P50: t0.Add(span), P90: t0.Add(span)}
	for margin := range 3 {
		got := RiskOf(margin, others, finish, 0, t0).Another
		const runs = 400_000
		low, high := 0, 0
		for range runs {
			nl, nh := 0, 0
			for _, m := range others {
				h := hazard(m)
				// A place that is filled again after each failure: the number of failures is that of the time.
				for at := r.ExpFloat64() / h.Low; at < span.Hours(); at += r.ExpFloat64() / h.Low {
					nl++
				}
				for at := r.ExpFloat64() / h.High; at < span.Hours(); at += r.ExpFloat64() / h.High {
					nh++
				}
			}
			if nl > margin {
				low++
			}
			if nh > margin {
				high++
			}
		}
		near := func(want, got float64) {
			sd := math.Sqrt(want * (1 - want) / runs)
			require.InDelta(t, want, got, 5*sd+1e-6, "margin %d", margin)
		}
		near(got.Low, float64(low)/runs)
		near(got.High, float64(high)/runs)
		require.Less(t, got.Low, got.High)
	}
	// Bits are read one by one; a rate is taken at which something happens.
	const bytes, rate = 500, 2e-4
	bad := 0
	const runs = 20_000
	for range runs {
		for range bytes * 8 {
			if r.Float64() < rate {
				bad++
				break
			}
		}
	}
	require.InDelta(t, Unreadable(bytes, rate), float64(bad)/runs, 0.02)
	require.InDelta(t, 0.33, Unreadable(5e12, 1e-14), 0.01, "five terabytes at one in 10^14")
	require.Zero(
		t,
		RiskOf(1, others, finish, 5e12, t0).Unreadable.High,
		"where something else holds it, nothing is lost by it",
	)
	require.Equal(t, "4 % to 33 %", RiskOf(0, others, finish, 5e12, t0).Unreadable.Words())
	require.Equal(t, "1 in 1,200,000 to 0.5 %", Bounds{1.0 / 1_234_567, 0.005}.Words())
	require.Equal(t, 1.0, AtLeast(0, 0.1))
}
