package views

import (
	"cmp"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/pool"
	"lantern/internal/service/fleet"
	"lantern/internal/service/judging"
)

// fillingShare is how full a pool is when people are told; that is a matter of its own and never of health.
const fillingShare = 0.80

// Round is what needs a person now, in order.
func (s *Service) Round() api.Round {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.Clock.Now()
	out := api.Round{At: now, Lines: []api.RoundLine{}, Underway: []api.UnderWay{}, Filling: []api.Filling{}, Awaited: []string{}, Hosts: len(s.fleet.Hosts)}
	for name, h := range s.fleet.Hosts {
		if h.SeenAt.IsZero() {
			out.Awaited = append(out.Awaited, name)
		}
	}
	slices.Sort(out.Awaited)
	verdicts, places := s.judging.Judge(), s.judging.Places()
	var matters []health.Matter
	for key, j := range verdicts {
		at := places[key]
		if j.Verdict.Gravity() < health.Watch.Gravity() && !wentUnknown(j) || !s.fleet.Drives[key].Present && at.Pool == nil && !s.fleet.UsedWhenLast(s.fleet.Drives[key]) {
			continue
		}
		f := j.Findings[0]
		if f.Idle {
			continue // an old scar needs nobody: it is on the drive's own page
		}
		m := health.Matter{Key: key, Verdict: j.Verdict, Growth: f.Growth, Since: f.Since, PathOnly: f.Strength == drive.Path}
		first := true
		at.Every(func(x fleet.Place) {
			stake, known := s.fleet.Margin(x.Pool)
			if j.Verdict.Gravity() >= health.Replace.Gravity() && !x.Member.Lost() && x.Member.State != pool.Out && x.Member.State != pool.Standby {
				stake, _, known = s.fleet.Without(x.Pool, key, x.Member.Slot)
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
	s.swaps.UnderWay(&out)
	for _, p := range s.fleet.Pools {
		if p.Capacity > 0 && !p.UsedUnknown && float64(p.Used)/float64(p.Capacity) >= fillingShare {
			out.Filling = append(out.Filling, api.Filling{Pool: p.Name, UsedBytes: int64(p.Used), CapacityBytes: int64(p.Capacity)})
		}
	}
	for _, p := range s.fleet.SortedPools() {
		if says, do := p.Trouble(); says != "" {
			out.Pools = append(out.Pools, api.PoolLine{Pool: p.Name, Id: p.ID, Host: p.Reporter, Room: s.fleet.RoomOf(p.Reporter), Says: says, Do: do, Since: p.Unseen})
		}
	}
	for _, w := range s.swaps.Abandoned() {
		if d := s.swaps.Owed(w); d.Says != "" {
			out.Pools = append(out.Pools, api.PoolLine{Pool: w.Pool, Id: w.PoolID, Host: w.Host, Room: s.fleet.RoomOf(w.Host), Says: d.Says, Do: d.Do, Since: w.EndedAt})
		}
	}
	slices.SortFunc(out.Filling, func(a, b api.Filling) int { return cmp.Compare(a.Pool, b.Pool) })
	return out
}

// wentUnknown says whether a drive became unknown: one that never could tell about itself needs nobody every day.
func wentUnknown(j judging.Judged) bool {
	return j.Verdict == health.Unknown && slices.ContainsFunc(j.Findings, func(f health.Finding) bool {
		return f.Rule == "unknown-since" || f.Rule == "unreadable"
	})
}

func (s *State) roundLine(m health.Matter, j judging.Judged, at fleet.Place, now time.Time) api.RoundLine {
	d := s.fleet.Drives[m.Key]
	v := s.viewDrive(d, at, false)
	f := j.Findings[0]
	if j.Verdict == health.Unknown {
		f = j.Findings[slices.IndexFunc(j.Findings, func(f health.Finding) bool { return f.Verdict == health.Unknown })]
	}
	margin, after := s.judging.Margins(at, m.Key)
	l := api.RoundLine{Drive: m.Key, Tail: v.Tail, Verdict: v.Verdict, Pool: v.Pool, Bay: v.Bay, Host: v.Host, Room: s.fleet.RoomOf(v.Host), Says: f.Says, Do: f.Do, Since: f.Since,
		Metric: string(f.Metric), Margin: margin, MarginAfter: after, Swap: v.Swap, Also: -1}
	for _, f := range j.Findings {
		if f.Verdict != health.Sound { // remarks count for nothing
			l.Also++
		}
	}
	if mt, ok := drive.MetricByName(f.Metric); ok {
		l.Unit = mt.Unit
		const moments = 28
		series := d.Record[f.Metric]
		for i := range moments {
			if p, ok := series.At(now.Add(-time.Duration(moments-1-i) * 12 * time.Hour)); ok {
				l.Spark = append(l.Spark, p.Value)
			}
		}
	}
	return l
}
