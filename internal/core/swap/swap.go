// Package swap is the replacement of one drive, from the decision to verified healthy: a deterministic state machine.
// Events go in, a new state and orders come out. Nothing here waits, reads a clock or talks to anybody, so the whole of
// a procedure can be run, searched and replayed in a test, and a restart continues by replaying what was recorded.
package swap

import (
	"fmt"
	"slices"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
)

// Phase is where a swap stands.
type Phase string

// The phases in their order. Abandoned can follow any but Closed.
const (
	Planned   Phase = "planned"
	Pull      Phase = "pull"    // waits for the old drive to leave
	Insert    Phase = "insert"  // waits for a new drive
	Confirm   Phase = "confirm" // waits for the new drive's label tail
	Join      Phase = "join"    // the agent was ordered to make it a member
	Recover   Phase = "recover" // the pool restores redundancy
	Verify    Phase = "verify"  // the pool is done; the closing checks do not all hold yet
	Closed    Phase = "closed"
	Abandoned Phase = "abandoned"
)

// Open says whether anything is still owed.
func (p Phase) Open() bool { return p != Closed && p != Abandoned && p != "" }

// Drive is what a swap needs to know of a drive.
type Drive struct {
	drive.Identity
	Capacity drive.Bytes `json:"capacity"`
	Bay      string      `json:"bay"` // address, empty if unknown
	// Holds says what lies on it, in words; empty when nothing does.
	Holds string `json:"holds,omitempty"`
	// Member is the pool that it is a member of; empty when it is in none. It is never a candidate, and never leaves unnoticed.
	Member string `json:"member,omitempty"`
	// Ill says why it must not be trusted with data; empty when nothing speaks against it.
	Ill string `json:"ill,omitempty"`
}

// Wrong is a drive that vanished though it was not its turn.
type Wrong struct {
	Drive
	At     time.Time   `json:"at"`
	Margin pool.Margin `json:"margin"` // what is left without it
}

// State is everything a swap remembers. The zero State is a swap that was not planned yet.
type State struct {
	ID      string `json:"id"`
	Phase   Phase  `json:"phase"`
	Pool    string `json:"pool"`    // its name
	PoolID  string `json:"pool_id"` // its own id
	Slot    string `json:"slot"`
	Host    string `json:"host"`
	Old     Drive  `json:"old"`
	OldGone bool   `json:"old_gone"`
	New     *Drive `json:"new,omitempty"`
	// Early is a drive that came before it was its turn: it is looked at when the old one has left.
	Early *Drive `json:"early,omitempty"`
	// Came are the drives that came since it was planned and are not its members: they may leave again without alarm.
	Came []string `json:"came,omitempty"`
	// Needs is the least size in bytes the new drive must have.
	Needs drive.Bytes `json:"needs"`
	Lead  string      `json:"lead"` // who leads it
	// Wrong holds the drives that must be put back before anything goes on (R5).
	Wrong []Wrong `json:"wrong,omitempty"`
	// Refused says why the newest drive was not taken, or the newest order did not succeed.
	Refused string `json:"refused,omitempty"`
	// Hold says why the old drive must not be pulled now, although the swap has begun (R1, R4); empty when it may be.
	Hold        string `json:"hold,omitempty"`
	RefusedTail string `json:"refused_tail,omitempty"`
	refusedKey  string
	// Order is the number of the newest join order; Ordered is true while its outcome is awaited.
	Order     int         `json:"order"`
	Ordered   bool        `json:"ordered"`
	Recovery  string      `json:"recovery,omitempty"` // its id
	Margin    pool.Margin `json:"margin"`             // before it began
	Closing   []Check     `json:"closing,omitempty"`
	Log       []Entry     `json:"log"`
	PlannedAt time.Time   `json:"planned_at"`
	BegunAt   time.Time   `json:"begun_at"`
	EndedAt   time.Time   `json:"ended_at"`
}

