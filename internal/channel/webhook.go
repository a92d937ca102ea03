package channel

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"

	cloudevents "github.com/cloudevents/sdk-go/v2/event"
)

// Webhook is a channel that posts CloudEvents, signed under its secret.
const Webhook Kind = "webhook"

type webhook struct{}

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

// Check requires an address and a secret.
func (webhook) Check(c Config) (host, port string, err error) {
	u, port, err := address(c.URL, [2]string{"https", "http"}, map[string]string{"https": "443", "http": "80"})
	if err != nil {
		return "", "", err
	}
	if c.Secret == "" {
		return "", "", errors.New("a webhook needs a secret, by which its receiver knows that a message is ours")
	}
	return u.Hostname(), port, nil
}

// Send sends a CloudEvent in structured mode (CloudEvents 1.0, HTTP protocol binding 3.2).
func (webhook) Send(ctx context.Context, s Sender, c Config, m Message) error {
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
		// Redirects are not followed: the address is only the configured one.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	res, err := client.Do(req)
	if err != nil {
		return plain(err)
	}
	defer res.Body.Close()
	answer, _ := io.ReadAll(io.LimitReader(res.Body, 1<<12))
	if res.StatusCode >= 200 && res.StatusCode <= 299 {
		return nil
	}
	if says := answered(answer); says != "" {
		return fmt.Errorf("the receiver answered %s: %s", res.Status, says)
	}
	return fmt.Errorf("the receiver answered %s", res.Status)
}

// plain removes the address from an error: it may contain a secret.
func plain(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}
