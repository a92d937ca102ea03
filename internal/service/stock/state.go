package stock

import (
	"sync"

	"lantern/internal/service/fleet"
	"lantern/internal/service/judging"
	"lantern/internal/service/ledger"
	"lantern/internal/service/orders"
	"lantern/internal/service/selftests"
)

// State is the drives that are to replace others: those kept for it, and their tests before they are trusted. It has no
// lock of its own: whoever calls its methods holds the lock of the service.
type State struct {
	*ledger.Ledger
	fleet     *fleet.State
	judging   *judging.State
	orders    *orders.State
	selftests *selftests.State

	AcceptanceByID map[string]*Acceptance
	policy         acceptPolicy
}

// New makes a State in which nothing is known yet.
func New(
	l *ledger.Ledger,
	fleetState *fleet.State,
	judgingState *judging.State,
	ordersState *orders.State,
	selftestsState *selftests.State,
) *State {
	return &State{Ledger: l, fleet: fleetState, judging: judgingState, orders: ordersState, selftests: selftestsState}
}

// Service is what others call at any time: its methods take the lock.
type Service struct {
	*State
	mu *sync.Mutex
}

// NewService lets others call a State under a lock.
func NewService(s *State, mu *sync.Mutex) *Service { return &Service{s, mu} }
