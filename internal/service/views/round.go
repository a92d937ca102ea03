package views

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/pool"
	"lantern/internal/core/words"
	"lantern/internal/service/fleet"
	"lantern/internal/service/judging"
)

// fillingShare is the fill level at which people are notified; this is a separate matter and never one of health.
const fillingShare = 0.80

// Round lists what needs a person now, in order.
func (s *Service) Round() api.Round {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.round()
}

func (s *State) round() api.Round {
	now := s.Clock.Now()
	out := api.Round{
		At:       now,
		Lines:    []api.RoundLine{},
		Underway: []api.UnderWay{},
		Filling:  []api.Filling{},
		Awaited:  []string{},
		Hosts:    len(s.fleet.Hosts),
		Drives:   len(s.fleet.Drives),
	}
	if says, do, severity := s.Trouble(); says != "" {
		out.Trouble = api.ServiceTrouble{Says: says, Do: do, Severity: api.Verdict(severity),
			Restored: !s.Restored.At.IsZero()}
	}
	for name, h := range s.fleet.Hosts {
		if h.SeenAt.IsZero() {
			out.Awaited = append(out.Awaited, name)
		}
	}
	slices.Sort(out.Awaited)
	out.Lines, out.Silent = s.lines(now)
	s.swaps.UnderWay(&out)
	for _, p := range s.fleet.Pools {
		if p.Capacity > 0 && !p.UsedUnknown && float64(p.Used)/float64(p.Capacity) >= fillingShare {
			out.Filling = append(
				out.Filling,
				api.Filling{Pool: p.Name, UsedBytes: int64(p.Used), CapacityBytes: int64(p.Capacity)},
			)
		}
	}
	for _, p := range s.fleet.SortedPools() {
		if says, do := p.Trouble(); says != "" {
			out.Pools = append(
				out.Pools,
				api.PoolLine{
					Pool:  p.Name,
					Id:    p.ID,
					Host:  p.Reporter,
					Room:  s.fleet.RoomOf(p.Reporter),
					Says:  says,
					Do:    do,
					Since: p.Unseen,
				},
			)
		}
	}
	for _, w := range s.swaps.Abandoned() {
		if d := s.swaps.Owed(w); d.Says != "" {
			out.Pools = append(
				out.Pools,
				api.PoolLine{
					Pool:  w.Pool,
					Id:    w.PoolID,
					Host:  w.Host,
					Room:  s.fleet.RoomOf(w.Host),
					Says:  d.Says,
					Do:    d.Do,
					Since: w.EndedAt,
				},
			)
		}
	}
	slices.SortFunc(out.Filling, func(a, b api.Filling) int { return cmp.Compare(a.Pool, b.Pool) })
	return out
}

// wentUnknown reports whether a drive became unknown: a drive that never reported health data needs no daily attention.
func wentUnknown(j judging.Judged) bool {
	return j.Verdict == health.Unknown && slices.ContainsFunc(j.Findings, func(f health.Finding) bool {
		return f.Rule == "unknown-since" || f.Rule == "unreadable"
	})
}

// line is one drive's line of the round.
type line struct {
	matter health.Matter
	line   api.RoundLine
	// cause is the host that does not report, if that is the only content of the line; empty for every other line.
	cause string
	made  uint64 // increases with each line
}

// fewSilent is the greatest number of lines shown separately for one host that does not report; more are shown as one
// line for the host.
const fewSilent = 3

// kept are the newest lines of the round with their inputs: only lines with changed inputs are made again.
type kept struct {
	lines   map[string]*line // by drive
	layered map[string]bool  // drives of a pool that is on other pools, and changes with them
	order   []string         // their keys, in the order of the round
	made    uint64           // number of lines made
	touched int              // position in the changes of the judgement
	swaps   map[string]string
	rooms   int // the version of the rooms
}

