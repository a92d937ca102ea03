// Package daemon puts the long-running programs together: the service, an agent, and the demo with its lab.
package daemon

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/harmless"
	"lantern/internal/httpd"
	"lantern/internal/paper"
	"lantern/internal/practice"
	"lantern/internal/service"
	"lantern/internal/store"
)

// Version is set when the binary is built.
var Version = "dev"

// Provider signs people in by an identity provider.
type Provider = httpd.Provider

// Metrics are the settings of the service's own metrics.
type Metrics = httpd.Metrics

// Retention is the time for which records are kept.
type Retention = service.Retention

// UsualRetention is the default, LeastRetention the shortest that is allowed.
var (
	UsualRetention = service.UsualRetention
	LeastRetention = time.Duration(service.LeastRetention)
)

// Serve has the settings of a service.
type Serve struct {
	Listen   string // address and port
	Data     string // folder
	Cert     string // PEM files; both or none
	Key      string
	Insecure bool // allow any address without TLS
	// AgentCertificates: agents get certificates, and show them from then on.
	AgentCertificates bool
	Out               io.Writer
	Log               *slog.Logger
	Provider          *Provider // identity provider; nil for tokens alone
	Base              *url.URL  // its address for people and agents; nil for the address on which it listens
	Proxies           []netip.Prefix
	Metrics           httpd.Metrics
	// MetricsListen is a separate address at which metrics need no token; empty for none.
	MetricsListen string
	Backups       BackupPlan
	Retention     service.Retention // zero for the default
	// ReplicateTo is the place to which each change of the records is copied; StandbyOf is the place of the copy of
	// another service for which this one is a standby. Both may be empty.
	ReplicateTo, StandbyOf string
	// Headquarters makes it a headquarters; Site makes it a site of one.
	Headquarters Headquarters
	Site         SiteLink

	tookOver *api.AuditEntry // text of the event for a standby that took over
	still    bool            // due work is done only when the test asks for it
	copied   api.Practice    // set in a rehearsal
}

// running is a service that listens.
type running struct {
	service *service.Service
	store   *store.Store
	url     string
	done    chan error
	stop    func() error
	reload  func() error // reads the certificate again; nil if there is none
	joined  joined
}

// Run serves until ctx ends.
func (c Serve) Run(ctx context.Context) error {
	collectEarly()
	if c.StandbyOf != "" {
		if err := c.Check(); err != nil {
			return err
		}
		return c.standby(ctx)
	}
	if _, err := os.Stat(filepath.Join(c.Data, practiceFile)); err == nil {
		return fmt.Errorf("%s holds a rehearsal, which is not real: choose another folder with --data", c.Data)
	}
	r, err := c.start(ctx, clock.Real{}, nil)
	if err != nil {
		return err
	}
	token, fresh, err := r.service.People.FirstToken()
	if err != nil {
		return errors.Join(err, r.stop())
	}
	fmt.Fprintf(c.Out, "lantern serves %s\n", r.url)
	if c.Base != nil {
		fmt.Fprintf(c.Out, "address for people and agents: %s\n", c.reached(r))
	}
	if fresh {
		fmt.Fprintf(c.Out, "administrator's token, shown only this once: %s\n", token)
	}
	notify(c.Log, "READY=1\nSTATUS=serves "+c.reached(r))
	live, ended := context.WithCancel(ctx)
	defer ended()
	watched(live, c.Log, func() { service.Alive(r.service) })
	again := make(chan os.Signal, 1)
	signal.Notify(again, syscall.SIGHUP)
	defer signal.Stop(again)
	for waiting := true; waiting; {
		select {
		case err = <-r.done:
			waiting = false
		case <-ctx.Done():
			c.Log.Info("stopping")
			waiting = false
		case <-again:
			c.reload(r)
		}
	}
	notify(c.Log, "STOPPING=1")
	return errors.Join(err, r.stop())
}

// reload reads the certificate again.
func (c Serve) reload(r *running) {
	if r.reload == nil {
		c.Log.Info("nothing to reload: no certificate is used")
		return
	}
	if err := r.reload(); err != nil {
		c.Log.Error("the certificate could not be reloaded; the earlier one stays in use", "error", err)
		return
	}
	c.Log.Info("the certificate was reloaded")
}

