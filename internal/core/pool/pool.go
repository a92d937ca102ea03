// Package pool models what data is on: pools, their groups of members, the volumes kept in them and the log devices
// that members depend on; and answers how many more members can be lost before data is.
package pool

import (
	"slices"

	"lantern/internal/core/drive"
)

// Pool is one pool as its pool system described it at one moment.
type Pool struct {
	ID       string      `json:"id"`   // the pool system's own, unique and lasting
	Name     string      `json:"name"` // what people call it
	Kind     string      `json:"kind"` // which pool system
	Groups   []Group     `json:"groups"`
	Volumes  []Volume    `json:"volumes"`
	Spares   []Member    `json:"spares"`
	Logs     []Member    `json:"logs"`
	Capacity drive.Bytes `json:"capacity"`
	Used     drive.Bytes `json:"used"`
	// Limit is the share of a member above which the pool system takes no more, 0 to 1; 0 means that it fills up.
	Limit float64 `json:"limit"`
	// Watched is true of a pool that can be read and not ordered.
	Watched bool `json:"watched,omitempty"`
	// UsedUnknown is true where the pool system does not know how much of it is in use; Used says nothing then.
	UsedUnknown bool `json:"used_unknown,omitempty"`
	// Device is the kernel's name of the block device that the pool is; empty if it is none.
	Device string `json:"device,omitempty"`
}

// Group is a set of members that carry one redundancy together.
type Group struct {
	Name    string     `json:"name"`
	Protect Protection `json:"protect"`
	Members []Member   `json:"members"`
	// Spread is true where pieces are on whichever members have room, so that what is on one can move to others;
	// Heals where the pool system moves them by itself when a member is lost.
	Spread bool `json:"spread"`
	Heals  bool `json:"heals"`
}

// Protection says what a group or a volume can bear.
type Protection struct {
	// Words is the trade's name: "double parity", "two-way mirror", "three copies".
	Words string `json:"words"`
	// Tolerance is how many members, or domains, can be lost with all data kept.
	Tolerance int `json:"tolerance"`
	// Data is how many pieces of a stripe carry data: 1, or 0, for copies, k for parity or erasure coding of k and
	// Tolerance more; -1 for a stripe that is as wide as there are members.
	Data int `json:"data"`
	// StopsAt is with how many losses it is not served any more, though nothing is lost yet; 0 for one that is served
	// as long as nothing is lost.
	StopsAt int `json:"stops_at"`
	// Domains is true when copies are spread over failure domains (hosts): all members lost in one count once.
	Domains bool `json:"domains"`
	// None is true for a group that has no protection of its own: its volumes have.
	None bool `json:"none"`
}

// Volume is kept on all members of a group, with protection of its own.
type Volume struct {
	Name    string      `json:"name"`
	Group   string      `json:"group"` // empty: as its groups are
	Protect Protection  `json:"protect"`
	Used    drive.Bytes `json:"used"`
	// Extents say which members hold which parts of it, where the pool system can tell; then it is they that count, not
	// the whole group.
	Extents []Extent `json:"extents"`
}

// Extent is all parts of a volume whose pieces are on the same members.
type Extent struct {
	Slots []string    `json:"slots"` // one for each piece
	Need  int         `json:"need"`  // how many pieces it takes to read it
	Bytes drive.Bytes `json:"bytes"` // of one piece
}

// MemberState is what the pool system thinks of a member.
type MemberState string

// Only an online member carries its share of the redundancy.
const (
	Online     MemberState = "online"
	Failing    MemberState = "failing" // still carries data, with errors
	Missing    MemberState = "missing"
	Faulty     MemberState = "faulty"
	Recovering MemberState = "recovering" // being filled
	Standby    MemberState = "standby"    // a spare
	Out        MemberState = "set-aside"  // gone, and its share was restored on other members
	StateUnkn  MemberState = "unknown"
)

// Member is one place in a pool, and the drive that fills it.
type Member struct {
	Slot   string      `json:"slot"`  // the pool system's own name for the place; lasting
	Drive  string      `json:"drive"` // the drive's key; empty if never known
	State  MemberState `json:"state"`
	Domain string      `json:"domain"` // its host
	Log    string      `json:"log"`    // slot of the log device it depends on
	Size   drive.Bytes `json:"size"`
	Used   drive.Bytes `json:"used"`
	// Needs is the least size in bytes a replacement must have.
	Needs drive.Bytes `json:"needs"`
	// Parity is true of a member that holds nothing but the parity of the others.
	Parity bool   `json:"parity"`
	Errors Errors `json:"errors"`
	// Beside is the slot of the member that still carries the share that this one is filled with: until it is, nothing
	// is lost.
	Beside string `json:"beside"`
	// StandsFor is the slot of the member whose share this spare carries, since it took over.
	StandsFor string `json:"stands_for"`
	// BadBlocks is how many places of it the pool system has given up; what is there is read from the others.
	BadBlocks int `json:"bad_blocks"`
	// Device is the kernel's name of the device that is the member: a drive, a partition, a mapped device, an array.
	Device string `json:"device,omitempty"`
	// Drives are keys of further drives that it is on: losing any one of them, or Drive, loses it.
	Drives []string `json:"drives,omitempty"`
	// Under is the id of the pool that it is; Drive is empty then.
	Under string `json:"under,omitempty"`
	// Partition is the number of the partition that it is on, 0 for none; Layers are the kinds of devices between the
	// drive and it, from the drive up.
	Partition int      `json:"partition,omitempty"`
	Layers    []string `json:"layers,omitempty"`
}

