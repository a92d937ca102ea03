//go:build linux

package linux

import (
	"bytes"
	"context"
	"errors"
	"time"

	"golang.org/x/sys/unix"

	"lantern/internal/clock"
)

// ueventGroup is the multicast group of the kernel's device events (lib/kobject_uevent.c); the other one is udev's.
const ueventGroup = 1

// Changes signals the kernel's events that a block device appeared, vanished or changed. Without a socket there are no
// signals, and the machine is examined at intervals.
func (m *Machine) Changes(ctx context.Context) <-chan struct{} {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_KOBJECT_UEVENT)
	if err != nil {
		return nil
	}
	if err := unix.Bind(fd, &unix.SockaddrNetlink{Family: unix.AF_NETLINK, Groups: ueventGroup}); err != nil {
		_ = unix.Close(fd)
		return nil
	}
	// Reading times out regularly, to check whether it is still wanted.
	_ = unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Sec: 5})
	out := make(chan struct{}, 1)
	tell := func() {
		select {
		case out <- struct{}{}:
		default: // it was told already
		}
	}
	go watch(ctx, tell)
	go func() {
		defer unix.Close(fd)
		b := make([]byte, 1<<16)
		for ctx.Err() == nil {
			n, _, err := unix.Recvfrom(fd, b, 0)
			switch {
			case errors.Is(err, unix.EAGAIN), errors.Is(err, unix.EINTR):
				continue
			case errors.Is(err, unix.ENOBUFS): // events were lost: something changed
			case err != nil:
				return
			case !ofBlockDevice(b[:n]):
				continue
			}
			tell()
		}
	}()
	return out
}

// told are files with which the kernel signals changes (poll(2), POLLPRI): arrays of md, mounts, swap.
var told = []string{"/proc/mdstat", "/proc/1/mountinfo", "/proc/swaps"}

// watch waits for those files until ctx ends. A file that cannot be opened, or gives no signals, is skipped.
func watch(ctx context.Context, tell func()) {
	var fds []unix.PollFd
	for _, path := range told {
		fd, err := unix.Open(path, unix.O_RDONLY|unix.O_CLOEXEC, 0)
		if err != nil {
			continue
		}
		defer unix.Close(fd)
		drain(fd)
		fds = append(fds, unix.PollFd{Fd: int32(fd), Events: unix.POLLPRI})
	}
	for ctx.Err() == nil && len(fds) > 0 {
		n, err := unix.Poll(fds, 5000)
		if err != nil && !errors.Is(err, unix.EINTR) {
			return
		}
		for i := range fds {
			if n > 0 && fds[i].Revents&(unix.POLLPRI|unix.POLLERR) != 0 {
				drain(int(fds[i].Fd)) // what was read is not told again
				tell()
			}
		}
		if n > 0 {
			_ = clock.Real{}.Sleep(ctx, 100*time.Millisecond) // many changes at once are one
		}
	}
}

func drain(fd int) {
	b := make([]byte, 1<<16)
	_, _ = unix.Seek(fd, 0, 0)
	for {
		if n, err := unix.Read(fd, b); n <= 0 || err != nil {
			return
		}
	}
}

// ofBlockDevice reports whether an event is about a block device, whole or a partition; it reads an event: strings that
// end in a zero byte, the first ACTION@DEVPATH, the others KEY=VALUE.
func ofBlockDevice(event []byte) bool {
	return bytes.Contains(event, []byte("\x00SUBSYSTEM=block\x00"))
}
