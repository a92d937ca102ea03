//go:build linux

package btrfs

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Requests of linux/btrfs.h, as they are on every architecture with the generic ioctl encoding.
const (
	iocAddDev          = 0x5000940a
	iocSpaceInfo       = 0xc0109414
	iocScrub           = 0xc400941b
	iocScrubCancel     = 0x0000941c
	iocScrubProgress   = 0xc400941d
	iocDevInfo         = 0xd000941e
	iocFSInfo          = 0x8400941f
	iocRemoveDevice    = 0x5000943a
	iocBalance         = 0xc4009420
	iocBalanceCtl      = 0x40049421
	iocBalanceProgress = 0x84009422
	iocFSLabel         = 0x81009431
	iocDevStats        = 0xc4089434
	iocDevReplace      = 0xca289435
)

var le = binary.LittleEndian

// control sends one request; buf is the structure as the header lays it out.
func control(f *os.File, request uint, buf []byte) error {
	var p unsafe.Pointer
	if len(buf) > 0 {
		p = unsafe.Pointer(&buf[0])
	}
	_, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), uintptr(request), uintptr(p))
	if errno != 0 {
		return errno
	}
	return nil
}

// fsInfo is struct btrfs_ioctl_fs_info_args.
type fsInfo struct {
	maxID, devices uint64
	id             string
}

func readFSInfo(f *os.File) (i fsInfo, err error) {
	b := make([]byte, 1024)
	if err = control(f, iocFSInfo, b); err != nil {
		return i, fmt.Errorf("ask btrfs for its identity: %w", err)
	}
	i.maxID, i.devices = le.Uint64(b), le.Uint64(b[8:])
	u := b[16:32]
	i.id = fmt.Sprintf("%x-%x-%x-%x-%x", u[0:4], u[4:6], u[6:8], u[8:10], u[10:16])
	return i, nil
}

func readLabel(f *os.File) string {
	b := make([]byte, 256)
	if control(f, iocFSLabel, b) != nil {
		return ""
	}
	return text(b)
}

// device is struct btrfs_ioctl_dev_info_args.
type device struct {
	id, used, total uint64
	path            string
}

func readDevice(f *os.File, id uint64) (d device, err error) {
	b := make([]byte, 4096)
	le.PutUint64(b, id)
	if err = control(f, iocDevInfo, b); err != nil {
		return d, err
	}
	return device{id: id, used: le.Uint64(b[24:]), total: le.Uint64(b[32:]), path: text(b[3072:])}, nil
}

// devStats are the counters of struct btrfs_ioctl_get_dev_stats, kept by the file system since it was made or since
// somebody cleared them.
type devStats struct{ write, read, flush, corruption, generation uint64 }

func readDevStats(f *os.File, id uint64) (s devStats, err error) {
	b := make([]byte, 1032)
	le.PutUint64(b, id)
	le.PutUint64(b[8:], 5)
	if err = control(f, iocDevStats, b); err != nil {
		return s, err
	}
	at := func(i int) uint64 { return le.Uint64(b[24+8*i:]) }
	return devStats{at(0), at(1), at(2), at(3), at(4)}, nil
}

// space is one entry of struct btrfs_ioctl_space_args: a kind of block group with its profile.
type space struct{ flags, total, used uint64 }

// Bits of the flags, linux/btrfs_tree.h BTRFS_BLOCK_GROUP_*.
const (
	groupData     = 1 << 0
	groupSystem   = 1 << 1
	groupMetadata = 1 << 2
	globalReserve = 1 << 49
)

func readSpace(f *os.File) ([]space, error) {
	head := make([]byte, 16)
	if err := control(f, iocSpaceInfo, head); err != nil {
		return nil, err
	}
	n := le.Uint64(head[8:])
	b := make([]byte, 16+24*n)
	le.PutUint64(b, n)
	if err := control(f, iocSpaceInfo, b); err != nil {
		return nil, err
	}
	var out []space
	for i := range min(n, le.Uint64(b[8:])) {
		e := b[16+24*i:]
		out = append(out, space{le.Uint64(e), le.Uint64(e[8:]), le.Uint64(e[16:])})
	}
	return out, nil
}

// States and commands of struct btrfs_ioctl_dev_replace_args.
const (
	replaceStart  = 0
	replaceStatus = 1
	replaceCancel = 2

	replaceNever     = 0
	replaceStarted   = 1
	replaceFinished  = 2
	replaceCanceled  = 3
	replaceSuspended = 4

	readSourceAlways = 0
	readSourceAvoid  = 1
)

type replacement struct {
	state, thousandths                uint64
	started, stopped                  time.Time
	writeErrors, uncorrectableReading uint64
}

func readReplacement(f *os.File) (r replacement, err error) {
	b := make([]byte, 2600)
	le.PutUint64(b, replaceStatus)
	if err = control(f, iocDevReplace, b); err != nil {
		return r, err
	}
	at := func(i int) uint64 { return le.Uint64(b[16+8*i:]) }
	return replacement{at(0), at(1), seconds(at(2)), seconds(at(3)), at(4), at(5)}, nil
}

