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

// Headquarters reads what sites tell, and shows them as one.
type Headquarters struct {
	Clock clock.Clock
	Log   *slog.Logger
	// Changed is called when something is known that was not before, with what happened; at most a few times a second.
	Changed func([]api.Event)
	// Silent is called with the sites that were known and have not been heard for silentTold, each time that they change.
	Silent func([]api.Site)

	nc     *nats.Conn
	js     jetstream.JetStream
	events jetstream.Stream
	made   int64

	mu    sync.Mutex // guards what follows
	sites map[string]*site
	moved map[move]bool // readings that were taken from one site to another
	news  []api.Event
	told  string // the sites that Silent was called with last
}

// site is what is known of one.
type site struct {
	row     api.Site // who invited it; its name alone where nobody did
	invited bool
	heard   time.Time
	up      bool // it was reachable when that was told last
	version string
	at      time.Time // of the newest that it said of itself
	says    *views.SiteSays
	hosts   map[string]atHost
}

// atHost is what is known of a host; names has all by which its drives are found, in capitals.
type atHost struct {
	views.HostSays
	names string
}

func hostOf(says views.HostSays) atHost {
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

// How much of what sites told is kept by the engine.
const (
	eventsLast = 400 * 24 * time.Hour
	eventsMost = 2 << 30 // bytes, compressed
)

// Begin connects to the streams, and makes them where there are none; copies is on how many nodes of a cluster each is
// kept.
func (h *Headquarters) Begin(ctx context.Context, nc *nats.Conn, copies int) (err error) {
	h.nc, h.sites, h.moved = nc, map[string]*site{}, map[move]bool{}
	if h.js, err = jetstream.New(nc); err != nil {
		return err
	}
	for tries := 1; ; tries++ {
		// A cluster that has just begun has no leader yet, and does not answer.
		err = h.streams(ctx, copies)
		if err == nil || ctx.Err() != nil || tries == beginTries || !errors.Is(err, context.DeadlineExceeded) {
			return err
		}
	}
}

// How often the streams are asked for at the start, and how long each time.
const (
	beginTries  = 12
	beginWithin = 5 * time.Second
)

// streams makes the streams, where they are not there.
func (h *Headquarters) streams(ctx context.Context, copies int) (err error) {
	ctx, cancel := context.WithTimeout(ctx, beginWithin)
	defer cancel()
	h.events, err = h.js.CreateOrUpdateStream(ctx, jetstream.StreamConfig{
		Name: eventStream, Subjects: []string{"lantern.event.*"}, Description: "every event of every site",
		MaxAge: eventsLast, MaxBytes: eventsMost, Replicas: copies, Compression: jetstream.S2Compression,
		DenyDelete: true, AllowDirect: true,
	})
	if err != nil {
		return fmt.Errorf("the stream of events: %w", err)
	}
	said, err := h.js.CreateOrUpdateStream(ctx, jetstream.StreamConfig{
		Name: saidStream, Subjects: []string{"lantern.said.>"}, Description: "the newest that sites said",
		MaxMsgsPerSubject: 1, Replicas: copies, AllowDirect: true,
	})
	if err != nil {
		return fmt.Errorf("the stream of what sites say: %w", err)
	}
	h.made = max(h.events.CachedInfo().Created.UnixNano(), said.CachedInfo().Created.UnixNano())
	return nil
}

// Run follows what sites tell until ctx ends.
func (h *Headquarters) Run(ctx context.Context) error {
	var stop []func()
	defer func() {
		for _, f := range stop {
			f()
		}
	}()
	for subject, handle := range map[string]nats.MsgHandler{
		aliveOf("*"): func(m *nats.Msg) { h.hear(strings.TrimPrefix(m.Subject, aliveOf("")), string(m.Data)) },
		lastOf("*"):  func(m *nats.Msg) { go h.tellLast(ctx, m) },
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
	}{{saidStream, jetstream.DeliverAllPolicy, h.take}, {eventStream, jetstream.DeliverNewPolicy, h.takeEvent}} {
		consumer, err := h.js.OrderedConsumer(ctx, follow.stream, jetstream.OrderedConsumerConfig{
			DeliverPolicy: follow.from})
		if err != nil {
			return err
		}
		c, err := consumer.Consume(follow.take, jetstream.ConsumeErrHandler(
			func(_ jetstream.ConsumeContext, err error) {
				h.Log.Debug("following what sites tell; it is tried again", "stream", follow.stream, "error", err)
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
			h.tellNews()
			h.tellSilent(since)
		}
	}
}

// silentTold is how long a site may be silent until people are told: longer than its service takes to be started anew.
const silentTold = time.Minute

// tellSilent says which sites have been silent for long. One that was invited and never came is no news.
func (h *Headquarters) tellSilent(since time.Time) {
	h.mu.Lock()
	now := time.Now()
	var silent []api.Site
	told := ""
	for _, x := range h.sortedLocked() {
		heard := x.heard
		if heard.Before(since) {
			heard = since // before this headquarters ran, nobody listened
		}
		if x.says != nil && now.Sub(heard) > silentTold {
			silent = append(silent, x.view(now))
			told += x.row.Name + "\n"
		}
	}
	same := told == h.told
	h.told = told
	h.mu.Unlock()
	if !same && h.Silent != nil {
		h.Silent(silent)
	}
}

// ofLocked gives what is known of a site.
func (h *Headquarters) ofLocked(name string) *site {
	x := h.sites[name]
	if x == nil {
		x = &site{row: api.Site{Name: name}, hosts: map[string]atHost{}}
		h.sites[name] = x
	}
	return x
}

// Invited says which sites were invited; nil where an engine of others lets sites in.
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
	stream, err := h.js.Stream(ctx, saidStream)
	if err != nil {
		return err
	}
	if err := stream.Purge(ctx, jetstream.WithPurgeSubject("lantern.said."+name+".>")); err != nil {
		return err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.sites, name)
	h.news = append(h.news, api.Event{Kind: api.EventKindHost, At: h.Clock.Now(), Subject: name,
		Says: "the site was removed"})
	return nil
}

func (h *Headquarters) hear(name, version string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	x := h.ofLocked(name)
	if !x.up {
		x.up = true
		h.news = append(h.news, api.Event{Kind: api.EventKindHost, At: h.Clock.Now(), Subject: name,
			Says: name + " is heard"})
	}
	x.heard, x.version = time.Now(), version
}

// tellLast tells a site what the streams have of it.
func (h *Headquarters) tellLast(ctx context.Context, m *nats.Msg) {
	name := strings.TrimPrefix(m.Subject, lastOf(""))
	out := last{Made: h.made}
	var about []seen
	if err := json.Unmarshal(m.Data, &about); err != nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, tellWithin)
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
		h.Log.Warn("a site asked what is known of it, and could not be told", "site", name, "error", err)
		return // it asks again
	}
	if b, err := json.Marshal(out); err == nil {
		_ = m.Respond(b)
	}
}

