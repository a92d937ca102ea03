package sites

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nuid"

	"lantern/internal/service/problem"
)

// A request is one message, its answer is many: the first has the status and header, the last has a mark. The reader
// acknowledges each part. Therefore a slow reader slows the site and not the engine, and a reader that disconnects ends
// the request.
const (
	headOf      = "Lantern-Head"
	endOf       = "Lantern-End"
	proceed     = "on"
	mostBody    = 700 << 10 // of a request; by default an external engine accepts messages of up to 1 MiB
	partSize    = 128 << 10
	partTimeout = 20 * time.Second // for the acknowledgement of a part
	headTimeout = 15 * time.Second // for the first part of an answer
	atOnce      = 64               // requests that a site answers at the same time
)

// request is an HTTP request on its way to a site.
type request struct {
	Method string      `json:"method"`
	URI    string      `json:"uri"`
	Host   string      `json:"host"`
	From   string      `json:"from"` // address of the person
	Secure bool        `json:"secure"`
	Header http.Header `json:"header"`
	Body   []byte      `json:"body"`
	// Inner is set for a request of the headquarters itself, without a person.
	Inner bool `json:"inner"`
}

// head is the first part of an answer.
type head struct {
	Status int         `json:"status"`
	Header http.Header `json:"header"`
}

// Asked is the context key of a request of the headquarters itself, without a person. The service allows it to read and
// import readings and to read reports, and nothing else.
type Asked struct{}

