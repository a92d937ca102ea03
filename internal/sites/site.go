package sites

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strconv"
	"sync/atomic"
	"time"

	"github.com/nats-io/nats.go"

	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/service/views"
)

// Source is the service of a site, from which its data is read.
type Source interface {
	// Events returns up to limit events after an id, in order.
	Events(after int64, limit int) ([]api.Event, error)
	// EventsBefore returns up to limit events before an id, the newest first.
	EventsBefore(id int64, limit int) ([]api.Event, error)
	// Site returns the state of the site, and of the hosts whose stamps differ from those in sent. It updates sent.
	Site(sent map[string]uint64) (views.SiteState, []views.HostState)
	// Changes is a counter that increases when the result of Site may have changed.
	Changes() int
}

// Site sends the data of a service to a headquarters and answers its requests. The service does not depend on it: what
// cannot be sent now is sent later, from the service's own records.
type Site struct {
	Name    string
	URL     string // of the engine
	Secret  string // empty if the URL or Creds has the credentials
	Creds   string // file with credentials for an external engine; may be empty
	Version string
	Source  Source
	Handler http.Handler // answers requests that come through the headquarters
	Clock   clock.Clock
	Log     *slog.Logger
	Options []nats.Option

	nc      *nats.Conn
	sent    map[string]uint64 // stamp of the newest state sent of each host
	wait    map[string]views.HostState
	made    int64 // identifies the streams that it was sent to
	version int   // Source.Changes of the newest state sent
	lastSeq uint64
	sentTo  int64       // id of the newest event in the stream
	known   bool        // lastSeq and sentTo are valid
	again   atomic.Bool // the connection was made again: the streams may have been created again
	fullAt  time.Time
	restTo  time.Time // no state is sent before that
}

// Intervals: look for data to send, send a heartbeat, silence after which a site is not reachable, and send the state
// although nothing changed.
const (
	sendEvery      = time.Second
	sendFor        = 2 * time.Second // events, before states and heartbeats
	aliveEvery     = 2 * time.Second
	silentFor      = 10 * time.Second
	resendEvery    = time.Minute
	requestTimeout = 10 * time.Second
	// After the time that Source.Site took, the site waits restFor times as long, and restMost at the most.
	restFor  = 25
	restMost = 5 * time.Second
)

// Run sends data and answers requests until ctx ends. It connects again by itself.
func (s *Site) Run(ctx context.Context) error {
	s.sent, s.wait = map[string]uint64{}, map[string]views.HostState{}
	options := append([]nats.Option{
		nats.Name("site " + s.Name), nats.CustomInboxPrefix(inboxOf(s.Name)), nats.MaxReconnects(-1),
		nats.ReconnectWait(time.Second), nats.RetryOnFailedConnect(true), nats.PingInterval(3 * time.Second),
		nats.MaxPingsOutstanding(2), nats.ReconnectBufSize(-1), nats.Timeout(5 * time.Second),
		nats.DisconnectErrHandler(func(_ *nats.Conn, err error) {
			if err != nil && ctx.Err() == nil {
				s.Log.Warn("headquarters not reachable; events are sent later", "error", err)
			}
		}),
		nats.ReconnectHandler(func(*nats.Conn) {
			s.again.Store(true)
			s.Log.Info("headquarters reachable again")
		}),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) {
			s.Log.Warn("connection to the headquarters", "error", err)
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
			s.Log.Warn("too many requests through the headquarters at once: one was dropped")
		}
	})
	if err != nil {
		return err
	}
	defer func() { _ = sub.Unsubscribe() }()
	return s.send(ctx)
}

