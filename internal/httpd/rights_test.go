package httpd

import (
	"bufio"
	"context"
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/service/people"
	"lantern/internal/store"
)

// with sends a request with somebody's token.
func (s *site) with(token, method, path, body string) (int, string) {
	s.t.Helper()
	status, answer, _ := s.call(method, path, body, "Authorization", "Bearer "+token)
	return status, answer
}

func (s *site) add(p api.AddPerson) string {
	s.t.Helper()
	body, err := json.Marshal(p)
	require.NoError(s.t, err)
	status, answer, _ := s.as("POST", "/people", string(body))
	require.Less(s.t, status, 300, answer)
	var made api.NewPerson
	require.NoError(s.t, json.Unmarshal([]byte(answer), &made))
	return made.Token
}

// TestRoles: every operation has a role in the description, and each role may call exactly what it and those below may.
func TestRoles(t *testing.T) {
	s := newSite(t)
	ladder := []api.Role{api.Viewer, api.Operator, api.Keeper, api.Admin}
	for i, have := range ladder {
		token := s.add(api.AddPerson{Name: "p" + string(have), Role: have})
		for _, op := range operations(t) {
			if op.free || strings.HasPrefix(op.path, "/agent/") {
				continue
			}
			call, ok := apiCalls()[op.method+" "+base+pathParameter.ReplaceAllString(op.path, ":$1")]
			require.True(t, ok, op.id)
			if op.method != "GET" {
				require.NotEmpty(t, call.Role, op.id)
			}
			status, body := s.with(token, op.method, pathParameter.ReplaceAllString(op.path, "nosuch"), "{}")
			refused := status == 403 && strings.Contains(body, "role-too-low")
			if op.id == "addPerson" {
				require.Equal(t, have != api.Admin, refused, "%s adds people", have)
				continue
			}
			require.Equal(t, slices.Index(ladder, call.Role) > i, refused, "%s calls %s: %s", have, op.id, body)
		}
	}
}

// TestScope: who may act on one pool or host only acts on no other, and on nothing that names none; reading is free.
func TestScope(t *testing.T) {
	s := newSite(t)
	here := s.add(api.AddPerson{Name: "here", Role: api.Keeper, Hosts: []string{"fulmar"}})
	pool := s.add(api.AddPerson{Name: "pool", Role: api.Keeper, Pools: []string{"plankton"}})
	there := s.add(api.AddPerson{Name: "there", Role: api.Keeper, Hosts: []string{"petrel"}})
	for _, c := range []struct{ method, path, body string }{
		{"POST", "/swaps", `{"drive":"AA001"}`},
		{"POST", "/lights", `{"bay":"fulmar/front/1","seconds":60}`},
		{"POST", "/pools/plankton/actions", `{"kind":"scrub"}`},
		{"PUT", "/hosts/fulmar/room", `{"room":"cellar"}`},
		{"POST", "/selftests", `{"drives":["AA001"],"kind":"short"}`},
	} {
		status, body := s.with(there, c.method, c.path, c.body)
		require.Equal(t, 403, status, "%s %s: %s", c.method, c.path, body)
		require.Contains(t, body, "You may act only on the hosts petrel")
		status, body = s.with(here, c.method, c.path, c.body)
		require.NotContains(t, body, "out-of-scope", "%s %s", c.method, c.path)
		require.NotEqual(t, 401, status)
	}
	status, body := s.with(pool, "PUT", "/hosts/fulmar/room", `{"room":"cellar"}`)
	require.Equal(t, 403, status, "a host has more on it than one pool: %s", body)
	status, body = s.with(pool, "POST", "/swaps", `{"drive":"AA001"}`)
	require.Less(t, status, 300, body)
	status, body = s.with(here, "PUT", "/rules/thresholds", `{"name":"burst_sectors","value":3}`)
	require.Equal(t, 403, status, "what is about the whole fleet is no matter of one host's keeper: %s", body)
	status, _ = s.with(there, "GET", "/drives/AA001", "")
	require.Equal(t, 200, status)
}

