package progress

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/service/fleet"
	"lantern/internal/service/problem"
	"lantern/internal/service/recoveries"

	"github.com/dustin/go-humanize"
)

// mostSamples is the number of moments of a course that are sent: more than the pixels of a screen.
const mostSamples = 400

func (s *State) ViewRecovery(c *recoveries.Course, whole bool) api.Recovery {
	r := c.Report
	now := s.Clock.Now()
	k := s.known(c)
	of := recoveries.ToldOf{
		Samples: len(c.Samples),
		Past:    len(k.Past),
		Kin:     len(k.Kin),
		Scores:  len(k.Scores),
		Done:    r.Done,
		Reach:   k.Reach,
	}
	if c.ToldOf == of {
		k.Told = c.Told
	}
	v := recovery.Look(c.Samples, r.State, k, now)
	if v.Finish != nil {
		c.Told, c.ToldOf = v.Finish, of
	}
	out := api.Recovery{
		Id:           r.ID,
		Pool:         fleet.NameNow(s.fleet, c.PoolID, c.PoolName),
		Kind:         api.RecoveryKind(r.Kind),
		State:        api.RecoveryState(r.State),
		StartedAt:    r.StartedAt,
		EndedAt:      r.EndedAt,
		SeenAt:       c.SeenAt,
		Slot:         r.Slot,
		Drive:        r.Drive,
		DoneBytes:    int64(r.Done),
		TodoBytes:    int64(r.Todo),
		Share:        v.Share,
		RateNow:      v.RateNow,
		RateOverall:  v.RateOverall,
		Why:          v.Why,
		Stalled:      v.Stalled,
		Phase:        r.Phase,
		AgainAt:      v.Again,
		Found:        int64(r.Found),
		Repaired:     int64(r.Repaired),
		Unrepairable: int64(r.Unrepairable),
	}
	if d := s.fleet.Drives[r.Drive]; d != nil {
		out.Tail = d.Tail()
	}
	if !recoveries.Running(c) {
		out.Phase = ""
	}
	p := s.fleet.Pools[c.PoolID]
	tail := func(slot string) string {
		if p != nil {
			if m, _, ok := p.Slot(slot); ok && s.fleet.Drives[m.Drive] != nil {
				return s.fleet.Drives[m.Drive].Tail()
			}
		}
		return slot
	}
	if r.Slowest != "" {
		out.Slowest = tail(r.Slowest)
		if r.SlowestWhy != "" {
			out.Slowest += ": " + r.SlowestWhy
		}
	}
	if v.Finish != nil {
		out.Finish = api.Range{
			P10: v.Finish.P10.Round(time.Second),
			P50: v.Finish.P50.Round(time.Second),
			P90: v.Finish.P90.Round(time.Second),
		}
	}
	out.Summary = summary(c, out)
	if p != nil && recoveries.Running(c) {
		if m, known := s.fleet.Margin(p); known {
			out.Cost = costOf(m)
			if whole && v.Finish != nil && m >= 0 {
				out.Risk = s.risk(p, c, m, *v.Finish, now)
			}
		}
	}
	if whole {
		s.wholeRecovery(&out, c, p, tail)
	}
	return out
}

// wholeRecovery adds the course of a recovery, the part of each member, and further facts.
func (s *State) wholeRecovery(out *api.Recovery, c *recoveries.Course, p *fleet.Pool, tail func(slot string) string) {
	step := max(1, len(c.Samples)/mostSamples)
	for i, x := range c.Samples {
		if i%step == 0 || i == len(c.Samples)-1 {
			out.Course = append(
				out.Course,
				api.Sample{At: x.At, DoneBytes: int64(x.Done), TodoBytes: int64(x.Todo)},
			)
		}
	}
	for _, f := range c.Flows {
		out.Flows = append(
			out.Flows,
			api.Flow{Slot: f.Slot, Tail: tail(f.Slot), ReadBytes: int64(f.Read), WrittenBytes: int64(f.Written)},
		)
	}
	out.Priorities = s.effects(c, p)
	for _, e := range s.earlier(c) {
		out.Earlier = append(out.Earlier, e.ID)
	}
}

// costOf describes the effect of the loss of one more member while a recovery runs.
func costOf(m pool.Margin) string {
	switch {
	case m < 0:
		return "data is lost already"
	case m == 0:
		return "losing one more member until then loses data"
	}
	return fmt.Sprintf("losing one more member until then leaves: %s", pool.Margin(m-1))
}

