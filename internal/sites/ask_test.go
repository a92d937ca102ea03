package sites

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// hall is a headquarters in a test, with its own engine and registry.
type hall struct {
	*Headquarters
	t        *testing.T
	engine   *Engine
	registry *Registry
	store    *store.Store
}

func newHall(t *testing.T) *hall {
	dir := t.TempDir()
	st, err := store.Open(filepath.Join(dir, "lantern.db"))
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	h := &hall{&Headquarters{Clock: clock.Real{}, Log: slog.New(slog.DiscardHandler)}, t, nil, nil, st}
	h.registry, err = OpenRegistry(st)
	require.NoError(t, err)
	h.engine, err = StartEngine(filepath.Join(dir, "engine"), "127.0.0.1:0", nil, h.registry.Knows, h.Log)
	require.NoError(t, err)
	t.Cleanup(h.engine.Stop)
	nc, err := h.engine.Connect()
	require.NoError(t, err)
	t.Cleanup(nc.Close)
	require.NoError(t, h.Begin(t.Context(), nc, 1))
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- h.Run(ctx) }()
	t.Cleanup(func() { stop(); require.NoError(t, <-done) })
	return h
}

// site connects a site whose service is a handler.
func (h *hall) site(name string, handler http.Handler) (secret string) {
	return h.siteOf(name, &made{}, handler)
}

// siteOf connects a site, and waits until it is reachable.
func (h *hall) siteOf(name string, source Source, handler http.Handler) (secret string) {
	secret, err := h.registry.Invite("ida", name, time.Now())
	require.NoError(h.t, err)
	s := &Site{Name: name, URL: h.engine.URL(), Secret: secret, Source: source, Handler: handler, Clock: clock.Real{},
		Log: h.Log}
	ctx, stop := context.WithCancel(h.t.Context())
	done := make(chan error, 1)
	go func() { done <- s.Run(ctx) }()
	h.t.Cleanup(func() { stop(); require.NoError(h.t, <-done) })
	require.Eventually(h.t, func() bool {
		for _, x := range h.Sites() {
			if x.Name == name && x.Reachable && x.Says == "" {
				return true
			}
		}
		return false
	}, 20*time.Second, 20*time.Millisecond)
	return secret
}

// endless is a site at which events happen faster than they can be sent.
type endless struct{ made }

func (*endless) Events(after int64, _ int) ([]api.Event, error) {
	return []api.Event{{Id: after + 1, Kind: api.EventKindDrive, Subject: "wwn", Says: "one more"}}, nil
}

// TestEndlessEvents: the state of a site is sent and it is reachable although there are always more events to send.
func TestEndlessEvents(t *testing.T) { newHall(t).siteOf("north", &endless{}, http.NotFoundHandler()) }

// TestSecrets: only the newest secret of a site is accepted, and none after it was removed; the store has only hashes
// of secrets.
func TestSecrets(t *testing.T) {
	h := newHall(t)
	in := func(user, secret string) bool {
		nc, err := nats.Connect(h.engine.URL(), nats.UserInfo(user, secret), nats.MaxReconnects(0))
		if err == nil {
			nc.Close()
		}
		return err == nil
	}
	first, err := h.registry.Invite("ida", "north", time.Now())
	require.NoError(t, err)
	require.True(t, in("north", first))
	for user, secret := range map[string]string{"north": "x", "south": first, "": "", headquarters: first, "*": first} {
		require.False(t, in(user, secret), user)
	}
	second, err := h.registry.Invite("ida", "north", time.Now())
	require.NoError(t, err)
	require.False(t, in("north", first))
	require.True(t, in("north", second))
	again, err := OpenRegistry(h.store)
	require.NoError(t, err)
	require.True(t, again.Knows("north", second))
	rows, err := store.All[store.Site](h.store, "name", "")
	require.NoError(t, err)
	require.NotContains(t, fmt.Sprint(rows), second)
	known, err := h.registry.Remove("north")
	require.NoError(t, err)
	require.True(t, known)
	require.False(t, in("north", second))
	_, err = h.registry.Invite("ida", "North Sea", time.Now())
	require.ErrorContains(t, err, "not a valid site name")
}

