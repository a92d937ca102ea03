package agent

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"sync"
	"time"

	"lantern/internal/agent/redfish"
	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/core/enclosure"
	"lantern/internal/wire"
)

// How often a management controller is asked, how long its answer is valid, and how long the first report waits for it.
const (
	controllerEach = time.Minute
	controllerGood = 10 * time.Minute
	controllerWait = 30 * time.Second
)

// controller is the connection to a host's management controller, with its last answer.
type controller struct {
	mu       sync.Mutex
	version  string // version of the settings; the service sends it with each answer
	settings api.AgentController
	client   *redfish.Client
	seats    []enclosure.Seated
	at       time.Time // when they were asked for, in real time
	err      error     // of the newest try
	errAt    time.Time
	// appeared is when a drive was first seen where it is, by its key, path and mark, in real time; zero for those that
	// were there at the first look, which looked says there was.
	appeared map[string]time.Time
	looked   bool
	wake     chan struct{}
	first    chan struct{} // closed when it was asked, or when there is none
	once     sync.Once
}

func newController() *controller {
	return &controller{appeared: map[string]time.Time{}, wake: make(chan struct{}, 1), first: make(chan struct{})}
}

func (c *controller) soon() {
	select {
	case c.wake <- struct{}{}:
	default:
	}
}

// hear compares the version of the service's settings for this host, and requests new ones.
func (c *controller) hear(version string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if version != c.version {
		c.version = version
		c.client, c.seats, c.err = nil, nil, nil
		c.soon()
	}
}

// keepController asks the host's management controller for its bays, as long as ctx lasts.
func (a *Agent) keepController(ctx context.Context) {
	c := a.controller
	told := ""
	for ctx.Err() == nil {
		err := a.askController(ctx)
		if err != nil && ctx.Err() == nil {
			a.Log.Warn("the management controller", "host", a.Host, "error", err)
		}
		c.mu.Lock()
		c.err = err
		if err != nil {
			c.errAt = time.Now()
		}
		has := c.client != nil || err != nil
		c.mu.Unlock()
		c.once.Do(func() { close(c.first) })
		if has {
			// A change is reported at once; without other news the report would wait for its turn.
			v := c.says()
			if now := fmt.Sprint(v.Url, v.Bays, v.Error); now != told {
				told = now
				a.again.Store(true)
			}
			a.lookSoon()
		}
		var next <-chan time.Time
		if has {
			next = time.After(controllerEach)
		}
		select {
		case <-ctx.Done():
		case <-c.wake:
			_ = clock.Real{}.Sleep(ctx, settleFor)
		case <-next:
		}
	}
}

func (a *Agent) askController(ctx context.Context) error {
	c := a.controller
	c.mu.Lock()
	client, version := c.client, c.version
	c.mu.Unlock()
	if client == nil {
		res, err := a.Client.GetAgentControllerWithResponse(ctx)
		switch {
		case err != nil:
			return fmt.Errorf("its settings cannot be had: %w", err)
		case res.StatusCode() == http.StatusNoContent || res.StatusCode() == http.StatusNotFound: // also an older service
			return nil
		case res.JSON200 == nil:
			return fmt.Errorf("its settings cannot be had: %w", problem(res.StatusCode(), res.Body))
		}
		s := *res.JSON200
		client, err = redfish.New(redfish.Settings{URL: s.Url, User: s.User, Password: s.Password,
			Fingerprint: s.Fingerprint})
		if err != nil {
			return err
		}
		c.mu.Lock()
		if c.version == version || c.version == "" {
			c.version, c.settings, c.client = s.Version, s, client
		}
		c.mu.Unlock()
	}
	at := time.Now()
	seats, err := client.Seats(ctx)
	if err != nil {
		return err
	}
	sections := enclosure.SeatSections(seats)
	if len(sections) == 0 {
		return errors.New("it reports no bay with a number")
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.client == client {
		c.seats, c.at = sections, at
	}
	return nil
}

// awaitController waits until the management controller, if there is one, was asked for the first time: otherwise
// drives would seem to leave their bays and come back.
func (a *Agent) awaitController(ctx context.Context) {
	select {
	case <-ctx.Done():
	case <-a.controller.first:
	case <-time.After(controllerWait):
	}
}

// seats are the seats from the controller, unless they are too old.
func (c *controller) told() []enclosure.Seated {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.at) > controllerGood {
		return nil
	}
	return c.seats
}

