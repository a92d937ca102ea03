package daemon

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/agent"
	"lantern/internal/agent/pools"
	"lantern/internal/agent/redfish"
	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
	"lantern/internal/service/people"
	"lantern/internal/store"
)

// board stands in for a management controller: it answers as the standard's mockups do (DSP2043), for a chassis whose
// drives are linked, one with a collection of them over two pages, and storage that a system lists.
type board struct {
	mu      sync.Mutex
	drives  map[string]map[string]any // by URI
	extra   map[string]any            // other resources, in place of those that are made
	user    string
	slow    int // how many reads a light takes until it shows
	pending map[string]bool
	asked   map[string]int
	patches []string
	down    bool
}

func newBoard() *board {
	b := &board{drives: map[string]map[string]any{}, extra: map[string]any{}, user: "lantern", pending: map[string]bool{},
		asked: map[string]int{}}
	for n, serial := range []string{"KH3AA001", "KH3BB002", ""} {
		b.put(fmt.Sprint("/redfish/v1/Chassis/Self/Drives/", n), n, serial, enclosure.LightActive)
	}
	b.put("/redfish/v1/Systems/1/Storage/A/Drives/x", 4, "KH3CC003", enclosure.LightOld)
	return b
}

func (b *board) put(uri string, number int, serial, light string) {
	d := map[string]any{
		"@odata.id": uri, "SerialNumber": serial, "CapacityBytes": 8001563222016,
		"Status": map[string]any{"State": map[bool]string{true: "Absent", false: "Enabled"}[serial == ""]},
		"PhysicalLocation": map[string]any{"PartLocation": map[string]any{"LocationOrdinalValue": number,
			"ServiceLabel": "Bay " + strconv.Itoa(number)}},
		light: map[string]any{enclosure.LightActive: false, enclosure.LightOld: "Off"}[light],
	}
	if light == enclosure.LightOld {
		d["Links"] = map[string]any{"Chassis": map[string]any{"@odata.id": "/redfish/v1/Chassis/Rear_Cage"}}
	}
	b.drives[uri] = d
}

func refs(uris ...string) []any {
	out := []any{}
	for _, u := range uris {
		out = append(out, map[string]any{"@odata.id": u})
	}
	return out
}

func (b *board) resource(r *http.Request) any {
	ref := func(uri string) any { return map[string]any{"@odata.id": uri} }
	uri := strings.TrimRight(r.URL.Path, "/")
	if v, ok := b.extra[uri]; ok {
		return v
	}
	switch uri {
	case "/redfish/v1":
		return map[string]any{"Chassis": ref("/redfish/v1/Chassis"), "Systems": ref("/redfish/v1/Systems")}
	case "/redfish/v1/Chassis":
		return map[string]any{"Members": refs("/redfish/v1/Chassis/Self", "/redfish/v1/Chassis/Rear_Cage")}
	case "/redfish/v1/Chassis/Self":
		return map[string]any{"Drives": ref("/redfish/v1/Chassis/Self/Drives")}
	case "/redfish/v1/Chassis/Self/Drives":
		if r.URL.RawQuery == "$skip=2" {
			return map[string]any{"Members": refs("/redfish/v1/Chassis/Self/Drives/2")}
		}
		return map[string]any{"Members": refs("/redfish/v1/Chassis/Self/Drives/0", "/redfish/v1/Chassis/Self/Drives/1"),
			"Members@odata.nextLink": "/redfish/v1/Chassis/Self/Drives?$skip=2"}
	case "/redfish/v1/Chassis/Rear_Cage":
		return map[string]any{"Links": map[string]any{"Drives": refs("/redfish/v1/Systems/1/Storage/A/Drives/x")}}
	case "/redfish/v1/Systems":
		return map[string]any{"Members": refs("/redfish/v1/Systems/1")}
	case "/redfish/v1/Systems/1":
		return map[string]any{"Storage": ref("/redfish/v1/Systems/1/Storage")}
	case "/redfish/v1/Systems/1/Storage":
		return map[string]any{"Members": refs("/redfish/v1/Systems/1/Storage/A")}
	case "/redfish/v1/Systems/1/Storage/A":
		return map[string]any{"Drives": refs("/redfish/v1/Systems/1/Storage/A/Drives/x")}
	}
	if d, ok := b.drives[uri]; ok {
		return d
	}
	return nil
}

