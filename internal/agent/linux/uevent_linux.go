//go:build linux

package linux

import (
	"bytes"
	"context"
	"errors"

	"golang.org/x/sys/unix"
)

// ueventGroup is the multicast group on which the kernel tells of devices (lib/kobject_uevent.c); udev tells on the other.
const ueventGroup = 1

// Changes tells when the kernel says that a block device came, went or changed. Where its socket cannot be had, nothing is
// told, and the machine is looked at now and then.
func (m *Machine) Changes(ctx context.Context) <-chan struct{} {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_KOBJECT_UEVENT)
	if err != nil {
		return nil
	}
	if err := unix.Bind(fd, &unix.SockaddrNetlink{Family: unix.AF_NETLINK, Groups: ueventGroup}); err != nil {
		_ = unix.Close(fd)
		return nil
	}
	// Reading ends now and then, to see whether it is still wanted.
	_ = unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &unix.Timeval{Sec: 1})
	out := make(chan struct{}, 1)
	go func() {
		defer unix.Close(fd)
		b := make([]byte, 1<<16)
		for ctx.Err() == nil {
			n, _, err := unix.Recvfrom(fd, b, 0)
			switch {
			case errors.Is(err, unix.EAGAIN), errors.Is(err, unix.EINTR):
				continue
			case errors.Is(err, unix.ENOBUFS): // more came than was read: something changed
			case err != nil:
				return
			case !ofBlockDevice(b[:n]):
				continue
			}
			select {
			case out <- struct{}{}:
			default: // it was told already
			}
		}
	}()
	return out
}

// ofBlockDevice reads an event: strings that end in a zero byte, the first ACTION@DEVPATH, the others KEY=VALUE.
func ofBlockDevice(event []byte) bool {
	return bytes.Contains(event, []byte("\x00SUBSYSTEM=block\x00")) && !bytes.Contains(event, []byte("\x00DEVTYPE=partition\x00"))
}
