package service

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
	"lantern/internal/core/swap"
)

// fillingShare is how full a pool is when people are told; that is a matter of its own and never of health.
const fillingShare = 0.80

// Round is what needs a person now, in order.
func (s *Service) Round() api.Round {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.clock.Now()
	out := api.Round{At: now, Lines: []api.RoundLine{}, Underway: []api.UnderWay{}, Filling: []api.Filling{}, Awaited: []string{}, Hosts: len(s.hosts)}
	for name, h := range s.hosts {
		if h.SeenAt.IsZero() {
			out.Awaited = append(out.Awaited, name)
		}
	}
	slices.Sort(out.Awaited)
	verdicts, places := s.judge(), s.places()
	var matters []health.Matter
	for key, j := range verdicts {
		at := places[key]
		if j.verdict.Gravity() < health.Watch.Gravity() && !wentUnknown(j) || !s.drives[key].Present && at.pool == nil && !s.usedWhenLast(s.drives[key]) {
			continue
		}
		f := j.findings[0]
		if f.Idle {
			continue // an old scar needs nobody: it is on the drive's own page
		}
		m := health.Matter{Key: key, Verdict: j.verdict, Growth: f.Growth, Since: f.Since, PathOnly: f.Strength == drive.Path}
		first := true
		at.every(func(x place) {
			stake, known := s.margin(x.pool)
			if j.verdict.Gravity() >= health.Replace.Gravity() && !x.member.Lost() && x.member.State != pool.Out && x.member.State != pool.Standby {
				stake, _, known = s.without(x.pool, key, x.member.Slot)
			}
			if first || m.MarginKnown && (!known || stake < m.Stake) {
				m.Stake, m.MarginKnown = stake, known
			}
			first = false
		})
		matters = append(matters, m)
	}
	health.Rank(matters)
	for _, m := range matters {
		out.Lines = append(out.Lines, s.roundLine(m, verdicts[m.Key], places[m.Key], now))
	}
	s.underWay(&out)
	for _, p := range s.pools {
		if p.Capacity > 0 && !p.UsedUnknown && float64(p.Used)/float64(p.Capacity) >= fillingShare {
			out.Filling = append(out.Filling, api.Filling{Pool: p.Name, UsedBytes: int64(p.Used), CapacityBytes: int64(p.Capacity)})
		}
	}
	for _, p := range s.sortedPools() {
		if says, do := p.trouble(); says != "" {
			out.Pools = append(out.Pools, api.PoolLine{Pool: p.Name, Id: p.ID, Host: p.reporter, Room: s.roomOf(p.reporter), Says: says, Do: do, Since: p.unseen})
		}
	}
	for _, w := range s.abandoned() {
		if d := s.owed(w); d.Says != "" {
			out.Pools = append(out.Pools, api.PoolLine{Pool: w.Pool, Id: w.PoolID, Host: w.Host, Room: s.roomOf(w.Host), Says: d.Says, Do: d.Do, Since: w.EndedAt})
		}
	}
	slices.SortFunc(out.Filling, func(a, b api.Filling) int { return cmp.Compare(a.Pool, b.Pool) })
	return out
}

// abandoned are the swaps that were given up, or that used up a spare: the newest of each place, in the order in which they ended.
func (s *Service) abandoned() (out []*swapState) {
	newest := map[string]*swapState{}
	for _, w := range s.swaps {
		key := w.PoolID + " " + w.Slot
		if b := newest[key]; b == nil || w.PlannedAt.After(b.PlannedAt) {
			newest[key] = w
		}
	}
	for _, w := range newest {
		if w.Phase == swap.Abandoned || w.Phase == swap.Closed && w.Recipe.Spare != "" {
			out = append(out, w)
		}
	}
	slices.SortFunc(out, func(a, b *swapState) int { return a.EndedAt.Compare(b.EndedAt) })
	return out
}

// wentUnknown says whether a drive became unknown: one that never could tell about itself needs nobody every day.
func wentUnknown(j judged) bool {
	return j.verdict == health.Unknown && slices.ContainsFunc(j.findings, func(f health.Finding) bool {
		return f.Rule == "unknown-since" || f.Rule == "unreadable"
	})
}

func (s *Service) roundLine(m health.Matter, j judged, at place, now time.Time) api.RoundLine {
	d := s.drives[m.Key]
	v := s.viewDrive(d, at, false)
	f := j.findings[0]
	if j.verdict == health.Unknown {
		f = j.findings[slices.IndexFunc(j.findings, func(f health.Finding) bool { return f.Verdict == health.Unknown })]
	}
	margin, after := s.margins(at, m.Key)
	l := api.RoundLine{Drive: m.Key, Tail: v.Tail, Verdict: v.Verdict, Pool: v.Pool, Bay: v.Bay, Host: v.Host, Room: s.roomOf(v.Host), Says: f.Says, Do: f.Do, Since: f.Since,
		Metric: string(f.Metric), Margin: margin, MarginAfter: after, Swap: v.Swap, Also: -1}
	for _, f := range j.findings {
		if f.Verdict != health.Sound { // remarks count for nothing
			l.Also++
		}
	}
	if mt, ok := drive.MetricByName(f.Metric); ok {
		l.Unit = mt.Unit
		const moments = 28
		series := d.record[f.Metric]
		for i := range moments {
			if p, ok := series.At(now.Add(-time.Duration(moments-1-i) * 12 * time.Hour)); ok {
				l.Spark = append(l.Spark, p.Value)
			}
		}
	}
	return l
}

func (s *Service) underWay(out *api.Round) {
	for _, w := range s.openSwaps() {
		u := api.UnderWay{Kind: api.UnderWayKindSwap, Id: w.ID, Pool: w.Pool, Says: fmt.Sprintf("%s: swap of %s, led by %s: %s", w.Pool, w.Old.Tail(), w.Lead, w.Now().Title)}
		if len(w.Wrong) > 0 {
			x := w.Wrong[0]
			u.Alarm = fmt.Sprintf("Put %s back into %s.", x.Tail(), cmp.Or(x.Bay, "its place"))
		}
		out.Underway = append(out.Underway, u)
	}
	var runs []*course
	for _, c := range s.recov {
		if running(c) {
			runs = append(runs, c)
		}
	}
	slices.SortFunc(runs, func(a, b *course) int { return a.Report.StartedAt.Compare(b.Report.StartedAt) })
	for _, c := range runs {
		v := s.viewRecovery(c, false)
		says := fmt.Sprintf("%s: %s", v.Pool, v.Kind)
		if v.Tail != "" {
			says += " of " + v.Tail
		}
		if c.Report.State == recovery.Paused {
			says += ", paused"
		}
		if v.Stalled {
			says += ", stalled: " + v.Why
		}
		out.Underway = append(out.Underway, api.UnderWay{Kind: api.UnderWayKindRecovery, Id: v.Id, Pool: v.Pool, Says: says, Share: v.Share, Finish: v.Finish})
	}
}
