package swap

import (
	"slices"
	"strings"
	"time"
)

// An observation is never refused.

// outsideTurn reports whether the old drive must still be in place at a step, so that its removal is an alarm (R5).
func (s *State) outsideTurn() bool {
	if s.Recipe.Lost {
		return false // it is no longer used
	}
	switch s.Phase {
	case Planned, Scrub, Drain, Release, Still, Down:
		return true
	case Pull:
		return s.BlockedBy != "" // it must not be pulled now
	case Insert, Confirm, Layout, Prepare, Join, Recover:
		return s.Recipe.Beside
	}
	return false
}

// How long a consequence of a swap may last before it is reported separately: a host that is down, a new drive on its
// way to its bay.
const (
	downFor  = 2 * time.Hour
	carryFor = 30 * time.Minute
)

// since is when the swap reached its present step.
func (s *State) since() time.Time {
	if n := len(s.Visited); n > 0 {
		return s.Visited[n-1].At
	}
	return s.PlannedAt
}

// AskedOut reports whether a drive is out because this swap asked for it: the old one after its step, or the new one on
// its way to its bay, within the time allowed.
func (s *State) AskedOut(key string, now time.Time) bool {
	switch {
	case !s.Phase.Open() || s.Phase == Planned || s.missing(key) >= 0:
		return false
	case key == s.Old.Key():
		return s.OldGone
	case s.New != nil && key == s.New.Key():
		return s.New.Bay == "" && (s.Phase == Rehouse || s.Phase == Up) && now.Sub(s.since()) < carryFor
	}
	return false
}

// AskedDown reports whether the host is down because this swap asked for it, within the time allowed.
func (s *State) AskedDown(now time.Time) bool {
	down := s.Phase == Down || s.Phase == Change || s.Phase == Up || s.Phase == Rehouse && s.Recipe.has(Down)
	return s.Phase.Open() && down && now.Sub(s.since()) < downFor
}

// observation is a swap while an observation is applied: drives that appear and vanish, hosts, outcomes of orders, the
// state of the pool.
type observation struct{ *State }

func (s observation) gone(e Event) {
	if !s.Phase.Open() || s.missing(e.Drive.Key()) >= 0 {
		return
	}
	key := e.Drive.Key()
	isNew := s.New != nil && key == s.New.Key()
	switch {
	case key == s.Old.Key():
		s.oldGone(e)
	case slices.Contains(s.Came, key) && e.Drive.Member == "" && !isNew:
		s.strangerGone(e)
	case e.Drive.Member == "" && e.Drive.Blank && !isNew:
		// Nothing depends on it: a drive of the stock is being carried to where it is needed.
		s.say(e, "%s was taken out of %s", e.Drive.Tail(), e.Drive.bayWords())
		if s.Early != nil && key == s.Early.Key() {
			s.Early = nil
		}
	case s.Phase == Planned:
		// Before the swap began nobody was told to pull a drive; the round shows it.
	case isNew && s.newGone(e):
	default:
		s.Wrong = append(s.Wrong, Wrong{Drive: *e.Drive, At: e.At, Margin: e.Margin})
		s.Alarms++
		s.say(e, "STOP: %s left %s, which is not the drive to pull. Put it back", e.Drive.Tail(), e.Drive.bayWords())
	}
}

// newGone records that the new drive left while nothing depended on it, or while it was to be carried elsewhere. It
// returns false in all other cases.
func (s observation) newGone(e Event) bool {
	switch {
	case e.Drive.Member == "" && s.in(Confirm, Layout, Prepare):
		s.say(e, "the new drive %s was taken out again", s.New.Tail())
		s.New, s.Ordered = nil, false
		s.enter(e, Insert)
	case s.Phase == Rehouse && s.BlockedBy == "", s.Phase == Up && s.Recipe.Temporary:
		s.New.Bay = ""
		s.say(e, "%s is on its way to %s", s.New.Tail(), s.Old.bayWords())
	default:
		return false
	}
	return true
}

// strangerGone records that a drive left which was never part of the pool: one that came too early, or was refused.
func (s observation) strangerGone(e Event) {
	// It was never part of the pool: one that came too early, or was refused.
	s.Came = slices.DeleteFunc(s.Came, func(k string) bool { return k == e.Drive.Key() })
	s.say(e, "%s was taken out again", e.Drive.Tail())
	if s.Early != nil && e.Drive.Key() == s.Early.Key() {
		s.Early = nil
	}
	if e.Drive.Key() == s.refusedKey {
		s.Refused, s.RefusedTail, s.refusedKey = "", "", ""
	}
}

