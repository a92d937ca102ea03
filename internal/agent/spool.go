package agent

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"lantern/internal/api"
)

// spoolBound is how many reports are kept for later; beyond it the oldest go, since the newest say what is true now.
const spoolBound = 5000

// refusedBound is how many reports that were refused for good are kept, for whoever finds out why.
const refusedBound = 20

// spool keeps reports that could not be delivered, one file each, named so that they sort by age. Those that were
// refused for good are in a folder beside it.
type spool struct {
	dir, aside string
	mu         sync.Mutex
	names      []string
	no         api.RefusedReports
}

func openSpool(dir string) (*spool, error) {
	s := &spool{dir: filepath.Join(dir, "undelivered"), aside: filepath.Join(dir, "refused")}
	for _, d := range []string{s.dir, s.aside} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return nil, err
		}
	}
	if b, err := os.ReadFile(s.tally()); err == nil {
		_ = json.Unmarshal(b, &s.no) // a damaged count begins anew
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

// tally is the file that counts what was refused.
func (s *spool) tally() string { return filepath.Join(s.aside, "count") }

// refused is what was refused for good so far.
func (s *spool) refused() api.RefusedReports {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.no
}

// setAside keeps a report that was refused for good, and counts it; of those before it the newest are kept.
func (s *spool) setAside(r api.Report, at time.Time, why string) error {
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	if err := WriteWhole(filepath.Join(s.aside, r.Id+".json"), b); err != nil {
		return fmt.Errorf("set a refused report aside: %w", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.no = api.RefusedReports{Count: s.no.Count + 1, At: at, Says: why}
	b, err = json.Marshal(s.no)
	if err != nil {
		return err
	}
	if err := WriteWhole(s.tally(), b); err != nil {
		return err
	}
	kept, err := filepath.Glob(filepath.Join(s.aside, "*.json"))
	if err != nil {
		return err
	}
	slices.Sort(kept)
	for _, path := range kept[:max(0, len(kept)-refusedBound)] {
		if err := os.Remove(path); err != nil {
			return err
		}
	}
	return nil
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
	if err := WriteWhole(filepath.Join(s.dir, name), b); err != nil {
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

// WriteWhole makes a file appear with all of its bytes, on disk, or not at all.
func WriteWhole(path string, b []byte) error {
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