func (b *board) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if user, password, _ := r.BasicAuth(); user != b.user || password != "a pass:word" {
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	if b.down {
		w.WriteHeader(http.StatusServiceUnavailable)
		return
	}
	uri := strings.TrimRight(r.URL.Path, "/")
	b.asked[uri]++
	if on, there := b.pending[uri]; there && b.asked[uri] > b.slow {
		delete(b.pending, uri)
		b.drives[uri][enclosure.LightActive] = on
	}
	v := b.resource(r)
	switch body, raw := v.(string); {
	case v == nil:
		w.WriteHeader(http.StatusNotFound)
		return
	case raw && strings.HasPrefix(body, "to "):
		http.Redirect(w, r, strings.TrimPrefix(body, "to "), http.StatusTemporaryRedirect)
		return
	case raw:
		_, _ = w.Write([]byte(body))
		return
	}
	if r.Method == http.MethodPatch {
		var change map[string]any
		_ = json.NewDecoder(r.Body).Decode(&change)
		b.patches = append(b.patches, fmt.Sprint(uri, " ", change, " ", r.Header.Get("If-Match")))
		for k, x := range change {
			if on, is := x.(bool); is && b.slow > 0 {
				b.pending[uri], b.asked[uri] = on, 0
			} else {
				b.drives[uri][k] = x
			}
		}
		w.WriteHeader(http.StatusNoContent)
		return
	}
	w.Header().Set("ETag", `"7"`)
	_ = json.NewEncoder(w).Encode(v)
}

// served is a controller with a certificate that it made itself, and how it is known.
func served(t *testing.T, b *board) (url, fingerprint string) {
	s := httptest.NewUnstartedServer(b)
	s.Config.ErrorLog = log.New(io.Discard, "", 0) // whoever does not trust it ends the handshake
	s.StartTLS()
	t.Cleanup(s.Close)
	sum := sha256.Sum256(s.Certificate().Raw)
	return s.URL, hex.EncodeToString(sum[:])
}

