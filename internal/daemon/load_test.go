package daemon

import (
	"context"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/httpd"
	"lantern/internal/load"
	"lantern/internal/service"
	"lantern/internal/store"
)

// TestLoad puts a service under a small load: no request is refused, everybody sees that a drive vanished and gets the
// notice, tests are planned meanwhile; and a service with real hosts is refused.
func TestLoad(t *testing.T) {
	st, err := store.Open(filepath.Join(t.TempDir(), "lantern.db"))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, st.Close()) })
	log := slog.New(slog.DiscardHandler)
	s, err := service.New(st, clock.Real{}, log)
	require.NoError(t, err)
	s.Selftests.Background = 1 // as with many drives
	token, err := s.People.NewToken("ida")
	require.NoError(t, err)
	site := &httpd.Server{Service: s, Version: "test", Now: time.Now, Log: log}
	front, metrics := httptest.NewServer(site.Handler()), httptest.NewServer(site.MetricsHandler())
	t.Cleanup(front.Close)
	t.Cleanup(metrics.Close)
	ticking, stop := context.WithCancel(t.Context())
	stopped := make(chan struct{})
	go func() {
		defer close(stopped)
		for ticking.Err() == nil {
			if err := s.Tick(); err != nil {
				t.Error(err)
			}
			_ = clock.Real{}.Sleep(ticking, 100*time.Millisecond)
		}
	}()
	t.Cleanup(func() { stop(); <-stopped })

	c := load.Config{
		Server: front.URL, Token: token, Transport: &http.Transport{}, Hosts: 4, Drives: 240, People: 3,
		Every: time.Second, For: 13 * time.Second, Seed: 1, Metrics: metrics.URL,
	}
	got, err := load.Run(t.Context(), c)
	require.NoError(t, err)
	require.Equal(t, 4, got.Filling.Reports)
	require.Equal(t, 240, got.Filling.Readings)
	require.Equal(t, 4, got.Rush.Reports)
	require.Greater(t, got.Steady.Reports, 4)
	require.Greater(t, got.MemoryBytes, 1e6)
	seen := ""
	for _, w := range got.Waits {
		require.Zero(t, w.Failed, "%s: %s", w.What, w.LastError)
		require.LessOrEqual(t, w.Median, w.P99)
		require.LessOrEqual(t, w.P99, w.Longest)
		seen += w.What + "\n"
	}
	for _, what := range []string{"GET round", "GET horizon", "event on a screen: a drive left", "report in the rush",
		"notice on a screen: a drive vanished"} {
		require.Contains(t, seen, what)
	}
	require.NotContains(t, strings.ToLower(seen), "error")
	page, err := s.Selftests.PlannedTests(api.ListPlannedTestsParams{Limit: 1})
	require.NoError(t, err)
	require.NotZero(t, page.Total, "no test was planned")

	stop()
	<-stopped
	require.NoError(t, s.Tick())
	rows, err := store.All[store.PlannedTest](st, "drive", "")
	require.NoError(t, err)
	require.Len(t, rows, len(s.Selftests.Items), "what is planned is written down")

	_, err = s.Fleet.Enrol("ida", "guillemot", false)
	require.NoError(t, err)
	_, err = load.Run(t.Context(), c)
	require.ErrorIs(t, err, load.ErrNotYours)
	require.ErrorContains(t, err, "guillemot")
}
