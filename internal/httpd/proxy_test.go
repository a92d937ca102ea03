package httpd

import (
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"testing"

	"github.com/labstack/echo/v5"
	"github.com/stretchr/testify/require"
)

// TestWhoAsks: only proxies that are trusted say who asks and how; a header that anybody can send changes nothing.
func TestWhoAsks(t *testing.T) {
	for _, c := range []struct {
		proxies, remote, forwarded, proto, base string
		from                                    string
		secure                                  bool
	}{
		{remote: "203.0.113.9:1", forwarded: "10.0.0.1", proto: "https", from: "203.0.113.9"},
		{remote: "127.0.0.1:1", forwarded: "10.0.0.1", proto: "https", from: "127.0.0.1"},
		{proxies: "192.0.2.0/24", remote: "192.0.2.1:1", forwarded: "6.6.6.6, 203.0.113.9", proto: "https",
			from: "203.0.113.9", secure: true},
		{proxies: "192.0.2.0/24", remote: "192.0.2.1:1", forwarded: "203.0.113.9", proto: "http", from: "203.0.113.9"},
		{proxies: "192.0.2.0/24", remote: "192.0.2.1:1", from: "192.0.2.1"},
		{proxies: "192.0.2.0/24", remote: "198.51.100.1:1", forwarded: "203.0.113.9", proto: "https", from: "198.51.100.1"},
		{proxies: "2001:db8::/32", remote: "[2001:db8::1]:1", forwarded: "203.0.113.9", from: "203.0.113.9"},
		{base: "https://lantern.example", remote: "203.0.113.9:1", from: "203.0.113.9", secure: true},
		{base: "http://lantern.example", remote: "203.0.113.9:1", from: "203.0.113.9"},
	} {
		s := &Server{}
		if c.proxies != "" {
			s.Proxies = []netip.Prefix{netip.MustParsePrefix(c.proxies)}
		}
		if c.base != "" {
			u, err := url.Parse(c.base)
			require.NoError(t, err)
			s.Base = u
		}
		r := httptest.NewRequest(http.MethodGet, "/", nil)
		r.RemoteAddr = c.remote
		if c.forwarded != "" {
			r.Header.Set("X-Forwarded-For", c.forwarded)
		}
		if c.proto != "" {
			r.Header.Set("X-Forwarded-Proto", c.proto)
		}
		e := echo.New()
		e.IPExtractor = s.asker()
		ctx := e.NewContext(r, httptest.NewRecorder())
		require.Equal(t, c.from, address(ctx), "%+v", c)
		require.Equal(t, c.secure, s.secure(ctx), "%+v", c)
	}
}

// TestUnderRoot: the path of a proxy is removed if it is there, also with escapes in the path, and nothing else is.
func TestUnderRoot(t *testing.T) {
	base, err := url.Parse("https://example.com/storage/")
	require.NoError(t, err)
	s := &Server{Base: base}
	for from, want := range map[string]string{
		"/storage": "/", "/storage/": "/", "/storage/api/v1/me": "/api/v1/me", "/api/v1/me": "/api/v1/me",
		"/storages": "/storages",
		"/storage/api/v1/bays/skerry%2Ffront%2F7": "/api/v1/bays/skerry%2Ffront%2F7",
	} {
		var got string
		c := echo.New().NewContext(httptest.NewRequest(http.MethodGet, from, nil), httptest.NewRecorder())
		require.NoError(t, s.underRoot(func(c *echo.Context) error { got = c.Request().URL.EscapedPath(); return nil })(c))
		require.Equal(t, want, got)
	}
	page := string(
		pageUnder([]byte(`<html lang="en"><link href="/icon.svg"><script src="/assets/a.js"></script></html>`), s.root()),
	)
	require.Equal(
		t,
		`<html data-root="/storage" lang="en"><link href="/storage/icon.svg"><script src="/storage/assets/a.js"></script></html>`,
		page,
	)
}
