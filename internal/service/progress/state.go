package progress

import (
	"time"

	"lantern/internal/api"
	"lantern/internal/service/fleet"
	"lantern/internal/service/judging"
	"lantern/internal/service/ledger"
	"lantern/internal/service/orders"
	"lantern/internal/service/recoveries"
)

// State holds the priorities of recoveries by the hour. It has no lock of its own: its methods must be called with the
// lock of the service held.
type State struct {
	*ledger.Ledger
	fleet      *fleet.State
	recoveries *recoveries.State
	judging    *judging.State
	orders     *orders.State

	Hours  map[string]api.PriorityHours // by pool
	Turned map[string]time.Time         // by pool: when its priority was last ordered by its hours
}

// New makes an empty State.
func New(
	l *ledger.Ledger,
	fleetState *fleet.State,
	recoveriesState *recoveries.State,
	judgingState *judging.State,
	ordersState *orders.State,
) *State {
	return &State{Ledger: l, fleet: fleetState, recoveries: recoveriesState, judging: judgingState, orders: ordersState}
}

// Service is for calls from other packages at any time: its methods take the lock.
type Service struct {
	*State
	mu *ledger.Lock
}

// NewService makes the Service of a State and its lock.
func NewService(s *State, mu *ledger.Lock) *Service { return &Service{s, mu} }