func (s *Site) send(ctx context.Context) error {
	tick := time.NewTicker(sendEvery)
	defer tick.Stop()
	var aliveAt time.Time
	logged := "" // the last error that was logged: each is logged once
	for {
		more := false
		if s.nc.IsConnected() {
			if s.again.Swap(false) {
				s.known = false
			}
			var err error
			more, err = s.sendEvents(ctx)
			err = errors.Join(err, s.sendState(ctx))
			if err == nil {
				logged = ""
				// A heartbeat means that the headquarters has the newest state, so it follows a successful send only.
				if now := time.Now(); now.Sub(aliveAt) >= aliveEvery {
					aliveAt = now
					_ = s.nc.Publish(aliveOf(s.Name), []byte(s.Version)) // if it is lost, the next follows
				}
			} else if ctx.Err() == nil && err.Error() != logged {
				logged = err.Error()
				s.Log.Warn("data could not be sent to the headquarters; trying again", "error", err)
			}
		}
		if more && ctx.Err() == nil {
			continue
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

// publish adds a message to a stream and waits until it is stored.
func (s *Site) publish(ctx context.Context, m *nats.Msg) (seq uint64, err error) {
	ctx, cancel := context.WithTimeout(ctx, requestTimeout)
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

// engineError is an error that the engine returned.
type engineError struct {
	code int
	says string
}

// Error returns the text of the engine.
func (e engineError) Error() string {
	return fmt.Sprintf("the engine refused: %s (%d)", e.says, e.code)
}

// ask asks the headquarters what the streams contain of this site.
func (s *Site) ask(ctx context.Context, about []seen) (l last, err error) {
	ctx, cancel := context.WithTimeout(ctx, requestTimeout)
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

// findOut finds the newest event of this site in the stream.
func (s *Site) findOut(ctx context.Context) error {
	l, err := s.ask(ctx, nil)
	if err != nil {
		return err
	}
	if l.Made != s.made { // they were created again, or this service has just started
		s.made, s.sent, s.version = l.Made, map[string]uint64{}, -1
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
				"%s was restored from older records: its events after %d are no longer in them", s.Name, s.sentTo)}
			s.Log.Warn("these records are older than the events at the headquarters; an event there says so",
				"event", s.sentTo)
			back.Sum = restored
			if err := s.publishEvent(ctx, back); err != nil {
				return err
			}
		}
	}
	s.known = true
	return nil
}

// common returns the id of the newest of its own events that is also in the stream, 0 for none.
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

// publishEvent appends an event on the condition that lastSeq is still the newest of this site in the stream. Therefore
// an event is not doubled if its acknowledgement was lost, and the events of two services with one name do not mix.
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
		s.known = false // it is not known whether the stream has it
		return err
	}
	s.lastSeq, s.sentTo = seq, e.ID
	return nil
}

// sendEvents sends events, for a limited time: states and heartbeats must not wait until no more events occur. more is
// true if there are others to send.
func (s *Site) sendEvents(ctx context.Context) (more bool, err error) {
	if !s.known {
		if err := s.findOut(ctx); err != nil {
			return false, err
		}
	}
	for until := time.Now().Add(sendFor); ; {
		next, err := s.Source.Events(s.sentTo, 500)
		if err != nil || len(next) == 0 {
			return false, err
		}
		for _, e := range next {
			if err := s.publishEvent(ctx, eventOf(e)); err != nil {
				return false, err
			}
			if time.Now().After(until) {
				return true, nil
			}
		}
	}
}

// sendState sends the state of the site, and of the hosts that changed.
func (s *Site) sendState(ctx context.Context) error {
	if !s.known {
		return nil // sendEvents has failed and returns why
	}
	changes := s.Source.Changes()
	if changes == s.version && len(s.wait) == 0 && time.Since(s.fullAt) < resendEvery {
		return nil
	}
	begun := time.Now()
	if begun.Before(s.restTo) {
		return nil
	}
	site, hosts := s.Source.Site(s.sent)
	// Site holds the lock of the service: a large service is read less often.
	s.restTo = begun.Add(min(restFor*time.Since(begun), restMost))
	site.Version = s.Version
	for _, h := range hosts {
		s.wait[h.Host] = h // a newer state replaces one that was not sent yet
	}
	for name, h := range s.wait {
		if err := s.publishState(ctx, ofHost, name, h); err != nil {
			return err
		}
		delete(s.wait, name)
	}
	if err := s.publishState(ctx, ofSite, s.Name, site); err != nil {
		return err
	}
	s.version, s.fullAt = changes, time.Now()
	return nil
}

func (s *Site) publishState(ctx context.Context, kind, name string, v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	b, err := pack(state{At: s.Clock.Now().UTC(), Name: name, Body: body})
	if err != nil {
		return err
	}
	m := nats.NewMsg(stateOf(s.Name, kind, name))
	m.Data = b
	_, err = s.publish(ctx, m)
	return err
}
