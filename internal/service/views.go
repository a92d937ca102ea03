package service

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/health"
	"lantern/internal/core/history"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/core/swap"
	"lantern/internal/wire"
)

// The views are what all three faces show: made here, once, from the core's values.

func viewMargin(m pool.Margin, known bool) api.Margin {
	if !known {
		return api.Margin{Words: "unknown"}
	}
	return api.Margin{Known: true, Members: int(m), Words: m.String()}
}

func viewFinding(f health.Finding) api.Finding {
	out := api.Finding{Rule: f.Rule, Verdict: api.Verdict(f.Verdict), Strength: string(f.Strength), Says: f.Says, Do: f.Do, Since: f.Since,
		Metric: string(f.Metric), Evidence: []api.Evidence{}}
	for _, e := range f.Evidence {
		out.Evidence = append(out.Evidence, api.Evidence{Metric: string(e.Metric), Says: e.Says, At: e.At, Source: e.Source})
	}
	return out
}

// Drive is one drive with everything known of it.
func (s *Service) Drive(name string) (api.Drive, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.findDrive(name)
	if err != nil {
		return api.Drive{}, err
	}
	return s.viewDrive(d, s.places()[d.Desc.Key()], true), nil
}

func (s *Service) viewDrive(d *disk, at place, whole bool) api.Drive {
	key := d.Desc.Key()
	j := s.judge()[key]
	out := api.Drive{Key: key, Tail: d.tail(), Identity: wire.Identity(d.Desc.Identity), Firmware: d.Desc.Firmware, Medium: string(d.Desc.Medium),
		RotationRpm: d.Desc.RotationRPM, FormFactor: d.Desc.FormFactor, CapacityBytes: int64(d.Desc.Capacity),
		LogicalSectorBytes: int(d.Desc.LogicalSector), PhysicalSectorBytes: int(d.Desc.PhysicalSector), Host: d.Host, Path: d.Path,
		Bay: d.bay(), BayConfirmed: d.Section != "", Role: api.DriveRoleNone, Holds: d.Holds, Present: d.Present, SeenAt: d.SeenAt, FirstSeenAt: d.FirstAt,
		ReadAt: d.Reading.At, Verdict: api.Verdict(j.verdict), Findings: []api.Finding{}}
	if d.Present {
		if h := s.hosts[d.Host]; h != nil {
			out.SeenAt = h.SeenAt
		}
	}
	for _, f := range j.findings {
		out.Findings = append(out.Findings, viewFinding(f))
	}
	out.Says = "has nothing to say"
	if len(j.findings) > 0 {
		out.Says = j.findings[0].Says
	}
	if j.verdict == health.Unknown && len(j.findings) > 0 {
		for _, f := range j.findings {
			if f.Verdict == health.Unknown {
				out.Says = f.Says
				break
			}
		}
	}
	if at.pool != nil {
		out.Pool, out.Group, out.Slot, out.State = at.pool.Name, at.group, at.member.Slot, string(at.member.State)
		out.Role = api.DriveRoleMember
		if at.group == "" {
			out.Role = api.DriveRoleSpare
			for _, l := range at.pool.Logs {
				if l.Slot == at.member.Slot {
					out.Role = api.DriveRoleLog
				}
			}
		}
		if whole {
			out.Margin, out.MarginAfter = margins(at)
		}
	}
	if p, ok := d.record["power_on_hours"].Last(); ok {
		out.PowerOnHours = int(p.Value)
	}
	if p, ok := d.record["temperature_celsius"].Last(); ok {
		out.TemperatureCelsius = int(p.Value)
	}
	for _, l := range s.lights {
		if l.Bay == out.Bay && out.Bay != "" && l.State != api.LightStateGoing {
			out.LitUntil = l.Until
		}
	}
	for _, w := range s.openSwaps() {
		if w.Old.Key() == key || w.New != nil && w.New.Key() == key {
			out.Swap = w.ID
		}
	}
	if !whole {
		return out
	}
	out.Siblings = s.siblings(d)
	out.Attributes, out.Tests, out.Unreadable = d.Reading.Attributes, d.Reading.Tests, d.Reading.Unreadable
	for _, m := range drive.Catalogue {
		series := d.record[m.Name]
		last, ok := series.Last()
		if !ok {
			continue
		}
		v := api.MetricValue{Name: string(m.Name), Unit: m.Unit, Value: last.Value, Kind: string(m.Kind), Strength: string(m.Strength),
			Means: m.Means, MeansNot: m.MeansNot, Source: m.Source(), At: last.At}
		if m.Kind == drive.Counter || m.Unit == "sectors" {
			v.Grown24h, _ = series.Growth(last.At.Add(-24 * time.Hour))
			v.Grown7d, _ = series.Growth(last.At.Add(-7 * 24 * time.Hour))
		}
		out.Metrics = append(out.Metrics, v)
	}
	return out
}