// replace starts a replacement and returns when it has ended: the kernel works inside the call.
func replace(f *os.File, devid uint64, readSource uint64, target string) error {
	b := make([]byte, 2600)
	le.PutUint64(b, replaceStart)
	le.PutUint64(b[16:], devid)
	le.PutUint64(b[24:], readSource)
	copy(b[0x421:0x421+1024], target)
	if err := control(f, iocDevReplace, b); err != nil {
		return err
	}
	switch result := le.Uint64(b[8:]); result {
	case 0:
		return nil
	case 2:
		return fmt.Errorf("another replacement is under way")
	case 3:
		return fmt.Errorf("a scrub is under way")
	default:
		return fmt.Errorf("the kernel did not start it (result %d)", result)
	}
}

func cancelReplacement(f *os.File) error {
	b := make([]byte, 2600)
	le.PutUint64(b, replaceCancel)
	return control(f, iocDevReplace, b)
}

// scrubProgress is struct btrfs_scrub_progress.
type scrubProgress struct {
	bytes                                           uint64
	read, csum, verify, super, uncorrectable, fixed uint64
}

func (p scrubProgress) found() uint64 { return p.read + p.csum + p.verify + p.super }

func (p *scrubProgress) add(q scrubProgress) {
	p.bytes += q.bytes
	p.read, p.csum, p.verify, p.super = p.read+q.read, p.csum+q.csum, p.verify+q.verify, p.super+q.super
	p.uncorrectable, p.fixed = p.uncorrectable+q.uncorrectable, p.fixed+q.fixed
}

func decodeScrub(b []byte) scrubProgress {
	at := func(i int) uint64 { return le.Uint64(b[32+8*i:]) }
	return scrubProgress{
		bytes:         at(2) + at(3),
		read:          at(4),
		csum:          at(5),
		verify:        at(6),
		super:         at(9),
		uncorrectable: at(11),
		fixed:         at(12),
	}
}

// scrub reads one device through and returns when it has ended.
func scrub(f *os.File, devid uint64) (scrubProgress, error) {
	b := make([]byte, 1024)
	le.PutUint64(b, devid)
	le.PutUint64(b[16:], ^uint64(0))
	err := control(f, iocScrub, b)
	return decodeScrub(b), err
}

func readScrub(f *os.File, devid uint64) (scrubProgress, error) {
	b := make([]byte, 1024)
	le.PutUint64(b, devid)
	err := control(f, iocScrubProgress, b)
	return decodeScrub(b), err
}

// balanceProgress is struct btrfs_balance_progress: all numbers are chunks.
type balanceProgress struct{ expected, considered, completed uint64 }

func decodeBalance(b []byte) balanceProgress {
	return balanceProgress{le.Uint64(b[0x1a8:]), le.Uint64(b[0x1b0:]), le.Uint64(b[0x1b8:])}
}

// balance relocates every chunk, or with below those that are used by less than that share, and returns when it has
// ended. struct btrfs_ioctl_balance_args: flags, state, then a struct btrfs_balance_args of 136 bytes each for data,
// metadata and system, in which the usage filter's percentage is at 8 and the flags at 64.
func balance(f *os.File, below float64) (balanceProgress, error) {
	const argsAt, argsLen, usageAt, flagsAt, byUsage = 16, 136, 8, 64, 1 << 1
	b := make([]byte, 1024)
	le.PutUint64(b, groupData|groupSystem|groupMetadata)
	if below > 0 && below < 1 {
		le.PutUint64(b, groupData|groupMetadata)
		for i := range 2 {
			args := b[argsAt+i*argsLen:]
			le.PutUint64(args[usageAt:], uint64(100*below))
			le.PutUint64(args[flagsAt:], byUsage)
		}
	}
	err := control(f, iocBalance, b)
	return decodeBalance(b), err
}

// resumeBalance lets a balance that was paused go on (BTRFS_BALANCE_RESUME), and returns when it has ended.
func resumeBalance(f *os.File) error {
	const resume = 1 << 5
	b := make([]byte, 1024)
	le.PutUint64(b, resume)
	return control(f, iocBalance, b)
}

func readBalance(f *os.File) (balanceProgress, error) {
	b := make([]byte, 1024)
	err := control(f, iocBalanceProgress, b)
	return decodeBalance(b), err
}

func cancelBalance(f *os.File) error {
	_, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), iocBalanceCtl, 2)
	if errno != 0 {
		return errno
	}
	return nil
}

// addDevice makes a device at a path a further member.
func addDevice(f *os.File, path string) error {
	b := make([]byte, 4096)
	copy(b[8:4095], path)
	return control(f, iocAddDev, b)
}

// removeDevice empties a device and makes it no member any more; it returns when that has ended. struct
// btrfs_ioctl_vol_args_v2: the flags are at 16, the device's number at 56.
func removeDevice(f *os.File, devid uint64) error {
	const byID = 1 << 3
	b := make([]byte, 4096)
	le.PutUint64(b[16:], byID)
	le.PutUint64(b[56:], devid)
	return control(f, iocRemoveDevice, b)
}

func text(b []byte) string {
	if i := bytes.IndexByte(b, 0); i >= 0 {
		b = b[:i]
	}
	return string(b)
}

func seconds(s uint64) time.Time {
	if s == 0 {
		return time.Time{}
	}
	return time.Unix(int64(s), 0).UTC()
}
