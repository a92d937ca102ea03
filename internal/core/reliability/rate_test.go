package reliability

import (
	"fmt"
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gonum.org/v1/gonum/stat/distuv"
	"pgregory.net/rapid"
)

var t0 = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

// TestGarwood compares with published limits (Garwood 1936, table; the same are in every table of exact Poisson limits)
// and, for any number and confidence, with quantiles of the chi-squared distribution, reckoned by another library.
func TestGarwood(t *testing.T) {
	for n, want := range map[int][2]float64{
		0: {0, 3.689}, 1: {0.0253, 5.572}, 2: {0.2422, 7.225}, 3: {0.6187, 8.767}, 5: {1.623, 11.67}, 10: {4.795, 18.39},
		20: {12.22, 30.89}, 50: {37.11, 65.92},
	} {
		low, high := Garwood(n, 0.95)
		require.InDelta(t, want[0], low, 0.006, n)
		require.InDelta(t, want[1], high, 0.006, n)
	}
	rapid.Check(t, func(t *rapid.T) {
		n, confidence := rapid.IntRange(0, 3000).Draw(t, "n"), rapid.Float64Range(0.5, 0.999).Draw(t, "confidence")
		low, high := Garwood(n, confidence)
		tail := (1 - confidence) / 2
		if n > 0 {
			want := distuv.ChiSquared{K: float64(2 * n)}.Quantile(tail) / 2
			require.InEpsilon(t, want, low, 1e-6)
		}
		want := distuv.ChiSquared{K: float64(2*n + 2)}.Quantile(1-tail) / 2
		require.InEpsilon(t, want, high, 1e-6)
	})
}

// TestPoisson compares with another library, and with the sum of its terms.
func TestPoisson(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n, mean := rapid.IntRange(0, 500).Draw(t, "n"), rapid.Float64Range(0.001, 400).Draw(t, "mean")
		require.InDelta(t, distuv.Poisson{Lambda: mean}.CDF(float64(n)), PoissonAtMost(n, mean), 1e-9)
	})
	require.Zero(t, PoissonAtMost(-1, 3))
	require.InDelta(t, 1, PoissonAtMost(0, 0), 0)
}

func life(age, hours float64, failed bool) Life {
	return Life{Entered: t0, Left: t0.Add(time.Duration(hours * float64(time.Hour))), Age: age, Failed: failed}
}

// TestSurvival compares with the published example of remission times of 21 patients (Freireich et al. 1963, the 6-MP
// arm), with the figures that every textbook gives of it, and with a reckoning from the definition.
func TestSurvival(t *testing.T) {
	var lives []Life
	for _, x := range []struct {
		weeks  float64
		failed bool
	}{{6, true}, {6, true}, {6, true}, {6, false}, {7, true}, {9, false}, {10, true}, {10, false}, {11, false}, {13, true},
		{16, true},
		{17, false}, {19, false}, {20, false}, {22, true}, {23, true}, {25, false}, {32, false}, {32, false}, {34, false},
		{35, false}} {
		lives = append(lives, life(0, x.weeks, x.failed))
	}
	points := Survival(lives, 1.96)
	want := []struct{ at, well, error float64 }{
		{6, 0.857, 0.0764},
		{7, 0.807, 0.0869},
		{10, 0.753, 0.0963},
		{13, 0.690, 0.1068},
		{16, 0.627, 0.1141},
		{22, 0.538, 0.1282},
		{23, 0.448, 0.1346},
	}
	require.Len(t, points, len(want))
	for i, w := range want {
		require.InDelta(t, w.at, points[i].Hours, 0)
		require.InDelta(t, w.well, points[i].Well, 0.0006)
		require.InDelta(t, w.error, (points[i].Well-points[i].Low)/1.96, 0.0006)
	}

	// Drives that were old when they came give no rate for young drives.
	require.Equal(t, Survival([]Life{life(0, 100, true), life(0, 200, false)}, 1.96),
		Survival([]Life{life(0, 100, true), life(0, 200, false), life(150, 500, false)}, 1.96))
	require.Empty(t, Survival([]Life{life(-1, 100, true)}, 1.96), "of unknown age")
}

