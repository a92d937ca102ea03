package httpd

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"regexp"
	"strings"
	"sync"

	"github.com/labstack/echo/v5"
	"go.yaml.in/yaml/v3"

	"lantern/internal/api"
	"lantern/internal/service/people"
	"lantern/internal/service/problem"
)

// apiCall is what the API description says about the rights for one call.
type apiCall struct {
	ID    string   `yaml:"operationId"`
	Role  api.Role `yaml:"x-role"`
	Audit bool     `yaml:"x-audit"` // it changes nothing and is audited: an export
	Past  bool     `yaml:"x-past"`  // it can be asked about an earlier moment
	Tags  []string `yaml:"tags"`
}

var pathParameter = regexp.MustCompile(`\{(\w+)\}`)

// apiCalls are all calls, by method and route. Reading needs a viewer; any other call has its role in the description,
// and a call without one would need an admin.
var apiCalls = sync.OnceValue(func() map[string]apiCall {
	var doc struct {
		Paths map[string]map[string]yaml.Node `yaml:"paths"`
	}
	if err := yaml.Unmarshal(api.Document, &doc); err != nil {
		panic("the API description cannot be read: " + err.Error()) // it is part of the program, and a test reads it
	}
	out := map[string]apiCall{}
	for path, methods := range doc.Paths {
		for method, node := range methods {
			var o apiCall
			if node.Kind != yaml.MappingNode || node.Decode(&o) != nil || o.ID == "" {
				continue
			}
			if o.Role == "" {
				o.Role = api.Admin
				if method == "get" {
					o.Role = api.Viewer
				}
			}
			out[strings.ToUpper(method)+" "+base+pathParameter.ReplaceAllString(path, ":$1")] = o
		}
	}
	return out
})

// called is the apiCall of a request.
func called(c *echo.Context) apiCall {
	if o, ok := apiCalls()[c.Request().Method+" "+c.Path()]; ok {
		return o
	}
	return apiCall{ID: c.Path(), Role: api.Admin}
}

// rights are those of the person who asks.
func rights(c *echo.Context) people.Rights {
	r, _ := c.Get(whoRights).(people.Rights)
	return r
}

// permit checks the rights of a person. A person with rights for some hosts or pools only must name one of them: a
// request without a name is refused.
func (s *Server) permit(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r, o := rights(c), called(c)
		if err := s.atSite(o, c.QueryParam("at")); err != nil {
			return err
		}
		if !r.May(o.Role) {
			err := r.Forbidden(o.Role)
			s.record(c, o, err, "", "")
			return err
		}
		if r.Scoped() && o.Role != api.Viewer {
			targets, err := s.targets(c)
			if err != nil {
				return err
			}
			out := len(targets) == 0
			for _, t := range targets {
				out = out || !r.Reaches(t)
			}
			if out {
				err := problem.New(403, "out-of-scope", "Ask an admin, or somebody who may act there.",
					"You may act only on %s.", scopeWords(r))
				s.record(c, o, err, "", "")
				return err
			}
		}
		if at := c.QueryParam("at"); at != "" {
			return s.audited(func(c *echo.Context) error { return s.inPast(c, o, at) }, o)(c)
		}
		if o.Role != api.Viewer && !whileRestored[o.ID] {
			if says := s.Service.RestoredSays(); says != "" {
				return problem.New(
					409,
					"restored",
					"When the service before it is gone for good, say so: lantern take-over --reason \"...\"",
					"%s.",
					says,
				)
			}
		}
		return s.audited(next, o)(c)
	}
}

// whileRestored are the calls with changes that are accepted while a restored service gives no orders.
var whileRestored = map[string]bool{"takeOver": true, "signOut": true, "endSession": true}

func scopeWords(r people.Rights) string {
	var parts []string
	if len(r.Hosts) > 0 {
		parts = append(parts, "the hosts "+strings.Join(r.Hosts, ", "))
	}
	if len(r.Pools) > 0 {
		parts = append(parts, "the pools "+strings.Join(r.Pools, ", "))
	}
	return strings.Join(parts, " and ")
}

// named are the fields and parameters of requests that name hosts, pools or drives.
var named = []string{"drive", "pool", "host", "bay", "tail", "drives", "pools", "hosts"}

// targets are the hosts and pools that a request concerns, by its path and its body.
func (s *Server) targets(c *echo.Context) (out []people.Target, err error) {
	add := func(kind, name string) {
		if name == "" {
			return
		}
		if t, ok := s.Service.Views.TargetOf(kind, name); ok {
			out = append(out, t)
		} else {
			out = append(out, people.Target{}) // of an unknown object: nobody has rights for it
		}
	}
	path := strings.Split(strings.TrimPrefix(c.Request().URL.Path, base+"/"), "/")
	for _, p := range c.PathValues() {
		kind := p.Name
		if kind == "id" || kind == "name" {
			kind = strings.TrimSuffix(path[0], "s")
		}
		add(kind, p.Value)
	}
	fields, err := fieldsOf(c)
	if err != nil {
		return nil, err
	}
	for _, f := range named {
		switch v := fields[f].(type) {
		case string:
			add(strings.TrimSuffix(f, "s"), v)
		case []any:
			for _, x := range v {
				if name, ok := x.(string); ok {
					add(strings.TrimSuffix(f, "s"), name)
				}
			}
		}
	}
	return out, nil
}

// fieldsOf are the fields of a request's body; the body can be read again.
func fieldsOf(c *echo.Context) (fields map[string]any, err error) {
	r := c.Request()
	if r.Body == nil || r.ContentLength > maxBody || streamed(r) {
		return nil, nil // an import: no field names a single object
	}
	body, err := io.ReadAll(http.MaxBytesReader(c.Response(), c.Request().Body, maxBody))
	if err != nil {
		return nil, tooLarge(err)
	}
	c.Request().Body = io.NopCloser(bytes.NewReader(body))
	_ = json.Unmarshal(body, &fields) // the handler that reads the body reports the error
	return fields, nil
}

// streamed reports whether a body is a stream of lines, which only its handler may read.
func streamed(r *http.Request) bool {
	return strings.HasPrefix(r.Header.Get("Content-Type"), "application/jsonl")
}
