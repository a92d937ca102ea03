// Package swap is the replacement of one drive, from the decision to verified healthy: a deterministic state machine.
// Events go in, a new state and orders come out. Nothing here waits, reads a clock or talks to anybody, so the whole of
// a procedure can be run, searched and replayed in a test, and a restart continues by replaying what was recorded.
package swap

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/record"
)

// Phase is where a swap stands: at one of the steps of its recipe, or at an end.
type Phase string

// The phases. Which of them a swap goes through, and in what order, its recipe says.
const (
	Planned   Phase = "planned"
	Scrub     Phase = "scrub"   // what the others hold is read through first
	Still     Phase = "still"   // work on the host is moved away or stopped
	Down      Phase = "down"    // waits for the host to go down
	Change    Phase = "change"  // the host is down: out and in, by hand
	Up        Phase = "up"      // the host is back: its clock and its peers are looked at
	Drain     Phase = "drain"   // what is on the old drive moves to the others
	Release   Phase = "release" // the pool forgets the place
	Pull      Phase = "pull"    // waits for the old drive to leave
	Insert    Phase = "insert"  // waits for a new drive
	Confirm   Phase = "confirm" // waits for the new drive's label tail
	Layout    Phase = "layout"  // the agent was ordered to give it the old drive's partitions
	Prepare   Phase = "prepare" // waits for what a person sets up on it: an encrypted volume
	Join      Phase = "join"    // the agent was ordered to make it a member
	Recover   Phase = "recover" // the pool restores redundancy
	Refill    Phase = "refill"  // what was drained, or all, is spread over the members anew
	Rehouse   Phase = "rehouse" // the new drive moves from its temporary place to the bay it stays in
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
	// Sector is the size of its logical sectors in bytes, Medium what it keeps data on; zero and empty if unknown.
	Sector drive.Bytes  `json:"sector,omitempty"`
	Medium drive.Medium `json:"medium,omitempty"`
	// Zoned says how it wants its zones written; empty for one that takes writes anywhere at one pace.
	Zoned drive.Zoning `json:"zoned,omitempty"`
	// Holds says what is on it, or uses it, in words. That nothing does is known only when Blank is true.
	Holds string `json:"holds,omitempty"`
	Blank bool   `json:"blank"`
	// Member is the pool that it is a member of; empty when it is in none. It is never a candidate, and never leaves
	// unnoticed.
	Member string `json:"member,omitempty"`
	// Spare is true of one that stands by in the pool that it is a member of, and that nothing else uses.
	Spare bool `json:"spare,omitempty"`
	// Ill says why it must not be trusted with data; empty if nothing speaks against it.
	Ill string `json:"ill,omitempty"`
	// Testing is true during its acceptance test.
	Testing bool `json:"testing,omitempty"`
	// Promised says to which other swap it was promised; empty when to none.
	Promised string `json:"promised,omitempty"`
	// Lacks says what the policy asks new drives to be tested for and this one was not; empty when it was tested for
	// all.
	Lacks string `json:"lacks,omitempty"`
	// Accepted says with what result it was tested before it was trusted, and when; empty when it was not.
	Accepted string `json:"accepted,omitempty"`
}

// UnmarshalJSON reads a drive from a record. Records made before it was noted whether a drive was read say nothing of
// that: then what was found is all that lay there, as it was taken to be when they were made.
func (d *Drive) UnmarshalJSON(b []byte) error {
	type plain Drive
	x := struct {
		*plain
		Blank *bool `json:"blank"`
	}{plain: (*plain)(d)}
	if err := json.Unmarshal(b, &x); err != nil {
		return err
	}
	d.Blank = d.Holds == ""
	if x.Blank != nil {
		d.Blank = *x.Blank
	}
	return nil
}

// Wrong is a drive that vanished though it was not its turn.
type Wrong struct {
	Drive
	At     time.Time   `json:"at"`
	Margin pool.Margin `json:"margin"` // what is left without it
}

