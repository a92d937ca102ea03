package bounds

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// TestCheck: each kind of bound is enforced, at any depth, by its own figure or the default one.
func TestCheck(t *testing.T) {
	section := func(change func(s *api.SectionReport)) api.Report {
		s := api.SectionReport{Name: "front", Rows: 2, Columns: 6, Lit: []int{1}}
		change(&s)
		return api.Report{Enclosures: []api.EnclosureReport{{Name: "shelf", Sections: []api.SectionReport{s}}}}
	}
	reading := func(r api.Reading) api.Report { return api.Report{Drives: []api.DriveReport{{Reading: r}}} }
	many := map[string]float64{}
	for range 2000 {
		many[strings.Repeat("x", len(many)+1)] = 1
	}
	for says, r := range map[string]api.Report{
		"":                           section(func(*api.SectionReport) {}),
		"rows is 10000; at most 64":  section(func(s *api.SectionReport) { s.Rows = 10000 }),
		"columns is -1; at least 0":  section(func(s *api.SectionReport) { s.Columns = -1 }),
		"lit[0] is 9000":             section(func(s *api.SectionReport) { s.Lit = []int{9000} }),
		"name has 65 characters":     section(func(s *api.SectionReport) { s.Name = strings.Repeat("ä", 65) }),
		"drives has 4001 entries":    {Drives: make([]api.DriveReport, 4001)},
		"metrics has 2000 entries":   reading(api.Reading{Metrics: many}),
		"Report.at is 9999":          {At: time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)},
		"why has 5000 characters":    reading(api.Reading{Unreadable: []api.BadPage{{Why: strings.Repeat("x", 5000)}}}),
		"bytes has 200000 bytes":     reading(api.Reading{Unreadable: []api.BadPage{{Bytes: make([]byte, 200000)}}}),
		"capacity_bytes is -2":       {Drives: []api.DriveReport{{CapacityBytes: -2}}},
		"interval_seconds is 1e+300": {IntervalSeconds: 1e300},
	} {
		if err := Check(r); says == "" {
			require.NoError(t, err)
		} else {
			require.ErrorContains(t, err, says)
		}
	}
}

// FuzzCheck: no report makes it panic.
func FuzzCheck(f *testing.F) {
	f.Add([]byte(`{"drives":[{"reading":{"metrics":{"x":1}}}],"pools":[{"groups":[{}]}]}`))
	f.Fuzz(func(_ *testing.T, in []byte) {
		var r api.Report
		if json.Unmarshal(in, &r) == nil {
			_ = Check(r)
		}
	})
}

// full is a value with every property of a schema, and its required places as JSON pointers.
func full(of *schema, at string, required *[]string) any {
	of = load().resolve(of)
	switch {
	case of.Type == "array":
		return []any{full(of.Items, at+"/0", required)}
	case of.Type == "object" && len(of.Properties) == 0:
		if of.Additional == nil {
			return map[string]any{}
		}
		return map[string]any{"x": full(of.Additional, at+"/x", required)}
	case of.Type == "object":
		out := map[string]any{}
		for name, f := range of.Properties {
			out[name] = full(f, at+"/"+name, required)
		}
		for _, name := range of.Required {
			*required = append(*required, at+"/"+name)
		}
		return out
	case of.Type == "integer" || of.Type == "number":
		return 0
	case of.Type == "boolean":
		return false
	}
	return ""
}

// TestMissing: in a report with every field nothing is missing, whatever the values are. If one required field is left
// out or null, that field is named. All schemas of the API can be read.
func TestMissing(t *testing.T) {
	for name, of := range load().Components.Schemas {
		if of.Type == "object" {
			shapeOf(name)
		}
	}
	var required []string
	lists := map[string]bool{}
	value := full(load().Components.Schemas["Report"], "", &required)
	require.Greater(t, len(required), 80)
	whole, err := json.Marshal(value)
	require.NoError(t, err)
	missing, err := Missing(whole, "Report")
	require.NoError(t, err)
	require.Empty(t, missing)
	for _, pointer := range required {
		for _, null := range []bool{false, true} {
			var v any
			require.NoError(t, json.Unmarshal(whole, &v))
			steps := strings.Split(pointer, "/")[1:]
			in := v
			for _, step := range steps[:len(steps)-1] {
				switch x := in.(type) {
				case map[string]any:
					in = x[step]
				case []any:
					in = x[0]
				}
			}
			last := steps[len(steps)-1]
			_, lists[pointer] = in.(map[string]any)[last].([]any)
			delete(in.(map[string]any), last)
			if null {
				in.(map[string]any)[last] = nil
			}
			expected := pointer
			if null && lists[pointer] {
				expected = "" // an empty list
			}
			text, err := json.Marshal(v)
			require.NoError(t, err)
			missing, err := Missing(text, "Report")
			require.NoError(t, err)
			require.Equal(t, expected, missing, "null: %t", null)
		}
	}
	missing, err = Missing([]byte(`{"drives":[null]}`), "Report")
	require.NoError(t, err)
	require.Equal(t, "/drives/0", missing, "a null is not a drive")
	for _, text := range []string{"", "{", `{"pools":[{]}`} {
		_, err := Missing([]byte(text), "Report")
		require.Error(t, err, text)
	}
}

// FuzzMissing: no text crashes it, and spaces around a text change nothing.
func FuzzMissing(f *testing.F) {
	f.Add(`{"id":"a","host":"h","drives":[{"identity":{"model":"m"}}],"pools":[null,1,"x",[],{}]}`)
	f.Add(`{"a\u0062":1}`)
	f.Fuzz(func(t *testing.T, text string) {
		missing, err := Missing([]byte(text), "Report")
		again, errAgain := Missing([]byte(" "+text+"\n"), "Report")
		require.Equal(t, err == nil, errAgain == nil)
		require.Equal(t, missing, again)
	})
}
