package swap

import "fmt"

// StepKind says who acts.
type StepKind string

// Check looks, Hands is done by a person at the rack, Confirm is typed, Do is an order, Wait is the pool's.
const (
	StepCheck   StepKind = "check"
	StepHands   StepKind = "hands"
	StepConfirm StepKind = "confirm"
	StepDo      StepKind = "do"
	StepWait    StepKind = "wait"
)

// Step is one thing of the procedure as a person reads it.
type Step struct {
	Phase  Phase    `json:"phase"`
	Kind   StepKind `json:"kind"`
	Title  string   `json:"title"`
	What   string   `json:"what"`
	Why    string   `json:"why"`
	Expect string   `json:"expect"` // what should be seen
}

var order = []Phase{Planned, Pull, Insert, Confirm, Join, Recover, Verify, Closed}

// Rank is the phase's place in the procedure, from zero.
func (p Phase) Rank() int {
	for i, o := range order {
		if o == p {
			return i
		}
	}
	return -1
}

// Steps are all steps of this swap, in order; those of a lower rank than the phase are past.
func (s *State) Steps() []Step {
	newTail, newBay := "the new drive", s.Old.bayWords()
	if s.New != nil {
		newBay = s.New.bayWords()
		if s.Phase.Rank() > Confirm.Rank() {
			newTail = s.New.Tail() // not before it was read from the label
		}
	}
	pull := Step{Pull, StepHands, "Pull " + s.Old.Tail(),
		fmt.Sprintf("Pull the drive with label tail %s out of %s. Compare the tail on its label before you let go.", s.Old.Tail(), s.Old.bayWords()),
		"The pool keeps its data without it; the bay is needed for the new drive.",
		"The bay falls dark and this step ends by itself within seconds. If any other drive leaves, everything stops."}
	if s.Hold != "" {
		pull.Title = "Do not pull " + s.Old.Tail() + " now"
		pull.What = "Leave it in its place: " + s.Hold + "."
		pull.Why = "When the swap began this was not so."
		pull.Expect = "This step asks for the drive again, by itself, when it may be pulled."
	}
	return []Step{
		{Planned, StepCheck, "Look before you touch",
			"Read the checks. Each says what it looked at and what it found.",
			"What is wrong now is cheaper than what goes wrong halfway.",
			"No check stops. Where one warns, say why you go on."},
		pull,
		{Insert, StepHands, "Put in a new drive",
			fmt.Sprintf("Put an empty drive of at least %s bytes into %s.", grouped(s.Needs), s.Old.bayWords()),
			"The pool needs a member of at least the old one's size.",
			"The drive shows here with its label tail within seconds, or is refused with the reason."},
		{Confirm, StepConfirm, "Confirm the label tail",
			fmt.Sprintf("Read the label of the drive you put into %s and type its tail.", newBay),
			"From here on it is written to. Only you can see that this is the drive you mean.",
			"The tail matches and the order goes to the host."},
		{Join, StepDo, "Make it a member",
			fmt.Sprintf("The host is asked to take %s into %s, slot %s.", newTail, s.Pool, s.Slot),
			"The host reads the drive's identity back once more and refuses on any difference.",
			"The pool shows the drive as its member."},
		{Recover, StepWait, "Wait for the recovery",
			s.Pool + " restores its redundancy. Nothing needs a hand.",
			"Until it ends, fewer members may fail than usual.",
			"Progress grows, and a range for the finish stands beside it."},
		{Verify, StepCheck, "Verify", "The closing checks are looked at with every report.",
			"Healthy is what was seen, not what was hoped.", "All closing checks pass."},
	}
}

// Now is the step the swap is at; for one that has ended, a step that says so.
func (s *State) Now() Step {
	for _, st := range s.Steps() {
		if st.Phase == s.Phase {
			return st
		}
	}
	if s.Phase == Abandoned {
		return Step{Phase: Abandoned, Kind: StepCheck, Title: "Abandoned", What: s.Log[len(s.Log)-1].Says}
	}
	return Step{Phase: s.Phase, Kind: StepCheck, Title: "Closed, verified", What: s.Pool + " is healthy."}
}
