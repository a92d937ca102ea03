package partition

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// disk is a drive in memory.
type disk []byte

func (d disk) read(offset int64, b []byte) error {
	if offset < 0 || offset+int64(len(b)) > int64(len(d)) {
		return fmt.Errorf("read behind the end at %d", offset)
	}
	copy(b, d[offset:])
	return nil
}

func (d disk) write(t *testing.T, pieces []Piece) {
	t.Helper()
	for _, p := range pieces {
		require.LessOrEqual(t, p.Offset+int64(len(p.Bytes)), int64(len(d)))
		copy(d[p.Offset:], p.Bytes)
	}
}

func guids(seed uint64) func() GUID {
	r := rand.New(rand.NewPCG(seed, 1))
	return func() (g GUID) {
		for i := range g {
			g[i] = byte(r.Uint32())
		}
		return g
	}
}

func example(sector int) Table {
	var esp, raid GUID
	_ = esp.UnmarshalText([]byte("c12a7328-f81f-11d2-ba4b-00a0c93ec93b"))
	_ = raid.UnmarshalText([]byte("a19d880f-05fc-4d3b-a006-743f0f84911e"))
	mib := uint64(1<<20) / uint64(sector)
	return Table{Scheme: GPT, Sector: sector, Disk: GUID{1}, Slots: 128, Parts: []Entry{
		{
			Number: 1,
			First:  mib,
			Last:   2*mib - 1,
			Type:   esp,
			ID:     GUID{2},
			Name:   "boot ä",
		},
		{Number: 3, First: 2 * mib, Last: 5*mib - 1, Type: raid, ID: GUID{3}, Attributes: 4},
		{Number: 2, First: 6 * mib, Last: 8*mib - 1, Type: raid, ID: GUID{4}},
	}}
}

// TestTables: a table is read back, for both schemes and sector sizes; a new drive gets the same partitions and other
// GUIDs; damage is found and the backup is used; an invalid table is refused.
func TestTables(t *testing.T) {
	for _, sector := range []int{512, 4096} {
		old := example(sector)
		d := make(disk, 16<<20)
		pieces, err := old.Encode(uint64(len(d)))
		require.NoError(t, err)
		d.write(t, pieces)
		got, err := Read(d.read, uint64(len(d)), sector)
		require.NoError(t, err)
		require.Len(t, got.Parts, 3)
		require.True(t, got.Same(Table{Scheme: GPT, Parts: []Entry{old.Parts[0], old.Parts[2], old.Parts[1]}}))
		require.Equal(t, "EFI system partition", got.Parts[0].Words())
		require.Equal(t, "boot ä", got.Parts[0].Name)
		text, err := json.Marshal(got)
		require.NoError(t, err)
		var again Table
		require.NoError(t, json.Unmarshal(text, &again))
		require.Equal(t, got, again)

		for grow, last := range map[bool]uint64{false: 8<<20/uint64(sector) - 1, true: 19<<20/uint64(sector) - 1} {
			next, err := got.For(20<<20, sector, guids(7), grow)
			require.NoError(t, err)
			require.Equal(t, last, next.Parts[1].Last)
			require.Equal(t, grow, !next.Same(got))
			seen := map[GUID]bool{got.Disk: true, next.Disk: true}
			for i, e := range next.Parts {
				require.False(t, seen[e.ID] || e.ID == got.Parts[i].ID)
				seen[e.ID] = true
			}
			large := make(disk, 20<<20)
			pieces, err := next.Encode(uint64(len(large)))
			require.NoError(t, err)
			large.write(t, pieces)
			back, err := Read(large.read, uint64(len(large)), sector)
			require.NoError(t, err)
			require.Equal(t, next, back)
			// One block of either half is damaged: the other half is used.
			large[sector+20] ^= 1
			back, err = Read(large.read, uint64(len(large)), sector)
			require.NoError(t, err)
			require.True(t, back.OnlyBackup && back.Same(next))
			large[len(large)-sector+60] ^= 1
			_, err = Read(large.read, uint64(len(large)), sector)
			require.ErrorIs(t, err, ErrDamaged)
		}
		_, err = got.For(got.Needs()-uint64(sector), sector, guids(1), false)
		require.ErrorContains(t, err, "need")
		exact, err := got.For(got.Needs(), sector, guids(1), true)
		require.NoError(t, err)
		require.True(t, exact.Same(got), "there is no room to grow")
		_, err = exact.Encode(got.Needs())
		require.NoError(t, err)
		_, err = got.For(64<<20, 512+3584-sector+512, guids(1), false)
		require.ErrorContains(t, err, "sectors of")
	}

	d := make(disk, 8<<20)
	mbr := Table{
		Scheme: MBR,
		Sector: 512,
		ID32:   9,
		Slots:  4,
		Parts:  []Entry{{Number: 2, First: 2048, Last: 4095, Code: 0xFD, Active: true}},
	}
	pieces, err := mbr.Encode(uint64(len(d)))
	require.NoError(t, err)
	d.write(t, pieces)
	got, err := Read(d.read, uint64(len(d)), 512)
	require.NoError(t, err)
	require.Equal(t, mbr, got)
	next, err := got.For(8<<20, 512, guids(3), false)
	require.NoError(t, err)
	require.NotEqual(t, got.ID32, next.ID32)
	mbr.Parts = append(mbr.Parts, Entry{Number: 3, First: 4096, Last: 5000, Code: 0x05})
	_, err = mbr.For(8<<20, 512, guids(3), false)
	require.ErrorContains(t, err, "by hand")
	mbr.Parts[1] = Entry{Number: 3, First: 4000, Last: 5000, Code: 0x83}
	_, err = mbr.Encode(8 << 20)
	require.ErrorContains(t, err, "overlap")
	_, err = Read(make(disk, 1<<20).read, 1<<20, 512)
	require.ErrorIs(t, err, ErrNone)
}

