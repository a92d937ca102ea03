package year

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// BenchmarkYear says what a year of hourly readings of a host takes on disk, and how long one metric of one drive over
// that year takes, from disk.
func BenchmarkYear(b *testing.B) {
	for b.Loop() {
		numbers := 0
		y, err := Live(
			b.Context(),
			b.TempDir(),
			"petrel",
			func(_ string, _ time.Time, m map[string]float64) { numbers += len(m) },
		)
		require.NoError(b, err)
		page, err := y.Service.Views.Drives(api.ListDrivesParams{Host: []string{y.Host}})
		require.NoError(b, err)
		slowest, readings := time.Duration(0), 0
		for _, d := range page.Drives {
			begun := time.Now()
			trend, err := y.Service.Views.Trend(d.Key, "temperature_celsius", Hours)
			slowest = max(slowest, time.Since(begun))
			require.NoError(b, err)
			require.NotEmpty(b, trend.Points)
			readings += len(trend.Points)
		}
		b.ReportMetric(float64(y.Bytes)/float64(readings), "bytes/reading")
		b.ReportMetric(float64(numbers)/float64(readings), "metrics/reading")
		b.ReportMetric(float64(readings), "readings")
		b.ReportMetric(float64(slowest.Microseconds())/1000, "ms/year-of-one-metric")
		require.NoError(b, y.Store.Close())
	}
}
