package daemon

import (
	"bytes"
	"io"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-ical"
	"github.com/stretchr/testify/require"

	"lantern/internal/lab"
)

// TestLargeCalendar: the calendar of 2,000 drives names each planned test of the weeks ahead once, in events of a kind,
// a pool and a day; a reader of iCalendar accepts it, its lines conform to RFC 5545 3.1, and it is made quickly.
func TestLargeCalendar(t *testing.T) {
	dir := t.TempDir()
	f, err := lab.Open(
		filepath.Join(dir, "lab.json"),
		time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC),
		0,
		lab.HeronPoint(2000),
	)
	require.NoError(t, err)
	y := openYard(t, dir, f)
	y.r.service.Fleet.GraceUntil = time.Time{}
	require.NoError(t, y.r.service.Tick())
	require.Greater(t, len(y.r.service.Fleet.Drives), 1900)
	made, err := y.r.service.Selftests.MakeFeed("ida")
	require.NoError(t, err)
	begun := time.Now()
	res, err := http.Get(y.r.url + made.Path)
	require.NoError(t, err)
	b, err := io.ReadAll(res.Body)
	res.Body.Close()
	require.NoError(t, err)
	took := time.Since(begun)
	t.Logf("%d kB in %v", len(b)/1000, took)
	require.Less(t, took, 10*time.Second)
	require.Less(t, len(b), 4_000_000)

	require.Zero(t, bytes.Count(b, []byte("\n"))-bytes.Count(b, []byte("\r\n")), "lines end with CRLF")
	for _, l := range strings.Split(string(b), "\r\n") {
		require.LessOrEqual(t, len(l), 75, "octets of a line: %q", l)
	}
	cal, err := ical.NewDecoder(bytes.NewReader(b)).Decode()
	require.NoError(t, err)
	listed, events := 0, cal.Events()
	seen := map[string]bool{}
	for _, e := range events {
		id, err := e.Props.Text("UID")
		require.NoError(t, err)
		require.False(t, seen[id], "%s comes twice", id)
		seen[id] = true
		about, err := e.Props.Text("DESCRIPTION")
		require.NoError(t, err)
		listed += len(strings.Split(about, "\n"))
	}
	planned := 0
	for _, d := range y.r.service.Selftests.FeedDays() {
		planned += len(d.Tests)
	}
	require.Equal(t, planned, listed, "each test is listed once")
	require.Greater(t, listed, 1900)
	require.Less(t, len(events), listed/2, "tests of a pool, a kind and a day are one event")
}
