package service

import (
	"cmp"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"lantern/internal/api"
	"lantern/internal/channel"
	"lantern/internal/service/notices"
	"lantern/internal/store"

	cloudevents "github.com/cloudevents/sdk-go/v2/event"
	"github.com/stretchr/testify/require"
)

// pager is a real receiver of webhooks that can be out of order.
type pager struct {
	mu     sync.Mutex
	broken bool
	got    []cloudevents.Event
	signed bool
}

func (p *pager) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.broken {
		http.Error(w, "out of order", http.StatusServiceUnavailable)
		return
	}
	body, _ := io.ReadAll(r.Body)
	p.signed = r.Header.Get(channel.Signature) == channel.Sign("k3y-of-the-pager", body)
	e := cloudevents.New()
	if json.Unmarshal(body, &e) == nil {
		p.got = append(p.got, e)
	}
	w.WriteHeader(http.StatusNoContent)
}

func (p *pager) types() (out []string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, e := range p.got {
		out = append(out, strings.TrimPrefix(e.Type(), "brave-lantern.")+" "+e.Subject())
	}
	p.got = nil
	return out
}

// TestNotices: one matter is told once; a broken receiver is tried again over a restart and told once; a mended matter
// closes by itself; an acknowledged notice is sent again when it gets worse; notices that are not urgent wait for the
// end of the quiet hours.
func TestNotices(t *testing.T) {
	p := &pager{}
	server := httptest.NewServer(p)
	defer server.Close()
	b := newBench(t) // it is 08:00
	say := func(pending float64) {
		b.clock.forward(time.Hour)
		for i := range b.drives {
			b.drives[i].Reading = api.Reading{
				At:        b.clock.Now(),
				SelfTests: true,
				Metrics:   map[string]float64{"pending_sectors": 0},
			}
		}
		b.drives[0].Reading.Metrics["pending_sectors"] = pending
		b.report()
		b.clock.forward(2 * time.Minute)
		b.report()
	}
	work := func() {
		require.NoError(t, b.s.Tick())
		require.NoError(t, b.s.Notices.Deliver(t.Context()))
	}
	night := func() api.Channel {
		all := b.s.Notices.Channels()
		return all[slices.IndexFunc(all, func(c api.Channel) bool { return c.Name == "night-shift" })]
	}
	put := api.ChannelPut{
		Kind:   api.ChannelPutKindWebhook,
		Url:    server.URL,
		Secret: "k3y-of-the-pager",
		Least:  api.Watch,
		Quiet:  "22:00-07:00",
		Zone:   "UTC",
	}
	_, err := b.s.Notices.PutChannel(t.Context(), "ida", "night-shift", put)
	require.NoError(t, err)
	// Notices of other pools and hosts are not sent here.
	for name, c := range map[string]api.ChannelPut{"other-pool": {Pools: []string{"soundscape"}},
		"other-host": {Hosts: []string{"skerry"}}, "recoveries": {Kinds: []string{"recovery"}},
		"dead-only": {Least: api.Dead}} {
		c.Kind, c.Url, c.Secret, c.Least = "webhook", server.URL, "k", cmp.Or(c.Least, api.Watch)
		_, err := b.s.Notices.PutChannel(t.Context(), "ida", name, c)
		require.NoError(t, err)
	}
	require.NoError(t, b.s.Notices.TestChannel(t.Context(), "ida", "night-shift"))
	require.Equal(t, []string{"test A test of the channel night-shift, sent by ida"}, p.types())
	require.True(t, p.signed)

	say(0)
	work()
	require.Empty(t, p.types(), "no notice is sent")
	say(3)
	work()
	work()
	require.Equal(
		t,
		[]string{
			"notice.opened [watch] fulmar/front/1: AA001 has 3 sectors that cannot be read, 3 of them new within 2 h",
		},
		p.types(),
		"once, and in words",
	)
	all, err := b.s.Notices.Notices(false)
	require.NoError(t, err)
	require.Len(t, all, 1)
	_, err = b.s.Notices.Acknowledge("bo", all[0].Id[len(all[0].Id)-6:], "spare ordered")
	require.NoError(t, err)

	p.broken = true
	say(30)
	say(30)
	work()
	require.Empty(t, p.types())
	require.Equal(t, 1, night().Waiting)
	require.Contains(t, night().Error, "503")
	b.restart()
	p.broken = false
	b.clock.forward(10 * time.Second)
	work()
	require.Empty(t, p.types(), "it waits before it tries again")
	b.clock.forward(5 * time.Minute)
	b.report()
	work()
	work()
	got := p.types()
	require.Len(t, got, 1, "told once, over a restart")
	require.Contains(
		t,
		got[0],
		"notice.got-worse [replace] fulmar/front/1: AA001 has 30 sectors that cannot be read, 30 of them new "+
			"within 4 h",
	)
	all, _ = b.s.Notices.Notices(false)
	require.Equal(t, api.NoticeStateOpen, all[0].State, "severity never hides behind an acknowledgement")

	_, err = b.s.Notices.Mute("bo", all[0].Id, 24*91, "")
	b.problem(err, "bad-time", "")
	_, err = b.s.Notices.Mute("bo", all[0].Id, 24, "spare ordered")
	require.NoError(t, err)
	_, err = b.s.Judging.PutRule("ida", "pending-sectors", api.RulePut{})
	require.NoError(t, err)
	b.report()
	b.clock.forward(time.Minute)
	b.report()
	work()
	got = p.types()
	require.Len(t, got, 1, "muted: but who was told of it is told that it is over")
	require.Contains(t, got[0], "notice.closed")
	all, _ = b.s.Notices.Notices(false)
	require.Empty(t, all)
	all, err = b.s.Notices.Notices(true)
	require.NoError(t, err)
	require.Equal(t, api.NoticeStateClosed, all[0].State)
	require.Equal(t, api.Replace, all[0].Worst)

	// At night: a notice of a fill level waits for the morning, and is not sent if it has ended by then. A drive to be
	// replaced is reported at once.
	_, err = b.s.Judging.PutRule("ida", "pending-sectors", api.RulePut{On: true})
	require.NoError(t, err)
	b.clock.at = time.Date(2026, 11, 24, 23, 0, 0, 0, time.UTC)
	b.pool.UsedBytes = 7.4e12
	say(60)
	say(60)
	work()
	got = p.types()
	require.Len(t, got, 1)
	require.Contains(t, got[0], "[replace]")
	require.Equal(t, 1, night().Waiting)
	b.clock.at = time.Date(2026, 11, 25, 7, 1, 0, 0, time.UTC)
	b.report()
	work()
	got = p.types()
	require.Len(t, got, 1)
	require.Contains(t, got[0], "notice.opened [filling up] plankton: plankton is 92 % full")

	// The host goes silent at night: one notice, not one per drive, and it does not wait for the morning.
	b.clock.at = time.Date(2026, 11, 26, 2, 0, 0, 0, time.UTC)
	work()
	got = p.types()
	require.Len(t, got, 1)
	require.Contains(t, got[0], "[unknown] fulmar: fulmar has not reported since")

	// No secret leaves: not in lists, not in events, not in the log of deliveries.
	list, err := json.Marshal(b.s.Notices.Channels())
	require.NoError(t, err)
	events, err := json.Marshal(mustAll[store.Event](t, b.store))
	require.NoError(t, err)
	deliveries, err := json.Marshal(mustAll[store.Delivery](t, b.store))
	require.NoError(t, err)
	for _, text := range [][]byte{list, events, deliveries} {
		require.NotContains(t, string(text), "k3y-of-the-pager")
	}
	put.Secret, put.Url = "", server.URL+"/elsewhere"
	_, err = b.s.Notices.PutChannel(t.Context(), "ida", "night-shift", put)
	b.problem(err, "bad-channel", "")
	for _, bad := range []api.ChannelPut{{Kind: "pigeon"},
		{Kind: "webhook", Url: server.URL, Secret: "k", Quiet: "late"},
		{Kind: "webhook", Url: server.URL, Secret: "k", Zone: "Mars/Olympus"},
		{Kind: "webhook", Url: server.URL, Secret: "k", Kinds: []string{"gossip"}}} {
		_, err = b.s.Notices.PutChannel(t.Context(), "ida", "other", bad)
		b.problem(err, "bad-channel", "")
	}
	require.NoError(t, b.s.Notices.RemoveChannel("ida", "night-shift"))
	b.problem(b.s.Notices.RemoveChannel("ida", "night-shift"), "no-channel", "")
}

