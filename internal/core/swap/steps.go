package swap

import (
	"fmt"
	"strings"
)

// StepKind says who acts.
type StepKind string

// Check is a look at facts, Hands is work at the rack, Confirm is typed, Do is an order, Wait is work of the pool.
const (
	StepCheck   StepKind = "check"
	StepHands   StepKind = "hands"
	StepConfirm StepKind = "confirm"
	StepDo      StepKind = "do"
	StepWait    StepKind = "wait"
)

// Step is one step of the procedure as a person reads it.
type Step struct {
	Phase  Phase    `json:"phase"`
	Kind   StepKind `json:"kind"`
	Title  string   `json:"title"`
	What   string   `json:"what"`
	Why    string   `json:"why"`
	Expect string   `json:"expect"`           // what should be seen
	Needs  []string `json:"needs,omitempty"`  // what a person needs
	Takes  string   `json:"takes,omitempty"`  // how long that usually takes
	IfNot  string   `json:"if_not,omitempty"` // what to do when it is not seen
	// Acts is true when a person completes the step by an action: gives the order, or says that it was done.
	Acts bool `json:"acts,omitempty"`
}

// tools are needed at any drive.
var tools = []string{
	"a wrist strap, clipped to bare metal of the rack",
	"the screwdriver for the caddy's screws, and its four screws",
	"a bag for the drive",
}

// Steps are all steps of this swap, in order; those with a lower rank than the phase are finished.
func (s *State) Steps() []Step {
	out := make([]Step, len(s.Recipe.Steps))
	for i, p := range s.Recipe.Steps {
		out[i] = s.step(p)
	}
	return out
}

// wording holds the names that the texts of the steps use: the drives and their bays, as far as known.
type wording struct {
	*State
	old, oldBay     string // label tail and bay of the old drive
	newTail, newBay string // the same of the new one; a description before it is known
	into            string // where the new drive goes in
}

// stepTexts fill the step of each phase.
var stepTexts = map[Phase]func(*wording, *Step){
	Planned: (*wording).sayPlanned,
	Scrub:   (*wording).sayScrub,
	Still:   (*wording).sayStill,
	Down:    (*wording).sayDown,
	Change:  (*wording).sayChange,
	Up:      (*wording).sayUp,
	Drain:   (*wording).sayDrain,
	Release: (*wording).sayRelease,
	Pull:    (*wording).sayPull,
	Insert:  (*wording).sayInsert,
	Confirm: (*wording).sayConfirm,
	Layout:  (*wording).sayLayout,
	Prepare: (*wording).sayPrepare,
	Join:    (*wording).sayJoin,
	Recover: (*wording).sayRecover,
	Refill:  (*wording).sayRefill,
	Rehouse: (*wording).sayRehouse,
	Verify:  (*wording).sayVerify,
}

func (s *State) step(p Phase) Step {
	st := Step{Phase: p}
	if say := stepTexts[p]; say != nil {
		say(s.wording(), &st)
	}
	return st
}

func (s *State) wording() *wording {
	w := &wording{State: s, old: s.Old.Tail(), oldBay: s.Old.bayWords()}
	w.newTail, w.newBay = "the new drive", w.oldBay
	if s.Recipe.Into != "" {
		w.newBay = "bay " + s.Recipe.Into
	} else if s.Recipe.Temporary {
		w.newBay = "any place that " + s.Host + " can see, such as an external bay"
	}
	w.into = w.newBay
	if s.New != nil {
		w.newBay = s.New.bayWords()
		if s.Recipe.Rank(s.Phase) > s.Recipe.Rank(Confirm) {
			w.newTail = s.New.Tail() // empty until it was read from the label
		}
	}
	return w
}

// joinSeats describes the step at which the new drive joins several places, or by a person's hand.
func (s *State) joinSeats(st *Step, newTail string) {
	var order, hand []string
	for _, x := range s.AllSeats() {
		place := fmt.Sprintf("%s, place %s", x.Pool, x.Slot)
		if x.Partition > 0 {
			place += fmt.Sprintf(" (partition %d)", x.Partition)
		}
		switch {
		case x.Joined || x.Asked:
		case x.Hand:
			hand = append(hand, fmt.Sprintf("%s uses the new drive in place %s", x.Pool, x.Slot))
		default:
			order = append(order, place)
		}
	}
	switch {
	case len(order) > 0:
		st.Acts = !s.Ordered
		st.What = fmt.Sprintf("Order that %s joins %s.", newTail, order[0])
		if s.Ordered {
			st.What = fmt.Sprintf("The host is asked to take %s into %s.", newTail, order[0])
		}
		if n := len(order) + len(hand) - 1; n > 0 {
			st.What += fmt.Sprintf(" %d more to fill after that.", n)
		}
		st.Why = "The host reads the drive's identity back once more and refuses on any difference."
	default:
		st.Kind, st.Title = StepHands, "By hand: make it a member"
		st.What = fmt.Sprintf("Use the pool system's own tool until this holds: %s.", strings.Join(hand, "; "))
		st.Why = "This pool system is watch only."
	}
	st.Expect = "Every pool shows the drive as its member."
	st.Takes, st.IfNot = "seconds to minutes", "If it does not show, look at what the pool system says; nothing "+
		"is repeated by itself."
}

// Now is the present step of the swap; for one that has ended, a step that says so.
func (s *State) Now() Step {
	switch s.Phase {
	case Abandoned:
		return Step{Phase: Abandoned, Kind: StepCheck, Title: "Abandoned", What: s.Log[len(s.Log)-1].Says}
	case Closed:
		return Step{Phase: Closed, Kind: StepCheck, Title: "Closed, verified", What: s.Pool + " is healthy."}
	}
	return s.step(s.Phase)
}
