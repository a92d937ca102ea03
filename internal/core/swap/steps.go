package swap

import (
	"fmt"
	"lantern/internal/core/stack"
	"strings"
)

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
	Expect string   `json:"expect"`           // what should be seen
	Needs  []string `json:"needs,omitempty"`  // what a person needs
	Takes  string   `json:"takes,omitempty"`  // how long that usually takes
	IfNot  string   `json:"if_not,omitempty"` // what to do when it is not seen
	// Acts is true when a person moves it on with a word: order it, or say that it was done.
	Acts bool `json:"acts,omitempty"`
}

// tools are needed at any drive.
var tools = []string{
	"a wrist strap, clipped to bare metal of the rack",
	"the screwdriver for the caddy's screws, and its four screws",
	"a bag for the drive",
}

// Steps are all steps of this swap, in order; those of a lower rank than the phase are past.
func (s *State) Steps() []Step {
	out := make([]Step, len(s.Recipe.Steps))
	for i, p := range s.Recipe.Steps {
		out[i] = s.step(p)
	}
	return out
}

func (s *State) step(p Phase) Step {
	old, oldBay := s.Old.Tail(), s.Old.bayWords()
	newTail, newBay := "the new drive", oldBay
	if s.Recipe.Into != "" {
		newBay = "bay " + s.Recipe.Into
	} else if s.Recipe.Temporary {
		newBay = "any place that " + s.Host + " can see, such as an external bay"
	}
	into := newBay
	if s.New != nil {
		newBay = s.New.bayWords()
		if s.Recipe.Rank(s.Phase) > s.Recipe.Rank(Confirm) {
			newTail = s.New.Tail() // not before it was read from the label
		}
	}
	st := Step{Phase: p}
	switch p {
	case Planned:
		st.Kind, st.Title = StepCheck, "Look before you touch"
		st.What = "Read the checks. Each says what it looked at and what it found."
		st.Why = "What is wrong now is cheaper than what goes wrong halfway."
		st.Expect = "No check stops. Where one warns, say why you go on."
		st.Acts = true
	case Scrub:
		st.Kind, st.Title, st.Acts = StepDo, "Read the pool through", true
		st.What = "Order a scrub of " + s.Pool + ", and wait until it has ended."
		st.Why = "What the other members cannot give back is found now, while " + old + " still helps."
		st.Expect = "The scrub ends and leaves nothing unrepaired."
		st.Takes, st.IfNot = "hours; a range for the finish stands beside it", "If it leaves damage, find out "+
			"what is damaged and restore it before you go on."
	case Still:
		st.Kind, st.Title, st.Acts = StepHands, "Bring the work on "+s.Host+" to rest", true
		st.What = "Move what works on " + s.Host + " elsewhere, or stop it."
		if len(s.Recipe.Stops) > 0 {
			st.What += " " + strings.Join(
				s.Recipe.Stops,
				", ",
			) + " cannot be reached while it is down: tell those who use it."
		}
		st.Why = "Work that is cut off by a power-down leaves more to repair than one drive."
		st.Expect = "Nothing works on it any more. Then say so."
	case Down:
		st.Kind, st.Title = StepHands, "Take "+s.Host+" down"
		st.What = "Shut " + s.Host + " down in order, and wait until it is dark. Do not just cut its power."
		st.Why = "Drives of this bay are changed only while the host is down."
		if s.Recipe.Temporary {
			st.Why = "Nothing may be missing from " + s.Pool + " while it is used, so it stands still while the " +
				"drive moves."
		}
		st.Expect = s.Host + " stops reporting, and this step ends by itself."
		st.Takes = "a few minutes"
	case Change:
		st.Kind, st.Title, st.Needs = StepHands, "Change "+old+" while the host is down", tools
		st.What = fmt.Sprintf(
			"Take the drive with label tail %s out of %s, put an empty drive of at least %s bytes in its place, "+
				"and bring %s up again.",
			old,
			oldBay,
			grouped(s.Needs),
			s.Host,
		)
		st.Why = "While it is dark no light can show the bay: the label decides."
		st.Expect = "The caddy sits flush, its latch is closed; " + s.Host + " reports again within minutes."
		st.Takes, st.IfNot = "a quarter of an hour", "If it does not come back, look whether every drive sits "+
			"firmly in its bay."
	case Up:
		st.Kind, st.Title = StepCheck, "See that all is back"
		st.What = "The clock of " + s.Host + " and all other members on it are looked at."
		st.Why = "A host with a wrong clock, or with one more drive missing, is no ground to go on from."
		st.Expect = "Everything else is back, and the new drive is seen."
	case Drain:
		if s.Recipe.Hand {
			st.Kind, st.Title = StepHands, "Move away what lies on "+old
			st.What = fmt.Sprintf(
				"By hand, with the pool system's own tool: %s must not use %s at place %s any more.",
				s.Pool,
				old,
				s.Slot,
			)
			st.Why = "Taken out before that, it takes data along."
			st.Expect = "This step ends by itself when " + s.Pool + " is seen without it."
			return st
		}
		st.Kind, st.Title, st.Acts = StepDo, "Drain "+old, true
		st.What = fmt.Sprintf(
			"Order that all that lies on %s moves to the other members, and wait until nothing lies on it.",
			old,
		)
		if n := len(s.Recipe.Unit); n > 0 {
			st.What = fmt.Sprintf(
				"Order that all that lies on the %s that depend on %s moves to others, and wait until nothing "+
					"lies on them.",
				plural(n, "member", "members"),
				old,
			)
		}
		st.Why = "Taken out before it is empty, it takes data or copies along."
		st.Expect = "Every piece is clean, and nothing lies on it any more."
		st.Takes, st.IfNot = "hours; a range for the finish stands beside it", "If it stops before its end "+
			"there is no room: make room, or put in a further drive."
	case Release:
		st.Kind, st.Title, st.Acts = StepDo, "Let the pool forget the place", true
		st.What = fmt.Sprintf("Order that %s removes place %s.", s.Pool, s.Slot)
		st.Why = "So that nothing is laid on it again, and nobody counts on it."
		st.Expect = s.Pool + " does not name " + old + " any more."
	case Pull:
		st.Kind, st.Title, st.Needs = StepHands, "Pull "+old, tools
		st.What = fmt.Sprintf(
			"Pull the drive with label tail %s out of %s. Compare the tail on its label before you let go.",
			old,
			oldBay,
		)
		st.Why = "The pool keeps its data without it; the bay is needed for the new drive."
		if s.Recipe.Beside {
			st.Why = "The new drive carries its share."
		} else if s.Recipe.has(Drain) {
			st.Why = "Nothing lies on it any more."
		}
		st.Expect = "The bay falls dark and this step ends by itself within seconds. If any other drive leaves, " +
			"everything stops."
		if s.BlockedBy != "" && s.Phase == Pull {
			st.Title = "Do not pull " + old + " now"
			st.What = "Leave it in its place: " + s.BlockedBy + "."
			st.Why = "When the swap began this was not so."
			st.Expect = "This step asks for the drive again, by itself, when it may be pulled."
		}
	case Insert:
		st.Kind, st.Title, st.Needs = StepHands, "Put in a new drive", tools
		size := fmt.Sprintf("at least %s bytes", grouped(s.Needs))
		if s.AtMost > 0 {
			size += fmt.Sprintf(" and at most %s", grouped(s.AtMost))
		}
		st.What = fmt.Sprintf("Put an empty drive of %s into %s.", size, into)
		if s.Recipe.Dark && !s.Recipe.has(Pull) && !s.Recipe.has(Down) {
			st.What = fmt.Sprintf(
				"Take the drive with label tail %s, which does not answer, out of %s: with all others lit it is "+
					"the dark one. Put an empty drive of %s in its place.",
				old,
				oldBay,
				size,
			)
		}
		st.Why = "The pool needs a member of at least the old one's size."
		st.Expect = "The caddy sits flush and its latch is closed. The drive shows here within seconds, or is " +
			"refused with the reason."
		st.IfNot = "If it does not show, push it in once more until the latch catches; else try another."
	case Confirm:
		st.Kind, st.Title, st.Acts = StepConfirm, "Confirm the label tail", true
		st.What = fmt.Sprintf("Read the label of the drive you put into %s and type its tail.", newBay)
		if s.Recipe.Spare != "" {
			st.What = fmt.Sprintf("Read the label of the spare in %s and type its tail.", newBay)
		}
		st.Why = "From here on it is written to. Only you can see that this is the drive you mean."
		st.Expect = "The tail matches and the order goes to the host."
	case Layout:
		st.Kind, st.Title = StepDo, "Partition the new drive"
		st.What = fmt.Sprintf(
			"The host gives %s the partitions of %s: the same places, types and names, and identifiers of its own.",
			newTail,
			old,
		)
		st.Why = "Members of the pools lie on partitions of the drive."
		st.Expect = "The partition table is read back, and the kernel shows the partitions."
		st.Takes, st.IfNot = "seconds", "If that fails, the step before comes back, with the reason."
	case Prepare:
		st.Kind, st.Title = StepHands, "Set up the layers below the pool on "+newTail
		var need []string
		for _, x := range s.AllSeats() {
			if above := x.Above(); len(above) > 0 {
				on := "the drive"
				if x.Partition > 0 {
					on = fmt.Sprintf("partition %d", x.Partition)
				}
				need = append(
					need,
					fmt.Sprintf(
						"%s on %s, open and empty, with at least %s bytes",
						stack.LayerWords(above),
						on,
						grouped(x.Needs),
					),
				)
			}
		}
		st.What = fmt.Sprintf(
			"By hand on %s: %s. Use the keys and settings that %s had; nothing here knows them.",
			s.Host,
			strings.Join(need, "; "),
			old,
		)
		st.Why = "The pool does not use the bare drive. You set up the layers between."
		st.Expect = "This step ends by itself when " + s.Host + " shows it, open and empty."
	case Join:
		st.Kind, st.Title = StepDo, "Make it a member"
		if len(s.AllSeats()) > 1 || s.byHand() {
			s.joinSeats(&st, newTail)
			return st
		}
		st.What = fmt.Sprintf("The host is asked to take %s into %s, slot %s.", newTail, s.Pool, s.Slot)
		if s.Recipe.Beside {
			st.What = fmt.Sprintf(
				"The host is asked to fill %s beside %s in %s, slot %s.",
				newTail,
				old,
				s.Pool,
				s.Slot,
			)
		}
		st.Why = "The host reads the drive's identity back once more and refuses on any difference."
		st.Expect = "The pool shows the drive as its member."
		st.Takes, st.IfNot = "seconds", "If the host does not answer, nothing is repeated by itself: the step "+
			"comes back, with what was seen."
	case Recover:
		st.Kind, st.Title = StepWait, "Wait for the recovery"
		st.What = s.poolWords() + " restores its redundancy. Nothing needs a hand."
		if len(s.AllSeats()) > 1 {
			st.What = s.poolWords() + " restore their redundancy. Nothing needs a hand."
		}
		st.Why = "Until it ends, the pool can lose fewer drives than usual."
		if s.Recipe.Beside {
			st.Why = "The old drive helps until the new one holds all."
		}
		st.Expect = "Progress grows, and a range for the finish stands beside it."
		if s.Recipe.Slow {
			st.Expect += " A new drive that takes what many others send is slower than its peers for that time."
		}
		st.Takes = "hours to days"
		if s.Stuck != "" && s.Phase == Recover {
			st.Kind, st.Title, st.Acts = StepDo, s.Pool+" does not recover", true
			st.What = "What stands in the way: " + s.Stuck + ". Clear that, or nudge the pool."
			st.Why = "Without a recovery the margin stays as low as it is."
			st.Expect = "The recovery begins within a minute."
		}
	case Refill:
		st.Kind, st.Title, st.Acts = StepDo, "Fill the members again", true
		st.What = "Order that what " + s.Pool + " keeps is spread over its members anew, and wait until it has ended."
		st.Why = "The members that were emptied carry nothing yet."
		st.Expect = "Progress grows; at its end the members are evenly filled."
		st.Takes = "hours to days"
	case Rehouse:
		st.Kind, st.Title, st.Needs, st.Acts = StepHands, "Move "+newTail+" to the bay it "+
			"stays in", tools, s.New != nil &&
			s.New.Bay != ""
		st.What = fmt.Sprintf("Take %s out of %s and put it into %s.", newTail, newBay, oldBay)
		if s.Recipe.has(Down) {
			st.What += " Then bring " + s.Host + " up again."
		}
		st.Why = "Its place was a temporary one. It is known again by its identity, wherever it is."
		st.Expect = "It shows in " + oldBay + "."
		if s.BlockedBy != "" && s.Phase == Rehouse {
			st.Title, st.What = "Do not move "+newTail+" now", "Leave it in its place: "+s.BlockedBy+"."
		}
	case Verify:
		st.Kind, st.Title = StepCheck, "Verify"
		st.What = "The closing checks are looked at with every report."
		st.Why = "Healthy is what was seen, not what was hoped."
		st.Expect = "All closing checks pass."
	}
	return st
}

// joinSeats tells the step at which the new drive joins, where there are several places, or where a person does it.
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

// Now is the step the swap is at; for one that has ended, a step that says so.
func (s *State) Now() Step {
	switch s.Phase {
	case Abandoned:
		return Step{Phase: Abandoned, Kind: StepCheck, Title: "Abandoned", What: s.Log[len(s.Log)-1].Says}
	case Closed:
		return Step{Phase: Closed, Kind: StepCheck, Title: "Closed, verified", What: s.Pool + " is healthy."}
	}
	return s.step(s.Phase)
}
