// Package httpd serves the API of openapi.yaml and the console over HTTP, and authenticates every request.
package httpd

import (
	"bytes"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/gzhttp"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/lab"
	"lantern/internal/practice"
	"lantern/internal/service"
	"lantern/internal/service/people"
	"lantern/internal/service/problem"
	"lantern/internal/sites"
)

// base is the path of the API.
const base = "/api/v1"

// cookieName is the cookie of the console's session. Browsers share cookies between ports, so a rehearsal has its own.
func (s *Server) cookieName() string {
	if s.Practice.Pool != "" {
		return "lantern-practice"
	}
	if s.At != "" {
		return sites.CookieOf(s.At)
	}
	return "lantern"
}

// Server answers requests. Lab is nil unless this is a demo.
type Server struct {
	Service *service.Service
	Lab     Lab
	Version string
	Now     func() time.Time
	Log     *slog.Logger
	Secure  bool // served over TLS: the cookie must not be sent without it
	// Certificates is true where agents get certificates and must show them.
	Certificates bool
	// Base is the address of the service for people and agents, such as https://lantern.example/storage; nil if it is
	// the address on which it listens.
	Base *url.URL
	// Proxies are the addresses of trusted reverse proxies, which report the client's address and protocol.
	Proxies []netip.Prefix
	// Metrics are the settings of the service's own metrics.
	Metrics Metrics
	// Provider is an identity provider; nil for tokens alone.
	Provider *Provider
	// Practice is set in a rehearsal: then nothing is sent to the outside.
	Practice api.Practice

	// Headquarters is set at a headquarters.
	Headquarters *Headquarters
	// At is the name of this site at its headquarters, for people who come through that; empty for direct access.
	At string

	// OpenPast loads the state of an earlier moment; nil where the past is not kept.
	OpenPast OpenPast

	pasts    pasts
	site     http.Handler // all of it
	tries    tries        // wrong tokens, by address
	measured *measured
	taking   chan struct{} // holds an element for each report that is being processed
	turns    sync.Map      // requests with an idempotency key; each channel is closed after the answer
}

// Lab does in a demo what a person would do at the hardware.
type Lab interface {
	Speed() float64
	SetSpeed(float64) error
	Hurry() float64
	SetHurry(float64) error
	Throw(pool string, m practice.Mishap) error
	Pull(bay string) (lab.Moved, error)
	Silence(host string, mute bool) error
	Power(host string, on bool) error
	Stick(pool string, stuck bool) error
	At(bay string) (tail string)
	ReadBack(pool string) error
	Blinks() []string
	Break(host, part string, well bool) error
	Insert(bay string, s lab.NewDrive) (lab.Moved, error)
	JoinByHand(pool, slot, tail string) (lab.Moved, error)
}

// Handler serves the API and the console.
func (s *Server) Handler() http.Handler {
	e := echo.New()
	e.Logger = s.Log
	e.IPExtractor = s.asker()
	e.Pre(s.underRoot)
	e.HTTPErrorHandler = s.handleError
	e.Pre(s.headers)
	s.measured, s.taking = newMeasured(), make(chan struct{}, reportsAtOnce)
	e.Use(s.measure)
	e.Use(middleware.Recover())
	e.Use(tagged)
	e.Use(s.authenticate)
	api.RegisterHandlersWithBaseURL(e, newCalls(s), base)
	e.GET("/healthz", s.alive)
	e.GET("/readyz", s.readyFor)
	e.GET("/metrics", s.metrics())
	e.GET(base+"/openapi.yaml", func(c *echo.Context) error {
		return c.Blob(http.StatusOK, "application/yaml", api.Document)
	})
	e.GET("/sign-in/once", s.useLink)
	e.GET("/sign-in/provider", s.toProvider)
	e.GET(backPath, s.fromProvider)
	e.GET("/calendar/:file", s.feed)
	e.Any("/sites/:site", s.toSite(s.consoleUnder()))
	e.Any("/sites/:site/*", s.toSite(s.consoleUnder()))
	e.GET("/*", s.console())
	s.site = compressed(e)
	return s.site
}

// compressed compresses long answers, except event streams, which must not be delayed. A compressor is set up only for
// an answer that is long enough: most answers to agents are short.
func compressed(next http.Handler) http.Handler {
	wrap, err := gzhttp.NewWrapper(gzhttp.MinSize(1024), gzhttp.ContentTypeFilter(func(kind string) bool {
		return !strings.HasPrefix(kind, "text/event-stream") && gzhttp.DefaultContentTypeFilter(kind)
	}))
	if err != nil {
		panic(err) // a mistake in the options above
	}
	return wrap(next)
}

// How long a request may take to arrive, and a stream of lines that is imported.
const (
	bodyWithin   = 90 * time.Second
	streamWithin = time.Hour
)

// reportsAtOnce is how many reports are decoded and processed at once.
const reportsAtOnce = 8

