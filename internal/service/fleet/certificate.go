package fleet

import (
	"crypto/x509"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/authority"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// Certificate is a certificate issued to a host's agent. Whole certificates are compared, so that somebody with a copy
// of the service's records, including its certificate authority, cannot create a valid one.
type Certificate struct {
	Fingerprint string    `json:"fingerprint"`
	Key         string    `json:"key"` // of its public key
	Ends        time.Time `json:"ends"`
}

// mostCertificates is the number of valid certificates of a host: an answer may be lost, and another certificate
// requested.
const mostCertificates = 5

// CertificatesOf are the certificates of a host that have not expired.
func CertificatesOf(h *store.Host, now time.Time) (out []Certificate) {
	if len(h.Certificates) > 0 {
		_ = json.Unmarshal(h.Certificates, &out) // it was written here
	}
	return slices.DeleteFunc(out, func(c Certificate) bool { return now.After(c.Ends) })
}

// Authority gives the service's certificate authority, which is created on first use.
func (s *Service) Authority() (*authority.Authority, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.authority != nil {
		return s.authority, nil
	}
	rows, err := store.All[store.Authority](s.Store, "id", "")
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		if s.authority, err = authority.Decode(row.Key, row.Cert); err != nil {
			return nil, err
		}
		if s.now().Before(s.authority.Cert.NotAfter.Add(-authority.Lasts)) {
			return s.authority, nil
		}
	}
	a, err := authority.New(s.now())
	if err != nil {
		return nil, err
	}
	key, cert, err := a.Encode()
	if err != nil {
		return nil, err
	}
	b := &store.Batch{}
	b.Put(&store.Authority{ID: ledger.NewID(), Key: key, Cert: cert})
	if err := s.Commit(b); err != nil {
		return nil, err
	}
	s.authority = a
	return a, nil
}

// Shows refuses an agent that does not present one of its host's certificates, if the host has any. shown is nil where
// it presented none.
func (s *Service) Shows(host string, shown *x509.Certificate) error {
	s.mu.RLock()
	defer s.mu.RUnlock()
	h := s.Hosts[host]
	if h == nil {
		return nil
	}
	all := CertificatesOf(&h.Host, s.now())
	if len(all) == 0 && len(h.Certificates) == 0 || holds(all, shown) {
		return nil
	}
	return problem.New(
		401,
		"no-certificate",
		"If its agent lost its folder, or its certificate has expired: lantern host renew "+host,
		"The token of %s came without the certificate of its agent.",
		host,
	)
}

func holds(all []Certificate, shown *x509.Certificate) bool {
	return shown != nil && slices.ContainsFunc(all, func(c Certificate) bool {
		return c.Fingerprint == authority.Fingerprint(shown)
	})
}

// Certify issues a certificate for an agent's key. The first one requires the host's token; each further one requires a
// valid certificate, or the same key again, as after a lost answer.
func (s *Service) Certify(host string, request []byte, shown *x509.Certificate) (api.AgentCertificate, error) {
	a, err := s.Authority()
	if err != nil {
		return api.AgentCertificate{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	h := s.Hosts[host]
	if h == nil {
		return api.AgentCertificate{}, NoHost(s.State, host)
	}
	now := s.now()
	all := CertificatesOf(&h.Host, now)
	key := authority.KeyOf(request)
	again := slices.ContainsFunc(all, func(c Certificate) bool { return c.Key == key })
	if len(h.Certificates) > 0 && !again && !holds(all, shown) {
		return api.AgentCertificate{}, problem.New(
			401,
			"no-certificate",
			"If its agent lost its folder, or its certificate has expired: lantern host renew "+host,
			"%s has a certificate already, and its agent does not show it.",
			host,
		)
	}
	cert, err := a.Sign(request, host, now)
	if err != nil {
		return api.AgentCertificate{}, problem.Forever(422, "bad-request", "Use the agent of this version.",
			"The certificate request cannot be used: %s.", err)
	}
	all = append(all, Certificate{authority.Fingerprint(cert), authority.PublicKey(cert), cert.NotAfter})
	h.Certificates = ledger.Document(all[max(0, len(all)-mostCertificates):])
	row := h.Host
	b := &store.Batch{}
	b.Put(&row)
	s.AddEvent(b, api.EventKindHost, host, fmt.Sprintf("the agent of %s got a certificate, valid until %s", host,
		cert.NotAfter.Format("2006-01-02")))
	return api.AgentCertificate{Certificate: authority.PEM(cert), EndsAt: cert.NotAfter}, s.Commit(b)
}
