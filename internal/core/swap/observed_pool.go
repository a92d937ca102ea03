package swap

import (
	"slices"
	"strings"

	"lantern/internal/core/pool"
	"lantern/internal/core/record"
)

// pool takes in what the pool shows. It never moves on because an order was sent.
func (s *State) pool(e Event) []Order {
	p := e.Pool
	if s.Phase.Open() && s.Phase != Planned {
		if n := len(s.Margins); n == 0 || s.Margins[n-1].Margin != e.Margin || s.Margins[n-1].Known != p.MarginKnown {
			s.Margins = append(s.Margins, Stood{e.At, e.Margin, p.MarginKnown})
		}
	}
	// A drive whose order was thought lost may have joined after all: what is seen counts.
	joined := s.New != nil && (p.Drive == s.New.Key() || p.New != "" && p.New != pool.Standby)
	if len(s.Seats) > 0 && s.New != nil {
		for i := range s.Seats {
			if i < len(p.Joined) && p.Joined[i] != s.Seats[i].Joined {
				if s.Seats[i].Joined = p.Joined[i]; p.Joined[i] && len(s.Seats) > 1 {
					s.say(e, "%s shows %s at place %s", s.Seats[i].Pool, s.New.Tail(), s.Seats[i].Slot)
				}
			}
		}
	}
	if joined && slices.Contains([]Phase{Join, Confirm, Layout, Prepare}, s.Phase) {
		s.enter(e, Recover)
		s.Ordered = false
		s.say(e, "the pool has taken %s as a member", s.New.Tail())
	}
	s.lookBefore(e)
	switch s.Phase {
	case Scrub:
		// The one that was ordered, or another that ended since the swap began: both have read everything.
		if !p.Recovering && p.Scrubbed.After(s.StartedAt) {
			s.Ordered, s.InProgress = false, false
			if p.ScrubClean {
				s.say(e, "%s was read through, and nothing was left unrepaired", s.Pool)
				s.advance(e)
			} else if s.Refused == "" {
				s.Refused = "reading it through left damage that could not be repaired"
				s.say(e, "%s", s.Refused)
			}
		}
	case Drain:
		if p.Drained && !p.Recovering && p.MarginKnown {
			s.Ordered = false
			s.say(e, "nothing lies on %s any more", s.Old.Tail())
			s.advance(e)
		}
	case Prepare:
		if p.Prepared {
			s.say(e, "%s is set up as needed", s.New.Tail())
			s.advance(e)
		}
	case Release:
		if s.InProgress && p.Drive != s.Old.Key() {
			s.say(e, "%s has forgotten place %s", s.Pool, s.Slot)
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
	if p.Recovery != "" {
		s.Recovery = p.Recovery
	}
	if s.Phase != Verify {
		return nil
	}
	s.Closing = s.closing(e)
	open := 0
	var orders []Order
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

// recovering looks whether the pool has its member, and what stands in the way of a recovery that does not begin.
func (s *State) recovering(e Event, joined bool) {
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

// carries says whether the old drive still carries its share as the pool shows it.
func (s *State) carries(p *PoolView) bool { return p.Drive == s.Old.Key() && p.Member != pool.Out }

// lookBefore looks, with every report before a step that lowers the margin, at what the checks before the start have
// looked at: what was right to do then may be wrong to do now.
func (s *State) lookBefore(e Event) {
	p := e.Pool
	why := ""
	switch s.Phase {
	case Pull:
		if s.carries(p) {
			why = s.unsafe(p, p.Without, p.Lost)
		} else if s.Recipe.Beside && p.New != pool.Online && p.Drive != s.New.Key() {
			why = "the new drive does not carry its share yet"
		}
	case Rehouse:
		if why = s.unsafe(p, p.Moving, nil); s.Recipe.has(Down) {
			why = "" // the host is down
		}
	case Release:
		if s.InProgress || s.Ordered {
			return
		}
		if why = s.unsafe(p, max(0, p.Without), nil); why == "" && !p.Drained {
			why = "pieces still lie on " + s.Old.Tail()
		}
	case Scrub, Drain, Refill:
		if s.InProgress || s.Ordered {
			return // what moves is its own
		}
		if keepsR4 && p.Recovering {
			why = "a recovery is running in " + s.Pool
		}
	case Still, Down:
		if keepsR4 && p.Recovering {
			why = "a recovery is running in " + s.Pool
		} else if !p.MarginKnown {
			why = "the margin of " + s.Pool + " is unknown"
		}
	case Up:
		switch {
		case s.Recipe.Temporary && s.New != nil && s.New.Bay == "":
			why = s.New.Tail() + " is not seen yet"
		case !s.Recipe.Temporary && !s.OldGone:
			why = s.Old.Tail() + " is still in its place; take " + s.Host + " down once more"
		case !s.Recipe.Temporary && s.Early == nil:
			why = "no new drive is seen; take " + s.Host + " down once more"
		}
	default:
		return
	}
	if why == "" {
		for _, c := range e.Checks {
			if c.Result == record.Stops && (len(c.Loses) == 0 || len(s.Loses) == 0) {
				why = c.Title + ": " + strings.TrimSuffix(c.Found, ".")
				break
			}
		}
	}
	s.Gate = e.Checks
	if i := s.missing(s.Old.Key()); s.Phase == Pull && why == "" && i >= 0 && p.MarginKnown {
		// It went a moment too early, and what stood against that is over.
		s.Wrong, s.BlockedBy = slices.Delete(slices.Clone(s.Wrong), i, i+1), ""
		s.say(e, "%s is out, and may be now", s.Old.Tail())
		s.advance(e)
		return
	}
	if why == s.BlockedBy {
		return
	}
	was := s.BlockedBy
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

// unsafe says why a member must not leave the pool now; empty when it may.
func (s *State) unsafe(p *PoolView, after pool.Margin, lost []string) string {
	untold := slices.ContainsFunc(lost, func(v string) bool { return !slices.Contains(s.Loses, v) })
	told := len(lost) > 0 && !untold
	switch {
	case keepsR4 && p.Recovering:
		return "a recovery is running in " + s.Pool
	case !p.MarginKnown:
		return "the margin of " + s.Pool + " is unknown"
	case keepsR1 && untold:
		return "without it " + strings.Join(lost, ", ") + " would be lost"
	case keepsR1 && after < 0 && !told:
		return "without it data would be lost"
	}
	return ""
}
