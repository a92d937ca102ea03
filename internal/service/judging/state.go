package judging

import (
	"errors"
	"sync"

	"lantern/internal/core/health"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/service/readings"
	"lantern/internal/service/recoveries"
	"lantern/internal/store"
)

// State is what is found of drives, and by which rules. It has no lock of its own: whoever calls its methods holds the
// lock of the service.
type State struct {
	*ledger.Ledger
	fleet      *fleet.State
	recoveries *recoveries.State
	readings   *readings.State

	judged *judgement
	// touched are the drives that were judged again, in order of time; touchedFrom is the number of the first of them.
	touched     []string
	touchedFrom int
	matters     matters
	// unwritten are drives of whose findings something changed that is not kept yet.
	unwritten map[string]bool
	foundLog  []*store.FoundLog

	settings   []store.Setting
	limits     map[[2]string]*health.Thresholds // by model and pool, made when first asked for
	own        []ownRule
	ownVersion int
	Shifts     map[string]health.Shift // by drive: what is odd about where it is
}

// New makes a State in which nothing is known yet.
func New(
	l *ledger.Ledger,
	fleetState *fleet.State,
	recoveriesState *recoveries.State,
	readingsState *readings.State,
) *State {
	return &State{Ledger: l, fleet: fleetState, recoveries: recoveriesState, readings: readingsState}
}

// Service is what others call at any time: its methods take the lock.
type Service struct {
	*State
	mu *sync.Mutex
}

// NewService lets others call a State under a lock.
func NewService(s *State, mu *sync.Mutex) *Service { return &Service{s, mu} }

// Load makes the rules and findings from what is in the store.
func (s *State) Load() error {
	s.judged, s.matters, s.unwritten, s.foundLog = nil, matters{}, map[string]bool{}, nil
	return errors.Join(s.loadRules(), s.loadStanding())
}
