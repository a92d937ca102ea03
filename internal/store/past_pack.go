package store

import (
	"bytes"
	"cmp"
	"compress/flate"
	"encoding/binary"
	"errors"
	"io"
	"math"
	"slices"
)

// keyOf is the key of a row.
func (sh shape) keyOf(row []any) string {
	var b []byte
	for i, c := range sh.columns {
		if slices.Contains(sh.keys, c) {
			b = value(b, row[i])
		}
	}
	return string(b)
}

// value writes a value with its type.
func value(b []byte, v any) []byte {
	text := func(kind byte, s string) []byte {
		return append(binary.AppendUvarint(append(b, kind), uint64(len(s))), s...)
	}
	switch v := v.(type) {
	case int64:
		return binary.AppendVarint(append(b, 'i'), v)
	case float64:
		return binary.LittleEndian.AppendUint64(append(b, 'f'), math.Float64bits(v))
	case string:
		return text('s', v)
	case []byte:
		return text('b', string(v))
	}
	return append(b, 'n')
}

var errPack = errors.New("a pack of notes is damaged")

func readValue(r *bytes.Reader) (any, error) {
	kind, err := r.ReadByte()
	if err != nil {
		return nil, err
	}
	switch kind {
	case 'n':
		return nil, nil
	case 'i':
		return binary.ReadVarint(r)
	case 'f':
		var b [8]byte
		if _, err := io.ReadFull(r, b[:]); err != nil {
			return nil, err
		}
		return math.Float64frombits(binary.LittleEndian.Uint64(b[:])), nil
	case 's', 'b':
		n, err := binary.ReadUvarint(r)
		if err != nil || n > uint64(r.Len()) {
			return nil, errors.Join(errPack, err)
		}
		b := make([]byte, n)
		if _, err := io.ReadFull(r, b); err != nil {
			return nil, err
		}
		if kind == 's' {
			return string(b), nil
		}
		return b, nil
	}
	return nil, errPack
}

// pack writes notes in the order of their rows: the states of one row differ little, so they compress well. The names
// of the columns come first, because a later schema may have others.
func pack(notes []note, sh shape) ([]byte, error) {
	sorted := slices.Clone(notes)
	keys := make(map[int64]string, len(notes))
	for _, n := range notes {
		keys[n.seq] = sh.keyOf(n.row)
	}
	slices.SortStableFunc(
		sorted,
		func(a, b note) int { return cmp.Or(cmp.Compare(keys[a.seq], keys[b.seq]), cmp.Compare(a.seq, b.seq)) },
	)
	b := binary.AppendUvarint(nil, uint64(len(sh.columns)))
	for _, c := range sh.columns {
		b = value(b, c)
	}
	for _, n := range sorted {
		b = append(binary.AppendVarint(binary.AppendVarint(b, n.seq), n.moment), n.op)
		for _, v := range n.row {
			b = value(b, v)
		}
	}
	var out bytes.Buffer
	w, err := flate.NewWriter(&out, flate.BestSpeed)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(b); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// unpack reads notes for the present columns of a table, in the order in which they were made.
func unpack(data []byte, sh shape) (out []note, err error) {
	all, err := io.ReadAll(flate.NewReader(bytes.NewReader(data)))
	if err != nil {
		return nil, errors.Join(errPack, err)
	}
	r := bytes.NewReader(all)
	n, err := binary.ReadUvarint(r)
	if err != nil || n > 1000 {
		return nil, errors.Join(errPack, err)
	}
	at := make([]int, n)
	for i := range at {
		name, err := readValue(r)
		if err != nil {
			return nil, errors.Join(errPack, err)
		}
		c, _ := name.(string)
		at[i] = slices.Index(sh.columns, c)
	}
	for r.Len() > 0 {
		x := note{row: make([]any, len(sh.columns))}
		if x.seq, err = binary.ReadVarint(r); err == nil {
			x.moment, err = binary.ReadVarint(r)
		}
		if err == nil {
			x.op, err = r.ReadByte()
		}
		for i := 0; err == nil && i < len(at); i++ {
			var v any
			if v, err = readValue(r); at[i] >= 0 {
				x.row[at[i]] = v
			}
		}
		if err != nil {
			return nil, errors.Join(errPack, err)
		}
		out = append(out, x)
	}
	slices.SortFunc(out, func(a, b note) int { return cmp.Compare(a.seq, b.seq) })
	return out, nil
}
