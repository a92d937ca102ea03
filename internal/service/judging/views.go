package judging

import (
	"lantern/internal/api"
	"lantern/internal/core/pool"
	"lantern/internal/service/fleet"
	"lantern/internal/wire"
)

// Margins of the pools a drive is in, now and without it: the least of them. A spare, and one whose share was restored elsewhere, takes
// nothing with it.
func (s *State) Margins(at fleet.Place, key string) (now, after api.Margin) {
	first := true
	least := func(a, b api.Margin) api.Margin {
		if first || a.Known && (!b.Known || b.Members < a.Members) {
			return b
		}
		return a
	}
	at.Every(func(x fleet.Place) {
		n := wire.Margin(s.fleet.Margin(x.Pool))
		a := n
		if x.Member.State != pool.Out && x.Member.State != pool.Standby {
			left, _, known := s.fleet.Without(x.Pool, key, x.Member.Slot)
			a = wire.Margin(left, known)
		}
		now, after = least(now, n), least(after, a)
		first = false
	})
	return now, after
}