// reached is its address for people.
func (c Serve) reached(r *running) string {
	if c.Base != nil {
		return strings.TrimRight(c.Base.String(), "/")
	}
	return r.url
}

// Check checks the settings.
func (c Serve) Check() error {
	if (c.Cert == "") != (c.Key == "") {
		return errors.New("TLS needs both --cert and --key")
	}
	if c.AgentCertificates && c.Cert == "" {
		return errors.New("--agent-certificates needs --cert and --key: what ends TLS before the service does not pass " +
			"certificates on")
	}
	if err := errors.Join(CheckReplica("--replicate-to", c.ReplicateTo),
		CheckReplica("--standby", c.StandbyOf)); err != nil {
		return err
	}
	if c.StandbyOf != "" && c.StandbyOf == c.ReplicateTo {
		return errors.New("--replicate-to is not where --standby copies from: both services would write there")
	}
	if err := httpd.CheckMetrics(c.Metrics); err != nil {
		return err
	}
	if _, _, err := net.SplitHostPort(c.MetricsListen); c.MetricsListen != "" && err != nil {
		return fmt.Errorf("--metrics-listen %q is not an address such as 127.0.0.1:7413: %w", c.MetricsListen, err)
	}
	if c.MetricsListen != "" && c.Metrics.Token == "" && !loopback(c.MetricsListen) {
		return fmt.Errorf(
			"anybody could read metrics at %s: give --metrics-token-file, or listen on 127.0.0.1",
			c.MetricsListen,
		)
	}
	return errors.Join(c.refuseOpen(), c.checkSites())
}

// loopback reports whether an address can be reached from this machine only.
func loopback(address string) bool {
	host, _, err := net.SplitHostPort(address)
	ip := net.ParseIP(host)
	return err == nil && (host == "localhost" || ip != nil && ip.IsLoopback())
}

// refuseOpen refuses to listen on an address where tokens would travel without encryption.
func (c Serve) refuseOpen() error {
	if _, _, err := net.SplitHostPort(c.Listen); err != nil {
		return fmt.Errorf("%q is not an address to listen on, such as 127.0.0.1:7411: %w", c.Listen, err)
	}
	if c.Cert != "" || c.Insecure || loopback(c.Listen) {
		return nil
	}
	return fmt.Errorf(
		"listening on %s without TLS would send tokens in the clear: give --cert and --key, listen on "+
			"127.0.0.1, or say --insecure",
		c.Listen,
	)
}

func (c Serve) listen() (net.Listener, error) {
	l, err := net.Listen("tcp", c.Listen)
	if errors.Is(err, syscall.EADDRINUSE) {
		err = fmt.Errorf("%s is in use: stop what listens there, or choose another with --listen", c.Listen)
	}
	return l, err
}

// canListen checks whether the address is free.
func (c Serve) canListen() error {
	l, err := c.listen()
	if err != nil {
		return err
	}
	return l.Close()
}

