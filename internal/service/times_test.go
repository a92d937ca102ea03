package service

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/store"
)

// TestTimesOfDrives: whatever reports say, and whether they are written or not, it is known when each drive was seen
// and read last, also after a restart, although the record of a drive is not written for each reading.
func TestTimesOfDrives(t *testing.T) {
	type times struct{ seen, read string }
	for seed := range uint64(12) {
		b, rng := newBench(t), rand.New(rand.NewPCG(seed, 0))
		tails, expected := []string{"AA001", "BB002", "CC003"}, map[string]times{}
		if seed%2 == 1 { // most of the host's drives tell nothing
			for i := range 4 {
				d := b.disk(fmt.Sprintf("DD%03d", i), 4+i)
				d.Reading, d.Blind = api.Reading{}, "its controller does not answer"
				b.drives, tails = append(b.drives, d), append(tails, fmt.Sprintf("DD%03d", i))
			}
			b.report()
		}
		at := func(x time.Time) string { return x.UTC().Format(time.RFC3339Nano) }
		all, keys := b.drives, map[string]string{}
		for i, tail := range tails {
			keys[tail] = "wwn-" + all[i].Identity.Wwn
		}
		check := func(when string) {
			t.Helper()
			for _, tail := range tails {
				d := b.s.Fleet.Drives[keys[tail]]
				require.Equal(t, expected[tail], times{at(d.SeenAt), at(d.Reading.At)}, "%s, %s, seed %d", tail, when, seed)
			}
		}
		for i, tail := range tails {
			expected[tail] = times{at(b.clock.Now()), at(all[i].Reading.At)}
		}
		check("the first report")
		for step := range 60 {
			what, written := fmt.Sprintf("step %d", step), rng.IntN(4) > 0
			b.drives = nil
			next := map[string]times{}
			b.clock.forward(time.Minute)
			report := b.next()
			for i, tail := range tails {
				if rng.IntN(6) == 0 {
					continue // it is gone, or still gone
				}
				d := &all[i]
				switch was := d.Reading; rng.IntN(6) + len(d.Blind) {
				case 0, 1, 2:
					d.Reading.At = b.clock.Now() // read again, nothing else is new
				case 3:
					d.Reading.At = b.clock.Now().Add(-time.Duration(rng.IntN(30)) * time.Second)
					d.Reading.Failing = rng.IntN(2) == 0
					d.Reading.At = later(d.Reading.At, was.At)
				case 4:
					d.Path = fmt.Sprint("/dev/y", step)
				}
				b.drives = append(b.drives, *d)
				next[tail] = times{at(b.clock.Now()), at(d.Reading.At)}
			}
			report.Drives = b.drives
			require.NoError(t, b.store.ReadOnly(!written))
			err := b.s.TakeReport("fulmar", report)
			require.NoError(t, b.store.ReadOnly(false))
			require.Equal(t, written, err == nil, "%v", err)
			if !written {
				check(what + ", not written")
				report.Id += " again"
				require.NoError(t, b.s.TakeReport("fulmar", report), "the same later")
			}
			for tail, x := range next {
				expected[tail] = x
			}
			check(what)
			if rng.IntN(3) == 0 {
				b.restart()
				check(what + ", after a restart")
			}
		}
	}
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// TestRecordsOfDrives: the record of a drive is not written again for a reading that differs in its numbers and time
// only, and it is for anything else.
func TestRecordsOfDrives(t *testing.T) {
	b := newBench(t)
	record := func() string {
		row, err := store.One[store.Drive](b.store, "key = ?", "wwn-"+b.drives[0].Identity.Wwn)
		require.NoError(t, err)
		return string(row.Doc)
	}
	before := record()
	for hours := range 3 {
		b.drives[0].Reading.At = b.clock.Now()
		b.drives[0].Reading.Metrics = map[string]float64{"pending_sectors": 0, "power_on_hours": 100 + float64(hours)}
		b.report()
		require.Equal(t, before, record())
	}
	for what, change := range map[string]func(r *api.Reading){
		"a raised alarm":    func(r *api.Reading) { r.Failing = true },
		"a warning":         func(r *api.Reading) { r.Warnings = []string{"media are read-only"} },
		"an attribute":      func(r *api.Reading) { r.Attributes = []api.Attribute{{Id: 5, Raw: 8}} },
		"a test in its log": func(r *api.Reading) { r.Tests = []api.SelfTest{{Kind: "short", Result: "passed", Hours: 99}} },
		"an estimate":       func(r *api.Reading) { r.TestMinutes = map[string]float64{"short": 2} },
	} {
		change(&b.drives[0].Reading)
		b.drives[0].Reading.At = b.clock.Now()
		b.report()
		require.NotEqual(t, before, record(), what)
		before = record()
	}
}