// TestRedfish: all bays are found, each once, in every form in which a controller may report them; a light is switched
// as its resource describes, and counts as changed only when the controller shows it. A controller that is not the one
// that was named gets no password, and one that leads away, floods or lies is not followed.
func TestRedfish(t *testing.T) {
	b := newBoard()
	url, mark := served(t, b)
	settings := redfish.Settings{URL: url, User: "lantern", Password: "a pass:word", Fingerprint: mark}
	c, err := redfish.New(settings)
	require.NoError(t, err)
	seats, err := c.Seats(t.Context())
	require.NoError(t, err)
	var told []string
	for _, s := range seats {
		told = append(told, fmt.Sprint(s.Chassis, " ", s.Number, " ", s.Serial, " ", s.Light))
	}
	require.Equal(t, []string{
		"/redfish/v1/Chassis/Self 0 KH3AA001 LocationIndicatorActive", "/redfish/v1/Chassis/Self 1 KH3BB002 " +
			"LocationIndicatorActive",
		"/redfish/v1/Chassis/Self 2  LocationIndicatorActive", "/redfish/v1/Chassis/Rear_Cage 4 KH3CC003 IndicatorLED",
	}, told)
	for uri := range b.drives {
		require.Equal(t, 1, b.asked[uri], "each is read once")
	}

	of := func(uri string) enclosure.Seat {
		return seats[slices.IndexFunc(seats, func(s enclosure.Seat) bool { return s.URI == uri })]
	}
	lit, err := c.Light(t.Context(), of("/redfish/v1/Chassis/Self/Drives/1"), true)
	require.NoError(t, err)
	require.True(t, lit)
	b.slow = 2
	lit, err = c.Light(t.Context(), of("/redfish/v1/Chassis/Self/Drives/1"), false)
	require.NoError(t, err)
	require.False(t, lit, "it took a while")
	lit, err = c.Light(t.Context(), of("/redfish/v1/Systems/1/Storage/A/Drives/x"), true)
	require.NoError(t, err)
	require.True(t, lit)
	require.Equal(t, []string{`/redfish/v1/Chassis/Self/Drives/1 map[LocationIndicatorActive:true] "7"`,
		`/redfish/v1/Chassis/Self/Drives/1 map[LocationIndicatorActive:false] "7"`,
		`/redfish/v1/Systems/1/Storage/A/Drives/x map[IndicatorLED:Lit] "7"`}, b.patches)
	delete(b.drives["/redfish/v1/Chassis/Self/Drives/0"], enclosure.LightActive)
	_, err = c.Light(t.Context(), of("/redfish/v1/Chassis/Self/Drives/0"), true)
	require.ErrorContains(t, err, "no light")
	b.drives["/redfish/v1/Chassis/Self/Drives/0"]["SerialNumber"] = "KH3DD004"
	_, err = c.Light(t.Context(), of("/redfish/v1/Chassis/Self/Drives/0"), true)
	require.ErrorContains(t, err, "another drive is there")

	away := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		t.Errorf("somebody else was asked for %s, with %q", r.URL, r.Header.Get("Authorization"))
	}))
	t.Cleanup(away.Close)
	endless := map[string]any{"Members": []any{}, "Members@odata.nextLink": "/redfish/v1/Chassis?$skip=0"}
	for words, change := range map[string]func(){
		"none of its own": func() {
			b.extra["/redfish/v1"] = map[string]any{"Chassis": map[string]any{"@odata.id": away.URL + "/redfish/v1"}}
		},
		"answered 307":       func() { b.extra["/redfish/v1"] = "to " + away.URL + "/redfish/v1/" },
		"refuses this user":  func() { b.user = "somebody" },
		"longer than":        func() { b.extra["/redfish/v1/Chassis"] = `{"Members": [` + strings.Repeat(" ", 2<<20) },
		"not JSON":           func() { b.extra["/redfish/v1/Chassis"] = "<html>" },
		"more than 20 pages": func() { b.extra["/redfish/v1/Chassis"] = endless },
		"more than 64 members": func() {
			b.extra["/redfish/v1/Chassis"] = map[string]any{"Members": refs(make([]string,
				65)...)}
		},
		"answered with": func() {
			b.drives["/redfish/v1/Chassis/Self/Drives/0"]["@odata.id"] = "/redfish/v1/Chassis/Self/Drives/1"
		},
		"answered 404": func() { b.extra["/redfish/v1/Systems"] = map[string]any{"Members": refs("/redfish/v1/Systems/9")} },
	} {
		b = newBoard()
		change()
		url, mark := served(t, b)
		c, err := redfish.New(redfish.Settings{URL: url, User: "lantern", Password: "a pass:word", Fingerprint: mark})
		require.NoError(t, err)
		_, err = c.Seats(t.Context())
		require.ErrorContains(t, err, words)
	}
	stranger := newBoard()
	url, _ = served(t, stranger)
	settings.URL = url
	settings.Fingerprint = strings.Repeat("3f", 32)
	c, err = redfish.New(settings)
	require.NoError(t, err)
	_, err = c.Seats(t.Context())
	require.ErrorContains(t, err, "fingerprint")
	require.Empty(t, stranger.asked)
	for _, wrong := range []redfish.Settings{{}, {URL: "https://a"}, {URL: "https://a/path", User: "u", Password: "p"},
		{URL: "https://u:p@a", User: "u", Password: "p"}, {URL: "http://192.0.2.1", User: "u", Password: "p"}} {
		_, err := redfish.New(wrong)
		require.Error(t, err)
	}
}

// cabinet is a machine whose drives say nothing of their bays.
type cabinet struct {
	mu     sync.Mutex
	drives []agent.Found
}

func (m *cabinet) put(serials ...string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.drives = nil
	for i, serial := range serials {
		m.drives = append(m.drives, agent.Found{
			Path: "/dev/sd" + string(rune('a'+i)), Mark: serial, Blind: "it is asked nothing here", Looked: true,
			Known: drive.Description{Identity: drive.Identity{Serial: serial, Model: "KEELMARK KM8"}, Capacity: 8001563222016},
		})
	}
}

func (m *cabinet) Drives(context.Context) ([]agent.Found, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return append([]agent.Found(nil), m.drives...), nil
}
func (m *cabinet) Changes(context.Context) <-chan struct{}               { return nil }
func (m *cabinet) Enclosures(context.Context) ([]agent.Enclosure, error) { return nil, nil }
func (m *cabinet) Boxes(context.Context) ([]agent.BoxFound, error)       { return nil, nil }
func (m *cabinet) Light(context.Context, string, int, bool) (bool, error) {
	return false, fmt.Errorf("no such bay")
}

