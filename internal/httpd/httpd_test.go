package httpd

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/service"
	"lantern/internal/store"
	"lantern/web"
)

// site is the whole site over a service with one host of three drives in a mirror, and no lab.
type site struct {
	t       *testing.T
	server  *Server
	store   *store.Store
	url     string
	person  string // token
	host    string // token
	reports int
}

func newSite(t *testing.T) *site {
	s := emptySite(t)
	var err error
	s.host, err = s.server.Service.Fleet.Enrol("ida", "fulmar", false)
	require.NoError(t, err)
	status, body, _ := s.call("POST", "/agent/reports", s.report(), "Authorization", "Bearer "+s.host)
	require.Equal(t, 204, status, body)
	return s
}

// emptySite is a service of which nothing is known yet.
func emptySite(t *testing.T) *site {
	st, err := store.Open(filepath.Join(t.TempDir(), "lantern.db"))
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	log := slog.New(slog.DiscardHandler)
	svc, err := service.New(st, clock.Real{}, log)
	require.NoError(t, err)
	s := &site{t: t, store: st, server: &Server{Service: svc, Version: "test", Now: time.Now, Log: log}}
	s.person, err = svc.People.NewToken("ida")
	require.NoError(t, err)
	h := httptest.NewServer(s.server.Handler())
	t.Cleanup(h.Close)
	s.url = h.URL
	return s
}

// report is what the host's agent says.
func (s *site) report() string {
	s.reports++
	r := api.Report{Id: fmt.Sprint("r", s.reports), Host: "fulmar", At: time.Now(), IntervalSeconds: 300}
	group := api.GroupReport{Name: "mirror", Protection: api.Protection{Words: "three-way mirror", Tolerance: 2}}
	for i, tail := range []string{"AA001", "BB002", "CC003"} {
		d := api.DriveReport{
			Identity: api.Identity{
				Wwn:    fmt.Sprintf("502abe7%09d", i+1),
				Model:  "OSSFELL OF-8T",
				Serial: "KH3" + tail,
			},
			CapacityBytes: 8e12,
			Section:       "front",
			Bay:           i + 1,
			Looked:        true,
			Reading: api.Reading{
				At:      time.Now(),
				Metrics: map[string]float64{"pending_sectors": float64(i), "power_on_hours": 100},
			},
		}
		r.Drives = append(r.Drives, d)
		group.Members = append(
			group.Members,
			api.MemberReport{Slot: fmt.Sprint(i + 1), State: "online", Drive: "wwn-" + d.Identity.Wwn,
				Domain: "fulmar", SizeBytes: 8e12, UsedBytes: 4e12, NeedsBytes: 8e12},
		)
	}
	r.Enclosures = []api.EnclosureReport{
		{
			Name: "chassis",
			Sections: []api.SectionReport{
				{Name: "front", Rows: 2, Columns: 6, First: "top-left", Run: "rows", Lit: []int{}},
			},
		},
	}
	r.Pools = []api.PoolReport{
		{Id: "p1", Name: "plankton", Kind: "mirrors", Offers: []string{"join"}, CapacityBytes: 8e12, UsedBytes: 4e12,
			Witness: api.Witness{Source: "marks on the members", At: time.Now()}, Groups: []api.GroupReport{group},
			Volumes: []api.VolumeReport{}, Spares: []api.MemberReport{}, Logs: []api.MemberReport{}},
	}
	b, err := json.Marshal(r)
	require.NoError(s.t, err)
	return string(b)
}

// call sends a request; headers come in pairs.
func (s *site) call(method, path, body string, headers ...string) (int, string, http.Header) {
	s.t.Helper()
	ctx, cancel := context.WithTimeout(s.t.Context(), time.Minute)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, method, s.url+"/api/v1"+path, strings.NewReader(body))
	require.NoError(s.t, err)
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	a, err := http.DefaultClient.Do(r)
	require.NoError(s.t, err)
	defer a.Body.Close()
	if strings.HasPrefix(a.Header.Get("Content-Type"), "text/event-stream") {
		return a.StatusCode, "", a.Header // it does not end
	}
	b, err := io.ReadAll(a.Body)
	require.NoError(s.t, err)
	return a.StatusCode, string(b), a.Header
}

