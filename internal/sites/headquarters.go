package sites

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/service/views"
)

// Headquarters reads the streams and shows all sites as one.
type Headquarters struct {
	Clock clock.Clock
	Log   *slog.Logger
	// Changed is called with new events, at most 4 times a second.
	Changed func([]api.Event)
	// Silent is called with the sites that were known and have not been heard for silentNotice, each time that they
	// change.
	Silent func([]api.Site)
	// Known reports whether a site was invited. It is nil with an external engine, which authenticates sites itself.
	Known func(site string) bool

	nc     *nats.Conn
	js     jetstream.JetStream
	events jetstream.Stream
	made   int64

	mu     sync.Mutex // guards what follows
	sites  map[string]*site
	moved  map[move]bool // moves that are complete
	news   []api.Event
	silent string // the sites in the last call of Silent, one per line
}

// site is what the headquarters knows of a site.
type site struct {
	row     api.Site // only the name is set if nobody invited it
	invited bool
	heard   time.Time
	up      bool // it was reachable at the last look
	version string
	at      time.Time // time of its newest state
	says    *views.SiteState
	hosts   map[string]atHost
}

// atHost is the state of a host. names has everything that a search finds it or its drives by, in capitals.
type atHost struct {
	views.HostState
	names string
}

func hostOf(says views.HostState) atHost {
	var names strings.Builder
	for _, name := range []string{says.Host, says.Room} {
		names.WriteString(name + "\n")
	}
	for _, d := range says.Drives {
		for _, name := range []string{d.Serial, d.WWN, d.Bay, d.Model, d.Pool} {
			names.WriteString(name + "\n")
		}
	}
	return atHost{says, strings.ToUpper(names.String())}
}

// Limits of the stream of events.
const (
	eventsLast = 400 * 24 * time.Hour
	eventsMost = 2 << 30 // bytes, compressed
)

// Begin opens the streams, and creates them if they do not exist; copies is the number of nodes of a cluster that store
// each.
func (h *Headquarters) Begin(ctx context.Context, nc *nats.Conn, copies int) (err error) {
	h.nc, h.sites, h.moved = nc, map[string]*site{}, map[move]bool{}
	if h.js, err = jetstream.New(nc); err != nil {
		return err
	}
	for tries := 1; ; tries++ {
		// A cluster that has just started has no leader yet and does not answer.
		err = h.streams(ctx, copies)
		if err == nil || ctx.Err() != nil || tries == beginTries || !errors.Is(err, context.DeadlineExceeded) {
			return err
		}
	}
}

// Number of tries to open the streams at the start, and the timeout of each.
const (
	beginTries   = 12
	beginTimeout = 5 * time.Second
)

// streams creates the streams that do not exist.
func (h *Headquarters) streams(ctx context.Context, copies int) (err error) {
	ctx, cancel := context.WithTimeout(ctx, beginTimeout)
	defer cancel()
	h.events, err = h.js.CreateOrUpdateStream(ctx, jetstream.StreamConfig{
		Name: eventStream, Subjects: []string{"lantern.event.*"}, Description: "every event of every site",
		MaxAge: eventsLast, MaxBytes: eventsMost, Replicas: copies, Compression: jetstream.S2Compression,
		DenyDelete: true, AllowDirect: true,
	})
	if err != nil {
		return fmt.Errorf("the stream of events: %w", err)
	}
	states, err := h.js.CreateOrUpdateStream(ctx, jetstream.StreamConfig{
		Name: stateStream, Subjects: []string{"lantern.state.>"}, Description: "the newest state of every site and host",
		MaxMsgsPerSubject: 1, Replicas: copies, AllowDirect: true,
	})
	if err != nil {
		return fmt.Errorf("the stream of states: %w", err)
	}
	h.made = max(h.events.CachedInfo().Created.UnixNano(), states.CachedInfo().Created.UnixNano())
	return nil
}