// follow updates the lines.
func (s *State) follow(now time.Time) {
	verdicts, places, swaps := s.judging.Judge(), s.judging.Places(), s.swaps.ByDrive()
	keys, next, all := s.judging.Touched(s.kept.touched)
	again := map[string]bool{}
	for _, key := range keys {
		again[key] = true
	}
	for _, ids := range []map[string]string{swaps, s.kept.swaps} {
		for key := range ids {
			if swaps[key] != s.kept.swaps[key] {
				again[key] = true
			}
		}
	}
	rooms := s.rooms()
	if all || s.kept.lines == nil || rooms != s.kept.rooms {
		s.kept.lines, s.kept.layered = map[string]*line{}, map[string]bool{}
		for key := range verdicts {
			again[key] = true
		}
	}
	for key := range s.kept.layered {
		again[key] = true
	}
	s.kept.touched, s.kept.swaps, s.kept.rooms = next, swaps, rooms
	for key := range again {
		delete(s.kept.lines, key)
		delete(s.kept.layered, key)
		j, at := verdicts[key], places[key]
		if len(j.Findings) == 0 {
			continue
		}
		if m, needs := s.matterOf(s.fleet.Drives[key], j, at); needs {
			s.kept.made++
			l := &line{matter: m, line: s.roundLine(m, j, at, swaps[key], now), made: s.kept.made}
			if swaps[key] == "" && onlySilent(j) {
				l.cause = l.line.Host
			}
			s.kept.lines[key] = l
			at.Every(func(x fleet.Place) {
				if x.Pool.Layered() {
					s.kept.layered[key] = true
				}
			})
		}
	}
}

// onlySilent reports whether the only matter of a drive is that its host does not report.
func onlySilent(j judging.Judged) bool {
	return j.Verdict == health.Unknown && !slices.ContainsFunc(j.Findings, func(f health.Finding) bool {
		return f.Verdict != health.Sound && f.Rule != "unknown-since"
	})
}

// silentHosts are the hosts that do not report, with what is unknown because of that; together are those with more
// lines than are shown separately.
func (s *State) silentHosts() (out []api.SilentHost, together map[string]bool) {
	of, pools := map[string]*api.SilentHost{}, map[string]map[string]bool{}
	for _, l := range s.kept.lines {
		if l.cause == "" {
			continue
		}
		v := of[l.cause]
		if v == nil {
			v = &api.SilentHost{Host: l.cause, Room: l.line.Room, Do: l.line.Do, Since: l.line.Since}
			of[l.cause], pools[l.cause] = v, map[string]bool{}
		}
		v.Drives++
		if l.line.Since.Before(v.Since) {
			v.Since = l.line.Since
		}
		if l.line.Pool != "" {
			pools[l.cause][l.line.Pool] = true
		}
	}
	together = map[string]bool{}
	for _, name := range slices.Sorted(maps.Keys(of)) {
		v := of[name]
		if v.Drives <= fewSilent {
			continue
		}
		together[name] = true
		v.Pools = slices.AppendSeq([]string{}, maps.Keys(pools[name]))
		slices.Sort(v.Pools)
		v.Says = fmt.Sprintf("%s does not report: %s", name, words.Count(v.Drives, "drive"))
		if len(v.Pools) > 0 {
			v.Says += ", of " + words.Count(len(v.Pools), "pool")
		}
		out = append(out, *v)
	}
	slices.SortStableFunc(out, func(a, b api.SilentHost) int { return b.Drives - a.Drives })
	return out, together
}