// as calls with a person's token.
func (s *site) as(method, path, body string, headers ...string) (int, string, http.Header) {
	s.t.Helper()
	return s.call(method, path, body, append([]string{"Authorization", "Bearer " + s.person}, headers...)...)
}

// problem requires that an answer is a problem of a listed type, with words.
func (s *site) problem(what string, status int, body string, h http.Header) api.Problem {
	s.t.Helper()
	require.Equal(s.t, "application/problem+json", h.Get("Content-Type"), "%s: %d %s", what, status, body)
	var p api.Problem
	require.NoError(s.t, json.Unmarshal([]byte(body), &p), body)
	require.Equal(s.t, status, p.Status, what)
	require.True(s.t, p.Type.Valid(), "%s answers with the type %q, which is not listed", what, p.Type)
	require.NotEmpty(s.t, p.Title, what)
	return p
}

// operation is one of openapi.yaml.
type operation struct {
	method, path, id string
	free             bool // needs no token
	body             bool
}

func operations(t *testing.T) (out []operation) {
	var doc struct {
		Paths map[string]map[string]yaml.Node `yaml:"paths"`
	}
	require.NoError(t, yaml.Unmarshal(api.Document, &doc))
	for path, methods := range doc.Paths {
		for method, node := range methods {
			if !slices.Contains([]string{"get", "put", "post", "delete"}, method) {
				continue
			}
			var op struct {
				ID       string    `yaml:"operationId"`
				Security []any     `yaml:"security"`
				Body     yaml.Node `yaml:"requestBody"`
			}
			require.NoError(t, node.Decode(&op))
			out = append(out, operation{strings.ToUpper(method), path, op.ID, op.Security != nil, !op.Body.IsZero()})
		}
	}
	slices.SortFunc(out, func(a, b operation) int { return strings.Compare(a.path+a.method, b.path+b.method) })
	return out
}

var parameter = regexp.MustCompile(`\{\w+\}`)

// TestEveryOperation: without a valid token there is no data; with one, every operation returns its described answer or
// a problem of a listed type with advice, for any input. None has an internal error.
func TestEveryOperation(t *testing.T) {
	s := newSite(t)
	all := operations(t)
	require.Greater(t, len(all), 110)
	for _, op := range all {
		what := op.method + " " + op.path
		path := parameter.ReplaceAllString(op.path, "nosuch")
		agent := strings.HasPrefix(op.path, "/agent/")
		tokens := map[string]string{"no token": "", "a wrong token": "lan-person-guess", "a host's": s.host}
		if agent {
			tokens = map[string]string{"no token": "", "a person's": s.person}
		}
		if op.free {
			tokens = nil
		}
		for name, token := range tokens {
			headers := []string{}
			if token != "" {
				headers = []string{"Authorization", "Bearer " + token}
			}
			s.server.tries.worked("127.0.0.1") // TestWrongTokens is about that
			status, body, h := s.call(op.method, path, "{}", headers...)
			require.Equal(t, 401, status, "%s with %s", what, name)
			s.problem(what, status, body, h)
		}
		token := s.person
		if agent {
			token = s.host
			path += "?wait=0"
		}
		bodies := []string{"", "{}", `{"nosuch": 1}`, "[", `"text"`, strings.Repeat("[", 10_000)}
		if !op.body {
			bodies = bodies[:1]
		}
		for _, b := range bodies {
			s.server.tries.worked("127.0.0.1")
			status, body, h := s.call(op.method, path, b, "Authorization", "Bearer "+token)
			require.Less(t, status, 500, "%s with the body %.40q: %s", what, b, body)
			if op.id != "signIn" { // with no token of its own
				require.NotEqual(t, 401, status, what)
			}
			if op.id != "pushReport" && op.id != "addPerson" { // of a host that it does not name
				require.NotEqual(t, 403, status, what)
			}
			if status >= 400 {
				p := s.problem(what, status, body, h)
				if b == `{"nosuch": 1}` && p.Type != "bad-body" && p.Type != "no-lab" && op.id != "importReadings" {
					t.Errorf("%s takes a field that it does not know: %d %s", what, status, body)
				}
			}
			if h.Get("Cache-Control") != "no-store" {
				t.Errorf("%s may be cached", what)
			}
		}
	}
}

