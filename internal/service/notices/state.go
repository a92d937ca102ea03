package notices

import (
	"sync"
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

// State is what people ought to know, and the channels on which they are told. It has no lock of its own: whoever calls
// its methods holds the lock of the service.
type State struct {
	*ledger.Ledger
	fleet      *fleet.State
	recoveries *recoveries.State
	judging    *judging.State
	progress   *progress.State
	bays       *bays.State
	swaps      *swaps.State

	Open       []notice.Notice
	notifiedAt time.Time // when it was last looked at what people ought to know
	uses       map[string][]store.PoolUse
	channels   []Outlet
	deliveries []*store.Delivery // not done
	sending    map[string]bool   // channels on which something is being sent now
	own        own               // what is known of the service itself
	sender     channel.Sender
}

// own is what people are told of the service itself.
type own struct {
	cried time.Time              // when they were told last that nothing can be recorded; zero when it can
	wrong map[string]wrongTokens // by address

	certificate time.Time // when the certificate that is shown ends; zero without one
	backups     Backups
	copying     Copying
	sites       []api.Site // of a headquarters, that cannot be reached
	base        string     // where people reach the console; empty when nobody said
}

// New makes a State in which nothing is known yet.
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

// Service is what others call at any time: its methods take the lock.
type Service struct {
	*State
	mu *sync.Mutex
}

// NewService lets others call a State under a lock.
func NewService(s *State, mu *sync.Mutex) *Service { return &Service{s, mu} }
