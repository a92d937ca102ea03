package linux

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"strconv"
	"time"

	"golang.org/x/sys/unix"

	"lantern/internal/agent/direct"
	"lantern/internal/clock"
	"lantern/internal/core/partition"
)

// rereadTable makes the kernel read a partition table again (BLKRRPART of linux/fs.h).
const rereadTable = 0x125F

// shown is how long the kernel may take until it shows new partitions.
const shown = 10 * time.Second

// clearEnds is the length of both ends of a new partition that is cleared, so that no earlier file system appears
// there.
const clearEnds = 1 << 20

// newGUID is a GUID of random bytes, version 4 (RFC 9562 5.4); its first three fields are little-endian on a drive.
func newGUID() (g partition.GUID) {
	_, _ = rand.Read(g[:])
	g[7], g[8] = g[7]&0x0F|0x40, g[8]&0x3F|0x80
	return g
}

// writeTable gives a blank drive the partitions of a table that was made for it, reads them back, and waits until the
// kernel shows them. The device is opened exclusively: the kernel refuses one that is in use.
func writeTable(name, path string, size int64, sector int, old partition.Table) (string, error) {
	t, err := old.For(uint64(size), sector, newGUID, false)
	if err != nil {
		return "", err
	}
	pieces, err := t.Encode(uint64(size))
	if err != nil {
		return "", err
	}
	f, err := os.OpenFile(path, os.O_RDWR|unix.O_EXCL|unix.O_SYNC, 0)
	if err != nil {
		return "", fmt.Errorf("open %s for itself alone: %w", path, err)
	}
	zeros := make([]byte, clearEnds)
	for _, e := range t.Parts {
		from, to := int64(e.First)*int64(sector), int64(e.Last+1)*int64(sector)
		n := min(clearEnds, to-from)
		_, err1 := f.WriteAt(zeros[:n], from)
		_, err2 := f.WriteAt(zeros[:n], to-n)
		err = errors.Join(err, err1, err2)
	}
	for _, p := range pieces {
		if err == nil {
			_, err = f.WriteAt(p.Bytes, p.Offset)
		}
	}
	if err == nil {
		err = f.Sync()
	}
	scanned := true
	if err == nil {
		if _, _, errno := unix.Syscall(unix.SYS_IOCTL, f.Fd(), rereadTable, 0); errno != 0 {
			scanned = false
		}
	}
	if err := errors.Join(err, f.Close()); err != nil {
		return "", fmt.Errorf("write the partition table: %w", err)
	}
	d, err := direct.Open(path)
	if err != nil {
		return "", err
	}
	back, err := partition.Read(d.Fill, uint64(size), sector)
	err = errors.Join(err, d.Close())
	switch {
	case err != nil:
		return "", fmt.Errorf("read the partition table back: %w", err)
	case !back.Same(t) || back.OnlyBackup:
		return "", errors.New("the partition table that is read back is not the one that was written")
	case !scanned:
		return "", errors.New(
			"the partition table was written and read back, and the kernel does not take it over: make it read " +
				"the table anew",
		)
	}
	ctx, cancel := context.WithTimeout(context.Background(), shown)
	defer cancel()
	for _, e := range t.Parts {
		for !partitionShown(name, e.Number) {
			if (clock.Real{}).Sleep(ctx, 20*time.Millisecond) != nil {
				return "", fmt.Errorf(
					"the partition table was written and read back, and the kernel does not show partition %d",
					e.Number,
				)
			}
		}
	}
	return fmt.Sprintf("%d partitions were written, read back, and are shown by the kernel", len(t.Parts)), nil
}

func partitionShown(disk string, number int) bool {
	for _, between := range []string{"", "p"} {
		name := disk + between + strconv.Itoa(number)
		if read("/sys/block/"+disk+"/"+name+"/partition") == strconv.Itoa(number) {
			if _, err := os.Stat("/dev/" + name); err == nil {
				return true
			}
		}
	}
	return false
}
