package fleet

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/authority"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/history"
	"lantern/internal/service/ledger"
	"lantern/internal/store"
)

// State holds the hosts, drives and pools. It has no lock of its own: its methods must be called with the lock of the
// service held.
type State struct {
	*ledger.Ledger
	index

	Work Work // set once, before first use
	// Bought gives the keys of the other drives of the same purchase batch; set once. BadLinksVersion must change when
	// its answers change.
	Bought func(d *Drive) []string

	Hosts  map[string]*Host
	Drives map[string]*Drive
	Pools  map[string]*Pool
	// Batches are the keys of drives with the same beginning of their serials. BadLinks are the tails, by key, of the
	// drives with link errors, by bay.
	Batches  map[string][]string
	BadLinks map[string]map[string]string
	// BadLinksVersion changes with them.
	BadLinksVersion int
	// Layouts and Spots are people's descriptions and observations of bays that no enclosure reports, by host.
	Layouts  map[string][]enclosure.Layout
	Spots    map[string][]enclosure.Spot
	Names    Names
	Practice api.Practice // set when this is one
	// No notices are made before GraceUntil: after a restart, known hosts need time to report.
	GraceUntil time.Time
}

// New makes an empty State.
func New(l *ledger.Ledger) *State {
	s := &State{Ledger: l, Bought: func(*Drive) []string { return nil }}
	s.index = index{
		of:           s,
		claimed:      map[string]bool{},
		claimedPools: map[string]bool{},
		tokens:       map[string]string{},
		onHost:       map[string]*hostDrives{},
	}
	return s
}

// Service is for calls from other packages at any time: its methods take the lock.
type Service struct {
	*State
	mu        *ledger.Lock
	authority *authority.Authority // nil until first used
}

// NewService makes the Service of a State and its lock.
func NewService(s *State, mu *ledger.Lock) *Service { return &Service{State: s, mu: mu} }

// After a start, known hosts have this time to report before anybody is notified that they do not.
const (
	Grace     = 70 * time.Second
	graceWall = 10 * time.Second
)

// LoadDrives loads the drives from the store.
func (s *State) LoadDrives() error {
	s.index.onHost, s.index.marked = map[string]*hostDrives{}, nil
	s.index.byPlace, s.index.byAge = nil, nil
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
			d.How = enclosure.Told // a record from before bays could be known in other ways
		}
		s.Know(row.Key, d)
		for _, bay := range d.BadLinks {
			s.BadLink(row.Key, d, bay)
		}
	}
	return nil
}

// LoadHosts loads the hosts, and the pools of their newest reports, from the store.
func (s *State) LoadHosts() error {
	if err := s.loadNames(); err != nil {
		return err
	}
	s.Hosts, s.Pools, s.index.pools = map[string]*Host{}, map[string]*Pool{}, map[string]map[string]*Pool{}
	s.index.byName = nil
	s.index.poolChanges.AddAll()
	s.index.poolsVersion++
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
	// If several hosts reported a pool one after the other, it belongs to the last one.
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
