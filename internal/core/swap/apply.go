package swap

import (
	"slices"
	"strings"
	"time"

	"lantern/internal/core/record"
)

// Apply gives the state after e, and the orders that follow from it. A person's action that must not be taken gives the
// state unchanged and a *Refusal. An observation that changes nothing gives the state unchanged, so that the same
// report seen twice leaves no trace.
//
// Invariants of every state: an order follows only from an action of a person, except that a light goes out; an order
// that writes to a drive follows only in Confirm, for an empty drive that fits and whose label tail was typed (R3);
// there is no order while another drive is missing (R5); no step that lowers the margin is asked for while a recovery
// runs (R4), or where it would lose data without a person's confirmation (R1); a step is finished only by an
// observation (R6).
func Apply(s State, e Event) (State, []Order, error) {
	next := s.clone()
	var orders []Order
	var err *Refusal
	switch e.Kind {
	case PlanIt:
		err = next.plan(e)
	case ReplanIt:
		next.replan(e)
	case BeginIt:
		err = next.begin(e)
	case NextIt:
		orders, err = next.next(e)
	case ConfirmIt:
		orders, err = next.confirm(e)
	case BackIt:
		orders, err = next.back(e)
	case HoldIt:
		err = next.hold(e)
	case ResumeIt:
		err = next.resume(e)
	case LeadIt:
		err = next.lead(e)
	case AbandonIt:
		orders, err = next.abandon(e)
	case FateIt:
		err = next.fate(e)
	case DriveGone:
		observation{&next}.gone(e)
	case DriveCame:
		observation{&next}.came(e)
	case PoolSeen:
		orders = observation{&next}.pool(e)
	case HostSeen:
		observation{&next}.host(e)
	case OrderDone:
		observation{&next}.outcome(e)
	}
	if err != nil {
		return s, nil, err
	}
	return next, orders, nil
}

func (s *State) plan(e Event) *Refusal {
	if s.Phase != "" {
		return refuse("swap-exists", "Look at it with its id.", "Swap %s was planned before.", s.ID)
	}
	*s = *e.Plan
	if len(s.Recipe.Steps) == 0 {
		s.Recipe = inPlace(s.OldGone)
	}
	s.Phase, s.PlannedAt, s.Lead = Planned, e.At, e.By
	s.takeSpare()
	s.say(e, "planned to replace %s in %s, %s: %s", s.Old.Tail(), s.Pool, s.Old.bayWords(), s.Recipe.Name)
	return nil
}

// takeSpare makes the spare that is filled beside the old drive the new drive: it is in the host already.
func (s *State) takeSpare() {
	if s.Recipe.Spare != "" {
		s.New, s.Early = s.Early, nil
	}
}

// replan replaces the plan by one composed from the newest facts, for example after a bay was filled or another member
// failed. It changes nothing once the swap has begun.
func (s *State) replan(e Event) {
	if s.Phase != Planned {
		return
	}
	p := e.Plan
	differs := p.Recipe.Differs(s.Recipe)
	s.Recipe, s.Slot, s.Host, s.Seats, s.Margin = p.Recipe, p.Slot, p.Host, p.Seats, p.Margin
	s.KeepSpare = p.KeepSpare
	s.Needs, s.AtMost, s.Old, s.Early, s.New = p.Needs, p.AtMost, p.Old, p.Early, nil
	s.takeSpare()
	if s.missing(s.Old.Key()) < 0 {
		s.OldGone = p.OldGone
	}
	if len(differs) > 0 {
		s.say(e, "the plan changed: %s", strings.Join(differs, "; "))
	}
}

// enter goes to a step; a step whose condition already holds is passed at once.
func (s *State) enter(e Event, p Phase) {
	s.Phase, s.InProgress, s.BlockedBy, s.Gate, s.Stuck = p, false, "", nil, ""
	s.Refused, s.RefusedTail, s.refusedKey = "", "", ""
	s.Visited = append(s.Visited, Passed{p, e.At})
	switch {
	case p == Pull && s.OldGone:
		s.enter(e, s.Recipe.after(p))
	case p == Insert:
		s.early(e)
	}
}

func (s *State) advance(e Event) { s.enter(e, s.Recipe.after(s.Phase)) }

