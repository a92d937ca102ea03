package swap

import (
	"slices"
	"strings"
)

// undoable are the steps from which a person can go back to the plan, as long as no drive was removed.
var undoable = []Phase{Scrub, Still, Down, Drain, Pull, Insert}

// back undoes a step where that is possible: a confirmed new drive is released, a swap that has changed nothing returns
// to its plan.
func (s *State) back(e Event) ([]Order, *Refusal) {
	if err := s.may(e); err != nil {
		return nil, err
	}
	switch {
	case s.Phase == Confirm && s.Recipe.Spare != "":
		s.say(e, "went back from %q to the plan", s.Phase)
		s.enter(e, Planned)
		return nil, nil
	case s.Phase == Confirm:
		d := *s.New
		s.say(e, "set the new drive in %s aside", d.bayWords())
		s.New = nil
		s.enter(e, Insert)
		s.Refused, s.refusedKey = "it was set aside: take it out, or put in another", d.Key()
		return nil, nil
	case slices.Contains(undoable, s.Phase) && !s.OldGone && s.New == nil && len(s.Wrong) == 0:
		var orders []Order
		if s.InProgress || s.Ordered {
			s.Order++
			orders = append(orders, Order{Kind: OrderStop, Number: s.Order, Drive: s.Old.Identity})
		}
		s.Ordered = false
		s.say(e, "went back from %q to the plan", s.Phase)
		s.enter(e, Planned)
		return orders, nil
	}
	return nil, refuse(
		"no-way-back",
		"Continue, or abandon it: you get a list of what remains to be done.",
		"%q cannot be undone.",
		s.Now().Title,
	)
}

func (s *State) hold(e Event) *Refusal {
	switch {
	case s.Phase.Open() && s.Lead == e.By && s.PausedBy != "":
		return nil
	case !s.Phase.Open(), s.Lead != e.By:
		return s.may(e)
	case strings.TrimSpace(e.Reason) == "":
		return refuse("reason-needed", "Say why it is held.", "A reason is required.")
	}
	s.PausedBy = strings.TrimSpace(e.Reason)
	s.say(e, "holds the swap%s; %s", because(s.PausedBy), s.owed())
	return nil
}

func (s *State) resume(e Event) *Refusal {
	switch {
	case !s.Phase.Open() || s.Lead != e.By:
		return s.may(e)
	case s.PausedBy == "":
		return nil
	}
	s.PausedBy = ""
	s.say(e, "goes on with the swap")
	return nil
}

// lead hands the swap over to another person, or takes it over with a reason.
func (s *State) lead(e Event) *Refusal {
	to := strings.TrimSpace(e.To)
	switch {
	case !s.Phase.Open():
		return refuse("swap-ended", "", "This swap is %s.", s.Phase)
	case to == s.Lead:
		return nil
	case to == "":
		return refuse("nobody-named", "Name who leads from now on.", "Nobody was named.")
	case s.Lead == e.By:
		s.say(e, "handed the lead over to %s", to)
	case to != e.By:
		return refuse("led-by-another", "Only who leads can hand it to somebody else.", "%s leads this swap.", s.Lead)
	case strings.TrimSpace(e.Reason) == "":
		return refuse("reason-needed", "Say why you take it over.", "%s leads this swap, so a reason is required.", s.Lead)
	default:
		s.say(e, "took the lead over from %s%s", s.Lead, because(e.Reason))
	}
	s.Lead = to
	return nil
}

func (s *State) abandon(e Event) ([]Order, *Refusal) {
	switch {
	case s.Phase == Abandoned:
		return nil, nil
	case !s.Phase.Open():
		return nil, refuse("swap-ended", "", "This swap is %s.", s.Phase)
	case s.Phase != Planned && s.Lead != e.By:
		return nil, s.may(e)
	case strings.TrimSpace(e.Reason) == "":
		return nil, refuse("reason-needed", "Say why it is abandoned.", "A reason is required.")
	}
	s.say(e, "abandoned it at %q%s; %s", s.Phase, because(e.Reason), s.owed())
	s.Phase, s.EndedAt, s.PausedBy = Abandoned, e.At, ""
	return []Order{{Kind: OrderDark}}, nil
}

// fate records what becomes of the old drive.
func (s *State) fate(e Event) *Refusal {
	switch {
	case s.Phase != Closed:
		return refuse(
			"swap-open",
			"Close the swap first.",
			"The fate of %s is recorded when the swap is closed; it is %s.",
			s.Old.Tail(),
			s.Phase,
		)
	case !slices.Contains([]FateKind{Returned, Reused, Destroyed}, e.Fate):
		return refuse("bad-fate", "It is return, stock or destroy.", "%q is not a fate of a drive.", e.Fate)
	case s.Fate != nil && s.Fate.Kind == e.Fate:
		return nil
	}
	s.Fate = &Fate{Kind: e.Fate, At: e.At, By: e.By, Note: strings.TrimSpace(e.Reason)}
	s.say(
		e,
		"%s: %s%s",
		s.Old.Tail(),
		map[FateKind]string{Returned: "goes back under warranty", Reused: "goes to stock", Destroyed: "is destroyed"}[e.Fate],
		because(strings.TrimSpace(e.Reason)),
	)
	return nil
}

// owed describes the state in which an abandoned swap leaves the pool.
func (s *State) owed() string {
	host := ""
	if s.in(Down, Change, Up) || s.Phase == Rehouse && s.Recipe.has(Down) {
		host = "; " + s.Host + " is to be brought back, and the work that was moved away from it"
	}
	drained := s.Recipe.has(Drain) && s.Recipe.Rank(s.Phase) > s.Recipe.Rank(Drain)
	switch {
	case s.Phase == Planned:
		return "nothing was touched"
	case s.Phase == Drain && (s.InProgress || s.Ordered):
		return "what began to move goes on moving; stop it with: lantern stop " + s.Pool
	case s.in(Layout, Prepare):
		return s.poolWords() + " is left without the member in slot " + s.Slot + "; the new drive has " +
			"partitions of it, and no data"
	case s.in(Join, Recover, Refill) || s.Phase == Verify && s.New != nil:
		return "the pool goes on recovering on its own"
	case s.Recipe.Rank(s.Phase) > s.Recipe.Rank(Recover):
		if s.OldGone {
			return "the new drive stays where it is" + host
		}
		return "the new drive carries its share; the old one is still in its place" + host
	case drained && !s.OldGone:
		return "nothing is on the old drive any more, and " + s.Pool + " has one member less" + host
	case !s.OldGone:
		return "the old drive is still in its place" + host
	}
	return s.Pool + " is left without the member in slot " + s.Slot + host
}

// in reports whether the present step is one of these.
func (s *State) in(phases ...Phase) bool { return slices.Contains(phases, s.Phase) }

func because(reason string) string {
	if reason == "" {
		return ""
	}
	return " (" + reason + ")"
}
