package people

import (
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/store"
)

// State holds the persons who may sign in. It has no lock of its own: its methods must be called with the lock of the
// service held.
type State struct {
	*ledger.Ledger
	fleet    *fleet.State
	tokens   seen[store.Token]
	sessions seen[store.Session]
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
