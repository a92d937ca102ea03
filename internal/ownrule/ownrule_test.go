package ownrule

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/core/drive"
	"lantern/internal/core/history"
)

var t0 = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func record(days int, f func(d int) map[drive.MetricName]float64) history.Record {
	r := history.Record{}
	for d := range days {
		r.Add(t0.Add(time.Duration(d-days+1)*24*time.Hour), f(d))
	}
	return r
}

func TestExpressions(t *testing.T) {
	r := record(10, func(d int) map[drive.MetricName]float64 {
		return map[drive.MetricName]float64{
			"pending_sectors":     float64(d),
			"temperature_celsius": 46,
			"reallocated_sectors": float64(10 - d),
		}
	})
	for expression, want := range map[string]bool{
		"pending_sectors > 8": true,
		"pending_sectors_7d >= 7 && temperature_celsius > 45.5":   true,
		"pending_sectors_24h == 1.0":                              true,
		"pending_sectors_1h > 1":                                  false,
		"link_crc_errors > 0":                                     false, // it never reported it
		"link_crc_errors > 0 || pending_sectors > 0":              false,
		`model.startsWith("OSSFELL") && medium == "rotating"`:     true,
		`pool == "soundscape" && host in ["skerry", "fulmar"]`:    true,
		"reallocated_sectors_90d > 8":                             true, // a falling counter was reset
		"[1, 2, 3].exists(x, double(x) * 3.0 == pending_sectors)": true,
	} {
		p, err := Compile(expression)
		require.NoError(t, err, expression)
		got, err := p.Holds(
			r,
			t0,
			Facts{Model: "OSSFELL OF-8T", Medium: "rotating", Host: "skerry", Pool: "soundscape"},
		)
		require.NoError(t, err, expression)
		require.Equal(t, want, got, expression)
	}
	p, err := Compile("pending_sectors_24h > 0 && temperature_celsius > 40")
	require.NoError(t, err)
	require.Equal(t, []drive.MetricName{"pending_sectors", "temperature_celsius"}, p.Metrics)
	h := Rule{ID: "warm", Says: "is warm", Do: "cool it", Verdict: "watch"}.Hit(p, r, t0)
	require.Equal(t, "own:warm", h.Rule)
	require.Equal(
		t,
		[]string{"is warm", "cool it", "pending_sectors is 9 sectors", "temperature_celsius is 46 °C"},
		h.Text,
	)
}

// TestRefused: what does not compile, never ends, or names what is not there is refused, with its place and the nearest
// name.
func TestRefused(t *testing.T) {
	lists := "[1,2,3,4,5,6,7,8,9,10]"
	endless := "true"
	for range 6 {
		endless = lists + ".all(x, " + lists + ".all(y, " + endless + "))"
	}
	for expression, want := range map[string]string{
		"pending_sector > 2":              `line 1, column 1: there is nothing named "pending_sector"; did you mean pending_sectors?`,
		"pending_sectors > 2 && temp > 4": "line 1, column 24",
		"temperature_celsus_7d > 2":       "did you mean temperature_celsius_7d?",
		"pending_sectors >":               "line 1, column 18",
		"pending_sectors + 1.0":           "it gives a double",
		`pending_sectors > "many"`:        "line 1, column 17",
		"pending_sectors == 1":            "write numbers with a point",
		endless:                           "too much work",
		strings.Repeat("(", 5000):         "at most 4096",
		"":                                "line 1",
	} {
		_, err := Compile(expression)
		require.ErrorContains(t, err, want, expression)
	}
}

func FuzzCompile(f *testing.F) {
	f.Add("pending_sectors_24h > 2.0 && model == 'x'")
	f.Add("[1,2].map(x, x)")
	r := record(3, func(d int) map[drive.MetricName]float64 {
		return map[drive.MetricName]float64{"pending_sectors": float64(d)}
	})
	f.Fuzz(func(_ *testing.T, s string) {
		if p, err := Compile(s); err == nil {
			_, _ = p.Holds(r, t0, Facts{})
		}
	})
}
