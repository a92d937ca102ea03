package httpd

import (
	"bytes"
	"html"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"lantern/internal/harmless"
	"lantern/internal/service/problem"
	"lantern/web"
)

// useLink opens a session for a console by a link that works once.
func (s *Server) useLink(c *echo.Context) error {
	session, err := s.Service.People.UseLink(c.QueryParam("code"), caller(c))
	if err != nil {
		return c.Redirect(http.StatusSeeOther, s.root()+"/sign-in?why=link")
	}
	s.setCookie(c, session, 0)
	if c.QueryParam("tour") != "" {
		return c.Redirect(http.StatusSeeOther, s.root()+"/?tour")
	}
	return c.Redirect(http.StatusSeeOther, s.root()+"/")
}

func (s *Server) setCookie(c *echo.Context, value string, age int) {
	c.SetCookie(
		&http.Cookie{
			Name:     s.cookieName(),
			Value:    value,
			Path:     s.root() + "/",
			HttpOnly: true,
			Secure:   s.secure(c),
			SameSite: http.SameSiteStrictMode,
			MaxAge:   age,
		},
	)
}

// console serves the console's files, and its page for every other address: the console has its own routes.
func (s *Server) console() echo.HandlerFunc { return s.consoleUnder()(s.root()) }

// consoleUnder gives the console for the path under which it is served.
func (s *Server) consoleUnder() func(root string) echo.HandlerFunc {
	files, built := web.Files()
	return func(root string) echo.HandlerFunc { return s.consoleOf(files, built, s.page(files, root)) }
}

func (s *Server) consoleOf(files fs.FS, built bool, page []byte) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if path := c.Request().URL.Path; path == base || strings.HasPrefix(path, base+"/") {
			return problem.Forever(404, "no-path", "Its paths are described at "+base+"/openapi.yaml.",
				"The API has no such path: %s.", harmless.Line(path))
		}
		if !built {
			return c.String(
				http.StatusServiceUnavailable,
				"The console was not built into this binary. Build it with: make build\n",
			)
		}
		name := strings.TrimPrefix(c.Request().URL.Path, "/")
		if f, err := fs.Stat(files, name); name != "" && err == nil && !f.IsDir() {
			if strings.HasPrefix(name, "assets/") {
				c.Response().Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			if packed, err := fs.ReadFile(files, name+".br"); err == nil && takes(c.Request(), "br") {
				c.Response().Header().Set("Content-Encoding", "br")
				c.Response().Header().Add("Vary", "Accept-Encoding")
				return c.Blob(http.StatusOK, mime.TypeByExtension(path.Ext(name)), packed)
			}
			return c.FileFS(name, files)
		}
		if strings.HasPrefix(name, "assets/") {
			return echo.ErrNotFound
		}
		c.Response().Header().Set("Cache-Control", "no-cache")
		return c.HTMLBlob(http.StatusOK, page)
	}
}

// takes reports whether the client accepts an answer in a content coding (RFC 9110, 12.5.3), such as br or gzip.
func takes(r *http.Request, coding string) bool {
	for part := range strings.SplitSeq(r.Header.Get("Accept-Encoding"), ",") {
		name, weight, _ := strings.Cut(strings.TrimSpace(part), ";")
		if name == coding && strings.ReplaceAll(weight, " ", "") != "q=0" {
			return true
		}
	}
	return false
}

// page is the page of the console. In a rehearsal it contains a notice in plain HTML, which is visible before any
// script runs and whoever is signed in.
func (s *Server) page(files fs.FS, root string) []byte {
	b, _ := fs.ReadFile(files, "index.html")
	b = pageUnder(b, root)
	if s.Practice.Pool == "" {
		return b
	}
	pool, at := html.EscapeString(s.Practice.Pool), s.Practice.CopiedAt.Format(time.RFC3339)
	b = bytes.Replace(b, []byte("<html "), []byte(`<html data-practice="`+pool+`" data-copied="`+at+`" `), 1)
	return bytes.Replace(b, []byte("<title>"), []byte("<title>REHEARSAL, a copy of "+pool+": "), 1)
}