// TestIncompleteReports: a report that lacks a required field is refused permanently, with the name of the field, and
// changes nothing.
func TestIncompleteReports(t *testing.T) {
	s := newSite(t)
	_, before, _ := s.as("GET", "/pools/plankton", "")
	for _, cut := range []struct{ text, missing string }{
		{`"tolerance":2,`, "/pools/0/groups/0/protection/tolerance"}, {`"volumes":[],`, "/pools/0/volumes"},
		{`"needs_bytes":8000000000000,`, "/pools/0/groups/0/members/0/needs_bytes"},
		{`"capacity_bytes":8000000000000,`, "/drives/0/capacity_bytes"},
	} {
		report := s.report()
		less := strings.Replace(report, cut.text, "", 1)
		require.NotEqual(t, report, less, cut.text)
		status, body, h := s.call("POST", "/agent/reports", less, "Authorization", "Bearer "+s.host)
		require.Equal(t, 422, status, cut.text)
		require.Equal(t, api.ProblemType("bad-report"), s.problem(cut.text, status, body, h).Type)
		require.Contains(t, body, "it has no "+cut.missing+".")
	}
	_, after, _ := s.as("GET", "/pools/plankton", "")
	require.Equal(t, before, after)
	_, host, _ := s.as("GET", "/hosts", "")
	require.Contains(t, host, "is not complete", "people are told that reports of this host were refused")
}

// TestQuestions: each query about existing data has an answer of the described form.
func TestQuestions(t *testing.T) {
	s := newSite(t)
	names := map[string]string{"{pool}": "plankton", "{drive}": "AA001", "{host}": "fulmar"}
	answered, unchanged := 0, 0
	for _, op := range operations(t) {
		if op.method != "GET" || strings.HasPrefix(op.path, "/agent/") {
			continue
		}
		path := op.path
		for p, name := range names {
			path = strings.ReplaceAll(path, p, name)
		}
		switch op.id {
		case "getTrend":
			path += "?metric=pending_sectors"
		case "search":
			path += "?q=AA001"
		case "getReadings":
			path += "?drive=AA001"
		}
		status, body, h := s.as("GET", path, "")
		if parameter.MatchString(path) || status >= 400 {
			s.problem(op.id, status, body, h)
			continue
		}
		answered++
		switch kind := h.Get("Content-Type"); {
		case strings.HasPrefix(kind, "text/event-stream"), strings.HasPrefix(kind, "application/jsonl"):
		case op.id == "evidenceOfDrive":
			require.Equal(t, "application/zip", kind)
			require.True(t, strings.HasPrefix(body, "PK"))
		case op.id == "getReportPage":
			require.True(t, strings.HasPrefix(kind, "text/html"))
			require.Contains(t, body, "</html>")
		case strings.HasPrefix(kind, "application/json"):
			require.True(t, json.Valid([]byte(body)), op.id)
			require.NotEqual(t, "null", strings.TrimSpace(body), "%s answers with null: an empty list is []", op.id)
			require.Regexp(t, `^(W/)?"[0-9a-f]{24}"$`, h.Get("ETag"), op.id)
			tag := strings.TrimPrefix(h.Get("ETag"), "W/")
			status, again, h := s.as("GET", path, "", "If-None-Match", `"other", W/`+tag)
			if unchanged++; status != http.StatusNotModified {
				unchanged--
				require.NotContains(t, h.Get("ETag"), tag, "%s tells the same twice", op.id)
				require.NotEqual(t, body, again)
			} else {
				require.Empty(t, again)
			}
		default:
			t.Errorf("%s answers with %q", op.id, kind)
		}
	}
	require.Greater(t, answered, 25)
	require.Greater(t, unchanged, 20)
}