// seen records the places of drives. A bay that was reported before a drive appeared is not used for it.
func (c *controller) seen(keys map[string]bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	first := !c.looked
	c.looked = true
	for k := range c.appeared {
		if !keys[k] {
			delete(c.appeared, k)
			c.soon()
		}
	}
	for k := range keys {
		if _, there := c.appeared[k]; there {
			continue
		}
		c.appeared[k] = time.Now()
		if first {
			c.appeared[k] = time.Time{}
		} else {
			c.soon()
		}
	}
}

// seat puts the drives of a report that no enclosure reports into their bays according to the management controller,
// and adds these bays. found are these drives, in their order.
func (a *Agent) seat(r *api.Report, found []Found) {
	c := a.controller
	keys := map[string]bool{}
	for _, f := range found {
		keys[f.spot()] = true
	}
	c.seen(keys)
	sections := c.told()
	used, elsewhere := map[string]bool{}, map[string]bool{}
	for i := range r.Drives {
		d := &r.Drives[i]
		section, bay, ok := enclosure.SeatOf(sections, d.Identity.Serial, d.Identity.Wwn, uint64(max(0, d.CapacityBytes)))
		if !ok {
			continue
		}
		c.mu.Lock()
		late := c.appeared[found[i].spot()].After(c.at)
		c.mu.Unlock()
		switch {
		case d.Section != "":
			elsewhere[section] = true
		case !late:
			d.Section, d.Bay = section, bay
			used[section] = true
		}
	}
	for _, one := range sections {
		if elsewhere[one.Name] && !used[one.Name] {
			continue // its enclosure reports it
		}
		lit := map[string][]int{}
		var occupied []int
		for _, n := range one.Numbers() {
			if one.Seats[n].Lit {
				lit[one.Name] = append(lit[one.Name], n)
			}
			if !one.Seats[n].Absent {
				occupied = append(occupied, n)
			}
		}
		e := wire.Enclosure(enclosure.Layout{Name: one.Name, Sections: []enclosure.Section{one.Section}}, lit)
		e.Sections[0].Occupied, e.Sections[0].Plain = occupied, true
		r.Enclosures = append(r.Enclosures, e)
	}
}

// spot is a drive at its place: a new one when it was out meanwhile.
func (f Found) spot() string { return f.Known.Key() + "\x00" + f.Path + "\x00" + f.Mark }

// lightByController switches a light through the management controller; ok is false where it has no such bay.
func (a *Agent) lightByController(ctx context.Context, section string, bay int, on bool) (lit, ok bool, err error) {
	c := a.controller
	for _, one := range c.told() {
		s, there := one.Seats[bay]
		if one.Name != section || !there {
			continue
		}
		c.mu.Lock()
		client := c.client
		c.mu.Unlock()
		if client == nil {
			return false, true, errors.New("the settings of its management controller changed just now; try again")
		}
		lit, err = client.Light(ctx, s, on)
		c.soon()
		return lit, true, err
	}
	return false, false, nil
}

// says is the state of the controller for each report; empty where there is none.
func (c *controller) says() (v api.ControllerState) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.client == nil && c.err == nil {
		return v
	}
	v = api.ControllerState{Url: c.settings.Url, At: c.at}
	for _, one := range c.seats {
		v.Bays += len(one.Seats)
	}
	if c.err != nil {
		v.Error, v.ErrorAt = shorter(c.err, mostOfController), c.errAt
	}
	return v
}
