package sites

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strconv"
	"time"

	"github.com/nats-io/nats.go"

	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/service/views"
)

// Source is the service of a site: what it tells.
type Source interface {
	// Events are up to limit events after an id, in order.
	Events(after int64, limit int) ([]api.Event, error)
	// EventsBefore are up to limit events before an id, the newest first.
	EventsBefore(id int64, limit int) ([]api.Event, error)
	// Site is what the site says of itself, and of the hosts that changed since they were told.
	Site(told map[string]uint64) (views.SiteSays, []views.HostSays)
	// Changes counts what Site says that may have changed.
	Changes() int
}

// Site tells a headquarters what a service knows, and answers what it asks. The service does not depend on it: what
// cannot be told now is told later, from the service's own records.
type Site struct {
	Name    string
	URL     string // of the engine
	Secret  string // empty where the URL or a file has what is needed to be let in
	Creds   string // a file of an engine of others; may be empty
	Version string
	Source  Source
	Handler http.Handler // answers requests that come through the headquarters
	Clock   clock.Clock
	Log     *slog.Logger
	Options []nats.Option

	nc      *nats.Conn
	told    map[string]uint64 // stamps of what was told of each host
	wait    map[string]views.HostSays
	made    int64 // tells apart which streams it was told to
	version int   // of what was told of the site
	lastSeq uint64
	sentTo  int64 // the newest event that the stream has
	known   bool  // lastSeq and sentTo are known
	fullAt  time.Time
	restTo  time.Time // nothing is told of the state before that
}

// How often is looked whether there is something to tell; how often a site says that it is there; how long the
// headquarters waits before it calls a site silent; and how often a site tells of itself at the least.
const (
	tellEach   = time.Second
	aliveEach  = 2 * time.Second
	silentFor  = 10 * time.Second
	retellEach = time.Minute
	tellWithin = 10 * time.Second
	// restFor is how many times as long as finding out what changed takes it is not looked again.
	restFor = 25
)

// Run tells and answers until ctx ends. A line that is cut is joined again by itself.
func (s *Site) Run(ctx context.Context) error {
	s.told, s.wait = map[string]uint64{}, map[string]views.HostSays{}
	options := append([]nats.Option{
		nats.Name("site " + s.Name), nats.CustomInboxPrefix(inboxOf(s.Name)), nats.MaxReconnects(-1),
		nats.ReconnectWait(time.Second), nats.RetryOnFailedConnect(true), nats.PingInterval(3 * time.Second),
		nats.MaxPingsOutstanding(2), nats.ReconnectBufSize(-1), nats.Timeout(5 * time.Second),
		nats.DisconnectErrHandler(func(_ *nats.Conn, err error) {
			if err != nil && ctx.Err() == nil {
				s.Log.Warn("the headquarters cannot be reached; what happens meanwhile is told later", "error", err)
			}
		}),
		nats.ReconnectHandler(func(*nats.Conn) { s.Log.Info("the headquarters can be reached again") }),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) {
			s.Log.Warn("the connection to the headquarters", "error", err)
		}),
	}, s.Options...)
	if s.Secret != "" {
		options = append(options, nats.UserInfo(s.Name, s.Secret))
	}
	if s.Creds != "" {
		options = append(options, nats.UserCredentials(s.Creds))
	}
	var err error
	if s.nc, err = nats.Connect(s.URL, options...); err != nil {
		return fmt.Errorf("the headquarters' engine: %w", err)
	}
	defer s.nc.Close()
	turns := make(chan struct{}, atOnce)
	sub, err := s.nc.QueueSubscribe(askOf(s.Name), "site", func(m *nats.Msg) {
		select {
		case turns <- struct{}{}:
			go func() { defer func() { <-turns }(); answer(ctx, s.nc, s.Handler, m) }()
		default:
			s.Log.Warn("too many requests come through the headquarters at once; one is not answered")
		}
	})
	if err != nil {
		return err
	}
	defer func() { _ = sub.Unsubscribe() }()
	return s.tell(ctx)
}

