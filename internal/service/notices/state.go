package notices

import (
	"time"

	"lantern/internal/api"
	"lantern/internal/channel"
	"lantern/internal/core/notice"
	"lantern/internal/service/bays"
	"lantern/internal/service/fleet"
	"lantern/internal/service/judging"
	"lantern/internal/service/ledger"
	"lantern/internal/service/progress"
	"lantern/internal/service/recoveries"
	"lantern/internal/service/swaps"
	"lantern/internal/store"
)

// State holds the notices, and the channels through which they are sent. It has no lock of its own: its methods must be
// called with the lock of the service held.
type State struct {
	*ledger.Ledger
	fleet      *fleet.State
	recoveries *recoveries.State
	judging    *judging.State
	progress   *progress.State
	bays       *bays.State
	swaps      *swaps.State

	Open       []notice.Notice
	notifiedAt time.Time // when notices were last updated
	uses       map[string][]store.PoolUse
	channels   []Outlet
	deliveries []*store.Delivery // not done
	sending    map[string]bool   // channels that are sending now
	own        own               // matters of the service itself
	sender     channel.Sender
}

// own are the matters of the service itself.
type own struct {
	cried time.Time              // when people were last notified that nothing can be recorded; zero when recording works
	wrong map[string]wrongTokens // by address

	certificate time.Time // when the certificate expires; zero without one
	backups     Backups
	copying     Copying
	sites       []api.Site // of a headquarters, that cannot be reached
	base        string     // address of the console; empty if not set
}

// New makes an empty State.
func New(
	l *ledger.Ledger,
	fleetState *fleet.State,
	recoveriesState *recoveries.State,
	judgingState *judging.State,
	progressState *progress.State,
	baysState *bays.State,
	swapsState *swaps.State,
) *State {
	return &State{
		Ledger:     l,
		fleet:      fleetState,
		recoveries: recoveriesState,
		judging:    judgingState,
		progress:   progressState,
		bays:       baysState,
		swaps:      swapsState,
	}
}

// Service is for calls from other packages at any time: its methods take the lock.
type Service struct {
	*State
	mu *ledger.Lock
}

// NewService makes the Service of a State and its lock.
func NewService(s *State, mu *ledger.Lock) *Service { return &Service{s, mu} }
