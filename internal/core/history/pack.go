package history

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"maps"
	"math"
	"slices"

	"lantern/internal/core/drive"
)

// A packed reading is: a version byte, the number of metrics, then for each metric (those with a number in the order of
// their numbers, then the others by name) its number in numbered, or 0, the length of its name and the name; then its
// value; at the end a CRC-32C of everything before. A whole number is a signed varint whose lowest bit is 0; any other
// value is the byte 1 and eight bytes of IEEE 754, so no value is rounded.
const packVersion = 1

// numbered are the names that are written as numbers, in the order of the numbers, from 1 (drive.Metric).
var numbered = func() []drive.MetricName {
	out := make([]drive.MetricName, len(drive.Catalogue))
	for _, m := range drive.Catalogue {
		out[m.Number-1] = m.Name
	}
	return out
}()

var numberOf = func() map[drive.MetricName]uint64 {
	m := map[drive.MetricName]uint64{}
	for i, n := range numbered {
		m[n] = uint64(i + 1)
	}
	return m
}()

// appendName writes a metric's name, as a number if it has one.
func appendName(b []byte, n drive.MetricName) []byte {
	if k, ok := numberOf[n]; ok {
		return binary.AppendUvarint(b, k)
	}
	b = append(b, 0)
	b = binary.AppendUvarint(b, uint64(len(n)))
	return append(b, n...)
}

// name reads what appendName wrote.
func (r *blockReader) name() drive.MetricName {
	k := r.uvarint()
	switch {
	case r.err != nil:
		return ""
	case k == 0:
		return drive.MetricName(r.take(r.uvarint()))
	case k > uint64(len(numbered)):
		r.fail("a metric has an unknown number")
		return ""
	}
	return numbered[k-1]
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// ErrDamaged means that stored data is damaged.
var ErrDamaged = errors.New("the stored reading is damaged")

// Pack encodes one reading.
func Pack[N ~string](metrics map[N]float64) []byte {
	b := make([]byte, 0, 16+12*len(metrics))
	b = append(b, packVersion)
	b = binary.AppendUvarint(b, uint64(len(metrics)))
	left := len(metrics)
	for _, n := range numbered {
		if v, ok := metrics[N(n)]; ok {
			b = appendValue(appendName(b, n), v)
			left--
		}
	}
	if left > 0 {
		for _, n := range slices.Sorted(maps.Keys(metrics)) {
			if name := drive.MetricName(n); numberOf[name] == 0 {
				b = appendValue(appendName(b, name), metrics[n])
			}
		}
	}
	return binary.LittleEndian.AppendUint32(b, crc32.Checksum(b, castagnoli))
}

func appendValue(b []byte, v float64) []byte {
	if w := int64(v); v >= 0 && v < 1<<62 && float64(w) == v && !math.Signbit(v) {
		return binary.AppendUvarint(b, uint64(w)<<1)
	}
	return binary.LittleEndian.AppendUint64(append(b, 1), math.Float64bits(v))
}

// Unpack decodes what Pack wrote; anything else is ErrDamaged.
func Unpack(b []byte) (map[drive.MetricName]float64, error) {
	bad := func(why string) (map[drive.MetricName]float64, error) {
		return nil, fmt.Errorf("%w: %s", ErrDamaged, why)
	}
	if len(b) < 6 {
		return bad("too short")
	}
	body, want := b[:len(b)-4], binary.LittleEndian.Uint32(b[len(b)-4:])
	if crc32.Checksum(body, castagnoli) != want {
		return bad("checksum is wrong")
	}
	if body[0] != packVersion {
		return bad(fmt.Sprintf("version %d is not known", body[0]))
	}
	r := &blockReader{b: body[1:]}
	count := r.uvarint()
	if count > uint64(len(body)) {
		return bad("count is wrong")
	}
	out := make(map[drive.MetricName]float64, count)
	for range count {
		name := r.name()
		v := r.uvarint()
		switch {
		case r.err != nil:
		case v&1 == 0:
			out[name] = float64(v >> 1)
		case v != 1:
			r.fail("a value is of an unknown kind")
		default:
			if b := r.take(8); b != nil {
				out[name] = math.Float64frombits(binary.LittleEndian.Uint64(b))
			}
		}
		if r.err != nil {
			return nil, r.err
		}
	}
	if r.err == nil && len(r.b) != 0 {
		r.fail("bytes are left over")
	}
	if r.err != nil {
		return nil, r.err
	}
	return out, nil
}
