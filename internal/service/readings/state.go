package readings

import (
	"time"

	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
)

// State holds the readings of all drives: their records in memory, and the blocks and rows in the store. It has no lock
// of its own: its methods must be called with the lock of the service held.
type State struct {
	*ledger.Ledger
	fleet *fleet.State

	behind map[string]bool // drives with readings that are not in their records yet
	// unsaved are drives of which the store has no record.
	unsaved map[string]bool
	savedAt time.Time       // real time: when records of such drives were last stored
	full    map[string]bool // drives that have many readings which are not in blocks
	ticked  time.Time       // the newest tick of the clock
	// thinNext is the place, in the order of all drives, where the next look for records to thin begins.
	thinNext int
	forgot   time.Time // when old ids were last deleted
}

// New makes an empty State.
func New(l *ledger.Ledger, fleetState *fleet.State) *State {
	return &State{Ledger: l, fleet: fleetState, behind: map[string]bool{}, full: map[string]bool{},
		unsaved: map[string]bool{}}
}

// Service is for calls from other packages at any time: its methods take the lock.
type Service struct {
	*State
	mu *ledger.Lock
}

// NewService makes the Service of a State and its lock.
func NewService(s *State, mu *ledger.Lock) *Service { return &Service{s, mu} }
