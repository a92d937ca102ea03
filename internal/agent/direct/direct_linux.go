// Package direct reads devices past the page cache. The kernel's own users of a device (md, a file system) bypass it
// too when they write, so a cached page would stay old while they hold the device.
package direct

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/sys/unix"
)

// align is the alignment of memory, length and offset: a page is enough for every block device (open(2), O_DIRECT).
const align = 4096

// File is an opened device. It implements io.ReaderAt.
type File struct {
	fd   int
	path string
	disk string // name of the whole disk in sysfs; empty if it is no block device
	// Size in bytes.
	Size int64
}

// Open opens a device for reading.
func Open(path string) (*File, error) {
	fd, err := unix.Open(path, unix.O_RDONLY|unix.O_DIRECT|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	size, err := unix.Seek(fd, 0, io.SeekEnd)
	if err != nil {
		unix.Close(fd)
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return &File{fd, path, Disk(path), size}, nil
}

// Disk is the kernel's name of the whole disk of a device node or partition, from sysfs; empty if it is no block
// device.
func Disk(path string) string {
	if filepath.Dir(path) != "/dev" {
		return ""
	}
	at, err := filepath.EvalSymlinks("/sys/class/block/" + filepath.Base(path))
	if err != nil {
		return ""
	}
	if _, err := os.Stat(at + "/partition"); err == nil {
		at = filepath.Dir(at)
	}
	return filepath.Base(at)
}

// Fill reads len(b) bytes from at, or fails: a device that ends before that is io.ErrUnexpectedEOF.
func (f *File) Fill(at int64, b []byte) error {
	_, err := f.ReadAt(b, at)
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

// count is our part of a disk's I/O.
type count struct{ reads, ms uint64 }

var (
	mu  sync.Mutex
	own = map[string]count{}
)

// Own is the number of reads of a disk by this package, and their time in milliseconds, as counted by the kernel.
func Own(disk string) (reads, ms uint64) {
	mu.Lock()
	defer mu.Unlock()
	return own[disk].reads, own[disk].ms
}

// counted are fields 1 and 4 of a disk's statistics: reads, and the milliseconds they took
// (Documentation/block/stat.rst).
func counted(disk string) (c count) {
	b, _ := os.ReadFile("/sys/block/" + disk + "/stat")
	if f := strings.Fields(string(b)); len(f) > 3 {
		c.reads, _ = strconv.ParseUint(f[0], 10, 64)
		c.ms, _ = strconv.ParseUint(f[3], 10, 64)
	}
	return c
}

// ReadAt reads what the device holds now.
func (f *File) ReadAt(b []byte, at int64) (int, error) {
	if len(b) == 0 {
		return 0, nil
	}
	from := at &^ (align - 1)
	to := (at + int64(len(b)) + align - 1) &^ (align - 1)
	pages, err := unix.Mmap(-1, 0, int(to-from), unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE)
	if err != nil {
		return 0, err
	}
	defer func() { _ = unix.Munmap(pages) }()
	var before count
	if f.disk != "" {
		before = counted(f.disk)
	}
	n, err := unix.Pread(f.fd, pages, from)
	if f.disk != "" {
		after := counted(f.disk)
		mu.Lock()
		was := own[f.disk]
		own[f.disk] = count{was.reads + after.reads - before.reads, was.ms + after.ms - before.ms}
		mu.Unlock()
	}
	if err != nil {
		return 0, fmt.Errorf("%s: %w", f.path, err)
	}
	copied := copy(b, pages[min(at-from, int64(n)):n])
	if copied < len(b) {
		return copied, io.EOF
	}
	return copied, nil
}

// Close closes the device.
func (f *File) Close() error { return unix.Close(f.fd) }
