package history

import (
	"encoding/binary"
	"hash/crc32"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/core/drive"
)

var t0 = time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)

func at(h float64) time.Time { return t0.Add(time.Duration(h * float64(time.Hour))) }

func series(values ...float64) (s Series) {
	for i, v := range values {
		s = s.Add(PointAt(at(float64(i)), v))
	}
	return s
}

// TestLateTwiceOutOfOrder: however readings arrive, the series is the same.
func TestLateTwiceOutOfOrder(t *testing.T) {
	want := series(0, 1, 1, 4, 9, 9, 12)
	for seed := range uint64(50) {
		r := rand.New(rand.NewPCG(seed, 1))
		var s Series
		for range 3 { // each is added three times
			for _, i := range r.Perm(len(want)) {
				s = s.Add(want[i])
			}
		}
		require.Equal(t, want, s)
	}
}

func TestGrowthSeesResets(t *testing.T) {
	s := series(10, 12, 12, 3, 5, 0, 1) // cleared after hour 2, and after hour 4
	grown, known := s.Growth(at(0))
	require.True(t, known)
	require.Equal(t, 2.0+0+3+2+0+1, grown)
	require.Equal(t, []time.Time{at(3), at(5)}, s.Resets())
	grown, known = s.Growth(at(4.5))
	require.True(t, known)
	require.Equal(t, 1.0, grown, "what was cleared counts as grown from nothing")
	_, known = s.Growth(at(-1))
	require.False(t, known, "nothing is known from before the first point")
	require.Equal(t, at(6), s.LastChange())
	require.Equal(t, at(6), s.FirstAbove(0))
	require.True(t, series(5, 5, 5).LastChange().IsZero())
	require.Equal(t, at(0), series(5, 5, 5).FirstAbove(0))
	p, ok := s.At(at(3.5))
	require.True(t, ok)
	require.Equal(t, 3.0, p.Value)
	require.Len(t, s.Since(at(4)), 3)
}

func TestPack(t *testing.T) {
	in := map[drive.MetricName]float64{
		"a":                    0,
		"pending_sectors":      38,
		"bytes_written":        1197603166641664,
		"read_latency_seconds": 0.00712,
		"temperature_celsius":  -4,
		"huge":                 1e300,
		"negative zero":        math.Copysign(0, -1),
	}
	b := Pack(in)
	out, err := Unpack(b)
	require.NoError(t, err)
	require.Equal(t, in, out)
	require.True(t, math.Signbit(out["negative zero"]))
	require.Equal(t, b, Pack(out), "equal readings are packed alike")
	for i := range b {
		c := append([]byte(nil), b...)
		c[i] ^= 0x10
		_, err := Unpack(c)
		require.ErrorIs(t, err, ErrDamaged, "byte %d", i)
		_, err = Unpack(b[:i])
		require.ErrorIs(t, err, ErrDamaged, "cut at %d", i)
	}
}

// written are the metrics in the order of their numbers, as databases out there hold them: lines are only ever added.
const written = `
	pending_sectors reallocated_sectors offline_uncorrectable_sectors reported_uncorrectable_errors
	reallocation_events link_crc_errors read_latency_seconds write_latency_seconds temperature_celsius
	command_timeouts spin_retries spin_up_milliseconds start_stops load_cycles power_cycles power_on_hours
	bytes_written bytes_read grown_defects uncorrected_read_errors uncorrected_write_errors
	uncorrected_verify_errors media_errors spare_available_percent wear_used_percent non_medium_errors
	unsafe_shutdowns bus_drops pool_read_errors pool_write_errors pool_checksum_errors temperature_limit_celsius
	background_scan_findings logged_errors host_io_errors internal_data_errors link_downshifts shocks
	head_flying_hours
`

// TestNumbers: every metric has a number of its own, and the number of a name never changes.
func TestNumbers(t *testing.T) {
	var names []string
	for _, n := range numbered {
		names = append(names, string(n))
	}
	require.Equal(t, strings.Fields(written), names)
	b := Pack(map[drive.MetricName]float64{"pending_sectors": 38})
	b[2], b = 200, b[:len(b)-4]
	_, err := Unpack(binary.LittleEndian.AppendUint32(b, crc32.Checksum(b, castagnoli)))
	require.ErrorIs(t, err, ErrDamaged)
}

