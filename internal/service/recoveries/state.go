package recoveries

import (
	"sync"

	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
)

// State is the courses of recoveries. It has no lock of its own: whoever calls its methods holds the lock of the
// service.
type State struct {
	*ledger.Ledger
	fleet *fleet.State

	Courses map[string]*Course // by id
	inOrder []*Course          // nil when they must be put in order anew
}

// New makes a State in which nothing is known yet.
func New(l *ledger.Ledger, fleetState *fleet.State) *State {
	return &State{Ledger: l, fleet: fleetState}
}

// Service is what others call at any time: its methods take the lock.
type Service struct {
	*State
	mu *sync.Mutex
}

// NewService lets others call a State under a lock.
func NewService(s *State, mu *sync.Mutex) *Service { return &Service{s, mu} }
