// Package md speaks for the kernel's md arrays: through sysfs (Documentation/admin-guide/md.rst), the ioctls of
// linux/raid/md_u.h, and superblocks that it reads and writes itself (linux/raid/md_p.h). No other program is run.
package md

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
)

// Super is what a member's superblock says of its array and of itself.
type Super struct {
	Minor      int // 0, 1 or 2 for version 1.0, 1.1, 1.2; 90 for version 0.90
	ID         [16]byte
	Name       string
	Level      int32
	Layout     uint32
	Size       uint64 // of a member that is used, in sectors of 512 bytes
	Chunk      uint32 // in sectors
	Disks      uint32 // places in the array
	DataOffset uint64 // where data begin on this member, in sectors
	DataSize   uint64
	Offset     uint64 // where this superblock is, in sectors
	Device     uint32 // this member's number
	DeviceID   [16]byte
	Corrected  uint32 // read errors that were corrected
	Updated    uint64 // seconds since 1970
	Events     uint64
	Resync     uint64   // how far the array is known to be in step, in sectors; all ones when it is throughout
	Roles      []uint16 // by device number: its place, or one of the three below
}

// What a device may be beside a place.
const (
	RoleSpare   = 0xffff
	RoleFaulty  = 0xfffe
	RoleJournal = 0xfffd
)

const (
	magic    = 0xa92b4efc
	inStep   = ^uint64(0)
	headLen  = 256
	mostRole = 384 // as many as fit into what is read
	superLen = headLen + 2*mostRole
)

// Role is this device's own; RoleSpare when the superblock does not tell.
func (s *Super) Role() uint16 {
	if int(s.Device) < len(s.Roles) {
		return s.Roles[s.Device]
	}
	return RoleSpare
}

// ErrNone means that there is no superblock where one was looked for.
var ErrNone = errors.New("no md superblock")

// place is where a superblock of a minor version is on a device of so many sectors (super_1_load in drivers/md/md.c).
func place(minor int, sectors uint64) (uint64, error) {
	switch {
	case minor == 1:
		return 0, nil
	case minor == 2:
		return 8, nil
	case minor == 0 && sectors >= 24:
		return (sectors - 16) &^ 7, nil
	case minor == 90 && sectors >= 256:
		return sectors&^127 - 128, nil
	}
	return 0, fmt.Errorf("version 1.%d on %d sectors: %w", minor, sectors, ErrNone)
}

// superSize is how much of a device is read and written for its superblock, in bytes.
const superSize = 4096

// Read looks for a superblock on a device of so many bytes, in all places where one may be.
func Read(r io.ReaderAt, bytes uint64) (*Super, error) {
	for _, minor := range []int{2, 1, 0, 90} {
		at, err := place(minor, bytes/512)
		if err != nil {
			continue
		}
		b := make([]byte, superSize)
		if _, err := r.ReadAt(b, int64(at)*512); err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
		var s *Super
		if minor == 90 {
			s, err = decode090(b)
		} else {
			s, err = Decode(b, minor)
		}
		if errors.Is(err, ErrNone) {
			continue
		}
		if err == nil && minor != 90 && s.Offset != at {
			continue // it belongs to something around this device, not to it
		}
		return s, err
	}
	return nil, ErrNone
}

var le = binary.LittleEndian

// Decode takes a superblock of version 1 apart (struct mdp_superblock_1).
func Decode(b []byte, minor int) (*Super, error) {
	if len(b) < headLen || le.Uint32(b) != magic || le.Uint32(b[4:]) != 1 {
		return nil, ErrNone
	}
	n := le.Uint32(b[220:])
	if n > mostRole || headLen+2*int(n) > len(b) {
		return nil, fmt.Errorf("md superblock: %d devices are more than fit", n)
	}
	if got, want := checksum(b, int(n)), le.Uint32(b[216:]); got != want {
		return nil, fmt.Errorf("md superblock: its checksum is %08x, %08x is written there", got, want)
	}
	s := &Super{
		Minor:  minor,
		Name:   strings.TrimRight(string(b[32:64]), "\x00"),
		Level:  int32(le.Uint32(b[72:])),
		Layout: le.Uint32(b[76:]),
		Size:   le.Uint64(b[80:]),
		Chunk:  le.Uint32(b[88:]),
		Disks:  le.Uint32(b[92:]),
		DataOffset: le.Uint64(
			b[128:],
		),
		DataSize:  le.Uint64(b[136:]),
		Offset:    le.Uint64(b[144:]),
		Device:    le.Uint32(b[160:]),
		Corrected: le.Uint32(b[164:]),
		Updated:   le.Uint64(b[192:]) & (1<<40 - 1),
		Events:    le.Uint64(b[200:]),
		Resync:    le.Uint64(b[208:]),
	}
	copy(s.ID[:], b[16:])
	copy(s.DeviceID[:], b[168:])
	for i := range int(n) {
		s.Roles = append(s.Roles, le.Uint16(b[headLen+2*i:]))
	}
	return s, nil
}

