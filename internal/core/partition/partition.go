// Package partition reads and writes partition tables: GPT (UEFI 2.10 clause 5.3) with its protective MBR (clause
// 5.2.3), and MBR (clause 5.2.1) with primary partitions only.
package partition

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"slices"
	"strings"
	"unicode/utf16"
)

// Scheme is the kind of a table.
type Scheme string

// The schemes that can be read and written.
const (
	GPT Scheme = "gpt"
	MBR Scheme = "mbr"
)

// GUID is 16 bytes in the order in which they are on a drive: the first three fields little-endian (UEFI 2.10 appendix
// A).
type GUID [16]byte

// String writes a GUID as texts do.
func (g GUID) String() string {
	le := binary.LittleEndian
	return fmt.Sprintf(
		"%08x-%04x-%04x-%s-%s",
		le.Uint32(g[0:]),
		le.Uint16(g[4:]),
		le.Uint16(g[6:]),
		hex.EncodeToString(g[8:10]),
		hex.EncodeToString(g[10:]),
	)
}

// MarshalText writes a GUID into JSON.
func (g GUID) MarshalText() ([]byte, error) { return []byte(g.String()), nil }

// UnmarshalText reads what String writes.
func (g *GUID) UnmarshalText(b []byte) error {
	raw, err := hex.DecodeString(strings.ReplaceAll(string(b), "-", ""))
	if err != nil || len(raw) != 16 || len(b) != 36 {
		return fmt.Errorf("%q is not a GUID", b)
	}
	slices.Reverse(raw[0:4])
	slices.Reverse(raw[4:6])
	slices.Reverse(raw[6:8])
	copy(g[:], raw)
	return nil
}

// Entry is one partition. First and Last are logical blocks, both part of it.
type Entry struct {
	Number int    `json:"number"` // from 1
	First  uint64 `json:"first"`
	Last   uint64 `json:"last"`
	// Type and ID are those of GPT; Code and Active those of MBR.
	Type       GUID   `json:"type,omitzero"`
	ID         GUID   `json:"id,omitzero"`
	Attributes uint64 `json:"attributes,omitempty"`
	Name       string `json:"name,omitempty"`
	Code       byte   `json:"code,omitempty"`
	Active     bool   `json:"active,omitempty"`
}

// Blocks is its number of logical blocks.
func (e Entry) Blocks() uint64 { return e.Last - e.First + 1 }

// Table is a partition table.
type Table struct {
	Scheme Scheme  `json:"scheme"`
	Sector int     `json:"sector"` // bytes of a logical block
	Disk   GUID    `json:"disk,omitzero"`
	ID32   uint32  `json:"id32,omitempty"` // the MBR's own signature
	Slots  int     `json:"slots"`          // number of entries of a GPT
	Parts  []Entry `json:"parts"`
	// OnlyBackup is true when the first of a GPT's two headers could not be read and the second could.
	OnlyBackup bool `json:"only_backup,omitempty"`
}

// Errors that Read gives.
var (
	ErrNone    = errors.New("no partition table")
	ErrDamaged = errors.New("the partition table is damaged")
)

const (
	signature  = "EFI PART"
	headerSize = 92
	entrySize  = 128
	slots      = 128
	mostSlots  = 1024
)

var le = binary.LittleEndian

// HeadBytes and TailBytes are the numbers of bytes at the beginning and end of a drive that Read needs and Encode
// gives, for a sector size.
func HeadBytes(sector int) int { return 2*sector + slots*entrySize }

// TailBytes is the same as HeadBytes, for the end of a drive.
func TailBytes(sector int) int { return sector + slots*entrySize }

// at reads bytes of a drive; the caller provides it.
type at func(offset int64, b []byte) error

// Read reads the table of a drive with the given size in bytes. ErrNone: there is none; ErrDamaged: it is not valid.
func Read(read func(offset int64, b []byte) error, size uint64, sector int) (Table, error) {
	if sector < 512 || sector > 1<<16 || sector&(sector-1) != 0 || size < uint64(8*sector) {
		return Table{}, fmt.Errorf("sectors of %d bytes on a drive of %d bytes: %w", sector, size, ErrNone)
	}
	first := make([]byte, sector)
	if err := read(0, first); err != nil {
		return Table{}, err
	}
	last := size/uint64(sector) - 1
	t, err := readGPT(at(read), 1, last, sector)
	if err == nil {
		return t, nil
	}
	backup, err2 := readGPT(at(read), last, last, sector)
	if err2 == nil {
		backup.OnlyBackup = true
		return backup, nil
	}
	if !errors.Is(err, ErrNone) || !errors.Is(err2, ErrNone) {
		return Table{}, errors.Join(err, err2)
	}
	return readMBR(first, last, sector)
}

