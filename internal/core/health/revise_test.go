package health

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lantern/internal/core/drive"
	"lantern/internal/core/history"
)

// TestRevise: whatever thresholds were set in between, after they are set back the findings are those of unchanged
// thresholds.
func TestRevise(t *testing.T) {
	require.Contains(t, ComparesWith("burst_sectors"), "pending-sectors")
	require.NotContains(t, ComparesWith("burst_sectors"), "link-crc")
	rapid.Check(t, func(t *rapid.T) {
		begin := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
		record := history.Record{}
		at, value := begin, 0.0
		usual := Usual()
		var steady []Standing
		now := begin
		subject := func() *Subject {
			return &Subject{FirstAt: begin, LastAt: now, Present: true, Record: record}
		}
		for range rapid.IntRange(1, 60).Draw(t, "readings") {
			at = at.Add(time.Duration(rapid.IntRange(1, 12).Draw(t, "hours")) * time.Hour)
			value += float64(rapid.SampledFrom([]int{0, 0, 0, 0, 1, 2, 9, 30}).Draw(t, "more"))
			now = at
			record.Add(at, map[drive.MetricName]float64{"pending_sectors": value})
			steady = Settle(steady, Evaluate(subject(), &usual), now)
		}
		touched := append([]Standing(nil), steady...)
		for range rapid.IntRange(1, 4).Draw(t, "changes") {
			other := Usual()
			require.NoError(t, other.Set("burst_sectors", float64(rapid.IntRange(1, 60).Draw(t, "threshold"))))
			touched = Settle(Revise(touched, subject(), &other, "burst_sectors", now), Evaluate(subject(), &other), now)
		}
		touched = Settle(Revise(touched, subject(), &usual, "burst_sectors", now), Evaluate(subject(), &usual), now)
		verdict := func(all []Standing) Verdict { return VerdictOf(all, false) }
		if verdict(steady) == Sound {
			require.Equal(t, Sound, verdict(touched), "a threshold that was set back leaves nothing behind")
		}
		require.LessOrEqual(t, verdict(touched).Gravity(), verdict(steady).Gravity())
		// And what is true by the present readings is never lost.
		for _, h := range Evaluate(subject(), &usual) {
			require.GreaterOrEqual(t, verdict(touched).Gravity(), h.Verdict.Gravity())
		}
	})
}