// State is everything a swap remembers. The zero State is a swap that was not planned yet.
type State struct {
	ID     string `json:"id"`
	Phase  Phase  `json:"phase"`
	Recipe Recipe `json:"recipe"`
	Pool   string `json:"pool"`    // its name
	PoolID string `json:"pool_id"` // its own id
	Slot   string `json:"slot"`
	Host   string `json:"host"`
	// Seats are all places that the old drive has in pools; the first is that of Pool and Slot. Empty for a swap that
	// was planned before there could be several.
	Seats []Seat `json:"seats,omitempty"`
	// Laid is the key of the drive that was ordered to get the old one's partitions.
	Laid string `json:"laid,omitempty"`
	Old  Drive  `json:"old"`
	// OldGone is true while the old drive does not answer.
	OldGone bool   `json:"old_gone"`
	New     *Drive `json:"new,omitempty"`
	// Early is a drive that came before it was its turn: it is looked at when it is.
	Early *Drive `json:"early,omitempty"`
	// Came are the drives that came since it was planned and are not its members: they may leave again without alarm.
	Came []string `json:"came,omitempty"`
	// Needs is the least size in bytes the new drive must have, AtMost the largest; 0 is no limit.
	Needs drive.Bytes `json:"needs"`
	// Members is how many members the pool's groups had when it was planned.
	Members int `json:"members,omitempty"`
	// KeepSpare is true where a person wants the pool's spare to stay what it is.
	KeepSpare bool `json:"keep_spare,omitempty"`
	// What was asked for beyond what the place needs, as for a pool that is to grow
	Asked  drive.Bytes `json:"asked,omitempty"`
	AtMost drive.Bytes `json:"at_most,omitempty"`
	Lead   string      `json:"lead"` // who leads it
	// Wrong holds the drives that must be put back before anything goes on (R5).
	Wrong []Wrong `json:"wrong,omitempty"`
	// Refused says why the newest drive was not taken, or the newest order did not succeed.
	Refused string `json:"refused,omitempty"`
	// BlockedBy says why the step must not be taken now, although the swap has begun (R1, R4); empty when it may be.
	// Gate are the checks it came from.
	BlockedBy   string         `json:"hold,omitempty"`
	Gate        []record.Check `json:"gate,omitempty"`
	RefusedTail string         `json:"refused_tail,omitempty"`
	refusedKey  string
	// PausedBy says why a person holds the swap; empty when nobody does.
	PausedBy string `json:"held,omitempty"`
	// Stuck says what stands in the way of a recovery that does not begin; empty when nothing does.
	Stuck string `json:"stuck,omitempty"`
	// Order is the number of the newest order; Ordered is true while its outcome is awaited. Begun is true when what
	// the step orders was seen to have begun.
	Order      int  `json:"order"`
	Ordered    bool `json:"ordered"`
	InProgress bool `json:"begun,omitempty"`
	// Loses are the volumes of which a person was told that they are lost, and confirmed it (R1).
	Loses []string `json:"loses,omitempty"`
	// Backup is of when the backup is that a person vouched for; zero when none was asked for.
	Backup    time.Time      `json:"backup,omitzero"`
	Recovery  string         `json:"recovery,omitempty"` // its id
	Margin    pool.Margin    `json:"margin"`             // before it began
	Closing   []record.Check `json:"closing,omitempty"`
	Log       []record.Entry `json:"log"`
	PlannedAt time.Time      `json:"planned_at"`
	StartedAt time.Time      `json:"begun_at"`
	EndedAt   time.Time      `json:"ended_at"`
	// StartChecks are the checks as they stood when it began; Margins how the pool's margin went since.
	StartChecks []record.Check `json:"began,omitempty"`
	// Admitted are the checks of the new drive as they stood when it was confirmed.
	Admitted []record.Check `json:"admitted,omitempty"`
	Margins  []Stood        `json:"margins,omitempty"`
	Fate     *Fate          `json:"fate,omitempty"`
	Alarms   int            `json:"alarms,omitempty"` // how often somebody was told to stop
	Visited  []Passed       `json:"visited,omitempty"`
}

