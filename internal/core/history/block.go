package history

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"math"
	"slices"
	"sync"
	"time"

	"lantern/internal/core/drive"
)

// Reading holds the metrics of one drive at one time.
type Reading struct {
	At      time.Time
	Metrics map[drive.MetricName]float64
}

// A block holds many readings of one drive, column by column, without loss. It is a version byte, then:
//
//	number of readings; their times in milliseconds (chunk of a column)
//	number of metrics; for each, in order of name:
//	    name; chunk of: which readings have it (runs of yes and no), how its numbers are written, the numbers (column)
//
// and at the end a CRC-32C of all that came before. A chunk is a byte that says whether it is deflated, its length, and
// its bytes, so that one metric can be read without the others. A column is written as differences, or as differences
// of differences where that is shorter: counters that grow evenly, and times, are then very small. A metric whose
// values are all whole, or all have few decimals, is written as whole numbers of its last decimal; any other as the
// bits of its doubles, each XORed with the one before.
const blockVersion = 1

// How the numbers of a column are written: as multiples of a power of ten, or as bits.
var decimals = []float64{1, 1e3, 1e6, 1e9}

const asBits = 255

// EncodeBlock encodes readings; they must be in order of time.
func EncodeBlock(rs []Reading) []byte {
	body := binary.AppendUvarint([]byte{blockVersion}, uint64(len(rs)))
	times := make([]int64, len(rs))
	names := map[drive.MetricName]int{}
	for i, r := range rs {
		times[i] = r.At.UnixMilli()
		for n := range r.Metrics {
			names[n]++
		}
	}
	body = appendChunk(body, appendColumn(nil, times))
	body = binary.AppendUvarint(body, uint64(len(names)))
	order := make([]drive.MetricName, 0, len(names))
	for n := range names {
		order = append(order, n)
	}
	slices.Sort(order)
	values := make([]float64, 0, len(rs))
	for _, n := range order {
		body = appendName(body, n)
		values = values[:0]
		has := true
		run := uint64(0)
		var runs []uint64
		for _, r := range rs {
			v, ok := r.Metrics[n]
			if ok {
				values = append(values, v)
			}
			if ok != has {
				runs = append(runs, run)
				has, run = ok, 0
			}
			run++
		}
		runs = append(runs, run)
		chunk := binary.AppendUvarint(nil, uint64(len(runs)))
		for _, x := range runs {
			chunk = binary.AppendUvarint(chunk, x)
		}
		body = appendChunk(body, appendValues(chunk, values))
	}
	return binary.LittleEndian.AppendUint32(body, crc32.Checksum(body, castagnoli))
}

// Compressors and decompressors are large and are reused.
var (
	deflaters = sync.Pool{New: func() any {
		w, _ := flate.NewWriter(nil, flate.BestCompression) // fails only for a level that does not exist
		return w
	}}
	inflaters = sync.Pool{New: func() any { return flate.NewReader(bytes.NewReader(nil)) }}
)

// inflate decompresses up to 64 MiB.
func inflate(data []byte) ([]byte, error) {
	r := inflaters.Get().(io.ReadCloser)
	defer inflaters.Put(r)
	if err := r.(flate.Resetter).Reset(bytes.NewReader(data), nil); err != nil {
		return nil, err
	}
	out := bytes.NewBuffer(make([]byte, 0, 4*len(data)))
	_, err := out.ReadFrom(io.LimitReader(r, 1<<26))
	return out.Bytes(), err
}

// appendChunk writes bytes as they are, or deflated where that is shorter.
func appendChunk(b, chunk []byte) []byte {
	var small bytes.Buffer
	w := deflaters.Get().(*flate.Writer)
	w.Reset(&small)
	_, _ = w.Write(chunk)
	_ = w.Close()
	deflaters.Put(w)
	if small.Len() < len(chunk) {
		b = binary.AppendUvarint(append(b, 1), uint64(small.Len()))
		return append(b, small.Bytes()...)
	}
	b = binary.AppendUvarint(append(b, 0), uint64(len(chunk)))
	return append(b, chunk...)
}

// whole gives v as a multiple of 1/scale, if it is one exactly.
func whole(v, scale float64) (int64, bool) {
	m := math.Round(v * scale)
	if math.Abs(m) > 1<<53 || m/scale != v || m == 0 && math.Signbit(v) {
		return 0, false
	}
	return int64(m), true
}