// TestTokensEnd: a token with an end is invalid after it, and its open streams end.
func TestTokensEnd(t *testing.T) {
	s := newSite(t)
	token := s.add(api.AddPerson{Name: "script", Role: api.Viewer, Hours: 1})
	status, _ := s.with(token, "GET", "/round", "")
	require.Equal(t, 200, status)
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, "GET", s.url+base+"/events", nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+token)
	a, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer a.Body.Close()
	row, err := store.One[store.Token](s.store, "name = ?", "script")
	require.NoError(t, err)
	require.WithinDuration(t, time.Now().Add(time.Hour), row.Ends, time.Minute)
	row.Ends = time.Now() // an hour later
	b := &store.Batch{}
	b.Put(&row)
	require.NoError(t, s.store.Write(b))
	for in := bufio.NewScanner(a.Body); in.Scan(); { // until the stream ends
		require.NoError(t, ctx.Err())
	}
	require.NoError(t, ctx.Err(), "the stream ends with the token")
	status, _ = s.with(token, "GET", "/round", "")
	require.Equal(t, 401, status)
}

// TestSessions: they are listed and can be ended, one's own by everybody, others' by an admin; the stream ends too.
func TestSessions(t *testing.T) {
	s := newSite(t)
	bo := s.add(api.AddPerson{Name: "bo", Role: api.Viewer})
	eve := s.add(api.AddPerson{Name: "eve", Role: api.Viewer})
	body, _ := json.Marshal(api.SignIn{Token: bo})
	a, err := http.Post(s.url+base+"/session", "application/json", strings.NewReader(string(body)))
	require.NoError(t, err)
	defer a.Body.Close()
	require.Len(t, a.Cookies(), 1)
	cookie := a.Cookies()[0]
	list := func(token string) (out []api.OpenSession) {
		_, answer := s.with(token, "GET", "/sessions", "")
		require.NoError(t, json.Unmarshal([]byte(answer), &out))
		return out
	}
	require.Len(t, list(bo), 1)
	require.Equal(t, "127.0.0.1", list(bo)[0].From)
	require.Empty(t, list(eve), "nobody sees another's")
	require.Len(t, list(s.person), 1, "but an admin")
	status, _ := s.with(eve, "DELETE", "/sessions/"+list(bo)[0].Id, "")
	require.Equal(t, 404, status)

	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, "GET", s.url+base+"/events", nil)
	require.NoError(t, err)
	r.AddCookie(cookie)
	stream, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer stream.Body.Close()
	status, _ = s.with(s.person, "DELETE", "/sessions/"+list(bo)[0].Id, "")
	require.Equal(t, 204, status)
	for in := bufio.NewScanner(stream.Body); in.Scan(); {
		require.NoError(t, ctx.Err())
	}
	require.NoError(t, ctx.Err(), "the stream ends with the session")
	require.Empty(t, list(bo))
}

// TestUnreadRecords: while the records cannot be read, no answer says that something does not exist that existed before;
// nobody is told that their session has ended or that their token is wrong, and nobody else gets access.
func TestUnreadRecords(t *testing.T) {
	s := newSite(t)
	session, err := s.server.Service.People.SignIn(s.person, people.Caller{})
	require.NoError(t, err)
	known := strings.NewReplacer("{pool}", "plankton", "{drive}", "AA001", "{host}", "fulmar", "{id}", "o1")
	b := &store.Batch{}
	b.Put(&store.Order{ID: "o1", Host: "fulmar", State: "done", Doc: []byte(`{"id":"o1"}`)})
	b.Put(&store.Session{ID: "o1", Hash: []byte("its hash"), Name: "ida", Expires: time.Now().Add(time.Hour)})
	require.NoError(t, s.store.Write(b))
	size := func(body string) int {
		var list []json.RawMessage
		if json.Unmarshal([]byte(body), &list) != nil {
			return -1
		}
		return len(list)
	}
	type asked struct{ operation, token, path string }
	type answer struct {
		status int
		kind   api.ProblemType
		size   int
	}
	ask := func(a asked) (got answer, body string) {
		method, path, _ := strings.Cut(a.path, " ")
		s.server.tries.worked("127.0.0.1")
		sends := ""
		if method != "GET" {
			sends = "{}"
		}
		status, body, h := s.call(method, path, sends, "Authorization", "Bearer "+a.token)
		got = answer{status: status, size: size(body)}
		if status >= 400 {
			got.kind = s.problem(a.operation, status, body, h).Type
		}
		return got, body
	}
	before := map[asked]answer{}
	for _, op := range operations(t) {
		token := s.person
		if strings.HasPrefix(op.path, "/agent/") {
			token = s.host
		}
		if op.id == "streamEvents" || op.id == "signOut" || op.id == "takeOrders" {
			continue
		}
		for _, path := range []string{known.Replace(op.path), op.path} {
			a := asked{op.id, token, op.method + " " + parameter.ReplaceAllString(path, "nosuch") + "?wait=0"}
			before[a], _ = ask(a)
		}
	}
	require.NoError(t, s.store.Close())
	failed := 0
	for a, was := range before {
		is, body := ask(a)
		if is.status >= 500 {
			failed++
			continue
		}
		require.Equal(t, was.kind, is.kind, "%s: %s", a.path, body)
		require.GreaterOrEqual(t, is.size, was.size, "%s: %s", a.path, body)
	}
	require.Greater(t, failed, 20, "the records were needed")
	status, text, _ := s.call("GET", "/round", "", "Cookie", s.server.cookieName()+"="+session)
	require.Equal(t, 500, status, text)
	s.server.tries.worked("127.0.0.1")
	for range 2 * freeTries {
		status, text, _ = s.call("POST", "/session", `{"token":"lan-person-nosuch"}`)
		require.Equal(t, 500, status, text)
	}
}

