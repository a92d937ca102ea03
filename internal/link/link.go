// Package link makes connections to a service over which a token may travel.
package link

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"
)

// Options are how a service is known and trusted.
type Options struct {
	CA          string // file with the certificates, PEM, of who vouches for the service; empty for the system's
	Fingerprint string // SHA-256 of the service's own certificate, hexadecimal; then no authority is needed
	Clear       bool   // the token may travel over plain HTTP
	// Shown gives the certificate that is shown to the service; nil, or one that is empty, for none.
	Shown func() *tls.Certificate
}

// Transport connects to a service. It refuses plain HTTP to anything but this machine, unless that is allowed: others
// on the network could read the token.
func Transport(server string, o Options) (*http.Transport, error) {
	u, err := url.Parse(server)
	if err != nil || u.Host == "" {
		return nil, fmt.Errorf("%q is not the address of a service, such as https://lantern.example:7411", server)
	}
	if u.Scheme == "http" && !o.Clear && !loopback(u.Hostname()) {
		return nil, fmt.Errorf("the token would travel to %s in the clear: use https://, or say --cleartext", u.Host)
	}
	t := http.DefaultTransport.(*http.Transport).Clone() // its type is documented
	t.ResponseHeaderTimeout = 2 * time.Minute            // longer than any wait for orders
	if o.CA == "" && o.Fingerprint == "" && o.Shown == nil {
		return t, nil
	}
	t.TLSClientConfig = &tls.Config{MinVersion: tls.VersionTLS12}
	if o.Shown != nil {
		t.TLSClientConfig.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) {
			return o.Shown(), nil
		}
	}
	if o.CA != "" {
		pem, err := os.ReadFile(o.CA)
		if err != nil {
			return nil, fmt.Errorf("read the authority's certificate: %w", err)
		}
		t.TLSClientConfig.RootCAs = x509.NewCertPool()
		if !t.TLSClientConfig.RootCAs.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no PEM certificate", o.CA)
		}
	}
	if o.Fingerprint != "" {
		want, err := hex.DecodeString(strings.ToLower(strings.ReplaceAll(o.Fingerprint, ":", "")))
		if err != nil || len(want) != sha256.Size {
			return nil, errors.New("a fingerprint is the SHA-256 of the service's certificate: 64 hexadecimal digits")
		}
		// A pinned certificate is trusted itself, whoever signed it.
		t.TLSClientConfig.InsecureSkipVerify = true
		t.TLSClientConfig.VerifyConnection = func(c tls.ConnectionState) error {
			if got := sha256.Sum256(c.PeerCertificates[0].Raw); string(got[:]) != string(want) {
				return fmt.Errorf("the service's certificate has the fingerprint %x, not the one that was given", got)
			}
			return nil
		}
	}
	return t, nil
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}
