package views

import (
	"maps"
	"slices"

	"lantern/internal/api"
	"lantern/internal/service/fleet"
)

// Horizon shows all pools in a limited number of blocks, the worst first. A block is a pool; if there are more pools
// than blocks, a block is a place; if there are more places than blocks, the last block is all other places.
func (s *Service) Horizon(blocks int) api.Horizon {
	s.mu.RLock()
	defer s.mu.RUnlock()
	all, moving := s.poolsByMargin(), s.moving()
	out := api.Horizon{Pools: len(all), Grouped: len(all) > blocks, Blocks: []api.HorizonBlock{},
		Systems: s.systems(all)}
	if !out.Grouped {
		open := s.swapsByPool()
		for _, p := range all {
			b := p.block
			b.Moving = fleet.BoolInt(moving[p.ID])
			b.Pool = s.briefPool(p.Pool, open)
			out.Blocks = append(out.Blocks, b)
		}
		return out
	}
	out.Blocks = s.placeBlocks()
	for id := range moving {
		out.Blocks[s.pools.placeOf[s.pools.of[id].place].n].Moving++
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
func (s *State) systems(all []*listedPool) []api.PoolSystem {
	if k := &s.pools; k.systems == nil || k.systemsVersion != s.fleet.PoolsVersion() {
		k.systems, k.systemsVersion = systemsOf(all), s.fleet.PoolsVersion()
	}
	return s.pools.systems
}

// systemsOf are the systems of pools.
func systemsOf(all []*listedPool) []api.PoolSystem {
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
