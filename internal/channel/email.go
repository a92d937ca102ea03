package channel

import (
	"context"
	"errors"
	"fmt"
	"net"
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

// Send sends a plain text over TLS, to each receiver by itself: an address that is rejected keeps nobody else from
// getting it.
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
	msg := mail.NewMsg()
	if err := msg.From(from); err != nil {
		return nil, err
	}
	if err := msg.To(to); err != nil {
		return nil, err
	}
	msg.Subject(m.Subject)
	msg.SetMessageIDWithValue(m.ID + "@brave-lantern")
	msg.SetDateWithValue(m.At)
	msg.SetBodyString(mail.TypeTextPlain, m.Text)
	return msg, nil
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
	return mail.NewClient(host, options...)
}