// may gives the reason why a person must not act on the swap now: somebody else leads it, it is paused, or a drive is
// missing.
func (s *State) may(e Event) *Refusal {
	switch {
	case !s.Phase.Open():
		return refuse("swap-ended", "Plan a new one.", "This swap is %s.", s.Phase)
	case s.Lead != e.By:
		return refuse(
			"led-by-another",
			"Ask for the lead, or take it over with a reason.",
			"%s leads this swap.",
			s.Lead,
		)
	case s.PausedBy != "":
		return refuse("held", "Resume it first.", "It is on hold: %s.", s.PausedBy)
	case keepsR5 && len(s.Wrong) > 0:
		w := s.Wrong[0]
		do := "Put it back first."
		if w.Key() == s.Old.Key() {
			do = "Put it back first. If it died, go on without it: lantern swap next " + s.Old.Tail() + " --reason \"it died\""
		}
		return refuse("wrong-drive-out", do, "%s is missing from %s.", w.Tail(), w.bayWords())
	}
	return nil
}

// stopped gives the refusal of the first check that stops, and whether any check warns. A loss of volumes that a person
// confirmed does not stop (R1).
func stopped(checks []record.Check, loses bool) (warned bool, err *Refusal) {
	for _, c := range checks {
		if c.Result == record.Stops && (!loses || len(c.Loses) == 0) {
			return false, refuse("check-stops", c.Do, "%s: %s.", c.Title, c.Found)
		}
		warned = warned || c.Result != record.Passes
	}
	return warned, nil
}

func (s *State) begin(e Event) *Refusal {
	if s.Phase != Planned {
		if s.Phase.Open() {
			return s.begunAlready(e)
		}
		return refuse("swap-ended", "Plan a new one.", "This swap is %s.", s.Phase)
	}
	loses := e.TypedPool != ""
	if loses && e.TypedPool != s.Pool {
		return refuse(
			"wrong-pool",
			"Type the pool's name, letter by letter.",
			"%q is not the name of the pool whose volumes would be lost.",
			e.TypedPool,
		)
	}
	warned, err := stopped(e.Checks, loses)
	if err != nil {
		return err
	}
	left := s.missing(s.Old.Key()) >= 0
	if left && strings.TrimSpace(e.Reason) == "" {
		return refuse(
			"reason-needed",
			"Put it back; or, if it died, begin with a reason.",
			"%s left %s before the swap began.",
			s.Old.Tail(),
			s.Old.bayWords(),
		)
	}
	asked := false
	s.Loses = nil
	for _, c := range e.Checks {
		asked = asked || c.ID == "backup" && c.Result != record.Passes
		if loses {
			s.Loses = append(s.Loses, c.Loses...)
		}
	}
	reason := strings.TrimSpace(e.Reason)
	if err := s.owesWord(e, asked, warned); err != nil {
		return err
	}
	s.StartedAt, s.Lead, s.StartChecks, s.Backup = e.At, e.By, e.Checks, e.Backup
	s.say(e, "began the swap%s", because(reason))
	switch {
	case !e.Backup.IsZero():
		s.say(e, "vouched for a backup of %s", e.Backup.UTC().Format("2006-01-02"))
	case asked:
		s.say(e, "said that there is no backup")
	}
	if len(s.Loses) > 0 {
		s.say(e, "was told that %s would be lost, typed the pool's name, and confirmed it", strings.Join(s.Loses, ", "))
	}
	if left {
		s.goOnWithout(e)
	}
	s.advance(e)
	return nil
}

// begunAlready is the answer to a second "begin": empty when the same person repeats it; else who began the swap and
// why, so that nobody believes that their own reason was recorded.
func (s *State) begunAlready(e Event) *Refusal {
	reason := strings.TrimSpace(e.Reason)
	for _, x := range s.Log {
		why, began := strings.CutPrefix(x.Says, "began the swap")
		if !began {
			continue
		}
		if x.Who == e.By && (reason == "" || why == because(reason)) {
			return nil
		}
		lost := ""
		if reason != "" {
			lost = " Your reason was not recorded."
		}
		return refuse("begun-already", "See its state.", "%s began this swap at %s UTC%s.%s", x.Who,
			x.At.UTC().Format("2006-01-02 15:04"), why, lost)
	}
	return s.may(e)
}