// summary describes the course of a recovery in one line.
func summary(c *recoveries.Course, v api.Recovery) string {
	if recoveries.Running(c) || v.EndedAt.IsZero() || v.DoneBytes == 0 {
		return ""
	}
	took := v.EndedAt.Sub(v.StartedAt).Round(time.Minute)
	rate := float64(v.DoneBytes) / max(1, v.EndedAt.Sub(v.StartedAt).Seconds())
	out := fmt.Sprintf(
		"%d h %02d min for %s, %s/s",
		int(took.Hours()),
		int(took.Minutes())%60,
		humanize.Bytes(uint64(v.DoneBytes)),
		humanize.Bytes(uint64(rate)),
	)
	if v.Slowest != "" {
		out += ", held back by " + v.Slowest
	}
	return out
}

// earlier are the earlier recoveries of the same kind in the same pool that finished, the newest first.
func (s *State) earlier(c *recoveries.Course) (out []*recoveries.Course) {
	for _, e := range s.recoveries.Of(c.PoolID) {
		if e.Kind == c.Kind && e.State == recovery.Finished &&
			e.StartedAt.Before(c.StartedAt) &&
			len(e.Samples) > 2 {
			out = append(out, e)
		}
	}
	slices.SortFunc(out, func(a, b *recoveries.Course) int { return b.StartedAt.Compare(a.StartedAt) })
	return out
}

// known holds facts besides a recovery's course: how far the data extends on the drives, and earlier recoveries.
func (s *State) known(c *recoveries.Course) recovery.Known {
	k := recovery.Known{Reach: -1}
	if !recoveries.Running(c) {
		return k
	}
	p := s.fleet.Pools[c.PoolID]
	if p != nil {
		k.Reach, k.Behind = s.reach(p, c.Report.Slot), s.behind(p, c)
	}
	model := ""
	if d := s.fleet.Drives[c.Report.Drive]; d != nil {
		model = d.Desc.Model
	}
	for _, e := range s.finishedBefore(c) {
		if !e.Profiled {
			e.Profiled = true
			if p, ok := recovery.ProfileOf(e.Samples); ok {
				e.Profile = &p
			}
		}
		if e.Profile == nil {
			continue
		}
		d := s.fleet.Drives[e.Report.Drive]
		switch {
		case e.PoolID == c.PoolID:
			if !e.Scored {
				e.Scored, e.Scores = true, recovery.Scores(e.Samples, recovery.Known{Reach: k.Reach})
			}
			k.Past, k.Scores = append(k.Past, *e.Profile), append(k.Scores, e.Scores...)
			k.Habit = max(k.Habit, min(time.Hour, e.LongestPause()))
		case d != nil && d.Desc.Model == model:
			k.Kin = append(k.Kin, *e.Profile)
		}
	}
	return k
}

// behind names a recovery of the same pool that makes progress while this one does not.
func (s *State) behind(p *fleet.Pool, c *recoveries.Course) (says string) {
	for _, id := range p.Running {
		if other := s.recoveries.Courses[id]; other != nil && other != c && other.State == recovery.Running &&
			other.SeenAt.Sub(recoveries.LastMove(other)) < recoveries.LastMove(c).Sub(c.StartedAt)+time.Minute &&
			recoveries.LastMove(other).After(recoveries.LastMove(c).Add(time.Minute)) {
			says = fmt.Sprintf("the %s of the same pool", other.Kind)
		}
	}
	return says
}

// finishedBefore are the recoveries of the same kind that began before and finished, in order of time.
func (s *State) finishedBefore(c *recoveries.Course) (out []*recoveries.Course) {
	for _, e := range s.recoveries.InOrder() {
		if e.Kind == c.Kind && e.State == recovery.Finished && e.StartedAt.Before(c.StartedAt) {
			out = append(out, e)
		}
	}
	slices.SortFunc(out, func(a, b *recoveries.Course) int {
		return cmp.Or(a.StartedAt.Compare(b.StartedAt), cmp.Compare(a.ID, b.ID))
	})
	return out
}

// reach is how far towards the innermost tracks the data of a member reach, or of all on average; negative when nobody
// knows.
func (s *State) reach(p *fleet.Pool, slot string) float64 {
	sum, n := 0.0, 0
	p.Everyone(func(group string, m *pool.Member) {
		d := s.fleet.Drives[m.Drive]
		if group == "" || d == nil || m.Size == 0 || slot != "" && m.Slot != slot {
			return
		}
		switch d.Desc.Medium {
		case drive.MediumSolidState:
			n++
		case drive.MediumRotating:
			sum += min(1, float64(m.Used)/float64(m.Size))
			n++
		}
	})
	if n == 0 {
		return -1
	}
	return sum / float64(n)
}

