package selftests

import (
	"time"

	"lantern/internal/core/selftest"
	"lantern/internal/service/fleet"
	"lantern/internal/service/judging"
	"lantern/internal/service/ledger"
	"lantern/internal/service/orders"
	"lantern/internal/store"
)

// State holds the plans of self-tests, and the running ones. It has no lock of its own: its methods must be called with
// the lock of the service held.
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
	// unplaced are the tests that have no place in their period, with the reason.
	unplaced map[noPlace]string
	planner  planner
	turnAt   time.Time // when due tests are checked next
	// Background is the number of drives from which plans are made in the background.
	Background int
}

// planner is the state of planning: at is the time of the next plan, shape the state of the fleet at the last one.
type planner struct {
	at    time.Time
	shape string
	// shapeAt is the real time at which the shape was last made.
	shapeAt time.Time
	pace    pace
	draft   *draft // nil if no plan is in the making
	// unwritten are planned tests, in Items, that are not stored yet.
	unwritten []*selftest.Item
}

// New makes an empty State.
func New(l *ledger.Ledger, fleetState *fleet.State, judgingState *judging.State, ordersState *orders.State) *State {
	return &State{Ledger: l, fleet: fleetState, judging: judgingState, orders: ordersState, Background: 3000}
}

// Service is for calls from other packages at any time: its methods take the lock.
type Service struct {
	*State
	mu     *ledger.Lock
	counts counts
}

// NewService makes the Service of a State and its lock.
func NewService(s *State, mu *ledger.Lock) *Service { return &Service{State: s, mu: mu} }