// Stood is from when the pool had a margin.
type Stood struct {
	At     time.Time   `json:"at"`
	Margin pool.Margin `json:"margin"`
	Known  bool        `json:"known"`
}

// Passed is when the swap came to a step.
type Passed struct {
	Phase Phase     `json:"phase"`
	At    time.Time `json:"at"`
}

// Fate is what became of the old drive.
type Fate struct {
	Kind FateKind  `json:"kind"`
	At   time.Time `json:"at"`
	By   string    `json:"by"`
	Note string    `json:"note,omitempty"`
}

// FateKind is what becomes of a drive that was replaced.
type FateKind string

// The fates.
const (
	Returned  FateKind = "return"  // to its maker, under warranty
	Reused    FateKind = "stock"   // it goes back to the shelf
	Destroyed FateKind = "destroy" // with what is on it
)

// EventKind is what happened.
type EventKind string

// What persons do can be refused; what was observed cannot.
const (
	PlanIt    EventKind = "plan"
	ReplanIt  EventKind = "replan" // before it began: composed anew, as things are now
	BeginIt   EventKind = "begin"
	NextIt    EventKind = "next" // do what the step is about, or say that it was done by hand
	ConfirmIt EventKind = "confirm"
	BackIt    EventKind = "back"
	HoldIt    EventKind = "hold"
	ResumeIt  EventKind = "resume"
	LeadIt    EventKind = "lead"
	AbandonIt EventKind = "abandon"
	FateIt    EventKind = "fate"

	DriveGone EventKind = "gone"
	DriveCame EventKind = "came"
	PoolSeen  EventKind = "pool"
	HostSeen  EventKind = "host" // it stopped reporting, or reports again
	OrderDone EventKind = "outcome"
)

// Observed says that it was reported, not done by a person.
func (k EventKind) Observed() bool {
	return slices.Contains([]EventKind{DriveGone, DriveCame, PoolSeen, HostSeen, OrderDone}, k)
}

// Event is one thing that happened. Only the fields its kind names are read.
type Event struct {
	Kind EventKind `json:"kind"`
	At   time.Time `json:"at"`
	By   string    `json:"by,omitempty"`

	Plan *State `json:"plan,omitempty"` // plan, replan: identity of the swap, its pool, drive and recipe

	Reason string         `json:"reason,omitempty"` // begin, confirm (when a check warns), hold, lead, abandon
	Checks []record.Check `json:"checks,omitempty"` // begin, next, confirm, pool: as they stood at that moment

	Backup    time.Time `json:"backup,omitzero"`      // begin: of when the backup is that the person vouches for
	NoBackup  bool      `json:"no_backup,omitempty"`  // begin: the person says that there is none
	TypedPool string    `json:"typed_pool,omitempty"` // begin: the pool's name, where volumes are lost (R1)

	Tail string `json:"tail,omitempty"` // confirm: what the person read on the label
	To   string `json:"to,omitempty"`   // lead: who leads from now on

	Fate FateKind `json:"fate,omitempty"` // fate

	Drive  *Drive      `json:"drive,omitempty"`  // gone, came; confirm: the new one as it is known now
	Margin pool.Margin `json:"margin,omitempty"` // gone, pool

	Pool *PoolView `json:"pool,omitempty"` // pool

	Quiet bool `json:"quiet,omitempty"` // host

	Order   int    `json:"order,omitempty"` // outcome: its number
	Done    bool   `json:"done,omitempty"`  // outcome: the agent observed it done
	Outcome string `json:"outcome,omitempty"`
}

