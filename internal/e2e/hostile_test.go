package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/chromedp/chromedp"
	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// outlet keeps what one way out was given.
type outlet struct {
	mu   sync.Mutex
	said []string
}

func (o *outlet) add(s string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.said = append(o.said, s)
}

func (o *outlet) all() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return strings.Join(o.said, "\n")
}

// NewSession, Mail, Rcpt, Data, Reset and Logout make it a mail server.
func (o *outlet) NewSession(*smtp.Conn) (smtp.Session, error) { return o, nil }
func (o *outlet) Mail(string, *smtp.MailOptions) error        { return nil }
func (o *outlet) Rcpt(string, *smtp.RcptOptions) error        { return nil }
func (o *outlet) Reset()                                      {}
func (o *outlet) Logout() error                               { return nil }
func (o *outlet) Data(r io.Reader) error {
	b, err := io.ReadAll(r)
	head, body, _ := strings.Cut(string(b), "\r\n\r\n")
	plain, _ := io.ReadAll(quotedprintable.NewReader(strings.NewReader(body)))
	o.add(head + "\n" + string(plain))
	return err
}

// collect takes syslog messages, each with its length before it (RFC 6587).
func (o *outlet) collect(l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer conn.Close()
			r := bufio.NewReader(conn)
			for {
				var n int
				if _, err := fmt.Fscanf(r, "%d ", &n); err != nil {
					return
				}
				b := make([]byte, n)
				if _, err := io.ReadFull(r, b); err != nil {
					return
				}
				o.add(string(b))
			}
		}()
	}
}

// unharmed fails on a text that could act on a terminal, forge a line, or turn text round.
func unharmed(t *testing.T, where, s string) {
	t.Helper()
	require.True(t, utf8.ValidString(s), where)
	for _, r := range s {
		require.False(
			t,
			r < 0x20 && r != '\n' && r != '\t' && r != '\r' || r >= 0x7F && r < 0xA0 || r == 0x202E || r == 0x200B,
			"%s: %q",
			where,
			s,
		)
	}
	require.NotRegexp(t, regexp.MustCompile(`(?m)^forged`), s, where)
}

// TestHostileOutlets: names, labels and models from an attacker appear only as text in channels, console and reports.
func TestHostileOutlets(t *testing.T) {
	const evil = "\x1b]52;c;cm0=\a\r\n" +
		"forged\u202Eline\u200B<img src=x onerror=\"window.hit=1\"><script>window.hit=1</script>{{7*191}}"
	c := &chaos{t: t, dir: t.TempDir(), port: "0", client: &http.Client{}}
	c.start()
	t.Cleanup(c.kill)
	var hook, mail, logs outlet
	pager := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		hook.add(string(b))
	}))
	defer pager.Close()
	post := smtp.NewServer(&mail)
	at, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = post.Serve(at) }()
	defer post.Close()
	syslog, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer syslog.Close()
	go logs.collect(syslog)
	for name, put := range map[string]api.ChannelPut{
		"pager": {Kind: "webhook", Url: pager.URL, Secret: "k", Least: api.Watch},
		"mail": {Kind: "email", Server: at.Addr().String(), From: "a@example.org", To: []string{"b@example.org"},
			Least: api.Watch},
		"logs": {Kind: "syslog", Url: "tcp://" + syslog.Addr().String(), Least: api.Watch},
	} {
		b, err := json.Marshal(put)
		require.NoError(t, err)
		status, body := c.ask("PUT", "/channels/"+name, string(b))
		require.Less(t, status, 300, string(body))
	}
	h := &chaosHost{
		c:     c,
		name:  "host-000",
		begin: time.Now(),
		bad:   map[int]bool{2: true},
		acked: map[string]map[int64]float64{},
	}
	h.texts = func(r *api.Report) {
		for i := range r.Drives {
			d := &r.Drives[i]
			d.Identity.Model += evil
			d.Identity.Vendor, d.Firmware, d.Holds = evil, "=cmd()"+evil, []string{evil}
		}
		group := api.GroupReport{Name: "g" + evil, Protection: api.Protection{Words: "mirror" + evil, Tolerance: 1}}
		for i := range 3 {
			group.Members = append(
				group.Members,
				api.MemberReport{Slot: fmt.Sprint(i), Drive: h.key(i), State: "online", SizeBytes: 8e12},
			)
		}
		r.Pools = []api.PoolReport{{Id: "p1", Name: "tide" + evil, Kind: "toy" + evil, CapacityBytes: 8e12, UsedBytes: 4e12,
			Groups: []api.GroupReport{
				group,
			}, Volumes: []api.VolumeReport{}, Spares: []api.MemberReport{}, Logs: []api.MemberReport{}}}
	}
	status, body := c.ask("POST", "/hosts", `{"name":"`+h.name+`"}`)
	require.Equal(t, 201, status, string(body))
	var e api.Enrolled
	require.NoError(t, json.Unmarshal(body, &e))
	h.token = e.Token
	ctx, cancel := context.WithCancel(t.Context())
	var all sync.WaitGroup
	all.Go(func() { h.run(ctx) })
	t.Cleanup(func() { cancel(); all.Wait() })

	for name, o := range map[string]*outlet{"webhook": &hook, "mail": &mail, "syslog": &logs} {
		c.until("told by "+name, 2*time.Minute, func() bool { return strings.Contains(o.all(), "tide") })
		said := o.all()
		if name == "webhook" {
			require.NotContains(t, said, `\u001b`)
			require.NotContains(t, said, `\u202e`)
		}
		unharmed(t, name, said)
		require.Contains(t, said, "⟦1B⟧", "%s: it is shown, and marked", name)
	}

	var drives api.DrivePage
	_, body = c.ask("GET", "/drives?limit=50", "")
	require.NoError(t, json.Unmarshal(body, &drives))
	require.NotEmpty(t, drives.Drives)
	for _, path := range []string{"/report/page", "/drives/" + drives.Drives[0].Key + "/trend?metric=pending_sectors",
		"/events/recent", "/metrics"} {
		_, body := c.ask("GET", path, "")
		unharmed(t, path, string(body))
		require.NotContains(t, string(body), "<script>window", path)
		require.NotContains(t, string(body), "<img src=x", path)
	}

	b := openBrowser(t, strings.TrimSuffix(c.url(""), "/api/v1"))
	b.do("sign in", chromedp.Navigate(b.url+"/sign-in"), chromedp.SendKeys(`input[type=password]`, c.admin+"\r"),
		chromedp.WaitVisible("header nav"))
	src, err := os.ReadFile("../../web/src/pages.ts")
	require.NoError(t, err)
	paths := []string{"/drives/" + drives.Drives[0].Key, "/bays/host-000", "/pools/p1"}
	for _, m := range regexp.MustCompile(`path: "(/[^:"]*)"`).FindAllStringSubmatch(string(src), -1) {
		paths = append(paths, m[1])
	}
	require.Greater(t, len(paths), 12)
	marked := 0
	for _, path := range paths {
		b.open(path)
		b.ask(`new Promise((done) => requestIdleCallback(() => done(""), { timeout: 3000 }))`)
		said := b.text()
		unharmed(t, path, said)
		require.NotContains(t, said, "1337", path)
		require.Equal(t, "undefined", b.ask(`String(window.hit)`), "a script of a name ran on %s", path)
		marked += strings.Count(said, "⟦1B⟧")
	}
	require.Greater(t, marked, 5, "it is shown, and marked")
}
