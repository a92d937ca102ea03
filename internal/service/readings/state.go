package readings

import (
	"sync"
	"time"

	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
)

// State is the readings of all drives: their records in memory, and the blocks and rows in the store. It has no lock of
// its own: whoever calls its methods holds the lock of the service.
type State struct {
	*ledger.Ledger
	fleet *fleet.State

	behind map[string]bool // drives of which something came that is not in their records yet
	// unsaved are drives of which the store has no record.
	unsaved map[string]bool
	savedAt time.Time       // real time: when records of such drives were kept last
	full    map[string]bool // drives that have many readings which are not in blocks
	ticked  time.Time       // the newest tick of the clock
	forgot  time.Time       // when old ids were last let go
}

// New makes a State in which nothing is known yet.
func New(l *ledger.Ledger, fleetState *fleet.State) *State {
	return &State{Ledger: l, fleet: fleetState, behind: map[string]bool{}, full: map[string]bool{},
		unsaved: map[string]bool{}}
}

// Service is what others call at any time: its methods take the lock.
type Service struct {
	*State
	mu *sync.Mutex
}

// NewService lets others call a State under a lock.
func NewService(s *State, mu *sync.Mutex) *Service { return &Service{s, mu} }