func readGPT(read at, lba, last uint64, sector int) (t Table, err error) {
	h := make([]byte, sector)
	if err := read(int64(lba)*int64(sector), h); err != nil {
		return t, err
	}
	if string(h[:8]) != signature {
		return t, ErrNone
	}
	n := le.Uint32(h[12:])
	if n < headerSize || int(n) > sector {
		return t, fmt.Errorf("%w: its header says that it has %d bytes", ErrDamaged, n)
	}
	sum := le.Uint32(h[16:])
	clear(h[16:20])
	if crc32.ChecksumIEEE(h[:n]) != sum {
		return t, fmt.Errorf("%w: the checksum of its header is wrong", ErrDamaged)
	}
	count, each := le.Uint32(h[80:]), le.Uint32(h[84:])
	if le.Uint64(h[24:]) != lba || count > mostSlots || each != entrySize {
		return t, fmt.Errorf("%w: block %d, %d entries of %d bytes", ErrDamaged, le.Uint64(h[24:]), count, each)
	}
	from := le.Uint64(h[72:])
	list := make([]byte, (int(count*each)+sector-1)/sector*sector)
	if from > last || from+uint64(len(list)/sector) > last+1 {
		return t, fmt.Errorf("%w: its entries lie behind the drive's end", ErrDamaged)
	}
	if err := read(int64(from)*int64(sector), list); err != nil {
		return t, err
	}
	list = list[:count*each]
	if crc32.ChecksumIEEE(list) != le.Uint32(h[88:]) {
		return t, fmt.Errorf("%w: the checksum of its entries is wrong", ErrDamaged)
	}
	t = Table{Scheme: GPT, Sector: sector, Slots: int(count)}
	copy(t.Disk[:], h[56:])
	for i := range int(count) {
		b := list[i*entrySize : (i+1)*entrySize]
		if bytes.Equal(b[:16], make([]byte, 16)) {
			continue
		}
		e := Entry{
			Number:     i + 1,
			First:      le.Uint64(b[32:]),
			Last:       le.Uint64(b[40:]),
			Attributes: le.Uint64(b[48:]),
			Name:       name(b[56:]),
		}
		copy(e.Type[:], b)
		copy(e.ID[:], b[16:])
		t.Parts = append(t.Parts, e)
	}
	return t, t.check(last)
}

func name(b []byte) string {
	var u []uint16
	for i := 0; i+2 <= len(b); i += 2 {
		if c := le.Uint16(b[i:]); c != 0 {
			u = append(u, c)
			continue
		}
		break
	}
	return string(utf16.Decode(u))
}

func readMBR(b []byte, last uint64, sector int) (Table, error) {
	if len(b) < 512 || b[510] != 0x55 || b[511] != 0xAA {
		return Table{}, ErrNone
	}
	t := Table{Scheme: MBR, Sector: sector, ID32: le.Uint32(b[440:]), Slots: 4}
	for i := range 4 {
		p := b[446+16*i : 462+16*i]
		first, n := uint64(le.Uint32(p[8:])), uint64(le.Uint32(p[12:]))
		if p[4] == 0 || n == 0 {
			continue
		}
		if p[0] != 0 && p[0] != 0x80 {
			return Table{}, ErrNone // a boot sector of a file system, not a table
		}
		t.Parts = append(
			t.Parts,
			Entry{Number: i + 1, First: first, Last: first + n - 1, Code: p[4], Active: p[0] == 0x80},
		)
	}
	if len(t.Parts) == 0 {
		return Table{}, ErrNone
	}
	for _, e := range t.Parts {
		if e.Code == 0xEE {
			return Table{}, fmt.Errorf("%w: a protective record, and neither GPT behind it can be read", ErrDamaged)
		}
	}
	return t, t.check(last)
}

