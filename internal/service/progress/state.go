package progress

import (
	"sync"
	"time"

	"lantern/internal/api"
	"lantern/internal/service/fleet"
	"lantern/internal/service/judging"
	"lantern/internal/service/ledger"
	"lantern/internal/service/orders"
	"lantern/internal/service/recoveries"
)

// State is how fast recoveries go, and how fast they are asked to go. It has no lock of its own: whoever calls its
// methods holds the lock of the service.
type State struct {
	*ledger.Ledger
	fleet      *fleet.State
	recoveries *recoveries.State
	judging    *judging.State
	orders     *orders.State

	Hours  map[string]api.PriorityHours // by pool
	Turned map[string]time.Time         // by pool: when its priority was last ordered by its hours
}

// New makes a State in which nothing is known yet.
func New(
	l *ledger.Ledger,
	fleetState *fleet.State,
	recoveriesState *recoveries.State,
	judgingState *judging.State,
	ordersState *orders.State,
) *State {
	return &State{Ledger: l, fleet: fleetState, recoveries: recoveriesState, judging: judgingState, orders: ordersState}
}

// Service is what others call at any time: its methods take the lock.
type Service struct {
	*State
	mu *sync.Mutex
}

// NewService lets others call a State under a lock.
func NewService(s *State, mu *sync.Mutex) *Service { return &Service{s, mu} }
