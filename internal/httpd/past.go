package httpd

import (
	"context"
	"errors"
	"io"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"lantern/internal/service"
	"lantern/internal/service/problem"
)

// OpenPast loads the service as it was at a moment; close releases it.
type OpenPast func(at time.Time) (s *service.Service, close func() error, err error)

// mostPasts is how many earlier moments are kept ready, and pastLasts for how long after they were used.
const (
	mostPasts = 3
	pastLasts = 10 * time.Minute
)

// asOf is the header that gives the moment of which an answer is.
const asOf = "Lantern-As-Of"

// pasts are the services of earlier moments that were used recently.
type pasts struct {
	opening sync.Mutex // one is loaded at a time: each needs as much memory as a service
	mu      sync.Mutex
	ready   []*past // the most recently used is the last
}

type past struct {
	at   time.Time
	site http.Handler
	end  func() error
	used int  // number of requests that use it now
	over bool // it is closed after its last use
	idle *time.Timer
}

// take gives the past of a moment, and loads it if necessary. The caller must release it.
func (p *pasts) take(
	ctx context.Context,
	at time.Time,
	open func() (http.Handler, func() error, error),
) (*past, error) {
	if x := p.find(at); x != nil {
		return x, nil
	}
	p.opening.Lock()
	defer p.opening.Unlock()
	if x := p.find(at); x != nil {
		return x, nil
	}
	if ctx.Err() != nil {
		return nil, ctx.Err() // the client is gone: it asked for another moment
	}
	site, end, err := open()
	if err != nil {
		return nil, err
	}
	x := &past{at: at, site: site, end: end, used: 1}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.ready = append(p.ready, x)
	if len(p.ready) > mostPasts {
		p.dropLocked(p.ready[0])
		p.ready = p.ready[1:]
	}
	return x, nil
}

func (p *pasts) find(at time.Time) *past {
	p.mu.Lock()
	defer p.mu.Unlock()
	for i, x := range p.ready {
		if x.at.Equal(at) {
			p.ready = append(append(p.ready[:i:i], p.ready[i+1:]...), x)
			x.used++
			if x.idle != nil {
				x.idle.Stop()
			}
			return x
		}
	}
	return nil
}

func (p *pasts) release(x *past) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch x.used--; {
	case x.used > 0:
	case x.over:
		_ = x.end() // it is a copy in a folder of its own
	default:
		x.idle = time.AfterFunc(pastLasts, func() { p.unused(x) })
	}
}

// unused closes a past after a time without use.
func (p *pasts) unused(x *past) {
	p.mu.Lock()
	defer p.mu.Unlock()
	i := slices.Index(p.ready, x)
	if i < 0 || x.used > 0 {
		return
	}
	p.ready = slices.Delete(p.ready, i, i+1)
	p.dropLocked(x)
}

// dropLocked closes a past, now or after its last use. Must be called with p.mu held.
func (p *pasts) dropLocked(x *past) {
	if x.idle != nil {
		x.idle.Stop()
	}
	if x.over = true; x.used == 0 {
		_ = x.end()
	}
}

// Close closes all loaded pasts.
func (s *Server) Close() error {
	s.pasts.mu.Lock()
	defer s.pasts.mu.Unlock()
	for _, x := range s.pasts.ready {
		s.pasts.dropLocked(x)
	}
	s.pasts.ready = nil
	return nil
}

var _ io.Closer = (*Server)(nil)

// inPast answers a request from the records of an earlier moment. Only reading is allowed.
func (s *Server) inPast(c *echo.Context, o apiCall, text string) error {
	at, err := time.Parse(time.RFC3339Nano, text)
	switch {
	case err != nil:
		return problem.New(422, "bad-time", "Write it such as 2026-11-24T03:12:00Z.", "%q is not a time.", text)
	case c.Request().Method != http.MethodGet:
		return problem.New(409, "past", "Leave out the moment to act now.", "Nothing can be changed as of %s.", text)
	case !o.Past || s.OpenPast == nil:
		return problem.New(422, "no-past", "Ask without a moment.", "This cannot be asked as of an earlier moment.")
	case at.After(s.Now()):
		return problem.New(422, "bad-time", "Ask for a moment that has passed.", "%s is in the future.", text)
	}
	at = at.UTC().Truncate(time.Millisecond)
	x, err := s.pasts.take(c.Request().Context(), at, func() (http.Handler, func() error, error) {
		then, end, err := s.OpenPast(at)
		if err != nil {
			return nil, nil, err
		}
		site := &Server{
			Service:  then,
			Version:  s.Version,
			Now:      func() time.Time { return at },
			Log:      s.Log,
			Practice: s.Practice,
		}
		return site.Handler(), end, nil
	})
	if errors.Is(err, service.ErrNoPast) {
		since, _ := s.Service.PastSince()
		do := "Earlier moments are kept with: lantern serve --keep-past 30d"
		if !since.IsZero() {
			do = "The earliest moment is " + since.Format("2006-01-02 15:04:05") + " UTC."
		}
		return problem.New(
			404,
			"no-past",
			do,
			"The state at %s is not kept.",
			at.Format("2006-01-02 15:04:05 UTC"),
		)
	}
	if err != nil {
		return err
	}
	defer s.pasts.release(x)
	r := c.Request().Clone(context.WithValue(c.Request().Context(), internalRequest{}, rights(c)))
	q := r.URL.Query()
	q.Del("at")
	r.URL.RawQuery = q.Encode()
	r.Header.Del("Accept-Encoding") // the answer is compressed like any other
	r.Header.Del("If-None-Match")
	c.Response().Header().Set(asOf, at.Format(time.RFC3339Nano))
	x.site.ServeHTTP(c.Response(), r)
	return nil
}
