// Package authority signs the certificates that agents show to the service (RFC 5280, keys on P-256).
package authority

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"time"
)

// Lasts is for how long a certificate of an agent is valid; Renew is how long before its end it gets another.
const (
	Lasts = 90 * 24 * time.Hour
	Renew = Lasts / 3
)

const (
	ownLasts = 20 * 365 * 24 * time.Hour
	// early is how far back a certificate is valid: clocks differ.
	early = time.Hour
)

// Authority is the service's own.
type Authority struct {
	key  *ecdsa.PrivateKey
	Cert *x509.Certificate
}

// New makes one.
func New(now time.Time) (*Authority, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	t, err := template("lantern agents", now, ownLasts)
	if err != nil {
		return nil, err
	}
	t.IsCA, t.BasicConstraintsValid, t.MaxPathLenZero, t.KeyUsage = true, true, true, x509.KeyUsageCertSign
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return nil, err
	}
	cert, err := x509.ParseCertificate(der)
	return &Authority{key, cert}, err
}

func template(name string, now time.Time, lasts time.Duration) (*x509.Certificate, error) {
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127))
	return &x509.Certificate{
		SerialNumber: serial,
		Subject:      pkix.Name{CommonName: name},
		NotBefore:    now.Add(-early),
		NotAfter:     now.Add(lasts),
	}, err
}

// Encode gives the key (PKCS 8) and the certificate, both DER.
func (a *Authority) Encode() (key, cert []byte, err error) {
	key, err = x509.MarshalPKCS8PrivateKey(a.key)
	return key, a.Cert.Raw, err
}

// Decode reads the output of Encode.
func Decode(key, cert []byte) (*Authority, error) {
	k, err := x509.ParsePKCS8PrivateKey(key)
	if err != nil {
		return nil, fmt.Errorf("the authority's key: %w", err)
	}
	c, err := x509.ParseCertificate(cert)
	if err != nil {
		return nil, fmt.Errorf("the authority's certificate: %w", err)
	}
	private, ok := k.(*ecdsa.PrivateKey)
	if !ok || !private.PublicKey.Equal(c.PublicKey) {
		return nil, errors.New("the authority's key and certificate do not belong together")
	}
	return &Authority{private, c}, nil
}

// Sign makes a certificate for a request (PKCS 10, DER), which must be signed by its own key. The subject in the
// request is ignored.
func (a *Authority) Sign(request []byte, host string, now time.Time) (*x509.Certificate, error) {
	r, err := x509.ParseCertificateRequest(request)
	if err == nil {
		err = r.CheckSignature()
	}
	if err != nil {
		return nil, err
	}
	if k, ok := r.PublicKey.(*ecdsa.PublicKey); !ok || k.Curve != elliptic.P256() {
		return nil, errors.New("its key is not on the curve P-256")
	}
	t, err := template(host, now, Lasts)
	if err != nil {
		return nil, err
	}
	t.KeyUsage, t.ExtKeyUsage = x509.KeyUsageDigitalSignature, []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}
	der, err := x509.CreateCertificate(rand.Reader, t, a.Cert, r.PublicKey, a.key)
	if err != nil {
		return nil, err
	}
	return x509.ParseCertificate(der)
}

// KeyOf is the SHA-256 of a request's public key; empty where there is none.
func KeyOf(request []byte) string {
	r, err := x509.ParseCertificateRequest(request)
	if err != nil {
		return ""
	}
	return sum(r.RawSubjectPublicKeyInfo)
}

// Fingerprint is the SHA-256 of a whole certificate; PublicKey that of its public key.
func Fingerprint(c *x509.Certificate) string { return sum(c.Raw) }

// PublicKey is the SHA-256 of a certificate's public key.
func PublicKey(c *x509.Certificate) string { return sum(c.RawSubjectPublicKeyInfo) }

func sum(b []byte) string { return fmt.Sprintf("%x", sha256.Sum256(b)) }

// Request makes a key (PKCS 8, PEM) and a request for it (PKCS 10, DER).
func Request(host string) (key, request []byte, err error) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		return nil, nil, err
	}
	r, err := RequestFor(k, host)
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), r, err
}

// RequestFor makes a request for a key.
func RequestFor(key any, host string) ([]byte, error) {
	return x509.CreateCertificateRequest(
		rand.Reader,
		&x509.CertificateRequest{Subject: pkix.Name{CommonName: host}},
		key,
	)
}

// PEM is a certificate as files hold it.
func PEM(c *x509.Certificate) string {
	return string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw}))
}