// TestSplit: cut by age, nothing of the time watched and no failure is lost or counted twice.
func TestSplit(t *testing.T) {
	bands := []float64{8766, 3 * 8766, 5 * 8766}
	rapid.Check(t, func(t *rapid.T) {
		l := life(
			rapid.Float64Range(0, 60000).Draw(t, "age"),
			rapid.Float64Range(0, 40000).Draw(t, "hours"),
			rapid.Bool().Draw(t, "failed"),
		)
		hours, failed := 0.0, 0
		for i, part := range Split(l, bands) {
			hours += part.Exposure().Hours()
			if part.Failed {
				failed++
			}
			if i > 0 {
				require.GreaterOrEqual(t, part.Age, bands[i-1]-1e-6)
			}
			if i < len(bands) {
				require.LessOrEqual(t, part.Age+part.Exposure().Hours(), bands[i]+1e-6)
			}
		}
		require.InDelta(t, l.Exposure().Hours(), hours, 1e-3)
		require.Equal(t, map[bool]int{true: 1}[l.Failed], failed)
	})
}

// TestRates: small numbers are wide ranges, and more of the same narrows them round the same rate.
func TestRates(t *testing.T) {
	var lives []Life
	for i := range 200 {
		l := life(1000, 8766, i%50 == 0)
		l.Drive = fmt.Sprint("model ", i%2)
		lives = append(lives, l)
	}
	groups := By(lives, func(l Life) string { return l.Drive }, 0.95)
	require.Equal(t, "model 0", groups[0].Name)
	require.Equal(t, 4, groups[0].Rate.Failures)
	require.InDelta(t, 0.04, groups[0].Rate.PerYear, 1e-9)
	require.Zero(t, groups[1].Rate.Low)
	require.InDelta(t, 3.689/100, groups[1].Rate.High, 1e-4, "none failed is not: none will")
	all := RateOf(lives, 0.95)
	require.Less(t, all.High-all.Low, groups[0].Rate.High-groups[0].Rate.Low)
	require.True(t, math.IsInf(RateOf([]Life{{Entered: t0, Left: t0}}, 0.95).High, 1), "nothing watched, nothing known")
}

// TestNeed: the stock covers the failures with the wanted confidence, and one drive less would not.
func TestNeed(t *testing.T) {
	n := NeedOf(2, 100, 0.02, 14*24*time.Hour, 0.95)
	require.InDelta(t, 100*0.02*14/365.25, n.Mean, 1e-9)
	require.Equal(t, 3, n.Hold, "two now, and one more: with none the risk is 7 %")
	rapid.Check(t, func(t *rapid.T) {
		now, drives := rapid.IntRange(0, 5).Draw(t, "now"), rapid.IntRange(0, 5000).Draw(t, "drives")
		rate, days := rapid.Float64Range(0, 0.2).Draw(t, "rate"), rapid.IntRange(1, 120).Draw(t, "days")
		confidence := rapid.Float64Range(0.5, 0.999).Draw(t, "confidence")
		n := NeedOf(now, drives, rate, time.Duration(days)*24*time.Hour, confidence)
		d := distuv.Poisson{Lambda: max(n.Mean, 1e-300)}
		require.GreaterOrEqual(t, d.CDF(float64(n.Hold-now))+1e-9, confidence)
		if n.Hold > now {
			require.Less(t, d.CDF(float64(n.Hold-now-1))-1e-9, confidence)
		}
	})
}

// TestExpect: a kind without observations has the rate of all; one with long observation has its own; the rate is
// always between the two.
func TestExpect(t *testing.T) {
	require.InDelta(t, 0.02, Expect(Rate{}, Rate{}), 1e-12)
	require.InDelta(
		t,
		0.02,
		Expect(Rate{Years: 0.001}, Rate{Years: 0.002}),
		1e-5,
		"a minute of watching is no reason to buy",
	)
	require.InDelta(t, 0.05, Expect(Rate{}, Rate{Failures: 500, Years: 10000}), 0.001)
	require.InDelta(t, 0.10, Expect(Rate{Failures: 1000, Years: 10000}, Rate{Failures: 1500, Years: 20000}), 0.001)
	rapid.Check(t, func(t *rapid.T) {
		kind := Rate{
			Failures: rapid.IntRange(0, 50).Draw(t, "failures"),
			Years:    rapid.Float64Range(0.1, 500).Draw(t, "years"),
		}
		all := Rate{
			Failures: kind.Failures + rapid.IntRange(0, 50).Draw(t, "more"),
			Years:    kind.Years + rapid.Float64Range(0, 500).Draw(t, "more years"),
		}
		base, own := Expect(Rate{}, all), float64(kind.Failures)/kind.Years
		got := Expect(kind, all)
		require.GreaterOrEqual(t, got, min(base, own)-1e-9)
		require.LessOrEqual(t, got, max(base, own)+1e-9)
	})
}
