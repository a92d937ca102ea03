package swap

import (
	"slices"
	"strings"
	"time"

	"lantern/internal/core/pool"
	"lantern/internal/core/record"
)

// SeatFacts are the facts about the pool of one place of the drive.
type SeatFacts struct {
	Pool *pool.Pool
	Slot string
	// Unknown says why the state of the pool is not known; empty when it is known.
	Unknown string
	// Witness is the second, independent source for the members and their states. WitnessAt is when it was read, zero
	// when it was not; Differs lists the differences between the two sources.
	Witness   string
	WitnessAt time.Time
	Differs   []string
}

// OtherUse is something that depends on the drive and belongs to no pool.
type OtherUse struct {
	Name   string // what of the drive it is on: "sda1"
	Says   string // in words
	Active bool   // the kernel uses it now
	Boot   bool   // a boot loader's: it can be created again, and holds no data
	Table  bool   // only a partition table: its partitions are listed themselves
}

// seats are the pools of all places of the drive; if the situation names none, its own pool.
func (c *checker) seats() []SeatFacts {
	if len(c.s.Seats) > 0 {
		return c.s.Seats
	}
	if c.s.Pool == nil {
		return nil
	}
	return []SeatFacts{{Pool: c.s.Pool, Slot: c.s.Plan.Slot}}
}

// left gives the least margin of the pools of the drive and of the pools built on them, now and without the drive. lost
// are the volumes that are lost without the drive.
func (c *checker) left() (before, after pool.Margin, lost []string, known bool) {
	slots := map[string][]string{}
	var pools []*pool.Pool
	for _, x := range c.seats() {
		if x.Pool == nil || x.Unknown != "" {
			return 0, 0, nil, false
		}
		if slots[x.Pool.ID] == nil {
			pools = append(pools, x.Pool)
		}
		slots[x.Pool.ID] = append(slots[x.Pool.ID], x.Slot)
	}
	known = len(pools) > 0
	without := func(id string) *pool.Pool {
		p := c.lookup(id)
		if p != nil && len(slots[id]) > 0 {
			q := p.Losing(slots[id]...)
			return &q
		}
		return p
	}
	for i, p := range pools {
		m, ok := p.DriveMargin(c.lookup)
		q := p.Losing(slots[p.ID]...)
		n, ok2 := q.DriveMargin(c.lookup)
		known = known && ok && ok2
		if i == 0 || m < before {
			before = m
		}
		if i == 0 || n < after {
			after = n
		}
		lost = append(lost, q.LostVolumes()...)
	}
	over, told := c.s.Above.Get()
	known = known && told
	for _, p := range over {
		n, ok := p.DriveMargin(without)
		known = known && ok
		after = min(after, n)
		q := p.Through(without)
		lost = append(lost, q.LostVolumes()...)
	}
	return before, after, lost, known
}

// lookup finds a pool of the situation by its id.
func (c *checker) lookup(id string) *pool.Pool {
	for _, x := range c.seats() {
		if x.Pool != nil && x.Pool.ID == id {
			return x.Pool
		}
	}
	if c.s.Below == nil {
		return nil
	}
	return c.s.Below(id)
}

// uses checks what depends on the drive besides its pools (R1). What the kernel uses now must be ended first; what is
// only stored there is lost with the drive, and the check says so.
func (c *checker) uses() {
	const id, title = "other-uses", "Other uses of the drive"
	p := c.s.Plan
	looked := "block devices, mounts and swap of " + p.Host
	uses, told := c.s.Uses.Get()
	if !told && keepsUses {
		do := "Bring a newer agent there, or look at the host by hand."
		if p.OldGone {
			c.add(id, title, looked, record.Warns, "what else used it is not known", "Check what else was on it.")
			return
		}
		c.add(id, title, looked, record.Stops, "what else uses it is not known", do)
		return
	}
	var active, lies, boot, names []string
	for _, u := range uses {
		switch {
		case u.Table:
		case u.Active:
			active = append(active, u.Says)
		case u.Boot:
			boot = append(boot, u.Says)
		default:
			lies, names = append(lies, u.Says), append(names, u.Name)
		}
	}
	switch {
	case len(active) > 0 && p.OldGone:
		c.add(
			id,
			title,
			looked,
			record.Warns,
			"it was also used for: "+strings.Join(active, "; "),
			"Take care of these too: this swap does not restore them.",
		)
	case len(active) > 0 && keepsUses:
		c.add(
			id,
			title,
			looked,
			record.Stops,
			"it is also used for: "+strings.Join(active, "; "),
			"Stop these uses first: unmount, swapoff, close. Then check again.",
		)
	case len(lies) > 0 && p.OldGone:
		c.add(
			id,
			title,
			looked,
			record.Warns,
			"it also holds: "+strings.Join(lies, "; "),
			"This is gone with the drive.",
		)
	case len(lies) > 0 && keepsUses:
		c.add(
			id,
			title,
			looked,
			record.Stops,
			"it also holds: "+strings.Join(lies, "; "),
			"Copy it elsewhere and clear it; or, if it can be lost, begin with the pool's name and a reason.",
		)
		c.out[len(c.out)-1].Loses = names
	case len(boot) > 0:
		c.add(
			id,
			title,
			looked,
			record.Warns,
			"it also holds: "+strings.Join(boot, "; "),
			"The boot loader is left to you: put it on the new drive when it has its partitions.",
		)
	default:
		c.add(id, title, looked, record.Passes, "none", "")
	}
}

// witness compares two sources for the members: what the kernel or a pool program shows, and the metadata on the
// members themselves.
func (c *checker) witness() {
	const id, title = "two-accounts", "Members: live view and on-disk metadata"
	p := c.s.Plan
	result, found, sources := record.Passes, []string{}, []string{}
	seats := p.AllSeats()
	for i, x := range c.seats() {
		name := p.Pool
		if x.Pool != nil {
			name = x.Pool.Name
		}
		hand := i < len(seats) && seats[i].Hand
		if i > 0 && slices.ContainsFunc(c.seats()[:i], func(y SeatFacts) bool { return y.Pool == x.Pool }) {
			continue
		}
		switch {
		case x.Unknown != "":
			result, found = record.Stops, append(found, x.Unknown)
		case x.WitnessAt.IsZero() && hand:
			if result == record.Passes {
				result = record.Warns
			}
			found = append(found, "the metadata on the members of "+name+" cannot be read here")
		case x.WitnessAt.IsZero():
			result, found = record.Stops, append(found, "the metadata on the members of "+name+" were not read")
		case len(x.Differs) > 0:
			result, found = record.Stops, append(found, name+": "+strings.Join(x.Differs, "; "))
		default:
			if !slices.Contains(sources, x.Witness) {
				sources = append(sources, x.Witness)
			}
		}
	}
	if len(c.seats()) == 0 {
		result, found = record.Stops, []string{"nothing is known of the pool"}
	}
	looked := "what the pool shows"
	if len(sources) > 0 {
		looked += ", and " + strings.Join(sources, ", ")
	}
	if !keepsWitness {
		result = record.Passes
	}
	switch result {
	case record.Passes:
		c.add(id, title, looked, result, "they agree on every member in use", "")
	case record.Warns:
		c.add(
			id,
			title,
			looked,
			result,
			strings.Join(found, "; "),
			"Compare the members by hand with the pool system's own tool.",
		)
	default:
		c.add(
			id,
			title,
			looked,
			result,
			strings.Join(found, "; "),
			"Find out which one is right before you pull anything.",
		)
	}
}
