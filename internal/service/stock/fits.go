package stock

import (
	"fmt"
	"slices"
	"strings"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/swap"
	"lantern/internal/service/fleet"
	"lantern/internal/wire"
)

// PlaceOf gives the requirements for a drive in the place of a member, as for a swap. ok is false where they are not
// known.
func (s *State) PlaceOf(p *pool.Pool, m pool.Member) (place swap.State, why string, ok bool) {
	size, ok := p.Fit(m.Slot)
	if !ok {
		return place, "", false
	}
	place = swap.State{Pool: p.Name, PoolID: p.ID, Slot: m.Slot, Host: m.Domain, Needs: size.Least, AtMost: size.Most}
	why = size.WhyLeast
	old := s.fleet.Drives[m.Drive]
	if old != nil {
		place.Old = *s.SwapDrive(old)
		place.Host = old.Host
	}
	if old != nil && (m.Partition > 0 || len(m.Layers) > 0) {
		if whole := s.RoomFor(old); whole > place.Needs {
			place.Needs, why = whole, "the whole drive with all its partitions"
		}
		if m.Partition > 0 {
			place.Recipe.Steps = []swap.Phase{swap.Layout}
		}
	}
	return place, why, true
}

// Offered reports whether a swap of the place would use this free drive without carrying it to another host.
func Offered(place swap.State, d swap.Drive, host string) bool {
	return place.Unfit(d) == "" && (place.Host == "" || host == place.Host)
}

// SpareOffered is the same for a spare of the pool.
func (s *State) SpareOffered(p *pool.Pool, place swap.State, spare *pool.Member) bool {
	if spare.Slot == place.Slot || p.SpareFits(place.Slot, spare) != "" {
		return false
	}
	d := s.fleet.Drives[spare.Drive]
	if d == nil || !d.Present {
		return false
	}
	v := *s.SwapDrive(d)
	if v.Member == p.Name && v.Spare {
		v.Member, v.Holds, v.Blank = "", "", true // a spare carries the metadata of its own pool
	}
	return Offered(place, v, d.Host)
}

// fitsPools names the pools in which a drive could replace a member, wherever the drive is now.
func (s *State) fitsPools(d swap.Drive) (names []string) {
	for _, p := range s.fleet.Pools {
		fits := false
		p.Everyone(func(group string, m *pool.Member) {
			if fits || m.Under != "" || m.State == pool.Standby {
				return
			}
			place, _, ok := s.PlaceOf(&p.Pool, *m)
			fits = ok && place.Unfit(d) == ""
		})
		if fits {
			names = append(names, p.Name)
		}
	}
	slices.Sort(names)
	return names
}

// LeftOver names the spares of a pool, and the stock drives on its hosts, that fit no place of it any more, as after a
// change to larger drives; and says that its places are then not covered. Empty when there are none.
func (s *State) LeftOver(p *fleet.Pool) string {
	if p == nil {
		return ""
	}
	var places []swap.State
	hosts := map[string]bool{}
	p.Everyone(func(group string, m *pool.Member) {
		if place, _, ok := s.PlaceOf(&p.Pool, *m); ok && group != "" {
			places = append(places, place)
			hosts[place.Host] = true
		}
	})
	var left []string
	covered := map[string]bool{}
	look := func(name string, takes func(place swap.State) bool) {
		fits := false
		for _, place := range places {
			if takes(place) {
				fits, covered[place.Slot] = true, true
			}
		}
		if !fits {
			left = append(left, name)
		}
	}
	for i := range p.Spares {
		if spare := &p.Spares[i]; spare.State == pool.Standby {
			name := "spare " + spare.Slot
			if d := s.fleet.Drives[spare.Drive]; d != nil {
				name = "spare " + d.Tail()
			}
			look(name, func(place swap.State) bool { return s.SpareOffered(&p.Pool, place, spare) })
		}
	}
	for key, d := range s.fleet.Drives {
		if d.Present && hosts[d.Host] && s.isStock(key, d) && s.fleet.Distrust(d) == "" {
			v := *s.SwapDrive(d)
			look("stock "+d.Tail(), func(place swap.State) bool { return Offered(place, v, d.Host) })
		}
	}
	if len(left) == 0 {
		return ""
	}
	slices.Sort(left)
	bare := 0
	for _, place := range places {
		if !covered[place.Slot] {
			bare++
		}
	}
	return fmt.Sprintf(
		"too small or otherwise unfit for every member now: %s. Not covered by a spare or stock: %d of %d members",
		strings.Join(left, ", "),
		bare,
		len(places),
	)
}

// RoomFor is the least size of a drive that replaces one whose members are on partitions or other layers: the size that
// its partitions need; its own size where its table is not known, or where layers in between take an unknown amount of
// space.
func (s *State) RoomFor(d *fleet.Drive) drive.Bytes {
	t, err := wire.ToPartitionTable(d.Layout)
	if err != nil || len(t.Parts) == 0 {
		return d.Desc.Capacity
	}
	return drive.Bytes(t.Needs())
}

// NewAt finds the new drive of a swap in a pool: at the seat, or elsewhere in the pool.
func (s *State) NewAt(p *fleet.Pool, key string, at swap.Seat) (m pool.Member, group string, ok bool) {
	if m, group, ok := p.Slot(at.Slot); ok && m.On(key) {
		return m, group, true
	}
	p.Everyone(func(g string, x *pool.Member) {
		if !ok && x.On(key) && x.Partition == at.Partition {
			m, group, ok = *x, g, true
		}
	})
	return m, group, ok
}

// SpareFor is the slot of the smallest spare of a pool that would take the place of a member, empty when none would.
func (s *State) SpareFor(p *fleet.Pool, m pool.Member, needs drive.Bytes) (slot string) {
	place, _, ok := s.PlaceOf(&p.Pool, m)
	if !ok {
		return ""
	}
	var size drive.Bytes
	for i := range p.Spares {
		if x := &p.Spares[i]; x.Size >= needs && s.SpareOffered(&p.Pool, place, x) && (slot == "" || x.Size < size) {
			slot, size = x.Slot, x.Size
		}
	}
	return slot
}
