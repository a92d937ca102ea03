package httpd

import (
	"bytes"
	"html"
	"net"
	"net/http"
	"net/netip"
	"strings"

	"github.com/labstack/echo/v5"
)

// root is the path of Base: where a reverse proxy puts the service, without a slash at its end; empty for the top.
func (s *Server) root() string {
	if s.Base == nil {
		return ""
	}
	return strings.TrimRight(s.Base.Path, "/")
}

// underRoot removes the path of Base from a request. A proxy may have removed it already.
func (s *Server) underRoot(next echo.HandlerFunc) echo.HandlerFunc {
	root := s.root()
	if root == "" {
		return next
	}
	return func(c *echo.Context) error {
		u := c.Request().URL
		if u.Path == root {
			u.Path, u.RawPath = "/", ""
		} else if strings.HasPrefix(u.Path, root+"/") {
			u.Path, u.RawPath = u.Path[len(root):], strings.TrimPrefix(u.RawPath, root)
		}
		return next(c)
	}
}

// pageUnder changes the addresses in the console's page to those under a path.
func pageUnder(page []byte, root string) []byte {
	root = html.EscapeString(root)
	if root == "" {
		return page
	}
	for _, attribute := range []string{`href="`, `src="`} {
		page = bytes.ReplaceAll(page, []byte(attribute+"/"), []byte(attribute+root+"/"))
	}
	return bytes.Replace(page, []byte("<html "), []byte(`<html data-root="`+root+`" `), 1)
}

// trusted reports whether an address is that of a trusted reverse proxy.
func (s *Server) trusted(remote string) bool {
	at, err := netip.ParseAddrPort(remote)
	if err != nil {
		return false
	}
	for _, p := range s.Proxies {
		if p.Contains(at.Addr().Unmap()) {
			return true
		}
	}
	return false
}

// asker gives the address of the client: of the connection, or as trusted proxies report it.
func (s *Server) asker() echo.IPExtractor {
	if len(s.Proxies) == 0 {
		return echo.ExtractIPDirect()
	}
	options := []echo.TrustOption{echo.TrustLoopback(false), echo.TrustLinkLocal(false), echo.TrustPrivateNet(false)}
	for _, p := range s.Proxies {
		options = append(options, echo.TrustIPRange(&net.IPNet{
			IP: p.Masked().Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}))
	}
	return echo.ExtractIPFromXFFHeader(options...)
}

// secure reports whether a request came over TLS: to this service itself, or to a proxy that is trusted.
func (s *Server) secure(c *echo.Context) bool {
	if s.Secure || s.Base != nil && s.Base.Scheme == "https" {
		return true
	}
	r := c.Request()
	return s.trusted(r.RemoteAddr) && r.Header.Get("X-Forwarded-Proto") == "https"
}

// alive answers as long as the process runs.
func (s *Server) alive(c *echo.Context) error { return c.String(http.StatusOK, "alive\n") }

// readyFor reports whether the service can record reports and orders, and if not, why.
func (s *Server) readyFor(c *echo.Context) error {
	says, ready := s.Service.Ready()
	if !ready {
		return c.String(http.StatusServiceUnavailable, "not ready: "+says+"\n")
	}
	if says != "" {
		return c.String(http.StatusOK, "ready, but: "+says+"\n")
	}
	return c.String(http.StatusOK, "ready\n")
}
