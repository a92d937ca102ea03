package daemon

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/cli"
	"lantern/internal/clock"
)

// line is a connection between a site and its headquarters that can be cut.
type line struct {
	to   string
	l    net.Listener
	mu   sync.Mutex // guards what follows
	cut  bool
	open []net.Conn
}

func newLine(t *testing.T, to string) *line {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	x := &line{to: to, l: l}
	t.Cleanup(func() { l.Close(); x.set(true) })
	go func() {
		for {
			a, err := l.Accept()
			if err != nil {
				return
			}
			b, err := net.Dial("tcp", x.to)
			x.mu.Lock()
			if err != nil || x.cut {
				a.Close()
				if err == nil {
					b.Close()
				}
				x.mu.Unlock()
				continue
			}
			x.open = append(x.open, a, b)
			x.mu.Unlock()
			go func() { _, _ = io.Copy(a, b); a.Close() }()
			go func() { _, _ = io.Copy(b, a); b.Close() }()
		}
	}()
	return x
}

func (x *line) set(cut bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.cut = cut
	if cut {
		for _, c := range x.open {
			c.Close()
		}
		x.open = nil
	}
}

// atSite is a site in a test: a service, and hosts that are made up.
type atSite struct {
	t     *testing.T
	serve Serve
	r     *running
	token string
	n     int
}

func (s *atSite) open() {
	var err error
	s.r, err = s.serve.start(s.t.Context(), clock.Real{}, nil)
	require.NoError(s.t, err)
	token, fresh, err := s.r.service.People.FirstToken()
	require.NoError(s.t, err)
	if fresh {
		s.token = token
	}
	s.t.Cleanup(s.close)
}

func (s *atSite) close() {
	if s.r != nil {
		require.NoError(s.t, s.r.stop())
		s.r = nil
	}
}

// disk is a drive in a bay; its number makes its identity.
func disk(number, bay int, pending float64, at time.Time) api.DriveReport {
	return api.DriveReport{
		Identity: api.Identity{Wwn: fmt.Sprintf("502abe7%09d", number), Model: "OSSFELL OF-8T",
			Serial: fmt.Sprintf("KH3%05d", number)},
		CapacityBytes: 8e12, Section: "front", Bay: bay, Path: fmt.Sprintf("/dev/x%d", bay), Looked: true,
		Reading: api.Reading{At: at, Metrics: map[string]float64{"pending_sectors": pending,
			"power_on_hours": 100 + pending}},
	}
}

// report has a host of the site report some drives.
func (s *atSite) report(host string, at time.Time, drives ...api.DriveReport) {
	s.n++
	bays := api.SectionReport{Name: "front", Rows: 4, Columns: 6, First: "top-left", Run: "rows", Lit: []int{}}
	require.NoError(s.t, s.r.service.TakeReport(host, api.Report{
		Id: fmt.Sprintf("%s-%d-%d", host, s.n, at.UnixNano()), Host: host, At: at, IntervalSeconds: 30, Drives: drives,
		Pools: []api.PoolReport{}, Enclosures: []api.EnclosureReport{{Name: "chassis", Sections: []api.SectionReport{bays}}},
	}))
}

// get asks a service.
func get(t *testing.T, base, token, path string, to any) int {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, base+"/api/v1"+path, nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+token)
	res, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	if to != nil && res.StatusCode < 300 {
		require.NoError(t, json.Unmarshal(b, to), string(b))
	}
	return res.StatusCode
}

// soon waits until something holds.
func soon(t *testing.T, what string, holds func() bool) {
	t.Helper()
	require.Eventually(t, holds, time.Minute, 50*time.Millisecond, what)
}

