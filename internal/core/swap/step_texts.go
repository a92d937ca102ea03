package swap

import (
	"fmt"
	"lantern/internal/core/stack"
	"strings"
)

func (w *wording) sayPlanned(st *Step) {
	st.Kind, st.Title = StepCheck, "Check before you start"
	st.What = "Read the checks. Each says what it looked at and what it found."
	st.Why = "A problem found now costs less than one found during a swap."
	st.Expect = "No check stops the swap. Where one warns, give your reason to go on."
	st.Acts = true
}

func (w *wording) sayScrub(st *Step) {
	st.Kind, st.Title, st.Acts = StepDo, "Scrub the pool", true
	st.What = "Order a scrub of " + w.Pool + ", and wait until it has ended."
	st.Why = "It finds data that the other members cannot repair while " + w.old + " can still help."
	st.Expect = "The scrub ends and leaves nothing unrepaired."
	st.Takes, st.IfNot = "hours; a range for the finish stands beside it", "If damage remains, find out "+
		"what is damaged and restore it before you go on."
}

func (w *wording) sayStill(st *Step) {
	st.Kind, st.Title, st.Acts = StepHands, "Stop the work on "+w.Host, true
	st.What = "Stop the services that use " + w.Host + ", or move them elsewhere."
	if len(w.Recipe.Stops) > 0 {
		st.What += " " + strings.Join(
			w.Recipe.Stops,
			", ",
		) + " cannot be reached while it is down: tell those who use it."
	}
	st.Why = "Work that is interrupted by a power-down leaves more to repair than one drive."
	st.Expect = "No service uses it any more. Confirm that here."
}

func (w *wording) sayDown(st *Step) {
	st.Kind, st.Title = StepHands, "Take "+w.Host+" down"
	st.What = "Shut " + w.Host + " down in order, and wait until it is dark. Do not just cut its power."
	st.Why = "Drives of this bay are changed only while the host is down."
	if w.Recipe.Temporary {
		st.Why = "Nothing may be missing from " + w.Pool + " while it is used, so the host is down while the " +
			"drive is moved."
	}
	st.Expect = w.Host + " stops reporting, and this step ends by itself."
	st.Takes = "a few minutes"
}

func (w *wording) sayChange(st *Step) {
	st.Kind, st.Title, st.Needs = StepHands, "Change "+w.old+" while the host is down", tools
	st.What = fmt.Sprintf(
		"Take the drive with label tail %s out of %s, put an empty drive of at least %s bytes in its place, "+
			"and bring %s up again.",
		w.old,
		w.oldBay,
		grouped(w.Needs),
		w.Host,
	)
	st.Why = "While the host is down no light can show the bay: only the label tells which drive it is."
	st.Expect = "The caddy sits flush, its latch is closed; " + w.Host + " reports again within minutes."
	st.Takes, st.IfNot = "a quarter of an hour", "If it does not come back, look whether every drive sits "+
		"firmly in its bay."
}

func (w *wording) sayUp(st *Step) {
	st.Kind, st.Title = StepCheck, "See that all is back"
	st.What = "The clock of " + w.Host + " and all other members on it are looked at."
	st.Why = "A wrong clock, or one more missing drive, must be corrected first."
	st.Expect = "Everything else is back, and the new drive is seen."
}

func (w *wording) sayDrain(st *Step) {
	if w.Recipe.Hand {
		st.Kind, st.Title = StepHands, "Move the data off "+w.old
		st.What = fmt.Sprintf(
			"By hand, with the pool system's own tool: %s must not use %s at place %s any more.",
			w.Pool,
			w.old,
			w.Slot,
		)
		st.Why = "If it is removed before that, data is lost with it."
		st.Expect = "This step ends by itself when " + w.Pool + " is seen without it."
		return
	}
	st.Kind, st.Title, st.Acts = StepDo, "Drain "+w.old, true
	st.What = fmt.Sprintf(
		"Order that everything on %s moves to the other members, and wait until it is empty.",
		w.old,
	)
	if n := len(w.Recipe.Unit); n > 0 {
		st.What = fmt.Sprintf(
			"Order that everything on the %s that depend on %s moves to others, and wait until they "+
				"are empty.",
			plural(n, "member", "members"),
			w.old,
		)
	}
	st.Why = "If it is removed before it is empty, data or copies are lost with it."
	st.Expect = "All data is clean, and nothing is stored on it any more."
	st.Takes, st.IfNot = "hours; a range for the finish stands beside it", "If it stops before its end "+
		"there is not enough free space: free some, or add a drive."
}

