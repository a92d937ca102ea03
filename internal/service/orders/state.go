package orders

import (
	"encoding/json"
	"fmt"

	"lantern/internal/api"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/store"
)

// State is the orders to hosts that have no outcome yet. It has no lock of its own: its methods must be called with the
// lock of the service held.
type State struct {
	*ledger.Ledger
	fleet *fleet.State

	Waiting map[string]*Order        // by id
	wake    map[string]chan struct{} // by host
}

// New makes an empty State.
func New(l *ledger.Ledger, fleetState *fleet.State) *State {
	return &State{Ledger: l, fleet: fleetState, wake: map[string]chan struct{}{}}
}

// Service is for calls from other packages at any time: its methods take the lock.
type Service struct {
	*State
	mu *ledger.Lock
}

// NewService makes the Service of a State and its lock.
func NewService(s *State, mu *ledger.Lock) *Service { return &Service{s, mu} }

// Load loads the orders without an outcome from the store.
func (s *State) Load() error {
	s.Waiting = map[string]*Order{}
	rows, err := store.All[store.Order](s.Store, "id", "state = ?", string(api.OrderStateWaiting))
	if err != nil {
		return err
	}
	for _, row := range rows {
		if err := s.take(row); err != nil {
			return err
		}
	}
	return nil
}

func (s *State) take(row store.Order) error {
	o := &Order{SwapID: row.Swap, Nth: row.Nth, LightID: row.Light}
	if err := json.Unmarshal(row.Doc, &o.Order); err != nil {
		return fmt.Errorf("order %s: %w", row.ID, err)
	}
	s.Waiting[row.ID] = o
	return nil
}
