//go:build linux

package daemon

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"lantern/internal/agent"
	"lantern/internal/agent/linux"
	"lantern/internal/agent/pools"
	"lantern/internal/agent/pools/btrfs"
	"lantern/internal/agent/pools/lvm"
	"lantern/internal/agent/pools/md"
	"lantern/internal/agent/pools/outside"
	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/link"
)

// Agent has the settings of an agent on this machine.
type Agent struct {
	Host     string
	Server   string
	Token    string
	Link     link.Options
	Data     string
	Devices  string // pattern of block device names; empty means all
	Interval time.Duration
	ReadEach time.Duration
	Wake     bool // read drives that are asleep as well
	Log      *slog.Logger
	Programs []string  // command lines of pool programs
	Print    io.Writer // if set, one report is written there and nothing is sent
	Invite   string    // the code of an invitation, with which it requests a token if it has none
}

// look is how often an agent looks for changes that the kernel does not report.
const look = 15 * time.Second

// drivers are the pool systems of the kernel, first those that may be below others.
func drivers(host string, asleep func(device string) bool) []pools.Driver {
	arrays, volumes, systems := md.New(host, clock.Real{}), lvm.New(host, clock.Real{}), btrfs.New(host, clock.Real{})
	arrays.Asleep, volumes.Asleep, systems.Asleep = asleep, asleep, asleep
	return []pools.Driver{arrays, volumes, systems}
}

// CheckToken refuses an agent without any way to authenticate.
func (c Agent) CheckToken() error {
	if c.Token != "" || c.Print != nil || c.Invite != "" {
		return nil
	}
	return errors.New(
		"an agent needs its host's token, or an invitation: enrol the host with `lantern host enrol <name>` and give the " +
			"token as " +
			"LANTERN_HOST_TOKEN or --token-file, or invite many with `lantern host invite` and give the code as --invite",
	)
}

// Run sends reports and carries out orders until ctx ends.
func (c Agent) Run(ctx context.Context) error {
	if err := c.CheckToken(); err != nil {
		return err
	}
	own := &agentCertificate{dir: c.Data, host: c.Host, log: c.Log}
	c.Link.Shown = own.shown
	made, err := link.Transport(c.Server, c.Link)
	if err != nil {
		return err
	}
	transport := newConnections(made)
	if err := private(c.Data); err != nil {
		return err
	}
	if err := own.load(); err != nil {
		return err
	}
	if c.Token == "" && c.Print == nil {
		if c.Token, err = c.enrol(ctx, transport); err != nil {
			return err
		}
	}
	client, err := Client(c.Server, c.Token, api.WithHTTPClient(&http.Client{Transport: realOnly{transport}}))
	if err != nil {
		return err
	}
	machine := &linux.Machine{Match: c.Devices}
	drivers := drivers(c.Host, machine.Asleep)
	for _, p := range c.Programs {
		if words := strings.Fields(p); len(words) > 0 {
			d := outside.New(words, c.Host, c.Log)
			defer d.Close()
			drivers = append(drivers, d)
		}
	}
	a, err := agent.New(agent.Config{
		Host:     c.Host,
		Machine:  machine,
		Pools:    drivers,
		Client:   client,
		Clock:    clock.Real{},
		Log:      c.Log,
		Dir:      c.Data,
		Interval: c.Interval,
		ReadEach: c.ReadEach,
		Look:     look,
		Wake:     c.Wake,
		Version:  Version,
	})
	if err != nil {
		return err
	}
	if c.Print != nil {
		r, err := a.Report(ctx)
		if err != nil {
			return err
		}
		e := json.NewEncoder(c.Print)
		e.SetIndent("", "  ")
		return e.Encode(r)
	}
	if strings.HasPrefix(c.Server, "https://") {
		own.ask(ctx, client, transport) // before the first report, so that it is shown with that
		go own.keep(ctx, client, transport)
	}
	notify(c.Log, "READY=1\nSTATUS=reports as "+c.Host+" to "+c.Server)
	watched(ctx, c.Log, a.Alive)
	if err := a.Run(ctx); !errors.Is(err, context.Canceled) {
		return err
	}
	return nil
}