// TestSites: three sites and a headquarters. It shows one round of all of them, in one order; it dates the data of a
// site whose line is cut, and has everything when the line is back; a moved drive keeps its readings; a person acts at
// a site through it with their own rights there alone; a site that was restored from a backup says so.
func TestSites(t *testing.T) {
	dir := t.TempDir()
	hq := &atSite{t: t, serve: Serve{Listen: "127.0.0.1:0", Data: filepath.Join(dir, "hq"), Out: io.Discard,
		Log: slog.New(slog.DiscardHandler), Headquarters: Headquarters{On: true, Listen: "127.0.0.1:0"}}}
	hq.open()
	ask := func(path string, to any) int { t.Helper(); return get(t, hq.r.url, hq.token, path, to) }
	round := func() (r api.Round) { t.Helper(); require.Equal(t, 200, ask("/round", &r)); return r }
	require.True(t, round().Headquarters)
	require.Empty(t, round().Lines)

	client, err := Client(hq.r.url, hq.token)
	require.NoError(t, err)
	sites, lines := map[string]*atSite{}, map[string]*line{}
	for _, name := range []string{"north", "south", "west"} {
		invited, err := client.InviteSiteWithResponse(t.Context(), nil, api.InviteSite{Name: name})
		require.NoError(t, err)
		require.Equal(t, 201, invited.StatusCode(), string(invited.Body))
		u, err := url.Parse(invited.JSON201.Engine)
		require.NoError(t, err)
		lines[name] = newLine(t, u.Host)
		s := &atSite{t: t, serve: Serve{Listen: "127.0.0.1:0", Data: filepath.Join(dir, name), Out: io.Discard,
			Log:  slog.New(slog.DiscardHandler),
			Site: SiteLink{name, EngineLink{URL: "nats://" + lines[name].l.Addr().String(), Secret: invited.JSON201.Secret}}}}
		s.open()
		_, err = s.r.service.Fleet.Enrol("ida", name+"-host", false)
		require.NoError(t, err)
		sites[name] = s
	}
	now := func() time.Time { return time.Now().UTC() }
	north, south, west := sites["north"], sites["south"], sites["west"]
	day := now().Add(-24 * time.Hour)
	north.report("north-host", day, disk(1, 1, 0, day), disk(2, 2, 0, day))
	at := now()
	north.report("north-host", at, disk(1, 1, 2, at), disk(2, 2, 0, at))
	south.report("south-host", day, disk(3, 1, 3, day), disk(4, 2, 0, day))
	south.report("south-host", at, disk(3, 1, 8, at), disk(4, 2, 0, at))
	west.report("west-host", day, disk(5, 1, 1, day))
	west.report("west-host", at, disk(5, 1, 7, at))

	// One round, in the order of one service that had all these drives.
	all := &atSite{t: t, serve: Serve{Listen: "127.0.0.1:0", Data: filepath.Join(dir, "all"), Out: io.Discard,
		Log: slog.New(slog.DiscardHandler)}}
	all.open()
	for _, host := range []string{"north-host", "south-host", "west-host"} {
		_, err := all.r.service.Fleet.Enrol("ida", host, false)
		require.NoError(t, err)
	}
	all.report("north-host", day, disk(1, 1, 0, day), disk(2, 2, 0, day))
	all.report("north-host", at, disk(1, 1, 2, at), disk(2, 2, 0, at))
	all.report("south-host", day, disk(3, 1, 3, day), disk(4, 2, 0, day))
	all.report("west-host", day, disk(5, 1, 1, day))
	all.report("south-host", at, disk(3, 1, 8, at), disk(4, 2, 0, at))
	all.report("west-host", at, disk(5, 1, 7, at))
	tails := func(r api.Round) (out []string) {
		for _, l := range r.Lines {
			out = append(out, l.Tail+" "+l.Says)
		}
		return out
	}
	want := tails(all.r.service.Views.Round())
	require.Len(t, want, 3)
	soon(t, "one round", func() bool { return slices.Equal(tails(round()), want) })
	soon(t, "all drives", func() bool { return round().Drives == 5 })
	var horizon api.Horizon
	require.Equal(t, 200, ask("/horizon", &horizon))
	require.Len(t, horizon.Blocks, 3)
	var hits []api.Hit
	require.Equal(t, 200, ask("/search?q=00003", &hits))
	require.Len(t, hits, 1)
	require.Equal(t, "/sites/south/drives/wwn-502abe7000000003", hits[0].To)
	var stock []api.StockItem
	require.Equal(t, 200, ask("/stock", &stock))
	for _, item := range stock {
		require.NotEmpty(t, item.Site)
	}

	// One report: it has what the sites' own reports have, each marked with its site.
	var report, own api.PeriodReport
	require.Equal(t, 200, ask("/report", &report))
	require.Empty(t, report.Sites)
	flagged, drives := 0, 0
	for name, x := range sites {
		require.Equal(t, 200, get(t, x.r.url, x.token, "/report", &own))
		for _, f := range own.Flagged {
			f.Site = name
			require.Contains(t, report.Flagged, f)
		}
		flagged, drives = flagged+len(own.Flagged), drives+own.Failures.All.Drives
	}
	require.Equal(t, 5, drives)
	require.Len(t, report.Flagged, flagged)
	require.Equal(t, drives, report.Failures.All.Drives)
	require.Equal(t, 404, ask("/report?pool=nowhere", nil))
	require.Equal(t, 422, ask("/report?from=2026-01-02T00:00:00Z&to=2026-01-01T00:00:00Z", nil))
	require.Equal(t, 200, ask("/report/page", nil))

	// Through the headquarters people act at a site, only with their rights there.
	var drive api.Drive
	require.Equal(t, 200, get(t, hq.r.url+"/sites/south", south.token, "/drives/00003", &drive))
	require.Equal(t, "00003", drive.Tail)
	require.Equal(t, 401, get(t, hq.r.url+"/sites/south", hq.token, "/drives/00003", nil))
	require.Equal(t, 401, get(t, hq.r.url+"/sites/south", north.token, "/drives/00003", nil))
	require.Equal(t, 404, get(t, hq.r.url+"/sites/east", south.token, "/drives/00003", nil))
	through, err := Client(hq.r.url+"/sites/south", south.token)
	require.NoError(t, err)
	put, err := through.KeepInStockWithResponse(t.Context(), "00004", api.KeepStock{Note: "through headquarters"})
	require.NoError(t, err)
	require.Less(t, put.StatusCode(), 300, string(put.Body))
	audited := func(of *atSite, is func(api.AuditEntry) bool) func() bool {
		return func() bool { // the entry is written after the answer
			var audit []api.AuditEntry
			return get(t, of.r.url, of.token, "/audit", &audit) == 200 && slices.ContainsFunc(audit, is)
		}
	}
	soon(t, "south's audit has it", audited(south, func(e api.AuditEntry) bool { return e.Action == "keepInStock" }))
	refused, err := client.EnrolHostWithResponse(t.Context(), api.Enrol{Name: "stray"})
	require.NoError(t, err)
	require.Equal(t, 409, refused.StatusCode(), "a headquarters has no host of its own")
	for _, path := range []string{"/drives", "/pools", "/hosts", "/drives/00003", "/swaps",
		"/round?at=2026-01-01T00:00:00Z"} {
		require.Equal(t, 409, ask(path, nil), "it must not say of %s that there is none", path)
	}

	// A live stream is passed on as well.
	live, stop := context.WithCancel(t.Context())
	r, err := http.NewRequestWithContext(live, http.MethodGet, hq.r.url+"/sites/south/api/v1/events", nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+south.token)
	res, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	require.Equal(t, 200, res.StatusCode)
	at = now()
	south.report("south-host", at, disk(3, 1, 9, at), disk(4, 2, 5, at))
	events := bufio.NewScanner(res.Body)
	heard := false
	for !heard && events.Scan() {
		heard = strings.HasPrefix(events.Text(), "data:")
	}
	require.True(t, heard)
	stop()
	res.Body.Close()

	// A connection is cut: the data of the site are dated, and the site continues.
	lines["south"].set(true)
	soon(t, "south is not reachable", func() bool { return len(round().Sites) == 1 })
	cut := round()
	require.Contains(t, cut.Sites[0].Says, "not reachable: data is from")
	for _, l := range cut.Lines {
		require.Equal(t, l.Site == "south", !l.AsOf.IsZero(), l.Tail)
	}
	require.Equal(t, 200, ask("/horizon", &horizon))
	for _, b := range horizon.Blocks {
		if b.Site == "south" {
			require.False(t, b.Known)
		}
	}
	require.Equal(t, 503, get(t, hq.r.url+"/sites/south", south.token, "/drives/00003", nil))
	require.Equal(t, 200, ask("/report", &report))
	require.Len(t, report.Sites, 1, "a site that does not answer is named in the report")
	require.Equal(t, "south", report.Sites[0].Name)
	require.Contains(t, report.First[0], "Nothing of south is in this report: not reachable")
	for _, f := range report.Flagged {
		require.NotEqual(t, "south", f.Site)
	}
	at = now()
	south.report("south-host", at, disk(3, 1, 11, at), disk(4, 2, 9, at), disk(6, 3, 0, at))
	require.Equal(t, 200, get(t, south.r.url, south.token, "/drives/00006", nil))

	// So does the headquarters: it is restarted meanwhile, and has the same data.
	address := hq.r.url
	hq.serve.Listen = strings.TrimPrefix(address, "http://")
	u, err := url.Parse("nats://" + lines["north"].to)
	require.NoError(t, err)
	hq.serve.Headquarters.Listen = u.Host
	hq.close()
	require.NoError(t, os.RemoveAll(filepath.Join(hq.serve.Data, "engine"))) // sites send everything again
	hq.open()
	soon(t, "north and west are there again", func() bool {
		r := round()
		return r.Drives == 3 && len(r.Lines) == 2
	})
	hq.close()
	hq.open()
	soon(t, "the headquarters knows what it was told",
		func() bool { return round().Drives == 3 && len(round().Lines) == 2 })
	lines["south"].set(false)
	soon(t, "everything is told", func() bool {
		r := round()
		return r.Drives == 6 && len(r.Sites) == 0
	})
	soon(t, "every event came, once and in order", func() bool { return told(t, hq, south) })

	// A drive is moved from north to west, and its readings with it.
	at = now()
	north.report("north-host", at, disk(1, 1, 2, at))
	west.report("west-host", at, disk(5, 1, 7, at), disk(2, 2, 0, at))
	var trend api.Trend
	soon(t, "its readings are where it is", func() bool {
		return get(t, west.r.url, west.token, "/drives/00002/trend?metric=power_on_hours&hours=100", &trend) == 200 &&
			len(trend.Points) == 3
	})
	require.WithinDuration(t, day, trend.Points[0].At, time.Second)
	soon(t, "west's audit has it", audited(west, func(e api.AuditEntry) bool { return e.Who == "headquarters" }))

	// A site is restored from a backup: its later events are in the stream and not in its records.
	backup := filepath.Join(dir, "west.backup")
	require.NoError(t, Backup(west.serve.Data, backup, io.Discard))
	_, err = west.r.service.Fleet.Enrol("ida", "lost-host", false)
	require.NoError(t, err)
	at = now()
	west.report("west-host", at, disk(5, 1, 9, at), disk(2, 2, 0, at))
	soon(t, "it was told", func() bool { return told(t, hq, west) })
	west.close()
	require.NoError(t, os.RemoveAll(west.serve.Data))
	require.NoError(t, Restore(backup, west.serve.Data, io.Discard))
	west.open()
	_, err = west.r.service.Fleet.Enrol("ida", "other-host", false)
	if err == nil {
		at = now()
		west.report("west-host", at, disk(5, 1, 7, at))
	}
	soon(t, "the stream says that it went back", func() bool {
		for _, e := range streamed(t, hq, "west") {
			if strings.Contains(e.Says, "was restored from older records") {
				return true
			}
		}
		return false
	})

	// The commands of the help, at a headquarters.
	t.Chdir(t.TempDir())
	t.Setenv("LANTERN_TOKEN", hq.token)
	for _, c := range []struct{ line, says string }{
		{"site list", "west reachable"}, {"site list --columns all", "VERSION"}, {"round", "west: west-host"},
		{"site invite east --write east.secret", "lantern serve --site east --report-to nats://127.0.0.1:"},
		{"site invite south", "shown only once: lan-site-"}, {"site remove east", "Its own service keeps running"},
		{"find 00005", "west · "}, {"drives", "Only a site can answer this"},
	} {
		var out bytes.Buffer
		root := cli.Root("test")
		root.Writer, root.ErrWriter = &out, &out
		err := root.Run(t.Context(), append([]string{"lantern", "--server", hq.r.url}, strings.Fields(c.line)...))
		if err != nil {
			out.WriteString(cli.Says(err))
		}
		require.Contains(t, strings.Join(strings.Fields(out.String()), " "), c.says, c.line)
	}
	secret, err := os.ReadFile("east.secret")
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(string(secret), "lan-site-"))

	// After removal it cannot connect, and nothing of it is shown.
	gone, err := client.RemoveSiteWithResponse(t.Context(), "north")
	require.NoError(t, err)
	require.Equal(t, 204, gone.StatusCode(), string(gone.Body))
	soon(t, "north is gone", func() bool {
		return !slices.ContainsFunc(round().Lines, func(l api.RoundLine) bool { return l.Site == "north" })
	})
	require.Equal(t, 404, get(t, hq.r.url+"/sites/north", north.token, "/round", nil))
	require.Equal(t, 200, get(t, north.r.url, north.token, "/round", nil), "it goes on by itself")
}

