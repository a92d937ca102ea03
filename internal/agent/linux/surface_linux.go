package linux

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"

	"golang.org/x/sys/unix"

	"lantern/internal/agent"
)

// surface is a block device opened for itself alone, past all caches.
type surface struct {
	f         *os.File
	mem, back []byte
}

const stretch = 4 << 20

// OpenSurface opens a block device to be written from end to end. O_EXCL makes the kernel refuse a device that is
// mounted or in use by anybody (open(2)).
func OpenSurface(path string) (agent.Surface, error) {
	fd, err := unix.Open(path, unix.O_RDWR|unix.O_DIRECT|unix.O_EXCL|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("open %s for itself alone: %w", path, err)
	}
	// Memory of its own pages: direct transfers want it aligned.
	mem, err := unix.Mmap(-1, 0, 2*stretch, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE)
	if err != nil {
		unix.Close(fd)
		return nil, err
	}
	return &surface{os.NewFile(uintptr(fd), path), mem[:stretch], mem[stretch:]}, nil
}

func (s *surface) Stretch() int64 { return stretch }

func (s *surface) Write(_ context.Context, at, n int64, seed uint64) error {
	agent.Pattern(s.mem[:n], at, seed)
	if _, err := s.f.WriteAt(s.mem[:n], at); err != nil {
		return err
	}
	return unix.Fdatasync(int(s.f.Fd()))
}

func (s *surface) Verify(_ context.Context, at, n int64, seed uint64) (int64, error) {
	agent.Pattern(s.mem[:n], at, seed)
	if _, err := s.f.ReadAt(s.back[:n], at); err != nil {
		return at, err
	}
	if bytes.Equal(s.mem[:n], s.back[:n]) {
		return -1, nil
	}
	for i := int64(0); i < n; i += 512 {
		if !bytes.Equal(s.mem[i:i+512], s.back[i:i+512]) {
			return at + i, nil
		}
	}
	return at, nil
}

func (s *surface) Blank(_ context.Context, size int64) error {
	const end = 1 << 20
	clear(s.mem[:end])
	_, err := s.f.WriteAt(s.mem[:end], 0)
	_, err2 := s.f.WriteAt(s.mem[:end], max(0, size-end)&^4095)
	return errors.Join(err, err2, unix.Fdatasync(int(s.f.Fd())))
}

func (s *surface) Close() error {
	err := unix.Munmap(s.mem[: 2*stretch : 2*stretch])
	return errors.Join(err, s.f.Close())
}