// lines are the lines of the round, in order, and the hosts that represent many of them.
func (s *State) lines(now time.Time) ([]api.RoundLine, []api.SilentHost) {
	s.follow(now)
	matters, placed := make([]health.Matter, 0, len(s.kept.lines)), make(map[string]bool, len(s.kept.lines))
	for _, key := range s.kept.order { // the previous order: mostly unchanged
		if l := s.kept.lines[key]; l != nil {
			matters = append(matters, l.matter)
			placed[key] = true
		}
	}
	if len(matters) < len(s.kept.lines) {
		for key, l := range s.kept.lines {
			if !placed[key] {
				matters = append(matters, l.matter)
			}
		}
	}
	health.Rank(matters)
	silent, together := s.silentHosts()
	out := make([]api.RoundLine, 0, len(matters))
	s.kept.order = s.kept.order[:0]
	for _, m := range matters {
		if l := s.kept.lines[m.Key]; !together[l.cause] {
			out = append(out, l.line)
		}
		s.kept.order = append(s.kept.order, m.Key)
	}
	return out, silent
}

// matterOf gives the rank of a drive in the round; needs is false where it needs nobody.
func (s *State) matterOf(d *fleet.Drive, j judging.Judged, at fleet.Place) (m health.Matter, needs bool) {
	if j.Verdict.Gravity() < health.Watch.Gravity() && !wentUnknown(j) ||
		!d.Present && at.Pool == nil && !s.fleet.UsedWhenLast(d) {
		return m, false
	}
	f := j.Findings[0]
	if f.Idle {
		return m, false // old damage needs nobody: it is on the drive's own page
	}
	key := d.Key()
	m = health.Matter{
		Key:      key,
		Verdict:  j.Verdict,
		Growth:   f.Growth,
		Since:    f.Since,
		PathOnly: f.Strength == drive.Path,
	}
	first := true
	at.Every(func(x fleet.Place) {
		stake, known := s.fleet.Margin(x.Pool)
		if j.Verdict.Gravity() >= health.Replace.Gravity() && !x.Member.Lost() && x.Member.State != pool.Out &&
			x.Member.State != pool.Standby {
			stake, _, known = s.fleet.Without(x.Pool, key, x.Member.Slot)
		}
		if first || m.MarginKnown && (!known || stake < m.Stake) {
			m.Stake, m.MarginKnown = stake, known
		}
		first = false
	})
	return m, true
}

func (s *State) roundLine(
	m health.Matter,
	j judging.Judged,
	at fleet.Place,
	swap string,
	now time.Time,
) api.RoundLine {
	d := s.fleet.Drives[m.Key]
	f := j.Findings[0]
	if j.Verdict == health.Unknown {
		f = j.Findings[slices.IndexFunc(j.Findings, func(f health.Finding) bool { return f.Verdict == health.Unknown })]
	}
	margin, after := s.judging.Margins(at, m.Key)
	l := api.RoundLine{
		Drive:       m.Key,
		Tail:        d.Tail(),
		Verdict:     api.Verdict(j.Verdict),
		Bay:         d.BayName(),
		Host:        d.Host,
		Room:        s.fleet.RoomOf(d.Host),
		Says:        f.Says,
		Do:          f.Do,
		Since:       f.Since,
		Metric:      string(f.Metric),
		Margin:      margin,
		MarginAfter: after,
		Swap:        swap,
		Also:        -1,
	}
	if at.Pool != nil {
		l.Pool = at.Pool.Name
	}
	for _, f := range j.Findings {
		if f.Verdict != health.Sound { // remarks do not count
			l.Also++
		}
	}
	if mt, ok := drive.MetricByName(f.Metric); ok {
		l.Unit = counted(mt)
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

// measures are units that do not name a quantity, with the endings of their metrics' names.
var measures = map[string]string{
	"s":     "_seconds",
	"ms":    "_milliseconds",
	"°C":    "_celsius",
	"%":     "_percent",
	"h":     "_hours",
	"bytes": "_bytes",
}

// counted names what a course shows: "sectors", "read latency in s".
func counted(m drive.Metric) string {
	ends, is := measures[m.Unit]
	if !is {
		return m.Unit
	}
	return strings.ReplaceAll(strings.TrimSuffix(string(m.Name), ends), "_", " ") + " in " + m.Unit
}
