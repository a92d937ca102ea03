// Package inventory stores what people record about drives: purchase, warranty, batch, notes, and the state of each in
// its life.
package inventory

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"lantern/internal/core/inventory"
	"lantern/internal/service/fleet"
	"lantern/internal/service/judging"
	"lantern/internal/service/ledger"
	"lantern/internal/store"
)

// State holds the records, by serial. It has no lock of its own: its methods must be called with the lock of the
// service held.
type State struct {
	*ledger.Ledger
	fleet   *fleet.State
	judging *judging.State

	items map[string]*inventory.Item // by serial in capitals
	// batches are the serials of each batch, nil when they must be computed again; bySerial are the drives of each
	// serial, valid for that number of drives and the fleet's version gone.
	batches     map[string][]string
	bySerial    map[string][]*fleet.Drive
	known, gone int
	other       bool // batches changed, and siblings were not judged again yet
}

// New makes an empty State.
func New(l *ledger.Ledger, fleetState *fleet.State, judgingState *judging.State) *State {
	return &State{Ledger: l, fleet: fleetState, judging: judgingState, items: map[string]*inventory.Item{}}
}

// Service is for calls from other packages at any time: its methods take the lock.
type Service struct {
	*State
	mu *ledger.Lock
}

// NewService makes the Service of a State and its lock.
func NewService(s *State, mu *ledger.Lock) *Service { return &Service{s, mu} }

// Load loads the items from the store.
func (s *State) Load() error {
	s.items, s.batches = map[string]*inventory.Item{}, nil
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
	s.batches = nil
	return nil
}

// Bought gives the keys of the other drives of the same purchase batch.
func (s *State) Bought(d *fleet.Drive) (out []string) {
	i := s.Of(d)
	if i == nil || i.Batch == "" {
		return nil
	}
	if s.batches == nil {
		s.batches = map[string][]string{}
		for k, x := range s.items {
			if x.Batch != "" {
				s.batches[strings.ToUpper(x.Batch)] = append(s.batches[strings.ToUpper(x.Batch)], k)
			}
		}
	}
	own := d.Key()
	for _, serial := range s.batches[strings.ToUpper(i.Batch)] {
		for _, x := range s.drives()[serial] {
			if k := x.Key(); k != own {
				out = append(out, k)
			}
		}
	}
	slices.Sort(out)
	return out
}

// Rename moves the record of a drive from one serial to another, in a batch. Where both have a record, the fields of
// the second take precedence, and missing ones are taken from the first.
func (s *State) Rename(b *store.Batch, from, to string) {
	old := s.items[key(from)]
	if old == nil || key(from) == key(to) || key(to) == "" {
		return
	}
	next := inventory.Item{Serial: to}
	if is := s.items[key(to)]; is != nil {
		next = *is
	}
	for _, f := range inventory.Fields {
		if text := f.Get(old); text != "" && f.Get(&next) == "" {
			_, _ = next.Set(f.Name, text) // it was taken before
		}
	}
	next.Notes = append(slices.Clone(old.Notes), next.Notes...)
	b.Drop(&store.Inventory{Serial: key(from)})
	b.Put(&store.Inventory{Serial: key(to), Doc: ledger.Document(next)})
	delete(s.items, key(from))
	s.items[key(to)], s.batches = &next, nil
}

// key is the normalised form of a serial by which an item is found.
func key(serial string) string { return strings.ToUpper(strings.TrimSpace(serial)) }

// Of is what is known of a drive; nil when nothing is.
func (s *State) Of(d *fleet.Drive) *inventory.Item { return s.items[key(d.Desc.Serial)] }

// Items are all records, by serial in capitals.
func (s *State) Items() map[string]*inventory.Item { return s.items }