// TestPermissions: a site publishes under its own name and receives requests for it; the engine refuses everything
// else.
func TestPermissions(t *testing.T) {
	h := newHall(t)
	secret, err := h.registry.Invite("ida", "north", time.Now())
	require.NoError(t, err)
	var refused atomic.Int64
	nc, err := nats.Connect(h.engine.URL(), nats.UserInfo("north", secret), nats.CustomInboxPrefix(inboxOf("north")),
		nats.ErrorHandler(func(*nats.Conn, *nats.Subscription, error) { refused.Add(1) }))
	require.NoError(t, err)
	defer nc.Close()
	n := int64(0)
	fails := func(what string) {
		t.Helper()
		n++
		require.Eventually(t, func() bool { return refused.Load() == n }, 5*time.Second, 5*time.Millisecond, what)
	}
	for _, subject := range []string{eventsOf("south"), stateOf("south", ofSite, "south"), aliveOf("south"),
		askOf("south"),
		answersOf("south") + ".x", lastOf("south"), "lantern.event", "lantern.state.south",
		"$JS.API.STREAM.PURGE." + stateStream,
		"$JS.API.STREAM.MSG.GET." + eventStream, "$SYS.REQ.SERVER.PING", "anything"} {
		require.NoError(t, nc.Publish(subject, nil))
		fails("publish " + subject)
	}
	for _, subject := range []string{">", "lantern.>", askOf("south"), askOf("*"), inboxOf("south") + ".>",
		"lantern.event.*",
		answersOf("north") + ".>", "_INBOX.>"} {
		_, err := nc.SubscribeSync(subject)
		require.NoError(t, err)
		fails("subscribe " + subject)
	}
	js, err := jetstream.New(nc)
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	_, err = js.Stream(ctx, eventStream)
	require.Error(t, err)
}