// common is the newest of some events that the stream has too.
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

// each gives every event of a site up to a number of the stream, in order.
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

// take takes in what a site says of itself or of a host.
func (h *Headquarters) take(m jetstream.Msg) {
	parts := strings.SplitN(m.Subject(), ".", 5)
	if len(parts) != 5 {
		return
	}
	var s said
	if err := unpack(m.Data(), &s); err != nil {
		h.Log.Warn("what a site says cannot be read", "site", parts[2], "error", err)
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	x := h.ofLocked(parts[2])
	switch parts[3] {
	case ofHost:
		var host views.HostSays
		if err := json.Unmarshal(s.Body, &host); err != nil {
			h.Log.Warn("what a site says of a host cannot be read", "site", parts[2], "error", err)
			return
		}
		x.hosts[host.Host] = hostOf(host)
	case ofSite:
		var says views.SiteSays
		if err := json.Unmarshal(s.Body, &says); err != nil {
			h.Log.Warn("what a site says of itself cannot be read", "site", parts[2], "error", err)
			return
		}
		x.says, x.at, x.version = &says, s.At, says.Version
		for name := range x.hosts {
			if !slices.Contains(says.Hosts, name) {
				delete(x.hosts, name)
			}
		}
	}
	h.news = append(h.news, api.Event{Kind: api.EventKindHost, At: h.Clock.Now(), Subject: parts[2]})
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

// tellNews says what is new, many at once.
func (h *Headquarters) tellNews() {
	h.mu.Lock()
	now := time.Now()
	for name, x := range h.sites {
		if x.up && !x.reachable(now) {
			x.up = false
			h.news = append(h.news, api.Event{Kind: api.EventKindHost, At: h.Clock.Now(), Subject: name,
				Says: name + " cannot be reached"})
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
