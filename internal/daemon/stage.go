package daemon

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"sync"
	"time"

	"lantern/internal/agent"
	"lantern/internal/agent/pools"
	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/lab"
	"lantern/internal/store"
)

// stage is a service whose hosts are all of a lab.
type stage struct {
	Serve
	fleet  *lab.Fleet
	person string // who is signed in
	// opened is called when it serves, while the past of a new lab is told.
	opened func(ctx context.Context, r *running, link string) error
}

// forgetLab removes what a stage keeps in its folder.
func forgetLab(dir string) error {
	if err := store.Unused(filepath.Join(dir, "lantern.db")); err != nil {
		return err
	}
	for _, part := range []string{"lantern.db", "lantern.db-wal", "lantern.db-shm", "lantern.db.reserve", "lab.json",
		"agents",
		"client.yaml", practiceFile} {
		if err := os.RemoveAll(filepath.Join(dir, part)); err != nil {
			return err
		}
	}
	return nil
}

// run serves until ctx ends.
func (c stage) run(ctx context.Context) error {
	fleet := c.fleet
	r, err := c.start(ctx, fleet.Clock(), fleet)
	if err != nil {
		return err
	}
	token, err := r.service.People.NewToken(c.person)
	if err == nil {
		err = os.WriteFile(
			filepath.Join(c.Data, "client.yaml"),
			[]byte("server: "+r.url+"\ntoken: "+token+"\n"),
			0o600,
		)
	}
	var link string
	if err == nil {
		link, err = r.service.People.SignInLink(c.person)
	}
	var agents []*agent.Agent
	for _, h := range fleet.Hosts {
		if err == nil {
			var a *agent.Agent
			a, err = c.agent(r, h)
			agents = append(agents, a)
		}
	}
	if err != nil {
		return errors.Join(err, r.stop())
	}

	running, cancel := context.WithCancel(ctx)
	var all sync.WaitGroup
	failed := make(chan error, len(fleet.Hosts)+2)
	var filled sync.WaitGroup
	for i, h := range fleet.Hosts {
		filled.Add(1)
		all.Add(1)
		go func() {
			defer all.Done()
			err := error(nil)
			if !fleet.Filled {
				err = agents[i].Backfill(running, lab.Moments(fleet.Clock().Now(), len(fleet.Drives)), h.Past)
				h.Past(time.Time{})
			}
			filled.Done()
			if err == nil {
				err = agents[i].Run(running)
			}
			if err != nil && running.Err() == nil {
				failed <- fmt.Errorf("agent of %s: %w", h.Name, err)
			}
		}()
	}
	all.Add(2)
	go func() { defer all.Done(); c.keepLab(running, r, &filled) }()
	go func() {
		defer all.Done()
		if err := c.opened(running, r, link); err != nil && running.Err() == nil {
			failed <- err
		}
	}()

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

func (c stage) agent(r *running, h *lab.Host) (*agent.Agent, error) {
	token, err := r.service.Fleet.TokenFor("the lab", h.Name)
	if err != nil {
		return nil, err
	}
	if !c.fleet.Filled && h.Room != "" {
		if _, err := r.service.Views.SetRoom("the lab", h.Name, h.Room); err != nil {
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
	if len(c.fleet.Hosts) > 20 {
		look = 2 * time.Second
	}
	return agent.New(
		agent.Config{
			Host:     h.Name,
			Machine:  h,
			Pools:    []pools.Driver{lab.Keeper{Fleet: c.fleet, Host: h.Name}},
			Client:   client,
			Clock:    c.fleet.Clock(),
			Log:      c.Log,
			Dir:      dir,
			Interval: 30 * time.Second,
			ReadEach: time.Hour,
			Look:     look,
			Version:  Version,
		},
	)
}

// written puts what the lab's people wrote down of their drives into the inventory.
func (c stage) written(r *running) error {
	var req api.InventoryImport
	for n, p := range c.fleet.Purchases(c.fleet.Clock().Now()) {
		req.Rows = append(req.Rows, api.InventoryRow{Line: n + 1, Name: p.Serial, Whole: true, Fields: p.Fields})
		if len(req.Rows) == inventoryAtOnce {
			break
		}
	}
	done, err := r.service.Inventory.Import("the lab", req)
	if err == nil && !done.Written {
		err = fmt.Errorf("%d rows were refused, the first: %v", len(done.Refused), done.Refused[0])
	}
	return errors.Join(err, c.filledUp(r))
}

// filledUp sends how full the lab's pools were in the months before: each grew at its own pace, more on weekdays.
func (c stage) filledUp(r *running) error {
	b := &store.Batch{}
	end := time.Now().Add(10 * time.Second)
	for len(r.service.Views.AllPools()) < len(c.fleet.Pools) && time.Now().Before(end) {
		_ = clock.Real{}.Sleep(context.Background(), 100*time.Millisecond) // the first reports are on their way
	}
	now := c.fleet.Clock().Now()
	for n, p := range r.service.Views.AllPools() {
		grown := float64(p.UsedBytes) * (0.02 + 0.03*float64(n%4))
		for day := 1; day <= usedFor; day++ {
			at := now.AddDate(0, 0, -day)
			// It has its own weeks, and months in which more is written than in others.
			past := float64(day)/usedFor + 0.08*math.Sin(float64(day)/17+float64(n)) + 0.01*float64(int(at.Weekday())%3)
			used := float64(p.UsedBytes) - grown*max(0, past)
			b.Add(&store.PoolUse{Pool: p.Id, At: at.UnixMilli(), Used: int64(used)})
		}
	}
	return r.store.Write(b)
}

// usedFor is for how many days it is told how full the lab's pools were.
const usedFor = 120

// inventoryAtOnce is how many drives of a large demo have an inventory.
const inventoryAtOnce = 20000

// keepLab writes the lab's state down now and then, and sets its pace where nobody does.
func (c stage) keepLab(ctx context.Context, r *running, filled *sync.WaitGroup) {
	if !c.fleet.Filled {
		filled.Wait()
		if ctx.Err() != nil {
			return // cut short: the next start tells the past again, and what was told twice counts once
		}
		if c.copied.Pool == "" { // nothing is made up in a copy of real drives
			if err := c.written(r); err != nil {
				c.Log.Error("the inventory of the lab could not be written", "error", err)
			}
		}
		c.fleet.Filled = true
	}
	for n := 0; ctx.Err() == nil; n++ {
		const saveEach = 3
		if n%saveEach == 0 {
			if err := c.fleet.Save(); err != nil {
				c.Log.Error("the lab could not be saved", "error", err)
			}
		}
		if c.fleet.Waits(r.service.Rehearsal.OnlyWaiting()) {
			r.service.Announce(
				api.EventKindLab,
				"speed",
				fmt.Sprintf("the lab runs %g times as fast as real time", c.fleet.Speed()),
			)
		}
		_ = clock.Real{}.Sleep(ctx, 200*time.Millisecond)
	}
}
