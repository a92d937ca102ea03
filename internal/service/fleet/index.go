package fleet

import (
	"cmp"
	"crypto/subtle"
	"maps"
	"slices"
	"time"

	"lantern/internal/service/secret"
)

// index finds without looking at everything. What it holds may be old: whoever uses it looks whether it is still so.
type index struct {
	of    *State
	pools map[string]map[string]*Pool // by drive and id
	// claimed are the keys of drives of which another host than theirs speaks, and perhaps of some that were.
	claimed map[string]bool
	tokens  map[string]string // the host by the hash of its token
	// version changes with the set of drives that are known; byPlace and byAge are all of them in an order.
	version        int
	byPlace, byAge order
	changed        []*Drive  // those that changed since they were taken
	settledAt      time.Time // when it was last looked for moments that lie ahead
}

// order are all drives in an order.
type order struct {
	version int
	drives  []*Drive
}

// of brings the order up to date. What drives are ordered by changes seldom, so most times it only looks whether it
// did.
func (o *order) ordered(s *State, by func(a, b *Drive) int) []*Drive {
	if o.version != s.index.version || len(o.drives) != len(s.Drives) {
		o.version, o.drives = s.index.version, slices.Collect(maps.Values(s.Drives))
	}
	if !slices.IsSortedFunc(o.drives, by) {
		slices.SortFunc(o.drives, by)
	}
	return o.drives
}

// ByPlace are all drives in the order of their hosts and bays. They must not be changed.
func (x *index) ByPlace() []*Drive { return x.byPlace.ordered(x.of, ByPlace) }

// TakeChanged gives the drives of which something changed since it was called last, and those that are new.
func (x *index) TakeChanged() []*Drive {
	out := x.changed
	x.changed = nil
	for _, d := range out {
		d.changed = false
	}
	return out
}

// ByHost gives the drives of hosts, in the order of their bays, as long as no drive goes to another host. They must not
// be changed.
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

// ByAge are all drives, the one that was first seen first. They must not be changed.
func (x *index) ByAge() []*Drive {
	return x.byAge.ordered(x.of, func(a, b *Drive) int {
		return cmp.Or(a.FirstAt.Compare(b.FirstAt), cmp.Compare(a.Key(), b.Key()))
	})
}

// HostOf says which host's token it is.
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
