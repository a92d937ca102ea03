package history

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"math"
	"slices"

	"lantern/internal/core/drive"
)

// A packed reading is: a version byte, the number of metrics, then for each (in order of name) the length of its name,
// the name, and its value; at the end a CRC-32C of all that came before. A whole number is a signed varint whose lowest
// bit is 0; any other value is the byte 1 and eight bytes of IEEE 754, so nothing is ever rounded.
const packVersion = 1

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// ErrDamaged means that a packed reading is not what was written.
var ErrDamaged = errors.New("the stored reading is damaged")

// Pack lays one reading out for keeping.
func Pack(metrics map[drive.MetricName]float64) []byte {
	names := make([]drive.MetricName, 0, len(metrics))
	for n := range metrics {
		names = append(names, n)
	}
	slices.Sort(names)
	b := []byte{packVersion}
	b = binary.AppendUvarint(b, uint64(len(names)))
	for _, n := range names {
		b = binary.AppendUvarint(b, uint64(len(n)))
		b = append(b, n...)
		v := metrics[n]
		if w := int64(v); v >= 0 && v < 1<<62 && float64(w) == v && !math.Signbit(v) {
			b = binary.AppendUvarint(b, uint64(w)<<1)
		} else {
			b = append(b, 1)
			b = binary.LittleEndian.AppendUint64(b, math.Float64bits(v))
		}
	}
	return binary.LittleEndian.AppendUint32(b, crc32.Checksum(b, castagnoli))
}

// Unpack reads what Pack wrote; anything else is ErrDamaged.
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
	rest := body[1:]
	next := func() (uint64, bool) {
		v, n := binary.Uvarint(rest)
		if n <= 0 {
			return 0, false
		}
		rest = rest[n:]
		return v, true
	}
	count, ok := next()
	if !ok || count > uint64(len(body)) {
		return bad("count is wrong")
	}
	out := make(map[drive.MetricName]float64, count)
	for range count {
		size, ok := next()
		if !ok || size > uint64(len(rest)) {
			return bad("a name is cut off")
		}
		name := drive.MetricName(rest[:size])
		rest = rest[size:]
		if v, ok := next(); !ok {
			return bad("a value is cut off")
		} else if v&1 == 0 {
			out[name] = float64(v >> 1)
		} else if v != 1 || len(rest) < 8 {
			return bad("a value is cut off")
		} else {
			out[name] = math.Float64frombits(binary.LittleEndian.Uint64(rest))
			rest = rest[8:]
		}
	}
	if len(rest) != 0 {
		return bad("bytes are left over")
	}
	return out, nil
}
