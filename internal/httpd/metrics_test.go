package httpd

import (
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
	"github.com/stretchr/testify/require"
)

// metrics is what is told to somebody who asks for metrics.
func (s *site) metrics() map[string]map[string]float64 {
	h := httptest.NewServer(s.server.MetricsHandler())
	defer h.Close()
	r, err := http.Get(h.URL)
	require.NoError(s.t, err)
	defer r.Body.Close()
	require.Equal(s.t, 200, r.StatusCode)
	parser := expfmt.NewTextParser(model.UTF8Validation)
	families, err := parser.TextToMetricFamilies(r.Body)
	require.NoError(s.t, err)
	out := map[string]map[string]float64{}
	for name, f := range families {
		require.NotEmpty(s.t, f.GetHelp(), name)
		out[name] = map[string]float64{}
		for _, m := range f.Metric {
			labels := ""
			for _, l := range m.Label {
				labels += l.GetName() + "=" + l.GetValue() + " "
			}
			out[name][strings.TrimSpace(labels)] = m.GetGauge().GetValue()
		}
	}
	return out
}

// TestMetrics: the format's own parser reads the metrics, they agree with the API, and their number is limited: drives
// have series as configured, routes are the registered ones. Without the token there is no data.
func TestMetrics(t *testing.T) {
	s := newSite(t)
	for _, which := range []string{FlaggedDrives, AllDrives, NoDrives} {
		s.server.Metrics.Drives = which
		told := s.metrics()
		require.InDelta(t, 3, told["lantern_drives"]["verdict=sound"]+told["lantern_drives"]["verdict=watch"]+
			told["lantern_drives"]["verdict=replace"], 0)
		flagged := int(told["lantern_drives"]["verdict=watch"] + told["lantern_drives"]["verdict=replace"])
		require.Positive(t, flagged)
		require.Len(
			t,
			told["lantern_drive_flagged"],
			map[string]int{FlaggedDrives: flagged, AllDrives: 3, NoDrives: 0}[which],
		)
		require.InDelta(t, 1, told["lantern_host_reports"]["host=fulmar"], 0)
		require.InDelta(t, 1, told["lantern_ready"][""], 0)
		for labels, margin := range told["lantern_pool_margin_members"] {
			require.Contains(t, labels, "pool=")
			require.InDelta(t, 2, margin, 0)
		}
		require.Len(t, told["lantern_pool_margin_members"], 1)
	}
	for i := range 50 { // paths that are made up make no series
		s.call("GET", "/nothing/"+strings.Repeat("x", i), "", "Authorization", "Bearer "+s.person)
		s.call("GET", "/drives/AA00"+strings.Repeat("x", i), "", "Authorization", "Bearer "+s.person)
	}
	require.Less(t, len(s.metrics()["lantern_request_seconds"]), 12)

	ask := func(token string) (int, string) {
		r, err := http.NewRequest("GET", s.url+"/metrics", nil)
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+token)
		a, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer a.Body.Close()
		b, err := io.ReadAll(a.Body)
		require.NoError(t, err)
		return a.StatusCode, string(b)
	}
	status, _ := ask("")
	require.Equal(t, 404, status)
	s.server.Metrics.Token = "scrape"
	own := httptest.NewServer(s.server.MetricsFor())
	defer own.Close()
	at, err := http.Get(own.URL)
	require.NoError(t, err)
	at.Body.Close()
	require.Equal(t, 401, at.StatusCode, "where there is a token, an address of its own asks for it as well")
	for _, wrong := range []string{"", "scrap", s.person, s.host} {
		status, body := ask(wrong)
		require.Equal(t, 401, status)
		require.NotContains(t, body, "lantern_drives")
	}
	status, body := ask("scrape")
	require.Equal(t, 200, status)
	require.Contains(t, body, "lantern_drives")
	for _, path := range []string{"/healthz", "/readyz"} {
		a, err := http.Get(s.url + path)
		require.NoError(t, err)
		a.Body.Close()
		require.Equal(t, 200, a.StatusCode)
	}
}

// TestMonitoringExamples: the alert rules and the dashboard ask only for metrics that there are.
func TestMonitoringExamples(t *testing.T) {
	source, err := os.ReadFile("metrics.go")
	require.NoError(t, err)
	var there []string
	for _, m := range regexp.MustCompile(`"(lantern_[a-z_]+)"`).FindAllSubmatch(source, -1) {
		there = append(there, string(m[1]))
	}
	require.Greater(t, len(there), 25)
	for _, file := range []string{"alerts.yaml", "dashboard.json"} {
		b, err := os.ReadFile("../../examples/monitoring/" + file)
		require.NoError(t, err)
		asked := regexp.MustCompile(`\blantern_[a-z_]+`).FindAllString(string(b), -1)
		require.NotEmpty(t, asked)
		for _, name := range asked {
			require.True(t, slices.Contains(there, strings.TrimSuffix(name, "_bucket")), "%s asks for %s", file, name)
		}
	}
}
