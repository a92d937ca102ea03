package service

import (
	"fmt"
	"log/slog"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/core/history"
	"lantern/internal/service/readings"
	"lantern/internal/store"
)

// TestRecordsKept: whatever comes in whatever order (late, twice, while nothing can be written), a start from kept
// records has the same state of every drive as one from all readings. After a clock was wrong, the newest values are
// the same: what it dated wrongly is in the readings, and was taken out of the record when it was set right.
func TestRecordsKept(t *testing.T) {
	each := readings.SaveEach
	readings.SaveEach = 0
	t.Cleanup(func() { readings.SaveEach = each })
	for seed := range uint64(5) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) { recordsKept(t, rand.New(rand.NewPCG(seed, 5)), seed > 3) })
	}
}

// TestRecordThatStays: a record that cannot be trusted, and cannot be deleted because nothing can be written, does not
// stop a start and is not used.
func TestRecordThatStays(t *testing.T) {
	b := newBench(t)
	for range 100 {
		b.clock.forward(time.Hour)
		for j := range b.drives {
			b.drives[j].Reading = api.Reading{At: b.clock.Now(), Metrics: map[string]float64{"load_cycles": float64(b.n)}}
		}
		b.report()
		require.NoError(t, b.s.Tick())
	}
	want := b.s.Fleet.Drives["wwn-502abe7000000001"].Record["load_cycles"]
	rows := mustAll[store.DriveRecord](t, b.store)
	require.NotEmpty(t, rows)
	batch := &store.Batch{}
	for _, r := range rows {
		r.Data[10] ^= 1
		batch.Put(&r)
	}
	require.NoError(t, b.store.Write(batch))
	require.NoError(t, b.store.ReadOnly(true))
	s, err := New(b.store, b.clock, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	d := s.Fleet.Drives["wwn-502abe7000000001"]
	got := d.Record["load_cycles"]
	require.Equal(t, want[len(want)-1], got[len(got)-1])
	require.Equal(t, want.Resets(), got.Resets())
	require.NoError(t, b.store.ReadOnly(false))
	b.s = s
	b.report()
	for _, r := range mustAll[store.DriveRecord](t, b.store) {
		_, _, err := history.DecodeRecord(r.Data)
		require.NoError(t, err, "the next reading deletes it")
	}
}

func recordsKept(t *testing.T, r *rand.Rand, clock bool) {
	b := newBench(t)
	used := 0
	for round := range 4 {
		for range 100 {
			b.clock.forward(time.Duration(5+r.IntN(115)) * time.Minute)
			next := b.next()
			next.Drives = next.Drives[:1+r.IntN(3)]
			for j := range next.Drives {
				next.Drives[j].Reading = api.Reading{At: next.At, Metrics: map[string]float64{
					"load_cycles":          float64(r.IntN(3000)),
					"pending_sectors":      float64(r.IntN(40) / 39),
					"temperature_celsius":  float64(30 + r.IntN(9)),
					"read_latency_seconds": float64(7000+r.IntN(50)) / 1e6,
				}}
			}
			next.Pools[0].Groups[0].Members[0].Errors.Read = int64(r.IntN(20) / 19)
			what := r.IntN(20)
			if what == 4 && !clock {
				what = 5
			}
			switch what {
			case 0: // late, perhaps by days
				next.At = next.At.Add(-time.Duration(r.IntN(100)) * time.Hour)
				for j := range next.Drives {
					next.Drives[j].Reading.At = next.At
				}
			case 1: // of one drive by a clock that is a little behind
				next.Drives[0].Reading.At = next.At.Add(-time.Duration(r.IntN(3000)) * time.Millisecond)
			case 2: // nothing can be written
				require.NoError(t, b.store.ReadOnly(true))
				require.Error(t, b.s.TakeReport("fulmar", next))
				require.NoError(t, b.store.ReadOnly(false))
			case 3: // its readings came before, in another report
				require.NoError(t, b.s.TakeReport("fulmar", next))
				next.Id += "again"
			case 4: // the clock was ahead, and is set right
				b.clock.forward(-time.Duration(r.IntN(5)) * time.Hour)
				require.NoError(t, b.s.Tick())
				next.At = b.clock.Now()
				for j := range next.Drives {
					next.Drives[j].Reading.At = next.At
				}
			}
			require.NoError(t, b.s.TakeReport("fulmar", next))
			for range r.IntN(3) {
				require.NoError(t, b.s.Tick())
			}
		}
		kept := mustAll[store.DriveRecord](t, b.store)
		if r.IntN(3) == 0 && len(kept) > 0 { // a record is damaged
			kept[0].Data[len(kept[0].Data)/2] ^= 1
			batch := &store.Batch{}
			batch.Put(&kept[0])
			require.NoError(t, b.store.Write(batch))
		}
		records := func() map[string]history.Record {
			b.restart()
			out := map[string]history.Record{}
			for key, d := range b.s.Fleet.Drives {
				out[key] = d.Record
			}
			return out
		}
		before := records()
		for _, d := range b.s.Fleet.Drives {
			if d.Saved > 0 {
				used++
			}
		}
		_, err := store.Remove[store.DriveRecord](b.store, "upto > ?", 0)
		require.NoError(t, err)
		after := records()
		require.Len(t, before, 3)
		for key, record := range after {
			for metric, series := range record {
				kept := before[key][metric]
				if clock {
					series, kept = series[len(series)-1:], kept[len(kept)-1:]
				}
				require.Equal(t, series, kept, "round %d, %s of %s", round, metric, key)
			}
		}
	}
	require.Greater(t, used, 3, "records were used")
	require.NotEmpty(t, mustAll[store.Block](t, b.store), "blocks were made")
}
