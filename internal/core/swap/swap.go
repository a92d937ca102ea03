// Package swap is the replacement of one drive, from the decision to verified healthy: a deterministic state machine.
// It takes events and gives a new state and orders. Nothing here waits, reads a clock or communicates, so a whole
// procedure can be run, searched and replayed in a test, and a restart continues by replaying the recorded events.
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
	Scrub     Phase = "scrub"   // the other members are read by a scrub first
	Still     Phase = "still"   // work on the host is moved away or stopped
	Down      Phase = "down"    // waits until the host is down
	Change    Phase = "change"  // the host is down: a person exchanges the drives
	Up        Phase = "up"      // the host is back: its clock and its peers are checked
	Drain     Phase = "drain"   // the data of the old drive moves to the other members
	Release   Phase = "release" // the pool removes the place
	Pull      Phase = "pull"    // waits for the old drive to leave
	Insert    Phase = "insert"  // waits for a new drive
	Confirm   Phase = "confirm" // waits for the new drive's label tail
	Layout    Phase = "layout"  // the agent was ordered to give it the old drive's partitions
	Prepare   Phase = "prepare" // waits until a person has set up a layer on it, such as an encrypted volume
	Join      Phase = "join"    // the agent was ordered to make it a member
	Recover   Phase = "recover" // the pool restores redundancy
	Refill    Phase = "refill"  // data is distributed over the members again
	Rehouse   Phase = "rehouse" // the new drive moves from its temporary place to the bay it stays in
	Verify    Phase = "verify"  // the pool is done; not all closing checks pass yet
	Closed    Phase = "closed"
	Abandoned Phase = "abandoned"
)

// Open reports whether it has not ended.
func (p Phase) Open() bool { return p != Closed && p != Abandoned && p != "" }

// Drive is what a swap needs to know of a drive.
type Drive struct {
	drive.Identity
	Capacity drive.Bytes `json:"capacity"`
	Bay      string      `json:"bay"` // address, empty if unknown
	// Sector is the size of its logical sectors in bytes, Medium what it keeps data on; zero and empty if unknown.
	Sector drive.Bytes  `json:"sector,omitempty"`
	Medium drive.Medium `json:"medium,omitempty"`
	// Zoned is how its zones must be written; empty for a drive without zones.
	Zoned drive.Zoning `json:"zoned,omitempty"`
	// Holds describes what is on it or uses it. It is known to be empty only when Blank is true.
	Holds string `json:"holds,omitempty"`
	Blank bool   `json:"blank"`
	// Member is the pool that it is a member of; empty when it is in none. Such a drive is never a candidate, and its
	// removal is always an alarm.
	Member string `json:"member,omitempty"`
	// Spare is true for a spare of that pool that nothing else uses.
	Spare bool `json:"spare,omitempty"`
	// Ill says why it must not be trusted with data; empty if there is no reason.
	Ill string `json:"ill,omitempty"`
	// Testing is true during its acceptance test.
	Testing bool `json:"testing,omitempty"`
	// Promised names the other swap that it is reserved for; empty when there is none.
	Promised string `json:"promised,omitempty"`
	// Lacks lists the tests that the policy requires of new drives and that this one has not had; empty when it has had
	// all.
	Lacks string `json:"lacks,omitempty"`
	// Accepted is the result and date of its acceptance test; empty when there is none.
	Accepted string `json:"accepted,omitempty"`
}

// UnmarshalJSON reads a drive from a record. Older records do not say whether the content of the drive was read; for
// these, Blank follows from an empty Holds, as it did when they were made.
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

// Wrong is a drive that vanished although the swap did not ask for it.
type Wrong struct {
	Drive
	At     time.Time   `json:"at"`
	Margin pool.Margin `json:"margin"` // what is left without it
}

