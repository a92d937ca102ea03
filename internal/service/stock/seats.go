package stock

import (
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/swap"
	"lantern/internal/service/fleet"
	"lantern/internal/wire"
)

// RoomFor is the least size of a drive that takes the place of one whose members lie on partitions or other layers: what its partitions
// need; as much as it has itself where its table is not known, or where what lies between takes some room that nobody here knows.
func (s *State) RoomFor(d *fleet.Drive) drive.Bytes {
	t, err := wire.ToPartitionTable(d.Layout)
	if err != nil || len(t.Parts) == 0 {
		return d.Desc.Capacity
	}
	return drive.Bytes(t.Needs())
}

// NewAt finds the new drive of a swap in a pool: at the seat, or where else the pool has put it.
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