// TestWrongTokens: guesses are slowed down and counted, and make a notice; a valid token works after the wait.
func TestWrongTokens(t *testing.T) {
	s := newSite(t)
	seen := map[int]int{}
	for range 30 {
		status, _ := s.with("lan-person-guess", "GET", "/round", "")
		seen[status]++
	}
	require.Equal(t, freeTries, seen[401])
	require.Equal(t, 30-freeTries, seen[429])
	status, body := s.with(s.person, "GET", "/round", "")
	require.Equal(t, 200, status, "a right token is never kept waiting: %s", body)
	x := &tries{}
	now := time.Now()
	for n := range 40 {
		require.Equal(t, n+1, x.failed("a", now))
		if n >= freeTries {
			require.Error(t, x.wait("a", now))
		}
		require.NoError(t, x.wait("b", now), "nobody else waits")
		now = now.Add(longestWait)
		require.NoError(t, x.wait("a", now), "no wait is longer than %s", longestWait)
	}
	_, entries := func() (int, []api.AuditEntry) {
		status, answer := s.with(s.person, "GET", "/audit", "")
		var out []api.AuditEntry
		require.NoError(t, json.Unmarshal([]byte(answer), &out))
		return status, out
	}()
	require.True(
		t,
		slices.ContainsFunc(entries, func(e api.AuditEntry) bool { return strings.Contains(e.Result, "a wrong token") }),
	)
}

// TestAudit: people's changes are recorded with the states before and after, the person and the address; refused ones
// too; exports are, other reading is not. There are no secrets in it.
func TestAudit(t *testing.T) {
	s := newSite(t)
	bo := s.add(api.AddPerson{Name: "bo", Role: api.Operator})
	_, _ = s.with(bo, "PUT", "/hosts/fulmar/room", `{"room":"attic"}`)
	status, _, _ := s.as("PUT", "/hosts/fulmar/room", `{"room":"cellar"}`)
	require.Equal(t, 200, status)
	status, _, _ = s.as("PUT", "/rules/thresholds", `{"name":"burst_sectors","value":33}`)
	require.Less(t, status, 300)
	status, _, _ = s.as("POST", "/swaps", `{"drive":"AA001"}`)
	require.Less(t, status, 300)
	_, _, _ = s.as("GET", "/drives/AA001", "")
	_, _, _ = s.as("GET", "/drives/AA001/readings", "")
	_, answer, _ := s.as("GET", "/audit", "")
	var all []api.AuditEntry
	require.NoError(t, json.Unmarshal([]byte(answer), &all))
	var says []string
	for i, e := range all {
		require.EqualValues(t, i+1, e.Number)
		require.Equal(t, "127.0.0.1", e.From)
		says = append(says, e.Who+" "+e.Action+" "+e.Target+" "+e.Result)
	}
	require.Equal(t, []string{
		"ida addPerson /people (name bo) done",
		"bo setRoom /hosts/fulmar/room refused: This needs the role keeper; you are operator.",
		"ida setRoom /hosts/fulmar/room done",
		"ida setThreshold /rules/thresholds (name burst_sectors) done",
		"ida planSwap /swaps (drive AA001) done",
		"ida getReadings /drives/AA001/readings done",
	}, says)
	require.NotContains(t, answer, bo)
	require.NotContains(t, answer, s.person)
	_, verdict, _ := s.as("GET", "/audit/verify", "")
	var v api.AuditVerdict
	require.NoError(t, json.Unmarshal([]byte(verdict), &v))
	require.True(t, v.Sound, v.Says)
	require.EqualValues(t, len(all), v.Number)
}
