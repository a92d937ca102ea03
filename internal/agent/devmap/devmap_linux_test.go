package devmap

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAnswers: answers of the kernel are decoded; one that is shorter than it says is refused.
func TestAnswers(t *testing.T) {
	b := make([]byte, 1024)
	ne := binary.NativeEndian
	ne.PutUint32(b[16:], headLen)
	ne.PutUint32(b[20:], 2)
	spec := func(at int, start, length uint64, next uint32, kind, params string) {
		ne.PutUint64(b[at:], start)
		ne.PutUint64(b[at+8:], length)
		ne.PutUint32(b[at+20:], next)
		copy(b[at+24:], kind)
		copy(b[at+specLen:], params)
	}
	spec(headLen, 0, 100, 64, "linear", "8:1 2048")
	spec(headLen+64, 100, 200, 0, "raid", "raid1 2 Aa 2/4 recover 0 0 -")
	got, err := parse(b)
	require.NoError(t, err)
	require.Equal(t, []Target{{0, 100, "linear", "8:1 2048"}, {100, 200, "raid", "raid1 2 Aa 2/4 recover 0 0 -"}}, got)
	_, err = parse(b[:headLen+50])
	require.Error(t, err)
	r, ok := ParseRaid(got[1].Params)
	require.True(t, ok)
	require.Equal(t, Raid{"raid1", "Aa", 2, 4, "recover", 0}, r)
	_, ok = ParseRaid("raid1 2")
	require.False(t, ok)
	require.Equal(t, []Path{{"8:16", false}, {"8:32", true}}, Paths("2 0 0 0 2 1 A 0 1 0 8:16 A 0 E 0 1 0 8:32 F 3"))
}
