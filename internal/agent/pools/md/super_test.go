package md

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"
)

func sample() *Super {
	return &Super{
		Minor:      2,
		ID:         [16]byte{1, 2, 3},
		Name:       "rig:films",
		Level:      5,
		Layout:     2,
		Size:       100000,
		Chunk:      128,
		Disks:      3,
		DataOffset: 2048,
		DataSize:   128000,
		Offset:     8,
		Device:     1,
		DeviceID:   [16]byte{9},
		Updated:    1_700_000_000,
		Events:     17,
		Resync:     inStep,
		Roles:      []uint16{0, 1, 2},
	}
}

// TestSuperblock: a written superblock is read back at the place of each version; damage and foreign data are found.
func TestSuperblock(t *testing.T) {
	const size = 64 << 20
	for _, minor := range []int{0, 1, 2} {
		s := sample()
		s.Minor = minor
		var err error
		s.Offset, err = place(minor, size/512)
		require.NoError(t, err)
		b, err := s.Encode()
		require.NoError(t, err)
		disk := make([]byte, size)
		copy(disk[s.Offset*512:], b)
		got, err := Read(bytes.NewReader(disk), size)
		require.NoError(t, err)
		require.Equal(t, s, got)
		require.EqualValues(t, 1, got.Role())
		disk[s.Offset*512+80] ^= 1
		_, err = Read(bytes.NewReader(disk), size)
		require.ErrorContains(t, err, "its checksum is")

		// A new member: a spare of the same array, and only where it is large enough.
		n, err := s.For(3, [16]byte{7}, size)
		require.NoError(t, err)
		require.Equal(t, []uint16{0, 1, 2, RoleSpare}, n.Roles)
		require.EqualValues(t, RoleSpare, n.Role())
		_, err = s.For(3, [16]byte{7}, 512*(2048+99999))
		require.ErrorContains(t, err, "are needed")
	}
	_, err := Read(bytes.NewReader(make([]byte, size)), size)
	require.ErrorIs(t, err, ErrNone)

	// Version 0.90, laid out by hand from struct mdp_superblock_s.
	b := make([]byte, 4096)
	word := func(i int, v uint32) { le.PutUint32(b[4*i:], v) }
	for i, v := range map[int]uint32{0: magic, 2: 90, 5: 0x11223344, 7: 1, 8: 32000, 10: 2, 13: 5,
		32: 1_700_000_000, 39: 4, 65: 65536, 992: 1,
		128 + 4: 1<<1 | 1<<2, 160: 1, 160 + 3: 1, 160 + 4: 1<<1 | 1<<2, 192: 2, 192 + 4: 1 << 0} {
		word(i, v)
	}
	var sum uint64
	for i := range 1024 {
		sum += uint64(le.Uint32(b[4*i:]))
	}
	word(38, uint32(sum)+uint32(sum>>32))
	disk := make([]byte, 32<<20)
	at, err := place(90, uint64(len(disk)/512))
	require.NoError(t, err)
	copy(disk[at*512:], b)
	s, err := Read(bytes.NewReader(disk), uint64(len(disk)))
	require.NoError(t, err)
	require.Equal(t, int32(1), s.Level)
	require.EqualValues(t, 64000, s.Size)
	require.EqualValues(t, 128, s.Chunk)
	require.Equal(t, []uint16{0, 1, RoleFaulty}, s.Roles[:3])
	require.EqualValues(t, 1, s.Role())
	require.EqualValues(t, 4, s.Events)
}

func FuzzSuperblock(f *testing.F) {
	b, _ := sample().Encode()
	f.Add(b)
	f.Add(make([]byte, 4096))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, minor := range []int{0, 1, 2} {
			if s, err := Decode(b, minor); err == nil {
				_ = s.Role()
				again, err := s.Encode()
				require.NoError(t, err)
				back, err := Decode(again, minor)
				require.NoError(t, err)
				require.Equal(t, s, back)
			}
		}
		_, _ = decode090(b)
		_, _ = Read(bytes.NewReader(b), uint64(len(b)))
	})
}
