package btrfs

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"strconv"
	"strings"

	"lantern/internal/agent/direct"
	"lantern/internal/agent/pools"
	"lantern/internal/core/pool"
)

// super is what the super block on a device says of its file system and of itself (struct btrfs_super_block of
// linux/btrfs_tree.h).
type super struct {
	FS         string // 32 hexadecimal digits
	Generation uint64
	Devices    uint64
	Device     uint64 // this device's number
	DeviceFS   string // the file system that its own device item names
}

const (
	superAt    = 64 << 10
	superSize  = 4096
	superMagic = "_BHRfS_M"
	itemAt     = 0xc9 // struct btrfs_dev_item
)

var errNoSuper = errors.New("no btrfs super block")

// decodeSuper takes a super block apart. Where its checksum is of a kind that is known here, it must be right.
func decodeSuper(b []byte) (s super, err error) {
	le := binary.LittleEndian
	if len(b) < superSize || string(b[0x40:0x48]) != superMagic || le.Uint64(b[0x30:]) != superAt {
		return s, errNoSuper
	}
	switch kind := le.Uint16(b[0xc4:]); kind {
	case 0:
		if crc32.Checksum(b[0x20:superSize], crc32.MakeTable(crc32.Castagnoli)) != le.Uint32(b) {
			return s, fmt.Errorf("the checksum of its super block is wrong")
		}
	case 2:
		if sum := sha256.Sum256(b[0x20:superSize]); !bytes.Equal(sum[:], b[:32]) {
			return s, fmt.Errorf("the checksum of its super block is wrong")
		}
	}
	return super{
		FS:         hex.EncodeToString(b[0x20:0x30]),
		Generation: le.Uint64(b[0x48:]),
		Devices:    le.Uint64(b[0x88:]),
		Device:     le.Uint64(b[itemAt:]),
		DeviceFS:   hex.EncodeToString(b[itemAt+82 : itemAt+98]),
	}, nil
}

func readSuper(path string) (super, error) {
	f, err := direct.Open(path)
	if err != nil {
		return super{}, err
	}
	defer f.Close()
	b := make([]byte, superSize)
	if _, err := f.ReadAt(b, superAt); err != nil {
		return super{}, err
	}
	return decodeSuper(b)
}

// witness reads the super blocks of all members past the page cache, and lays them beside what the kernel says.
func (d *Driver) witness(p *pool.Pool) *pools.Witness {
	read := map[string]super{}
	failed := map[string]string{}
	newest := uint64(0)
	look := func(m *pool.Member) {
		s, err := readSuper("/dev/" + m.Device)
		if err != nil {
			failed[m.Slot] = "its super block cannot be read: " + err.Error()
			return
		}
		delete(failed, m.Slot)
		read[m.Slot] = s
	}
	unread := false
	p.Everyone(func(_ string, m *pool.Member) {
		if m.Device == "" || m.Lost() {
			return
		}
		if d.Asleep != nil && d.Asleep(m.Device) {
			failed[m.Slot], unread = "its drive is in standby, and was not woken to be read", true
			return
		}
		look(m)
		newest = max(newest, read[m.Slot].Generation)
	})
	var by []pool.Testimony
	p.Everyone(func(_ string, m *pool.Member) {
		s, ok := read[m.Slot]
		if ok && s.Generation < newest {
			look(m) // it may have been read just before the newest was written
			s = read[m.Slot]
		}
		if !ok && failed[m.Slot] == "" {
			return
		}
		by = append(by, testify(p.ID, m.Slot, s, failed[m.Slot], newest))
	})
	return &pools.Witness{Source: "btrfs super blocks on the members", Differs: p.Disagreements(by), Unread: unread}
}

// testify reports whether a super block bears out that its device is the member at a place now.
func testify(fs, slot string, s super, failed string, newest uint64) pool.Testimony {
	t := pool.Testimony{Slot: slot}
	id := strings.ReplaceAll(fs, "-", "")
	switch {
	case failed != "":
		t.Says = failed
	case s.FS != id || s.DeviceFS != id:
		t.Says = "the super block on it belongs to another file system"
	case strconv.FormatUint(s.Device, 10) != slot:
		t.Says = fmt.Sprintf("the super block on it says that it is device %d", s.Device)
	case s.Generation < newest:
		t.Says = fmt.Sprintf("the super block on it is of generation %d, the newest is %d", s.Generation, newest)
	default:
		t.Agrees = true
	}
	return t
}
