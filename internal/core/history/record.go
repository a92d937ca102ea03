package history

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"maps"
	"slices"
)

// An encoded record is a version byte; the time of its newest point in milliseconds (varint); a chunk as in a block;
// and a CRC-32C of everything before. The chunk holds the number of metrics, then for each, in order of name: its name,
// the number of its points, their times and their values (columns as in a block).
const recordVersion = 1

// EncodeRecord encodes a record. upto is the time of its newest point, in Unix milliseconds.
func EncodeRecord(r Record) (data []byte, upto int64) {
	body := binary.AppendUvarint(nil, uint64(len(r)))
	var times []int64
	var values []float64
	for _, n := range slices.Sorted(maps.Keys(r)) {
		times, values = times[:0], values[:0]
		for _, p := range r[n] {
			times, values = append(times, p.ms), append(values, p.Value)
			upto = max(upto, p.ms)
		}
		body = binary.AppendUvarint(appendName(body, n), uint64(len(times)))
		body = appendValues(appendColumn(body, times), values)
	}
	data = appendChunk(binary.AppendVarint([]byte{recordVersion}, upto), body)
	return binary.LittleEndian.AppendUint32(data, crc32.Checksum(data, castagnoli)), upto
}

// DecodeRecord decodes what EncodeRecord wrote; anything else is ErrDamaged.
func DecodeRecord(data []byte) (out Record, upto int64, err error) {
	if len(data) < 6 {
		return nil, 0, fmt.Errorf("%w: too short", ErrDamaged)
	}
	body, sum := data[:len(data)-4], binary.LittleEndian.Uint32(data[len(data)-4:])
	if crc32.Checksum(body, castagnoli) != sum {
		return nil, 0, fmt.Errorf("%w: checksum is wrong", ErrDamaged)
	}
	if body[0] != recordVersion {
		return nil, 0, fmt.Errorf("%w: version %d is not known", ErrDamaged, body[0])
	}
	r := &blockReader{b: body[1:]}
	upto = r.varint()
	c := r.chunk(true)
	if c == nil {
		return nil, 0, r.err
	}
	metrics := c.uvarint()
	if metrics > uint64(len(c.b)) {
		c.fail("more metrics than bytes")
	}
	out = make(Record, min(metrics, 64))
	for ; metrics > 0 && c.err == nil; metrics-- {
		name, n := c.name(), c.uvarint()
		if n > uint64(len(c.b)) {
			c.fail("more points than bytes")
		}
		series := make(Series, n)
		c.column(len(series), func(i int, ms int64) { series[i].ms = ms })
		c.values(len(series), func(i int, v float64) { series[i].Value = v })
		for i := range series {
			if i > 0 && series[i].ms <= series[i-1].ms || series[i].ms > upto {
				c.fail("points are not in order of time")
				break
			}
		}
		out[name] = series
	}
	r.end(c)
	if r.err == nil && len(r.b) != 0 {
		r.fail("bytes are left over")
	}
	if r.err != nil {
		return nil, 0, r.err
	}
	return out, upto, nil
}