// TestSiteSettings: invalid settings are refused before anything starts, with advice.
func TestSiteSettings(t *testing.T) {
	link := EngineLink{URL: "tls://headquarters.example:7414", Secret: "x"}
	for says, c := range map[string]Serve{
		"a headquarters shows sites": {Headquarters: Headquarters{On: true, Listen: "127.0.0.1:0"},
			Site: SiteLink{"north", link}},
		"not a valid site name":            {Site: SiteLink{"North!", link}},
		"needs --report-to":                {Site: SiteLink{"north", EngineLink{Secret: "x"}}},
		"needs --site-secret-file":         {Site: SiteLink{"north", EngineLink{URL: link.URL}}},
		"is not an address":                {Site: SiteLink{"north", EngineLink{URL: "https://x:1", Secret: "x"}}},
		"the secret without encryption":    {Site: SiteLink{"north", EngineLink{URL: "nats://192.0.2.7:7414", Secret: "x"}}},
		"--engine-listen":                  {Headquarters: Headquarters{On: true, Listen: "7414"}},
		"their secrets without encryption": {Headquarters: Headquarters{On: true, Listen: "0.0.0.0:7414"}},
		"--engine-copies is 1 to 5":        {Headquarters: Headquarters{On: true, Copies: 9, Link: EngineLink{URL: link.URL}}},
		"--engine \"http://x\" is no":      {Headquarters: Headquarters{On: true, Copies: 1, Link: EngineLink{URL: "http://x"}}},
	} {
		c.Listen = "127.0.0.1:0"
		require.ErrorContains(t, c.Check(), says)
	}
	for _, c := range []Serve{
		{Site: SiteLink{"north", link}},
		{Site: SiteLink{"north", EngineLink{URL: "nats://127.0.0.1:7414", Secret: "x"}}},
		{Insecure: true, Site: SiteLink{"north", EngineLink{URL: "nats://192.0.2.7:7414,nats://192.0.2.8:7414", Creds: "x"}}},
		{Headquarters: Headquarters{On: true, Copies: 3, Link: EngineLink{URL: "tls://a:4222"}}},
	} {
		c.Listen = "127.0.0.1:0"
		require.NoError(t, c.Check())
	}
}

