package views

import (
	"lantern/internal/service/bays"
	"lantern/internal/service/fleet"
	"lantern/internal/service/inventory"
	"lantern/internal/service/judging"
	"lantern/internal/service/ledger"
	"lantern/internal/service/orders"
	"lantern/internal/service/progress"
	"lantern/internal/service/readings"
	"lantern/internal/service/recoveries"
	"lantern/internal/service/selftests"
	"lantern/internal/service/stock"
	"lantern/internal/service/swaps"
)

// State holds views that combine several packages. It has no lock of its own: its methods must be called with the lock
// of the service held.
type State struct {
	*ledger.Ledger
	fleet      *fleet.State
	recoveries *recoveries.State
	readings   *readings.State
	judging    *judging.State
	orders     *orders.State
	progress   *progress.State
	bays       *bays.State
	selftests  *selftests.State
	stock      *stock.State
	swaps      *swaps.State
	inventory  *inventory.State

	kept  kept // of the round
	pools poolLists
	hosts seenHosts
}

// New makes an empty State.
func New(
	l *ledger.Ledger,
	fleetState *fleet.State,
	recoveriesState *recoveries.State,
	readingsState *readings.State,
	judgingState *judging.State,
	ordersState *orders.State,
	progressState *progress.State,
	baysState *bays.State,
	selftestsState *selftests.State,
	stockState *stock.State,
	swapsState *swaps.State,
	inventoryState *inventory.State,
) *State {
	return &State{
		Ledger:     l,
		fleet:      fleetState,
		recoveries: recoveriesState,
		readings:   readingsState,
		judging:    judgingState,
		orders:     ordersState,
		progress:   progressState,
		bays:       baysState,
		selftests:  selftestsState,
		stock:      stockState,
		swaps:      swapsState,
		inventory:  inventoryState,
	}
}

// Service is for calls from other packages at any time: its methods take the lock.
type Service struct {
	*State
	mu *ledger.Lock
}

// NewService makes the Service of a State and its lock.
func NewService(s *State, mu *ledger.Lock) *Service { return &Service{s, mu} }
