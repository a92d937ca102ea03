package recoveries

import (
	"slices"

	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
)

// State holds the courses of recoveries. It has no lock of its own: its methods must be called with the lock of the
// service held.
type State struct {
	*ledger.Ledger
	fleet *fleet.State

	Courses map[string]*Course // by id
	lists   lists
}

// New makes an empty State.
func New(l *ledger.Ledger, fleetState *fleet.State) *State {
	return &State{Ledger: l, fleet: fleetState}
}

// Service is for calls from other packages at any time: its methods take the lock.
type Service struct {
	*State
	mu *ledger.Lock
}

// NewService makes the Service of a State and its lock.
func NewService(s *State, mu *ledger.Lock) *Service { return &Service{s, mu} }

// MovesIn is the kind of the recovery that runs in a pool; empty when it does not recover.
func (s *State) MovesIn(p *fleet.Pool) string {
	for _, id := range slices.Backward(p.Running) {
		if c := s.Courses[id]; c != nil && c.Report.Kind != "" {
			return string(c.Report.Kind)
		}
	}
	if p.Recovers() {
		return "recovery"
	}
	return ""
}