// FuzzRead: whatever is on a drive, reading ends, and its result can be written and read again.
func FuzzRead(f *testing.F) {
	d := make(disk, 1<<20)
	small := Table{
		Scheme: GPT,
		Sector: 512,
		Slots:  128,
		Parts:  []Entry{{Number: 1, First: 64, Last: 100, Type: GUID{1}}},
	}
	pieces, _ := small.Encode(uint64(len(d)))
	for _, p := range pieces {
		copy(d[p.Offset:], p.Bytes)
	}
	f.Add([]byte(d[:40000]), []byte(d[len(d)-20000:]))
	f.Add([]byte{}, []byte{})
	f.Fuzz(func(t *testing.T, head, tail []byte) {
		d := make(disk, 1<<20)
		copy(d, head)
		if len(tail) <= len(d) {
			copy(d[len(d)-len(tail):], tail)
		}
		got, err := Read(d.read, uint64(len(d)), 512)
		if err != nil {
			return
		}
		next, err := got.For(2<<20, 512, guids(1), false)
		if err != nil {
			return
		}
		pieces, err := next.Encode(2 << 20)
		if err != nil {
			return
		}
		large := make(disk, 2<<20)
		for _, p := range pieces {
			copy(large[p.Offset:], p.Bytes)
		}
		back, err := Read(large.read, uint64(len(large)), 512)
		if err != nil && !errors.Is(err, ErrNone) {
			t.Fatal(err)
		}
		if err == nil && !back.Same(next) {
			t.Fatalf("%+v is not %+v", back, next)
		}
	})
}

// TestWords: types have names for people, and those of boot loaders differ from those with data.
func TestWords(t *testing.T) {
	for code, want := range map[byte]string{0xEF: efi, 0xFD: "RAID member", 0x8E: "logical volume member", 0x82: "swap",
		0x83: "Linux data", 0x07: ""} {
		require.Equal(t, want, Entry{Code: code}.Words())
	}
	require.True(t, BootOnly(efi) && BootOnly(bios))
	require.False(t, BootOnly("RAID member") || BootOnly(""))
	require.Equal(t, 2*512+16384, HeadBytes(512))
	require.Equal(t, 4096+16384, TailBytes(4096))
}