func (s *Site) tell(ctx context.Context) error {
	tick := time.NewTicker(tellEach)
	defer tick.Stop()
	var aliveAt time.Time
	said := "" // what went wrong last, so that it is logged once
	for {
		if s.nc.IsConnected() {
			if now := time.Now(); now.Sub(aliveAt) >= aliveEach {
				aliveAt = now
				_ = s.nc.Publish(aliveOf(s.Name), []byte(s.Version)) // the next comes soon
			}
			err := errors.Join(s.tellEvents(ctx), s.tellState(ctx))
			if err == nil {
				said = ""
			} else if ctx.Err() == nil && err.Error() != said {
				said = err.Error()
				s.Log.Warn("the headquarters could not be told; it is tried again", "error", err)
			}
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

// publish puts a message into a stream and waits until it is kept.
func (s *Site) publish(ctx context.Context, m *nats.Msg) (seq uint64, err error) {
	ctx, cancel := context.WithTimeout(ctx, tellWithin)
	defer cancel()
	r, err := s.nc.RequestMsgWithContext(ctx, m)
	if err != nil {
		return 0, err
	}
	var ack struct {
		Seq   uint64 `json:"seq"`
		Error *struct {
			Code int    `json:"err_code"`
			Says string `json:"description"`
		} `json:"error"`
	}
	if err := json.Unmarshal(r.Data, &ack); err != nil {
		return 0, fmt.Errorf("the engine's answer cannot be read: %w", err)
	}
	if ack.Error != nil {
		return 0, engineError{ack.Error.Code, ack.Error.Says}
	}
	return ack.Seq, nil
}

// engineError is what the engine refuses with.
type engineError struct {
	code int
	says string
}

// Error is what the engine says.
func (e engineError) Error() string {
	return fmt.Sprintf("the engine refuses: %s (%d)", e.says, e.code)
}

// ask asks the headquarters what the streams have of this site.
func (s *Site) ask(ctx context.Context, about []seen) (l last, err error) {
	ctx, cancel := context.WithTimeout(ctx, tellWithin)
	defer cancel()
	b, err := json.Marshal(about)
	if err != nil {
		return l, err
	}
	r, err := s.nc.RequestWithContext(ctx, lastOf(s.Name), b)
	if err != nil {
		return l, err
	}
	return l, json.Unmarshal(r.Data, &l)
}

// findOut finds out up to which event the stream has them.
func (s *Site) findOut(ctx context.Context) error {
	l, err := s.ask(ctx, nil)
	if err != nil {
		return err
	}
	if l.Made != s.made { // they were made anew, or this service just began
		s.made, s.told, s.version = l.Made, map[string]uint64{}, -1
	}
	s.lastSeq, s.sentTo = l.Seq, l.Event.ID
	if l.Seq > 0 {
		own, err := s.Source.Events(l.Event.ID-1, 1)
		if err != nil {
			return err
		}
		there := len(own) > 0 && own[0].Id == l.Event.ID
		if l.Event.Sum == restored {
			there = there || l.Event.ID == 0
		} else {
			there = there && eventOf(own[0]).Sum == l.Event.Sum
		}
		if !there {
			if s.sentTo, err = s.common(ctx); err != nil {
				return err
			}
			back := event{ID: s.sentTo, Kind: "host", At: s.Clock.Now().UTC(), Subject: s.Name, Says: fmt.Sprintf(
				"%s went on from older records: what it told after its event %d is no longer in them", s.Name, s.sentTo)}
			s.Log.Warn("these records are older than what the headquarters was told; it is told so", "event", s.sentTo)
			back.Sum = restored
			if err := s.publishEvent(ctx, back); err != nil {
				return err
			}
		}
	}
	s.known = true
	return nil
}

// common finds the newest of its own events that the stream has too, 0 for none.
func (s *Site) common(ctx context.Context) (int64, error) {
	const together = 500
	for before := int64(1) << 62; ; {
		own, err := s.Source.EventsBefore(before, together)
		if err != nil || len(own) == 0 {
			return 0, err
		}
		about := make([]seen, len(own))
		for i, e := range own {
			about[i] = seen{e.Id, eventOf(e).Sum}
		}
		l, err := s.ask(ctx, about)
		if err != nil || l.Common > 0 {
			return l.Common, err
		}
		before = own[len(own)-1].Id
	}
}

// publishEvent appends an event if the newest of this site in the stream is the one that we know of: so none is doubled
// whose acknowledgement was lost, and two services of one name do not mix.
func (s *Site) publishEvent(ctx context.Context, e event) error {
	b, err := json.Marshal(e)
	if err != nil {
		return err
	}
	m := nats.NewMsg(eventsOf(s.Name))
	m.Data = b
	m.Header.Set(nats.ExpectedLastSubjSeqHdr, strconv.FormatUint(s.lastSeq, 10))
	seq, err := s.publish(ctx, m)
	if err != nil {
		s.known = false // it may be there or not
		return err
	}
	s.lastSeq, s.sentTo = seq, e.ID
	return nil
}

func (s *Site) tellEvents(ctx context.Context) error {
	if !s.known {
		if err := s.findOut(ctx); err != nil {
			return err
		}
	}
	for ctx.Err() == nil {
		next, err := s.Source.Events(s.sentTo, 500)
		if err != nil || len(next) == 0 {
			return err
		}
		for _, e := range next {
			if err := s.publishEvent(ctx, eventOf(e)); err != nil {
				return err
			}
		}
	}
	return ctx.Err()
}

// tellState tells what changed of the site and of its hosts.
func (s *Site) tellState(ctx context.Context) error {
	if !s.known {
		return nil // which streams there are is not known
	}
	changes := s.Source.Changes()
	if changes == s.version && len(s.wait) == 0 && time.Since(s.fullAt) < retellEach {
		return nil
	}
	begun := time.Now()
	if begun.Before(s.restTo) {
		return nil
	}
	site, hosts := s.Source.Site(s.told)
	// The service stands still meanwhile: a large one is asked less often.
	s.restTo = begun.Add(restFor * time.Since(begun))
	site.Version = s.Version
	for _, h := range hosts {
		s.wait[h.Host] = h // what could not be told yet is replaced by what is newer
	}
	for name, h := range s.wait {
		if err := s.say(ctx, ofHost, name, h); err != nil {
			return err
		}
		delete(s.wait, name)
	}
	if err := s.say(ctx, ofSite, s.Name, site); err != nil {
		return err
	}
	s.version, s.fullAt = changes, time.Now()
	return nil
}

func (s *Site) say(ctx context.Context, kind, name string, v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	b, err := pack(said{At: s.Clock.Now().UTC(), Name: name, Body: body})
	if err != nil {
		return err
	}
	m := nats.NewMsg(saidBy(s.Name, kind, name))
	m.Data = b
	_, err = s.publish(ctx, m)
	return err
}