// check reports what is invalid in a table: partitions that overlap or extend past the end.
func (t Table) check(last uint64) error {
	parts := slices.Clone(t.Parts)
	slices.SortFunc(parts, func(a, b Entry) int {
		if a.First < b.First {
			return -1
		}
		return 1
	})
	for i, e := range parts {
		if e.First > e.Last || e.Last > last {
			return fmt.Errorf(
				"%w: partition %d reaches from block %d to %d of %d",
				ErrDamaged,
				e.Number,
				e.First,
				e.Last,
				last,
			)
		}
		if i > 0 && e.First <= parts[i-1].Last {
			return fmt.Errorf("%w: partitions %d and %d overlap", ErrDamaged, parts[i-1].Number, e.Number)
		}
	}
	return nil
}

// Needs is the least size in bytes of a drive for the table.
func (t Table) Needs() uint64 {
	last := uint64(0)
	for _, e := range t.Parts {
		last = max(last, e.Last)
	}
	n := (last + 1) * uint64(t.Sector)
	if t.Scheme == GPT {
		n += uint64((t.slots()*entrySize+t.Sector-1)/t.Sector+1) * uint64(t.Sector)
	}
	return n
}

func (t Table) slots() int { return max(t.Slots, slots) }

// For makes the table of a drive that replaces one with table t: the same partitions with the same types and names, and
// new GUIDs. With grow the last partition extends to the end, in steps of 1 MiB; else its size is unchanged.
func (t Table) For(size uint64, sector int, fresh func() GUID, grow bool) (Table, error) {
	switch {
	case len(t.Parts) == 0:
		return Table{}, errors.New("the old drive's partition table has no partition")
	case t.Sector != sector:
		return Table{}, fmt.Errorf(
			"the new drive has sectors of %d bytes, the table counts in sectors of %d",
			sector,
			t.Sector,
		)
	case size < t.Needs():
		return Table{}, fmt.Errorf("the new drive has %d bytes, its partitions need %d", size, t.Needs())
	}
	for _, e := range t.Parts {
		if t.Scheme == MBR && (e.Code == 0x05 || e.Code == 0x0F || e.Code == 0x85) {
			return Table{}, fmt.Errorf(
				"partition %d is an extended one, and those within it are not copied: partition the new drive by hand",
				e.Number,
			)
		}
	}
	n := t
	n.OnlyBackup = false
	n.Slots = t.slots()
	if t.Scheme == MBR {
		g := fresh()
		n.ID32, n.Slots = le.Uint32(g[:]), 4
	}
	n.Disk = GUID{}
	if t.Scheme == GPT {
		n.Disk = fresh()
	}
	n.Parts = slices.Clone(t.Parts)
	latest := 0
	for i := range n.Parts {
		if t.Scheme == GPT {
			n.Parts[i].ID = fresh()
		}
		if n.Parts[i].Last > n.Parts[latest].Last {
			latest = i
		}
	}
	if grow {
		end := n.usable(size)
		step := uint64(1<<20) / uint64(sector)
		if to := (end+1)/step*step - 1; to > n.Parts[latest].Last &&
			(t.Scheme == GPT || to-n.Parts[latest].First < 1<<32) {
			n.Parts[latest].Last = to
		}
	}
	return n, nil
}

// usable is the last block that a partition may have on a drive of the given size in bytes.
func (t Table) usable(size uint64) uint64 {
	last := size/uint64(t.Sector) - 1
	if t.Scheme == GPT {
		last -= uint64((t.slots()*entrySize+t.Sector-1)/t.Sector) + 1
	}
	return last
}

// Piece is a sequence of bytes to be written at an offset.
type Piece struct {
	Offset int64
	Bytes  []byte
}

