package stock

import (
	"lantern/internal/service/fleet"
	"lantern/internal/service/judging"
	"lantern/internal/service/ledger"
	"lantern/internal/service/orders"
	"lantern/internal/service/selftests"
)

// State holds the stock of drives, and the acceptance tests. It has no lock of its own: its methods must be called with
// the lock of the service held.
type State struct {
	*ledger.Ledger
	fleet     *fleet.State
	judging   *judging.State
	orders    *orders.State
	selftests *selftests.State

	AcceptanceByID map[string]*Acceptance
	policy         acceptPolicy
}

// New makes an empty State.
func New(
	l *ledger.Ledger,
	fleetState *fleet.State,
	judgingState *judging.State,
	ordersState *orders.State,
	selftestsState *selftests.State,
) *State {
	return &State{Ledger: l, fleet: fleetState, judging: judgingState, orders: ordersState, selftests: selftestsState}
}

// Service is for calls from other packages at any time: its methods take the lock.
type Service struct {
	*State
	mu *ledger.Lock
}

// NewService makes the Service of a State and its lock.
func NewService(s *State, mu *ledger.Lock) *Service { return &Service{s, mu} }
