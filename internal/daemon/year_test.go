package daemon

import (
	"bytes"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/agent"
	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/lab"
	"lantern/internal/service"
	"lantern/internal/store"
)

// direct hands reports to a service without a network.
type direct struct{ s *service.Service }

func (d direct) Do(r *http.Request) (*http.Response, error) {
	var report api.Report
	if err := json.NewDecoder(r.Body).Decode(&report); err != nil {
		return nil, err
	}
	answer := &http.Response{StatusCode: http.StatusNoContent, Body: io.NopCloser(bytes.NewReader(nil)), Header: http.Header{}}
	if err := d.s.TakeReport(report.Host, report); err != nil {
		return nil, err
	}
	return answer, nil
}

// BenchmarkYear lets one host of the demo's fleet be read every hour for a year, through the agent, its codecs, the
// report and the service, and says what is on disk afterwards, all tables, indexes and free pages counted.
func BenchmarkYear(b *testing.B) {
	for b.Loop() {
		dir := b.TempDir()
		end := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
		fleet, err := lab.Open(filepath.Join(dir, "lab.json"), end, 0, lab.HeronPoint(0))
		require.NoError(b, err)
		st, err := store.Open(filepath.Join(dir, "lantern.db"))
		require.NoError(b, err)
		log := slog.New(slog.DiscardHandler)
		s, err := service.New(st, fleet.Clock(), log)
		require.NoError(b, err)
		_, err = s.Enrol("bench", "petrel")
		require.NoError(b, err)
		empty, err := st.Size()
		require.NoError(b, err)
		client, err := api.NewClientWithResponses("http://direct", api.WithHTTPClient(direct{s}))
		require.NoError(b, err)
		for _, h := range fleet.Hosts {
			if h.Name != "petrel" {
				continue
			}
			a, err := agent.New(agent.Config{Host: h.Name, Machine: h, Client: client, Clock: clock.Real{}, Log: log, Dir: dir, Interval: time.Hour})
			require.NoError(b, err)
			const hours = 365 * 24
			readings, metrics := 0, 0
			for n := range hours {
				at := end.Add(-time.Duration(hours-n) * time.Hour)
				require.NoError(b, a.Backfill(b.Context(), []time.Time{at}, h.Past))
				if n%4 == 0 {
					require.NoError(b, s.Tick())
				}
			}
			for range 20 {
				require.NoError(b, s.Tick())
			}
			page, err := s.Drives(api.ListDrivesParams{Host: "petrel"})
			require.NoError(b, err)
			slowest := time.Duration(0)
			for _, d := range page.Drives {
				begun := time.Now()
				trend, err := s.Trend(d.Key, "temperature_celsius", 24*365)
				slowest = max(slowest, time.Since(begun))
				require.NoError(b, err)
				require.NotEmpty(b, trend.Points)
				readings += len(trend.Points)
				whole, err := s.Drive(d.Key)
				require.NoError(b, err)
				metrics = max(metrics, len(whole.Metrics))
			}
			size, err := st.Size()
			require.NoError(b, err)
			b.ReportMetric(float64(size-empty)/float64(readings), "bytes/reading")
			b.ReportMetric(float64(metrics), "metrics/reading")
			b.ReportMetric(float64(readings), "readings")
			b.ReportMetric(float64(slowest.Microseconds())/1000, "ms/year-of-one-metric")
		}
		require.NoError(b, st.Close())
	}
}