// TestBetterNews: whoever was told of a matter is told of each change of its severity and of its end, also where it is
// milder by then than what the channel is for; and nobody else is.
func TestBetterNews(t *testing.T) {
	b := newBench(t)
	pagers := map[string]*pager{"grave": {}, "all": {}}
	for name, p := range pagers {
		server := httptest.NewServer(p)
		defer server.Close()
		least := map[string]api.Verdict{"grave": api.Replace, "all": api.Watch}[name]
		_, err := b.s.Notices.PutChannel(
			t.Context(),
			"ida",
			name,
			api.ChannelPut{Kind: "webhook", Url: server.URL, Secret: "k",
				Least: least},
		)
		require.NoError(t, err)
	}
	b.clock.forward(2 * time.Minute)
	step := func(pending float64, present bool) {
		for range 2 {
			b.clock.forward(time.Hour)
			r := b.next()
			for i := range r.Drives {
				r.Drives[i].Reading = api.Reading{At: b.clock.Now(), Metrics: map[string]float64{"pending_sectors": 0}}
			}
			r.Drives[0].Reading.Metrics["pending_sectors"] = pending
			if !present {
				r.Drives = r.Drives[1:]
			}
			require.NoError(t, b.s.TakeReport("fulmar", r))
			b.clock.forward(15 * time.Second)
		}
		require.NoError(t, b.s.Tick())
		require.NoError(t, b.s.Notices.Deliver(t.Context()))
	}
	turns := func(name string) (out []string) {
		for _, s := range pagers[name].types() {
			turn, rest, _ := strings.Cut(s, " ")
			word, _, _ := strings.Cut(rest, "]")
			if strings.Contains(s, "AA001") {
				out = append(out, turn+" "+word+"]")
			}
		}
		return out
	}
	step(3, true)
	require.Equal(t, []string{"notice.opened [watch]"}, turns("all"))
	require.Empty(t, turns("grave"))
	step(3, false)
	require.Equal(t, []string{"notice.got-worse [dead]"}, turns("all"))
	require.Equal(t, []string{"notice.got-worse [dead]"}, turns("grave"))
	all, err := b.s.Notices.Notices(false)
	require.NoError(t, err)
	for _, n := range all {
		_, err := b.s.Notices.Acknowledge("ida", n.Id, "on my way") // the end is sent although somebody acknowledged it
		require.NoError(t, err)
	}
	b.restart()
	b.clock.forward(2 * time.Minute)
	step(3, true)
	require.Equal(t, []string{"notice.got-better [watch]"}, turns("all"))
	require.Equal(t, []string{"notice.got-better [watch]"}, turns("grave"))
	_, err = b.s.Judging.PutRule("ida", "pending-sectors", api.RulePut{})
	require.NoError(t, err)
	step(3, true)
	require.Equal(t, []string{"notice.closed [watch]"}, turns("all"))
	require.Equal(t, []string{"notice.closed [watch]"}, turns("grave"))
}

