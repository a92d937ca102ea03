package daemon

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"lantern/internal/agent"
	"lantern/internal/agent/pools"
	"lantern/internal/clock"
	"lantern/internal/lab"
)

// Demo is a service with a lab fleet.
type Demo struct {
	Serve
	Fresh  bool
	Speed  float64 // of a new lab's clock
	Drives int     // how many there are at least
}

// stationDrives is how many the station has of its own.
const stationDrives = 82

// Run serves the demo until ctx ends.
func (c Demo) Run(ctx context.Context) error {
	if c.Fresh {
		for _, part := range []string{"lantern.db", "lantern.db-wal", "lantern.db-shm", "lab.json", "agents", "client.yaml"} {
			if err := os.RemoveAll(filepath.Join(c.Data, part)); err != nil {
				return err
			}
		}
	}
	if err := private(c.Data); err != nil {
		return err
	}
	fleet, err := lab.Open(filepath.Join(c.Data, "lab.json"), clock.Real{}.Now(), c.Speed, lab.HeronPoint(max(0, c.Drives-stationDrives)))
	if err != nil {
		return err
	}
	r, err := c.start(ctx, fleet.Clock(), fleet)
	if err != nil {
		return err
	}
	token, err := r.service.NewToken("engineer")
	if err == nil {
		err = os.WriteFile(filepath.Join(c.Data, "client.yaml"), []byte("server: "+r.url+"\ntoken: "+token+"\n"), 0o600)
	}
	var link string
	if err == nil {
		link, err = r.service.SignInLink("engineer")
	}
	if err != nil {
		return errors.Join(err, r.stop())
	}

	running, cancel := context.WithCancel(ctx)
	var all sync.WaitGroup
	failed := make(chan error, len(fleet.Hosts)+1)
	var filled sync.WaitGroup
	for _, h := range fleet.Hosts {
		a, err := c.agent(r, fleet, h)
		if err != nil {
			cancel()
			return errors.Join(err, r.stop())
		}
		filled.Add(1)
		all.Add(1)
		go func() {
			defer all.Done()
			err := error(nil)
			if !fleet.Filled {
				err = a.Backfill(running, lab.Moments(fleet.Clock().Now(), len(fleet.Drives)), h.Past)
				h.Past(time.Time{})
			}
			filled.Done()
			if err == nil {
				err = a.Run(running)
			}
			if err != nil && running.Err() == nil {
				failed <- fmt.Errorf("agent of %s: %w", h.Name, err)
			}
		}()
	}
	all.Add(1)
	go func() { defer all.Done(); c.keepLab(running, fleet, &filled) }()

	c.greet(r, link)
	select {
	case err = <-r.done:
	case err = <-failed:
	case <-ctx.Done():
		fmt.Fprintln(c.Out, "stopping; what is known is kept for the next start")
	}
	cancel()
	all.Wait()
	return errors.Join(err, fleet.Save(), r.stop())
}

func (c Demo) agent(r *running, fleet *lab.Fleet, h *lab.Host) (*agent.Agent, error) {
	token, err := r.service.Enrol("the demo", h.Name)
	if err != nil {
		return nil, err
	}
	if !fleet.Filled && h.Room != "" {
		if _, err := r.service.SetRoom("the demo", h.Name, h.Room); err != nil {
			return nil, err
		}
	}
	client, err := Client(r.url, token)
	if err != nil {
		return nil, err
	}
	dir := filepath.Join(c.Data, "agents", h.Name)
	if err := private(dir); err != nil {
		return nil, err
	}
	look := 250 * time.Millisecond
	if len(fleet.Hosts) > 20 {
		look = 2 * time.Second
	}
	return agent.New(agent.Config{Host: h.Name, Machine: h, Pools: []pools.Driver{lab.Keeper{Fleet: fleet, Host: h.Name}}, Client: client,
		Clock: fleet.Clock(), Log: c.Log, Dir: dir, Interval: 30 * time.Second, ReadEach: time.Hour, Look: look})
}

// keepLab writes the lab's state down now and then.
func (c Demo) keepLab(ctx context.Context, fleet *lab.Fleet, filled *sync.WaitGroup) {
	if !fleet.Filled {
		filled.Wait()
		if ctx.Err() != nil {
			return // cut short: the next start tells the past again, and what was told twice counts once
		}
		fleet.Filled = true
	}
	for ctx.Err() == nil {
		if err := fleet.Save(); err != nil {
			c.Log.Error("the lab could not be kept", "error", err)
		}
		_ = clock.Real{}.Sleep(ctx, 500*time.Millisecond)
	}
}

func (c Demo) greet(r *running, link string) {
	config := filepath.Join(c.Data, "client.yaml")
	if whole, err := filepath.Abs(config); err == nil {
		config = whole // it is to be pasted into any folder
	}
	fmt.Fprintf(c.Out, `
Heron Point Marine Station, a lab fleet. Nothing here is real.

  console   %s/sign-in/once?code=%s
            (this link signs in once; later: the token in %s)
  terminal  export LANTERN_CONFIG=%s

Worth trying:
  ./lantern round
  ./lantern bays skerry
  ./lantern lab speed 300      time runs faster, so that a recovery takes half a minute

Stop with Ctrl-C. What happened is kept; make demo FRESH=1 begins again.
`, r.url, link, config, config)
}
