package daemon

import (
	"errors"
	"os"
	"path/filepath"
	"time"

	"lantern/internal/clock"
	"lantern/internal/httpd"
	"lantern/internal/service"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// then is a clock that always shows the same moment.
type then struct {
	clock.Clock
	at time.Time
}

func (c then) Now() time.Time { return c.at }

// pastFolders is the form of the names of the folders with earlier moments.
const pastFolders = "past-*"

// openPast gives the function that loads the records of an earlier moment: a copy in its own folder beside them, which
// is removed when it is closed.
func (c Serve) openPast(live *store.Store, cl clock.Clock) httpd.OpenPast {
	// Folders of a killed service are of no use.
	left, _ := filepath.Glob(filepath.Join(c.Data, pastFolders))
	for _, dir := range left {
		_ = os.RemoveAll(dir)
	}
	return func(at time.Time) (*service.Service, func() error, error) {
		if err := live.PastRoom(); err != nil {
			return nil, nil, problem.New(507, "store-full", "Make room on the disk of the service's records.",
				"The state of that time cannot be loaded: %v.", err)
		}
		dir, err := os.MkdirTemp(c.Data, pastFolders)
		if err != nil {
			return nil, nil, err
		}
		file := records(dir)
		if _, err := store.PastOf(records(c.Data), file, at); err != nil {
			return nil, nil, errors.Join(err, os.RemoveAll(dir))
		}
		st, err := store.Open(file)
		if err != nil {
			return nil, nil, errors.Join(err, os.RemoveAll(dir))
		}
		end := func() error { return errors.Join(st.Close(), os.RemoveAll(dir)) }
		s, err := service.NewPast(st, then{cl, at})
		if err == nil {
			err = st.ReadOnly(true)
		}
		if err != nil {
			return nil, nil, errors.Join(err, end())
		}
		return s, end, nil
	}
}
