// Package channel sends notices from the service: to a webhook as CloudEvents, by e-mail, to a syslog collector. It
// only sends; the service decides what is sent when, and repeats.
package channel

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"lantern/internal/harmless"
	"maps"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Kind is the kind of a channel. Each kind is a carrier in its own file; a new one is added there, and to carriers.
type Kind string

// carrier is one way to send a message. Check reports errors of a channel before anything is sent, and gives its host
// and port; Send sends one message, and no error means that the receiver confirmed it.
type carrier interface {
	Check(c Config) (host, port string, err error)
	Send(ctx context.Context, s Sender, c Config, m Message) error
}

var carriers = map[Kind]carrier{Webhook: webhook{}, Email: email{}, Syslog: syslog{}}

// Kinds are all kinds, in order.
func Kinds() []Kind { return slices.Sorted(maps.Keys(carriers)) }

func (k Kind) carrier() (carrier, error) {
	if x, ok := carriers[k]; ok {
		return x, nil
	}
	var names []string
	for _, k := range Kinds() {
		names = append(names, string(k))
	}
	return nil, fmt.Errorf("a channel is one of %s, not %q", strings.Join(names, ", "), k)
}

// Config is the address and the settings of a channel. Secret is never shown again: for a webhook the key of its
// signature, for e-mail the password.
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

// Message is one message.
type Message struct {
	ID      string // the same when it is sent again
	At      time.Time
	Type    string // such as notice.opened
	Subject string // one line
	Text    string // the whole text, plain
	HTML    string // the same or more as a page, for e-mail; empty for none
	Grave   int    // syslog severity: 2 critical, 3 error, 4 warning, 5 notice, 6 informational
	Data    any    // for machines
	// Thread is the identifier of the matter of this and other messages; empty for a single message.
	Thread string
	// First says that this is the first message of its thread.
	First bool
	// About holds the objects of the message, for collectors that sort by them: host, pool, bay, drive, severity,
	// notice.
	About map[string]string
	// To limits an e-mail to the receivers that have not accepted it yet; empty for all.
	To []string
}

// Partly means that some receivers accepted a message and others did not.
type Partly struct {
	Left []string // those that did not
	Err  error
}

func (p *Partly) Error() string { return p.Err.Error() }

func (p *Partly) Unwrap() error { return p.Err }

// answered makes an error from the receiver's answer: short, on one line, and without control characters.
func answered(body []byte) string {
	text := harmless.Line(strings.Join(strings.Fields(string(body)), " "))
	const most = 200
	if r := []rune(text); len(r) > most {
		text = string(r[:most]) + " …"
	}
	return text
}

// Sender sends messages. Its zero value is ready for use.
type Sender struct {
	// Self are the addresses the service itself listens on: nothing is ever sent there.
	Self []netip.AddrPort
	// Roots are trusted besides a channel's own authority; nil means those of the system.
	Roots *x509.CertPool
}

// ErrSelf means that an address points into the service itself.
var ErrSelf = errors.New("the address points into this service itself")

// Check returns the errors of a channel before anything is sent; host names are resolved.
func (s Sender) Check(ctx context.Context, c Config) error {
	x, err := c.Kind.carrier()
	if err != nil {
		return err
	}
	host, port, err := x.Check(c)
	if err != nil {
		return err
	}
	return s.notSelf(ctx, host, port)
}

// Send sends one message. No error means that the receiver confirmed it.
func (s Sender) Send(ctx context.Context, c Config, m Message) error {
	x, err := c.Kind.carrier()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	m.Subject, m.Text = harmless.Line(m.Subject), harmless.Text(m.Text)
	return x.Send(ctx, s, c, m)
}

// address reads an address of one of two schemes, the first of them the safe one, and gives its port where it has none.
func address(of string, schemes [2]string, ports map[string]string) (*url.URL, string, error) {
	u, err := url.Parse(of)
	if err != nil || u.Host == "" {
		return nil, "", fmt.Errorf("%q is not an address", of)
	}
	if u.Scheme != schemes[0] && u.Scheme != schemes[1] {
		return nil, "", fmt.Errorf("%q begins neither with %s:// nor with %s://", of, schemes[0], schemes[1])
	}
	if u.User != nil {
		return nil, "", errors.New("an address with a password in it would be shown in lists; use the secret")
	}
	return u, cmp.Or(u.Port(), ports[u.Scheme]), nil
}

func (s Sender) notSelf(ctx context.Context, host, port string) error {
	n, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return fmt.Errorf("%q is not a port", port)
	}
	ips, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil {
		return nil // it may be resolvable later; the check at the moment of sending decides
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

// dialer checks the real address of a connection, independent of an earlier name resolution.
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
