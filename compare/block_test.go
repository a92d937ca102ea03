package compare

import (
	"math/rand/v2"
	"os"
	"testing"
	"time"

	"github.com/prometheus/prometheus/tsdb/chunkenc"
	"github.com/stretchr/testify/require"

	"lantern/internal/core/drive"
	"lantern/internal/core/history"
)

// TestBenchCheckBlock reads one metric of one drive from our blocks, and from XOR chunks of the same points.
func TestBenchCheckBlock(t *testing.T) {
	if os.Getenv("LANTERN_BENCH_CHECK") == "" {
		t.Skip("*** SKIPPED: the limits of benchmarks are looked at by: make bench-check ***")
	}
	const size, blocks = 1024, 8
	r := rand.New(rand.NewPCG(1, 2))
	at := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	metric := drive.MetricName("read_latency_ms")
	var ours [][]byte
	var theirs []chunkenc.Chunk
	hours := 0.0
	for range blocks {
		var rs []history.Reading
		for range size {
			at, hours = at.Add(time.Hour+time.Duration(r.IntN(2000))*time.Millisecond), hours+1
			rs = append(rs, history.Reading{At: at, Metrics: map[drive.MetricName]float64{
				metric: 4 + float64(r.IntN(400))/100, "power_on_hours": hours, "temperature_celsius": float64(28 + r.IntN(9)),
				"reallocated_sectors": 0, "pending_sectors": 0, "bytes_read": hours*1e9 + float64(r.IntN(1e6))}})
		}
		ours = append(ours, history.EncodeBlock(rs))
		for i := 0; i < size; i += samplesAChunk {
			chunk := chunkenc.NewXORChunk()
			app, err := chunk.Appender()
			require.NoError(t, err)
			for _, x := range rs[i:min(i+samplesAChunk, size)] {
				app.Append(0, x.At.UnixMilli(), x.Metrics[metric])
			}
			theirs = append(theirs, chunk)
		}
	}
	least := func(read func() (n int, sum float64)) (ns, sum float64) {
		best := time.Hour
		for range 50 {
			begun := time.Now()
			n, total := read()
			best = min(best, time.Since(begun))
			require.Equal(t, size*blocks, n)
			sum = total
		}
		return float64(best.Nanoseconds()) / size / blocks, sum
	}
	mine, a := least(func() (n int, sum float64) {
		for _, b := range ours {
			s, err := history.BlockSeries(b, metric)
			require.NoError(t, err)
			for _, p := range s {
				n, sum = n+1, sum+p.Value
			}
		}
		return n, sum
	})
	xor, b := least(func() (n int, sum float64) {
		var it chunkenc.Iterator
		for _, c := range theirs {
			it = c.Iterator(it)
			for it.Next() == chunkenc.ValFloat {
				_, v := it.At()
				n, sum = n+1, sum+v
			}
			require.NoError(t, it.Err())
		}
		return n, sum
	})
	require.Equal(t, b, a, "both give the same values")
	t.Logf("one metric from blocks of %d readings: %.1f ns a point, its checksum included; from XOR chunks %.1f ns: "+
		"%.2f times as long", size, mine, xor, mine/xor)
	require.Less(t, mine, 6*xor)
}