func (s observation) oldGone(e Event) {
	if s.OldGone {
		return
	}
	s.OldGone = true
	if keepsR5 && s.outsideTurn() {
		// It was pulled too early, or it has died. Only a person can tell which, and until then the swap stops.
		s.Wrong = append(s.Wrong, Wrong{Drive: s.Old, At: e.At, Margin: e.Margin})
		s.Alarms++
		s.say(
			e,
			"STOP: %s left %s before its turn. If a hand took it, put it back. If it died, go on without it, "+
				"with a reason",
			s.Old.Tail(),
			s.Old.bayWords(),
		)
		return
	}
	s.BlockedBy = ""
	s.say(e, "the old drive %s left %s", s.Old.Tail(), s.Old.bayWords())
	if s.Phase == Pull {
		s.advance(e)
	}
}

// goOnWithout records a person's statement that the old drive, which left before its turn, will not come back.
func (s *State) goOnWithout(e Event) {
	i := s.missing(s.Old.Key())
	s.Wrong = slices.Delete(slices.Clone(s.Wrong), i, i+1)
	s.say(e, "said that %s will not come back%s", s.Old.Tail(), because(strings.TrimSpace(e.Reason)))
	if s.Phase == Planned {
		return
	}
	s.BlockedBy, s.Ordered = "", s.Ordered && s.Recipe.Rank(s.Phase) >= s.Recipe.Rank(Insert)
	rank, first := s.Recipe.Rank(s.Phase), s.Recipe.Rank(Insert)
	switch {
	case s.Phase == Pull:
		s.advance(e)
	case s.Phase != Still && s.Phase != Down && rank < first:
		// The steps before its removal no longer apply; the others are those for a lost drive.
		s.Recipe.Why = append(
			slices.Clip(s.Recipe.Why),
			"the old drive left before its turn, so the rest is as for one that is lost",
		)
		if s.Recipe.has(Down) {
			s.enter(e, Still)
		} else {
			s.enter(e, Insert)
		}
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

func (s observation) came(e Event) {
	if !s.Phase.Open() {
		return
	}
	key := e.Drive.Key()
	if i := s.missing(key); i >= 0 {
		s.wrongCame(e, i)
		return
	}
	if key != s.Old.Key() && !slices.Contains(s.Came, key) {
		s.Came = append(s.Came, key)
	}
	rank := s.Recipe.Rank(s.Phase)
	switch {
	case key == s.Old.Key():
		s.oldCame(e)
	case s.New != nil && key == s.New.Key():
		s.newCame(e)
	case e.Drive.Member != "" && s.Phase != Insert:
		s.say(e, "%s, a member of %s, is back in %s", e.Drive.Tail(), e.Drive.Member, e.Drive.bayWords())
	case s.Phase == Insert:
		s.took(e, *e.Drive)
	case rank < s.Recipe.Rank(Insert):
		// It came before its step: it waits.
		n := *e.Drive
		s.Early = &n
		if s.Phase != Up {
			s.say(e, "another drive is in %s before its turn", n.bayWords())
		}
	}
}

// newCame records that the new drive appeared in a bay.
func (s observation) newCame(e Event) {
	s.New.Bay = e.Drive.Bay
	switch {
	case s.Phase == Rehouse && s.Old.Bay != "" && e.Drive.Bay == s.Old.Bay && s.BlockedBy == "":
		s.say(e, "%s is in the bay it stays in, %s", s.New.Tail(), s.New.bayWords())
		if !s.Recipe.has(Down) {
			s.advance(e)
		}
	case s.Phase == Rehouse:
		s.say(e, "%s is in %s now, not yet in %s", s.New.Tail(), s.New.bayWords(), s.Old.bayWords())
	}
}

// wrongCame records that a drive that was pulled by mistake is back.
func (s observation) wrongCame(e Event, i int) {
	was := s.Wrong[i]
	s.Wrong = append(s.Wrong[:i:i], s.Wrong[i+1:]...)
	if e.Drive.Key() == s.Old.Key() {
		s.oldCame(e)
		return
	}
	elsewhere := ""
	if was.Bay != "" && e.Drive.Bay != was.Bay {
		elsewhere = ", not in " + was.bayWords() + " from which it came"
	}
	// The next report of the pool shows whether it is still a member, and so blocks the swap or lets it continue.
	s.say(e, "%s is back in %s%s", e.Drive.Tail(), e.Drive.bayWords(), elsewhere)
	if s.Phase == Insert && e.Drive.Member == "" && len(s.Wrong) == 0 {
		s.took(e, *e.Drive)
	}
}

// oldCame records that the old drive is back. It is still to be replaced.
func (s observation) oldCame(e Event) {
	if !s.OldGone {
		return
	}
	s.OldGone = false
	where := ""
	if s.Old.Bay != "" && e.Drive.Bay != s.Old.Bay && e.Drive.Bay != "" {
		where = ", not in " + s.Old.bayWords() + " where it was"
		s.Old.Bay = e.Drive.Bay
	}
	s.say(e, "the old drive %s is back in %s%s", s.Old.Tail(), e.Drive.bayWords(), where)
	if s.Phase != Insert || s.Recipe.Beside || s.Recipe.has(Down) {
		return // where it must still be in place, its pool shows whether it is a member again
	}
	if !s.Recipe.has(Pull) {
		s.Recipe.Steps = slices.Insert(slices.Clone(s.Recipe.Steps), s.Recipe.Rank(Insert), Pull)
	}
	s.enter(e, Pull)
	s.BlockedBy = "what " + s.Pool + " makes of it is not seen yet"
}

// early examines a drive that came early, now that its step has been reached.
func (s *State) early(e Event) {
	if d := s.Early; d != nil {
		s.Early, e.By = nil, "" // it was observed, whoever acts now
		s.took(e, *d)
	}
}

// took examines a drive that may replace the old one.
func (s *State) took(e Event, d Drive) {
	if why := s.Unfit(d); why != "" {
		s.Refused, s.RefusedTail, s.refusedKey = why, d.Tail(), d.Key()
		s.say(e, "refused %s in %s: %s", d.Tail(), d.bayWords(), why)
		return
	}
	s.New = &d
	s.enter(e, Confirm)
	// Its tail is not shown before a person has read it from the label and confirmed it.
	s.say(e, "a new drive of %s bytes is in %s", grouped(d.Capacity), d.bayWords())
}

// host records that the host stopped reporting, or reports again.
func (s observation) host(e Event) {
	if !s.Phase.Open() {
		return
	}
	before := s.Phase
	switch {
	case e.Quiet && (s.Phase == Down || s.Phase == Up):
		s.enter(e, Down)
		s.advance(e)
		s.say(e, "%s is down", s.Host)
	case !e.Quiet && (s.Phase == Change || s.Phase == Rehouse && s.Recipe.has(Down)):
		s.say(e, "%s reports again", s.Host)
		s.enter(e, Up)
	}
	if before != s.Phase {
		s.BlockedBy = ""
	}
}

func (s observation) outcome(e Event) {
	if !s.Ordered || e.Order != s.Order {
		return // an earlier order, or a repeated outcome
	}
	s.Ordered = false
	switch {
	case e.Done && s.Phase == Join:
		s.joined(e)
	case e.Done && s.Phase == Layout:
		s.say(e, "the agent gave it the partitions of %s: %s", s.Old.Tail(), e.Outcome)
		s.advance(e)
	case e.Done:
		s.InProgress = s.Phase == Scrub || s.Phase == Drain || s.Phase == Release || s.Phase == Refill
		s.say(e, "the agent did it: %s", e.Outcome)
	default:
		s.say(e, "the order was not carried out: %s", e.Outcome)
		if s.Phase == Layout ||
			s.Phase == Join && !slices.ContainsFunc(s.Seats, func(x Seat) bool { return x.Asked || x.Joined }) &&
				!s.Recipe.has(Prepare) {
			s.enter(e, Confirm)
		}
		s.Refused = e.Outcome
	}
}

// joined records that the order to join was carried out.
func (s observation) joined(e Event) {
	s.say(e, "the agent made it a member: %s", e.Outcome)
	if i := s.nextSeat(); i >= 0 && len(s.Seats) > 0 {
		s.Seats[i].Asked = true
	}
	if len(s.Seats) > 0 && s.nextSeat() >= 0 ||
		slices.ContainsFunc(s.AllSeats(), func(x Seat) bool { return x.Hand && !x.Joined }) {
		return // other places are still to be filled
	}
	s.enter(e, Recover)
	if !keepsR6 {
		s.Phase = Verify
	}
}
