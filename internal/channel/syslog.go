package channel

import (
	"cmp"
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/url"
	"os"
	"regexp"
	"strings"

	"github.com/leodido/go-syslog/v4/rfc5424"
)

// Syslog is a channel to a syslog collector.
const Syslog Kind = "syslog"

type syslog struct{}

// enterprise is the default enterprise number in the name of a message's structured data (RFC 5424 7.2.2): the number
// that RFC 5612 reserves for examples, since this product has none of its own.
const enterprise = "32473"

// private is an enterprise number assigned by the IANA.
var private = regexp.MustCompile(`^[1-9][0-9]{0,9}$`)

// parameter escapes the characters that a parameter's value must not contain (RFC 5424 6.3.3).
var parameter = strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`)

func syslogAddress(c Config) (*url.URL, string, error) {
	u, port, err := address(c.URL, [2]string{"tls", "tcp"}, map[string]string{"tls": "6514", "tcp": "601"})
	if err != nil {
		return nil, "", err
	}
	for name, values := range u.Query() {
		if name != "enterprise" || len(values) != 1 || !private.MatchString(values[0]) {
			return nil, "", fmt.Errorf(
				"%q: the one thing that can be said of a collector is its number, such as ?enterprise=12345",
				u.RawQuery,
			)
		}
	}
	return u, port, nil
}

// Check requires an address.
func (syslog) Check(c Config) (host, port string, err error) {
	u, port, err := syslogAddress(c)
	if err != nil {
		return "", "", err
	}
	return u.Hostname(), port, nil
}

// Send sends one message (RFC 5424) with its length before it (RFC 6587 3.4.1), over TCP or TLS (RFC 5425). The
// protocol has no answer: the only confirmation is that the receiver accepted the bytes.
func (syslog) Send(ctx context.Context, s Sender, c Config, m Message) error {
	const facilityDaemon = 3
	to, _, err := syslogAddress(c)
	if err != nil {
		return err
	}
	element := "notice@" + cmp.Or(to.Query().Get("enterprise"), enterprise)
	line := &rfc5424.SyslogMessage{}
	line.SetVersion(1)
	line.SetPriority(uint8(8*facilityDaemon + m.Grave))
	line.SetTimestamp(m.At.UTC().Format(rfc5424.RFC3339MICRO))
	if name, err := os.Hostname(); err == nil {
		line.SetHostname(name)
	}
	line.SetAppname("brave-lantern")
	line.SetMsgID(strings.ReplaceAll(m.Type, " ", "-"))
	line.SetParameter(element, "id", m.ID)
	for name, value := range m.About {
		if value != "" {
			line.SetParameter(element, name, parameter.Replace(value))
		}
	}
	line.SetMessage(m.Subject)
	text, err := line.String()
	if err != nil {
		return fmt.Errorf("lay out a syslog message: %w", err)
	}
	u, port, err := syslogAddress(c)
	if err != nil {
		return err
	}
	conn, err := s.dialer().DialContext(ctx, "tcp", net.JoinHostPort(u.Hostname(), port))
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