// headers adds the headers of every answer.
func (s *Server) headers(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		h.Set(
			"Content-Security-Policy",
			"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors "+
				"'none'; base-uri 'none'; form-action 'self'",
		)
		if s.secure(c) {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		if r := c.Request(); r.Body != nil && r.Body != http.NoBody {
			// A client that sends very slowly must not hold a connection for ever. The server removes this limit after
			// the answer.
			within := bodyWithin
			if streamed(r) {
				within = streamWithin
			}
			_ = http.NewResponseController(c.Response()).SetReadDeadline(time.Now().Add(within))
		}
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		if s.Practice.Pool != "" {
			h.Set(practice.Header, url.QueryEscape(s.Practice.Pool))
		}
		if strings.HasPrefix(c.Request().URL.Path, base) {
			h.Set("Cache-Control", "no-store")
		}
		return next(c)
	}
}

// Context keys for what authentication found out about the client.
const (
	whoPerson  = "person"
	whoHost    = "host"
	whoRights  = "rights"
	whoSession = "session"
	whoStill   = "still" // a function that reports whether the rights are still valid
)

// authenticate passes requests with a valid token or session, and those that need none (the console's files, sign-in).
func (s *Server) authenticate(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		path := r.URL.Path
		if !strings.HasPrefix(path, base) || path == base+"/session" && r.Method == http.MethodPost ||
			path == base+"/openapi.yaml" || path == base+"/ready" || path == base+"/agent/enrolment" {
			return next(c)
		}
		if r, ok := r.Context().Value(internalRequest{}).(people.Rights); ok {
			c.Set(whoPerson, r.Name)
			c.Set(whoRights, r)
			return next(c)
		}
		if r.Context().Value(sites.Asked{}) != nil {
			return s.byHeadquarters(c, next)
		}
		agents := strings.HasPrefix(path, base+"/agent/")
		if token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
			return s.byToken(c, next, token, agents)
		}
		if cookie, err := c.Cookie(s.cookieName()); err == nil && !agents {
			who, id, err := s.Service.People.SessionOf(cookie.Value)
			if err != nil && !errors.Is(err, people.ErrUnknown) {
				return err // it is not known whether the session has ended
			}
			if err == nil {
				if r.Method != http.MethodGet && !s.sameOrigin(r) {
					return &problem.Problem{
						Status: 403,
						Type:   "other-origin",
						Title:  "This request came from another site.",
						Do:     "Use the console itself.",
					}
				}
				c.Set(whoSession, id)
				return s.as(c, next, who, func() bool { return s.Service.People.Lives(cookie.Value) })
			}
		}
		return &problem.Problem{
			Status: 401,
			Type:   "not-signed-in",
			Title:  "You are not signed in.",
			Do:     "Sign in with your token.",
		}
	}
}

// byToken authenticates a person or an agent by a token.
func (s *Server) byToken(c *echo.Context, next echo.HandlerFunc, token string, agents bool) error {
	from := address(c)
	if agents {
		if host, ok := s.Service.Fleet.HostOf(token); ok {
			c.Set(whoHost, host)
			if err := s.showsCertificate(c, host); err != nil {
				s.wrongToken(from)
				return err
			}
			return next(c)
		}
	} else if who, err := s.Service.People.Person(token); err == nil {
		s.tries.worked(from)
		return s.as(c, next, who, func() bool { _, err := s.Service.People.Person(token); return err == nil })
	} else if !errors.Is(err, people.ErrUnknown) {
		return err // it is not known whether the token is valid
	}
	// A client with a valid token never waits because of others at the same address.
	if err := s.tries.wait(from, time.Now()); err != nil {
		return err
	}
	s.wrongToken(from)
	return &problem.Problem{
		Status: 401,
		Type:   "bad-token",
		Title:  "This token is not valid.",
		Do:     "Look for typing errors, or ask for a new one.",
	}
}

// shown is the client's certificate of a request's connection, or nil.
func shown(r *http.Request) *x509.Certificate {
	if r.TLS == nil || len(r.TLS.PeerCertificates) == 0 {
		return nil
	}
	return r.TLS.PeerCertificates[0]
}

// showsCertificate refuses an agent with the token of a host and without its certificate.
func (s *Server) showsCertificate(c *echo.Context, host string) error {
	if !s.Certificates || c.Request().URL.Path == base+"/agent/certificate" { // which checks that itself
		return nil
	}
	return s.Service.Fleet.Shows(host, shown(c.Request()))
}

// as continues a request as a person.
func (s *Server) as(c *echo.Context, next echo.HandlerFunc, who people.Rights, still func() bool) error {
	c.Set(whoPerson, who.Name)
	c.Set(whoRights, who)
	c.Set(whoStill, still)
	if called(c).ID != "streamEvents" { // a stream is not counted
		defer service.BeginRequest(s.Service)()
	}
	return s.idempotent(s.permit(next))(c)
}

