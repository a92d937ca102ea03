package selftests

import (
	"sync"
	"time"

	"lantern/internal/core/selftest"
	"lantern/internal/service/fleet"
	"lantern/internal/service/judging"
	"lantern/internal/service/ledger"
	"lantern/internal/service/orders"
	"lantern/internal/store"
)

// State is the plans of self-tests, and those under way. It has no lock of its own: whoever calls its methods holds the
// lock of the service.
type State struct {
	*ledger.Ledger
	fleet   *fleet.State
	judging *judging.State
	orders  *orders.State

	Ended func(b *store.Batch, r *Run) // who is told that a self-test has ended

	Runs  map[string]*Run // those under way, by drive
	plans map[string]*plan
	Items []selftest.Item
	at    itemIndex
	// unplaced are the tests that find no place, and why.
	unplaced map[noPlace]string
	planner  planner
	turnAt   time.Time // when it is next looked at what is due
	// Background is for how many drives it is worked out while others are served.
	Background int
}

// planner is how far planning is: at is when places are looked over again, shape what they were made for.
type planner struct {
	at    time.Time
	shape string
	pace  pace
	draft *draft // nil while nothing is being worked out
	// unwritten are planned tests that are not written down yet: places in Items.
	unwritten []*selftest.Item
}

// New makes a State in which nothing is known yet.
func New(l *ledger.Ledger, fleetState *fleet.State, judgingState *judging.State, ordersState *orders.State) *State {
	return &State{Ledger: l, fleet: fleetState, judging: judgingState, orders: ordersState, Background: 3000}
}

// Service is what others call at any time: its methods take the lock.
type Service struct {
	*State
	mu *sync.Mutex
}

// NewService lets others call a State under a lock.
func NewService(s *State, mu *sync.Mutex) *Service { return &Service{s, mu} }
