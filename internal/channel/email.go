package channel

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	netmail "net/mail"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"
)

// Email is a channel that sends mail through a server.
const Email Kind = "email"

type email struct{}

// Check requires a server, a sender and a receiver.
func (email) Check(c Config) (host, port string, err error) {
	if host, port, err = net.SplitHostPort(c.Server); err != nil {
		return "", "", fmt.Errorf("%q is not host:port of a mail server", c.Server)
	}
	if c.From == "" || len(c.To) == 0 {
		return "", "", errors.New("e-mail needs a sender and at least one receiver")
	}
	m := mail.NewMsg()
	if err := m.From(c.From); err != nil {
		return "", "", fmt.Errorf("sender: %w", err)
	}
	if err := m.To(c.To...); err != nil {
		return "", "", fmt.Errorf("receiver: %w", err)
	}
	return host, port, nil
}

// Send sends a plain text over TLS, or without it to a relay on this machine, to each receiver separately: a rejected
// address does not affect the others.
func (email) Send(ctx context.Context, s Sender, c Config, m Message) error {
	client, err := mailClient(s, c)
	if err != nil {
		return err
	}
	to := m.To
	if len(to) == 0 {
		to = c.To
	}
	if err := client.DialWithContext(ctx); err != nil {
		return err
	}
	defer client.Close()
	var left []string
	var failed []string
	for _, receiver := range to {
		msg, err := letter(c.From, receiver, m)
		if err == nil {
			err = client.Send(msg)
		}
		if err != nil {
			left = append(left, receiver)
			failed = append(failed, receiver+": "+answered([]byte(err.Error())))
			if client.Reset() != nil { // the connection is gone: nothing more can be sent on it
				left = append(left, to[slices.Index(to, receiver)+1:]...)
				break
			}
		}
	}
	switch {
	case len(failed) == 0:
		return nil
	case len(left) < len(c.To):
		return &Partly{Left: left, Err: errors.New(strings.Join(failed, "; "))}
	}
	return errors.New(strings.Join(failed, "; "))
}

// letter is a message to one receiver.
func letter(from, to string, m Message) (*mail.Msg, error) {
	msg := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := msg.From(from); err != nil {
		return nil, err
	}
	if err := msg.To(to); err != nil {
		return nil, err
	}
	msg.Subject(m.Subject)
	domain := "brave-lantern"
	if a, err := netmail.ParseAddress(from); err == nil {
		domain = a.Address[strings.LastIndex(a.Address, "@")+1:]
	}
	id := m.ID
	switch {
	case m.First:
		id = m.Thread
	case m.Thread != "":
		first := "<" + m.Thread + "@" + domain + ">"
		msg.SetGenHeader(mail.HeaderInReplyTo, first)
		msg.SetGenHeader(mail.HeaderReferences, first)
	}
	msg.SetMessageIDWithValue(id + "@" + domain)
	msg.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834 5: no holiday replies
	msg.SetGenHeader("List-Id", "Brave Lantern notices <notices.brave-lantern."+domain+">")
	msg.SetDateWithValue(m.At)
	msg.SetBodyString(mail.TypeTextPlain, m.Text)
	if m.HTML != "" {
		msg.AddAlternativeString(mail.TypeTextHTML, m.HTML)
	}
	return msg, nil
}

// submissions is the port on which TLS begins with the first byte (RFC 8314 3.3).
const submissions = 465

// policy are the requirements for the connection to a mail server. Nothing leaves this machine unencrypted, and no
// password is sent without TLS; a relay on this machine without TLS is allowed.
func (c Config) policy(host string) mail.TLSPolicy {
	ip, err := netip.ParseAddr(host)
	if c.User == "" && (host == "localhost" || err == nil && ip.IsLoopback()) {
		return mail.TLSOpportunistic
	}
	return mail.TLSMandatory
}

func mailClient(s Sender, c Config) (*mail.Client, error) {
	host, port, err := net.SplitHostPort(c.Server)
	if err != nil {
		return nil, err
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return nil, err
	}
	t, err := s.tls(c, host)
	if err != nil {
		return nil, err
	}
	options := []mail.Option{
		mail.WithPort(n),
		mail.WithTLSPolicy(c.policy(host)),
		mail.WithTLSConfig(t),
		mail.WithTimeout(20 * time.Second),
		mail.WithDialContextFunc(s.dialer().DialContext),
	}
	if n == submissions {
		dialer := &tls.Dialer{NetDialer: s.dialer(), Config: t}
		options = append(options, mail.WithSSL(), mail.WithDialContextFunc(dialer.DialContext))
	}
	if c.User != "" {
		options = append(
			options,
			mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover),
			mail.WithUsername(c.User),
			mail.WithPassword(c.Secret),
		)
	}
	return mail.NewClient(host, options...)
}
