package fleet

import (
	"crypto/subtle"
	"fmt"
	"lantern/internal/api"
	"lantern/internal/service/problem"
	"lantern/internal/service/secret"
	"lantern/internal/store"
	"regexp"
)

// HostOf says which host's token it is.
func (s *Service) HostOf(token string) (string, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := secret.Hash(token)
	for _, x := range s.Hosts {
		if subtle.ConstantTimeCompare(x.TokenHash, h) == 1 {
			return x.Name, true
		}
	}
	return "", false
}

var hostName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// Enrol makes a host known and gives it a token. A host that is known gets a new one; its old one stops working.
func (s *Service) Enrol(by, name string) (string, error) {
	if !hostName.MatchString(name) {
		return "", problem.New(422, "bad-name", "Use small letters, digits and hyphens, such as skerry-2.", "%q cannot be a host's name.", name)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	token := secret.New(secret.HostPrefix)
	h := s.Hosts[name]
	if h == nil {
		h = &Host{Host: store.Host{Name: name, Enrolled: s.Clock.Now()}}
		s.Hosts[name] = h
	}
	h.TokenHash = secret.Hash(token)
	row := h.Host
	b := &store.Batch{}
	b.Put(&row)
	s.Happened(b, api.EventKindHost, name, fmt.Sprintf("%s enrolled %s", by, name))
	return token, s.Commit(b)
}
