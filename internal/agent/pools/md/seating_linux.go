package md

import (
	"strconv"
	"strings"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
)

// seating gives each device of an array its place.
type seating struct {
	d      *Driver
	pool   *pool.Pool
	mem    *memory
	keys   func(string) string
	size   uint64 // bytes that the array uses of each member
	offset uint64 // bytes before the data
	bySlot []pool.Member
	fills  *device // what is being filled
}

// empty makes n places with nothing in them.
func (s *seating) empty(n int) {
	s.bySlot = make([]pool.Member, n)
	for i := range s.bySlot {
		s.bySlot[i] = pool.Member{
			Slot:   strconv.Itoa(i),
			State:  pool.Missing,
			Domain: s.d.host,
			Size:   drive.Bytes(s.size),
			Used:   drive.Bytes(s.size),
			Needs:  drive.Bytes(s.size + s.offset),
		}
	}
}

// member is what a device reports about itself.
func (s *seating) member(m *device) pool.Member {
	x := pool.Member{
		Device: m.name,
		Drive:  s.keys("/dev/" + m.name),
		Domain: s.d.host,
		Size:   drive.Bytes(m.size),
		Used:   drive.Bytes(s.size),
		Needs:  drive.Bytes(s.size + s.offset),
	}
	x.BadBlocks = len(strings.Fields(m.attr("bad_blocks"))) / 2 // a line each: where, and how many sectors
	if m.super != nil {
		x.Errors.Read = uint64(m.super.Corrected)
	}
	if n, err := strconv.ParseUint(m.attr("errors"), 10, 64); err == nil {
		x.Errors.Read = max(x.Errors.Read, n)
	}
	return x
}

// slot is the place of a device: what the kernel says, what it said before the device failed, or what the device's own
// superblock says, which was written last while it still had its place.
func (s *seating) slot(m *device) string {
	if at, err := strconv.Atoi(m.slot); err == nil && at < len(s.bySlot) {
		s.mem.slots[m.name] = m.slot
	} else if m.is("faulty") && s.mem.slots[m.name] != "" {
		return s.mem.slots[m.name]
	} else if m.is("faulty") && m.super != nil && m.super.Role() < RoleJournal {
		return strconv.Itoa(int(m.super.Role()))
	}
	return m.slot
}

// take puts a device into the place that it has: as a member, a spare or a log device.
func (s *seating) take(m *device) {
	x, slot := s.member(m), s.slot(m)
	at, err := strconv.Atoi(slot)
	broken := m.is("faulty") || m.gone
	switch {
	case m.is("journal") || slot == "journal":
		x.Slot, x.State = "journal", pool.Online
		if broken {
			x.State = pool.Faulty
		}
		s.pool.Logs = append(s.pool.Logs, x)
		return
	case err != nil || at >= len(s.bySlot):
		x.Slot, x.State = "spare."+m.name, pool.Standby
		// What it could hold, and what stands before that: as much as is asked of a new one.
		x.Size = drive.Bytes(m.size + s.offset)
		if broken {
			x.State = pool.Faulty
		}
		s.pool.Spares = append(s.pool.Spares, x)
		return
	case m.is("replacement"):
		s.fills = m
		return // it fills beside the one that is replaced, which still carries its share
	case broken && s.bySlot[at].State != pool.Missing:
		return // another has its place already
	case m.is("faulty"):
		x.State = pool.Faulty
	case m.gone:
		x.State = pool.Missing // the kernel finds out with its next write there
	case m.is("in_sync"):
		x.State = pool.Online
		if m.is("want_replacement") || m.is("write_error") {
			x.State = pool.Failing
		}
	default:
		x.State = pool.Recovering
		s.fills = m
	}
	x.Slot = slot
	s.bySlot[at] = x
}
