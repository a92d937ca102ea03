package history

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/core/drive"
)

// year gives hourly readings of one drive with every metric of the catalogue that a rotating drive has: counters that
// grow with the hours or with the load of the day, levels with noise, and a few that hardly move.
func year(seed uint64, n int) []Reading {
	r := rand.New(rand.NewPCG(seed, 3))
	at := t0
	var read, written, loads, pending float64
	rs := make([]Reading, n)
	for h := range n {
		at = at.Add(time.Hour + time.Duration(r.IntN(800)-400)*time.Millisecond)
		busy := 1 + 0.4*math.Sin(float64(h)/24*2*math.Pi) + 0.1*r.NormFloat64()
		read += math.Floor(21e6*3600*busy/512) * 512
		written += math.Floor(9e6*3600*busy/512) * 512
		if r.IntN(3) == 0 {
			loads++
		}
		if r.IntN(900) == 0 {
			pending++
		}
		m := map[drive.MetricName]float64{}
		for _, c := range drive.Catalogue {
			if c.Attribute != 0 {
				m[c.Name] = 0
			}
		}
		m["power_on_hours"], m["bytes_read"], m["bytes_written"], m["load_cycles"], m["pending_sectors"] = 31000+float64(
			h,
		), read, written, 20000+loads, pending
		m["temperature_celsius"] = math.Round(33 + 3*math.Sin(float64(h)/24*2*math.Pi) + 0.4*r.NormFloat64())
		m["spin_up_milliseconds"], m["power_cycles"], m["start_stops"] = 460, 33, 37
		m["read_latency_seconds"] = math.Round(7100+300*r.NormFloat64()) / 1e6
		m["write_latency_seconds"] = math.Round(5600+200*r.NormFloat64()) / 1e6
		if h%24 == 0 {
			m["pool_read_errors"], m["pool_write_errors"], m["pool_checksum_errors"] = 0, 0, 0
		}
		rs[h] = Reading{at, m}
	}
	return rs
}

func TestBlockLosesNothing(t *testing.T) {
	for name, rs := range map[string][]Reading{
		"a year": year(1, 8760),
		"one":    year(2, 1),
		"none":   {},
		"odd values": {{t0, map[drive.MetricName]float64{"a": math.Inf(1), "b": math.Copysign(0, -1),
			"c": 1e300}}, {at(1), map[drive.MetricName]float64{"a": -1, "c": 0.1, "d": 1.0 / 3}},
			{at(1), map[drive.MetricName]float64{}}},
		"every second": {{t0, map[drive.MetricName]float64{"a": 1}},
			{at(1), map[drive.MetricName]float64{"b": 2}}, {at(2), map[drive.MetricName]float64{"a": 3, "b": 1 << 52}}},
	} {
		b := EncodeBlock(rs)
		back, err := DecodeBlock(b)
		require.NoError(t, err, name)
		require.Equal(t, len(rs), len(back))
		for i := range rs {
			require.Equal(t, rs[i].At.UnixMilli(), back[i].At.UnixMilli(), name)
			require.Equal(t, len(rs[i].Metrics), len(back[i].Metrics), name)
			for n, v := range rs[i].Metrics {
				require.Equal(t, math.Float64bits(v), math.Float64bits(back[i].Metrics[n]), "%s %s", name, n)
			}
		}
		for i := range b {
			if len(b) > 2000 && i%97 != 0 {
				continue
			}
			c := append([]byte(nil), b...)
			c[i] ^= 4
			_, err := DecodeBlock(c)
			require.ErrorIs(t, err, ErrDamaged, "%s, byte %d", name, i)
		}
	}
	s, err := BlockSeries(EncodeBlock(year(3, 500)), "pending_sectors")
	require.NoError(t, err)
	require.Len(t, s, 500)
}

func FuzzBlock(f *testing.F) {
	f.Add(EncodeBlock(year(1, 40)))
	f.Fuzz(func(t *testing.T, b []byte) {
		if rs, err := DecodeBlock(b); err == nil {
			_, err := DecodeBlock(EncodeBlock(rs))
			require.NoError(t, err)
		}
	})
}

// TestRecordKept: a record that was kept is the very same when it is read again, and one that was damaged is refused.
func TestRecordKept(t *testing.T) {
	record := Record{}
	for i, r := range year(4, 2400) {
		require.True(t, record.Add(r.At, r.Metrics))
		if i%240 == 0 {
			record.Thin(r.At)
		}
	}
	record["odd"] = Series{PointAt(at(1), math.Inf(1)), PointAt(at(2), math.Copysign(0, -1)), PointAt(at(3), 1.0/3)}
	record["none"] = Series{}
	data, upto := EncodeRecord(record)
	back, when, err := DecodeRecord(data)
	require.NoError(t, err)
	require.Equal(t, record, back)
	require.Equal(t, upto, when)
	for _, s := range record {
		if p, ok := s.Last(); ok {
			require.LessOrEqual(t, p.At().UnixMilli(), upto)
		}
	}
	for i := range data {
		c := append([]byte(nil), data...)
		c[i] ^= 4
		_, _, err := DecodeRecord(c)
		require.ErrorIs(t, err, ErrDamaged, "byte %d", i)
	}
}

func FuzzRecord(f *testing.F) {
	record := Record{}
	for _, r := range year(1, 40) {
		record.Add(r.At, r.Metrics)
	}
	data, _ := EncodeRecord(record)
	f.Add(data)
	f.Fuzz(func(t *testing.T, b []byte) {
		if r, upto, err := DecodeRecord(b); err == nil {
			again, newest := EncodeRecord(r)
			require.LessOrEqual(t, newest, max(upto, 0))
			_, _, err := DecodeRecord(again)
			require.NoError(t, err)
		}
	})
}

// BenchmarkRecord: how large the record of a drive is that lived 100 days with hourly readings, and how long it takes
// to read it.
func BenchmarkRecord(b *testing.B) {
	record := Record{}
	points := 0
	rs := year(4, 2400)
	for _, r := range rs {
		record.Add(r.At, r.Metrics)
	}
	record.Thin(rs[len(rs)-1].At)
	for _, s := range record {
		points += len(s)
	}
	data, _ := EncodeRecord(record)
	for b.Loop() {
		if _, _, err := DecodeRecord(data); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(len(data)), "bytes")
	b.ReportMetric(float64(points), "points")
}

// BenchmarkBlock: how large a reading is, by how many a block holds, and how long one metric over a year takes.
func BenchmarkBlock(b *testing.B) {
	rs := year(1, 8760)
	for _, size := range []int{128, 512, 2048} {
		b.Run(fmt.Sprintf("%d readings", size), func(b *testing.B) {
			var blocks [][]byte
			total := 0
			for i := 0; i < len(rs); i += size {
				c := EncodeBlock(rs[i:min(i+size, len(rs))])
				blocks = append(blocks, c)
				total += len(c)
			}
			for b.Loop() {
				n := 0
				for _, c := range blocks {
					s, err := BlockSeries(c, "pending_sectors")
					if err != nil {
						b.Fatal(err)
					}
					n += len(s)
				}
				if n != len(rs) {
					b.Fatal(n)
				}
			}
			b.ReportMetric(float64(total)/float64(len(rs)), "bytes/reading")
			b.ReportMetric(float64(len(rs[0].Metrics)), "metrics/reading")
		})
	}
}