func appendValues(b []byte, values []float64) []byte {
	ints := make([]int64, len(values))
next:
	for e, scale := range decimals {
		for i, v := range values {
			n, ok := whole(v, scale)
			if !ok {
				continue next
			}
			ints[i] = n
		}
		return appendColumn(append(b, byte(e)), ints)
	}
	b = append(b, asBits)
	before := uint64(0)
	for _, v := range values {
		bits := math.Float64bits(v)
		b = binary.LittleEndian.AppendUint64(b, bits^before)
		before = bits
	}
	return b
}

// appendColumn writes whole numbers as differences, or as differences of differences, whichever is shorter.
func appendColumn(b []byte, v []int64) []byte {
	plain, second := []byte{1}, []byte{2}
	var last, step int64
	for _, x := range v {
		d := x - last
		plain = binary.AppendVarint(plain, d)
		second = binary.AppendVarint(second, d-step)
		last, step = x, d
	}
	if len(second) < len(plain) {
		return append(b, second...)
	}
	return append(b, plain...)
}

// mostReadings bounds the number of readings that a damaged block can claim.
const mostReadings = 1 << 20

// blockReader reads the body of a block; its first error is kept.
type blockReader struct {
	b   []byte
	err error
}

func (r *blockReader) fail(why string) {
	if r.err == nil {
		r.err = fmt.Errorf("%w: %s", ErrDamaged, why)
	}
	r.b = nil
}

func (r *blockReader) uvarint() uint64 {
	v, n := binary.Uvarint(r.b)
	if n <= 0 {
		r.fail("a number is cut off")
		return 0
	}
	r.b = r.b[n:]
	return v
}

func (r *blockReader) varint() int64 {
	v, n := binary.Varint(r.b)
	if n <= 0 {
		r.fail("a number is cut off")
		return 0
	}
	r.b = r.b[n:]
	return v
}

func (r *blockReader) take(n uint64) []byte {
	if n > uint64(len(r.b)) {
		r.fail("it is cut off")
		return nil
	}
	out := r.b[:n]
	r.b = r.b[n:]
	return out
}

// chunk gives a reader of the next chunk; an unwanted chunk is skipped and nil is returned.
func (r *blockReader) chunk(wanted bool) *blockReader {
	kind := r.take(1)
	data := r.take(r.uvarint())
	if r.err != nil || !wanted {
		return nil
	}
	if kind[0] == 0 {
		return &blockReader{b: data}
	}
	raw, err := inflate(data)
	if err != nil || kind[0] != 1 {
		r.fail("a chunk cannot be inflated")
		return nil
	}
	return &blockReader{b: raw}
}

// end takes the error of a chunk, or an error for remaining bytes, as the error of the block.
func (r *blockReader) end(chunk *blockReader) {
	switch {
	case chunk == nil || r.err != nil:
	case chunk.err != nil:
		r.err = chunk.err
	case len(chunk.b) != 0:
		r.fail("bytes are left over in a chunk")
	}
}

// column reads n numbers.
func (r *blockReader) column(n int, give func(i int, v int64)) {
	kind := r.take(1)
	if r.err != nil || kind[0] != 1 && kind[0] != 2 {
		r.fail("a column is of an unknown kind")
		return
	}
	var last, step int64
	for i := range n {
		d, size := binary.Varint(r.b)
		if size <= 0 {
			r.fail("a column is cut off")
			return
		}
		r.b = r.b[size:]
		if kind[0] == 2 {
			d += step
		}
		last, step = last+d, d
		give(i, last)
	}
}

func (r *blockReader) values(n int, give func(i int, v float64)) {
	kind := r.take(1)
	switch {
	case r.err != nil:
	case int(kind[0]) < len(decimals):
		scale := decimals[kind[0]]
		r.column(n, func(i int, v int64) { give(i, float64(v)/scale) })
	case kind[0] == asBits:
		before := uint64(0)
		for i := range n {
			b := r.take(8)
			if r.err != nil {
				return
			}
			before ^= binary.LittleEndian.Uint64(b)
			give(i, math.Float64frombits(before))
		}
	default:
		r.fail("a column's numbers are of an unknown kind")
	}
}

