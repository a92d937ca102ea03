package swap

import (
	"slices"
	"strings"

	"lantern/internal/core/pool"
	"lantern/internal/core/record"
)

// pool records the state that the pool shows. A step never ends only because an order was sent.
func (s observation) pool(e Event) []Order {
	p := e.Pool
	s.noteMargin(e)
	s.noteSeats(e)
	// A drive whose order seemed lost may have joined: the observation decides.
	joined := s.New != nil && (p.Drive == s.New.Key() || p.New != "" && p.New != pool.Standby)
	if joined && slices.Contains([]Phase{Join, Confirm, Layout, Prepare}, s.Phase) {
		s.enter(e, Recover)
		s.Ordered = false
		s.say(e, "the pool has taken %s as a member", s.New.Tail())
	}
	s.lookBefore(e)
	s.seen(e, joined)
	if p.Recovery != "" {
		s.Recovery = p.Recovery
	}
	if s.Phase != Verify {
		return nil
	}
	return s.verify(e)
}

// noteMargin records the course of the margin since the swap began.
func (s observation) noteMargin(e Event) {
	if !s.Phase.Open() || s.Phase == Planned {
		return
	}
	stood := Stood{e.At, e.Margin, e.Pool.MarginKnown}
	if n := len(s.Margins); n == 0 || s.Margins[n-1].Margin != stood.Margin || s.Margins[n-1].Known != stood.Known {
		s.Margins = append(s.Margins, stood)
	}
}

// noteSeats records at which of its places the new drive is a member.
func (s observation) noteSeats(e Event) {
	if s.New == nil {
		return
	}
	for i := range min(len(s.Seats), len(e.Pool.Joined)) {
		joined := e.Pool.Joined[i]
		if joined && !s.Seats[i].Joined && len(s.Seats) > 1 {
			s.say(e, "%s shows %s at place %s", s.Seats[i].Pool, s.New.Tail(), s.Seats[i].Slot)
		}
		s.Seats[i].Joined = joined
	}
}

// seen goes to the next step when the pool shows that the present one is done (R6).
func (s observation) seen(e Event, joined bool) {
	p := e.Pool
	switch s.Phase {
	case Scrub:
		s.scrubbed(e)
	case Drain:
		if p.Drained && !p.Recovering && p.MarginKnown {
			s.Ordered = false
			s.say(e, "nothing is on %s any more", s.Old.Tail())
			s.advance(e)
		}
	case Prepare:
		if p.Prepared {
			s.say(e, "%s is set up as needed", s.New.Tail())
			s.advance(e)
		}
	case Release:
		if s.InProgress && p.Drive != s.Old.Key() {
			s.say(e, "%s no longer has place %s", s.Pool, s.Slot)
			s.advance(e)
		}
	case Up:
		if s.BlockedBy == "" {
			s.advance(e)
		}
	case Recover:
		s.recovering(e, joined)
	case Refill:
		if (s.InProgress || p.Filled) && !p.Recovering && p.MarginKnown && e.Margin >= s.Margin {
			s.Ordered = false
			s.advance(e)
		}
	}
}

// scrubbed reports whether a scrub has ended: the one that was ordered, or another that ended since the swap began.
// Both have read all data.
func (s observation) scrubbed(e Event) {
	p := e.Pool
	if p.Recovering || !p.Scrubbed.After(s.StartedAt) {
		return
	}
	s.Ordered, s.InProgress = false, false
	switch {
	case p.ScrubClean:
		s.say(e, "%s was read through, and nothing was left unrepaired", s.Pool)
		s.advance(e)
	case s.Refused == "":
		s.Refused = "reading it through left damage that could not be repaired"
		s.say(e, "%s", s.Refused)
	}
}

// verify closes the swap when all closing checks pass.
func (s observation) verify(e Event) (orders []Order) {
	s.Closing = s.closing(e)
	open := 0
	for _, c := range s.Closing {
		if c.Result != record.Stops {
			continue
		}
		open++
		if c.ID == "lights-out" {
			orders = append(orders, Order{Kind: OrderDark})
		}
	}
	if open == 0 && len(s.Wrong) == 0 {
		s.Phase, s.EndedAt, s.PausedBy = Closed, e.At, ""
		s.Visited = append(s.Visited, Passed{Closed, e.At})
		s.say(e, "closed: %s is healthy, verified", s.Pool)
	}
	return orders
}

// recovering checks whether the pool has its member again, and what prevents a recovery that does not begin.
func (s observation) recovering(e Event, joined bool) {
	p := e.Pool
	stuck := p.Stuck
	if since := s.Visited; p.Recovering || len(since) == 0 || e.At.Sub(since[len(since)-1].At) < stuckAfter {
		stuck = ""
	}
	if stuck != s.Stuck {
		if s.Stuck = stuck; stuck != "" {
			s.say(e, "%s does not recover: %s", s.Pool, stuck)
		}
	}
	member := p.Member
	if p.New != "" {
		member = p.New
	}
	if p.Recovering || !joined || member != pool.Online {
		return
	}
	s.Ordered, s.Stuck = false, ""
	s.say(e, "the recovery has ended")
	s.advance(e)
}