// margins of the pool a drive is in, now and without it. A spare, and one whose share was restored elsewhere, takes
// nothing with it.
func margins(at place) (now, after api.Margin) {
	if at.pool == nil {
		return now, after
	}
	now = viewMargin(at.pool.Margin())
	if at.member.State == pool.Out || at.member.State == pool.Standby {
		return now, now
	}
	left, _, known := at.pool.Without(at.member.Slot)
	return now, viewMargin(left, known)
}

// Trend is one metric of a drive over time, with its group's other members beside it.
func (s *Service) Trend(name, metric string, days int) (api.Trend, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.findDrive(name)
	if err != nil {
		return api.Trend{}, err
	}
	m, ok := drive.MetricByName(drive.MetricName(metric))
	if !ok {
		return api.Trend{}, problem(404, "no-metric", "A drive's page lists those it has.", "There is no metric %q.", metric)
	}
	if days <= 0 {
		days = 30
	}
	since := s.clock.Now().Add(-time.Duration(days) * 24 * time.Hour)
	out := api.Trend{Drive: d.Desc.Key(), Tail: d.tail(), Metric: metric, Unit: m.Unit, Means: m.Means, MeansNot: m.MeansNot, Source: m.Source(),
		Resets: []time.Time{}}
	series, err := s.series(d.Desc.Key(), m.Name, since)
	if err != nil {
		return out, err
	}
	out.Points = points(series)
	if m.Kind == drive.Counter {
		out.Resets = append(out.Resets, series.Resets()...)
	}
	for _, k := range s.places()[d.Desc.Key()].peers {
		if peer := s.drives[k]; peer != nil && peer != d && len(out.Peers) < 24 {
			if ps := peer.record[m.Name].Since(since); len(ps) > 0 {
				out.Peers = append(out.Peers, api.PeerTrend{Tail: peer.tail(), Points: points(ps)})
			}
		}
	}
	return out, nil
}

func points(in history.Series) []api.Point {
	out := make([]api.Point, len(in))
	for i, p := range in {
		out[i] = api.Point{At: p.At, Value: p.Value}
	}
	return out
}

// Pools lists all pools, the one with the least margin first; unknown ones before all.
func (s *Service) Pools() []api.Pool {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.Pool{}
	for _, p := range s.pools {
		out = append(out, s.viewPool(p))
	}
	slices.SortFunc(out, func(a, b api.Pool) int {
		rank := func(p api.Pool) int {
			if !p.Margin.Known || p.Stale {
				return -1 << 20
			}
			return p.Margin.Members
		}
		return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(a.Name, b.Name))
	})
	return out
}

// Pool is one pool, by name or id.
func (s *Service) Pool(name string) (api.Pool, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, err := s.findPool(name)
	if err != nil {
		return api.Pool{}, err
	}
	return s.viewPool(p), nil
}

