package swaps

import (
	"lantern/internal/core/notice"
	"lantern/internal/core/swap"
	"lantern/internal/service/bays"
	"lantern/internal/service/fleet"
	"lantern/internal/service/judging"
	"lantern/internal/service/ledger"
	"lantern/internal/service/orders"
	"lantern/internal/service/people"
	"lantern/internal/service/progress"
	"lantern/internal/service/recoveries"
	"lantern/internal/service/selftests"
	"lantern/internal/service/stock"
)

// State holds the swaps and the campaigns. It has no lock of its own: its methods must be called with the lock of the
// service held.
type State struct {
	*ledger.Ledger
	fleet      *fleet.State
	people     *people.State
	recoveries *recoveries.State
	judging    *judging.State
	orders     *orders.State
	progress   *progress.State
	bays       *bays.State
	selftests  *selftests.State
	stock      *stock.State

	News func() []notice.Notice // the notices that are open

	SwapByID     map[string]*Swap
	planless     []string // ids of swaps that were not loaded: their plans are not in the records
	CampaignByID map[string]*swap.Campaign
}

// New makes an empty State.
func New(
	l *ledger.Ledger,
	fleetState *fleet.State,
	peopleState *people.State,
	recoveriesState *recoveries.State,
	judgingState *judging.State,
	ordersState *orders.State,
	progressState *progress.State,
	baysState *bays.State,
	selftestsState *selftests.State,
	stockState *stock.State,
) *State {
	return &State{
		Ledger:     l,
		fleet:      fleetState,
		people:     peopleState,
		recoveries: recoveriesState,
		judging:    judgingState,
		orders:     ordersState,
		progress:   progressState,
		bays:       baysState,
		selftests:  selftestsState,
		stock:      stockState,
	}
}

// Service is for calls from other packages at any time: its methods take the lock.
type Service struct {
	*State
	mu *ledger.Lock
}

// NewService makes the Service of a State and its lock.
func NewService(s *State, mu *ledger.Lock) *Service { return &Service{s, mu} }