// wrongToken counts an unknown token, and makes a notice when there are many.
func (s *Server) wrongToken(from string) {
	n := s.tries.failed(from, time.Now())
	if n == 1 || n == freeTries || n%50 == 0 {
		s.note(api.AuditEntry{Who: "nobody", From: from, Action: "signIn", Target: "/session",
			Result: fmt.Sprintf("refused: a wrong token, %d lately from this address", n)})
	}
	s.Service.Notices.WrongTokens(from, n)
}

func (s *Server) sameOrigin(r *http.Request) bool {
	if site := r.Header.Get("Sec-Fetch-Site"); site != "" {
		return site == "same-origin"
	}
	u, err := url.Parse(r.Header.Get("Origin"))
	return err == nil && (u.Host == r.Host || s.Base != nil && u.Host == s.Base.Host)
}

// isSecret marks an answer that is sent once and never stored.
const isSecret = "secret"

// idempotent handles a request with an idempotency key once: when it is repeated, the stored answer is sent.
func (s *Server) idempotent(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		key := r.Header.Get("Idempotency-Key")
		if key == "" || r.Method == http.MethodGet || streamed(r) { // a repeated import has no effect
			return next(c)
		}
		key = person(c) + " " + r.Method + " " + r.URL.Path + " " + key
		body, err := io.ReadAll(http.MaxBytesReader(c.Response(), r.Body, maxBody))
		if err != nil {
			return tooLarge(err)
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		// A repeated request waits for the answer of the first.
		defer s.turn(key)()
		status, answer, ok, err := s.Service.People.Answered(key, body)
		if err != nil {
			return err
		}
		if ok {
			return c.JSONBlob(status, answer)
		}
		out := c.Response()
		rec := &recorder{ResponseWriter: out, status: http.StatusOK}
		c.SetResponse(rec)
		err = next(c)
		c.SetResponse(out)
		if err != nil {
			return err // a refusal is not kept: the same request may succeed when the reason is gone
		}
		// The answer is stored before it is sent, except a secret, which is never stored.
		if c.Get(isSecret) == nil {
			if err := s.Service.People.KeepAnswer(key, body, rec.status, rec.body.Bytes()); err != nil {
				return err
			}
		}
		out.WriteHeader(rec.status)
		_, err = out.Write(rec.body.Bytes())
		return err
	}
}

// turn waits until no other request with a key is under way.
func (s *Server) turn(key string) (end func()) {
	for {
		mine := make(chan struct{})
		other, busy := s.turns.LoadOrStore(key, mine)
		if !busy {
			return func() {
				s.turns.Delete(key)
				close(mine)
			}
		}
		<-other.(chan struct{})
	}
}

// recorder buffers an answer until it is stored.
type recorder struct {
	http.ResponseWriter
	status int
	body   bytes.Buffer
}

func (r *recorder) WriteHeader(status int)      { r.status = status }
func (r *recorder) Write(b []byte) (int, error) { return r.body.Write(b) }

func person(c *echo.Context) string {
	name, _ := c.Get(whoPerson).(string)
	return name
}

// told is an error as it is shown to people.
func told(err error) *problem.Problem {
	var p *problem.Problem
	var he interface{ StatusCode() int }
	var gone *lab.Impossible
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &gone):
		return &problem.Problem{Status: 409, Type: "impossible", Title: "That cannot be done: " + gone.Error() + "."}
	case errors.As(err, &he) && he.StatusCode() < 500:
		return &problem.Problem{
			Status: he.StatusCode(),
			Type:   "bad-request",
			Title:  http.StatusText(he.StatusCode()) + ".",
			Do:     err.Error(),
		}
	}
	return problem.As(err)
}

// handleError sends an error as problem details (RFC 9457).
func (s *Server) handleError(c *echo.Context, err error) {
	p := told(err)
	if p.Status >= 500 {
		s.Log.Error("request failed", "method", c.Request().Method, "path", c.Request().URL.Path, "error", err)
	}
	body, _ := json.Marshal(api.Problem{
		Type:      api.ProblemType(p.Type),
		Title:     p.Title,
		Status:    p.Status,
		Detail:    p.Do,
		Permanent: p.Permanent,
	})
	if r, err := echo.UnwrapResponse(c.Response()); err == nil && r.Committed {
		return
	}
	_ = c.Blob(p.Status, "application/problem+json", body)
}

// maxBody is the largest request of a person, maxReport the largest report.
const (
	maxBody   = 1 << 20
	maxReport = 32 << 20
)

func tooLarge(err error) error {
	return &problem.Problem{
		Status: 413,
		Type:   "too-large",
		Title:  "The request is too large or was cut off.",
		Do:     err.Error(),
	}
}

// real refuses requests that would have effects outside a rehearsal.
func (s *Server) real(what string) error {
	if s.Practice.Pool == "" {
		return nil
	}
	return &problem.Problem{
		Status: 409,
		Type:   "practice",
		Title:  "This is a rehearsal: " + what + ".",
		Do:     "To do it in the real fleet, use its service.",
	}
}

// bytesOf converts a number of the API into a size.
func bytesOf(n int64) drive.Bytes { return drive.Bytes(max(n, 0)) }