// TestSlowChannel: a channel whose far end hangs holds up no other, also not those of which something comes due later.
func TestSlowChannel(t *testing.T) {
	b := newBench(t)
	hang := make(chan struct{})
	slow := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-hang }))
	defer slow.Close()
	p := &pager{}
	quick := httptest.NewServer(p)
	defer quick.Close()
	for name, url := range map[string]string{"a-slow": slow.URL, "quick": quick.URL} {
		_, err := b.s.Notices.PutChannel(t.Context(), "ida", name, api.ChannelPut{Kind: "webhook", Url: url, Secret: "k",
			Least: api.Watch})
		require.NoError(t, err)
	}
	b.clock.forward(2 * time.Minute)
	b.report()
	var all sync.WaitGroup
	for _, pending := range []float64{3, 300} {
		b.drives[0].Reading.Metrics = map[string]float64{"pending_sectors": pending}
		for range 2 {
			b.clock.forward(time.Hour)
			b.drives[0].Reading.At = b.clock.Now()
			b.report()
			b.clock.forward(10 * time.Second)
		}
		require.NoError(t, b.s.Tick())
		all.Go(func() { _ = b.s.Notices.Deliver(t.Context()) })
		require.Eventually(t, func() bool { return len(p.types()) == 1 }, 10*time.Second, 5*time.Millisecond)
	}
	close(hang)
	all.Wait()
}