// On says whether the member is on a drive.
func (m Member) On(driveKey string) bool {
	return driveKey != "" && (m.Drive == driveKey || slices.Contains(m.Drives, driveKey))
}

// formerlyOut is how records and agents of earlier versions write Out.
const formerlyOut = "out"

// UnmarshalText reads a state from a record of any version.
func (s *MemberState) UnmarshalText(b []byte) error {
	if *s = MemberState(b); *s == formerlyOut {
		*s = Out
	}
	return nil
}

// ParseState takes a member's state from outside. One that is not known here is unknown: it counts neither as healthy
// nor as lost (R7).
func ParseState(s string) MemberState {
	if s == formerlyOut {
		return Out
	}
	if slices.Contains(states, MemberState(s)) {
		return MemberState(s)
	}
	return StateUnkn
}

// badness is the order of states from good to bad.
var badness = []MemberState{Online, Failing, Standby, Out, Recovering, StateUnkn, Missing, Faulty}

// Worse says whether a state is worse than another; one that is not known here is the worst.
func Worse(a, b MemberState) bool {
	rank := func(s MemberState) int {
		if i := slices.Index(badness, s); i >= 0 {
			return i
		}
		return len(badness)
	}
	return rank(a) > rank(b)
}

var states = []MemberState{Online, Failing, Missing, Faulty, Recovering, Standby, Out, StateUnkn}

// Errors are the pool's own counters for a member.
type Errors struct {
	Read     uint64 `json:"read"`
	Write    uint64 `json:"write"`
	Checksum uint64 `json:"checksum"`
}

// Lost says whether the member's share of the redundancy is gone, or not yet there.
func (m Member) Lost() bool {
	return (m.State == Missing || m.State == Faulty || m.State == Recovering) && m.Beside == ""
}

// Everyone calls f for every member: those of groups, spares, log devices. group is empty for the latter two.
func (p *Pool) Everyone(f func(group string, m *Member)) {
	for g := range p.Groups {
		for i := range p.Groups[g].Members {
			f(p.Groups[g].Name, &p.Groups[g].Members[i])
		}
	}
	for i := range p.Spares {
		f("", &p.Spares[i])
	}
	for i := range p.Logs {
		f("", &p.Logs[i])
	}
}

// Find gives the member that a drive fills, and the name of its group.
func (p *Pool) Find(driveKey string) (m Member, group string, ok bool) {
	p.Everyone(func(g string, at *Member) {
		if !ok && at.On(driveKey) {
			m, group, ok = *at, g, true
		}
	})
	return m, group, ok
}

// SlotsOf lists all places that are on a drive.
func (p *Pool) SlotsOf(driveKey string) (slots []string) {
	p.Everyone(func(_ string, m *Member) {
		if m.On(driveKey) {
			slots = append(slots, m.Slot)
		}
	})
	return slots
}

// Slot gives the member at a place.
func (p *Pool) Slot(slot string) (m Member, group string, ok bool) {
	p.Everyone(func(g string, at *Member) {
		if !ok && at.Slot == slot {
			m, group, ok = *at, g, true
		}
	})
	return m, group, ok
}

// Whole is a copy of the pool in which nothing is lost.
func (p Pool) Whole() Pool {
	q := p.clone()
	q.Everyone(func(_ string, m *Member) { m.State = Online })
	return q
}

// With is a copy of the pool in which the members at the given places are in another state. One whose share lies
// elsewhere already cannot go missing again.
func (p Pool) With(state MemberState, slots ...string) Pool {
	q := p.clone()
	q.Everyone(func(_ string, m *Member) {
		if slices.Contains(slots, m.Slot) && (state != Missing || m.State != Out) {
			m.State, m.Beside = state, ""
		}
	})
	return q
}

// clone copies what Everyone can reach.
func (p Pool) clone() Pool {
	groups := p.Groups
	p.Groups = make([]Group, len(groups))
	for i, g := range groups {
		p.Groups[i] = g
		p.Groups[i].Members = slices.Clone(g.Members)
	}
	p.Spares, p.Logs = slices.Clone(p.Spares), slices.Clone(p.Logs)
	return p
}