// State is the whole state of a swap. The zero State is a swap that is not planned yet.
type State struct {
	ID     string `json:"id"`
	Phase  Phase  `json:"phase"`
	Recipe Recipe `json:"recipe"`
	Pool   string `json:"pool"`    // its name
	PoolID string `json:"pool_id"` // its own id
	Slot   string `json:"slot"`
	Host   string `json:"host"`
	// Seats are all places that the old drive has in pools; the first is that of Pool and Slot. Empty for a swap from
	// an earlier version.
	Seats []Seat `json:"seats,omitempty"`
	// Laid is the key of the drive on which the old drive's partitions were ordered to be created.
	Laid string `json:"laid,omitempty"`
	Old  Drive  `json:"old"`
	// OldGone is true while the old drive does not answer.
	OldGone bool   `json:"old_gone"`
	New     *Drive `json:"new,omitempty"`
	// Early is a drive that came before its step; it is examined when that step is reached.
	Early *Drive `json:"early,omitempty"`
	// Came are drives that appeared since the swap was planned and are not members: they may leave again without an
	// alarm.
	Came []string `json:"came,omitempty"`
	// Needs is the least size in bytes the new drive must have, AtMost the largest; 0 is no limit.
	Needs drive.Bytes `json:"needs"`
	// Members is how many members the pool's groups had when it was planned.
	Members int `json:"members,omitempty"`
	// KeepSpare is true where a person does not want the pool's spare to be used.
	KeepSpare bool `json:"keep_spare,omitempty"`
	// Larger size asked for, as for a pool that is to grow
	Asked  drive.Bytes `json:"asked,omitempty"`
	AtMost drive.Bytes `json:"at_most,omitempty"`
	Lead   string      `json:"lead"` // who leads it
	// Wrong holds the drives that must be put back before anything goes on (R5).
	Wrong []Wrong `json:"wrong,omitempty"`
	// Refused says why the newest drive was refused, or why the newest order failed.
	Refused string `json:"refused,omitempty"`
	// BlockedBy says why the present step must not be taken now (R1, R4); empty when it may be. Gate are the checks
	// that it comes from.
	BlockedBy   string         `json:"hold,omitempty"`
	Gate        []record.Check `json:"gate,omitempty"`
	RefusedTail string         `json:"refused_tail,omitempty"`
	refusedKey  string
	// PausedBy is the reason why a person paused the swap; empty when it is not paused.
	PausedBy string `json:"held,omitempty"`
	// Stuck says what prevents a recovery that does not begin; empty when nothing does.
	Stuck string `json:"stuck,omitempty"`
	// Order is the number of the newest order; Ordered is true while its outcome is awaited. Begun is true when the
	// ordered work was observed to have begun.
	Order      int  `json:"order"`
	Ordered    bool `json:"ordered"`
	InProgress bool `json:"begun,omitempty"`
	// Loses are the volumes whose loss a person confirmed (R1).
	Loses []string `json:"loses,omitempty"`
	// Backup is the date of the backup that a person stated; zero when none was asked for.
	Backup    time.Time      `json:"backup,omitzero"`
	Recovery  string         `json:"recovery,omitempty"` // its id
	Margin    pool.Margin    `json:"margin"`             // before it began
	Closing   []record.Check `json:"closing,omitempty"`
	Log       []record.Entry `json:"log"`
	PlannedAt time.Time      `json:"planned_at"`
	StartedAt time.Time      `json:"begun_at"`
	EndedAt   time.Time      `json:"ended_at"`
	// StartChecks are the results of the checks when it began; Margins is the course of the pool's margin since.
	StartChecks []record.Check `json:"began,omitempty"`
	// Admitted are the results of the checks of the new drive when it was confirmed.
	Admitted []record.Check `json:"admitted,omitempty"`
	Margins  []Stood        `json:"margins,omitempty"`
	Fate     *Fate          `json:"fate,omitempty"`
	Alarms   int            `json:"alarms,omitempty"` // how often the swap told somebody to stop
	Visited  []Passed       `json:"visited,omitempty"`
}

// Stood is from when the pool had a margin.
type Stood struct {
	At     time.Time   `json:"at"`
	Margin pool.Margin `json:"margin"`
	Known  bool        `json:"known"`
}

// Passed is when the swap reached a step.
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
	Reused    FateKind = "stock"   // back to the stock
	Destroyed FateKind = "destroy" // with what is on it
)

// EventKind is what happened.
type EventKind string