// TestDigest: once a day, what is open, whether somebody saw it or not; and that nothing is.
func TestDigest(t *testing.T) {
	p := &pager{}
	server := httptest.NewServer(p)
	defer server.Close()
	b := newBench(t)
	_, err := b.s.Notices.PutChannel(
		t.Context(),
		"ida",
		"morning",
		api.ChannelPut{
			Kind:   "webhook",
			Url:    server.URL,
			Secret: "k",
			Least:  api.Watch,
			Digest: "09:00",
			Zone:   "Europe/Oslo",
		},
	)
	require.NoError(t, err)
	day := func(d int, h int) {
		b.clock.at = time.Date(2026, 11, d, h, 5, 0, 0, time.UTC)
		b.report()
		require.NoError(t, b.s.Tick())
		require.NoError(t, b.s.Notices.Deliver(t.Context()))
	}
	day(24, 7)
	require.Empty(t, p.types(), "in Oslo it is five past eight")
	day(24, 8)
	require.Empty(t, p.types(), "it is set today and begins tomorrow")
	day(25, 7)
	day(25, 8)
	require.Equal(t, []string{"digest No open notices"}, p.types(), "which is not: nothing needs a hand")
	day(25, 12)
	require.Empty(t, p.types())
	b.pool.UsedBytes = 7.4e12
	day(25, 13)
	require.Len(t, p.types(), 1)
	day(26, 9)
	require.Contains(t, p.types()[0], "digest 1 open notice, the gravest: plankton is 92 % full")
}

// TestPeriodByMail: on Monday, or on the first, a channel gets the report on the week or month before, once, across
// restarts and failures; one that is new begins with the period that runs.
func TestPeriodByMail(t *testing.T) {
	p := &pager{}
	server := httptest.NewServer(p)
	defer server.Close()
	b := newBench(t)
	for name, each := range map[string]api.ChannelPutReport{"weekly": "week", "monthly": "month"} {
		_, err := b.s.Notices.PutChannel(t.Context(), "ida", name,
			api.ChannelPut{Kind: "webhook", Url: server.URL, Secret: "k", Least: api.Dead, Report: each, Zone: "Europe/Oslo"})
		require.NoError(t, err)
	}
	_, err := b.s.Notices.PutChannel(
		t.Context(),
		"ida",
		"wrong",
		api.ChannelPut{Kind: "webhook", Url: server.URL, Report: "year"},
	)
	b.problem(err, "bad-channel", "Say week or month")
	fails := false
	at := func(month time.Month, day, hour int) []string {
		t.Helper()
		b.clock.at = time.Date(2026, month, day, hour, 5, 0, 0, time.UTC)
		b.report()
		for range 2 {
			err := b.s.SendReports(func(r api.PeriodReport) (string, error) {
				if fails {
					return "", errors.New("no paper")
				}
				return "<p>" + r.First[0], nil
			})
			require.Equal(t, fails, err != nil && strings.Contains(err.Error(), "no paper"), "%v", err)
		}
		require.NoError(t, b.s.Notices.Deliver(t.Context()))
		return p.types()
	}
	require.Empty(t, at(11, 24, 9), "they are new: what runs ends first")
	require.Empty(t, at(11, 29, 22))
	require.Empty(t, at(11, 30, 5), "in Oslo it is five past six")
	require.Equal(t, []string{"report Drives and pools, 2026-11-23 to 2026-11-29"}, at(11, 30, 6))
	b.restart()
	require.Empty(t, at(11, 30, 7))
	fails = true
	require.Empty(t, at(12, 1, 6))
	fails = false
	require.Equal(t, []string{"report Drives and pools, 2026-11-01 to 2026-11-30"}, at(12, 1, 7))
	require.Empty(t, at(12, 6, 9))
	require.Equal(t, []string{"report Drives and pools, 2026-11-30 to 2026-12-06"}, at(12, 9, 9), "late, after a time "+
		"without a service")
}

