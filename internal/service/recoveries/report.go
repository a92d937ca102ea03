package recoveries

import (
	"fmt"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/service/fleet"
	"lantern/internal/service/ledger"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// Take records the courses of the recoveries in a report.
func (s *State) Take(c *fleet.Change) {
	for _, p := range c.Pools {
		s.take(c.Batch, c.Report.At, p)
	}
}

// take records the courses of one pool's recoveries.
func (s *State) take(b *store.Batch, at time.Time, p api.PoolReport) {
	s.conclude(b, at, p)
	for _, r := range p.Recoveries {
		if r.Id == "" {
			continue
		}
		next := wire.ToRecovery(r, at)
		c := s.Courses[r.Id]
		fresh := c == nil
		if fresh {
			c = &Course{PoolID: p.Id, PoolName: p.Name}
			s.Courses[r.Id] = c
			c.Samples = append(c.Samples, recovery.Sample{At: moment(r.StartedAt), Todo: next.Todo})
			b.Add(&store.Sample{Recovery: r.Id, At: r.StartedAt.UnixMilli(), Todo: int64(next.Todo)})
		}
		c.prioritized(next, p.Priority, at)
		last := c.Samples[len(c.Samples)-1]
		moved := next.Done != last.Done || next.Todo != last.Todo
		if !fresh && !moved && c.State == next.State {
			if Running(c) || c.State == recovery.Paused {
				c.SeenAt = at
				b.Put(&store.Recovery{ID: r.Id, Pool: p.Id, Started: r.StartedAt, Doc: ledger.Document(c)})
			}
			continue
		}
		turned := !fresh && c.State != next.State
		if next.Drive == "" {
			next.Drive = c.Report.Drive
		}
		c.Report, c.SeenAt = next, at
		if fresh {
			s.added()
		} else if turned || next.State == recovery.Finished {
			s.turned()
		}
		if moved && at.After(last.At) {
			c.moved(b, r.Id, next.Sample, at)
		}
		b.Put(&store.Recovery{ID: r.Id, Pool: p.Id, Started: r.StartedAt, Doc: ledger.Document(c)})
		switch {
		case fresh && next.State == recovery.Running:
			s.AddEvent(b, api.EventKindRecovery, r.Id, fmt.Sprintf("a %s has begun in %s", r.Kind, p.Name))
		case turned:
			s.AddEvent(b, api.EventKindRecovery, r.Id, fmt.Sprintf("the %s in %s is %s", r.Kind, p.Name, r.State))
		default:
			s.Send(api.Event{Kind: api.EventKindRecovery, At: at, Subject: r.Id, Says: "progress"})
		}
	}
}

// conclude ends recoveries that were running in an earlier report and are missing now: they ended unobserved, as while
// the agent was down. Their result follows from the state of the pool.
func (s *State) conclude(b *store.Batch, at time.Time, p api.PoolReport) {
	if p.Inconsistent {
		return // nothing is concluded for an unknown pool
	}
	now := wire.ToPool(p)
	for _, c := range s.Of(p.Id) {
		id := c.ID
		if !Running(c) || !c.SeenAt.Before(at) ||
			slices.ContainsFunc(p.Recoveries, func(r api.RecoveryReport) bool { return r.Id == id }) {
			continue
		}
		m, _, ok := now.Slot(c.Report.Slot)
		switch {
		case c.Report.Slot == "":
			c.State = recovery.Stopped // the pool does not show whether it finished, nor what it found (R7)
		case c.Kind == recovery.Drain && ok && m.State != pool.Out:
			c.State = recovery.Stopped // it is a member still
		case c.Kind != recovery.Drain && (!ok || m.State != pool.Online):
			c.State = recovery.Failed
		default:
			c.State, c.Done = recovery.Finished, c.Todo
		}
		s.turned()
		from := c.SeenAt
		c.EndedAt, c.At, c.SeenAt = at, at, at
		last := c.Sample
		last.At = moment(at)
		c.Samples = append(c.Samples, last)
		b.Add(&store.Sample{Recovery: id, At: at.UnixMilli(), Done: int64(c.Done), Todo: int64(c.Todo)})
		b.Put(&store.Recovery{ID: id, Pool: p.Id, Started: c.StartedAt, Doc: ledger.Document(c)})
		s.AddEvent(
			b,
			api.EventKindRecovery,
			id,
			fmt.Sprintf(
				"the %s in %s is %s: it ended between %s and %s, when nobody looked; the pool's own state says how",
				c.Kind,
				p.Name,
				c.State,
				from.Format("15:04:05"),
				at.Format("15:04:05"),
			),
		)
	}
}

// moved records a sample of a course; one that is not later than the one before gets the time of its report.
func (c *Course) moved(b *store.Batch, id string, x recovery.Sample, at time.Time) {
	if !x.At.After(c.Samples[len(c.Samples)-1].At) {
		x.At = at
	}
	x.At = moment(x.At)
	c.Samples = append(c.Samples, x)
	b.Add(&store.Sample{Recovery: id, At: x.At.UnixMilli(), Done: int64(x.Done), Todo: int64(x.Todo)})
}

// moment is a time with the precision of the store, so that a course is the same after a start.
func moment(at time.Time) time.Time { return time.UnixMilli(at.UnixMilli()).UTC() }

// prioritized records the priority of a recovery from a moment on.
func (c *Course) prioritized(next recovery.Report, priority string, at time.Time) {
	n := len(c.Turns)
	if priority == "" || next.State != recovery.Running || n > 0 && c.Turns[n-1].Priority == priority {
		return
	}
	t := turn{At: at, Priority: priority}
	if n == 0 {
		t.At = next.StartedAt
	}
	c.Turns = append(c.Turns, t)
}
