package swap

import (
	"slices"
	"strings"

	"lantern/internal/core/pool"
)

// Apply gives the state after e, and the orders that follow from it. A person's action that must not be taken gives the
// state unchanged and a *Refusal. An observation that changes nothing gives the state unchanged, so that the same
// report seen twice leaves no trace.
//
// What must hold, in every state: an order is given only in Confirm, for a drive whose label tail was typed (R3), that
// is large enough and empty; never while another drive is missing (R5); and Recover, Verify and Closed are entered only
// by what the pool showed (R6).
func Apply(s State, e Event) (State, []Order, error) {
	next := s.clone()
	var orders []Order
	var err *Refusal
	switch e.Kind {
	case PlanIt:
		err = next.plan(e)
	case BeginIt:
		err = next.begin(e)
	case ConfirmIt:
		orders, err = next.confirm(e)
	case AbandonIt:
		orders, err = next.abandon(e)
	case DriveGone:
		next.gone(e)
	case DriveCame:
		next.came(e)
	case PoolSeen:
		orders = next.pool(e)
	case OrderDone:
		next.outcome(e)
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
	s.Phase, s.PlannedAt, s.Lead = Planned, e.At, e.By
	s.say(e, "planned to replace %s in %s, %s", s.Old.Tail(), s.Pool, s.Old.bayWords())
	return nil
}

func (s *State) begin(e Event) *Refusal {
	if s.Phase != Planned {
		if s.Phase.Open() {
			return nil // said twice is said once
		}
		return refuse("swap-ended", "Plan a new one.", "This swap is %s.", s.Phase)
	}
	warned := false
	for _, c := range e.Checks {
		if c.Result == Stops {
			return refuse("check-stops", c.Do, "%s: %s.", c.Title, c.Found)
		}
		warned = warned || c.Result == Warns
	}
	if warned && strings.TrimSpace(e.Reason) == "" {
		return refuse("reason-needed", "Begin again with a reason.", "A check warns, so a reason is asked.")
	}
	s.BegunAt, s.Lead = e.At, e.By
	s.say(e, "began the swap%s", because(e.Reason))
	s.Phase = Pull
	if s.OldGone {
		s.Phase = Insert
		s.early(e)
	}
	return nil
}

func (s *State) confirm(e Event) ([]Order, *Refusal) {
	switch {
	case (s.Phase == Join || s.Phase == Recover || s.Phase == Verify || s.Phase == Closed) && s.New != nil && s.New.TailMatches(e.Tail):
		return nil, nil // said twice is said once
	case s.Phase != Confirm:
		return nil, refuse("nothing-to-confirm", s.Now().What, "Nothing waits to be confirmed: the swap is at %q.", s.Now().Title)
	case keepsR5 && len(s.Wrong) > 0:
		w := s.Wrong[0]
		return nil, refuse("wrong-drive-out", "Put it back first.", "%s is missing from %s.", w.Tail(), w.bayWords())
	case keepsR3 && !s.New.TailMatches(e.Tail):
		return nil, refuse("wrong-tail", "Read the label of the drive you put in; nothing was written.",
			"%q is not the label tail of the new drive in %s.", e.Tail, s.New.bayWords())
	}
	if why := s.unfit(*s.New); why != "" {
		return nil, refuse("drive-refused", "Put in another drive.", "%s cannot be used: %s.", s.New.Tail(), why)
	}
	s.Order++
	s.Ordered, s.Phase, s.Refused = true, Join, ""
	s.say(e, "read the label tail %s and confirmed", s.New.Tail())
	return []Order{{Kind: OrderJoin, Number: s.Order, New: s.New.Identity}}, nil
}

func (s *State) abandon(e Event) ([]Order, *Refusal) {
	switch {
	case s.Phase == Abandoned:
		return nil, nil
	case !s.Phase.Open():
		return nil, refuse("swap-ended", "", "This swap is %s.", s.Phase)
	case strings.TrimSpace(e.Reason) == "":
		return nil, refuse("reason-needed", "Say why it is abandoned.", "A reason is asked.")
	}
	s.say(e, "abandoned it at %q%s; %s", s.Phase, because(e.Reason), s.owed())
	s.Phase, s.EndedAt = Abandoned, e.At
	return []Order{{Kind: OrderDark}}, nil
}

// owed tells in what state an abandoned swap leaves the pool.
func (s *State) owed() string {
	switch {
	case s.Phase == Planned:
		return "nothing was touched"
	case s.Phase == Join || s.Phase == Recover || s.Phase == Verify:
		return "the pool goes on recovering on its own"
	case !s.OldGone:
		return "the old drive is still in its place"
	}
	return s.Pool + " is left without the member in slot " + s.Slot
}

func (s *State) gone(e Event) {
	if !s.Phase.Open() || s.missing(e.Drive.Key()) >= 0 {
		return
	}
	key := e.Drive.Key()
	switch {
	case key == s.Old.Key():
		if s.OldGone {
			return
		}
		s.OldGone, s.Hold = true, ""
		s.say(e, "the old drive %s left %s", s.Old.Tail(), s.Old.bayWords())
		if s.Phase == Pull {
			s.Phase = Insert
			s.early(e)
		}
	case slices.Contains(s.Came, key) && e.Drive.Member == "" && (s.New == nil || key != s.New.Key()):
		// It was never part of the pool: one that came too early, or was refused.
		s.Came = slices.DeleteFunc(s.Came, func(k string) bool { return k == key })
		s.say(e, "%s was taken out again", e.Drive.Tail())
		if s.Early != nil && key == s.Early.Key() {
			s.Early = nil
		}
		if key == s.refusedKey {
			s.Refused, s.RefusedTail, s.refusedKey = "", "", ""
		}
	case s.Phase == Planned:
		// Before it began nobody was told to pull anything; the round speaks of it.
	case s.New != nil && key == s.New.Key() && s.Phase == Confirm:
		s.say(e, "the new drive %s was taken out again", s.New.Tail())
		s.New, s.Phase, s.Refused = nil, Insert, ""
	default:
		s.Wrong = append(s.Wrong, Wrong{Drive: *e.Drive, At: e.At, Margin: e.Margin})
		s.say(e, "STOP: %s left %s, which is not the drive to pull. Put it back", e.Drive.Tail(), e.Drive.bayWords())
	}
}

func (s *State) missing(key string) int {
	for i, w := range s.Wrong {
		if w.Key() == key {
			return i
		}
	}
	return -1
}

func (s *State) came(e Event) {
	if !s.Phase.Open() {
		return
	}
	key := e.Drive.Key()
	if i := s.missing(key); i >= 0 {
		was := s.Wrong[i]
		s.Wrong = append(s.Wrong[:i:i], s.Wrong[i+1:]...)
		elsewhere := ""
		if was.Bay != "" && e.Drive.Bay != was.Bay {
			elsewhere = ", not in " + was.bayWords() + " from which it came"
		}
		// Whether it is still a member is the pool's to say: what it shows next holds the swap, or lets it go on.
		s.say(e, "%s is back in %s%s", e.Drive.Tail(), e.Drive.bayWords(), elsewhere)
		return
	}
	if key != s.Old.Key() && !slices.Contains(s.Came, key) {
		s.Came = append(s.Came, key)
	}
	switch {
	case key == s.Old.Key():
		if !s.OldGone {
			return
		}
		s.OldGone = false
		s.say(e, "the old drive %s is back in %s", s.Old.Tail(), e.Drive.bayWords())
		if s.Phase == Insert {
			s.Phase = Pull
		}
	case e.Drive.Member != "" && s.Phase != Insert:
		s.say(e, "%s, a member of %s, is back in %s", e.Drive.Tail(), e.Drive.Member, e.Drive.bayWords())
	case s.Phase == Planned || s.Phase == Pull:
		// Somebody was quick: it waits for its turn.
		n := *e.Drive
		s.Early = &n
		s.say(e, "another drive is in %s before its turn", n.bayWords())
	case s.Phase == Insert:
		s.took(e, *e.Drive)
	}
}

// early looks at a drive that came before its turn, now that it is.
func (s *State) early(e Event) {
	if d := s.Early; d != nil {
		s.Early, e.By = nil, "" // it was seen, whoever does something now
		s.took(e, *d)
	}
}

// took looks at a drive that may take the old one's place.
func (s *State) took(e Event, d Drive) {
	if why := s.unfit(d); why != "" {
		s.Refused, s.RefusedTail, s.refusedKey = why, d.Tail(), d.Key()
		s.say(e, "refused %s in %s: %s", d.Tail(), d.bayWords(), why)
		return
	}
	s.New, s.Phase = &d, Confirm
	s.Refused, s.RefusedTail, s.refusedKey = "", "", ""
	// Its tail is not told before it was read from the label and confirmed.
	s.say(e, "a new drive of %s bytes is in %s", grouped(d.Capacity), d.bayWords())
}

// unfit says why a drive cannot take the old one's place; empty when it can.
func (s *State) unfit(d Drive) string {
	switch {
	case d.Key() == "":
		return "it tells no serial and no WWN, so it could never be known again"
	case d.Key() == s.Old.Key():
		return "it is the drive that is to be replaced"
	case d.Capacity < s.Needs:
		return "it is too small: it has " + grouped(d.Capacity) + " bytes, " + grouped(s.Needs) + " are needed, " +
			grouped(s.Needs-d.Capacity) + " are missing"
	case d.Member != "":
		return "it is a member of " + d.Member
	case d.Holds != "":
		return "it carries somebody's data (" + d.Holds + ")"
	case d.Ill != "":
		return "it cannot be trusted: it " + d.Ill
	}
	return ""
}

func (s *State) outcome(e Event) {
	if !s.Ordered || e.Order != s.Order {
		return // an order of before, or heard twice
	}
	s.Ordered = false
	if e.Done {
		s.say(e, "the agent made it a member: %s", e.Outcome)
		if s.Phase == Join {
			s.Phase = Recover
			if !keepsR6 {
				s.Phase = Verify
			}
		}
		return
	}
	s.Refused = e.Outcome
	s.say(e, "the order was not carried out: %s", e.Outcome)
	if s.Phase == Join {
		s.Phase = Confirm
	}
}

// pool takes in what the pool shows. It never moves on because an order was sent.
func (s *State) pool(e Event) []Order {
	p := e.Pool
	// A drive whose order was thought lost may have joined after all: what is seen counts.
	joined := s.New != nil && p.Drive == s.New.Key()
	if joined && (s.Phase == Join || s.Phase == Confirm) {
		s.Phase, s.Ordered, s.Refused = Recover, false, ""
		s.say(e, "the pool has taken %s as a member", s.New.Tail())
	}
	if s.Phase == Pull {
		s.hold(e)
	}
	if s.Phase != Recover && s.Phase != Verify {
		return nil
	}
	if p.Recovery != "" && p.Recovery != s.Recovery {
		s.Recovery = p.Recovery
	}
	if p.Recovering {
		if s.Phase == Verify {
			s.Phase = Recover
		}
		return nil
	}
	if s.Phase == Recover {
		if !joined || p.Member == pool.Recovering {
			return nil
		}
		s.Phase = Verify
		s.say(e, "the recovery has ended")
	}
	s.Closing = s.closing(e)
	open := 0
	var orders []Order
	for _, c := range s.Closing {
		if c.Result != Stops {
			continue
		}
		open++
		if c.ID == "lights-out" {
			orders = append(orders, Order{Kind: OrderDark})
		}
	}
	if open == 0 && len(s.Wrong) == 0 {
		s.Phase, s.EndedAt = Closed, e.At
		s.say(e, "closed: %s is healthy, verified", s.Pool)
	}
	return orders
}

// hold looks, with every report while the old drive is still in, at what the checks before the start have looked at: what
// was right to pull then may be wrong to pull now.
func (s *State) hold(e Event) {
	why := ""
	switch p := e.Pool; {
	case p.Recovering:
		why = "a recovery is running in " + s.Pool
	case !p.MarginKnown:
		why = "the margin of " + s.Pool + " is unknown"
	case keepsR1 && p.Without < 0:
		why = "without it data would be lost"
	}
	if why == s.Hold {
		return
	}
	s.Hold = why
	if why != "" {
		s.say(e, "HOLD: %s must not be pulled now, %s", s.Old.Tail(), why)
	} else {
		s.say(e, "%s may be pulled again", s.Old.Tail())
	}
}

func because(reason string) string {
	if reason == "" {
		return ""
	}
	return " (" + reason + ")"
}