// TestPassed: requests and answers pass through a headquarters unchanged, also large and slow ones. A site gets only
// its own cookie, can set only that, cannot redirect to other addresses, and its answers cannot run scripts.
func TestPassed(t *testing.T) {
	h := newHall(t)
	large := make([]byte, 3<<20+17)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range large {
		large[i] = byte(r.Uint32())
	}
	ended := make(chan struct{})
	mux := http.NewServeMux()
	mux.HandleFunc("GET /sites/north/api/large", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(large) })
	mux.HandleFunc("POST /sites/north/api/echo", func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(http.StatusCreated)
		_, _ = io.Copy(w, r.Body)
	})
	mux.HandleFunc("GET /sites/north/api/header", func(w http.ResponseWriter, r *http.Request) {
		_, _ = fmt.Fprintf(w, "%s|%s|%s|%s|%s", r.Host, r.Header.Get("Cookie"), r.Header.Get("X-Forwarded-For"),
			r.Header.Get("X-Forwarded-Proto"), r.Header.Get("Authorization"))
	})
	mux.HandleFunc("GET /sites/north/api/hostile", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Add("Set-Cookie", "lantern=stolen; Path=/")
		w.Header().Add("Set-Cookie", CookieOf("north")+"=mine; Path=/sites/north/; HttpOnly")
		w.Header().Add("Set-Cookie", CookieOf("north")+"=wide; Path=/; HttpOnly")
		w.Header().Set("Content-Type", "text/html")
		w.Header().Set("Content-Security-Policy", "script-src *")
		w.Header().Set("Location", "https://elsewhere.example/")
		_, _ = io.WriteString(w, "<script>alert(1)</script>")
	})
	mux.HandleFunc("GET /sites/north/api/moved", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/sites/north/here", http.StatusSeeOther)
	})
	mux.HandleFunc("GET /sites/north/api/endless", func(w http.ResponseWriter, r *http.Request) {
		defer close(ended)
		for r.Context().Err() == nil {
			_, _ = io.WriteString(w, "beat\n")
			w.(http.Flusher).Flush()
			_ = clock.Real{}.Sleep(r.Context(), 10*time.Millisecond)
		}
	})
	h.site("north", mux)
	ask := func(method, path, body string, cookies ...string) *httptest.ResponseRecorder {
		t.Helper()
		r := httptest.NewRequest(method, "http://hq.example/sites/north/api/"+path, strings.NewReader(body))
		r.Header.Set("Authorization", "Bearer token-there")
		r.Header.Set("X-Forwarded-For", "203.0.113.9")
		r.Header.Set("X-Forwarded-Proto", "https")
		for _, c := range cookies {
			r.Header.Add("Cookie", c)
		}
		w := httptest.NewRecorder()
		require.NoError(t, h.Pass(w, r, "north", "/hq", "192.0.2.7", false))
		return w
	}
	w := ask("GET", "large", "")
	require.Equal(t, sha256.Sum256(large), sha256.Sum256(w.Body.Bytes()))
	body := strings.Repeat("x", mostBody)
	w = ask("POST", "echo", body)
	require.Equal(t, http.StatusCreated, w.Code)
	require.Equal(t, body, w.Body.String())
	w = ask("GET", "header", "", "lantern=secret; "+CookieOf("north")+"=a", CookieOf("south")+"=b; theme=night")
	require.Equal(t, "hq.example|"+CookieOf("north")+"=a|192.0.2.7||Bearer token-there", w.Body.String())
	w = ask("GET", "hostile", "")
	require.Equal(t, []string{CookieOf("north") + "=mine; Path=/hq/sites/north/; HttpOnly"},
		w.Header().Values("Set-Cookie"))
	require.Equal(t, "sandbox; default-src 'none'", w.Header().Get("Content-Security-Policy"))
	require.Empty(t, w.Header().Get("Location"))
	require.Equal(t, 404, ask("GET", "nothing", "").Code)
	require.Equal(t, "/hq/sites/north/here", ask("GET", "moved", "").Header().Get("Location"))

	// A body that is too large is refused; so is an unknown site; a reader that disconnects ends the request at the
	// site.
	var p *problem.Problem
	err := h.Pass(httptest.NewRecorder(), httptest.NewRequest("POST", "/sites/north/api/echo", bytes.NewReader(large)),
		"north", "", "", false)
	require.ErrorAs(t, err, &p)
	require.Equal(t, 413, p.Status)
	err = h.Pass(httptest.NewRecorder(), httptest.NewRequest("GET", "/sites/south/api/x", nil), "south", "", "", false)
	require.ErrorIs(t, err, errUnreachable)
	require.Equal(t, 404, h.Unreachable("south").Status)
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	r2 := httptest.NewRequest("GET", "/sites/north/api/endless", nil).WithContext(ctx)
	rec := httptest.NewRecorder()
	_ = h.Pass(rec, r2, "north", "", "", false) // ends with the context
	require.Contains(t, rec.Body.String(), "beat")
	select {
	case <-ended:
	case <-time.After(2 * partTimeout):
		require.Fail(t, "the site goes on answering nobody")
	}
}

// TestTokens: every name becomes one part of a subject, and two names never become the same part.
func TestTokens(t *testing.T) {
	seen := map[string]string{}
	for _, name := range []string{"fulmar", "fulmar.example", "a b", "", "*", ">", "x--2a", "x--", "ü",
		"fulmar_example"} {
		got := token(name)
		require.Regexp(t, `^[A-Za-z0-9_-]+$`, got, name)
		require.Empty(t, seen[got], "%q and %q", name, seen[got])
		seen[got] = name
	}
}