// Run reads the streams until ctx ends.
func (h *Headquarters) Run(ctx context.Context) error {
	var stop []func()
	defer func() {
		for _, f := range stop {
			f()
		}
	}()
	for subject, handle := range map[string]nats.MsgHandler{
		aliveOf("*"): func(m *nats.Msg) { h.heard(strings.TrimPrefix(m.Subject, aliveOf("")), string(m.Data)) },
		lastOf("*"):  func(m *nats.Msg) { go h.answerLast(ctx, m) },
	} {
		sub, err := h.nc.Subscribe(subject, handle)
		if err != nil {
			return err
		}
		stop = append(stop, func() { _ = sub.Unsubscribe() })
	}
	for _, follow := range []struct {
		stream string
		from   jetstream.DeliverPolicy
		take   func(jetstream.Msg)
	}{{stateStream, jetstream.DeliverAllPolicy, h.take}, {eventStream, jetstream.DeliverNewPolicy, h.takeEvent}} {
		consumer, err := h.js.OrderedConsumer(ctx, follow.stream, jetstream.OrderedConsumerConfig{
			DeliverPolicy: follow.from})
		if err != nil {
			return err
		}
		c, err := consumer.Consume(follow.take, jetstream.ConsumeErrHandler(
			func(_ jetstream.ConsumeContext, err error) {
				h.Log.Debug("reading a stream failed; trying again", "stream", follow.stream, "error", err)
			}))
		if err != nil {
			return err
		}
		stop = append(stop, c.Stop)
	}
	tick := time.NewTicker(250 * time.Millisecond)
	defer tick.Stop()
	since := time.Now()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
			h.publishNews()
			h.noticeSilent(since)
		}
	}
}

// silentNotice is the time after which a silent site is a notice. It is longer than a restart of its service takes.
const silentNotice = time.Minute

// noticeSilent passes on which sites are silent. A site that was invited but never connected is not among them.
func (h *Headquarters) noticeSilent(since time.Time) {
	h.mu.Lock()
	now := time.Now()
	var silent []api.Site
	names := ""
	for _, x := range h.sortedLocked() {
		heard := x.heard
		if heard.Before(since) {
			heard = since // before this headquarters ran, nothing was received
		}
		if x.says != nil && now.Sub(heard) > silentNotice {
			silent = append(silent, x.view(now))
			names += x.row.Name + "\n"
		}
	}
	same := names == h.silent
	h.silent = names
	h.mu.Unlock()
	if !same && h.Silent != nil {
		h.Silent(silent)
	}
}

// ofLocked returns a site; an unknown one is added.
func (h *Headquarters) ofLocked(name string) *site {
	x := h.sites[name]
	if x == nil {
		x = &site{row: api.Site{Name: name}, hosts: map[string]atHost{}}
		h.sites[name] = x
	}
	return x
}

// Invited adds the sites that were invited.
func (h *Headquarters) Invited(rows []api.Site) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, row := range rows {
		x := h.ofLocked(row.Name)
		x.row, x.invited = row, true
	}
}

// Remove forgets a site.
func (h *Headquarters) Remove(ctx context.Context, name string) error {
	stream, err := h.js.Stream(ctx, stateStream)
	if err != nil {
		return err
	}
	if err := stream.Purge(ctx, jetstream.WithPurgeSubject("lantern.state."+name+".>")); err != nil {
		return err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.sites, name)
	h.newsLocked(name, name+" was removed")
	return nil
}

// newsLocked adds an event for the screens that are open.
func (h *Headquarters) newsLocked(site, says string) {
	h.news = append(h.news, api.Event{Kind: api.EventKindHost, At: h.Clock.Now(), Subject: site, Says: says})
}

func (h *Headquarters) heard(name, version string) {
	if h.Known != nil && !h.Known(name) {
		return // it was removed while this message was on its way
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	x := h.ofLocked(name)
	if !x.up {
		x.up = true
		h.newsLocked(name, name+" is reachable again")
	}
	x.heard, x.version = time.Now(), version
}

// answerLast answers a site that asks what the streams contain of it.
func (h *Headquarters) answerLast(ctx context.Context, m *nats.Msg) {
	name := strings.TrimPrefix(m.Subject, lastOf(""))
	out := last{Made: h.made}
	var about []seen
	if err := json.Unmarshal(m.Data, &about); err != nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, requestTimeout)
	defer cancel()
	msg, err := h.events.GetLastMsgForSubject(ctx, eventsOf(name))
	if err == nil {
		out.Seq = msg.Sequence
		err = json.Unmarshal(msg.Data, &out.Event)
	} else if errors.Is(err, jetstream.ErrMsgNotFound) {
		err = nil
	}
	if err == nil && len(about) > 0 && out.Seq > 0 {
		out.Common, err = h.common(ctx, name, out.Seq, about)
	}
	if err != nil {
		h.Log.Warn("what the streams contain of a site could not be read; the site asks again", "site", name, "error", err)
		return
	}
	if b, err := json.Marshal(out); err == nil {
		_ = m.Respond(b)
	}
}