// TestIdempotency: a request with a key has one effect, however often it is sent; another request with the key is
// refused, a refusal is not stored, and a secret is sent once.
func TestIdempotency(t *testing.T) {
	s := newSite(t)
	key := func(k string) []string { return []string{"Idempotency-Key", k} }
	plan := `{"drive":"AA001"}`

	var wait sync.WaitGroup
	answers := make([]string, 8)
	for i := range answers {
		wait.Go(func() { _, answers[i], _ = s.as("POST", "/swaps", plan, key("k1")...) })
	}
	wait.Wait()
	for _, a := range answers {
		require.Equal(t, answers[0], a)
	}
	var list []api.Swap
	_, body, _ := s.as("GET", "/swaps", "")
	require.NoError(t, json.Unmarshal([]byte(body), &list))
	require.Len(t, list, 1)

	status, body, h := s.as("POST", "/swaps", `{"drive":"BB002"}`, key("k1")...)
	require.EqualValues(t, "key-reused", s.problem("another request with the key", status, body, h).Type)

	status, body, h = s.as("POST", "/swaps", `{"drive":"nosuch"}`, key("k2")...)
	require.EqualValues(t, "no-drive", s.problem("a refusal", status, body, h).Type)
	status, _, _ = s.as("POST", "/swaps", `{"drive":"nosuch"}`, key("k2")...)
	require.Equal(t, 404, status, "it is looked at again")

	status, first, _ := s.as("POST", "/people", `{"name":"bo"}`, key("k3")...)
	require.Equal(t, 201, status, first)
	require.Contains(t, first, "lan-person-")
	status, again, h := s.as("POST", "/people", `{"name":"bo"}`, key("k3")...)
	require.EqualValues(t, "person-exists", s.problem("a secret, told again", status, again, h).Type)
}

// TestOrigins: a session's cookie changes nothing when another site sends it.
func TestOrigins(t *testing.T) {
	s := newSite(t)
	status, body, h := s.call("POST", "/session", `{"token":"`+s.person+`"}`)
	require.Equal(t, 204, status, body)
	cookie := h.Get("Set-Cookie")
	for _, want := range []string{"HttpOnly", "SameSite=Strict", "Path=/"} {
		require.Contains(t, cookie, want)
	}
	cookie, _, _ = strings.Cut(cookie, ";")
	host := strings.TrimPrefix(s.url, "http://")
	for _, c := range []struct {
		headers []string
		passes  bool
	}{
		{[]string{"Sec-Fetch-Site", "same-origin"}, true},
		{[]string{"Sec-Fetch-Site", "cross-site"}, false},
		{[]string{"Sec-Fetch-Site", "same-site"}, false},
		{[]string{"Sec-Fetch-Site", "none"}, false},
		{[]string{"Origin", "http://" + host}, true},
		{[]string{"Origin", "http://elsewhere.test"}, false},
		{[]string{"Origin", "null"}, false},
		{[]string{"Origin", "http://" + host + ".elsewhere.test"}, false},
		{nil, false},
	} {
		status, body, h := s.call(
			"POST",
			"/swaps",
			`{"drive":"nosuch"}`,
			append(slices.Clone(c.headers), "Cookie", cookie)...)
		if c.passes {
			require.Equal(t, 404, status, "%v: %s", c.headers, body)
			continue
		}
		require.EqualValues(t, "other-origin", s.problem(fmt.Sprint(c.headers), status, body, h).Type)
	}
	status, _, _ = s.call("GET", "/round", "", "Cookie", cookie)
	require.Equal(t, 200, status, "looking needs no origin")
	status, _, _ = s.call("GET", "/agent/orders?wait=0", "", "Cookie", cookie)
	require.Equal(t, 401, status, "a session is no host")
	status, _, _ = s.call("DELETE", "/session", "", "Cookie", cookie, "Sec-Fetch-Site", "same-origin")
	require.Equal(t, 204, status)
	status, _, _ = s.call("GET", "/round", "", "Cookie", cookie)
	require.Equal(t, 401, status, "the session has ended")
}

