// Package devmap asks the kernel's device mapper about its devices: read only, through the ioctls of linux/dm-ioctl.h.
// No device is ever made, changed or removed.
package devmap

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Target is one line of a device's table or status. Lengths are in sectors of 512 bytes.
type Target struct {
	Start, Length uint64
	Type          string // "raid", "crypt", "linear", "multipath" …
	Params        string
}

// control is the node of the device mapper; requests of linux/dm-ioctl.h with the type 0xfd and struct dm_ioctl of 312
// bytes.
const (
	control     = "/dev/mapper/control"
	tableStatus = 0xc138fd0c
	headLen     = 312
	nameAt      = 48
	nameLen     = 128
	flagTable   = 1 << 4 // DM_STATUS_TABLE_FLAG: the table, not the status
	flagFull    = 1 << 8 // DM_BUFFER_FULL_FLAG
	flagNoFlush = 1 << 11
	specLen     = 40 // struct dm_target_spec
	mostBuffer  = 1 << 20
)

// Table gives the targets of a device.
func Table(name string) ([]Target, error) { return ask(name, flagTable|flagNoFlush) }

// Status gives the state of the targets of a device.
func Status(name string) ([]Target, error) { return ask(name, flagNoFlush) }

func ask(name string, flags uint32) ([]Target, error) {
	if len(name) >= nameLen {
		return nil, fmt.Errorf(
			"the name of a mapped device has at most %d bytes, %q has %d",
			nameLen-1,
			name,
			len(name),
		)
	}
	f, err := os.OpenFile(control, os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	for size := 16 << 10; size <= mostBuffer; size *= 4 {
		b := make([]byte, size)
		ne := binary.NativeEndian
		ne.PutUint32(b[0:], 4) // every later kernel accepts version 4.0.0
		ne.PutUint32(b[12:], uint32(size))
		ne.PutUint32(b[16:], headLen)
		ne.PutUint32(b[28:], flags)
		copy(b[nameAt:], name)
		if _, _, errno := unix.Syscall(
			unix.SYS_IOCTL,
			f.Fd(),
			tableStatus,
			uintptr(unsafe.Pointer(&b[0])),
		); errno != 0 {
			return nil, fmt.Errorf("device mapper: %s: %w", name, errno)
		}
		if ne.Uint32(b[28:])&flagFull == 0 {
			return parse(b)
		}
	}
	return nil, fmt.Errorf("device mapper: the table of %s is larger than %d bytes", name, mostBuffer)
}

func parse(b []byte) (out []Target, err error) {
	ne := binary.NativeEndian
	at := int(ne.Uint32(b[16:]))
	start := at
	for range ne.Uint32(b[20:]) {
		if at < headLen || at+specLen > len(b) {
			return nil, errors.New("device mapper: the answer is shorter than it says")
		}
		text := b[at+specLen:]
		if end := bytes.IndexByte(text, 0); end >= 0 {
			text = text[:end]
		}
		kind, _, _ := strings.Cut(string(b[at+24:at+40]), "\x00")
		out = append(
			out,
			Target{Start: ne.Uint64(b[at:]), Length: ne.Uint64(b[at+8:]), Type: kind, Params: string(text)},
		)
		at = start + int(ne.Uint32(b[at+20:]))
	}
	return out, nil
}

// Path is one path of a multipath device.
type Path struct {
	Device string // "8:16"
	Failed bool
}

// Paths reads the status of a multipath target (dm-mpath.c, multipath_status): features, handler, groups, each with
// paths as device, A or F, and how often it failed.
func Paths(params string) (out []Path) {
	f := strings.Fields(params)
	for i, w := range f {
		if strings.Count(w, ":") == 1 && i+1 < len(f) && (f[i+1] == "A" || f[i+1] == "F") {
			out = append(out, Path{Device: w, Failed: f[i+1] == "F"})
		}
	}
	return out
}

// Raid is the status of a raid target (Documentation/admin-guide/device-mapper/dm-raid.rst).
type Raid struct {
	Type       string
	Health     string // a letter a device: A alive and in step, a alive and not in step, D dead
	Done, Todo uint64 // sectors
	Action     string // idle, frozen, resync, recover, check, repair, reshape
	Mismatch   uint64
}

// ParseRaid parses it; ok is false for another format.
func ParseRaid(params string) (r Raid, ok bool) {
	f := strings.Fields(params)
	if len(f) < 6 {
		return r, false
	}
	r = Raid{Type: f[0], Health: f[2], Action: f[4]}
	if _, err := fmt.Sscanf(f[3], "%d/%d", &r.Done, &r.Todo); err != nil {
		return r, false
	}
	_, err := fmt.Sscan(f[5], &r.Mismatch)
	return r, err == nil
}
