// Package channel carries notices out of the service: to a webhook as CloudEvents, by e-mail, to a syslog collector.
// Sending is all it does; what is sent when, and again, is the service's business.
package channel

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"syscall"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2/event"
	"github.com/leodido/go-syslog/v4/rfc5424"
	"github.com/wneessen/go-mail"
)

// Kind is how a channel carries.
type Kind string

// The kinds.
const (
	Webhook Kind = "webhook"
	Email   Kind = "email"
	Syslog  Kind = "syslog"
)

// Config is where to and how. Secret is never shown again: for a webhook the key of its signature, for e-mail the
// password.
type Config struct {
	Kind   Kind     `json:"kind"`
	URL    string   `json:"url,omitempty"`    // webhook: https://…; syslog: tcp://host:port or tls://host:port
	Server string   `json:"server,omitempty"` // e-mail: host:port
	From   string   `json:"from,omitempty"`
	To     []string `json:"to,omitempty"`
	User   string   `json:"user,omitempty"`
	Secret string   `json:"secret,omitempty"`
	CA     string   `json:"ca,omitempty"` // PEM of the authority to trust, when it is not a public one
}

// Message is what is told.
type Message struct {
	ID      string // the same when it is sent again
	At      time.Time
	Type    string // such as notice.opened
	Subject string // one line
	Text    string // the whole, plain
	Grave   int    // syslog severity: 2 critical, 3 error, 4 warning, 5 notice, 6 informational
	Data    any    // for machines
}

// Sender sends. Its zero value is ready.
type Sender struct {
	// Self are the addresses the service itself listens on: nothing is ever sent there.
	Self []netip.AddrPort
	// Roots are trusted beside a channel's own authority; nil means the system's.
	Roots *x509.CertPool
}

// ErrSelf means that an address points into the service itself.
var ErrSelf = errors.New("the address points into this service itself")

// Check says what is wrong with a channel before anything is sent; host names are resolved.
func (s Sender) Check(ctx context.Context, c Config) error {
	switch c.Kind {
	case Webhook, Syslog:
		u, err := url.Parse(c.URL)
		if err != nil || u.Host == "" {
			return fmt.Errorf("%q is no address", c.URL)
		}
		want := map[Kind][]string{Webhook: {"https", "http"}, Syslog: {"tls", "tcp"}}[c.Kind]
		if u.Scheme != want[0] && u.Scheme != want[1] {
			return fmt.Errorf("%q begins neither with %s:// nor with %s://", c.URL, want[0], want[1])
		}
		if u.User != nil {
			return errors.New("an address with a password in it would be shown in lists; use the secret")
		}
		if c.Kind == Webhook && c.Secret == "" {
			return errors.New("a webhook needs a secret, by which its receiver knows that a message is ours")
		}
		port := u.Port()
		if port == "" {
			port = map[string]string{"https": "443", "http": "80", "tls": "6514", "tcp": "601"}[u.Scheme]
		}
		return s.notSelf(ctx, u.Hostname(), port)
	case Email:
		host, port, err := net.SplitHostPort(c.Server)
		if err != nil {
			return fmt.Errorf("%q is not host:port of a mail server", c.Server)
		}
		if c.From == "" || len(c.To) == 0 {
			return errors.New("e-mail needs a sender and at least one receiver")
		}
		m := mail.NewMsg()
		if err := m.From(c.From); err != nil {
			return fmt.Errorf("sender: %w", err)
		}
		if err := m.To(c.To...); err != nil {
			return fmt.Errorf("receiver: %w", err)
		}
		return s.notSelf(ctx, host, port)
	}
	return fmt.Errorf("a channel is a webhook, email or syslog, not %q", c.Kind)
}

func (s Sender) notSelf(ctx context.Context, host, port string) error {
	n, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return fmt.Errorf("%q is no port", port)
	}
	ips, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil {
		return nil // it may be known later; the look at the moment of sending stands
	}
	for _, ip := range ips {
		if s.isSelf(netip.AddrPortFrom(ip.Unmap(), uint16(n))) {
			return ErrSelf
		}
	}
	return nil
}

func (s Sender) isSelf(to netip.AddrPort) bool {
	for _, self := range s.Self {
		if self.Port() != to.Port() {
			continue
		}
		if self.Addr() == to.Addr() {
			return true
		}
		// Listening on every address is listening on each of this machine's.
		if self.Addr().IsUnspecified() && (to.Addr().IsLoopback() || to.Addr().IsUnspecified() || local(to.Addr())) {
			return true
		}
		// 127.0.0.0/8 and ::1 are all this machine.
		if self.Addr().IsLoopback() && (to.Addr().IsLoopback() || to.Addr().IsUnspecified()) {
			return true
		}
	}
	return false
}

func local(a netip.Addr) bool {
	all, err := net.InterfaceAddrs()
	if err != nil {
		return false
	}
	for _, x := range all {
		if n, ok := x.(*net.IPNet); ok {
			if ip, ok := netip.AddrFromSlice(n.IP); ok && ip.Unmap() == a {
				return true
			}
		}
	}
	return false
}

// dialer looks at where a connection really goes, whatever its name was resolved to before.
func (s Sender) dialer() *net.Dialer {
	return &net.Dialer{Timeout: 10 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		if to, err := netip.ParseAddrPort(
			address,
		); err == nil &&
			s.isSelf(netip.AddrPortFrom(to.Addr().Unmap(), to.Port())) {
			return ErrSelf
		}
		return nil
	}}
}

