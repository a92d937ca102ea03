package channel

import (
	"bufio"
	"crypto/tls"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2/event"
	"github.com/emersion/go-smtp"
	"github.com/leodido/go-syslog/v4/rfc5424"
	"github.com/stretchr/testify/require"
	"github.com/wneessen/go-mail"
)

var message = Message{
	ID:      "01NOTICE",
	At:      time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC),
	Type:    "notice.opened",
	Subject: "ZU006 in skerry/front/7 has 38 sectors that cannot be read",
	Text:    "Replace it today.\n",
	Grave:   3,
	Data:    map[string]any{"drive": "wwn-5002"},
	Thread:  "01MATTER",
	About:   map[string]string{"bay": `front]"7\`, "pool": "plankton", "host": ""},
}

// secure is a web server with a certificate of its own, whose authority the channel is given.
func secure(t *testing.T, h http.HandlerFunc) (*httptest.Server, string, *tls.Config) {
	s := httptest.NewTLSServer(h)
	t.Cleanup(s.Close)
	ca := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw}))
	return s, ca, s.TLS
}

// TestWebhook: a CloudEvent that a real reader of them takes, signed over its very bytes; a refusal and a redirection
// are no confirmation.
func TestWebhook(t *testing.T) {
	var body []byte
	var head http.Header
	status := http.StatusNoContent
	server, ca, _ := secure(t, func(w http.ResponseWriter, r *http.Request) {
		body, _ = io.ReadAll(r.Body)
		head = r.Header
		if status == http.StatusFound {
			w.Header().Set("Location", "https://elsewhere.example/")
		}
		w.WriteHeader(status)
	})
	c := Config{Kind: Webhook, URL: server.URL + "/hook?room=7", Secret: "s3cret-key", CA: ca}
	require.NoError(t, Sender{}.Check(t.Context(), c))
	require.NoError(t, Sender{}.Send(t.Context(), c, message))
	require.Equal(t, "application/cloudevents+json", head.Get("Content-Type"))
	require.Equal(t, Sign("s3cret-key", body), head.Get(Signature))
	require.NotEqual(t, Sign("another", body), head.Get(Signature))
	e := cloudevents.New()
	require.NoError(t, e.UnmarshalJSON(body))
	require.NoError(t, e.Validate())
	require.Equal(t, "1.0", e.SpecVersion())
	require.Equal(t, "01NOTICE", e.ID())
	require.Equal(t, "brave-lantern.notice.opened", e.Type())
	require.JSONEq(t, `{"drive":"wwn-5002"}`, string(e.Data()))
	for _, bad := range []int{http.StatusInternalServerError, http.StatusFound, http.StatusNotFound} {
		status = bad
		require.ErrorContains(t, Sender{}.Send(t.Context(), c, message), fmt.Sprint(bad))
	}
	c.CA = ""
	require.ErrorContains(t, Sender{}.Send(t.Context(), c, message), "certificate")
	server.Close()
	c.CA = ca
	err := Sender{}.Send(t.Context(), c, message)
	require.Error(t, err)
	require.NotContains(t, err.Error(), "room=7", "an error tells nothing of the address")
}

// post is a mail server that keeps what it is given.
type post struct {
	mu    sync.Mutex
	mails []string
	full  bool
}

type session struct{ p *post }

func (p *post) NewSession(*smtp.Conn) (smtp.Session, error) { return &session{p}, nil }
func (s *session) Mail(string, *smtp.MailOptions) error     { return nil }
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	if strings.HasPrefix(to, "nobody@") {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "no such user"}
	}
	return nil
}
func (s *session) Reset()        {}
func (s *session) Logout() error { return nil }
func (s *session) Data(r io.Reader) error {
	b, err := io.ReadAll(r)
	s.p.mu.Lock()
	defer s.p.mu.Unlock()
	if s.p.full {
		return &smtp.SMTPError{Code: 452, Message: "no room"}
	}
	s.p.mails = append(s.p.mails, string(b))
	return err
}

// TestEmail: through a real mail server, under STARTTLS; without it nothing is sent; what the server does not take is
// no success.
func TestEmail(t *testing.T) {
	_, ca, certificates := secure(t, func(http.ResponseWriter, *http.Request) {})
	start := func(t *testing.T, p *post, config *tls.Config) string {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		s := smtp.NewServer(p)
		s.Domain, s.TLSConfig, s.AllowInsecureAuth = "post.example", config, false
		go func() { _ = s.Serve(l) }()
		t.Cleanup(func() { _ = s.Close() })
		return l.Addr().String()
	}
	p := &post{}
	c := Config{
		Kind:   Email,
		Server: start(t, p, &tls.Config{Certificates: certificates.Certificates}),
		From:   "lantern@heron.example",
		To:     []string{"ida@heron.example", "bo@heron.example"},
		CA:     ca,
	}
	require.NoError(t, Sender{}.Check(t.Context(), c))
	require.NoError(t, Sender{}.Send(t.Context(), c, message))
	require.Len(t, p.mails, 2, "one to each")
	for _, want := range []string{"Subject: ZU006 in skerry/front/7 has 38 sectors that cannot be read",
		"From: <lantern@heron.example>", "Message-ID: <01NOTICE@heron.example>", "Replace it today.",
		"In-Reply-To: <01MATTER@heron.example>", "References: <01MATTER@heron.example>",
		"Auto-Submitted: auto-generated", "List-Id: "} {
		require.Contains(t, p.mails[0], want)
	}
	require.NotContains(t, p.mails[0], "go-mail", "no name of a library")
	c.To = []string{"ida@heron.example", "nobody@heron.example", "bo@heron.example"}
	var some *Partly
	err := Sender{}.Send(t.Context(), c, message)
	require.ErrorAs(t, err, &some)
	require.Equal(t, []string{"nobody@heron.example"}, some.Left, "one that is rejected keeps nobody else from it")
	require.ErrorContains(t, err, "no such user")
	require.Len(t, p.mails, 4)
	again := message
	again.To = some.Left
	require.ErrorAs(t, Sender{}.Send(t.Context(), c, again), &some)
	require.Equal(t, []string{"nobody@heron.example"}, some.Left)
	require.Len(t, p.mails, 4, "nobody gets it twice")
	p.full = true
	require.ErrorContains(t, Sender{}.Send(t.Context(), c, message), "no room")
	p.full = false
	c.To = []string{"ida@heron.example"}
	first := message
	first.First = true
	require.NoError(t, Sender{}.Send(t.Context(), c, first))
	require.Contains(t, p.mails[4], "Message-ID: <01MATTER@heron.example>", "what follows answers this one")
	require.NotContains(t, p.mails[4], "In-Reply-To")
	c.Server = start(t, p, nil)
	require.NoError(t, Sender{}.Send(t.Context(), c, message), "a relay on this machine may be without TLS")
	require.Len(t, p.mails, 6)
	paged := message
	paged.HTML = "<p>38 sectors"
	require.NoError(t, Sender{}.Send(t.Context(), c, paged))
	require.Contains(t, p.mails[6], "multipart/alternative")
	require.Contains(t, p.mails[6], "text/html")
	p.mails = p.mails[:6]
	c.User, c.Secret = "ida", "s3cret"
	require.Error(t, Sender{}.Send(t.Context(), c, message), "no password leaves in the clear")
	require.Len(t, p.mails, 6)
	for _, away := range []string{"mail.heron.example", "192.0.2.25", "localhost.heron.example"} {
		require.Equal(t, mail.TLSMandatory, Config{}.policy(away), "no word leaves this machine in the clear")
	}
}

// TestEmailTLSFirst: on the port of submissions TLS begins with the first byte, and nothing waits for a greeting.
func TestEmailTLSFirst(t *testing.T) {
	_, ca, certificates := secure(t, func(http.ResponseWriter, *http.Request) {})
	l, err := tls.Listen("tcp", "127.0.0.1:465", &tls.Config{Certificates: certificates.Certificates})
	if err != nil {
		t.Skip("not run: the port of submissions cannot be listened on here: ", err)
	}
	p := &post{}
	s := smtp.NewServer(p)
	s.Domain = "post.example"
	go func() { _ = s.Serve(l) }()
	t.Cleanup(func() { _ = s.Close() })
	c := Config{Kind: Email, Server: l.Addr().String(), From: "Brave Lantern <lantern@heron.example>",
		To: []string{"ida@heron.example"}, CA: ca}
	require.NoError(t, Sender{}.Check(t.Context(), c))
	require.NoError(t, Sender{}.Send(t.Context(), c, message))
	require.Len(t, p.mails, 1)
	require.Contains(t, p.mails[0], "Message-ID: <01NOTICE@heron.example>")
	c.CA = ""
	require.ErrorContains(t, Sender{}.Send(t.Context(), c, message), "certificate")
}

// TestSyslog: a collector that reads RFC 5424 takes it, over TLS and TCP.
func TestSyslog(t *testing.T) {
	_, ca, certificates := secure(t, func(http.ResponseWriter, *http.Request) {})
	for scheme, listen := range map[string]func() (net.Listener, error){
		"tcp": func() (net.Listener, error) { return net.Listen("tcp", "127.0.0.1:0") },
		"tls": func() (net.Listener, error) {
			return tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: certificates.Certificates})
		},
	} {
		l, err := listen()
		require.NoError(t, err)
		got := make(chan string, 1)
		go func() {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			defer conn.Close()
			r := bufio.NewReader(conn)
			var n int
			if _, err := fmt.Fscanf(r, "%d ", &n); err != nil {
				got <- err.Error()
				return
			}
			b := make([]byte, n)
			_, _ = io.ReadFull(r, b)
			got <- string(b)
		}()
		own := map[string]string{"tcp": "", "tls": "?enterprise=12345"}[scheme]
		c := Config{Kind: Syslog, URL: scheme + "://" + l.Addr().String() + own, CA: ca}
		require.NoError(t, Sender{}.Check(t.Context(), c))
		require.NoError(t, Sender{}.Send(t.Context(), c, message))
		parsed, err := rfc5424.NewParser().Parse([]byte(<-got))
		require.NoError(t, err)
		m := parsed.(*rfc5424.SyslogMessage)
		require.EqualValues(t, 3, *m.Severity)
		require.Equal(t, "brave-lantern", *m.Appname)
		require.Equal(t, message.Subject, *m.Message)
		require.Equal(t, map[string]string{"id": "01NOTICE", "bay": `front]"7\`, "pool": "plankton"},
			(*m.StructuredData)[map[string]string{"tcp": "notice@32473", "tls": "notice@12345"}[scheme]])
		require.NotEmpty(t, *m.Hostname)
		require.NoError(t, l.Close())
	}
	for _, wrong := range []string{"?enterprise=0", "?enterprise=x", "?enterprise=1&enterprise=2", "?number=3"} {
		require.ErrorContains(
			t,
			Sender{}.Check(t.Context(), Config{Kind: Syslog, URL: "tcp://192.0.2.1:601" + wrong}),
			"?enterprise=12345",
		)
	}
}