// risk is the risk of a further failure until a recovery ends.
func (s *State) risk(
	p *fleet.Pool,
	c *recoveries.Course,
	margin pool.Margin,
	finish recovery.Range,
	now time.Time,
) api.Risk {
	verdicts := s.judging.Judge()
	out := api.Risk{Members: []api.LostMember{}}
	label := s.Label(&p.Pool)
	var others []recovery.Member
	var reads drive.Bytes
	volumes := map[string]bool{}
	p.Everyone(func(group string, m *pool.Member) {
		if m.Lost() || m.State == pool.Out || m.State == pool.Standby ||
			group == "" && m.Log == "" &&
				!slices.ContainsFunc(p.Logs, func(l pool.Member) bool { return l.Slot == m.Slot }) {
			return
		}
		w := p.WhatIf([]string{m.Slot})
		if w.Is >= margin {
			return // it is in another group: its loss does not count here
		}
		for _, e := range w.Effects {
			if e.Outcome == pool.Lost {
				volumes[e.Volume] = true
			}
		}
		out.Members = append(out.Members, label(m.Slot))
		x := recovery.Member{Verdict: string(verdicts[m.Drive].Verdict)}
		if d := s.fleet.Drives[m.Drive]; d != nil {
			if hours, ok := d.Record["power_on_hours"].Last(); ok {
				x.Years = hours.Value / 8766
			}
		}
		others = append(others, x)
		// The data left to read from it is in proportion to the work left.
		if c.Report.Todo > 0 {
			reads += drive.Bytes(float64(m.Used) * (1 - float64(c.Report.Done)/float64(c.Report.Todo)))
		}
	})
	r := recovery.RiskOf(int(margin), others, finish, reads, now)
	out.AnotherLow, out.AnotherHigh, out.Another = r.Another.Low, r.Another.High, r.Another.Words()
	if margin == 0 {
		out.UnreadableLow, out.UnreadableHigh, out.Unreadable = r.Unreadable.Low, r.Unreadable.High, r.Unreadable.Words()
	}
	out.Assumes = r.Assumes
	for v := range volumes {
		if v != "" {
			out.Volumes = append(out.Volumes, v)
		}
	}
	slices.Sort(out.Volumes)
	return out
}

// effects are the effects of each priority while it applied: on the pace, and on the latency of the members.
func (s *State) effects(c *recoveries.Course, p *fleet.Pool) (out []api.PriorityEffect) {
	for i, t := range c.Turns {
		to := c.SeenAt
		if i+1 < len(c.Turns) {
			to = c.Turns[i+1].At
		}
		e := api.PriorityEffect{Priority: t.Priority, From: t.At, To: to}
		var first, last recovery.Sample
		for _, x := range c.Samples {
			if !x.At.Before(t.At) && !x.At.After(to) {
				if first.At.IsZero() {
					first = x
				}
				last = x
			}
		}
		if d := last.At.Sub(first.At).Seconds(); d > 0 && last.Done > first.Done {
			e.Rate = float64(last.Done-first.Done) / d
		}
		var waits []float64
		if p != nil {
			p.Everyone(func(_ string, m *pool.Member) {
				if d := s.fleet.Drives[m.Drive]; d != nil {
					for _, x := range d.Record["read_latency_seconds"].Until(to).Since(t.At) {
						waits = append(waits, x.Value)
					}
				}
			})
		}
		if len(waits) > 0 {
			e.LatencySeconds, e.Readings = health.Robust(waits).Median, len(waits)
		}
		out = append(out, e)
	}
	return out
}

// Drainable says why a member cannot be drained now, and gives its slot.
func (s *State) Drainable(p *fleet.Pool, name string) (string, error) {
	slots, err := p.Places(s.MemberNames(&p.Pool, []string{name}))
	if err != nil || len(slots) != 1 {
		return "", problem.New(
			422,
			"no-member",
			"See its members: lantern pool "+p.Name,
			"%s has no single member %q.",
			p.Name,
			name,
		)
	}
	if room := p.Room(slots, 0); !room.Fits {
		return "", problem.New(
			409,
			"no-room",
			"Add a drive first, or free space.",
			"%s cannot be drained: %s.",
			name,
			room.Why,
		)
	}
	return slots[0], nil
}
