package api

import (
	"bytes"
	stdjson "encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/stretchr/testify/require"
)

// sameAsMap requires that Metrics are read as a map of the same text is: the same values, or an error as well.
func sameAsMap(t *testing.T, text []byte) {
	t.Helper()
	ours, theirs := struct{ Metrics Metrics }{Metrics{"kept": 1}}, struct{ Metrics map[string]float64 }{
		map[string]float64{"kept": 1},
	}
	text = fmt.Appendf(nil, `{"Metrics": %s}`, text)
	wrong := json.Unmarshal(text, &theirs)
	err := json.Unmarshal(text, &ours)
	require.Equal(t, wrong == nil, err == nil, "%s: %v, not %v", text, err, wrong)
	if wrong == nil {
		require.Equal(t, theirs.Metrics, map[string]float64(ours.Metrics), "%s", text)
	}
}

var metricsTexts = []string{
	`{}`, ` { } `, `{"a":1}`, "{ \"a\" :\t1 ,\r\n\"b\": -2.5e-3 }", `{"a":1,"a":2}`, `{"a":0,"b":-0,"c":0.0}`,
	`{"a":999999999999999,"b":9007199254740993,"c":12345678901234567890,"d":-123456789012345}`,
	`{"a":1e400}`, `{"a":1e308}`, `{"a":1e-400}`, `{"a":1E+2}`, `{"a":0.1}`, `{"a":3.0e0}`,
	`null`, `[]`, `7`, `"x"`, `{"a":"1"}`, `{"a":true}`, `{"a":{}}`,
	`{"a":01}`, `{"a":-}`, `{"a":1.}`, `{"a":.5}`, `{"a":1e}`, `{"a":+1}`, `{"a":0x1}`, `{"a":1_0}`, `{"a":NaN}`,
	`{"a":1,}`, `{,"a":1}`, `{"a" 1}`, `{"a":1 "b":2}`, `{"a":1`, `{"a":`, `{"a`, `{`, ``, `{"a":1}}`, `{"a":1} 2`,
	`{"\u0061":1,"b":2}`, `{"\u0061":1,"a":2}`, `{"a\n":1}`, "{\"a\n\":1}", `{"ä":1}`, "{\"\xff\":1}", `{"":1}`,
}

// TestMetrics: texts of all kinds are read as a map of numbers is.
func TestMetrics(t *testing.T) {
	for _, text := range metricsTexts {
		sameAsMap(t, []byte(text))
	}
	var r Reading
	for text, says := range map[string]string{
		`{"metrics": {"temperature_celsius": "hot"}}`: "temperature_celsius is not a number",
		`{"metrics": {"temperature_celsius": null}}`:  "temperature_celsius is not a number",
		`{"metrics": [1]}`:                            "they are not an object of names and numbers",
		`{"metrics": {"temperature_celsius": 1e999}}`: "temperature_celsius is too large",
	} {
		require.ErrorContains(t, json.Unmarshal([]byte(text), &r), says)
		require.EqualError(t, stdjson.Unmarshal([]byte(text), &r), "metrics: "+says, "by the other package")
	}
	require.NoError(t, stdjson.Unmarshal([]byte(`{"metrics": {"temperature_celsius": 31}}`), &r))
	require.Equal(t, Metrics{"temperature_celsius": 31}, r.Metrics)
}

// FuzzMetrics: no text is read in another way than as a map of numbers. A map takes null as 0, which a metric that is
// not known must never be.
func FuzzMetrics(f *testing.F) {
	for _, text := range metricsTexts {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		if !bytes.Contains(text, []byte("null")) {
			sameAsMap(t, text)
		}
	})
}

// BenchmarkReport reads a report of 60 drives with 25 metrics each: as the service does, and by encoding/json.
func BenchmarkReport(b *testing.B) {
	values := Metrics{}
	for i := range 25 {
		values[fmt.Sprintf("name_of_metric_%02d", i)] = float64(i*i*i) * 1.25
	}
	drives := make([]DriveReport, 60)
	for i := range drives {
		drives[i] = DriveReport{Path: fmt.Sprint("/dev/d", i), Reading: Reading{At: time.Unix(1e9, 0).UTC(), Metrics: values}}
	}
	text, err := json.Marshal(Report{Drives: drives})
	require.NoError(b, err)
	b.Run("ours", func(b *testing.B) {
		for b.Loop() {
			var r Report
			require.NoError(b, json.UnmarshalRead(bytes.NewReader(text), &r, json.RejectUnknownMembers(true)))
		}
	})
	b.Run("encoding/json", func(b *testing.B) {
		for b.Loop() {
			var r Report
			d := stdjson.NewDecoder(bytes.NewReader(text))
			d.DisallowUnknownFields()
			require.NoError(b, d.Decode(&r))
		}
	})
}
