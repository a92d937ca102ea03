package views

import (
	"cmp"
	"maps"
	"slices"

	"lantern/internal/api"
	"lantern/internal/service/fleet"
)

// listedPool is what lists of pools need of one of them.
type listedPool struct {
	*fleet.Pool
	margin int // far below zero where unknown
	known  bool
	place  string
	block  api.HorizonBlock // without what is under way
}

// listedPlace is a place with its pools, in the order of their margins.
type listedPlace struct {
	n       int // its position among all places
	pools   []*listedPool
	block   api.HorizonBlock // all of them together, without what is under way
	current bool             // whether block is that of the pools as they are now
}

// poolLists keeps the lists of pools. Only pools that changed are looked at again.
type poolLists struct {
	seen    int             // the number of the changes of pools that are included
	stale   map[string]bool // by host: it does not report
	rooms   int             // the version of the rooms
	layered map[string]bool // ids of pools on other pools, which change with them
	of      map[string]*listedPool
	order   []*listedPool // nil when it must be made again, with places
	places  []*listedPlace
	placeOf map[string]*listedPlace
	// systems are valid for one version of the pools.
	systems        []api.PoolSystem
	systemsVersion int
}

// seenHosts are the hosts with their rooms, as they were when they were last looked at.
type seenHosts struct {
	names, rooms []string
	version      int
}

// rooms is a number that changes with the set of hosts and with their rooms.
func (s *State) rooms() int {
	k := &s.hosts
	same := len(k.names) == len(s.fleet.Hosts)
	for i := 0; same && i < len(k.names); i++ {
		h := s.fleet.Hosts[k.names[i]]
		same = h != nil && h.Room == k.rooms[i]
	}
	if !same {
		*k = seenHosts{version: k.version + 1}
		for name, h := range s.fleet.Hosts {
			k.names, k.rooms = append(k.names, name), append(k.rooms, h.Room)
		}
	}
	return k.version
}

// byMargin puts pools in the order of their margins, unknown ones before all.
func byMargin(a, b *listedPool) int {
	return cmp.Or(cmp.Compare(a.margin, b.margin), cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID))
}

// followPools updates the lists of pools.
func (s *State) followPools() {
	k := &s.pools
	ids, next, all := s.fleet.ChangedPools(k.seen)
	again := maps.Clone(k.layered)
	if rooms := s.rooms(); all || k.of == nil || rooms != k.rooms {
		*k = poolLists{of: map[string]*listedPool{}, layered: map[string]bool{}, stale: map[string]bool{}, rooms: rooms}
		again = map[string]bool{}
		for id := range s.fleet.Pools {
			again[id] = true
		}
	}
	k.seen = next
	turned, now := map[string]bool{}, s.Clock.Now()
	for name, h := range s.fleet.Hosts {
		if late := s.fleet.Late(h, now); late != k.stale[name] {
			k.stale[name], turned[name] = late, true
		}
	}
	for _, id := range ids {
		again[id] = true
	}
	if len(turned) > 0 {
		for id, p := range k.of {
			if turned[p.Reporter] {
				again[id] = true
			}
		}
	}
	for id := range again {
		s.listPool(id)
	}
	if k.order == nil {
		s.orderPools()
	}
}

// listPool puts a pool into the lists as it is now, or removes it.
func (s *State) listPool(id string) {
	k := &s.pools
	p, was := s.fleet.Pools[id], k.of[id]
	delete(k.layered, id)
	if p == nil {
		if was != nil {
			delete(k.of, id)
			k.order = nil
		}
		return
	}
	if p.Layered() {
		k.layered[id] = true
	}
	margin, known := s.fleet.Margin(p)
	x := &listedPool{Pool: p, margin: int(margin), known: known && !s.stalePool(p), place: s.placeOf(p)}
	if !x.known {
		x.margin = -1 << 20
	}
	x.block = s.block(x)
	if was == nil || was.margin != x.margin || was.block.Name != x.Name || was.place != x.place {
		k.of[id], k.order = x, nil
		return
	}
	*was = *x
	if k.order != nil {
		k.placeOf[x.place].current = false
	}
}

// orderPools sorts the pools, and their places by the first pool of each.
func (s *State) orderPools() {
	k := &s.pools
	k.order = slices.SortedFunc(maps.Values(k.of), byMargin)
	k.places, k.placeOf = nil, map[string]*listedPlace{}
	for _, p := range k.order {
		at := k.placeOf[p.place]
		if at == nil {
			at = &listedPlace{n: len(k.places)}
			k.places, k.placeOf[p.place] = append(k.places, at), at
		}
		at.pools = append(at.pools, p)
	}
}

// poolsByMargin are all pools, the one with the least margin first, unknown ones before all. The slice must not be
// changed.
func (s *State) poolsByMargin() []*listedPool {
	s.followPools()
	return s.pools.order
}

// stalePool reports whether the shown state of a pool is old, because the pool or its host no longer reports.
func (s *State) stalePool(p *fleet.Pool) bool {
	h := s.fleet.Hosts[p.Reporter]
	return !p.Unseen.IsZero() || h == nil || s.fleet.Late(h, s.Clock.Now())
}

// placeOf is the place of a pool: the room of its first host, or that host.
func (s *State) placeOf(p *fleet.Pool) string {
	hosts := p.Hosts()
	if len(hosts) == 0 {
		return cmp.Or(s.fleet.RoomOf(p.Reporter), p.Reporter)
	}
	return cmp.Or(s.fleet.RoomOf(hosts[0]), hosts[0])
}

// placeBlocks are the blocks of all places without what is under way, the worst first. The slice may be changed.
func (s *State) placeBlocks() []api.HorizonBlock {
	s.followPools()
	out := make([]api.HorizonBlock, len(s.pools.places))
	for i, at := range s.pools.places {
		if !at.current {
			at.block = at.pools[0].block
			for _, p := range at.pools[1:] {
				at.block = JoinBlocks(at.block, p.block)
			}
			at.block.Name, at.block.Places, at.current = at.pools[0].place, 1, true
		}
		out[i] = at.block
	}
	return out
}

// moving are the ids of the pools of which the newest recovery is under way.
func (s *State) moving() map[string]bool {
	out := map[string]bool{}
	for _, c := range s.recoveries.Underway() {
		if s.fleet.Pools[c.PoolID] != nil {
			out[c.PoolID] = true
		}
	}
	return out
}

// block is one pool as a block, without what is under way.
func (s *State) block(p *listedPool) api.HorizonBlock {
	b := api.HorizonBlock{Name: p.Name, Pools: 1, Known: p.known, CapacityBytes: int64(p.Capacity)}
	margin, told := s.fleet.Margin(p.Pool)
	b.Margin = int(margin)
	full := p.Pool.FullMargin(s.fleet.Below)
	if !told {
		b.Margin = full // Known says that it is unknown
	}
	if p.known && p.margin < full {
		b.Below = 1
	}
	if !p.UsedUnknown {
		b.UsedBytes, b.MeasuredBytes = int64(p.Used), int64(p.Capacity)
	}
	return b
}