// TestLimits: a request that is too large is refused with an explanation, and the next request is answered.
func TestLimits(t *testing.T) {
	s := newSite(t)
	large := `{"drive":"` + strings.Repeat("A", maxBody+10) + `"}`
	status, body, h := s.as("POST", "/swaps", large, "Idempotency-Key", "large")
	require.Equal(t, 413, status)
	s.problem("a large body", status, body, h)
	status, body, h = s.as("POST", "/swaps", large)
	require.Equal(t, 422, status)
	require.EqualValues(t, "bad-body", s.problem("a large body without a key", status, body, h).Type)
	status, _, _ = s.as("GET", "/round", "")
	require.Equal(t, 200, status)
	status, body, h = s.call(
		"POST",
		"/agent/reports",
		`{"id":"x","host":"fulmar","at":"2099-01-01T00:00:00Z","interval_seconds":30,"past":true,"drives":[],"pools":[],
			"enclosures":[]}`,
		"Authorization",
		"Bearer "+s.host,
	)
	require.EqualValues(t, "bad-clock", s.problem("a report of another time", status, body, h).Type)
	// A stream of lines may be larger than any other body, whatever its headers say.
	var lines strings.Builder
	at := time.Now().Add(-48 * time.Hour)
	for i := range 20_000 {
		fmt.Fprintf(&lines, `{"drive":"wwn-502abe7%09d","at":%q,"metrics":{"power_on_hours":%d}}`+"\n", 1,
			at.Add(time.Duration(i)*time.Second).Format(time.RFC3339), 50)
	}
	require.Greater(t, lines.Len(), maxBody)
	status, body, _ = s.as("POST", "/readings", lines.String(), "Idempotency-Key", "import", "Content-Type",
		"application/jsonl")
	require.Equal(t, 200, status, body)
	require.Contains(t, body, "20000")
	twice := s.report()
	status, _, _ = s.call("POST", "/agent/reports", twice, "Authorization", "Bearer "+s.host)
	require.Equal(t, 204, status)
	status, body, h = s.call("POST", "/agent/reports", twice, "Authorization", "Bearer "+s.host)
	require.EqualValues(t, "used-id", s.problem("a report sent twice", status, body, h).Type)
}

// TestConsoleFiles: the console is served to everybody, with headers that keep other sites out, and every path of it
// gives the page.
func TestConsoleFiles(t *testing.T) {
	s := newSite(t)
	for _, path := range []string{"/", "/drives/AA001", "/sign-in", "/nosuch"} {
		a, err := http.Get(s.url + path)
		require.NoError(t, err)
		a.Body.Close()
		require.Contains(t, a.Header.Get("Content-Security-Policy"), "frame-ancestors 'none'", path)
		require.Equal(t, "nosniff", a.Header.Get("X-Content-Type-Options"), path)
	}
	client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	a, err := client.Get(s.url + "/sign-in/once?code=guess")
	require.NoError(t, err)
	a.Body.Close()
	require.Equal(t, "/sign-in?why=link", a.Header.Get("Location"))
	a, err = client.Get(s.url + "/calendar/guess.ics")
	require.NoError(t, err)
	a.Body.Close()
	require.Equal(t, 404, a.StatusCode)
	for _, path := range []string{"", "/nosuch", "/round/nosuch", "/../api/v1/nosuch"} {
		status, body, h := s.as("GET", path, "")
		s.problem(path, status, body, h)
		require.Equal(t, 404, status, path)
	}
}

// TestPackedFiles: the console's programs are sent in Brotli to clients that accept it, and uncompressed to others.
func TestPackedFiles(t *testing.T) {
	files, built := web.Files()
	if !built {
		t.Skip("the console was not built: make build")
	}
	s := newSite(t)
	packed, err := fs.Glob(files, "assets/*.js.br")
	require.NoError(t, err)
	require.NotEmpty(t, packed)
	for accept, want := range map[string]string{"gzip, br": "br", "br;q=0.5": "br", "br;q=0": "", "": "", "brot": ""} {
		name := strings.TrimSuffix(packed[0], ".br")
		r := httptest.NewRequest(http.MethodGet, "/"+name, nil)
		r.Header.Set("Accept-Encoding", accept)
		w := httptest.NewRecorder()
		s.server.site.ServeHTTP(w, r)
		require.Equal(t, 200, w.Code)
		require.Equal(t, want, w.Header().Get("Content-Encoding"), accept)
		require.Contains(t, w.Header().Get("Content-Type"), "javascript")
		if want == "" {
			name = strings.TrimSuffix(name, ".br")
		} else {
			name += ".br"
		}
		b, err := fs.ReadFile(files, name)
		require.NoError(t, err)
		require.True(t, bytes.Equal(b, w.Body.Bytes()), accept)
	}
}
