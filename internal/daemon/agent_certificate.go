package daemon

import (
	"context"
	"crypto/ecdsa"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"lantern/internal/agent"
	"lantern/internal/api"
	"lantern/internal/authority"
	"lantern/internal/clock"
)

// agentCertificate is the client certificate of an agent, in its folder: the certificate with its key, and the key for
// the next one. The next key is kept, so that after a lost answer the same request is sent again.
type agentCertificate struct {
	dir, host string
	log       *slog.Logger
	pair      atomic.Pointer[tls.Certificate]
}

const (
	certificateFile = "certificate.pem" // certificate and key
	nextKeyFile     = "certificate-next.key"
	// askCertificateEach is how often the agent checks whether another certificate is due, or is given at all.
	askCertificateEach = time.Hour
)

// shown is the certificate of new connections; empty if there is none.
func (a *agentCertificate) shown() *tls.Certificate {
	if p := a.pair.Load(); p != nil {
		return p
	}
	return &tls.Certificate{}
}

func (a *agentCertificate) load() error {
	path := filepath.Join(a.dir, certificateFile)
	b, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	pair, err := tls.X509KeyPair(b, b)
	if err != nil {
		return fmt.Errorf("%s: %w; remove it, and give the host a new token: lantern host renew %s", path, err, a.host)
	}
	a.pair.Store(&pair)
	return nil
}

// due reports whether a certificate must be requested.
func (a *agentCertificate) due(now time.Time) bool {
	p := a.pair.Load()
	return p == nil || now.After(p.Leaf.NotAfter.Add(-authority.Renew))
}

// keep requests a certificate whenever one is due, until ctx ends.
func (a *agentCertificate) keep(ctx context.Context, client *api.ClientWithResponses, t *connections) {
	for (clock.Real{}).Sleep(ctx, askCertificateEach) == nil {
		a.ask(ctx, client, t)
	}
}

// ask requests a certificate once if one is due. Without one the agent continues: the service says whether it needs
// one.
func (a *agentCertificate) ask(ctx context.Context, client *api.ClientWithResponses, t *connections) {
	if !a.due(time.Now()) {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	got, err := a.next(ctx, client)
	switch {
	case err != nil:
		a.log.Warn("no certificate was issued; asking again in an hour", "error", err)
	case got:
		t.anew() // new connections use it
		a.log.Info("has a certificate", "until", a.pair.Load().Leaf.NotAfter)
	}
}

// next gets a certificate for the next key; got is false if the service uses none.
func (a *agentCertificate) next(ctx context.Context, client *api.ClientWithResponses) (got bool, err error) {
	key, request, err := a.nextKey()
	if err != nil {
		return false, err
	}
	r, err := client.AskCertificateWithResponse(ctx, api.AskCertificate{Request: request})
	switch {
	case err != nil:
		return false, err
	case r.StatusCode() == http.StatusNoContent, r.StatusCode() == http.StatusNotFound: // an older service
		return false, nil
	case r.JSON200 == nil && r.ApplicationproblemJSONDefault != nil:
		p := r.ApplicationproblemJSONDefault
		return false, errors.New(strings.TrimSpace(p.Title + " " + p.Detail))
	case r.JSON200 == nil:
		return false, fmt.Errorf("the service answered %d", r.StatusCode())
	}
	whole := append([]byte(r.JSON200.Certificate), key...)
	pair, err := tls.X509KeyPair(whole, whole)
	if err != nil {
		return false, fmt.Errorf("the certificate cannot be used: %w", err)
	}
	if err := agent.WriteWhole(filepath.Join(a.dir, certificateFile), whole); err != nil {
		return false, err
	}
	a.pair.Store(&pair)
	return true, os.Remove(filepath.Join(a.dir, nextKeyFile))
}

// connections are the connections to a service. They can be opened again: an open connection keeps the certificate with
// which it was opened.
type connections struct {
	now atomic.Pointer[http.Transport]
}

func newConnections(t *http.Transport) *connections {
	c := &connections{}
	c.now.Store(t)
	return c
}

// RoundTrip implements http.RoundTripper.
func (c *connections) RoundTrip(r *http.Request) (*http.Response, error) {
	return c.now.Load().RoundTrip(r)
}

func (c *connections) anew() {
	old := c.now.Swap(c.now.Load().Clone())
	old.CloseIdleConnections()
}

func parseKey(der []byte) (*ecdsa.PrivateKey, error) {
	k, err := x509.ParsePKCS8PrivateKey(der)
	if err != nil {
		return nil, err
	}
	private, ok := k.(*ecdsa.PrivateKey)
	if !ok {
		return nil, errors.New("it is of another kind")
	}
	return private, nil
}

// nextKey is the key for the next certificate, PKCS 8 in PEM, and a request for it.
func (a *agentCertificate) nextKey() (key, request []byte, err error) {
	path := filepath.Join(a.dir, nextKeyFile)
	key, err = os.ReadFile(path)
	if err == nil {
		if block, _ := pem.Decode(key); block != nil {
			if private, err := parseKey(block.Bytes); err == nil {
				request, err = authority.RequestFor(private, a.host)
				return key, request, err
			}
		}
	} else if !errors.Is(err, os.ErrNotExist) {
		return nil, nil, err
	}
	if key, request, err = authority.Request(a.host); err != nil {
		return nil, nil, err
	}
	return key, request, agent.WriteWhole(path, key)
}