// TestRefused: addresses that point into the service itself, however they are written, and what cannot work.
func TestRefused(t *testing.T) {
	s := Sender{Self: []netip.AddrPort{netip.MustParseAddrPort("127.0.0.1:7411")}}
	for url, want := range map[string]string{"http://127.0.0.1:7411/api/v1/round": "itself",
		"http://localhost:7411/": "itself", "http://127.9.9.9:7411/": "itself", "http://[::1]:7411/": "itself",
		"http://0.0.0.0:7411/":   "itself",
		"http://127.0.0.1:7412/": "", "ftp://x/": "begins neither", "not an address": "is not an address",
		"https://u:p@x/": "secret"} {
		err := s.Check(t.Context(), Config{Kind: Webhook, URL: url, Secret: "k"})
		if want == "" {
			require.NoError(t, err, url)
			continue
		}
		require.ErrorContains(t, err, want, url)
	}
	everywhere := Sender{Self: []netip.AddrPort{netip.MustParseAddrPort("0.0.0.0:7411")}}
	require.ErrorIs(
		t,
		everywhere.Check(t.Context(), Config{Kind: Webhook, URL: "http://127.0.0.1:7411/", Secret: "k"}),
		ErrSelf,
	)
	require.ErrorContains(t, s.Check(t.Context(), Config{Kind: Webhook, URL: "https://x.example/"}), "needs a secret")
	require.ErrorContains(t, s.Check(t.Context(), Config{Kind: Email, Server: "x.example"}), "host:port")
	require.ErrorContains(
		t,
		s.Check(t.Context(), Config{Kind: Email, Server: "127.0.0.1:25", From: "a@b.example"}),
		"at least one receiver",
	)
	require.ErrorContains(t, s.Check(t.Context(), Config{Kind: "pigeon"}), "pigeon")

	// A name that resolves to another address when it is checked and to this machine when it is used: the connection is
	// refused.
	server := httptest.NewServer(
		http.HandlerFunc(func(http.ResponseWriter, *http.Request) { t.Error("it was reached") }),
	)
	defer server.Close()
	self := Sender{Self: []netip.AddrPort{netip.MustParseAddrPort(strings.TrimPrefix(server.URL, "http://"))}}
	err := self.Send(t.Context(), Config{Kind: Webhook, URL: server.URL, Secret: "k"}, message)
	require.True(t, errors.Is(err, ErrSelf), "%v", err)
}
