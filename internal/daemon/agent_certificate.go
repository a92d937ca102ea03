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

// agentCertificate is what an agent shows the service beside its token, in its folder: the certificate with its key,
// and the key for which the next one is asked, so that it is asked for the same one where an answer was lost.
type agentCertificate struct {
	dir, host string
	log       *slog.Logger
	pair      atomic.Pointer[tls.Certificate]
}

const (
	certificateFile = "certificate.pem" // certificate and key
	nextKeyFile     = "certificate-next.key"
	// askCertificateEach is how often it is looked whether another is due, or is given at all.
	askCertificateEach = time.Hour
)

// shown is what connections show; empty where there is none.
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

// due reports whether one is to be asked for.
func (a *agentCertificate) due(now time.Time) bool {
	p := a.pair.Load()
	return p == nil || now.After(p.Leaf.NotAfter.Add(-authority.Renew))
}

// keep asks whenever another is due, until ctx ends.
func (a *agentCertificate) keep(ctx context.Context, client *api.ClientWithResponses, t *connections) {
	for (clock.Real{}).Sleep(ctx, askCertificateEach) == nil {
		a.ask(ctx, client, t)
	}
}

// ask asks once, where it is due. Without a certificate the agent goes on: the service says whether it needs one.
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
		t.anew() // those that are made from now on show it
		a.log.Info("has a certificate", "until", a.pair.Load().Leaf.NotAfter)
	}
}

// next gets one for the next key; got is false where the service uses none.
func (a *agentCertificate) next(ctx context.Context, client *api.ClientWithResponses) (got bool, err error) {
	key, request, err := a.nextKey()
	if err != nil {
		return false, err
	}
	r, err := client.AskCertificateWithResponse(ctx, api.AskCertificate{Request: request})
	switch {
	case err != nil:
		return false, err
	case r.StatusCode() == http.StatusNoContent, r.StatusCode() == http.StatusNotFound: // an older service knows none
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

// connections are those to a service. They can be made anew: those that are open show what they were made with.
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

// nextKey is the key for which the next one is asked, PKCS 8 in PEM, and a request for it.
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