// TestCopyBehind: a copy for a standby that is not kept up is told, more urgently after an hour, and no more when it
// is.
func TestCopyBehind(t *testing.T) {
	b := newBench(t)
	told := func() string {
		require.NoError(t, b.s.Tick())
		b.clock.forward(time.Minute)
		require.NoError(t, b.s.Tick())
		return strings.Join(b.told(), "\n")
	}
	real := time.Now()
	for _, c := range []struct {
		is   notices.Copying
		says string
	}{
		{notices.Copying{}, ""},
		{notices.Copying{To: "file:///x", Since: real}, ""},
		{notices.Copying{To: "file:///x", Since: real.Add(-time.Hour), Upto: real.Add(-time.Minute)}, ""},
		{notices.Copying{To: "file:///x", Since: real.Add(-3 * time.Minute), Failed: "no route"},
			"nothing of the service's records is in the copy for its standby: no route"},
		{notices.Copying{To: "file:///x", Since: real, Upto: real.Add(-2 * time.Hour)}, "the copy of the service's " +
			"records for its standby is of"},
		{notices.Copying{To: "file:///x", Since: real.Add(-time.Hour), Upto: real}, ""},
	} {
		b.s.Notices.Copied(c.is)
		if got := told(); c.says == "" {
			require.NotContains(t, got, "standby")
		} else {
			require.Contains(t, got, c.says)
		}
	}
}

// TestCertificateEnds: people are told weeks before the service's certificate ends, more urgently at the end, and no
// more when there is a new one.
func TestCertificateEnds(t *testing.T) {
	b := newBench(t)
	ends := b.clock.Now().Add(30 * 24 * time.Hour)
	b.s.Notices.CertificateEnds(ends)
	told := func() (out []string) {
		require.NoError(t, b.s.Tick())
		for _, n := range b.s.Notices.Open {
			if n.Key == "service/certificate" {
				out = append(out, string(n.Severity)+": "+n.Says)
			}
		}
		return out
	}
	require.Empty(t, told())
	b.clock.forward(10 * 24 * time.Hour)
	says := "the service's certificate ends on " + ends.UTC().Format("2006-01-02 15:04Z")
	require.Equal(t, []string{"watch: " + says}, told())
	b.clock.forward(18 * 24 * time.Hour)
	require.Equal(t, []string{"replace: " + says}, told())
	b.clock.forward(3 * 24 * time.Hour)
	require.Contains(t, told()[0], "agents cannot report")
	b.s.Notices.CertificateEnds(ends.Add(365 * 24 * time.Hour))
	b.clock.forward(time.Hour)
	require.Empty(t, told())
}

