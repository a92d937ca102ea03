//go:build linux

package linux

import (
	"context"
	"encoding/binary"
	"fmt"
	"os"
	"runtime"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"lantern/internal/core/drive"
)

// Transport sends commands to the device at a path: SCSI command blocks through SG_IO (scsi/sg.h), NVMe admin commands
// through the kernel's pass-through (linux/nvme_ioctl.h). The device is opened for each command, so that a removed
// drive is never kept open.
type Transport struct{ Path string }

const (
	sgIO           = 0x2285
	nvmeAdmin      = 0xC0484E41
	sgFromDevice   = -3
	sgToDevice     = -2
	sgNone         = -1
	checkCondition = 0x02
	defaultLimit   = 20 * time.Second
)

// sgHeader is struct sg_io_hdr as 64-bit kernels lay it out.
type sgHeader struct {
	interfaceID    int32
	direction      int32
	cmdLen         uint8
	maxSense       uint8
	iovecs         uint16
	length         uint32
	data           unsafe.Pointer
	cmd            unsafe.Pointer
	sense          unsafe.Pointer
	timeout        uint32
	flags          uint32
	packID         int32
	_              int32
	user           unsafe.Pointer
	status         uint8
	maskedStatus   uint8
	message        uint8
	senseWritten   uint8
	hostStatus     uint16
	driverStatus   uint16
	residual       int32
	duration, info uint32
}

// Execute executes one command, within the time limit of ctx.
func (t Transport) Execute(ctx context.Context, cdb, in []byte) ([]byte, error) {
	limit := defaultLimit
	if end, ok := ctx.Deadline(); ok {
		limit = time.Until(end)
	}
	if limit <= 0 {
		return nil, context.DeadlineExceeded
	}
	// Non-blocking, so that opening never waits; read-only, since closing a device that was open for writing makes the
	// whole system examine it again.
	f, err := os.OpenFile(t.Path, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if len(cdb) == drive.NVMeCommandSize {
		return nil, t.nvme(f, cdb, in, limit)
	}
	return t.sg(f, cdb, in, limit)
}

func (t Transport) sg(f *os.File, cdb, in []byte, limit time.Duration) ([]byte, error) {
	sense := make([]byte, 64)
	h := sgHeader{
		interfaceID: 'S',
		direction:   sgNone,
		cmdLen:      uint8(len(cdb)),
		maxSense:    uint8(len(sense)),
		cmd:         unsafe.Pointer(&cdb[0]),
		sense:       unsafe.Pointer(&sense[0]),
		timeout:     uint32(limit / time.Millisecond),
	}
	if len(in) > 0 {
		h.direction, h.length, h.data = sgFromDevice, uint32(len(in)), unsafe.Pointer(&in[0])
		if drive.Sends(cdb) {
			h.direction = sgToDevice
		}
	}
	_, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), sgIO, uintptr(unsafe.Pointer(&h)))
	runtime.KeepAlive(in)
	if errno != 0 {
		return nil, fmt.Errorf("%s: %w", t.Path, errno)
	}
	sense = sense[:h.senseWritten]
	switch {
	case h.hostStatus != 0:
		return sense, fmt.Errorf("%s: the host bus adapter reports %02Xh", t.Path, h.hostStatus)
	case h.status == checkCondition && refuses(sense):
		return sense, fmt.Errorf("%s refused the command: sense %x", t.Path, sense)
	case h.status != 0 && h.status != checkCondition:
		return sense, fmt.Errorf("%s: SCSI status %02Xh", t.Path, h.status)
	}
	return sense, nil
}

// refuses reports whether sense data means that the command was not executed: a recovered error does not; ATA registers
// are returned that way too.
func refuses(sense []byte) bool {
	key := byte(0)
	switch {
	case len(sense) >= 3 && sense[0]&0x7F <= 0x71:
		key = sense[2] & 0xF
	case len(sense) >= 2:
		key = sense[1] & 0xF
	}
	return key > 1
}

// nvme carries out an admin command: struct nvme_passthru_cmd has the submission entry's fields, then a time limit.
func (t Transport) nvme(f *os.File, cmd, in []byte, limit time.Duration) error {
	b := make([]byte, 72)
	copy(b, cmd[:8])
	copy(b[40:], cmd[40:64]) // command dwords 10 to 15
	if len(in) > 0 {
		binary.NativeEndian.PutUint64(b[24:], uint64(uintptr(unsafe.Pointer(&in[0]))))
		binary.NativeEndian.PutUint32(b[36:], uint32(len(in)))
	}
	binary.NativeEndian.PutUint32(b[64:], uint32(limit/time.Millisecond))
	status, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), nvmeAdmin, uintptr(unsafe.Pointer(&b[0])))
	runtime.KeepAlive(in)
	switch {
	case errno != 0:
		return fmt.Errorf("%s: %w", t.Path, errno)
	case status != 0:
		return fmt.Errorf("%s refused the command: NVMe status %04Xh", t.Path, status)
	}
	return nil
}
