package service

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/service/fleet"
	"lantern/internal/store"
)

// TestReadingWritten: a reading that tells nothing new besides the values of attributes is not written whole each time,
// but its metrics are; what is new is written at once; and a reading that is shown has its own time.
func TestReadingWritten(t *testing.T) {
	b := newBench(t)
	key := "wwn-" + b.drives[0].Identity.Wwn
	written := func() api.Reading {
		row, err := store.One[store.Drive](b.store, "key = ?", key)
		require.NoError(t, err)
		var f fleet.Facts
		require.NoError(t, json.Unmarshal(row.Doc, &f))
		return f.Reading
	}
	shown := func() api.Drive {
		d, err := b.s.Views.Drive(key)
		require.NoError(t, err)
		return d
	}
	raw := int64(0)
	read := func(after time.Duration, change func(*api.Reading)) {
		b.clock.forward(after)
		raw++
		rd := &b.drives[0].Reading
		rd.At, rd.Metrics = b.clock.Now(), map[string]float64{"power_on_hours": float64(1000 + raw)}
		rd.Attributes = []api.Attribute{{Id: 9, Raw: raw, Value: 90, Worst: 90, Threshold: 10}}
		change(rd)
		b.report()
		require.Equal(t, rd.At, shown().ReadAt)
		require.Equal(t, rd.Attributes, shown().Attributes)
	}
	nothing := func(*api.Reading) {}
	wrote := 0
	for range 40 {
		from := written().At
		read(5*time.Minute-time.Second, nothing)
		if !written().At.Equal(from) {
			wrote++
			require.Equal(t, b.drives[0].Reading.At, written().At)
		}
		require.Less(t, b.drives[0].Reading.At.Sub(written().At), time.Hour)
	}
	require.LessOrEqual(t, wrote, 8, "written although only values changed")
	for written().At.Equal(shown().ReadAt) {
		read(5*time.Minute, nothing)
	}
	from := written().At

	was := shown().Attributes
	require.NoError(t, b.store.Close())
	b.open()
	require.Equal(t, from, shown().ReadAt, "older values are shown with their time")
	require.NotEqual(t, was, shown().Attributes)
	newest := int(1000 + raw)
	require.Equal(t, newest, shown().PowerOnHours, "each metric was written")

	for what, change := range map[string]func(*api.Reading){
		"a test":                   func(r *api.Reading) { r.Tests = []api.SelfTest{{Kind: "short", Result: "passed"}} },
		"a page":                   func(r *api.Reading) { r.Unreadable = []api.BadPage{{Kind: "page", Why: "short"}} },
		"a value at its threshold": func(r *api.Reading) { r.Attributes[0].Value = 10 },
		"a further attribute":      func(r *api.Reading) { r.Attributes = append(r.Attributes, api.Attribute{Id: 5}) },
	} {
		read(time.Minute, change)
		require.Equal(t, b.drives[0].Reading.At, written().At, what)
		b.drives[0].Reading.Tests, b.drives[0].Reading.Unreadable = nil, nil
		read(time.Minute, nothing)
	}

	// A report that cannot be written leaves nothing of it.
	before := shown()
	b.clock.forward(time.Minute)
	b.drives[0].Reading.At, b.drives[0].Reading.Metrics = b.clock.Now(), map[string]float64{"power_on_hours": 9000}
	b.drives[0].Reading.Attributes = []api.Attribute{{Id: 9, Raw: 9000, Value: 90, Worst: 90, Threshold: 10}}
	b.unwritten("a report", func() error { return b.s.TakeReport("fulmar", b.next()) })
	require.Equal(t, before, shown())
}
