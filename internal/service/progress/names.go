package progress

import (
	"slices"
	"strings"

	"lantern/internal/api"
	"lantern/internal/core/pool"
)

// MemberNames resolves the label tails among names of members to the keys of their drives.
func (s *State) MemberNames(p *pool.Pool, names []string) []string {
	out := slices.Clone(names)
	for i, n := range out {
		if _, _, ok := p.Slot(n); ok {
			continue
		}
		var found []string
		for _, key := range p.Drives(s.fleet.Below) {
			if d := s.fleet.Drives[key]; d != nil &&
				(key == n || strings.EqualFold(d.Tail(), n) || d.Desc.TailMatches(n)) {
				found = append(found, key)
			}
		}
		if len(found) == 1 {
			out[i] = found[0]
		}
	}
	return out
}

// LostWith gives the places of a pool that are lost with drives below it: none where a pool in between can lose them.
func (s *State) LostWith(p *pool.Pool, names []string) (out []string) {
	var below []string
	for _, n := range names {
		if s.fleet.Drives[n] == nil || len(p.SlotsOf(n)) > 0 || !slices.Contains(p.Drives(s.fleet.Below), n) {
			out = append(out, n)
		} else {
			below = append(below, n)
		}
	}
	if len(below) == 0 {
		return out
	}
	q := p.WithoutDrives(s.fleet.Below, below) // together: a pool may bear each loss alone, but not all of them
	q.Everyone(func(_ string, m *pool.Member) {
		if was, _, _ := p.Slot(
			m.Slot,
		); m.State == pool.Missing && was.State != pool.Missing &&
			!slices.Contains(out, m.Slot) {
			out = append(out, m.Slot)
		}
	})
	return out
}

func (s *State) Label(p *pool.Pool) func(slot string) api.LostMember {
	all := map[string]api.LostMember{}
	p.Everyone(func(_ string, m *pool.Member) {
		v := api.LostMember{Slot: m.Slot, Drive: m.Drive}
		if d := s.fleet.Drives[m.Drive]; d != nil {
			v.Tail, v.Bay = d.Tail(), d.BayName()
		}
		all[m.Slot] = v
	})
	return func(slot string) api.LostMember { return all[slot] }
}
