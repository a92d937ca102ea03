package linux

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"sync"

	"golang.org/x/sys/unix"

	"lantern/internal/agent"
)

// surface is a block device opened exclusively, past all caches.
type surface struct {
	f   *os.File
	all []byte // memory of its own pages: direct transfers want it aligned
}

// A stretch is worked on in parts, several at once: while one is being written, the next is made, and while one is
// being read, another is compared.
const (
	stretch = 16 << 20
	part    = 1 << 20
	workers = 4
)

// OpenSurface opens a block device to be written from end to end. With O_EXCL the kernel refuses a device that is
// mounted or in use (open(2)).
func OpenSurface(path string) (agent.Surface, error) {
	fd, err := unix.Open(path, unix.O_RDWR|unix.O_DIRECT|unix.O_EXCL|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("open %s for itself alone: %w", path, err)
	}
	all, err := unix.Mmap(-1, 0, 2*part*workers, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE)
	if err != nil {
		unix.Close(fd)
		return nil, err
	}
	return &surface{os.NewFile(uintptr(fd), path), all}, nil
}

func (s *surface) Stretch() int64 { return stretch }

// parts lets the workers go through n bytes at an address; each has memory for two parts. What is wrong first is given:
// an error, or an address that is not -1.
func (s *surface) parts(at, n int64, do func(mem, back []byte, at int64) (bad int64, err error)) (int64, error) {
	type found struct {
		at, bad int64
		err     error
	}
	var mu sync.Mutex
	first := found{at: math.MaxInt64, bad: -1}
	next, end := at, at+n
	var all sync.WaitGroup
	for w := range int64(workers) {
		mem, back := s.all[2*w*part:(2*w+1)*part], s.all[(2*w+1)*part:2*(w+1)*part]
		all.Go(func() {
			for {
				mu.Lock()
				from := next
				next += part
				stop := from >= end || first.at < from
				mu.Unlock()
				if stop {
					return
				}
				size := min(part, end-from)
				bad, err := do(mem[:size], back[:size], from)
				if err == nil && bad < 0 {
					continue
				}
				mu.Lock()
				if from < first.at {
					first = found{from, bad, err}
				}
				mu.Unlock()
			}
		})
	}
	all.Wait()
	return first.bad, first.err
}

func (s *surface) Write(_ context.Context, at, n int64, seed uint64) error {
	_, err := s.parts(at, n, func(mem, _ []byte, at int64) (int64, error) {
		agent.Pattern(mem, at, seed)
		_, err := s.f.WriteAt(mem, at)
		return -1, err
	})
	return err
}

// Sync makes the drive empty its own cache (fdatasync(2)).
func (s *surface) Sync(context.Context) error { return unix.Fdatasync(int(s.f.Fd())) }

func (s *surface) Verify(_ context.Context, at, n int64, seed uint64) (int64, error) {
	return s.parts(at, n, func(mem, back []byte, at int64) (int64, error) {
		if _, err := s.f.ReadAt(back, at); err != nil {
			return at, err
		}
		agent.Pattern(mem, at, seed)
		if bytes.Equal(mem, back) {
			return -1, nil
		}
		for i := 0; i < len(mem); i += 512 {
			if !bytes.Equal(mem[i:i+512], back[i:i+512]) {
				return at + int64(i), nil
			}
		}
		return at, nil
	})
}

func (s *surface) Blank(_ context.Context, size int64) error {
	const end = 1 << 20
	clear(s.all[:end])
	_, err := s.f.WriteAt(s.all[:end], 0)
	_, err2 := s.f.WriteAt(s.all[:end], max(0, size-end)&^4095)
	return errors.Join(err, err2, unix.Fdatasync(int(s.f.Fd())))
}

func (s *surface) Close() error {
	err := unix.Munmap(s.all)
	return errors.Join(err, s.f.Close())
}
