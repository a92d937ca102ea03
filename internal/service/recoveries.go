package service

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"github.com/dustin/go-humanize"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
)

// mostSamples is how many moments of a course are sent: more than a screen has points for.
const mostSamples = 400

func (s *Service) viewRecovery(c *course, whole bool) api.Recovery {
	r := c.Report
	now := s.clock.Now()
	k := s.known(c)
	of := toldOf{len(c.samples), len(k.Past), len(k.Kin), len(k.Scores), r.Done, k.Reach}
	if c.toldOf == of {
		k.Told = c.told
	}
	v := recovery.Look(c.samples, r.State, k, now)
	if v.Finish != nil {
		c.told, c.toldOf = v.Finish, of
	}
	out := api.Recovery{Id: r.ID, Pool: c.PoolName, Kind: api.RecoveryKind(r.Kind), State: api.RecoveryState(r.State), StartedAt: r.StartedAt, EndedAt: r.EndedAt,
		SeenAt: c.SeenAt, Slot: r.Slot, Drive: r.Drive, DoneBytes: int64(r.Done), TodoBytes: int64(r.Todo), Share: v.Share, RateNow: v.RateNow, RateOverall: v.RateOverall,
		Why: v.Why, Stalled: v.Stalled, Phase: r.Phase, AgainAt: v.Again, Found: int64(r.Found), Repaired: int64(r.Repaired), Unrepairable: int64(r.Unrepairable)}
	if d := s.drives[r.Drive]; d != nil {
		out.Tail = d.tail()
	}
	if !running(c) {
		out.Phase = ""
	}
	p := s.pools[c.PoolID]
	tail := func(slot string) string {
		if p != nil {
			if m, _, ok := p.Slot(slot); ok && s.drives[m.Drive] != nil {
				return s.drives[m.Drive].tail()
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
		out.Finish = api.Range{P10: v.Finish.P10.Round(time.Second), P50: v.Finish.P50.Round(time.Second), P90: v.Finish.P90.Round(time.Second)}
	}
	out.Summary = summary(c, out)
	if p != nil && running(c) {
		if m, known := s.margin(p); known {
			switch {
			case m < 0:
				out.Cost = "data is lost already"
			case m == 0:
				out.Cost = "losing one more member until then loses data"
			default:
				out.Cost = fmt.Sprintf("losing one more member until then leaves: %s", pool.Margin(m-1))
			}
			if whole && v.Finish != nil && m >= 0 {
				out.Risk = s.risk(p, c, m, *v.Finish, now)
			}
		}
	}
	if whole {
		step := max(1, len(c.samples)/mostSamples)
		for i, x := range c.samples {
			if i%step == 0 || i == len(c.samples)-1 {
				out.Course = append(out.Course, api.Sample{At: x.At, DoneBytes: int64(x.Done), TodoBytes: int64(x.Todo)})
			}
		}
		for _, f := range r.Flows {
			out.Flows = append(out.Flows, api.Flow{Slot: f.Slot, Tail: tail(f.Slot), ReadBytes: int64(f.Read), WrittenBytes: int64(f.Written)})
		}
		out.Priorities = s.effects(c, p)
		for _, e := range s.earlier(c) {
			out.Earlier = append(out.Earlier, e.ID)
		}
	}
	return out
}

// summary is how a recovery went, in one line.
func summary(c *course, v api.Recovery) string {
	if running(c) || v.EndedAt.IsZero() || v.DoneBytes == 0 {
		return ""
	}
	took := v.EndedAt.Sub(v.StartedAt).Round(time.Minute)
	rate := float64(v.DoneBytes) / max(1, v.EndedAt.Sub(v.StartedAt).Seconds())
	out := fmt.Sprintf("%d h %02d min for %s, %s/s", int(took.Hours()), int(took.Minutes())%60, humanize.Bytes(uint64(v.DoneBytes)), humanize.Bytes(uint64(rate)))
	if v.Slowest != "" {
		out += ", held back by " + v.Slowest
	}
	return out
}

// earlier are the recoveries of the same kind in the same pool that came before and ended well, the newest first.
func (s *Service) earlier(c *course) (out []*course) {
	for _, e := range s.recov {
		if e.PoolID == c.PoolID && e.Kind == c.Kind && e.State == recovery.Finished && e.StartedAt.Before(c.StartedAt) && len(e.samples) > 2 {
			out = append(out, e)
		}
	}
	slices.SortFunc(out, func(a, b *course) int { return b.StartedAt.Compare(a.StartedAt) })
	return out
}

// known is what is known beside a recovery's course: how far the data reach on the drives, and how it went before.
func (s *Service) known(c *course) recovery.Known {
	k := recovery.Known{Reach: -1}
	if !running(c) {
		return k
	}
	p := s.pools[c.PoolID]
	if p != nil {
		k.Reach = s.reach(p, c.Report.Slot)
		for _, id := range p.running {
			if other := s.recov[id]; other != nil && other != c && other.State == recovery.Running && other.SeenAt.Sub(lastMove(other)) < lastMove(c).Sub(c.StartedAt)+time.Minute && lastMove(other).After(lastMove(c).Add(time.Minute)) {
				k.Behind = fmt.Sprintf("the %s of the same pool", other.Kind)
			}
		}
	}
	model := ""
	if d := s.drives[c.Report.Drive]; d != nil {
		model = d.Desc.Model
	}
	var before []*course
	for _, e := range s.recov {
		if e.Kind == c.Kind && e.State == recovery.Finished && e.StartedAt.Before(c.StartedAt) {
			before = append(before, e)
		}
	}
	slices.SortFunc(before, func(a, b *course) int { return cmp.Or(a.StartedAt.Compare(b.StartedAt), cmp.Compare(a.ID, b.ID)) })
	for _, e := range before {
		if !e.profiled {
			e.profiled = true
			if p, ok := recovery.ProfileOf(e.samples); ok {
				e.profile = &p
			}
		}
		if e.profile == nil {
			continue
		}
		d := s.drives[e.Report.Drive]
		switch {
		case e.PoolID == c.PoolID:
			if !e.scored {
				e.scored, e.scores = true, recovery.Scores(e.samples, recovery.Known{Reach: k.Reach})
			}
			k.Past, k.Scores = append(k.Past, *e.profile), append(k.Scores, e.scores...)
			k.Habit = max(k.Habit, min(time.Hour, recovery.LongestPause(e.samples)))
		case d != nil && d.Desc.Model == model:
			k.Kin = append(k.Kin, *e.profile)
		}
	}
	return k
}

func lastMove(c *course) time.Time {
	for i := len(c.samples) - 1; i > 0; i-- {
		if c.samples[i].Done > c.samples[i-1].Done {
			return c.samples[i].At
		}
	}
	return c.StartedAt
}

// reach is how far towards the innermost tracks the data of a member reach, or of all on average; negative when nobody knows.
func (s *Service) reach(p *poolState, slot string) float64 {
	sum, n := 0.0, 0
	p.Everyone(func(group string, m *pool.Member) {
		d := s.drives[m.Drive]
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

// risk is what a second failure would cost until a recovery ends.
func (s *Service) risk(p *poolState, c *course, margin pool.Margin, finish recovery.Range, now time.Time) api.Risk {
	verdicts := s.judge()
	out := api.Risk{Members: []api.LostMember{}}
	label := s.label(&p.Pool)
	var others []recovery.Member
	var reads drive.Bytes
	volumes := map[string]bool{}
	p.Everyone(func(group string, m *pool.Member) {
		if m.Lost() || m.State == pool.Out || m.State == pool.Standby || group == "" && m.Log == "" && !slices.ContainsFunc(p.Logs, func(l pool.Member) bool { return l.Slot == m.Slot }) {
			return
		}
		w := p.WhatIf([]string{m.Slot})
		if w.Is >= margin {
			return // it is in another group: its loss costs nothing here
		}
		for _, e := range w.Effects {
			if e.Outcome == pool.Lost {
				volumes[e.Volume] = true
			}
		}
		out.Members = append(out.Members, label(m.Slot))
		x := recovery.Member{Verdict: string(verdicts[m.Drive].verdict)}
		if d := s.drives[m.Drive]; d != nil {
			if hours, ok := d.record["power_on_hours"].Last(); ok {
				x.Years = hours.Value / 8766
			}
		}
		others = append(others, x)
		// What is left to read of it is in proportion to what is left to do.
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

// effects is what each priority did while it held: to the pace, and to how long the members' users waited.
func (s *Service) effects(c *course, p *poolState) (out []api.PriorityEffect) {
	for i, t := range c.Turns {
		to := c.SeenAt
		if i+1 < len(c.Turns) {
			to = c.Turns[i+1].At
		}
		e := api.PriorityEffect{Priority: t.Priority, From: t.At, To: to}
		var first, last recovery.Sample
		for _, x := range c.samples {
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
				if d := s.drives[m.Drive]; d != nil {
					for _, x := range d.record["read_latency_seconds"].Until(to).Since(t.At) {
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

// drainable says why a member cannot be emptied now, and gives its slot.
func (s *Service) drainable(p *poolState, name string) (string, error) {
	slots, err := p.Places(s.memberNames(&p.Pool, []string{name}))
	if err != nil || len(slots) != 1 {
		return "", problem(422, "no-member", "See its members: lantern pool "+p.Name, "%s has no single member %q.", p.Name, name)
	}
	if room := p.Room(slots, 0); !room.Fits {
		return "", problem(409, "no-room", "Add a drive first, or free space.", "%s cannot be drained: %s.", name, room.Why)
	}
	return slots[0], nil
}