// Encode gives the pieces to be written to a drive of the given size in bytes, the backup first, so that a half-written
// table is not valid.
func (t Table) Encode(size uint64) ([]Piece, error) {
	last := size/uint64(t.Sector) - 1
	if err := t.check(t.usable(size)); err != nil {
		return nil, err
	}
	if t.Scheme == MBR {
		b := make([]byte, t.Sector)
		le.PutUint32(b[440:], t.ID32)
		for _, e := range t.Parts {
			if e.Number < 1 || e.Number > 4 || e.Last >= 1<<32 {
				return nil, fmt.Errorf(
					"partition %d from block %d to %d does not fit into an MBR",
					e.Number,
					e.First,
					e.Last,
				)
			}
			p := b[446+16*(e.Number-1):]
			if e.Active {
				p[0] = 0x80
			}
			copy(
				p[1:],
				[]byte{0xFE, 0xFF, 0xFF, e.Code, 0xFE, 0xFF, 0xFF},
			) // CHS addresses that mean: use the block numbers
			le.PutUint32(p[8:], uint32(e.First))
			le.PutUint32(p[12:], uint32(e.Blocks()))
		}
		b[510], b[511] = 0x55, 0xAA
		return []Piece{{0, b}}, nil
	}
	list := make([]byte, t.slots()*entrySize)
	for _, e := range t.Parts {
		if e.Number < 1 || e.Number > t.slots() {
			return nil, fmt.Errorf("partition %d does not fit into a table of %d", e.Number, t.slots())
		}
		b := list[(e.Number-1)*entrySize:]
		copy(b, e.Type[:])
		copy(b[16:], e.ID[:])
		le.PutUint64(b[32:], e.First)
		le.PutUint64(b[40:], e.Last)
		le.PutUint64(b[48:], e.Attributes)
		for i, c := range utf16.Encode([]rune(e.Name)) {
			if i == 36 {
				break
			}
			le.PutUint16(b[56+2*i:], c)
		}
	}
	blocks := uint64((len(list) + t.Sector - 1) / t.Sector)
	for _, e := range t.Parts {
		if e.First < 2+blocks {
			return nil, fmt.Errorf("partition %d begins at block %d, within the table", e.Number, e.First)
		}
	}
	padded := make([]byte, int(blocks)*t.Sector)
	copy(padded, list)
	header := func(self, other, entries uint64) []byte {
		h := make([]byte, t.Sector)
		copy(h, signature)
		le.PutUint32(h[8:], 0x00010000)
		le.PutUint32(h[12:], headerSize)
		le.PutUint64(h[24:], self)
		le.PutUint64(h[32:], other)
		le.PutUint64(h[40:], 2+blocks)
		le.PutUint64(h[48:], last-blocks-1)
		copy(h[56:], t.Disk[:])
		le.PutUint64(h[72:], entries)
		le.PutUint32(h[80:], uint32(t.slots()))
		le.PutUint32(h[84:], entrySize)
		le.PutUint32(h[88:], crc32.ChecksumIEEE(list))
		le.PutUint32(h[16:], crc32.ChecksumIEEE(h[:headerSize]))
		return h
	}
	mbr := make([]byte, t.Sector)
	p := mbr[446:]
	copy(p[1:], []byte{0, 2, 0, 0xEE, 0xFF, 0xFF, 0xFF})
	le.PutUint32(p[8:], 1)
	le.PutUint32(p[12:], uint32(min(last, 1<<32-1)))
	mbr[510], mbr[511] = 0x55, 0xAA
	sector := int64(t.Sector)
	return []Piece{
		{int64(last-blocks) * sector, append(slices.Clone(padded), header(last, 1, last-blocks)...)},
		{sector, append(header(1, last, 2), padded...)},
		{0, mbr},
	}, nil
}

// The types of partitions that hold a boot loader and no data.
const (
	efi  = "EFI system partition"
	bios = "BIOS boot partition"
)

// BootOnly reports whether a type, as named by Words, is a boot loader's: it can be created again from the other
// drives.
func BootOnly(words string) bool { return words == efi || words == bios }

// types are the partition types with names for people: those of the UEFI specification and of the Discoverable
// Partitions Specification.
var types = map[string]string{
	"c12a7328-f81f-11d2-ba4b-00a0c93ec93b": efi,
	"21686148-6449-6e6f-744e-656564454649": bios,
	"a19d880f-05fc-4d3b-a006-743f0f84911e": "RAID member",
	"e6d6d379-f507-44c2-a23c-238f2a3df928": "logical volume member",
	"0657fd6d-a4ab-43c4-84e5-0933c84b4f4f": "swap",
	"0fc63daf-8483-4772-8e79-3d69d8477de4": "Linux data",
}

// Words names a partition's type; empty for an unknown type.
func (e Entry) Words() string {
	if w := types[e.Type.String()]; w != "" {
		return w
	}
	return map[byte]string{0xEF: efi, 0xFD: "RAID member", 0x8E: "logical volume member", 0x82: "swap",
		0x83: "Linux data"}[e.Code]
}

// Same reports whether two tables have the same partitions: addresses, types and names, not GUIDs.
func (t Table) Same(o Table) bool {
	return t.Scheme == o.Scheme && slices.EqualFunc(t.Parts, o.Parts, func(a, b Entry) bool {
		return a.Number == b.Number && a.First == b.First && a.Last == b.Last && a.Type == b.Type &&
			a.Code == b.Code &&
			a.Name == b.Name
	})
}