// common returns the id of the newest of some events that is also in the stream.
func (h *Headquarters) common(ctx context.Context, name string, upto uint64, about []seen) (newest int64, err error) {
	wanted := map[seen]bool{}
	for _, x := range about {
		wanted[x] = true
	}
	return newest, h.each(ctx, name, upto, func(e event) {
		if wanted[seen{e.ID, e.Sum}] {
			newest = max(newest, e.ID)
		}
	})
}

// each calls f with every event of a site up to a sequence number of the stream, in order.
func (h *Headquarters) each(ctx context.Context, name string, upto uint64, f func(event)) error {
	consumer, err := h.events.OrderedConsumer(ctx, jetstream.OrderedConsumerConfig{
		FilterSubjects: []string{eventsOf(name)}, DeliverPolicy: jetstream.DeliverAllPolicy})
	if err != nil {
		return err
	}
	for {
		batch, err := consumer.Fetch(1000, jetstream.FetchMaxWait(2*time.Second))
		if err != nil {
			return err
		}
		n := 0
		for m := range batch.Messages() {
			n++
			meta, err := m.Metadata()
			if err != nil {
				return err
			}
			var e event
			if json.Unmarshal(m.Data(), &e) == nil {
				f(e)
			}
			if meta.Sequence.Stream >= upto {
				return nil
			}
		}
		if err := batch.Error(); err != nil {
			return err
		}
		if n == 0 || ctx.Err() != nil {
			return ctx.Err()
		}
	}
}

// take stores the state of a site or host that was received.
func (h *Headquarters) take(m jetstream.Msg) {
	parts := strings.SplitN(m.Subject(), ".", 5)
	if len(parts) != 5 {
		return
	}
	var s state
	if err := unpack(m.Data(), &s); err != nil {
		h.Log.Warn("a state of a site cannot be read", "site", parts[2], "error", err)
		return
	}
	if h.Known != nil && !h.Known(parts[2]) {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	x := h.ofLocked(parts[2])
	switch parts[3] {
	case ofHost:
		var host views.HostState
		if err := json.Unmarshal(s.Body, &host); err != nil {
			h.Log.Warn("the state of a host cannot be read", "site", parts[2], "error", err)
			return
		}
		x.hosts[host.Host] = hostOf(host)
	case ofSite:
		var says views.SiteState
		if err := json.Unmarshal(s.Body, &says); err != nil {
			h.Log.Warn("the state of a site cannot be read", "site", parts[2], "error", err)
			return
		}
		x.says, x.at, x.version = &says, s.At, says.Version
		for name := range x.hosts {
			if !slices.Contains(says.Hosts, name) {
				delete(x.hosts, name)
			}
		}
	}
	h.newsLocked(parts[2], "")
}

func (h *Headquarters) takeEvent(m jetstream.Msg) {
	var e event
	if json.Unmarshal(m.Data(), &e) != nil {
		return
	}
	name := strings.TrimPrefix(m.Subject(), eventsOf(""))
	h.mu.Lock()
	defer h.mu.Unlock()
	h.news = append(h.news, api.Event{Kind: api.EventKind(e.Kind), At: e.At, Subject: name + ": " + e.Subject,
		Says: name + ": " + e.Says})
}

// publishNews passes on what is new, many events at once.
func (h *Headquarters) publishNews() {
	h.mu.Lock()
	now := time.Now()
	for name, x := range h.sites {
		if x.up && !x.connected(now) {
			x.up = false
			h.newsLocked(name, name+" is not reachable")
		}
	}
	news := h.news
	h.news = nil
	h.mu.Unlock()
	if len(news) == 0 || h.Changed == nil {
		return
	}
	const most = 50
	h.Changed(news[max(0, len(news)-most):])
}