// TestController: a host whose enclosure reports nothing gets its bays and lights from its management controller after
// a person named it; a new drive is not placed in a bay reported before; the password is sent to the host's own agent
// only, and is in no answer, event or audit entry.
func TestController(t *testing.T) {
	b := newBoard()
	url, mark := served(t, b)
	dir := t.TempDir()
	serve := Serve{Listen: "127.0.0.1:0", Data: filepath.Join(dir, "service"), Log: slog.New(slog.DiscardHandler)}
	require.NoError(t, os.Mkdir(serve.Data, 0o700))
	r, err := serve.start(t.Context(), clock.Real{}, nil)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, r.stop()) })
	token, err := r.service.Fleet.Enrol("ida", "fulmar", false)
	require.NoError(t, err)
	client, err := Client(r.url, token)
	require.NoError(t, err)
	m := &cabinet{}
	m.put("KH3AA001", "KH3CC003")
	a, err := agent.New(agent.Config{Host: "fulmar", Machine: m, Pools: []pools.Driver{}, Client: client,
		Clock: clock.Real{},
		Log:   slog.New(slog.DiscardHandler), Dir: filepath.Join(dir, "agent"), Interval: 200 * time.Millisecond,
		ReadEach: 200 * time.Millisecond, Look: 50 * time.Millisecond})
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { defer close(done); _ = a.Run(ctx) }()
	defer func() { cancel(); <-done }()
	where := func(serial string) string {
		d, err := r.service.Views.Drive(serial)
		if err != nil {
			return err.Error()
		}
		return d.Bay
	}
	await := func(what string, is func() bool) {
		t.Helper()
		require.Eventually(t, is, 10*time.Second, 20*time.Millisecond, what)
	}
	await("it is there without a bay", func() bool { return where("AA001") == "" })

	set := api.SetController{Url: url, User: "lantern", Password: "a pass:word", Fingerprint: mark}
	require.NoError(t, r.service.Fleet.SetController("ida", "fulmar", set))
	await("its controller reports its bay", func() bool { return where("AA001") == "fulmar/chassis-self/1" })
	require.Equal(t, "fulmar/chassis-rear-cage/4", where("CC003"))
	light := func(serial string) {
		t.Helper()
		l, err := r.service.Bays.LightOn("ida", api.LightOn{Drive: serial, Seconds: 600})
		require.NoError(t, err)
		state := func() (out api.Light) {
			for _, x := range r.service.Bays.Lights() {
				if x.Id == l.Id {
					out = x
				}
			}
			return out
		}
		await("it is lit", func() bool { return state().State == api.LightStateLit })
		_, err = r.service.Bays.LightOff(l.Id)
		require.NoError(t, err)
		await("it is out", func() bool { return state().Id == "" || state().State == api.LightStateOut })
	}
	light("AA001")
	light("CC003")
	require.Len(t, b.patches, 4)

	// A drive goes and another takes its place: until the controller was asked again, that one has no bay.
	b.mu.Lock()
	b.put("/redfish/v1/Chassis/Self/Drives/0", 0, "KH3DD004", enclosure.LightActive)
	b.mu.Unlock()
	m.put("KH3DD004", "KH3CC003")
	await("it is where the other was", func() bool { return where("DD004") == "fulmar/chassis-self/1" })
	hosts := func() api.Host { return r.service.Views.Hosts()[0] }
	require.Equal(t, 4, hosts().Agent.Controller.Bays)
	require.Equal(t, url, hosts().Controller.Url)

	// If a controller fails, its bays are kept for a while, and the failure is reported.
	b.mu.Lock()
	b.down = true
	b.mu.Unlock()
	m.put("KH3DD004", "KH3CC003", "KH3EE005") // another drive causes a new request at once
	await("it is told", func() bool { return strings.Contains(hosts().Agent.Controller.Error, "503") })
	require.Equal(t, "fulmar/chassis-self/1", where("DD004"))
	require.Empty(t, where("EE005"))

	// Nobody else gets the password.
	admin, err := r.service.People.AddPerson(people.Rights{Name: "ida", Role: api.Admin},
		api.AddPerson{Name: "ida", Role: "admin"})
	require.NoError(t, err)
	for _, path := range []string{"/agent/controller", "/hosts", "/audit"} {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, r.url+"/api/v1"+path, nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+admin.Token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		require.NotContains(t, string(text), "pass:word", path)
		require.Equal(t, path == "/agent/controller", res.StatusCode >= 400, string(text))
	}

	// After a rename it continues; after removal, its bays are gone and the password is deleted.
	_, err = r.service.RenameHost("ida", "fulmar", "gannet")
	require.NoError(t, err)
	_, ok, err := r.service.Fleet.AgentController("gannet")
	require.NoError(t, err)
	require.True(t, ok)
	require.NoError(t, r.service.Fleet.RemoveController("ida", "gannet"))
	require.Error(t, r.service.Fleet.RemoveController("ida", "gannet"))
	await("its agent no longer reports one", func() bool { return where("DD004") == "" })
	secrets, err := store.All[store.HostSecret](r.service.Store, "host", "")
	require.NoError(t, err)
	require.Empty(t, secrets)
}