// scan reads a block. want selects the metrics; each value is given with its time.
func scan(
	b []byte,
	want func(drive.MetricName) bool,
	times func([]int64),
	give func(n drive.MetricName, reading int, v float64),
) error {
	if len(b) < 6 {
		return fmt.Errorf("%w: too short", ErrDamaged)
	}
	body, sum := b[:len(b)-4], binary.LittleEndian.Uint32(b[len(b)-4:])
	if crc32.Checksum(body, castagnoli) != sum {
		return fmt.Errorf("%w: checksum is wrong", ErrDamaged)
	}
	if body[0] != blockVersion {
		return fmt.Errorf("%w: version %d is not known", ErrDamaged, body[0])
	}
	r := &blockReader{b: body[1:]}
	n := int(min(r.uvarint(), mostReadings+1))
	if n > mostReadings {
		r.fail("too many readings")
		return r.err
	}
	if c := r.chunk(true); c != nil {
		at := make([]int64, n)
		c.column(n, func(i int, v int64) { at[i] = v })
		r.end(c)
		times(at)
	}
	for metrics := r.uvarint(); metrics > 0 && r.err == nil; metrics-- {
		name := r.name()
		c := r.chunk(want(name))
		if c == nil {
			continue
		}
		has := c.runs(n)
		c.values(len(has), func(i int, v float64) { give(name, has[i], v) })
		r.end(c)
	}
	if r.err == nil && len(r.b) != 0 {
		r.fail("bytes are left over")
	}
	return r.err
}

// runs reads which of n readings have a metric.
func (r *blockReader) runs(n int) (has []int) {
	reading, yes := 0, true
	for runs := r.uvarint(); runs > 0 && r.err == nil; runs-- {
		k := r.uvarint()
		if k > uint64(n-reading) {
			r.fail("a metric has more values than there are readings")
			return nil
		}
		for range k {
			if yes {
				has = append(has, reading)
			}
			reading++
		}
		yes = !yes
	}
	return has
}

// DecodeBlock decodes what EncodeBlock wrote; anything else is ErrDamaged.
func DecodeBlock(b []byte) ([]Reading, error) {
	var out []Reading
	err := scan(b, func(drive.MetricName) bool { return true }, func(at []int64) {
		out = make([]Reading, len(at))
		for i, t := range at {
			out[i] = Reading{At: time.UnixMilli(t).UTC(), Metrics: map[drive.MetricName]float64{}}
		}
	}, func(n drive.MetricName, i int, v float64) { out[i].Metrics[n] = v })
	if err != nil {
		return nil, err
	}
	return out, nil
}

// AddBlock adds the readings of a block since a time to a record; ok is false when some of them were not newer than the
// record. It works by columns, which is far cheaper than by readings.
func (r Record) AddBlock(b []byte, since time.Time) (ok bool, err error) {
	ok = true
	var name drive.MetricName // the values of one metric are consecutive
	var series Series
	err = eachOf(b, since, func(n drive.MetricName, p Point) {
		if n != name {
			if name != "" {
				r[name] = series
			}
			name, series = n, r[n]
		}
		kept, newer := series.Keep(p)
		series, ok = kept, ok && newer
	})
	if name != "" {
		r[name] = series
	}
	return ok, err
}

// AddBlock adds the readings of a block since a time.
func (w Whole) AddBlock(b []byte, since time.Time) error {
	return eachOf(b, since, func(n drive.MetricName, p Point) { w[n] = w[n].Add(p) })
}

func eachOf(b []byte, since time.Time, give func(drive.MetricName, Point)) error {
	var at []int64
	from := since.UnixMilli()
	return scan(b, func(drive.MetricName) bool { return true }, func(t []int64) { at = t },
		func(n drive.MetricName, i int, v float64) {
			if at[i] >= from {
				give(n, Point{at[i], v})
			}
		})
}

// BlockSeries reads one metric of a block and skips the others.
func BlockSeries(b []byte, metric drive.MetricName) (Series, error) {
	var at []int64
	var out Series
	err := scan(b, func(n drive.MetricName) bool { return n == metric }, func(t []int64) { at = t },
		func(_ drive.MetricName, i int, v float64) { out = append(out, Point{at[i], v}) })
	return out, err
}

// BlockTimes gives the times of a block's readings, in milliseconds, in order.
func BlockTimes(b []byte) (times []int64, err error) {
	err = scan(b, func(drive.MetricName) bool { return false }, func(at []int64) { times = at }, nil)
	return times, err
}
