package fleet

import (
	"lantern/internal/api"
)

// SetPractice makes this service a practice: what it writes says so.
func (s *Service) SetPractice(p api.Practice) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.Practice = p
}