// owesWord refuses a start without what only a person can say: the date of the backup, and the reason to continue
// despite a warning.
func (s *State) owesWord(e Event, asked, warned bool) *Refusal {
	switch {
	case asked && e.Backup.IsZero() && !e.NoBackup:
		return refuse(
			"backup-needed",
			"Give the date of the newest backup (--backup <date>), or say that there is none (--no-backup).",
			"During this swap the pool cannot lose another drive, so the date of the newest backup is needed.",
		)
	case e.Backup.After(e.At):
		return refuse(
			"backup-needed",
			"Give its real date (--backup <date>).",
			"A backup cannot be from %s, which is in the future.",
			e.Backup.UTC().Format("2006-01-02"),
		)
	case (warned || len(s.Loses) > 0) && strings.TrimSpace(e.Reason) == "":
		return refuse(
			"reason-needed",
			`Begin again with a reason: --reason "..."`,
			"A check warns, so a reason is required.",
		)
	}
	return nil
}

// next performs the action of the step: it gives an order, or records what only a person can see.
func (s *State) next(e Event) ([]Order, *Refusal) {
	if s.diedInHand(e) {
		s.goOnWithout(e)
		return nil, nil
	}
	if err := s.may(e); err != nil {
		return nil, err
	}
	if s.BlockedBy != "" {
		return nil, refuse("not-now", "Wait; it is looked at with every report.", "%s: %s.", s.Now().Title, s.BlockedBy)
	}
	if _, err := stopped(e.Checks, len(s.Loses) > 0); err != nil {
		return nil, err
	}
	if orders, done := s.doStep(e); done {
		return orders, nil
	}
	do := s.Now()
	return nil, refuse("nothing-to-do", do.What, "This step ends when its result is observed: %q.", do.Title)
}

// diedInHand reports whether the leader says that the old drive, which left before its turn, will not come back.
func (s *State) diedInHand(e Event) bool {
	return len(s.Wrong) == 1 && s.Wrong[0].Key() == s.Old.Key() && s.Phase.Open() && s.Phase != Planned &&
		s.Lead == e.By && s.PausedBy == "" && strings.TrimSpace(e.Reason) != ""
}

// doStep performs a person's action at the step and gives the orders that follow; done is false where the step has no
// such action.
func (s *State) doStep(e Event) (orders []Order, done bool) {
	switch s.Phase {
	case Join:
		return s.doJoin(e)
	case Layout:
		return nil, s.Ordered // repeated: nothing to do
	case Scrub:
		if s.Refused != "" && strings.TrimSpace(e.Reason) != "" {
			s.say(e, "goes on although %s%s", s.Refused, because(e.Reason))
			s.advance(e)
			return nil, true
		}
		return s.eachPool(s.give(e, OrderScrub, "ordered that "+s.poolWords()+" is read through")), true
	case Drain:
		if s.Recipe.Hand {
			return nil, false // done by hand, and seen
		}
		return s.give(e, OrderDrain, "ordered that what is on "+s.Old.Tail()+" moves to the others"), true
	case Release:
		return s.give(e, OrderRelease, "ordered that "+s.Pool+" forgets place "+s.Slot), true
	case Refill:
		return s.give(e, OrderRefill, "ordered that "+s.Pool+" is spread over its members anew"), true
	case Still:
		s.say(e, "said that nothing works on %s any more", s.Host)
		s.advance(e)
		return nil, true
	case Recover:
		return s.doNudge(e)
	case Rehouse:
		if s.New == nil || s.New.Bay == "" {
			return nil, false
		}
		s.say(e, "left %s in %s", s.New.Tail(), s.New.bayWords())
		s.advance(e)
		return nil, true
	}
	return nil, false
}

// give gives the order of the step, once.
func (s *State) give(e Event, kind OrderKind, says string) []Order {
	if s.Ordered || s.InProgress {
		return nil // repeated: nothing to do
	}
	s.Order++
	s.Ordered, s.Refused = true, ""
	s.say(e, "%s", says)
	return []Order{{Kind: kind, Number: s.Order, Drive: s.Old.Identity, Slots: s.Recipe.Unit}}
}

// doJoin orders that the new drive joins at its next place.
func (s *State) doJoin(e Event) ([]Order, bool) {
	if s.Ordered && len(s.Seats) > 0 {
		return nil, true // repeated: nothing to do
	}
	i := s.nextSeat()
	if s.Ordered || i < 0 {
		return nil, false
	}
	seat := s.AllSeats()[i]
	s.say(e, "ordered that %s joins %s, place %s", s.New.Tail(), seat.Pool, seat.Slot)
	s.Refused = ""
	return s.orderJoin(), true
}