// TestBackupsTold: a failure is told at once, a backup that is missed after twice the time, and the end of it when
// there is a new one.
func TestBackupsTold(t *testing.T) {
	b := newBench(t)
	told := func() (out []string) {
		require.NoError(t, b.s.Tick())
		for _, n := range b.s.Notices.Open {
			if n.Key == "service/backup" || strings.HasPrefix(n.Key, "service/site/") {
				out = append(out, string(n.Severity)+": "+n.Says)
			}
		}
		b.clock.forward(time.Minute)
		return out
	}
	require.Empty(t, told(), "none are scheduled")
	plan := notices.Backups{Every: 24 * time.Hour, Folder: "/backup", Since: b.clock.Now()}
	b.s.Notices.Backed(plan)
	require.Empty(t, told(), "the first is on its way")
	b.clock.forward(49 * time.Hour)
	require.Equal(t, []string{"watch: there is no backup of the service's records"}, told())
	plan.Last = b.clock.Now()
	b.s.Notices.Backed(plan)
	require.Empty(t, told())
	plan.Failed = "no space left"
	b.s.Notices.Backed(plan)
	require.Equal(
		t,
		[]string{"watch: a backup failed: no space left; the newest backup of the service's records is of " +
			plan.Last.UTC().Format("2006-01-02 15:04Z")},
		told(),
	)
	b.clock.forward(8 * 24 * time.Hour)
	require.Contains(t, told()[0], "replace: ")
	plan.Failed, plan.Last = "", b.clock.Now()
	b.s.Notices.Backed(plan)
	require.Empty(t, told())

	// The same applies to sites of a headquarters that cannot be reached.
	b.s.Notices.SilentSites([]api.Site{{Name: "north", AsOf: t0, Do: "Look at it"}, {Name: "south", Do: "Look at it"}})
	require.ElementsMatch(t, []string{"watch: the site north cannot be reached; what is known of it is of " +
		t0.UTC().Format("2006-01-02 15:04Z"), "watch: the site south cannot be reached"}, told())
	b.s.Notices.SilentSites(nil)
	require.Empty(t, told())
}

// TestMessagesLead: a message names the drive by its serial and model, and leads to its page where it is known where
// people reach the console.
func TestMessagesLead(t *testing.T) {
	b := newBench(t)
	b.s.Fleet.GraceUntil = time.Time{}
	for _, base := range []string{"", "https://lantern.example/storage"} {
		b.s.Notices.SetBase(base)
		b.drives[0].Reading = api.Reading{
			At:      b.clock.Now(),
			Metrics: map[string]float64{"pending_sectors": 400, "power_on_hours": 5000},
		}
		p := newPager(t, b, base)
		for range 3 {
			b.clock.forward(10 * time.Minute)
			b.drives[0].Reading.At = b.clock.Now()
			b.report()
			b.clock.forward(time.Minute)
			require.NoError(t, b.s.Tick())
		}
		text := p()
		require.Contains(t, text, "drive     serial KH3AA001, OSSFELL OF-8T")
		require.Equal(t, base != "", strings.Contains(text, "console   https://lantern.example/storage/drives/wwn-"), text)
		b = newBench(t)
		b.s.Fleet.GraceUntil = time.Time{}
	}
}

// newPager sets a channel up, and gives what reads the newest message that waits on it.
func newPager(t *testing.T, b *bench, base string) func() string {
	_, err := b.s.Notices.PutChannel(
		t.Context(),
		"ida",
		"pager",
		api.ChannelPut{Kind: api.ChannelPutKindWebhook, Url: "https://192.0.2.1/x",
			Secret: "k3y-of-the-pager", Least: api.Watch},
	)
	require.NoError(t, err)
	b.s.Notices.SetBase(base)
	return func() string {
		rows, err := store.All[store.Delivery](b.store, "made", "notice <> 'digest'")
		require.NoError(t, err)
		require.NotEmpty(t, rows)
		var m struct{ Text string }
		require.NoError(t, json.Unmarshal(rows[len(rows)-1].Doc, &m))
		return m.Text
	}
}
