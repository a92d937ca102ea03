package service

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/core/accept"
	"lantern/internal/service/fleet"
)

// TestFailures: drives count from their purchase, or from when they were seen; failures are those that were found, or,
// of drives that were never seen, those that are written down; small numbers are wide ranges.
func TestFailures(t *testing.T) {
	b := newBench(t)
	b.s.Fleet.GraceUntil = time.Time{}
	now := b.clock.Now()
	day := func(years float64) string {
		return now.Add(-time.Duration(years * 365.25 * 24 * float64(time.Hour))).Format(time.DateOnly)
	}
	req := api.InventoryImport{}
	for i, name := range []string{"AA001", "BB002", "CC003"} {
		req.Rows = append(
			req.Rows,
			api.InventoryRow{Line: i, Name: name, Fields: map[string]string{"purchased": day(2), "supplier": "Kelp"}},
		)
	}
	for i := range 4 { // each worked for a year and was sent back; a retired drive is not a failure
		state := map[bool]string{true: "retired", false: "sent-back"}[i == 3]
		req.Rows = append(
			req.Rows,
			api.InventoryRow{Line: 10 + i, Name: fmt.Sprintf("KH3GONE%d", i), Whole: true, Fields: map[string]string{
				"model": "OSSFELL OF-8T", "purchased": day(3), "state": state, "state_day": day(2), "supplier": "Tern"}},
		)
	}
	done, err := b.s.Inventory.Import("ida", req)
	require.NoError(t, err)
	require.True(t, done.Written, done.Refused)
	ask := func(p api.GetFailuresParams) api.Failures {
		t.Helper()
		v, err := b.s.Views.Failures(p)
		require.NoError(t, err)
		return v
	}
	v := ask(api.GetFailuresParams{})
	require.Equal(t, 7, v.All.Drives)
	require.Equal(t, 3, v.All.Failures)
	require.InDelta(t, 10, v.All.DriveYears, 0.1)
	require.InDelta(t, 0.3, v.All.PerYear, 0.01)
	require.InDelta(t, 0.0619, v.All.Low, 0.002, "Garwood: 0.619 to 8.767 in 10 years")
	require.InDelta(t, 0.8767, v.All.High, 0.01)
	by := ask(api.GetFailuresParams{By: "supplier"})
	require.Equal(t, "Tern", by.Groups[0].Name)
	require.Equal(t, 3, by.Groups[0].Failures)
	require.Zero(t, by.Groups[1].Failures)
	require.Positive(t, by.Groups[1].High, "none failed is not: none will")
	require.Len(t, v.Survival, 1)
	require.InDelta(t, 4.0/7, v.Survival[0].Well, 1e-9)
	ages := ask(api.GetFailuresParams{By: "age"})
	years := 0.0
	for _, g := range ages.Groups {
		years += g.DriveYears
	}
	require.InDelta(t, v.All.DriveYears, years, 0.01, "cut by age, no year is lost")

	for range 2 { // a jump waits for a second reading
		b.clock.forward(10 * time.Minute)
		b.drives[0].Reading = api.Reading{
			At:      b.clock.Now(),
			Metrics: map[string]float64{"pending_sectors": 400, "power_on_hours": 5000},
		}
		b.report()
	}
	require.Equal(t, api.Replace, b.drive("AA001").Verdict)
	require.NoError(t, b.s.Tick())
	b.report()
	require.Equal(t, 4, ask(api.GetFailuresParams{}).All.Failures)
	require.Equal(t, 3, ask(api.GetFailuresParams{Counts: "dead"}).All.Failures)
	require.Equal(t, 3, ask(api.GetFailuresParams{Counts: "gone"}).All.Failures)

	a, err := b.s.Views.Advice(14, 0.95)
	require.NoError(t, err)
	require.Len(t, a.Kinds, 1)
	k := a.Kinds[0]
	require.Equal(t, []string{"AA001"}, k.Now)
	require.InDelta(
		t,
		(4+25*4.5/35)/35,
		k.PerYear,
		0.01,
		"four in ten years, and 25 years' worth of what is expected of all",
	)
	require.Equal(t, 1, k.Hold, "the one that is to be replaced: %s", k.Says)
	require.Equal(t, 1, k.Buy)
	require.Equal(t, []string{"plankton"}, a.Uncovered)
	require.Equal(t, []string{"plankton"}, a.Uncovered)
	b.drives = append(b.drives, b.disk("DD004", 4))
	b.report()

	// A drive of stock counts only while everything that makes it ready is known.
	dd, err := b.s.Fleet.FindDrive("DD004")
	require.NoError(t, err)
	counts := func(why string) {
		t.Helper()
		a, err = b.s.Views.Advice(14, 0.95)
		require.NoError(t, err)
		require.Len(t, a.Cover, 1)
		if why == "" {
			require.Equal(t, []string{"DD004"}, a.Kinds[0].Stock)
			require.Empty(t, a.Kinds[0].Other)
			require.Zero(t, a.Kinds[0].Buy)
			return
		}
		require.Empty(t, a.Kinds[0].Stock, why)
		require.Equal(t, 1, a.Kinds[0].Buy, why)
		require.Len(t, a.Kinds[0].Other, 1, why)
		require.Contains(t, a.Kinds[0].Other[0].Says, why)
		require.Equal(t, []string{"plankton"}, a.Uncovered, why)
		require.Len(t, a.Cover[0].Open, a.Cover[0].Places, why)
	}
	counts("acceptance test: not run")
	for state, why := range map[accept.Outcome]string{accept.Running: "running", accept.Paused: "running",
		accept.Failed: "failed", accept.Stopped: "not run"} {
		dd.Accepted = fleet.Accepted{ID: "a", State: string(state), At: b.clock.Now()}
		counts("acceptance test: " + why)
	}
	dd.Accepted.State, dd.Stock = string(accept.Passed), true
	counts("")
	dd.Past = fleet.Past{At: b.clock.Now().Add(time.Hour), Says: "failed its short test"}
	counts("has passed no acceptance test since")
	dd.Past = fleet.Past{}
	quiet := b.clock.Now()
	b.clock.forward(3 * time.Hour) // the host does not report
	counts("not seen since " + quiet.UTC().Format(time.DateOnly))
	require.Len(t, a.Kinds[0].Unknown, 2, "members of a silent host, without the one that is to be replaced")
	require.Contains(t, a.Kinds[0].Says, "2 members of unknown health, which may need more")
	require.Contains(t, a.Cover[0].Says, "not known")
	b.report()
	counts("")
	b.drives = b.drives[:len(b.drives)-1]
	b.report()
	counts("not seen since")
	_, err = b.s.Inventory.SetItem("ida", "DD004", api.InventorySet{Fields: map[string]string{
		"state": "stock", "state_day": b.clock.Now().UTC().Format(time.DateOnly)}})
	require.NoError(t, err)
	counts("")
	require.Equal(t, []string{"DD004"}, a.Cover[0].By)
	a, err = b.s.Views.Advice(365, 0.99)
	require.NoError(t, err)
	require.Greater(t, a.Kinds[0].Buy, 1, "more fail until a delivery that takes a year")
	require.Empty(t, a.Uncovered)

	for _, wrong := range []api.GetFailuresParams{{By: "colour"}, {Counts: "lost"}, {Confidence: 0.2}} {
		_, err := b.s.Views.Failures(wrong)
		b.problem(err, "bad-question", "")
	}
	_, err = b.s.Views.Failures(api.GetFailuresParams{Model: "OSSFELL OF-8"})
	b.problem(err, "no-model", `did you mean "OSSFELL OF-8T"?`)
	_, err = b.s.Views.Advice(0.5, 0.95)
	b.problem(err, "bad-question", "")
}