func (s Sender) tls(c Config, host string) (*tls.Config, error) {
	roots := s.Roots
	if c.CA != "" {
		roots = x509.NewCertPool()
		if !roots.AppendCertsFromPEM([]byte(c.CA)) {
			return nil, errors.New("the authority is no PEM certificate")
		}
	}
	return &tls.Config{ServerName: host, RootCAs: roots, MinVersion: tls.VersionTLS12}, nil
}

// Send carries one message. No error means that the far end confirmed it.
func (s Sender) Send(ctx context.Context, c Config, m Message) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	switch c.Kind {
	case Webhook:
		return s.webhook(ctx, c, m)
	case Email:
		return s.email(ctx, c, m)
	case Syslog:
		return s.syslog(ctx, c, m)
	}
	return fmt.Errorf("a channel is a webhook, email or syslog, not %q", c.Kind)
}

// Signature is the header that carries the HMAC-SHA-256 of a webhook's body, as hexadecimal, under the channel's
// secret.
const Signature = "Lantern-Signature-256"

// Sign signs a body.
func Sign(secret string, body []byte) string {
	h := hmac.New(sha256.New, []byte(secret))
	h.Write(body)
	return hex.EncodeToString(h.Sum(nil))
}

// Source is who CloudEvents are from.
const Source = "urn:brave-lantern:service"

// webhook sends a CloudEvent in structured mode (CloudEvents 1.0, HTTP protocol binding 3.2).
func (s Sender) webhook(ctx context.Context, c Config, m Message) error {
	e := cloudevents.New()
	e.SetID(m.ID)
	e.SetSource(Source)
	e.SetType("brave-lantern." + m.Type)
	e.SetTime(m.At)
	e.SetSubject(m.Subject)
	if err := e.SetData(cloudevents.ApplicationJSON, m.Data); err != nil {
		return err
	}
	body, err := json.Marshal(e)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, c.URL, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", cloudevents.ApplicationCloudEventsJSON)
	req.Header.Set(Signature, Sign(c.Secret, body))
	t, err := s.tls(c, req.URL.Hostname())
	if err != nil {
		return err
	}
	client := &http.Client{
		Transport: &http.Transport{DialContext: s.dialer().DialContext, TLSClientConfig: t, DisableKeepAlives: true},
		// Where a message goes is what somebody wrote down, not what an answer says.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	res, err := client.Do(req)
	if err != nil {
		return plain(err)
	}
	defer res.Body.Close()
	_, _ = io.CopyN(io.Discard, res.Body, 1<<16)
	if res.StatusCode < 200 || res.StatusCode > 299 {
		return fmt.Errorf("the receiver answered %s", res.Status)
	}
	return nil
}

// plain leaves the address out of an error: it may hold what is nobody's business.
func plain(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

func (s Sender) email(ctx context.Context, c Config, m Message) error {
	msg := mail.NewMsg()
	if err := msg.From(c.From); err != nil {
		return err
	}
	if err := msg.To(c.To...); err != nil {
		return err
	}
	msg.Subject(m.Subject)
	msg.SetMessageIDWithValue(m.ID + "@brave-lantern")
	msg.SetDateWithValue(m.At)
	msg.SetBodyString(mail.TypeTextPlain, m.Text)
	host, port, err := net.SplitHostPort(c.Server)
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return err
	}
	t, err := s.tls(c, host)
	if err != nil {
		return err
	}
	options := []mail.Option{
		mail.WithPort(n),
		mail.WithTLSPolicy(mail.TLSMandatory),
		mail.WithTLSConfig(t),
		mail.WithTimeout(20 * time.Second),
		mail.WithDialContextFunc(s.dialer().DialContext),
	}
	if c.User != "" {
		options = append(
			options,
			mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover),
			mail.WithUsername(c.User),
			mail.WithPassword(c.Secret),
		)
	}
	client, err := mail.NewClient(host, options...)
	if err != nil {
		return err
	}
	return client.DialAndSendWithContext(ctx, msg)
}

// syslog sends one message (RFC 5424) with its length before it (RFC 6587 3.4.1), over TCP or TLS (RFC 5425). The
// protocol has no answer: that the far end took the bytes is all the confirmation there is.
func (s Sender) syslog(ctx context.Context, c Config, m Message) error {
	const facilityDaemon = 3
	line := &rfc5424.SyslogMessage{}
	line.SetVersion(1)
	line.SetPriority(uint8(8*facilityDaemon + m.Grave))
	line.SetTimestamp(m.At.UTC().Format(rfc5424.RFC3339MICRO))
	line.SetAppname("brave-lantern")
	line.SetMsgID(strings.ReplaceAll(m.Type, " ", "-"))
	line.SetParameter("notice@32473", "id", m.ID)
	line.SetMessage(m.Subject)
	text, err := line.String()
	if err != nil {
		return fmt.Errorf("lay out a syslog message: %w", err)
	}
	u, err := url.Parse(c.URL)
	if err != nil {
		return err
	}
	to := u.Host
	if u.Port() == "" {
		to = net.JoinHostPort(u.Hostname(), map[string]string{"tls": "6514", "tcp": "601"}[u.Scheme])
	}
	conn, err := s.dialer().DialContext(ctx, "tcp", to)
	if err != nil {
		return err
	}
	defer conn.Close()
	if end, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(end)
	}
	if u.Scheme == "tls" {
		t, err := s.tls(c, u.Hostname())
		if err != nil {
			return err
		}
		secure := tls.Client(conn, t)
		if err := secure.HandshakeContext(ctx); err != nil {
			return err
		}
		conn = secure
	}
	_, err = fmt.Fprintf(conn, "%d %s", len(text), text)
	return err
}
