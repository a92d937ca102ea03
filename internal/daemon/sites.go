package daemon

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"net/url"
	"path/filepath"
	"strings"
	"sync"

	"github.com/nats-io/nats.go"

	"lantern/internal/api"
	"lantern/internal/httpd"
	"lantern/internal/service"
	"lantern/internal/service/views"
	"lantern/internal/sites"
	"lantern/internal/store"
)

// Headquarters has the settings of a headquarters; the zero value is none.
type Headquarters struct {
	On     bool
	Listen string // of the embedded engine; empty with an external one
	Copies int    // nodes of an external cluster that store each stream
	Link   EngineLink
}

// EngineLink has the settings of a connection to an engine.
type EngineLink struct {
	URL    string // nats:// or tls://, several separated by commas
	Creds  string // file with credentials for an external engine
	CA     string // PEM file of the certificate authority; empty for those of the system
	Secret string // of a site
}

// SiteLink has the settings of a site; the zero value is none.
type SiteLink struct {
	Name string
	Link EngineLink
}

// checkSites checks the settings of headquarters and site.
func (c Serve) checkSites() error {
	h, s := c.Headquarters, c.Site
	switch {
	case h.On && s.Name != "":
		return errors.New("--headquarters and --site exclude each other: a headquarters shows sites and is not a site; " +
			"start two services")
	case !h.On && s.Name == "":
		return nil
	case h.On && h.Link.URL != "":
		if h.Copies < 1 || h.Copies > 5 {
			return fmt.Errorf("--engine-copies is 1 to 5, not %d", h.Copies)
		}
		return checkEngine("--engine", h.Link.URL, c.Insecure)
	case h.On:
		if _, _, err := net.SplitHostPort(h.Listen); err != nil {
			return fmt.Errorf("--engine-listen %q is not an address such as 127.0.0.1:7414: %w", h.Listen, err)
		}
		if !loopback(h.Listen) && c.Cert == "" && !c.Insecure {
			return fmt.Errorf("listening for sites on %s without TLS would send their secrets without encryption: "+
				"give --cert and --key, listen on 127.0.0.1, or add --insecure", h.Listen)
		}
		return nil
	}
	if err := sites.CheckName(s.Name); err != nil {
		return fmt.Errorf("--site: %w", err)
	}
	if s.Link.URL == "" {
		return errors.New("--site needs --report-to, the address of the headquarters' engine (lantern site invite tells it)")
	}
	if s.Link.Secret == "" && s.Link.Creds == "" && !strings.Contains(s.Link.URL, "@") {
		return errors.New("--site needs --site-secret-file, a file with the secret that lantern site invite printed")
	}
	return checkEngine("--report-to", s.Link.URL, c.Insecure)
}

// checkEngine checks the address of an engine, and that a secret is not sent to it without encryption.
func checkEngine(option, text string, insecure bool) error {
	for one := range strings.SplitSeq(text, ",") {
		u, err := url.Parse(one)
		if err != nil || u.Host == "" || u.Scheme != "nats" && u.Scheme != "tls" {
			return fmt.Errorf("%s %q is not an address such as nats://127.0.0.1:7414 or tls://headquarters.example:7414", option,
				one)
		}
		if u.Scheme == "nats" && !insecure && !loopback(u.Host) && !loopback(u.Host+":4222") {
			return fmt.Errorf("%s %q would send the secret without encryption: use tls://, or add --insecure", option, one)
		}
	}
	return nil
}

func (l EngineLink) options() (out []nats.Option) {
	if l.CA != "" {
		out = append(out, nats.RootCAs(l.CA))
	}
	return out
}

// source reads from a service what its headquarters gets.
type source struct {
	*service.Service
	store *store.Store
}

// Events returns events after an id, in order.
func (s source) Events(after int64, limit int) ([]api.Event, error) {
	rows, err := s.store.EventsAfter(after, limit)
	return events(rows), err
}

// EventsBefore returns events before an id, the newest first.
func (s source) EventsBefore(id int64, limit int) ([]api.Event, error) {
	rows, err := s.store.EventsBefore(id, limit)
	return events(rows), err
}

func events(rows []store.Event) []api.Event {
	out := make([]api.Event, len(rows))
	for i, e := range rows {
		out[i] = api.Event{Id: e.ID, Kind: api.EventKind(e.Kind), At: e.At, Subject: e.Subject, Says: e.Says}
	}
	return out
}

