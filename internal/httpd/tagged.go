package httpd

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"
)

// tagged gives answers in JSON an ETag (RFC 9110, 8.8.3), and whoever names it again in If-None-Match is told that
// nothing changed, without the answer. It is made of the answer itself, so it can never be of an older state.
func (s *Server) tagged(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if c.Request().Method != http.MethodGet || !strings.HasPrefix(c.Request().URL.Path, base) {
			return next(c)
		}
		out := c.Response()
		t := &tagger{ResponseWriter: out, wanted: c.Request().Header.Get("If-None-Match")}
		c.SetResponse(t)
		err := next(c)
		c.SetResponse(out)
		if err != nil {
			return err // nothing of what was held back is sent
		}
		return t.end()
	}
}

// tagger holds an answer in JSON back until it is whole; any other passes through.
type tagger struct {
	http.ResponseWriter
	wanted string
	begun  bool
	holds  bool
	body   bytes.Buffer
}

// WriteHeader begins the answer.
func (t *tagger) WriteHeader(status int) {
	if t.begun {
		return
	}
	t.begun = true
	kind, _, _ := strings.Cut(t.Header().Get("Content-Type"), ";")
	if t.holds = status == http.StatusOK && kind == "application/json"; !t.holds {
		t.ResponseWriter.WriteHeader(status)
	}
}

// Write takes a part of the answer.
func (t *tagger) Write(b []byte) (int, error) {
	t.WriteHeader(http.StatusOK)
	if t.holds {
		return t.body.Write(b)
	}
	return t.ResponseWriter.Write(b)
}

// Unwrap gives what it writes to (http.ResponseController).
func (t *tagger) Unwrap() http.ResponseWriter { return t.ResponseWriter }

// end sends what was held back, or says that it is what is known already.
func (t *tagger) end() error {
	if !t.holds {
		return nil
	}
	sum := sha256.Sum256(t.body.Bytes())
	tag := `"` + hex.EncodeToString(sum[:12]) + `"`
	t.Header().Set("ETag", tag)
	for given := range strings.SplitSeq(t.wanted, ",") {
		// A proxy that compresses makes a tag a weak one.
		if given = strings.TrimPrefix(strings.TrimSpace(given), "W/"); given == tag || given == "*" {
			t.Header().Del("Content-Type")
			t.ResponseWriter.WriteHeader(http.StatusNotModified)
			return nil
		}
	}
	t.ResponseWriter.WriteHeader(http.StatusOK)
	_, err := t.ResponseWriter.Write(t.body.Bytes())
	return err
}