// Actions of persons can be refused, observations cannot.
const (
	PlanIt    EventKind = "plan"
	ReplanIt  EventKind = "replan" // before it began: composed again from the newest facts
	BeginIt   EventKind = "begin"
	NextIt    EventKind = "next" // perform the action of the step, or say that it was done by hand
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

// Observed reports whether the event is an observation rather than a person's action.
func (k EventKind) Observed() bool {
	return slices.Contains([]EventKind{DriveGone, DriveCame, PoolSeen, HostSeen, OrderDone}, k)
}

// Event is one event. Only the fields that its kind names are read.
type Event struct {
	Kind EventKind `json:"kind"`
	At   time.Time `json:"at"`
	By   string    `json:"by,omitempty"`

	Plan *State `json:"plan,omitempty"` // plan, replan: identity of the swap, its pool, drive and recipe

	Reason string         `json:"reason,omitempty"` // begin, confirm (when a check warns), hold, lead, abandon
	Checks []record.Check `json:"checks,omitempty"` // begin, next, confirm, pool: the results at that moment

	Backup    time.Time `json:"backup,omitzero"`      // begin: date of the backup, as the person states it
	NoBackup  bool      `json:"no_backup,omitempty"`  // begin: the person says that there is none
	TypedPool string    `json:"typed_pool,omitempty"` // begin: the pool's name, where volumes are lost (R1)

	Tail string `json:"tail,omitempty"` // confirm: the tail that the person read on the label
	To   string `json:"to,omitempty"`   // lead: who leads from now on

	Fate FateKind `json:"fate,omitempty"` // fate

	Drive  *Drive      `json:"drive,omitempty"`  // gone, came; confirm: the newest description of the new drive
	Margin pool.Margin `json:"margin,omitempty"` // gone, pool

	Pool *PoolView `json:"pool,omitempty"` // pool

	Quiet bool `json:"quiet,omitempty"` // host

	Order   int    `json:"order,omitempty"` // outcome: its number
	Done    bool   `json:"done,omitempty"`  // outcome: the agent observed it done
	Outcome string `json:"outcome,omitempty"`
}

// PoolView is the part of a pool report that a swap needs.
type PoolView struct {
	Member pool.MemberState `json:"member"` // at the swap's slot; empty when the pool has no such slot any more
	Drive  string           `json:"drive"`  // key of the drive there
	// New is the state of the new drive at any place of the pool, also while it is filled beside the old one; empty
	// when it is not in the pool.
	New         pool.MemberState `json:"new,omitempty"`
	MarginKnown bool             `json:"margin_known"`
	Without     pool.Margin      `json:"without"`        // the margin without the member at the slot
	Lost        []string         `json:"lost,omitempty"` // the volumes that would be lost with it
	Moving      pool.Margin      `json:"moving"`         // the margin without the new drive
	// Drained is true when neither the old drive nor a member that depends on it stores data.
	Drained bool `json:"drained,omitempty"`
	// Filled is true when all members that depend on the old drive store their shares.
	Filled     bool `json:"filled,omitempty"`
	Recovering bool `json:"recovering"` // any recovery runs in the pool
	// Filling is true when a member is being filled, even if no recovery is listed.
	Filling  bool   `json:"filling,omitempty"`
	Recovery string `json:"recovery"` // id of the recovery that fills the slot, running or ended
	// Scrubbed is when the newest scrub ended; ScrubClean whether it left no errors.
	Scrubbed     time.Time `json:"scrubbed,omitzero"`
	ScrubClean   bool      `json:"scrub_clean,omitempty"`
	Unrepairable uint64    `json:"unrepairable"`
	NewVerdict   string    `json:"new_verdict"`
	NewAccepted  string    `json:"new_accepted,omitempty"`
	LightOn      bool      `json:"light_on"`
	// Stuck says what prevents a recovery that should run; empty when it runs or is not needed.
	Stuck string `json:"stuck,omitempty"`
	// Spare names a spare that still stands in; empty when none does.
	Spare string `json:"spare,omitempty"`
	// Joined says for each seat whether its pool shows the new drive there. Prepared is true when the layers that a
	// person sets up exist at every seat.
	Joined   []bool `json:"joined,omitempty"`
	Prepared bool   `json:"prepared,omitempty"`
	// Notices are the open new notices about the pool, in words.
	Notices []string `json:"notices,omitempty"`
}

// Order is an order that the service passes to an agent.
type Order struct {
	Kind   OrderKind
	Number int
	Drive  drive.Identity // join, admit, layout: the new drive; drain, release: the old one
	Spare  bool           // join: it is a spare of that pool
	Slots  []string       // drain, refill: the members concerned
	Seat   Seat           // join, admit: the place that is filled; scrub: a place in the pool that is read through
}

// OrderKind is what is ordered.
type OrderKind string

// The kinds of orders.
const (
	OrderJoin    OrderKind = "join"    // make the new drive a member in place of the old one
	OrderAdmit   OrderKind = "admit"   // make the new drive an additional member: the pool has removed the old place
	OrderLayout  OrderKind = "layout"  // give the new drive the partitions of the old one
	OrderScrub   OrderKind = "scrub"   // read all data
	OrderDrain   OrderKind = "drain"   // move its data to the other members
	OrderRelease OrderKind = "release" // remove the place
	OrderRefill  OrderKind = "refill"  // distribute data over the members again
	OrderNudge   OrderKind = "nudge"   // start a recovery that does not start by itself
	OrderStop    OrderKind = "stop"    // end what this swap began
	OrderDark    OrderKind = "dark"    // put the bay's light out
)

// Writes reports whether an order writes to a drive that was not a member.
func (k OrderKind) Writes() bool { return k == OrderJoin || k == OrderAdmit || k == OrderLayout }

// Refusal says why a person's action was refused. Nothing was changed.
type Refusal struct {
	Type string // stable, for programs
	Says string
	Do   string
}

func (r *Refusal) Error() string { return r.Says + " " + r.Do }

func refuse(kind, do, says string, args ...any) *Refusal {
	return &Refusal{Type: kind, Says: fmt.Sprintf(says, args...), Do: do}
}

// clone copies what Apply may change, so that a returned state never changes.
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

// bayWords names the bay of a drive, or says that it has none.
func (d Drive) bayWords() string {
	if d.Bay == "" {
		return "a place that is not recorded"
	}
	return "bay " + d.Bay
}
