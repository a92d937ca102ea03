package httpd

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"lantern/internal/api"
	"lantern/internal/service/people"
	"lantern/internal/service/problem"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"
)

// internalRequest marks a request that the service sends to itself to read a state before and after a change.
type internalRequest struct{}

// mostOfAudit is the greatest number of bytes of a change that the audit keeps.
const mostOfAudit = 8 << 10

func address(c *echo.Context) string {
	if ip := c.RealIP(); ip != "" {
		return ip
	}
	return c.Request().RemoteAddr
}

func caller(c *echo.Context) people.Caller {
	program := c.Request().UserAgent()
	return people.Caller{Address: address(c), Program: program[:min(len(program), 200)]}
}

// audited records a call that changes something, with what it changed.
func (s *Server) audited(next echo.HandlerFunc, o apiCall) echo.HandlerFunc {
	return func(c *echo.Context) error {
		changes := c.Request().Method != http.MethodGet
		if !changes && !o.Audit || c.Request().Context().Value(internalRequest{}) != nil {
			return next(c)
		}
		if o.Role == api.Viewer && changes && o.ID != "addPerson" && o.ID != "endSession" {
			return next(c) // a query with a body; it changes nothing
		}
		about := s.about(c)
		c.Set(whatAbout, about)
		var before map[string]json.RawMessage
		looks := changes && !streamed(c.Request()) // an import changes too many things to be shown
		if looks {
			before = s.look(c)
		}
		err := next(c)
		was, is := "", ""
		if looks && err == nil {
			was, is = difference(before, s.look(c))
		}
		s.record(c, o, err, was, is)
		return err
	}
}

// whatAbout is the context key of the names in a request's body.
const whatAbout = "about"

// about holds the names in a request's body, such as of a drive: a new object has no path of its own yet.
func (s *Server) about(c *echo.Context) string {
	fields, err := fieldsOf(c)
	if err != nil {
		return "" // the handler that reads the body reports the error
	}
	var out []string
	for _, f := range append(slices.Clone(named), "name", "kind", "to") {
		if v, ok := fields[f].(string); ok && v != "" {
			out = append(out, f+" "+v)
		}
	}
	return strings.Join(out, ", ")
}

// look reads what a request changes, with the rights of the same person.
func (s *Server) look(c *echo.Context) map[string]json.RawMessage {
	path := strings.TrimRight(c.Request().URL.Path, "/")
	for range 2 {
		ctx := context.WithValue(c.Request().Context(), internalRequest{}, rights(c))
		r := httptest.NewRequestWithContext(ctx, http.MethodGet, path, nil)
		w := httptest.NewRecorder()
		s.site.ServeHTTP(w, r)
		var fields map[string]json.RawMessage
		if w.Code == http.StatusOK && json.Unmarshal(w.Body.Bytes(), &fields) == nil {
			return fields
		}
		path = path[:max(strings.LastIndexByte(path, '/'), 0)]
		if len(path) <= len(base) {
			break
		}
	}
	return nil
}

// difference gives the fields in which two objects differ, each as JSON.
func difference(before, after map[string]json.RawMessage) (was, is string) {
	a, b := map[string]json.RawMessage{}, map[string]json.RawMessage{}
	for k, v := range before {
		if !bytes.Equal(v, after[k]) {
			a[k] = v
		}
	}
	for k, v := range after {
		if !bytes.Equal(v, before[k]) {
			b[k] = v
		}
	}
	text := func(m map[string]json.RawMessage) string {
		if len(m) == 0 {
			return ""
		}
		out, _ := json.Marshal(m)
		if len(out) > mostOfAudit {
			return string(out[:mostOfAudit]) + " … cut"
		}
		return string(out)
	}
	return text(a), text(b)
}

// record adds an entry to the audit.
func (s *Server) record(c *echo.Context, o apiCall, failed error, was, is string) {
	if c.Request().Context().Value(internalRequest{}) != nil {
		return
	}
	result := "done"
	if failed != nil {
		p := problem.As(failed)
		result = "refused: " + p.Title
		if p.Status >= 500 {
			result = "failed: " + p.Title
		}
	}
	target := strings.TrimPrefix(c.Request().URL.Path, base)
	if about, _ := c.Get(whatAbout).(string); about != "" {
		target += " (" + about + ")"
	}
	r := rights(c)
	s.note(api.AuditEntry{
		Who:    cmp.Or(r.Name, "nobody"),
		Role:   string(r.Role),
		From:   address(c),
		Action: o.ID,
		Target: target,
		Result: result,
		Before: was,
		After:  is,
	})
}

// note stores an entry.
func (s *Server) note(e api.AuditEntry) {
	if err := s.Service.People.Note(e); err != nil {
		s.Log.Error("an entry of the audit could not be written", "who", e.Who, "action", e.Action, "target", e.Target,
			"error", err)
	}
}
