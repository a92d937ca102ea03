// Package inventory keeps what people know of drives beyond what the drives tell: purchase, warranty, batch, notes, and
// where each is in its life.
package inventory

import (
	"encoding/json"
	"fmt"
	"strings"
	"sync"

	"lantern/internal/core/inventory"
	"lantern/internal/service/fleet"
	"lantern/internal/service/judging"
	"lantern/internal/service/ledger"
	"lantern/internal/store"
)

// State is what is known, by serial. It has no lock of its own: whoever calls its methods holds the lock of the service.
type State struct {
	*ledger.Ledger
	fleet   *fleet.State
	judging *judging.State

	items map[string]*inventory.Item // by serial in capitals
}

// New makes a State in which nothing is known yet.
func New(l *ledger.Ledger, fleetState *fleet.State, judgingState *judging.State) *State {
	return &State{Ledger: l, fleet: fleetState, judging: judgingState, items: map[string]*inventory.Item{}}
}

// Service is what others call at any time: its methods take the lock.
type Service struct {
	*State
	mu *sync.Mutex
}

// NewService lets others call a State under a lock.
func NewService(s *State, mu *sync.Mutex) *Service { return &Service{s, mu} }

// Load makes the items from what is in the store.
func (s *State) Load() error {
	s.items = map[string]*inventory.Item{}
	rows, err := store.All[store.Inventory](s.Store, "serial", "")
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

func (s *State) take(row store.Inventory) error {
	i := &inventory.Item{}
	if err := json.Unmarshal(row.Doc, i); err != nil {
		return fmt.Errorf("inventory of %s: %w", row.Serial, err)
	}
	s.items[row.Serial] = i
	return nil
}

// key is the form of a serial by which an item is found.
func key(serial string) string { return strings.ToUpper(strings.TrimSpace(serial)) }

// Of is what is known of a drive; nil when nothing is.
func (s *State) Of(d *fleet.Drive) *inventory.Item { return s.items[key(d.Desc.Serial)] }