// carries reports whether the old drive still stores its share, according to the pool.
func (s observation) carries(p *PoolView) bool { return p.Drive == s.Old.Key() && p.Member != pool.Out }

// lookBefore repeats the checks of the start with every report before a step that lowers the margin: what was safe then
// may not be safe now.
func (s observation) lookBefore(e Event) {
	why, gated := s.against(e.Pool)
	if !gated {
		return
	}
	if why == "" {
		why = s.stopping(e.Checks)
	}
	s.Gate = e.Checks
	if i := s.missing(s.Old.Key()); s.Phase == Pull && why == "" && i >= 0 && e.Pool.MarginKnown {
		// It was removed a moment too early, and the reason against that is gone.
		s.Wrong, s.BlockedBy = slices.Delete(slices.Clone(s.Wrong), i, i+1), ""
		s.say(e, "%s is out, and may be now", s.Old.Tail())
		s.advance(e)
		return
	}
	s.block(e, why)
}

// against gives the reason against the coming step, according to the pool; gated is false where the step has no checks.
func (s observation) against(p *PoolView) (why string, gated bool) {
	switch s.Phase {
	case Pull:
		return s.againstPull(p), true
	case Rehouse:
		if s.Recipe.has(Down) {
			return "", true // the host is down
		}
		return s.unsafe(p, p.Moving, nil), true
	case Release:
		return s.againstRelease(p), !s.InProgress && !s.Ordered
	case Scrub, Drain:
		return s.recoveryRuns(p), !s.InProgress && !s.Ordered // otherwise the recovery is its own
	case Refill: // it fills members that are waiting for it
		if !p.Recovering {
			return "", !s.InProgress && !s.Ordered
		}
		return s.recoveryRuns(p), !s.InProgress && !s.Ordered
	case Still, Down:
		if why := s.recoveryRuns(p); why != "" || p.MarginKnown {
			return why, true
		}
		return "the margin of " + s.Pool + " is unknown", true
	case Up:
		return s.againstUp(), true
	}
	return "", false
}

func (s observation) againstPull(p *PoolView) string {
	switch {
	case s.carries(p):
		return s.unsafe(p, p.Without, p.Lost)
	case s.Recipe.Beside && p.New != pool.Online && p.Drive != s.New.Key():
		return "the new drive does not carry its share yet"
	}
	return ""
}

func (s observation) againstRelease(p *PoolView) string {
	why := s.unsafe(p, max(0, p.Without), nil)
	if why == "" && !p.Drained {
		why = "pieces still are on " + s.Old.Tail()
	}
	return why
}

func (s observation) againstUp() string {
	switch {
	case s.Recipe.Temporary && s.New != nil && s.New.Bay == "":
		return s.New.Tail() + " is not seen yet"
	case s.Recipe.Temporary:
		return ""
	case !s.OldGone:
		return s.Old.Tail() + " is still in its place; take " + s.Host + " down once more"
	case s.Early == nil:
		return "no new drive is seen; take " + s.Host + " down once more"
	}
	return ""
}

// recoveryRuns names the recovery that is running (R4); empty where none is.
func (s observation) recoveryRuns(p *PoolView) string {
	if moves := p.moves(); keepsR4 && moves != "" {
		return moves + " in " + s.Pool
	}
	return ""
}

// moves says what recovers in the pool; empty if nothing does.
func (p *PoolView) moves() string {
	switch {
	case p.Recovering:
		return "a recovery is running"
	case p.Filling:
		return "a member is being filled"
	}
	return ""
}

// stopping is the first of the checks that stops, in words.
func (s observation) stopping(checks []record.Check) string {
	for _, c := range checks {
		if c.Result == record.Stops && (len(c.Loses) == 0 || len(s.Loses) == 0) {
			return c.Title + ": " + strings.TrimSuffix(c.Found, ".")
		}
	}
	return ""
}

// block records why the step must not be taken, and adds to the record when that changes.
func (s observation) block(e Event, why string) {
	was := s.BlockedBy
	if why == was {
		return
	}
	s.BlockedBy = ""
	title := s.Now().Title
	s.BlockedBy = why
	switch {
	case why != "" && s.Phase == Pull:
		s.say(e, "HOLD: %s must not be pulled now, %s", s.Old.Tail(), why)
	case why != "":
		s.say(e, "HOLD at %q: %s", title, why)
	case s.Phase == Pull && was != "":
		s.say(e, "%s may be pulled again", s.Old.Tail())
	case was != "" && s.Phase != Up:
		s.say(e, "%q may go on", title)
	}
}

// unsafe says why a member must not be removed from the pool now; empty when it may.
func (s observation) unsafe(p *PoolView, after pool.Margin, lost []string) string {
	untold := slices.ContainsFunc(lost, func(v string) bool { return !slices.Contains(s.Loses, v) })
	told := len(lost) > 0 && !untold
	switch {
	case s.recoveryRuns(p) != "":
		return s.recoveryRuns(p)
	case !p.MarginKnown:
		return "the margin of " + s.Pool + " is unknown"
	case keepsR1 && untold:
		return "without it " + strings.Join(lost, ", ") + " would be lost"
	case keepsR1 && after < 0 && !told:
		return "without it data would be lost"
	}
	return ""
}
