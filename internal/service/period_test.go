package service

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/store"
)

// TestPeriod: a report tells what was between two moments and nothing else, says first what matters, and knows its
// limits.
func TestPeriod(t *testing.T) {
	b := newBench(t)
	b.s.Fleet.GraceUntil = time.Time{}
	begin := b.clock.Now()
	rows := &store.Batch{}
	for day := range 60 { // it grows by 0.1 TB a day: 4 TB are left for 40 days
		rows.Add(
			&store.PoolUse{Pool: "p1", At: begin.AddDate(0, 0, -day).UnixMilli(), Used: int64(4e12 - float64(day)*1e11)},
		)
	}
	require.NoError(t, b.store.Write(rows))
	_, err := b.s.Inventory.Import("ida", api.InventoryImport{Rows: []api.InventoryRow{
		{
			Line: 1,
			Name: "AA001",
			Fields: map[string]string{
				"purchased": begin.AddDate(0, 0, -10).Format(time.DateOnly),
				"price":     "249.90",
				"currency":  "EUR",
				"warranty":  begin.AddDate(0, 0, 30).Format(time.DateOnly),
			},
		},
		{
			Line: 2,
			Name: "BB002",
			Fields: map[string]string{
				"purchased": begin.AddDate(0, 0, -11).Format(time.DateOnly),
				"price":     "0.20",
				"currency":  "EUR",
			},
		},
		{
			Line: 3,
			Name: "CC003",
			Fields: map[string]string{
				"purchased": begin.AddDate(-1, 0, 0).Format(time.DateOnly),
				"price":     "100",
				"currency":  "EUR",
			},
		}}})
	require.NoError(t, err)
	for range 2 {
		b.clock.forward(10 * time.Minute)
		b.drives[0].Reading = api.Reading{
			At:      b.clock.Now(),
			Metrics: map[string]float64{"pending_sectors": 400, "power_on_hours": 5000},
		}
		b.report()
	}
	require.NoError(t, b.s.Tick())
	b.pool.Recoveries = []api.RecoveryReport{
		{
			Id:        "v1",
			Kind:      "scrub",
			State:     "finished",
			StartedAt: begin,
			EndedAt:   b.clock.Now(),
			DoneBytes: 4e12,
			TodoBytes: 4e12,
		},
	}
	b.report()
	b.clock.forward(time.Minute)
	require.NoError(t, b.s.Tick())

	r, err := b.s.Period(api.GetReportParams{})
	require.NoError(t, err)
	require.Len(t, r.Flagged, 1)
	require.Equal(t, "AA001", r.Flagged[0].Tail)
	require.Equal(t, api.Replace, r.Flagged[0].Verdict)
	require.Len(t, r.Recoveries, 1)
	require.Positive(t, r.Notices.Opened)
	require.Equal(t, []api.PeriodMoney{{Currency: "EUR", Drives: 2, Sum: "250.10"}}, r.Money)
	require.Len(t, r.Warranties, 1)
	require.Len(t, r.Capacity, 1)
	require.WithinDuration(t, begin.AddDate(0, 0, 40), r.Capacity[0].Likely, 48*time.Hour)
	first := ""
	for _, f := range r.First {
		first += f + "\n"
	}
	for _, words := range []string{"1 drive flagged replace or dead (0 dead)", "Buy 1 rotating drive of 8 TB",
		"plankton may be full by", "The warranty of 1 drive ends"} {
		require.Contains(t, first, words)
	}

	before, err := b.s.Period(api.GetReportParams{From: begin.AddDate(0, -2, 0), To: begin.Add(-time.Minute)})
	require.NoError(t, err)
	require.Empty(t, before.Flagged)
	require.Empty(t, before.Recoveries)
	require.Zero(t, before.Notices.Opened)
	require.Contains(t, before.First[0], "No drive was flagged replace or dead")
	_, err = b.s.Views.SetRoom("ida", "fulmar", "north")
	require.NoError(t, err)
	north, err := b.s.Period(api.GetReportParams{Room: "north"})
	require.NoError(t, err)
	require.Len(t, north.Flagged, 1)
	for _, wrong := range []api.GetReportParams{{From: b.clock.Now().Add(time.Hour)}, {Room: "south"}, {Pool: "plancton"},
		{From: begin.AddDate(-9, 0, 0)}} {
		_, err := b.s.Period(wrong)
		require.Error(t, err)
	}
}
