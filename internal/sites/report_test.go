package sites

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/core/reliability"
)

// TestReportOfMany: a report over sites has every entry of every site once, marked with it and in order; its sums are
// those of all sites, and its failure rates those of all their drives together.
func TestReportOfMany(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	day := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	var parts []part
	lives := map[string][]reliability.Life{}
	passed, cents, entries := 0, 0, 0
	for n := range 12 {
		p := part{site: fmt.Sprintf("site-%02d", n)}
		p.report.From, p.report.To = day, day.AddDate(0, 1, 0)
		p.report.WrittenAt = day.AddDate(0, 1, n)
		p.report.First = []string{"One.", "Two."}
		for i := range r.IntN(5) {
			at := day.Add(time.Duration(r.IntN(1000)) * time.Hour)
			p.report.Flagged = append(p.report.Flagged, api.PeriodFlag{At: at, Drive: fmt.Sprint(n, i), Verdict: api.Dead})
			p.report.Swaps = append(p.report.Swaps, api.PeriodSwap{Id: fmt.Sprint(n, i), EndedAt: at})
			p.report.Capacity = append(p.report.Capacity, api.PeriodCapacity{Pool: fmt.Sprint(n, i)})
			entries++
		}
		if len(p.report.Capacity) > 0 {
			p.report.Capacity[0].Likely = day.AddDate(0, r.IntN(20), 0)
		}
		p.report.Tests.Passed = r.IntN(100)
		passed += p.report.Tests.Passed
		price := r.IntN(100000)
		cents += price
		p.report.Money = []api.PeriodMoney{{Currency: "EUR", Drives: 1, Sum: fmt.Sprintf("%d.%02d", price/100, price%100)}}
		f := &p.report.Failures
		f.Confidence = 0.95
		for _, model := range []string{"OSSFELL OF-8T", "KIRRAN K4"} {
			var own []reliability.Life
			for range r.IntN(30) {
				own = append(own, reliability.Life{Entered: day, Left: day.AddDate(0, 0, 1+r.IntN(900)), Failed: r.IntN(9) == 0})
			}
			lives[model], lives["all"] = append(lives[model], own...), append(lives["all"], own...)
			x := reliability.RateOf(own, 0.95)
			f.Groups = append(f.Groups, api.FailureRate{Name: model, Drives: x.Drives, DriveYears: x.Years, Failures: x.Failures})
			f.All.Drives, f.All.DriveYears, f.All.Failures = f.All.Drives+x.Drives, f.All.DriveYears+x.Years,
				f.All.Failures+x.Failures
		}
		parts = append(parts, p)
	}
	out := merge(parts, []api.Site{{Name: "far", Says: "not reachable"}})
	require.Equal(t, "Nothing of far is in this report: not reachable.", out.First[0])
	require.Contains(t, out.First, "site-03: One. Two.")
	require.Equal(t, day.AddDate(0, 1, 0), out.WrittenAt, "it is as old as its oldest part")
	require.Len(t, out.Flagged, entries)
	require.Len(t, out.Swaps, entries)
	require.Len(t, out.Capacity, entries)
	for _, p := range parts {
		for _, f := range p.report.Flagged {
			f.Site = p.site
			require.Contains(t, out.Flagged, f)
		}
	}
	require.True(t, slices.IsSortedFunc(out.Flagged, func(a, b api.PeriodFlag) int { return a.At.Compare(b.At) }))
	foreseen := slices.IndexFunc(out.Capacity, func(c api.PeriodCapacity) bool { return c.Likely.IsZero() })
	for i, c := range out.Capacity {
		require.Equal(t, i >= foreseen, c.Likely.IsZero(), "pools that fill up come first")
	}
	require.Equal(t, passed, out.Tests.Passed)
	require.Equal(t, []api.PeriodMoney{{Currency: "EUR", Drives: 12, Sum: fmt.Sprintf("%d.%02d", cents/100, cents%100)}},
		out.Money)
	for _, g := range append(out.Failures.Groups, out.Failures.All) {
		want := reliability.RateOf(lives[g.Name], 0.95)
		require.Equal(t, want.Failures, g.Failures)
		require.InDelta(t, want.PerYear, g.PerYear, 1e-9)
		require.InDelta(t, want.Low, g.Low, 1e-6)
		require.InDelta(t, want.High, g.High, 1e-6)
	}
	empty := merge(nil, nil)
	b, err := json.Marshal(empty)
	require.NoError(t, err)
	require.NotContains(t, string(b), "null", "lists are never absent")
}

// TestReportAnswers: a site that refuses, answers nonsense or has no such pool is distinguished.
func TestReportAnswers(t *testing.T) {
	h := newHall(t)
	_, err := h.Report(t.Context(), api.GetReportParams{})
	require.ErrorContains(t, err, "has no sites yet")
	answers := func(status int, v any) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(status)
			_ = json.NewEncoder(w).Encode(v)
		})
	}
	h.site("without", answers(404, api.Problem{Type: "no-pool", Title: "No pool.", Detail: "List them."}))
	_, err = h.Report(t.Context(), api.GetReportParams{Pool: "plankton"})
	require.ErrorContains(t, err, "without: No pool.")
	h.site("good", answers(200, api.PeriodReport{First: []string{"No problems."}}))
	out, err := h.Report(t.Context(), api.GetReportParams{Pool: "plankton"})
	require.NoError(t, err)
	require.Empty(t, out.Sites, "a site without the pool is no site that is missing")
	require.Equal(t, "plankton", out.Pool)
	h.site("old", answers(403, api.Problem{Title: "Not allowed."}))
	h.site("odd", answers(200, "what?"))
	h.site("sums", answers(200, api.PeriodReport{Money: []api.PeriodMoney{{Sum: "much"}}}))
	out, err = h.Report(t.Context(), api.GetReportParams{})
	require.NoError(t, err)
	names := []string{}
	for _, x := range out.Sites {
		require.False(t, x.Reachable)
		require.NotEmpty(t, x.Do)
		names = append(names, x.Name+": "+x.Says)
	}
	_, err = h.registry.Invite("ida", "absent", time.Now())
	require.NoError(t, err)
	h.Invited(h.registry.Rows())
	out, err = h.Report(t.Context(), api.GetReportParams{})
	require.NoError(t, err)
	require.Len(t, out.Sites, 4, "a site that never connected is missing too")
	require.ElementsMatch(t, []string{"old: its version cannot make a report for a headquarters",
		"odd: its answer cannot be read", "sums: its answer cannot be read"}, names)
}