// Site returns the state of the service and of the hosts that changed.
func (s source) Site(sent map[string]uint64) (views.SiteState, []views.HostState) {
	return s.Views.Site(sent)
}

// joined is the role of a service as a headquarters or site; end stops it.
type joined struct {
	headquarters *httpd.Headquarters
	run          func(ctx context.Context, going *sync.WaitGroup)
	end          func() error
}

// join makes a service a headquarters or a site, if the settings say so; public is its HTTP server.
func (c Serve) join(ctx context.Context, r *running, public *httpd.Server) (joined, error) {
	switch {
	case c.Headquarters.On:
		return c.headquarters(ctx, r)
	case c.Site.Name != "":
		return c.site(r, public), nil
	}
	return joined{run: func(context.Context, *sync.WaitGroup) {}, end: func() error { return nil }}, nil
}

func (c Serve) headquarters(ctx context.Context, r *running) (j joined, err error) {
	h := &httpd.Headquarters{Headquarters: &sites.Headquarters{Clock: r.service.Clock, Log: c.Log,
		Silent: r.service.Notices.SilentSites,
		Changed: func(news []api.Event) {
			for _, e := range news {
				r.service.Send(e)
			}
		}}}
	if h.Registry, err = sites.OpenRegistry(r.store); err != nil {
		return j, err
	}
	options := []nats.Option{nats.Name("headquarters"), nats.MaxReconnects(-1), nats.ReconnectBufSize(-1)}
	var nc *nats.Conn
	if c.Headquarters.Link.URL != "" {
		l := c.Headquarters.Link
		if l.Creds != "" {
			options = append(options, nats.UserCredentials(l.Creds))
		}
		if nc, err = nats.Connect(l.URL, append(options, l.options()...)...); err != nil {
			return j, fmt.Errorf("--engine %s: %w", l.URL, err)
		}
	} else {
		var conf *tls.Config
		if c.Cert != "" {
			if conf, err = c.tls(r); err != nil {
				return j, err
			}
			conf = conf.Clone()
			conf.ClientAuth, conf.ClientCAs = tls.NoClientCert, nil
		}
		h.Engine, err = sites.StartEngine(filepath.Join(c.Data, "engine"), c.Headquarters.Listen, conf, h.Registry.Knows,
			c.Log)
		if err != nil {
			return j, err
		}
		h.Known, h.Reached = h.Registry.Has, h.Engine.URL()
		if conf != nil {
			h.Reached = strings.Replace(h.Reached, "nats://", "tls://", 1)
		}
		if nc, err = h.Engine.Connect(options...); err != nil {
			h.Engine.Stop()
			return j, err
		}
	}
	stop := func() error {
		nc.Close()
		if h.Engine != nil {
			h.Engine.Stop()
		}
		return nil
	}
	if err := h.Begin(ctx, nc, max(1, c.Headquarters.Copies)); err != nil {
		return j, errors.Join(err, stop())
	}
	h.Invited(h.Registry.Rows())
	if h.Engine != nil {
		fmt.Fprintf(c.Out, "sites report to %s\n", h.Reached)
	}
	return joined{headquarters: h, end: stop, run: func(ctx context.Context, going *sync.WaitGroup) {
		going.Go(func() {
			if err := h.Run(ctx); err != nil {
				c.Log.Error("the streams of the sites cannot be read", "error", err)
			}
		})
		going.Go(func() { h.Follow(ctx) })
	}}, nil
}

// site makes a service a site. People who come through the headquarters get its console, and have sessions of their own
// here.
func (c Serve) site(r *running, public *httpd.Server) joined {
	via := &httpd.Server{
		Service: r.service, OpenPast: public.OpenPast, Lab: public.Lab, Version: public.Version, Now: public.Now,
		Log: public.Log, At: c.Site.Name, Base: &url.URL{Path: "/sites/" + c.Site.Name},
		Proxies: []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")},
	}
	l := c.Site.Link
	s := &sites.Site{Name: c.Site.Name, URL: l.URL, Secret: l.Secret, Creds: l.Creds, Version: Version,
		Source: source{r.service, r.store}, Handler: via.Handler(), Clock: r.service.Clock, Log: c.Log,
		Options: l.options()}
	return joined{end: via.Close, run: func(ctx context.Context, going *sync.WaitGroup) {
		going.Go(func() {
			if err := s.Run(ctx); err != nil {
				c.Log.Error("nothing can be sent to the headquarters: the service continues without it", "error", err)
			}
		})
	}}
}
