package agent

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"lantern/internal/api"
)

// spoolBound is how many reports are kept for later; beyond it the oldest go, since the newest say what is true now.
const spoolBound = 5000

// spool keeps reports that could not be delivered, one file each, named so that they sort by age.
type spool struct {
	dir   string
	mu    sync.Mutex
	names []string
}

func openSpool(dir string) (*spool, error) {
	s := &spool{dir: filepath.Join(dir, "undelivered")}
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if strings.HasSuffix(e.Name(), ".json") {
			s.names = append(s.names, e.Name())
		}
	}
	slices.Sort(s.names)
	return s, nil
}

func (s *spool) count() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.names)
}

func (s *spool) put(r api.Report) error {
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	name := r.Id + ".json"
	if err := writeWhole(filepath.Join(s.dir, name), b); err != nil {
		return fmt.Errorf("keep a report for later: %w", err)
	}
	s.mu.Lock()
	s.names = append(s.names, name)
	over := ""
	if len(s.names) > spoolBound {
		over, s.names = s.names[0], s.names[1:]
	}
	s.mu.Unlock()
	if over != "" {
		return os.Remove(filepath.Join(s.dir, over))
	}
	return nil
}

// oldest is the first report to deliver; name is empty when there is none. One that cannot be read is set aside.
func (s *spool) oldest() (r api.Report, name string, err error) {
	for {
		s.mu.Lock()
		if len(s.names) == 0 {
			s.mu.Unlock()
			return r, "", nil
		}
		name = s.names[0]
		s.mu.Unlock()
		path := filepath.Join(s.dir, name)
		b, err := os.ReadFile(path)
		if err == nil {
			if err = json.Unmarshal(b, &r); err == nil {
				return r, name, nil
			}
		}
		if err := os.Rename(path, path+".damaged"); err != nil && !os.IsNotExist(err) {
			return r, "", err
		}
		s.forget(name)
	}
}

func (s *spool) drop(name string) error {
	s.forget(name)
	return os.Remove(filepath.Join(s.dir, name))
}

func (s *spool) forget(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if i := slices.Index(s.names, name); i >= 0 {
		s.names = slices.Delete(s.names, i, i+1)
	}
}

// writeWhole makes a file appear with all of its bytes, on disk, or not at all.
func writeWhole(path string, b []byte) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".new-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(b)
	if err == nil {
		err = f.Sync()
	}
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	return err
}
