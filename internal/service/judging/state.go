package judging

import (
	"errors"

	"lantern/internal/core/health"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/service/readings"
	"lantern/internal/service/recoveries"
	"lantern/internal/store"
)

// State holds the findings of drives, and the rules. It has no lock of its own: its methods must be called with the
// lock of the service held.
type State struct {
	*ledger.Ledger
	fleet      *fleet.State
	recoveries *recoveries.State
	readings   *readings.State

	judged  *judgement
	touched ledger.Changes // keys of the drives that were judged again
	matters matters
	// unwritten are drives with changed findings that are not stored yet.
	unwritten map[string]bool
	foundLog  []*store.FoundLog

	settings   []store.Setting
	limits     map[[2]string]*health.Thresholds // by model and pool, made when first asked for
	own        []ownRule
	ownVersion int
	Shifts     map[string]health.Shift // by drive: what is unexpected about its place
}

// New makes an empty State.
func New(
	l *ledger.Ledger,
	fleetState *fleet.State,
	recoveriesState *recoveries.State,
	readingsState *readings.State,
) *State {
	return &State{Ledger: l, fleet: fleetState, recoveries: recoveriesState, readings: readingsState}
}

// Service is for calls from other packages at any time: its methods take the lock.
type Service struct {
	*State
	mu *ledger.Lock
}

// NewService makes the Service of a State and its lock.
func NewService(s *State, mu *ledger.Lock) *Service { return &Service{s, mu} }

// Load loads the rules and findings from the store.
func (s *State) Load() error {
	s.judged, s.matters, s.unwritten, s.foundLog = nil, matters{}, map[string]bool{}, nil
	return errors.Join(s.loadRules(), s.loadStanding())
}