func (c Serve) start(ctx context.Context, cl clock.Clock, lab httpd.Lab) (*running, error) {
	if err := c.Check(); err != nil {
		return nil, err
	}
	l, err := c.listen()
	if err != nil {
		return nil, err
	}
	l = &guarded{Listener: l, proxies: c.Proxies, open: map[string]int{}}
	r := &running{done: make(chan error, 1)}
	store.Version = Version
	if r.store, err = store.Open(records(c.Data)); err != nil {
		l.Close()
		return nil, err
	}
	if r.service, err = service.New(r.store, cl, c.Log); err != nil {
		l.Close()
		return nil, errors.Join(err, r.store.Close())
	}
	copied, err := c.replicate(r.store, r.service.Notices.Copied)
	if err != nil {
		l.Close()
		return nil, errors.Join(err, r.store.Close())
	}
	c.settle(r)
	if err := r.service.KeepPast(); err != nil {
		l.Close()
		return nil, errors.Join(err, r.store.Close())
	}
	site := &httpd.Server{
		OpenPast: c.openPast(r.store, cl),

		Practice: c.copied,
		Service:  r.service,
		Lab:      lab,
		Version:  Version,
		Now:      cl.Now,
		Log:      c.Log,
		Secure:   c.Cert != "",

		Certificates: c.AgentCertificates,

		Base:     c.Base,
		Proxies:  c.Proxies,
		Metrics:  c.Metrics,
		Provider: c.Provider,
	}
	part, err := c.join(ctx, r, site)
	if err != nil {
		l.Close()
		return nil, errors.Join(err, r.store.Close())
	}
	site.Headquarters, r.joined = part.headquarters, part
	// Requests end with this context, so that streams and long polls do not delay a stop.
	requests, cut := context.WithCancel(context.Background())
	var unused unused
	server := &http.Server{
		ConnState:         unused.note,
		Handler:           site.Handler(),
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		BaseContext:       func(net.Listener) context.Context { return requests },
		ErrorLog:          slog.NewLogLogger(c.Log.Handler(), slog.LevelDebug),
	}
	scheme := "http"
	if c.Cert != "" {
		conf, err := c.tls(r)
		if err != nil {
			cut()
			l.Close()
			return nil, errors.Join(err, r.store.Close())
		}
		l, scheme = tls.NewListener(l, conf), "https"
	}
	r.url = fmt.Sprintf("%s://%s", scheme, l.Addr())
	if err := r.store.Serves(r.url); err != nil {
		c.Log.Warn("the lock does not name the service", "error", err)
	}
	if self, err := netip.ParseAddrPort(l.Addr().String()); err == nil {
		r.service.Notices.SetSelf(self)
	}
	go func() {
		if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			r.done <- err
		}
	}()
	counted, err := c.tellMetrics(site)
	if err != nil {
		cut()
		l.Close()
		return nil, errors.Join(err, r.store.Close())
	}
	ticking, enough := context.WithCancel(ctx)
	ticked := make(chan struct{})
	go func() {
		defer close(ticked)
		for ticking.Err() == nil && !c.still {
			if err := r.service.Tick(); err != nil {
				c.Log.Error("due tasks failed", "error", err)
			}
			if err := r.service.Tidy(); err != nil {
				c.Log.Error("old records could not be deleted", "error", err)
			}
			_ = clock.Real{}.Sleep(ticking, 200*time.Millisecond)
		}
	}()
	var delivering sync.WaitGroup
	delivering.Go(func() { c.moveLog(ticking, r.store) })
	if c.Backups.Folder != "" {
		plan := &backups{BackupPlan: c.Backups, records: records(c.Data), log: c.Log, tell: r.service.Notices.Backed}
		delivering.Go(func() { plan.run(ticking) })
	}
	c.deliver(ticking, r, &delivering)
	part.run(ticking, &delivering)
	r.stop = func() error {
		enough()
		cut()
		err := errors.Join(unused.shut(server, c.Log), counted())
		<-ticked
		delivering.Wait()
		end, cancel := context.WithTimeout(context.Background(), stopWithin)
		defer cancel()
		return errors.Join(err, part.end(), site.Close(), copied(end), r.store.Close())
	}
	return r, nil
}

// settle passes settings to the service.
func (c Serve) settle(r *running) {
	if c.tookOver != nil {
		if err := r.service.People.Note(*c.tookOver); err != nil {
			c.Log.Error("the take-over could not be noted", "error", err)
		}
	}
	r.service.Fleet.SetPractice(c.copied)
	if c.Base != nil {
		r.service.Notices.SetBase(c.reached(r))
	}
	if c.Retention != (service.Retention{}) {
		r.service.SetRetention(c.Retention)
	}
}

// deliver sends reports on periods and messages until ctx ends.
func (c Serve) deliver(ticking context.Context, r *running, delivering *sync.WaitGroup) {
	delivering.Go(func() {
		for ticking.Err() == nil {
			if err := r.service.SendReports(c.reportPage); err != nil {
				c.Log.Error("a report could not be made", "error", err)
			}
			_ = clock.Real{}.Sleep(ticking, reportsEach)
		}
	})
	delivering.Go(func() {
		for ticking.Err() == nil {
			delivering.Go(func() { // a slow channel does not delay the others
				if err := r.service.Notices.Deliver(ticking); err != nil {
					c.Log.Error("a delivery could not be recorded", "error", err)
				}
			})
			_ = clock.Real{}.Sleep(ticking, time.Second)
		}
	})
}

