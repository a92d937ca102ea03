package store

import (
	"errors"
	"os"
	"path/filepath"
	"syscall"
)

// reserveBytes are set aside on the disk when the database is opened. When the disk is full they are given back, so
// that the service can go on to judge and to write for a while, and tell people.
const reserveBytes = 64 << 20

// Room is how much space there is under the database.
type Room struct {
	Free, Total int64
	// Reserved is true while space is set aside for the moment in which there is none left.
	Reserved bool
}

// Room looks at the disk.
func (s *Store) Room() (Room, error) {
	var f syscall.Statfs_t
	if err := syscall.Statfs(filepath.Dir(s.file), &f); err != nil {
		return Room{}, err
	}
	_, err := os.Stat(s.reserve())
	return Room{
		Free:     int64(f.Bavail) * f.Bsize,
		Total:    int64(f.Blocks) * f.Bsize,
		Reserved: err == nil,
	}, nil
}

func (s *Store) reserve() string { return s.file + ".reserve" }

// Reserve sets space aside if there is none yet and four times as much is free.
func (s *Store) Reserve() error {
	r, err := s.Room()
	if err != nil || r.Reserved || r.Free < 4*reserveBytes {
		return err
	}
	f, err := os.OpenFile(s.reserve(), os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	err = syscall.Fallocate(int(f.Fd()), 0, 0, reserveBytes)
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err != nil {
		return errors.Join(err, os.Remove(s.reserve()))
	}
	return nil
}

// release gives the reserve back; done says whether there was one.
func (s *Store) release() (done bool) { return os.Remove(s.reserve()) == nil }
