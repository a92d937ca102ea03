package engine

import "encoding/binary"

// The code of a stripe: k pieces of data and m of parity over GF(2^8); any k of them restore all (a Cauchy matrix below
// the unit matrix; Blömer, Kalfane, Karp, Karpinski, Luby, Zuckerman 1995). A piece is eight bytes here, which
// represent its whole content.

var logs, powers = tables()

// tables of the field with the polynomial x^8+x^4+x^3+x^2+1.
func tables() (l [256]byte, p [512]byte) {
	x := 1
	for i := range 255 {
		p[i], p[i+255] = byte(x), byte(x)
		l[x] = byte(i)
		if x <<= 1; x&0x100 != 0 {
			x ^= 0x11d
		}
	}
	return l, p
}

func times(a, b byte) byte {
	if a == 0 || b == 0 {
		return 0
	}
	return powers[int(logs[a])+int(logs[b])]
}

func inverse(a byte) byte { return powers[255-int(logs[a])] }

// row gives the coefficients of piece i of a stripe with k pieces of data.
func row(i, k int) []byte {
	r := make([]byte, k)
	if i < k {
		r[i] = 1
		return r
	}
	for j := range r {
		r[j] = inverse(byte(i) ^ byte(j)) // i >= k > j, so they differ
	}
	return r
}

// encode gives piece i of a stripe with the given data.
func encode(i int, data []uint64) uint64 {
	if len(data) == 1 {
		return data[0] // copies are copies
	}
	var out [8]byte
	for j, c := range row(i, len(data)) {
		var d [8]byte
		binary.LittleEndian.PutUint64(d[:], data[j])
		for b := range out {
			out[b] ^= times(c, d[b])
		}
	}
	return binary.LittleEndian.Uint64(out[:])
}

// decode restores the data of a stripe from k of its pieces; at are their indices.
func decode(k int, at []int, pieces []uint64) []uint64 {
	if k == 1 {
		return pieces[:1]
	}
	m := make([][]byte, k)
	v := make([][8]byte, k)
	for i := range k {
		m[i] = row(at[i], k)
		binary.LittleEndian.PutUint64(v[i][:], pieces[i])
	}
	for c := range k {
		p := c
		for m[p][c] == 0 {
			p++ // the matrix is regular: one is there
		}
		m[c], m[p], v[c], v[p] = m[p], m[c], v[p], v[c]
		inv := inverse(m[c][c])
		for j := range k {
			m[c][j] = times(m[c][j], inv)
		}
		for b := range v[c] {
			v[c][b] = times(v[c][b], inv)
		}
		for i := range k {
			f := m[i][c]
			if i == c || f == 0 {
				continue
			}
			for j := range k {
				m[i][j] ^= times(f, m[c][j])
			}
			for b := range v[i] {
				v[i][b] ^= times(f, v[c][b])
			}
		}
	}
	out := make([]uint64, k)
	for i := range out {
		out[i] = binary.LittleEndian.Uint64(v[i][:])
	}
	return out
}