func (w *wording) sayRelease(st *Step) {
	st.Kind, st.Title, st.Acts = StepDo, "Remove the place from the pool", true
	st.What = fmt.Sprintf("Order that %s removes place %s.", w.Pool, w.Slot)
	st.Why = "So that the pool does not write to it again and does not wait for it."
	st.Expect = w.Pool + " does not name " + w.old + " any more."
}

func (w *wording) sayPull(st *Step) {
	st.Kind, st.Title, st.Needs = StepHands, "Pull "+w.old, tools
	st.What = fmt.Sprintf(
		"Pull the drive with label tail %s out of %s. Compare the tail on its label before you let go.",
		w.old,
		w.oldBay,
	)
	st.Why = "The pool keeps its data without it; the bay is needed for the new drive."
	if w.Recipe.Beside {
		st.Why = "The new drive carries its share."
	} else if w.Recipe.has(Drain) {
		st.Why = "Nothing is stored on it any more."
	}
	st.Expect = "The bay goes dark and this step ends by itself within seconds. If any other drive leaves, " +
		"everything stops."
	if w.BlockedBy != "" && w.Phase == Pull {
		st.Title = "Do not pull " + w.old + " now"
		st.What = "Leave it in its place: " + w.BlockedBy + "."
		st.Why = "This has changed since the swap began."
		st.Expect = "This step asks for the drive again, by itself, when it may be pulled."
	}
}

func (w *wording) sayInsert(st *Step) {
	st.Kind, st.Title, st.Needs = StepHands, "Put in a new drive", tools
	size := fmt.Sprintf("at least %s bytes", grouped(w.Needs))
	if w.AtMost > 0 {
		size += fmt.Sprintf(" and at most %s", grouped(w.AtMost))
	}
	st.What = fmt.Sprintf("Put an empty drive of %s into %s.", size, w.into)
	if w.Recipe.Dark && !w.Recipe.has(Pull) && !w.Recipe.has(Down) {
		st.What = fmt.Sprintf(
			"Take the drive with label tail %s, which does not answer, out of %s: with all others lit it is "+
				"the dark one. Put an empty drive of %s in its place.",
			w.old,
			w.oldBay,
			size,
		)
	}
	st.Why = "The pool needs a member of at least the old one's size."
	st.Expect = "The caddy sits flush and its latch is closed. The drive shows here within seconds, or is " +
		"refused with the reason."
	st.IfNot = "If it does not show, push it in again until the latch closes; if that does not help, try another drive."
}

func (w *wording) sayConfirm(st *Step) {
	st.Kind, st.Title, st.Acts = StepConfirm, "Confirm the label tail", true
	st.What = fmt.Sprintf("Read the label of the drive you put into %s and type its tail.", w.newBay)
	if w.Recipe.Spare != "" {
		st.What = fmt.Sprintf("Read the label of the spare in %s and type its tail.", w.newBay)
	}
	st.Why = "From here on it is written to. Only you can see that this is the drive you mean."
	st.Expect = "The tail matches and the order goes to the host."
}

func (w *wording) sayLayout(st *Step) {
	st.Kind, st.Title = StepDo, "Partition the new drive"
	st.What = fmt.Sprintf(
		"The host gives %s the partitions of %s: the same places, types and names, and identifiers of its own.",
		w.newTail,
		w.old,
	)
	st.Why = "Members of the pools are on partitions of the drive."
	st.Expect = "The partition table is read back, and the kernel shows the partitions."
	st.Takes, st.IfNot = "seconds", "If that fails, the step before comes back, with the reason."
}