// PoolView is what a swap looks at in a report of its pool.
type PoolView struct {
	Member pool.MemberState `json:"member"` // at the swap's slot; empty when the pool has no such slot any more
	Drive  string           `json:"drive"`  // key of the drive there
	// New is the state of the new drive, wherever in the pool it is, and also while it is filled beside the old one;
	// empty when the pool does not know it.
	New         pool.MemberState `json:"new,omitempty"`
	MarginKnown bool             `json:"margin_known"`
	Without     pool.Margin      `json:"without"`        // the margin with the member at the slot gone as well
	Lost        []string         `json:"lost,omitempty"` // the volumes that would be lost with it
	Moving      pool.Margin      `json:"moving"`         // the margin with the new drive gone as well
	// Drained is true when nothing is any more on the old drive, nor on what depends on it.
	Drained bool `json:"drained,omitempty"`
	// Filled is true when all that depend on the old drive carry their shares.
	Filled     bool   `json:"filled,omitempty"`
	Recovering bool   `json:"recovering"` // anything at all moves in the pool
	Recovery   string `json:"recovery"`   // id of the recovery that fills the slot, running or ended
	// Scrubbed is when the newest scrub ended; ScrubClean whether it left nothing.
	Scrubbed     time.Time `json:"scrubbed,omitzero"`
	ScrubClean   bool      `json:"scrub_clean,omitempty"`
	Unrepairable uint64    `json:"unrepairable"`
	NewVerdict   string    `json:"new_verdict"`
	NewAccepted  string    `json:"new_accepted,omitempty"`
	LightOn      bool      `json:"light_on"`
	// Stuck says what stands in the way of a recovery that should run and does not; empty when it runs or need not.
	Stuck string `json:"stuck,omitempty"`
	// Spare says that a spare still stands in; empty when none does.
	Spare string `json:"spare,omitempty"`
	// Joined says of each seat whether its pool shows the new drive there; Prepared that what a person was to set up on
	// the new drive stands at every seat.
	Joined   []bool `json:"joined,omitempty"`
	Prepared bool   `json:"prepared,omitempty"`
	// Notices are new ones about the pool that are open, in words.
	Notices []string `json:"notices,omitempty"`
}

// Order is what the service is asked to pass on.
type Order struct {
	Kind   OrderKind
	Number int
	Drive  drive.Identity // join, admit, layout: the new drive; drain, release: the old one
	Spare  bool           // join: it is a spare of that pool
	Slots  []string       // drain, refill: the members it is about
	Seat   Seat           // join, admit: the place that is filled; scrub: a place in the pool that is read through
}

// OrderKind is what is ordered.
type OrderKind string

// The kinds of orders.
const (
	OrderJoin    OrderKind = "join"    // make the new drive a member in place of the old one
	OrderAdmit   OrderKind = "admit"   // make the new drive a further member: the pool has forgotten the place
	OrderLayout  OrderKind = "layout"  // give the new drive the partitions of the old one
	OrderScrub   OrderKind = "scrub"   // read everything through
	OrderDrain   OrderKind = "drain"   // move what is on it to the others
	OrderRelease OrderKind = "release" // forget the place
	OrderRefill  OrderKind = "refill"  // spread what is kept over the members anew
	OrderNudge   OrderKind = "nudge"   // make a recovery begin that does not
	OrderStop    OrderKind = "stop"    // end what this swap began
	OrderDark    OrderKind = "dark"    // put the bay's light out
)

// Writes says whether an order leads to writing on a drive that was not a member.
func (k OrderKind) Writes() bool { return k == OrderJoin || k == OrderAdmit || k == OrderLayout }

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
	s.Log, s.Margins, s.Visited = slices.Clip(s.Log), slices.Clip(s.Margins), slices.Clip(s.Visited)
	s.Wrong = slices.Clone(s.Wrong)
	s.Came = slices.Clone(s.Came)
	s.Seats = slices.Clone(s.Seats)
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
		who = record.Seen
	}
	s.Log = append(s.Log, record.Entry{At: e.At, Who: who, Says: fmt.Sprintf(format, args...)})
}

// bayWords names a drive's bay, or says that it has none.
func (d Drive) bayWords() string {
	if d.Bay == "" {
		return "a place that is not recorded"
	}
	return "bay " + d.Bay
}
