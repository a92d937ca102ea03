package views

import (
	"cmp"
	"maps"
	"slices"

	"lantern/internal/api"
	"lantern/internal/core/recovery"
	"lantern/internal/service/fleet"
)

// placeOf is the place of a pool: the room of its first host, or that host.
func (s *State) placeOf(p *fleet.Pool) string {
	hosts := p.Hosts()
	if len(hosts) == 0 {
		return cmp.Or(s.fleet.RoomOf(p.Reporter), p.Reporter)
	}
	return cmp.Or(s.fleet.RoomOf(hosts[0]), hosts[0])
}

// Horizon shows all pools in a limited number of blocks, the worst first. A block is a pool; if there are more pools
// than blocks, a block is a place; if there are more places than blocks, the last block is all other places.
func (s *Service) Horizon(blocks int) api.Horizon {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := s.poolsByMargin()
	out := api.Horizon{Pools: len(all), Grouped: len(all) > blocks, Blocks: []api.HorizonBlock{},
		Systems: s.systems(all)}
	if !out.Grouped {
		open := s.swapsByPool()
		for _, p := range all {
			b := s.block(p)
			b.Pool = s.briefPool(p.Pool, open)
			out.Blocks = append(out.Blocks, b)
		}
		return out
	}
	at := map[string]int{}
	for _, p := range all {
		b := s.block(p)
		b.Name, b.Places = s.placeOf(p.Pool), 1
		if i, known := at[b.Name]; known {
			out.Blocks[i] = JoinBlocks(out.Blocks[i], b)
			out.Blocks[i].Places = 1
			continue
		}
		at[b.Name] = len(out.Blocks)
		out.Blocks = append(out.Blocks, b)
	}
	if len(out.Blocks) > blocks {
		rest := out.Blocks[blocks-1]
		for _, b := range out.Blocks[blocks:] {
			rest = JoinBlocks(rest, b)
		}
		rest.Name = ""
		out.Blocks = append(out.Blocks[:blocks-1], rest)
	}
	return out
}

// block is one pool as a block.
func (s *State) block(p ranked) api.HorizonBlock {
	b := api.HorizonBlock{Name: p.Name, Pools: 1, Known: p.known, CapacityBytes: int64(p.Capacity)}
	margin, told := s.fleet.Margin(p.Pool)
	b.Margin = int(margin)
	if !told {
		b.Margin = p.Pool.FullMargin(s.fleet.Below) // Known says that it is unknown
	}
	if p.known && p.margin < p.Pool.FullMargin(s.fleet.Below) {
		b.Below = 1
	}
	if c := s.recoveries.Newest(p.ID, ""); c != nil && (c.State == recovery.Running || c.State == recovery.Paused) {
		b.Moving = 1
	}
	if !p.UsedUnknown {
		b.UsedBytes, b.MeasuredBytes = int64(p.Used), int64(p.Capacity)
	}
	return b
}

// JoinBlocks merges two blocks, with the lower margin of the two.
func JoinBlocks(a, b api.HorizonBlock) api.HorizonBlock {
	a.Places += b.Places
	a.Pools += b.Pools
	a.Known = a.Known && b.Known
	a.Margin = min(a.Margin, b.Margin)
	a.Below += b.Below
	a.Moving += b.Moving
	a.CapacityBytes += b.CapacityBytes
	a.UsedBytes += b.UsedBytes
	a.MeasuredBytes += b.MeasuredBytes
	return a
}

// systems are the pool systems of which pools were reported. The slice must not be changed.
func (s *State) systems(all []ranked) []api.PoolSystem {
	if k := &s.kept.systems; k.of == nil || k.version != s.fleet.PoolsVersion() {
		*k = systems{s.fleet.PoolsVersion(), systemsOf(all)}
	}
	return s.kept.systems.of
}

// systemsOf are the systems of pools.
func systemsOf(all []ranked) []api.PoolSystem {
	const most = 12
	type system struct {
		names, hosts, offers map[string]bool
		pools                int
	}
	of := map[string]*system{}
	for _, p := range all {
		x := of[p.Kind]
		if x == nil {
			x = &system{map[string]bool{}, map[string]bool{}, map[string]bool{}, 0}
			of[p.Kind] = x
			for _, o := range p.Offers {
				x.offers[o] = true
			}
		}
		maps.DeleteFunc(x.offers, func(o string, _ bool) bool { return !slices.Contains(p.Offers, o) })
		x.names[p.Name] = true
		x.pools++
		for _, h := range p.Hosts() {
			x.hosts[h] = true
		}
	}
	first := func(names map[string]bool) []string {
		sorted := slices.Sorted(maps.Keys(names))
		return append([]string{}, sorted[:min(len(sorted), most)]...)
	}
	out := []api.PoolSystem{}
	for _, kind := range slices.Sorted(maps.Keys(of)) {
		x := of[kind]
		out = append(out, api.PoolSystem{Kind: kind, Pools: x.pools, Names: first(x.names), Hosts: first(x.hosts),
			HostCount: len(x.hosts), Offers: slices.AppendSeq([]string{}, slices.Values(slices.Sorted(maps.Keys(x.offers))))})
	}
	return out
}
