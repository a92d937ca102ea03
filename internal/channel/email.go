package channel

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
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

// Send sends a plain text over TLS.
func (email) Send(ctx context.Context, s Sender, c Config, m Message) error {
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
