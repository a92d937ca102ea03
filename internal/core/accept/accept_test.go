package accept

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/cockroachdb/datadriven"
	"github.com/stretchr/testify/require"

	"lantern/internal/core/drive"
	"lantern/internal/core/record"
)

var short = map[string]drive.MetricName{
	"hours":       "power_on_hours",
	"cycles":      "power_cycles",
	"written":     "bytes_written",
	"reallocated": "reallocated_sectors",
	"pending":     "pending_sectors",
	"crc":         "link_crc_errors",
}

// TestScripts are stories of drives that are tested before they are trusted. Each command is a minute after the one
// before.
func TestScripts(t *testing.T) {
	datadriven.Walk(t, "testdata", func(t *testing.T, path string) {
		var s State
		now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
		datadriven.RunTest(t, path, func(t *testing.T, d *datadriven.TestData) string {
			now = now.Add(time.Minute)
			values := map[drive.MetricName]float64{}
			words := map[string]string{}
			for _, a := range d.CmdArgs {
				if len(a.Vals) == 0 {
					continue
				}
				words[a.Key] = strings.Join(a.Vals, " ")
				if name, ok := short[a.Key]; ok {
					var v float64
					_, err := fmt.Sscan(a.Vals[0], &v)
					require.NoError(t, err)
					values[name] = v
				}
			}
			number := func(name string) (n int64) {
				fmt.Sscan(words[name], &n)
				return n
			}
			counts := Counts{now, values}
			logged, found := len(s.Log), len(s.Checks)
			var orders []Order
			why := ""
			switch d.Cmd {
			case "begin":
				s = State{
					By:     "ida",
					Drive:  drive.Identity{Model: "VELDRUN VR4-4000", Serial: "VR7GA301"},
					Stages: Policy(d.HasArg("surface"), d.HasArg("extended")),
				}
				logged, found = 0, 0
				s, orders = Begin(s, now, counts)
			case "test":
				s, orders = s.TestEnded(
					now,
					drive.SelfTestKind(words["kind"]),
					d.HasArg("passed"),
					d.HasArg("failed"),
					strings.TrimSpace(d.Input),
				)
			case "cannot":
				s, orders = s.CannotTest(now, strings.TrimSpace(d.Input))
			case "surface":
				s, orders = s.SurfaceSeen(
					now,
					SurfaceReport{
						Done:  number("done"),
						Size:  4000,
						State: words["state"],
						Says:  strings.TrimSpace(d.Input),
					},
				)
			case "counts":
				if d.HasArg("earlier") {
					counts.At = now.Add(-time.Hour)
				}
				s = s.CountsSeen(counts)
			case "silent":
				s = s.NoCounts(now, strings.TrimSpace(d.Input))
			case "refused":
				s = s.OrderFailed(now, strings.TrimSpace(d.Input))
			case "pause", "resume", "stop":
				s, orders, why = s.Act(now, "ida", d.Cmd, strings.TrimSpace(d.Input))
			default:
				d.Fatalf(t, "no command %q", d.Cmd)
			}
			var out strings.Builder
			for _, c := range s.Checks[found:] {
				mark := map[record.Result]string{record.Passes: ".", record.Warns: "!", record.Stops: "#"}[c.Result]
				fmt.Fprintf(&out, "%s %s: %s\n", mark, c.Title, c.Found)
			}
			for _, l := range s.Log[logged:] {
				fmt.Fprintf(&out, "%s: %s\n", l.Who, l.Says)
			}
			for _, o := range orders {
				fmt.Fprintf(&out, "order %s %s\n", o.Kind, o.Test)
			}
			if why != "" {
				fmt.Fprintf(&out, "no: %s\n", why)
			}
			fmt.Fprintf(&out, "%s, at %s\n", s.Outcome, s.Stage())
			return strings.ReplaceAll(out.String(), " \n", "\n")
		})
	})
}

// TestFinish: two passes over four terabytes at 200 MB a second take 11 to 22 hours; without progress there is no
// estimate.
func TestFinish(t *testing.T) {
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	s := State{
		Stages:  Policy(true, false),
		At:      2,
		Outcome: Running,
		Surface: SurfaceReport{Pass: "write", Size: 4e12, State: "running"},
	}
	_, _, ok := s.Finish(now)
	require.False(t, ok)
	for _, c := range []struct {
		pass  string
		done  int64
		hours float64
	}{{"write", 0, 11.11}, {"write", 2e12, 8.33}, {"verify", 0, 5.56}, {"verify", 4e12, 0}} {
		s.Surface.Pass, s.Surface.Done, s.Surface.Rate = c.pass, c.done, 200e6
		soonest, latest, ok := s.Finish(now)
		require.True(t, ok)
		require.InDelta(t, c.hours, soonest.Sub(now).Hours(), 0.01)
		require.InDelta(t, 2*c.hours, latest.Sub(now).Hours(), 0.02)
	}
	s.Outcome = Paused
	_, _, ok = s.Finish(now)
	require.False(t, ok, "while it rests nobody knows")
}

// TestDecode: stored tests are read back, also in the earlier form.
func TestDecode(t *testing.T) {
	s, _ := Begin(
		State{ID: "a", By: "ida", Stages: Policy(true, true)},
		time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC),
		Counts{Values: map[drive.MetricName]float64{"power_on_hours": 900, "pending_sectors": 0}},
	)
	doc, err := json.Marshal(s)
	require.NoError(t, err)
	back, err := Decode(doc)
	require.NoError(t, err)
	require.Equal(t, s, back)
	back, err = Decode(
		[]byte(
			`{"id":"a","outcome":"failed","findings":[{"ID":"fresh","Title":"It is new","Looked":"l","Found":"it was used",
				"Do":"ask","Grave":false,"Odd":true},{"ID":"short","Found":"it failed","Grave":true},{"ID":"clean"}]}`,
		),
	)
	require.NoError(t, err)
	require.Equal(
		t,
		[]record.Check{
			{ID: "fresh", Title: "It is new", Looked: "l", Found: "it was used", Do: "ask", Result: record.Warns},
			{ID: "short", Found: "it failed", Result: record.Stops},
			{ID: "clean", Result: record.Passes},
		},
		back.Checks,
	)
	require.Equal(t, "it failed", back.Words())
	_, err = Decode([]byte(`{"id":`))
	require.Error(t, err)
}