// reportPage makes a page of a report for an e-mail. It has no links if the address of the service for people is not
// known.
func (c Serve) reportPage(v api.PeriodReport) (string, error) {
	base := ""
	if c.Base != nil {
		base = strings.TrimRight(c.Base.String(), "/")
	}
	harmless.Scrub(&v, false)
	return paper.Report(v, base != "", base, time.UTC)
}

// reportsEach is how often it is looked whether a report on a period is due.
const reportsEach = time.Minute

// tls is how connections are made. Certificates of agents are asked for, and looked at with each request: that of a
// host whose token is renewed counts no more at once.
func (c Serve) tls(r *running) (*tls.Config, error) {
	pair := &certificate{cert: c.Cert, key: c.Key, log: c.Log, ends: r.service.Notices.CertificateEnds}
	if err := pair.load(); err != nil {
		return nil, err
	}
	r.reload = pair.load
	conf := &tls.Config{GetCertificate: pair.get, MinVersion: tls.VersionTLS12}
	if !c.AgentCertificates {
		return conf, nil
	}
	a, err := r.service.Fleet.Authority()
	if err != nil {
		return nil, err
	}
	conf.ClientAuth, conf.ClientCAs = tls.RequestClientCert, x509.NewCertPool() // browsers have none that it signed
	conf.ClientCAs.AddCert(a.Cert)
	return conf, nil
}

// tellMetrics listens for whoever collects metrics, and gives what ends that.
func (c Serve) tellMetrics(site *httpd.Server) (end func() error, err error) {
	if c.MetricsListen == "" {
		return func() error { return nil }, nil
	}
	l, err := net.Listen("tcp", c.MetricsListen)
	if err != nil {
		return nil, fmt.Errorf("--metrics-listen: %w", err)
	}
	mux := http.NewServeMux()
	mux.Handle("GET /metrics", site.MetricsFor())
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second, WriteTimeout: time.Minute,
		ErrorLog: slog.NewLogLogger(c.Log.Handler(), slog.LevelDebug)}
	go func() {
		if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
			c.Log.Error("metrics are no longer served", "error", err)
		}
	}()
	return server.Close, nil
}

// Client makes an API client that carries a token.
func Client(server, token string, options ...api.ClientOption) (*api.ClientWithResponses, error) {
	return api.NewClientWithResponses(
		server+"/api/v1",
		append(options, api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			r.Header.Set("Authorization", "Bearer "+token)
			return nil
		}))...)
}

// realOnly lets nothing through that a practice answered: whoever serves real drives takes no order of it, even if
// somebody led it there.
type realOnly struct{ http.RoundTripper }

func (t realOnly) RoundTrip(r *http.Request) (*http.Response, error) {
	res, err := t.RoundTripper.RoundTrip(r)
	if err == nil && res.Header.Get(practice.Header) != "" {
		res.Body.Close()
		return nil, fmt.Errorf("%s is a rehearsal: an agent of real drives accepts nothing from it", r.URL.Host)
	}
	return res, err
}

// private makes a folder that only its owner can look into.
func private(dir string) error { return os.MkdirAll(dir, 0o700) }

// moveLogEach is how often the write-ahead log is moved into the database.
const moveLogEach = 2 * time.Second

// moveLog moves the write-ahead log into the database until ctx ends. An error is logged once: it is tried again, and
// nothing is lost.
func (c Serve) moveLog(ctx context.Context, st *store.Store) {
	for logged := ""; (clock.Real{}).Sleep(ctx, moveLogEach) == nil; {
		err := st.Checkpoint()
		if err != nil && err.Error() != logged {
			c.Log.Warn("the write-ahead log could not be moved into the database; trying again", "error", err)
			logged = err.Error()
		}
	}
}
