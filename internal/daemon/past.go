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

// then is a clock that shows one moment.
type then struct {
	clock.Clock
	at time.Time
}

func (c then) Now() time.Time { return c.at }

// pastFolders is how the folders are named in which earlier moments are loaded.
const pastFolders = "past-*"

// openPast gives what loads the records as they were: a copy, in a folder of its own beside them, that goes with its
// end.
func (c Serve) openPast(live *store.Store, cl clock.Clock) httpd.OpenPast {
	// What a service that was killed left there is of no use.
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
