package lvm

import (
	"encoding/binary"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

const text = `vg0 {
	id = "AAAAAA-BBBB-CCCC-DDDD-EEEE-FFFF-GGGGGG"
	seqno = 7	# changes
	format = "lvm2"
	status = ["RESIZEABLE", "READ", "WRITE"]
	flags = []
	extent_size = 8192		# 4 Megabytes
	physical_volumes {
		pv0 { id = "aaaaaa-0000-0000-0000-0000-0000-000001"
			device = "/dev/sd\"x"
			status = ["ALLOCATABLE"]
			flags = [] }
		pv1 { id = "aaaaaa-0000-0000-0000-0000-0000-000002" flags = ["MISSING"] }
	}
	logical_volumes {
		films { id = "x" status = ["READ", "VISIBLE"] segment_count = 1
			segment1 { start_extent = 0 type = "raid1" device_count = 2
				raids = [ "films_rmeta_0", "films_rimage_0", "films_rmeta_1", "films_rimage_1" ] } }
		films_rimage_0 { status = ["READ"] segment1 { type = "striped" stripes = [ "pv0", 1 ] } }
		films_rimage_1 { status = ["READ"] segment1 { type = "striped" stripes = ["pv1", 1] } segment2 { type = "striped" stripes = ["pv0", 9] } }
	}
}
# Generated
contents = "Text Format Volume Group"
`

// volume lays a physical volume out as the format has it: label in sector 1, metadata from 4096, its text around the
// end.
func volume(text string, wrap bool) []byte {
	le := binary.LittleEndian
	d := make([]byte, 1<<20)
	const start, size = 4096, 64 << 10
	offset := uint64(512)
	if wrap {
		offset = size - 100
	}
	for i := range text {
		at := offset + uint64(i)
		if at >= size {
			at = at - size + 512
		}
		d[start+at] = text[i]
	}
	h := d[start : start+512]
	copy(h[4:], mdaMagic)
	le.PutUint32(h[20:], 1)
	le.PutUint64(h[24:], start)
	le.PutUint64(h[32:], size)
	le.PutUint64(h[40:], offset)
	le.PutUint64(h[48:], uint64(len(text)))
	le.PutUint32(h[56:], crc([]byte(text)))
	le.PutUint32(h, crc(h[4:]))
	b := d[512:1024]
	copy(b, "LABELONE")
	le.PutUint64(b[8:], 1)
	le.PutUint32(b[20:], 32)
	copy(b[24:], "LVM2 001")
	copy(b[32:], "aaaaaa00000000000000000000000001")
	le.PutUint64(b[64:], 1<<20)
	le.PutUint64(b[72:], 128<<10) // data, to the end
	le.PutUint64(b[104:], start)
	le.PutUint64(b[112:], size)
	le.PutUint32(b[16:], crc(b[20:]))
	return d
}

func reader(d []byte) func(int64, []byte) error {
	return func(at int64, b []byte) error {
		if at < 0 || at+int64(len(b)) > int64(len(d)) {
			return fmt.Errorf("behind the end")
		}
		copy(b, d[at:])
		return nil
	}
}

// TestVolume: label, header and text are read, also if the text wraps around the end of its area; damage is found.
func TestVolume(t *testing.T) {
	for _, wrap := range []bool{false, true} {
		d := volume(text, wrap)
		pv, err := Read(reader(d))
		require.NoError(t, err)
		require.Equal(t, "aaaaaa00000000000000000000000001", pv.ID)
		g := pv.Group
		require.Equal(t, "vg0", g.Name)
		require.EqualValues(t, 7, g.Sequence)
		require.EqualValues(t, 4<<20, g.Extent)
		require.Equal(t, "aaaaaa00000000000000000000000001", g.PVs["pv0"].ID)
		require.True(t, g.PVs["pv1"].Missing)
		require.Equal(t, Segment{"raid1", []string{"films_rimage_0", "films_rimage_1"}}, g.LVs["films"].Segments[0])
		require.True(t, g.LVs["films"].Visible)
		require.Equal(t, []string{"pv0", "pv1"}, g.On("films"))
		require.Equal(t, []string{"pv0"}, g.On("films_rimage_0"))
		for _, at := range []int{512 + 40, 4096 + 30, 4096 + 64<<10 - 50} {
			if at > 8000 && !wrap {
				at = 4096 + 600
			}
			d[at] ^= 1
			_, err := Read(reader(d))
			require.ErrorContains(t, err, "damaged")
			d[at] ^= 1
		}
	}
	_, err := Read(reader(make([]byte, 4096)))
	require.True(t, errors.Is(err, ErrNone))
}

func FuzzGroup(f *testing.F) {
	f.Add(text)
	f.Add("a { b = [ \"")
	f.Fuzz(func(_ *testing.T, s string) {
		if g, err := ParseGroup(s); err == nil {
			for name := range g.LVs {
				g.On(name)
			}
		}
	})
}

func FuzzRead(f *testing.F) {
	f.Add(volume(text, true))
	f.Fuzz(func(_ *testing.T, d []byte) { _, _ = Read(reader(d)) })
}

// TestDamagedText: metadata in which a byte was lost, doubled or changed are refused or read, never half of both; an
// area without a text has no group, and one whose text would be larger than its area is damaged.
func TestDamagedText(t *testing.T) {
	for i := range len(text) {
		for _, s := range []string{text[:i], text[:i] + text[i+1:], text[:i] + "[" + text[i:], text[:i] + "}" + text[i+1:],
			text[:i] + "\"" + text[i:]} {
			if g, err := ParseGroup(s); err == nil {
				require.NotNil(t, g)
				for name := range g.LVs {
					g.On(name)
				}
			} else {
				require.NotEmpty(t, err.Error())
			}
		}
	}
	le := binary.LittleEndian
	for _, c := range []struct {
		offset, n uint64
		says      string
	}{{0, 100, ""}, {512, 0, ""}, {70 << 10, 100, "damaged"}, {512, 70 << 10, "damaged"}, {512, 1 << 60, "damaged"}} {
		d := volume(text, false)
		h := d[4096 : 4096+512]
		le.PutUint64(h[40:], c.offset)
		le.PutUint64(h[48:], c.n)
		le.PutUint32(h, crc(h[4:]))
		pv, err := Read(reader(d))
		if c.says == "" {
			require.NoError(t, err)
			require.Nil(t, pv.Group)
			continue
		}
		require.ErrorContains(t, err, c.says)
	}
}