func FuzzUnpack(f *testing.F) {
	f.Add(Pack(map[drive.MetricName]float64{"pending_sectors": 38, "x": 0.5}))
	f.Fuzz(func(t *testing.T, b []byte) {
		if m, err := Unpack(b); err == nil {
			again, err := Unpack(Pack(m))
			require.NoError(t, err)
			require.Len(t, again, len(m))
		}
	})
}

func BenchmarkPack(b *testing.B) {
	m := map[drive.MetricName]float64{}
	for i, c := range drive.Catalogue {
		m[c.Name] = float64(i * 1000)
	}
	b.ReportMetric(float64(len(Pack(m))), "bytes/reading")
	for b.Loop() {
		Pack(m)
	}
}

// TestHeldReady: the record for judging gives the same answers as the whole history; after thinning, it keeps the day
// of each change, and every fall of a counter.
func TestHeldReady(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	at := func(h int) time.Time { return t0.Add(time.Duration(h) * time.Hour) }
	for range 200 {
		var whole, ready Series
		v := 0.0
		hours := 24 * (2 + rng.IntN(40))
		busy, gaps := rng.IntN(3), 1+rng.IntN(7)
		for h := range hours {
			switch {
			case rng.IntN(60) == 0:
				v = float64(rng.IntN(5)) // is reset
			case busy == 2 || rng.IntN(8) == 0 && busy == 1:
				v += float64(rng.IntN(4))
			}
			if rng.IntN(10) < gaps {
				continue // not read
			}
			whole = whole.Add(PointAt(at(h), v))
			var ok bool
			ready, ok = ready.Keep(PointAt(at(h), v))
			require.True(t, ok)
		}
		_, ok := ready.Keep(PointAt(at(0), 1))
		require.False(t, ok, "what is late is not for here")
		require.LessOrEqual(t, len(ready), len(whole))
		same := func(s Series, when time.Time) {
			want, known := whole.Growth(when)
			got, alike := s.Growth(when)
			require.Equal(t, known, alike)
			require.Equal(t, want, got)
			a, _ := whole.At(when)
			b, _ := s.At(when)
			require.Equal(t, a.Value, b.Value)
		}
		for range 20 {
			same(ready, at(rng.IntN(hours)))
		}
		check := func(s Series) {
			a, _ := whole.Last()
			b, _ := s.Last()
			require.Equal(t, a, b)
			require.Equal(t, whole.Life(), s.Life())
			require.Equal(t, whole.Resets(), s.Resets())
		}
		check(ready)
		require.Equal(t, whole.LastChange(), ready.LastChange())
		require.Equal(t, whole.FirstAbove(3), ready.FirstAbove(3))
		now := at(rng.IntN(hours) + 9*24)
		uncut := slices.Clone(ready)
		thin := ready.Thin(now, true)
		check(thin)
		for d := range hours/24 + 1 { // the last value of a day and the growth since then are unchanged
			same(thin, at(d*24).Add(-time.Millisecond))
		}
		for _, p := range thin {
			require.Contains(t, whole, p)
		}
		again := thin.Thin(now, true)
		require.Equal(t, thin, again, "thinning once is enough")
		for _, counter := range []bool{true, false} { // however often it was thinned before
			direct := slices.Clone(uncut).Thin(now, counter)
			step := slices.Clone(uncut)
			for at := t0.Add(48 * time.Hour); at.Before(now); at = at.Add(time.Duration(1+rng.IntN(70)) * time.Hour) {
				step = step.Thin(at, counter)
			}
			require.Equal(t, direct, step.Thin(now, counter))
		}
	}

	// A block gives the same record and history as its readings one by one.
	var rs []Reading
	record, whole := Record{}, Whole{}
	for h := range 300 {
		r := Reading{
			At:      at(h),
			Metrics: map[drive.MetricName]float64{"power_on_hours": float64(h), "pending_sectors": float64(h / 100)},
		}
		rs = append(rs, r)
		require.True(t, record.Add(r.At, r.Metrics))
		whole.Add(r.At, r.Metrics)
	}
	fromBlock, wholeBlock := Record{}, Whole{}
	ok, err := fromBlock.AddBlock(EncodeBlock(rs), t0)
	require.NoError(t, err)
	require.True(t, ok)
	require.NoError(t, wholeBlock.AddBlock(EncodeBlock(rs), t0))
	require.Equal(t, record, fromBlock)
	require.Equal(t, whole, wholeBlock)
	require.Equal(t, record, whole.Record())
	ok, err = fromBlock.AddBlock(EncodeBlock(rs[:5]), t0)
	require.NoError(t, err)
	require.False(t, ok)
}
