package main

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/core/health"
	"lantern/internal/lab/pasts"
)

// TestRulesAreWorthTheirWord: on a fleet small enough for every test run, most drives that fail by and by are flagged
// in time, those that do not are left alone, and a bad cable or a hot shelf condemns no drive. make judge measures it.
func TestRulesAreWorthTheirWord(t *testing.T) {
	sum, n := judge(pasts.Fleet(7, 1200, time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)), 6*time.Hour)
	require.Greater(t, n, 1_000_000)
	var whole, gradual health.Tally
	for _, f := range pasts.Fates {
		whole.Merge(*sum[f.Fate])
		if f.Gradual {
			gradual.Merge(*sum[f.Fate])
		}
	}
	require.Greater(t, gradual.Failures, 40)
	require.Greater(t, float64(gradual.InTime), 0.85*float64(gradual.Failures))
	require.LessOrEqual(t, whole.False, 5)
	require.Zero(t, sum[pasts.Cable].False)
	require.Zero(t, sum[pasts.HotShelf].False)
	require.Zero(t, sum[pasts.Sudden].Flagged, "what gives no sign is not foretold")
	again, _ := judge(pasts.Fleet(7, 100, time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)), 24*time.Hour)
	same, _ := judge(pasts.Fleet(7, 100, time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)), 24*time.Hour)
	require.Equal(t, again, same, "equal seeds live equal lives")
}

// BenchmarkFleet: the cost of judging one reading in a fleet: most drives without findings, some with one or more.
func BenchmarkFleet(b *testing.B) {
	fleet := pasts.Fleet(7, 300, time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC))
	limits := health.Usual()
	type one struct {
		r        *health.Replay
		standing []health.Standing
	}
	var all []*one
	found := 0
	for _, p := range fleet {
		r := health.NewReplay(&limits)
		r.TestsTold, r.CanTest = true, true
		end := p.Ends().Add(-24 * time.Hour)
		for at := end.Add(-90 * 24 * time.Hour); at.Before(end); at = at.Add(4 * time.Hour) {
			if at.Before(p.Begins) {
				continue
			}
			metrics, tests, peers := p.Read(at)
			r.Tests, r.Peers = tests, health.Group{N: 8, Median: peers, MAD: peers / 20}
			r.Read(at, metrics)
		}
		x := &one{r: r, standing: health.Settle(nil, health.Evaluate(&r.Subject, &limits), r.LastAt)}
		if len(x.standing) > 0 {
			found++
		}
		all = append(all, x)
	}
	n := 0
	for b.Loop() {
		x := all[n%len(all)]
		x.standing = health.Settle(x.standing, health.Evaluate(&x.r.Subject, &limits), x.r.LastAt)
		n++
	}
	b.ReportMetric(100*float64(found)/float64(len(all)), "%-with-findings")
}

// TestNuisances: odd readings, noise, gaps and reset counters are recognized, whatever the noise.
func TestNuisances(t *testing.T) {
	var out strings.Builder
	require.True(t, printNuisances(&out), "%s", &out)
}
