package fleet

import (
	"bytes"
	"cmp"
	"crypto/subtle"
	"maps"
	"slices"
	"strings"
	"time"

	"lantern/internal/service/ledger"
	"lantern/internal/service/secret"
)

// index holds shortcuts through the fleet. An entry of tokens or claimed may be out of date, so each user of those
// checks it. The lists of drives are updated for the drives that changed, when one of them is asked for.
type index struct {
	of    *State
	pools map[string]map[string]*Pool // by drive and id
	// claimed are the keys of all drives that have claims, and perhaps of some that had; claimedPools are the ids of pools
	// that have claims or are contested, and perhaps of some that were.
	claimed      map[string]bool
	claimedPools map[string]bool
	tokens       map[string]string // host name by the hash of its token

	marked []*Drive               // drives that changed since the lists were updated
	onHost map[string]*hostDrives // by host; drives without one are under ""
	// byPlace and byAge are all drives, sorted, and byName all pools. A list is nil when it must be made again.
	hosts          []string // the keys of onHost, sorted
	byPlace, byAge []*Drive
	byName         []*Pool

	poolChanges  ledger.Changes // ids of pools that were added, changed or removed
	poolsVersion int            // changes with the names, kinds, hosts and offers of pools

	changed   []*Drive  // drives that changed since TakeChanged was called last
	settledAt time.Time // when settle last looked at everything
}

// listed is what the lists of the index depend on, as it was when a drive was last put into them.
type listed struct {
	in      bool // whether it is in them
	host    string
	section string
	bay     int
	present bool
	moved   bool // whether it was in another bay before
	first   int64
	desc    [3]string // its model, serial and WWN
}

// hostDrives are the drives of one host, and what follows from all of them.
type hostDrives struct {
	drives        []*Drive // in the order of their bays
	present       int
	movedOrShared []*Drive // present ones that were in another bay before, or share one with another drive
	names         []byte   // everything by which they are searched, in capitals
	ends          []int    // where in names the names of each drive end
	current       bool     // whether the fields above are those of the drives as they are now
}

// listedNow is what the lists depend on now.
func (d *Drive) listedNow() listed {
	return listed{
		in: d.index.of.Drives[d.key] == d, host: d.Host, section: d.Section, bay: d.Bay, present: d.Present,
		moved: len(d.Stays) > 1, first: d.FirstAt.UnixNano(), desc: [3]string{d.Desc.Model, d.Desc.Serial, d.Desc.WWN},
	}
}

// mark marks a drive for the next update of the lists.
func (x *index) mark(d *Drive) {
	if !d.marked {
		d.marked = true
		x.marked = append(x.marked, d)
	}
}

// list updates the lists for the drives that changed.
func (x *index) list() {
	for _, d := range x.marked {
		d.marked = false
		was, is := d.listed, d.listedNow()
		if was == is {
			continue
		}
		d.listed = is
		if was.in && (!is.in || was.host != is.host) {
			h := x.onHost[was.host]
			h.drives, h.current = slices.DeleteFunc(h.drives, func(o *Drive) bool { return o == d }), false
			if len(h.drives) == 0 {
				delete(x.onHost, was.host)
				x.hosts = nil
			}
		}
		if is.in {
			h := x.onHost[is.host]
			if h == nil {
				h = &hostDrives{}
				x.onHost[is.host] = h
				x.hosts = nil
			}
			if !was.in || was.host != is.host {
				h.drives = append(h.drives, d)
			}
			h.current = false
		}
		if was.in != is.in || was.host != is.host || was.section != is.section || was.bay != is.bay {
			x.byPlace = nil
		}
		if was.in != is.in || was.first != is.first {
			x.byAge = nil
		}
	}
	x.marked = x.marked[:0]
	if x.hosts == nil {
		x.hosts = slices.Sorted(maps.Keys(x.onHost))
	}
}