func (s *Service) viewPool(p *poolState) api.Pool {
	out := api.Pool{Id: p.ID, Name: p.Name, Kind: p.Kind, Hosts: []string{}, CapacityBytes: int64(p.Capacity), UsedBytes: int64(p.Used), SeenAt: p.at,
		Groups: []api.Group{}, Volumes: []api.Volume{}, Spares: s.viewMembers(p.Spares), Logs: s.viewMembers(p.Logs)}
	out.Margin = viewMargin(p.Margin())
	if h := s.hosts[p.reporter]; h == nil || s.late(h, s.clock.Now()) {
		out.Stale = true
	}
	whole := p.Whole()
	for _, g := range p.Groups {
		for _, m := range g.Members {
			if !slices.Contains(out.Hosts, m.Domain) && m.Domain != "" {
				out.Hosts = append(out.Hosts, m.Domain)
			}
		}
		out.Groups = append(out.Groups, api.Group{Name: g.Name, Protection: g.Protect.Words, Members: s.viewMembers(g.Members), Margin: viewMargin(p.GroupMargin(g))})
	}
	slices.Sort(out.Hosts)
	full, _ := whole.Margin()
	out.FullMargin = int(full)
	for _, v := range p.Volumes {
		out.Volumes = append(out.Volumes, api.Volume{Name: v.Name, Group: v.Group, Protection: v.Protect.Words, UsedBytes: int64(v.Used), Margin: viewMargin(p.VolumeMargin(v))})
	}
	for _, w := range s.openSwaps() {
		if w.PoolID == p.ID {
			out.Swap = w.ID
		}
	}
	if c := s.newest(p.ID, ""); c != nil {
		out.Recovery = s.viewRecovery(c, false)
	}
	return out
}

func (s *Service) viewMembers(in []pool.Member) []api.Member {
	out := make([]api.Member, len(in))
	for i, m := range in {
		out[i] = api.Member{Slot: m.Slot, State: string(m.State), Drive: m.Drive, Domain: m.Domain, Log: m.Log, SizeBytes: int64(m.Size),
			UsedBytes: int64(m.Used), NeedsBytes: int64(m.Needs), Errors: wire.MemberErrors(m.Errors), Verdict: api.Unknown}
		if d := s.drives[m.Drive]; d != nil {
			out[i].Tail, out[i].Bay, out[i].Verdict = d.tail(), d.bay(), api.Verdict(s.judge()[m.Drive].verdict)
		}
	}
	return out
}

// newest is the recovery of a pool that runs, else the one that began last; of a slot, if one is named.
func (s *Service) newest(poolID, slot string) (best *course) {
	for _, c := range s.recov {
		if c.PoolID != poolID || slot != "" && c.Report.Slot != slot {
			continue
		}
		if best == nil || running(c) && !running(best) || running(c) == running(best) && c.Report.StartedAt.After(best.Report.StartedAt) {
			best = c
		}
	}
	return best
}

func running(c *course) bool {
	return c.Report.State == recovery.Running || c.Report.State == recovery.Paused
}