func (w *wording) sayPrepare(st *Step) {
	st.Kind, st.Title = StepHands, "Set up the layers below the pool on "+w.newTail
	var need []string
	for _, x := range w.AllSeats() {
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
		w.Host,
		strings.Join(need, "; "),
		w.old,
	)
	st.Why = "The pool does not use the bare drive. You set up the layers between."
	st.Expect = "This step ends by itself when " + w.Host + " shows it, open and empty."
}

func (w *wording) sayJoin(st *Step) {
	st.Kind, st.Title = StepDo, "Make it a member"
	if len(w.AllSeats()) > 1 || w.byHand() {
		w.joinSeats(st, w.newTail)
		return
	}
	st.What = fmt.Sprintf("The host is asked to take %s into %s, slot %s.", w.newTail, w.Pool, w.Slot)
	if w.Recipe.Beside {
		st.What = fmt.Sprintf(
			"The host is asked to fill %s beside %s in %s, slot %s.",
			w.newTail,
			w.old,
			w.Pool,
			w.Slot,
		)
	}
	st.Why = "The host reads the drive's identity back once more and refuses on any difference."
	st.Expect = "The pool shows the drive as its member."
	st.Takes, st.IfNot = "seconds", "If the host does not answer, nothing is repeated by itself: the step "+
		"comes back, with what was seen."
}

func (w *wording) sayRecover(st *Step) {
	st.Kind, st.Title = StepWait, "Wait for the recovery"
	st.What = w.poolWords() + " restores its redundancy. Nothing needs a hand."
	if len(w.AllSeats()) > 1 {
		st.What = w.poolWords() + " restore their redundancy. Nothing needs a hand."
	}
	st.Why = "Until it ends, the pool can lose fewer drives than usual."
	if w.Recipe.Beside {
		st.Why = "The old drive helps until the new one holds all."
	}
	st.Expect = "Progress grows, and a range for the finish stands beside it."
	if w.Recipe.Slow {
		st.Expect += " A new drive that takes what many others send is slower than its peers for that time."
	}
	st.Takes = "hours to days"
	if w.Stuck != "" && w.Phase == Recover {
		st.Kind, st.Title, st.Acts = StepDo, w.Pool+" does not recover", true
		st.What = "What blocks it: " + w.Stuck + ". Remove the cause, or ask the pool again (`next` does that)."
		st.Why = "Without a recovery the margin stays low."
		st.Expect = "The recovery begins within a minute."
	}
}

func (w *wording) sayRefill(st *Step) {
	st.Kind, st.Title, st.Acts = StepDo, "Fill the members again", true
	st.What = "Order that what " + w.Pool + " keeps is distributed over its members again, and wait until that has ended."
	st.Why = "The members that were emptied hold no data yet."
	st.Expect = "Progress grows; at its end the members are evenly filled."
	st.Takes = "hours to days"
}

func (w *wording) sayRehouse(st *Step) {
	st.Kind, st.Title, st.Needs, st.Acts = StepHands, "Move "+w.newTail+" to the bay it "+
		"stays in", tools, w.New != nil &&
		w.New.Bay != ""
	st.What = fmt.Sprintf("Take %s out of %s and put it into %s.", w.newTail, w.newBay, w.oldBay)
	if w.Recipe.has(Down) {
		st.What += " Then bring " + w.Host + " up again."
	}
	st.Why = "The bay was temporary. The drive is recognised by its identity in any bay."
	st.Expect = "It shows in " + w.oldBay + "."
	if w.BlockedBy != "" && w.Phase == Rehouse {
		st.Title, st.What = "Do not move "+w.newTail+" now", "Leave it in its place: "+w.BlockedBy+"."
	}
}

func (w *wording) sayVerify(st *Step) {
	st.Kind, st.Title = StepCheck, "Verify"
	st.What = "The closing checks are looked at with every report."
	st.Why = "The swap closes only when reports show that the pool is healthy."
	st.Expect = "All closing checks pass."
}