// Entry is one line of the swap's record.
type Entry struct {
	At   time.Time `json:"at"`
	Who  string    `json:"who"` // a person's name, or "seen" for what was observed
	Says string    `json:"says"`
}

// Seen marks an entry that nobody did but that was observed.
const Seen = "seen"

// EventKind is what happened.
type EventKind string

// What persons do can be refused; what was observed cannot.
const (
	PlanIt    EventKind = "plan"
	BeginIt   EventKind = "begin"
	ConfirmIt EventKind = "confirm"
	AbandonIt EventKind = "abandon"

	DriveGone EventKind = "gone"
	DriveCame EventKind = "came"
	PoolSeen  EventKind = "pool"
	OrderDone EventKind = "outcome"
)

// Event is one thing that happened. Only the fields its kind names are read.
type Event struct {
	Kind EventKind `json:"kind"`
	At   time.Time `json:"at"`
	By   string    `json:"by,omitempty"`

	Plan *State `json:"plan,omitempty"` // plan: identity of the swap, its pool and drive

	Reason string  `json:"reason,omitempty"` // begin (when a check warns), abandon
	Checks []Check `json:"checks,omitempty"` // begin: as they stood at that moment

	Tail string `json:"tail,omitempty"` // confirm: what the person read on the label

	Drive  *Drive      `json:"drive,omitempty"`  // gone, came
	Margin pool.Margin `json:"margin,omitempty"` // gone, pool

	Pool *PoolView `json:"pool,omitempty"` // pool

	Order   int    `json:"order,omitempty"` // outcome: its number
	Done    bool   `json:"done,omitempty"`  // outcome: the agent observed it done
	Outcome string `json:"outcome,omitempty"`
}

// PoolView is what a swap looks at in a report of its pool.
type PoolView struct {
	Member       pool.MemberState `json:"member"` // at the swap's slot
	Drive        string           `json:"drive"`  // key of the drive there
	MarginKnown  bool             `json:"margin_known"`
	Without      pool.Margin      `json:"without"`    // the margin with the member at the slot gone as well
	Recovering   bool             `json:"recovering"` // anything at all moves in the pool
	Recovery     string           `json:"recovery"`   // id of the recovery that fills the slot, running or ended
	Unrepairable uint64           `json:"unrepairable"`
	NewVerdict   string           `json:"new_verdict"`
	LightOn      bool             `json:"light_on"`
}

// Order is what the service is asked to pass on.
type Order struct {
	Kind   string // "join" or "dark"
	Number int
	New    drive.Identity
}

// The kinds of orders.
const (
	OrderJoin = "join" // make New a member in place of the old drive
	OrderDark = "dark" // put the bay's light out
)

// Refusal is why a person's action was not taken. Nothing was changed.
type Refusal struct {
	Type string // stable, for programs
	Says string
	Do   string
}

func (r *Refusal) Error() string { return r.Says + " " + r.Do }

func refuse(kind, do, says string, args ...any) *Refusal {
	return &Refusal{Type: kind, Says: fmt.Sprintf(says, args...), Do: do}
}

// clone copies what Apply may change, so that a state once given away stays as it was.
func (s State) clone() State {
	s.Log = slices.Clip(s.Log)
	s.Wrong = slices.Clone(s.Wrong)
	s.Came = slices.Clone(s.Came)
	if s.New != nil {
		n := *s.New
		s.New = &n
	}
	if s.Early != nil {
		n := *s.Early
		s.Early = &n
	}
	return s
}

func (s *State) say(e Event, format string, args ...any) {
	who := e.By
	if who == "" {
		who = Seen
	}
	s.Log = append(s.Log, Entry{At: e.At, Who: who, Says: fmt.Sprintf(format, args...)})
}

// bayWords names a drive's bay, or says that it has none.
func (d Drive) bayWords() string {
	if d.Bay == "" {
		return "a place nobody wrote down"
	}
	return "bay " + d.Bay
}
