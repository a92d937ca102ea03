// Package pool models storage pools: their groups of members, their volumes and the log devices that members depend on.
// It answers how many more members can be lost without losing data.
package pool

import (
	"slices"

	"lantern/internal/core/drive"
)

// Pool is one pool as its pool system described it at one moment.
type Pool struct {
	ID       string      `json:"id"`   // the pool system's own, unique and lasting
	Name     string      `json:"name"` // the name that people use
	Kind     string      `json:"kind"` // which pool system
	Groups   []Group     `json:"groups"`
	Volumes  []Volume    `json:"volumes"`
	Spares   []Member    `json:"spares"`
	Logs     []Member    `json:"logs"`
	Capacity drive.Bytes `json:"capacity"`
	Used     drive.Bytes `json:"used"`
	// Limit is the fill level of a member above which the pool system writes no more, 0 to 1; 0 means no limit.
	Limit float64 `json:"limit"`
	// Watched is true for a watch-only pool: it is read but accepts no orders.
	Watched bool `json:"watched,omitempty"`
	// UsedUnknown is true where the pool system does not report how much is in use; Used is then not valid.
	UsedUnknown bool `json:"used_unknown,omitempty"`
	// Device is the kernel's name of the pool's block device; empty if it has none.
	Device string `json:"device,omitempty"`
}

// Group is a set of members that share one redundancy.
type Group struct {
	Name    string     `json:"name"`
	Protect Protection `json:"protect"`
	Members []Member   `json:"members"`
	// Spread is true where pieces can be on any members with room, so that the data of one can move to others; Heals is
	// true where the pool system moves them by itself when a member is lost.
	Spread bool `json:"spread"`
	Heals  bool `json:"heals"`
}

// Protection is the redundancy of a group or a volume.
type Protection struct {
	// Words is the trade's name: "double parity", "two-way mirror", "three copies".
	Words string `json:"words"`
	// Tolerance is how many members, or domains, can be lost without losing data.
	Tolerance int `json:"tolerance"`
	// Data is the number of data pieces of a stripe: 1, or 0, for copies, k for parity or erasure coding of k and
	// Tolerance more; -1 for a stripe over all members.
	Data int `json:"data"`
	// StopsAt is the number of losses at which data becomes unavailable although nothing is lost; 0 if data stays
	// available as long as nothing is lost.
	StopsAt int `json:"stops_at"`
	// Domains is true when copies are spread over failure domains (hosts): all members lost in one count once.
	Domains bool `json:"domains"`
	// None is true for a group without its own protection: its volumes have protections.
	None bool `json:"none"`
}

// Volume is stored on all members of a group, with its own protection.
type Volume struct {
	Name    string      `json:"name"`
	Group   string      `json:"group"` // empty: that of its groups
	Protect Protection  `json:"protect"`
	Used    drive.Bytes `json:"used"`
	// Extents are the parts of the volume with the members that store them, where the pool system reports them; then
	// they count, not the whole group.
	Extents []Extent `json:"extents"`
}

// Extent is all parts of a volume whose pieces are on the same members.
type Extent struct {
	Slots []string    `json:"slots"` // one for each piece
	Need  int         `json:"need"`  // number of pieces needed to read it
	Bytes drive.Bytes `json:"bytes"` // of one piece
}

// MemberState is the state of a member according to the pool system.
type MemberState string

// Only an online member stores its share of the redundancy.
const (
	Online     MemberState = "online"
	Failing    MemberState = "failing" // still stores data, with errors
	Missing    MemberState = "missing"
	Faulty     MemberState = "faulty"
	Recovering MemberState = "recovering" // being filled
	Standby    MemberState = "standby"    // a spare
	Out        MemberState = "set-aside"  // set aside: its share was restored on other members
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
	// Needs is the least size of a replacement in bytes.
	Needs drive.Bytes `json:"needs"`
	// Parity is true for a member that stores only the parity of the others.
	Parity bool   `json:"parity"`
	Errors Errors `json:"errors"`
	// Beside is the slot of the member that still stores the share with which this one is being filled: until then no
	// redundancy is lost.
	Beside string `json:"beside"`
	// StandsFor is the slot of the member whose share this spare carries, since it took over.
	StandsFor string `json:"stands_for"`
	// BadBlocks is the number of places that the pool system marked as bad; their data is read from the other members.
	BadBlocks int `json:"bad_blocks"`
	// Device is the kernel's name of the member's device: a drive, a partition, a mapped device, an array.
	Device string `json:"device,omitempty"`
	// Drives are the keys of further drives that it is on: the loss of any one of them, or of Drive, loses the member.
	Drives []string `json:"drives,omitempty"`
	// Under is the id of the pool that this member is; Drive is empty then.
	Under string `json:"under,omitempty"`
	// Partition is the number of the partition that it is on, 0 for none; Layers are the kinds of devices between the
	// drive and it, from the drive up.
	Partition int      `json:"partition,omitempty"`
	Layers    []string `json:"layers,omitempty"`
}

// On reports whether the member is on a drive.
func (m Member) On(driveKey string) bool {
	return driveKey != "" && (m.Drive == driveKey || slices.Contains(m.Drives, driveKey))
}

// formerlyOut is the name of Out in records and agents of earlier versions.
const formerlyOut = "out"

// UnmarshalText reads a state from a record of any version.
func (s *MemberState) UnmarshalText(b []byte) error {
	if *s = MemberState(b); *s == formerlyOut {
		*s = Out
	}
	return nil
}

// ParseState parses a member's state. A state that is not defined here becomes "unknown": it counts neither as healthy
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

// Worse reports whether a state is worse than another; an undefined state is the worst.
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

// Errors are the pool's own error counters for a member.
type Errors struct {
	Read     uint64 `json:"read"`
	Write    uint64 `json:"write"`
	Checksum uint64 `json:"checksum"`
}

// Lost reports whether the member's share of the redundancy is lost, or not yet restored.
func (m Member) Lost() bool {
	return (m.State == Missing || m.State == Faulty || m.State == Recovering) && m.Beside == ""
}

// Everyone calls f for every member: of groups, spares, log devices. group is empty for the latter two.
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

// With is a copy of the pool in which the members at the given places are in another state. A member whose share is
// stored elsewhere already cannot become missing again.
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
