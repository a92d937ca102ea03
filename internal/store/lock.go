package store

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"syscall"
)

// lock prevents a second service on the same records. It is a lock of the kernel (flock(2)), so it always ends with the
// process.
type lock struct{ f *os.File }

// takeLock takes the lock, or says which process has it.
func takeLock(file string) (*lock, error) {
	f, err := os.OpenFile(file+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
	if err == nil {
		l := &lock{f}
		return l, l.say("")
	}
	defer f.Close()
	if !errors.Is(err, syscall.EWOULDBLOCK) {
		return nil, fmt.Errorf("lock %s: %w", f.Name(), err)
	}
	who, _ := io.ReadAll(io.LimitReader(f, 500))
	says := strings.TrimSpace(string(who))
	if says == "" {
		says = "another process"
	}
	return nil, fmt.Errorf("%s is in use by %s. Stop that, or choose another folder with --data", file, says)
}

// Unused reports whether no process has a database open, and if one has, which.
func Unused(file string) error {
	if _, err := os.Stat(file); errors.Is(err, os.ErrNotExist) {
		return nil
	}
	l, err := takeLock(file)
	if err != nil {
		return err
	}
	return l.release()
}

// say writes into the file which process has the lock, for the error of others.
func (l *lock) say(address string) error {
	text := fmt.Sprintf("process %d", os.Getpid())
	if address != "" {
		text += ", which serves " + address
	}
	if err := l.f.Truncate(0); err != nil {
		return err
	}
	_, err := l.f.WriteAt([]byte(text+"\n"), 0)
	return err
}

func (l *lock) release() error { return l.f.Close() }
