package notices

import (
	"fmt"
	"time"

	"lantern/internal/core/health"
	"lantern/internal/core/notice"
)

// How long before the service's certificate expires people are notified, first and again.
const (
	certificateSoon = 21 * 24 * time.Hour
	certificateNow  = 3 * 24 * time.Hour
)

// CertificateEnds records when the service's certificate expires.
func (s *Service) CertificateEnds(at time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.own.certificate = at
}

// certificate is the matter of the service's certificate; ok is false while there is none. With an expired certificate
// no agent can report, so that no drive is watched.
func (s *State) certificate(now time.Time) (m notice.Matter, ok bool) {
	ends := s.own.certificate
	if ends.IsZero() || ends.Sub(now) > certificateSoon {
		return m, false
	}
	m = notice.Matter{
		Key:      "service/certificate",
		Kind:     notice.Service,
		Severity: health.Watch,
		Says:     fmt.Sprintf("the service's certificate ends on %s", ends.UTC().Format("2006-01-02 15:04Z")),
		Do:       "Put a new certificate where --cert and --key point. It is read within seconds, without a restart.",
	}
	if ends.Sub(now) <= certificateNow {
		m.Severity = health.Replace
	}
	if !ends.After(now) {
		m.Says = fmt.Sprintf("the service's certificate ended on %s, so agents cannot report",
			ends.UTC().Format("2006-01-02 15:04Z"))
	}
	return m, true
}