// answer passes a request to a handler and sends its answer.
func answer(ctx context.Context, nc *nats.Conn, handler http.Handler, m *nats.Msg) {
	var q request
	if json.Unmarshal(m.Data, &q) != nil || m.Reply == "" {
		return
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	if q.Inner {
		ctx = context.WithValue(ctx, Asked{}, true)
	}
	r, err := http.NewRequestWithContext(ctx, q.Method, q.URI, bytes.NewReader(q.Body))
	if err != nil {
		return
	}
	r.Header, r.Host, r.RequestURI, r.RemoteAddr = q.Header, q.Host, q.URI, "127.0.0.1:1"
	if r.Header == nil {
		r.Header = http.Header{}
	}
	r.Header.Set("X-Forwarded-For", q.From)
	r.Header.Del("X-Forwarded-Proto")
	if q.Secure {
		r.Header.Set("X-Forwarded-Proto", "https")
	}
	w := &writer{nc: nc, to: m.Reply, header: http.Header{}, cancel: cancel}
	handler.ServeHTTP(w, r)
	w.end()
}

// writer sends an answer part by part.
type writer struct {
	nc     *nats.Conn
	to     string
	header http.Header
	status int
	begun  bool // head sent
	body   bytes.Buffer
	failed error
	cancel context.CancelFunc
}

// Header returns the header of the answer.
func (w *writer) Header() http.Header { return w.header }

// WriteHeader sets the status.
func (w *writer) WriteHeader(status int) {
	if w.status == 0 {
		w.status = status
	}
}

// Write adds to the answer.
func (w *writer) Write(b []byte) (int, error) {
	w.WriteHeader(http.StatusOK)
	if w.failed != nil {
		return 0, w.failed
	}
	w.body.Write(b)
	if w.body.Len() >= partSize {
		w.send(false)
	}
	return len(b), w.failed
}

// Flush sends what was written so far.
func (w *writer) Flush() {
	w.WriteHeader(http.StatusOK)
	if w.body.Len() > 0 || !w.begun {
		w.send(false)
	}
}

// SetReadDeadline does nothing: the body is in memory.
func (w *writer) SetReadDeadline(time.Time) error { return nil }

// SetWriteDeadline does nothing: each part has a timeout.
func (w *writer) SetWriteDeadline(time.Time) error { return nil }

func (w *writer) send(last bool) {
	for w.failed == nil {
		m := nats.NewMsg(w.to)
		if !w.begun {
			b, err := json.Marshal(head{w.status, w.header})
			if err != nil {
				w.failed = err
				break
			}
			m.Header.Set(headOf, string(b))
			w.begun = true
		}
		m.Data = bytes.Clone(w.body.Next(partSize))
		if last && w.body.Len() == 0 {
			m.Header.Set(endOf, "1")
		}
		ack, err := w.nc.RequestMsg(m, partTimeout)
		if err == nil && string(ack.Data) != proceed {
			err = errors.New("the answer is no longer needed")
		}
		if err != nil {
			w.failed = err
			w.cancel()
		}
		if w.body.Len() == 0 {
			break
		}
	}
	if w.failed != nil {
		w.body.Reset()
	}
}

func (w *writer) end() {
	w.WriteHeader(http.StatusOK)
	w.send(true)
}

// ask sends a request to a site. It calls begin with the head of the answer, then give with each part. An error of give
// ends the answer.
func ask(ctx context.Context, nc *nats.Conn, site string, q request, begin func(head), give func([]byte) error) error {
	b, err := json.Marshal(q)
	if err != nil {
		return err
	}
	inbox := answersOf(site) + "." + nuid.Next()
	sub, err := nc.SubscribeSync(inbox)
	if err != nil {
		return err
	}
	defer func() { _ = sub.Unsubscribe() }()
	if err := nc.PublishRequest(askOf(site), inbox, b); err != nil {
		return fmt.Errorf("%w: %w", errUnreachable, err)
	}
	begun := false
	for {
		within, cancel := ctx, context.CancelFunc(func() {})
		if !begun {
			within, cancel = context.WithTimeout(ctx, headTimeout)
		}
		m, err := sub.NextMsgWithContext(within)
		cancel()
		switch {
		case err != nil && ctx.Err() != nil:
			return ctx.Err() // the site gets no acknowledgement of the next part and stops
		case err != nil, !begun && m.Header.Get("Status") == "503":
			return errUnreachable
		}
		if text := m.Header.Get(headOf); text != "" && !begun {
			var h head
			if err := json.Unmarshal([]byte(text), &h); err != nil {
				return err
			}
			begin(h)
			begun = true
		}
		if !begun {
			return errUnreachable
		}
		if err := give(m.Data); err != nil {
			_ = m.Respond([]byte("stop"))
			return err
		}
		if err := m.Respond([]byte(proceed)); err != nil || m.Header.Get(endOf) != "" {
			return err
		}
	}
}

// notPassed are the headers of one connection (RFC 9110, 7.6.1) and others that a headquarters must not pass on.
var notPassed = []string{"Connection", "Keep-Alive", "Proxy-Authenticate", "Proxy-Authorization", "Te", "Trailer",
	"Transfer-Encoding", "Upgrade", "Accept-Encoding", "X-Forwarded-For", "X-Forwarded-Proto", "X-Forwarded-Host",
	"Forwarded", "Content-Length"}

// CookieOf is the name of the cookie of a site's session in browsers that reach it through a headquarters.
func CookieOf(site string) string { return "lantern-at-" + site }

// passed returns the header of a request for a site, with no cookie except that of the site.
func passed(h http.Header, site string) http.Header {
	out := h.Clone()
	for _, name := range notPassed {
		out.Del(name)
	}
	out.Del("Cookie")
	for _, line := range h.Values("Cookie") {
		cookies, err := http.ParseCookie(line)
		if err != nil {
			continue
		}
		for _, c := range cookies {
			if c.Name == CookieOf(site) {
				out.Add("Cookie", c.Name+"="+c.Value)
			}
		}
	}
	return out
}

// Pass passes a person's request on to a site, and the answer back. root is the path under which people reach the
// headquarters; from is the address of the person. It returns an error only if nothing was answered yet.
func (h *Headquarters) Pass(w http.ResponseWriter, r *http.Request, site, root, from string, secure bool) error {
	body, err := io.ReadAll(io.LimitReader(r.Body, mostBody+1))
	switch {
	case err != nil:
		return problem.New(http.StatusBadRequest, "cut-off", "Try it again.", "The request could not be read.")
	case len(body) > mostBody:
		return problem.New(http.StatusRequestEntityTooLarge, "too-large", "Send it to the site itself.",
			"A request of more than %d kB cannot go through a headquarters.", mostBody/1000)
	}
	begun := false
	err = ask(r.Context(), h.nc, site, request{Method: r.Method, URI: r.URL.RequestURI(), Host: r.Host, From: from,
		Secure: secure, Header: passed(r.Header, site), Body: body},
		func(x head) {
			begun = true
			taken(w.Header(), x.Header, site, root)
			w.WriteHeader(x.Status)
		},
		func(part []byte) error {
			if len(part) > 0 {
				if _, err := w.Write(part); err != nil {
					return err
				}
			}
			return http.NewResponseController(w).Flush()
		})
	if begun {
		return nil
	}
	return err
}

// taken copies the header of a site's answer into ours. A browser must not run scripts that a site sends: they would
// have the rights of the person at the headquarters.
func taken(to, from http.Header, site, root string) {
	for _, name := range notPassed {
		from.Del(name)
	}
	at := "/sites/" + site + "/"
	if to := from.Get("Location"); strings.HasPrefix(to, at) {
		from.Set("Location", root+to)
	} else {
		from.Del("Location")
	}
	var cookies []string // only its own, under its own path
	for _, c := range from.Values("Set-Cookie") {
		if path := "; Path=" + at + ";"; strings.HasPrefix(c, CookieOf(site)+"=") && strings.Contains(c, path) {
			cookies = append(cookies, strings.Replace(c, path, "; Path="+root+at+";", 1))
		}
	}
	from["Set-Cookie"] = cookies
	for name, values := range from {
		to[name] = values
	}
	to.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	to.Set("X-Content-Type-Options", "nosniff")
}

// inner sends a request of the headquarters itself to a site.
func (h *Headquarters) inner(ctx context.Context, site, method, path string, body []byte,
	give func([]byte) error) error {
	status := 0
	var says bytes.Buffer
	err := ask(ctx, h.nc, site, request{Method: method, URI: "/sites/" + site + path, Host: "headquarters",
		Header: http.Header{"Content-Type": {"application/x-ndjson"}}, Body: body, Inner: true},
		func(x head) { status = x.Status },
		func(part []byte) error {
			if status >= 300 {
				says.Write(part)
				return nil
			}
			return give(part)
		})
	if err == nil && status >= 300 {
		r := &refused{site: site, status: status}
		if json.Unmarshal(says.Bytes(), &r.told) != nil {
			r.told.Title = strings.TrimSpace(says.String())
		}
		err = r
	}
	return err
}