// Recoveries lists recoveries, the newest first, without their course.
func (s *Service) Recoveries(poolName string, limit int) ([]api.Recovery, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.Recovery{}
	for _, c := range s.recov {
		if poolName == "" || c.PoolName == poolName || c.PoolID == poolName {
			out = append(out, s.viewRecovery(c, false))
		}
	}
	slices.SortFunc(out, func(a, b api.Recovery) int {
		return cmp.Or(-cmp.Compare(b2i(a.State == api.RecoveryStateRunning), b2i(b.State == api.RecoveryStateRunning)), b.StartedAt.Compare(a.StartedAt), cmp.Compare(a.Id, b.Id))
	})
	if limit == 0 {
		limit = 200
	}
	return out[:min(limit, len(out))], nil
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

// Recovery is one recovery with its course.
func (s *Service) Recovery(id string) (api.Recovery, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c := s.recov[id]
	if c == nil {
		return api.Recovery{}, problem(404, "no-recovery", "See: lantern recoveries", "There is no recovery %q.", id)
	}
	return s.viewRecovery(c, true), nil
}

// mostSamples is how many moments of a course are sent: more than a screen has points for.
const mostSamples = 400

func (s *Service) viewRecovery(c *course, whole bool) api.Recovery {
	r := c.Report
	v := recovery.Look(c.samples, r.State, s.clock.Now())
	out := api.Recovery{Id: r.ID, Pool: c.PoolName, Kind: api.RecoveryKind(r.Kind), State: api.RecoveryState(r.State), StartedAt: r.StartedAt, EndedAt: r.EndedAt,
		SeenAt: c.SeenAt, Slot: r.Slot, Drive: r.Drive, DoneBytes: int64(r.Done), TodoBytes: int64(r.Todo), Share: v.Share, RateNow: v.RateNow, RateOverall: v.RateOverall,
		Why: v.Why, Stalled: v.Stalled, Slowest: r.Slowest, Found: int64(r.Found), Repaired: int64(r.Repaired), Unrepairable: int64(r.Unrepairable)}
	if d := s.drives[r.Drive]; d != nil {
		out.Tail = d.tail()
	}
	if v.Finish != nil {
		out.Finish = api.Range{P10: v.Finish.P10, P50: v.Finish.P50, P90: v.Finish.P90}
	}
	if p := s.pools[c.PoolID]; p != nil && running(c) {
		if m, known := p.Margin(); known {
			switch {
			case m < 0:
				out.Cost = "data is lost already"
			case m == 0:
				out.Cost = "losing one more member until then loses data"
			default:
				out.Cost = fmt.Sprintf("losing one more member until then leaves: %s", pool.Margin(m-1))
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
	}
	return out
}

// Hosts lists the enrolled hosts.
func (s *Service) Hosts() []api.Host {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.Host{}
	for _, h := range s.hosts {
		v := api.Host{Name: h.Name, State: api.Reporting, SeenAt: h.SeenAt, IntervalSeconds: h.Interval}
		switch {
		case h.SeenAt.IsZero():
			v.State = api.Never
		case s.late(h, s.clock.Now()):
			v.State = api.Quiet
		}
		for _, d := range s.drives {
			if d.Host == h.Name && d.Present {
				v.Drives++
			}
		}
		out = append(out, v)
	}
	slices.SortFunc(out, func(a, b api.Host) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// Bays is the bay map of a host.
func (s *Service) Bays(name string) (api.BayMap, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := s.hosts[name]
	if h == nil {
		return api.BayMap{}, problem(404, "no-host", "See: lantern hosts", "There is no host %q.", name)
	}
	out := api.BayMap{Host: name, SeenAt: h.SeenAt, Sections: []api.Section{}}
	verdicts := s.judge()
	for _, e := range h.report.Enclosures {
		for _, r := range e.Sections {
			sec := wire.ToSection(r)
			v := api.Section{Name: r.Name, Enclosure: e.Name, Rows: r.Rows, Columns: r.Columns, Upright: r.Upright, Bays: []api.Bay{}}
			for n := 1; n <= sec.Bays(); n++ {
				at, _ := sec.Place(n)
				b := api.Bay{Address: enclosure.Address{Host: name, Section: r.Name, Number: n}.String(), Number: n, Row: at.Row, Column: at.Column,
					Lit: slices.Contains(r.Lit, n)}
				for _, l := range s.lights {
					if l.Bay == b.Address && l.State != api.LightStateGoing {
						b.LitUntil = l.Until
					}
				}
				if d := s.occupant(name, r.Name, n); d != nil {
					key := d.Desc.Key()
					b.Drive, b.Tail, b.Verdict, b.Missing = key, d.tail(), api.Verdict(verdicts[key].verdict), !d.Present
					if fs := verdicts[key].findings; len(fs) > 0 {
						b.Says = fs[0].Says
					}
					if p, _, _ := s.member(key); p != nil {
						b.Pool = p.Name
					}
				}
				v.Bays = append(v.Bays, b)
			}
			out.Sections = append(out.Sections, v)
		}
	}
	return out, nil
}

// occupant is the drive in a bay; else the one that was last seen there, if its pool still counts on it.
func (s *Service) occupant(host, section string, n int) (was *disk) {
	for _, d := range s.drives {
		if d.Host != host || d.Section != section || d.Bay != n {
			continue
		}
		if d.Present {
			return d
		}
		if p, _, _ := s.member(d.Desc.Key()); p != nil && (was == nil || d.SeenAt.After(was.SeenAt)) {
			was = d
		}
	}
	return was
}

// Lights lists those that have not ended.
func (s *Service) Lights() []api.Light {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.Light{}
	for _, l := range s.lights {
		out = append(out, l.Light)
	}
	slices.SortFunc(out, func(a, b api.Light) int { return cmp.Compare(a.Bay, b.Bay) })
	return out
}

// Swaps lists swaps, the newest first.
func (s *Service) Swaps(open bool) []api.Swap {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []api.Swap{}
	for _, w := range s.swaps {
		if !open || w.Phase.Open() {
			out = append(out, s.viewSwap(w))
		}
	}
	slices.SortFunc(out, func(a, b api.Swap) int { return b.PlannedAt.Compare(a.PlannedAt) })
	return out
}

// Swap is one swap.
func (s *Service) Swap(id string) (api.Swap, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if w := s.swaps[id]; w != nil {
		return s.viewSwap(w), nil
	}
	return api.Swap{}, problem(404, "no-swap", "List them with: lantern swap list", "There is no swap %q.", id)
}

func viewSwapDrive(d swap.Drive) api.SwapDrive {
	return api.SwapDrive{Key: d.Key(), Tail: d.Tail(), Model: d.Model, Serial: d.Serial, CapacityBytes: int64(d.Capacity), Bay: d.Bay}
}

func viewChecks(in []swap.Check) []api.Check {
	out := make([]api.Check, len(in))
	for i, c := range in {
		out[i] = api.Check{Id: c.ID, Title: c.Title, Looked: c.Looked, Found: c.Found, Do: c.Do, Result: api.CheckResult(c.Result)}
	}
	return out
}

func (s *Service) viewSwap(w *swapState) api.Swap {
	out := api.Swap{Id: w.ID, Version: w.version, Phase: api.SwapPhase(w.Phase), Open: w.Phase.Open(), Pool: w.Pool, Slot: w.Slot, Host: w.Host,
		Old: viewSwapDrive(w.Old), OldGone: w.OldGone, NeedsBytes: int64(w.Needs), Lead: w.Lead, Refused: w.Refused, RefusedTail: w.RefusedTail,
		Checks: []api.Check{}, Closing: viewChecks(w.Closing), Steps: []api.Step{}, Log: []api.LogEntry{},
		PlannedAt: w.PlannedAt, BegunAt: w.BegunAt, EndedAt: w.EndedAt, Recipe: "pull the old drive, put the new one into its bay"}
	if w.Phase == swap.Planned {
		out.Checks = viewChecks(swap.Checks(s.situation(w.State)))
	}
	if w.New != nil {
		out.New = viewSwapDrive(*w.New)
		if w.Phase == swap.Confirm {
			// Whoever confirms must have read the label, not this answer (R3).
			out.New.Tail, out.New.Serial = "", ""
		}
	}
	for _, x := range w.Wrong {
		says := fmt.Sprintf("Put %s back into %s.", x.Tail(), cmp.Or(x.Bay, "its place"))
		out.Wrong = append(out.Wrong, api.WrongDrive{Tail: x.Tail(), Bay: x.Bay, At: x.At, Says: says + " Without it, " + w.Pool + ": " + x.Margin.String() + "."})
	}
	for _, st := range w.Steps() {
		state := api.Next
		switch {
		case w.Phase == swap.Closed || st.Phase.Rank() < w.Phase.Rank():
			state = api.Past
		case st.Phase == w.Phase:
			state = api.Now
		}
		out.Steps = append(out.Steps, api.Step{Phase: string(st.Phase), Kind: api.StepKind(st.Kind), Title: st.Title, What: st.What, Why: st.Why, Expect: st.Expect, State: state})
	}
	for _, e := range w.Log {
		out.Log = append(out.Log, api.LogEntry{At: e.At, Who: e.Who, Says: e.Says})
	}
	if c := s.recov[w.Recovery]; c != nil {
		out.Recovery = s.viewRecovery(c, w.Phase.Open())
	}
	for _, l := range s.lights {
		if l.Bay == w.Old.Bay && w.Old.Bay != "" {
			out.Light = l.Light
		}
	}
	return out
}
