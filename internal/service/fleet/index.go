package fleet

import (
	"cmp"
	"crypto/subtle"
	"maps"
	"slices"
	"time"

	"lantern/internal/service/secret"
)

// index holds shortcuts through the fleet. An entry may be out of date, so each user of the index checks it.
type index struct {
	of    *State
	pools map[string]map[string]*Pool // by drive and id
	// claimed are the keys of all drives that have claims, and perhaps of some that had.
	claimed map[string]bool
	tokens  map[string]string // host name by the hash of its token
	// version changes with the set of known drives; byPlace and byAge are all of them, sorted.
	version        int
	byPlace, byAge order
	changed        []*Drive  // drives that changed since TakeChanged was called last
	settledAt      time.Time // when settle last looked at everything
}

// order is a sorted list of all drives.
type order struct {
	version int
	drives  []*Drive
}

// ordered updates the list. The order seldom changes, so usually this only checks it.
func (o *order) ordered(s *State, by func(a, b *Drive) int) []*Drive {
	if o.version != s.index.version || len(o.drives) != len(s.Drives) {
		o.version, o.drives = s.index.version, slices.Collect(maps.Values(s.Drives))
	}
	if !slices.IsSortedFunc(o.drives, by) {
		slices.SortFunc(o.drives, by)
	}
	return o.drives
}

// ByPlace are all drives in the order of their hosts and bays. The slice must not be changed.
func (x *index) ByPlace() []*Drive { return x.byPlace.ordered(x.of, ByPlace) }

// TakeChanged gives the drives that changed or were added since its last call.
func (x *index) TakeChanged() []*Drive {
	out := x.changed
	x.changed = nil
	for _, d := range out {
		d.changed = false
	}
	return out
}

// ByHost gives a function that finds the drives of a host, in the order of their bays. It is valid until a drive moves
// to another host. The drives' slice must not be changed.
func (x *index) ByHost() func(host string) []*Drive {
	all := x.ByPlace()
	return func(host string) []*Drive {
		from, _ := slices.BinarySearchFunc(all, host, func(d *Drive, host string) int { return cmp.Compare(d.Host, host) })
		to := from
		for to < len(all) && all[to].Host == host {
			to++
		}
		return all[from:to]
	}
}

// DriveKeys are the keys of the drives that have a place in a pool. They must not be changed.
func (p *Pool) DriveKeys() map[string]bool { return p.drives }

// ByAge are all drives in the order in which they were first seen. The slice must not be changed.
func (x *index) ByAge() []*Drive {
	return x.byAge.ordered(x.of, func(a, b *Drive) int {
		return cmp.Or(a.FirstAt.Compare(b.FirstAt), cmp.Compare(a.Key(), b.Key()))
	})
}

// HostOf gives the host of a token.
func (s *Service) HostOf(token string) (string, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	hash := secret.Hash(token)
	is := func(h *Host) bool { return h != nil && subtle.ConstantTimeCompare(h.TokenHash, hash) == 1 }
	if name, known := s.index.tokens[string(hash)]; known && is(s.Hosts[name]) {
		return name, true
	}
	delete(s.index.tokens, string(hash))
	for name, h := range s.Hosts {
		if is(h) {
			s.index.tokens[string(hash)] = name
			return name, true
		}
	}
	return "", false
}