// Encode writes a superblock of version 1.
func (s *Super) Encode() ([]byte, error) {
	if s.Minor > 2 || len(s.Roles) > mostRole || len(s.Name) > 32 {
		return nil, fmt.Errorf(
			"md superblock: version %d, %d devices and a name of %d bytes cannot be written",
			s.Minor,
			len(s.Roles),
			len(s.Name),
		)
	}
	b := make([]byte, 4096)
	le.PutUint32(b, magic)
	le.PutUint32(b[4:], 1)
	copy(b[16:], s.ID[:])
	copy(b[32:64], s.Name)
	le.PutUint64(b[64:], s.Updated)
	le.PutUint32(b[72:], uint32(s.Level))
	le.PutUint32(b[76:], s.Layout)
	le.PutUint64(b[80:], s.Size)
	le.PutUint32(b[88:], s.Chunk)
	le.PutUint32(b[92:], s.Disks)
	le.PutUint64(b[128:], s.DataOffset)
	le.PutUint64(b[136:], s.DataSize)
	le.PutUint64(b[144:], s.Offset)
	le.PutUint32(b[160:], s.Device)
	le.PutUint32(b[164:], s.Corrected)
	copy(b[168:], s.DeviceID[:])
	le.PutUint64(b[192:], s.Updated)
	le.PutUint64(b[200:], s.Events)
	le.PutUint64(b[208:], s.Resync)
	le.PutUint32(b[220:], uint32(len(s.Roles)))
	for i, r := range s.Roles {
		le.PutUint16(b[headLen+2*i:], r)
	}
	le.PutUint32(b[216:], checksum(b, len(s.Roles)))
	return b, nil
}

// checksum is that of calc_sb_1_csum: the sum of all words but its own, folded.
func checksum(b []byte, devices int) uint32 {
	var sum uint64
	size := headLen + 2*devices
	for i := 0; i+4 <= size; i += 4 {
		if i != 216 {
			sum += uint64(le.Uint32(b[i:]))
		}
	}
	if size%4 == 2 {
		sum += uint64(le.Uint16(b[size-2:]))
	}
	return uint32(sum) + uint32(sum>>32)
}

// decode090 takes a superblock of version 0.90 apart (struct mdp_superblock_s): 1024 words.
func decode090(b []byte) (*Super, error) {
	w := func(i int) uint32 { return le.Uint32(b[4*i:]) }
	if len(b) < 4096 || w(0) != magic || w(1) != 0 || w(2) != 90 {
		return nil, ErrNone
	}
	var sum uint64
	for i := range 1024 {
		if i != 38 {
			sum += uint64(w(i))
		}
	}
	if got := uint32(sum) + uint32(sum>>32); got != w(38) {
		return nil, fmt.Errorf("md superblock: its checksum is %08x, %08x is written there", got, w(38))
	}
	s := &Super{
		Minor:   90,
		Level:   int32(w(7)),
		Size:    2 * uint64(w(8)),
		Disks:   w(10),
		Layout:  w(64),
		Chunk:   w(65) / 512,
		Updated: uint64(w(32)),
		Events:  uint64(w(40))<<32 | uint64(w(39)),
		Device:  w(992),
	}
	for i, x := range []uint32{w(5), w(13), w(14), w(15)} {
		le.PutUint32(s.ID[4*i:], x)
	}
	const disks, most = 128, 27 // descriptors of 32 words: number, major, minor, place, state
	for i := range most {
		at := disks + 32*i
		role := uint16(RoleSpare)
		switch state := w(at + 4); {
		case state&(1<<0) != 0 || state&(1<<3) != 0:
			role = RoleFaulty
		case state&(1<<2) != 0 && w(at+3) < s.Disks:
			role = uint16(w(at + 3))
		}
		s.Roles = append(s.Roles, role)
	}
	return s, nil
}

// For makes the superblock of a new member of the array that s, of one of its members, describes: a spare, which the
// kernel fills. bytes is the new device's size.
func (s *Super) For(number uint32, id [16]byte, bytes uint64) (*Super, error) {
	if s.Minor > 2 {
		return nil, errors.New("arrays of version 0.90 take new members by the kernel alone")
	}
	n := *s
	at, err := place(s.Minor, bytes/512)
	if err != nil {
		return nil, err
	}
	n.Offset, n.Device, n.DeviceID, n.Corrected = at, number, id, 0
	n.Roles = append([]uint16{}, s.Roles...)
	for uint32(len(n.Roles)) <= number {
		n.Roles = append(n.Roles, RoleFaulty)
	}
	n.Roles[number] = RoleSpare
	end := bytes / 512
	if s.Minor == 0 {
		end = at
	}
	if end < n.DataOffset+n.Size {
		return nil, fmt.Errorf(
			"it has %d bytes, %d are needed",
			bytes,
			512*(n.DataOffset+n.Size)+map[bool]uint64{true: 16 * 512}[s.Minor == 0],
		)
	}
	n.DataSize = end - n.DataOffset
	return &n, nil
}
