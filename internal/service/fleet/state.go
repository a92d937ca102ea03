package fleet

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"lantern/internal/api"
	"lantern/internal/authority"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/history"
	"lantern/internal/service/ledger"
	"lantern/internal/store"
)

// State is what is known of hosts, drives and pools. It has no lock of its own: whoever calls its methods holds the
// lock of the service.
type State struct {
	*ledger.Ledger
	index

	Work Work // set once, before anything is asked
	// Bought gives the keys of other drives that were bought in one batch with one; set once. BadLinksVersion is to change
	// with what it gives.
	Bought func(d *Drive) []string

	Hosts  map[string]*Host
	Drives map[string]*Drive
	Pools  map[string]*Pool
	// Batches are the keys of drives whose serials begin alike. BadLinks are the tails, by key, of the drives whose
	// link was bad, by bay.
	Batches  map[string][]string
	BadLinks map[string]map[string]string
	// BadLinksVersion changes with them.
	BadLinksVersion int
	// Layouts and Spots are what people found out of bays that no enclosure tells of, by host.
	Layouts  map[string][]enclosure.Layout
	Spots    map[string][]enclosure.Spot
	Names    Names
	Practice api.Practice // set when this is one
	// Nothing is said before GraceUntil, while hosts that were there before a restart have not had time to report.
	GraceUntil time.Time
}

// New makes a State in which nothing is known yet.
func New(l *ledger.Ledger) *State {
	s := &State{Ledger: l, Bought: func(*Drive) []string { return nil }}
	s.index = index{of: s, claimed: map[string]bool{}, tokens: map[string]string{}}
	return s
}

// Service is what others call at any time: its methods take the lock.
type Service struct {
	*State
	mu        *sync.Mutex
	authority *authority.Authority // nil until it is asked for
}

// NewService lets others call a State under a lock.
func NewService(s *State, mu *sync.Mutex) *Service { return &Service{State: s, mu: mu} }

// After a start, hosts that were known are given so long to report before anybody is told that they are silent.
const (
	Grace     = 70 * time.Second
	graceWall = 10 * time.Second
)

// LoadDrives makes the drives from what is in the store.
func (s *State) LoadDrives() error {
	s.index.version++
	s.Drives, s.Batches, s.BadLinks = map[string]*Drive{}, map[string][]string{}, map[string]map[string]string{}
	drives, err := store.All[store.Drive](s.Store, "key", "")
	if err != nil {
		return err
	}
	for _, row := range drives {
		d := &Drive{Record: history.Record{}}
		if err := json.Unmarshal(row.Doc, &d.Facts); err != nil {
			return fmt.Errorf("facts of drive %s: %w", row.Key, err)
		}
		if d.Section != "" && d.How == "" {
			d.How = enclosure.Told // it was noted before bays could be known otherwise
		}
		s.Know(row.Key, d)
		for _, bay := range d.BadLinks {
			s.BadLink(row.Key, d, bay)
		}
	}
	return nil
}

// LoadHosts makes the hosts, and the pools of their newest reports, from what is in the store.
func (s *State) LoadHosts() error {
	if err := s.loadNames(); err != nil {
		return err
	}
	s.Hosts, s.Pools, s.index.pools = map[string]*Host{}, map[string]*Pool{}, map[string]map[string]*Pool{}
	hosts, err := store.All[store.Host](s.Store, "name", "")
	if err != nil {
		return err
	}
	for _, row := range hosts {
		h := &Host{Host: row}
		if len(row.Report) > 0 {
			if err := json.Unmarshal(row.Report, &h.LastReport); err != nil {
				return fmt.Errorf("report of host %s: %w", row.Name, err)
			}
		}
		if err := remember(s, h); err != nil {
			return err
		}
		s.Hosts[row.Name] = h
	}
	// Of hosts that told of one pool, one after the other, the last one speaks for it.
	for _, h := range slices.SortedFunc(maps.Values(s.Hosts), func(a, b *Host) int {
		return cmp.Or(a.SeenAt.Compare(b.SeenAt), cmp.Compare(a.Name, b.Name))
	}) {
		if err := takePools(s, h); err != nil {
			return err
		}
	}
	if len(hosts) > 0 {
		s.GraceUntil = s.Clock.Now().Add(s.Clock.AtLeast(Grace, graceWall))
	}
	return nil
}
