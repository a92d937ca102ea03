// Package direct reads devices past the page cache. What the kernel's own users of a device (md, a file system) write goes past
// it as well, so a page that was read before they wrote is never read anew while they hold the device.
package direct

import (
	"fmt"
	"io"

	"golang.org/x/sys/unix"
)

// align is what memory, length and offset are aligned to: a page is enough for every block device (open(2), O_DIRECT).
const align = 4096

// File is an opened device. It implements io.ReaderAt.
type File struct {
	fd   int
	path string
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
	return &File{fd, path, size}, nil
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
	n, err := unix.Pread(f.fd, pages, from)
	if err != nil {
		return 0, fmt.Errorf("%s: %w", f.path, err)
	}
	copied := copy(b, pages[min(at-from, int64(n)):n])
	if copied < len(b) {
		return copied, io.EOF
	}
	return copied, nil
}

// Close lets go of the device.
func (f *File) Close() error { return unix.Close(f.fd) }
