package people

import (
	"sync"

	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/store"
)

// State is who may sign in. It has no lock of its own: whoever calls its methods holds the lock of the service.
type State struct {
	*ledger.Ledger
	fleet    *fleet.State
	tokens   seen[store.Token]
	sessions seen[store.Session]
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