// doNudge orders the start of a recovery that does not start by itself.
func (s *State) doNudge(e Event) ([]Order, bool) {
	if s.Stuck == "" {
		return nil, false
	}
	if s.Ordered {
		return nil, true
	}
	s.Order++
	s.Ordered = true
	s.say(e, "nudged %s, because %s", s.Pool, s.Stuck)
	return []Order{{Kind: OrderNudge, Number: s.Order, Drive: s.New.Identity}}, true
}

// eachPool gives one order, with one number, for every pool of the old drive that accepts orders.
func (s *State) eachPool(one []Order) (out []Order) {
	if len(one) == 0 || len(s.Seats) < 2 {
		return one
	}
	for i, x := range s.Seats {
		if x.Hand || slices.ContainsFunc(s.Seats[:i], func(y Seat) bool { return y.PoolID == x.PoolID }) {
			continue
		}
		o := one[0]
		o.Seat = x
		out = append(out, o)
	}
	return out
}

func (s *State) confirm(e Event) ([]Order, *Refusal) {
	past := s.New != nil && s.Recipe.Rank(s.Phase) > s.Recipe.Rank(Confirm) && s.New.TailMatches(e.Tail)
	switch {
	case past && s.Lead == e.By:
		return nil, nil // repeated: nothing to do
	case s.Phase != Confirm && s.Phase.Open():
		return nil, refuse(
			"nothing-to-confirm",
			s.Now().What,
			"Nothing waits to be confirmed: the swap is at %q.",
			s.Now().Title,
		)
	}
	if err := s.may(e); err != nil {
		return nil, err
	}
	if keepsR3 && !s.New.TailMatches(e.Tail) {
		return nil, refuse("wrong-tail", "Read the label of the drive you put in; nothing was written.",
			"%q is not the label tail of the new drive in %s.", e.Tail, s.New.bayWords())
	}
	if e.Drive != nil && e.Drive.Key() == s.New.Key() {
		d := *e.Drive // with the newest description: more was read since the drive appeared
		s.New = &d
	}
	if why := s.Unfit(*s.New); why != "" {
		return nil, refuse("drive-refused", instead(*s.New), "%s cannot be used: %s.", s.New.Tail(), why)
	}
	warned, err := stopped(e.Checks, false)
	if err != nil {
		return nil, err
	}
	reason := strings.TrimSpace(e.Reason)
	if warned && reason == "" {
		return nil, refuse(
			"reason-needed",
			"To continue anyway, confirm again with a reason.",
			"%s",
			firstWarning(e.Checks),
		)
	}
	s.Admitted = e.Checks
	for i := range s.Seats {
		s.Seats[i].Asked, s.Seats[i].Joined = false, false
	}
	s.say(e, "read the label tail %s and confirmed%s", s.New.Tail(), because(reason))
	return s.afterConfirm(e), nil
}

// afterConfirm gives the first order for a new drive whose label tail was typed: partitions, or joining. There is no
// order for what a person sets up by hand.
func (s *State) afterConfirm(e Event) []Order {
	switch {
	case s.Recipe.has(Layout):
		s.enter(e, Layout)
		s.Order++
		s.Ordered, s.Laid = true, s.New.Key()
		return []Order{{Kind: OrderLayout, Number: s.Order, Drive: s.New.Identity}}
	case s.Recipe.has(Prepare):
		s.enter(e, Prepare)
		return nil
	}
	s.enter(e, Join)
	return s.orderJoin()
}

// orderJoin orders that the new drive joins at the next seat; no order when all seats that accept orders were ordered.
func (s *State) orderJoin() []Order {
	i := s.nextSeat()
	if i < 0 {
		return nil
	}
	s.Order++
	s.Ordered = true
	kind := OrderJoin
	if s.Recipe.Forgets {
		kind = OrderAdmit
	}
	return []Order{
		{Kind: kind, Number: s.Order, Drive: s.New.Identity, Spare: s.Recipe.Spare != "", Seat: s.AllSeats()[i]},
	}
}

// stuckAfter is the time within which a pool must show that its recovery has begun.
const stuckAfter = 5 * time.Minute