// published is an event in the stream.
type published struct {
	ID   int64  `json:"id"`
	Says string `json:"says"`
}

// streamed are the events of a site in the headquarters' stream, in order.
func streamed(t *testing.T, hq *atSite, site string) (out []published) {
	nc, err := hq.r.joined.headquarters.Engine.Connect()
	require.NoError(t, err)
	defer nc.Close()
	js, err := jetstream.New(nc)
	require.NoError(t, err)
	stream, err := js.Stream(t.Context(), "LANTERN_EVENTS")
	require.NoError(t, err)
	last, err := stream.GetLastMsgForSubject(t.Context(), "lantern.event."+site)
	if err != nil {
		return nil
	}
	for n := uint64(1); n <= last.Sequence; n++ {
		m, err := stream.GetMsg(t.Context(), n)
		require.NoError(t, err)
		if m.Subject != "lantern.event."+site {
			continue
		}
		var e published
		require.NoError(t, json.Unmarshal(m.Data, &e))
		out = append(out, e)
	}
	return out
}

// told reports whether the stream has every event of a site, each once and in order.
func told(t *testing.T, hq, site *atSite) bool {
	rows, err := site.r.store.EventsAfter(0, 10000)
	require.NoError(t, err)
	all := streamed(t, hq, site.serve.Site.Name)
	if len(all) != len(rows) { // some may just have happened; one that came twice would stay
		return false
	}
	for i, e := range all {
		require.Equal(t, rows[i].ID, e.ID)
		require.Equal(t, rows[i].Says, e.Says)
	}
	return true
}