// on gives the drives of a host, or nil where it has none.
func (x *index) on(host string) *hostDrives {
	x.list()
	h := x.onHost[host]
	if h == nil || h.current {
		return h
	}
	slices.SortFunc(h.drives, ByPlace)
	h.current, h.present = true, 0
	h.movedOrShared, h.names, h.ends = nil, h.names[:0], h.ends[:0]
	var last *Drive // the present one before
	lastIn := false
	for _, d := range h.drives {
		for _, name := range []string{d.Desc.Serial, d.Desc.WWN, d.BayName(), d.Desc.Model} {
			h.names = append(append(h.names, strings.ToUpper(name)...), '\n')
		}
		h.ends = append(h.ends, len(h.names))
		if !d.Present {
			continue
		}
		h.present++
		together := last != nil && d.Section != "" && d.Section == last.Section && d.Bay == last.Bay
		if together && !lastIn {
			h.movedOrShared = append(h.movedOrShared, last)
		}
		last, lastIn = d, together || d.listed.moved
		if lastIn {
			h.movedOrShared = append(h.movedOrShared, d)
		}
	}
	return h
}

// PresentOn is the number of present drives of a host.
func (x *index) PresentOn(host string) int {
	if h := x.on(host); h != nil {
		return h.present
	}
	return 0
}

// MovedOrShared are the present drives that were in another bay before, or share one with another present drive, in the
// order of their hosts and bays.
func (x *index) MovedOrShared() (out []*Drive) {
	x.list()
	for _, host := range x.hosts {
		out = append(out, x.on(host).movedOrShared...)
	}
	return out
}

// WithName are the drives of which the serial, WWN, bay or model contains a word in capitals, in the order of their
// hosts and bays.
func (x *index) WithName(word string) (out []*Drive) {
	x.list()
	for _, host := range x.hosts {
		h := x.on(host)
		for from := 0; ; {
			i := bytes.Index(h.names[from:], []byte(word))
			if i < 0 || word == "" {
				break
			}
			n, _ := slices.BinarySearch(h.ends, from+i+1) // the first drive whose names do not end before that
			out = append(out, h.drives[n])
			from = h.ends[n]
		}
	}
	return out
}

// ByPlace are all drives in the order of their hosts and bays. The slice must not be changed.
func (x *index) ByPlace() []*Drive {
	if x.list(); x.byPlace == nil {
		x.byPlace = make([]*Drive, 0, len(x.of.Drives))
		for _, host := range x.hosts {
			x.byPlace = append(x.byPlace, x.on(host).drives...)
		}
	}
	return x.byPlace
}

// ByHost are the drives of a host, in the order of their bays. The slice is valid until a drive changes, and must not
// be changed.
func (x *index) ByHost(host string) []*Drive {
	if h := x.on(host); h != nil {
		return h.drives
	}
	return nil
}

// ByAge are all drives in the order in which they were first seen. The slice must not be changed.
func (x *index) ByAge() []*Drive {
	if x.list(); x.byAge == nil {
		x.byAge = slices.Collect(maps.Values(x.of.Drives))
		slices.SortFunc(x.byAge, func(a, b *Drive) int {
			return cmp.Or(a.FirstAt.Compare(b.FirstAt), cmp.Compare(a.Key(), b.Key()))
		})
	}
	return x.byAge
}

// SortedPools are all pools in the order of their names. The slice must not be changed.
func (x *index) SortedPools() []*Pool {
	if x.byName == nil {
		x.byName = slices.SortedFunc(maps.Values(x.of.Pools), byName)
	}
	return x.byName
}

// PoolsVersion changes with the names, kinds, hosts and offers of pools.
func (x *index) PoolsVersion() int { return x.poolsVersion }

// poolChanged records that a pool was added, changed or removed. other is true if a list of the names, kinds, hosts or
// offers of pools may differ now.
func (x *index) poolChanged(id string, other bool) {
	x.poolChanges.Add(id)
	if other {
		x.poolsVersion++
	}
}

// ChangedPools gives the ids of the pools that were added, changed or removed since the number from an earlier call,
// some of them several times, and the number for the next call; all is true where it may be any pool.
func (x *index) ChangedPools(since int) (ids []string, next int, all bool) {
	return x.poolChanges.Since(since, 4*len(x.of.Pools)+1000)
}

// byName puts pools in the order of their names.
func byName(a, b *Pool) int { return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID)) }

// TakeChanged gives the drives that changed or were added since its last call.
func (x *index) TakeChanged() []*Drive {
	out := x.changed
	x.changed = nil
	for _, d := range out {
		d.changed = false
	}
	return out
}

// DriveKeys are the keys of the drives that have a place in a pool. They must not be changed.
func (p *Pool) DriveKeys() map[string]bool { return p.drives }

// HostOf gives the host of a token.
func (s *Service) HostOf(token string) (string, bool) {
	s.mu.RLock()
	defer s.mu.RUnlock()
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
