package service

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/history"
	"lantern/internal/core/pool"
	"lantern/internal/core/swap"
	"lantern/internal/wire"
)

// The views are what all three faces show: made here, once, from the core's values.

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
		Bay: d.bay(), BayConfirmed: d.Section != "" && d.How.Sure(), BayHow: string(d.How), Role: api.DriveRoleNone, Holds: d.Holds, Present: d.Present, SeenAt: d.SeenAt, FirstSeenAt: d.FirstAt,
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
	if h := s.hosts[d.Host]; d.Present && h != nil && !s.late(h, s.clock.Now()) {
		out.Looked = d.Looked // of one that is away, or whose host is silent, what was found before says nothing of now
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
			out.Margin, out.MarginAfter = s.margins(at, key)
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
	out.Uses = s.viewUses(d)
	if !whole {
		return out
	}
	out.Siblings = s.batchOf(d)
	out.Places, out.Paths, out.Layout = s.viewPlaces(key), d.Paths, d.Layout
	out.Testing, out.Busy = d.Reading.Testing, d.busy
	out.SelfTests, _ = s.driveTests(d, at, s.corePlans(nil, ""), s.testIndex()[key], s.clock.Now())
	if d.Failed != nil {
		out.FailedAt = *d.Failed
	}
	out.TestKinds = slices.Sorted(maps.Keys(d.Reading.TestMinutes))
	out.Names, out.Blind, out.Happened = d.Names, d.Blind, s.happenings(d)
	life, err := s.life(d)
	if err != nil {
		s.log.Error("the life-long totals of a drive cannot be made out", "drive", key, "error", err)
	}
	out.Attributes, out.Tests, out.Unreadable = d.Reading.Attributes, d.Reading.Tests, d.Reading.Unreadable
	for _, m := range drive.Catalogue {
		v, ok := s.viewMetric(d, m)
		if !ok {
			continue
		}
		if m.Kind == drive.Counter || m.Unit == "sectors" {
			for _, g := range d.record[m.Name].Rates(v.At, m.Kind == drive.Counter) {
				v.Growth = append(v.Growth, api.Growth{Hours: int(g.Over.Hours()), Grown: g.Grown, Whole: g.Whole})
			}
		}
		if m.Kind == drive.Counter {
			v.Total, v.Resets = life[m.Name].Total(v.Value), life[m.Name].Resets
		}
		out.Metrics = append(out.Metrics, v)
	}
	return out
}

// source is what the newest value of a metric was read from.
func (d *disk) source(n drive.MetricName) string {
	return drive.SourceOf(n, d.Reading.Sources[string(n)])
}

// viewMetric is the newest value of a metric, if there is one.
func (s *Service) viewMetric(d *disk, m drive.Metric) (v api.MetricValue, ok bool) {
	last, ok := d.record[m.Name].Last()
	if !ok {
		return v, false
	}
	return api.MetricValue{Name: string(m.Name), Unit: m.Unit, Value: last.Value, Kind: string(m.Kind), Strength: string(m.Strength),
		Means: m.Means, MeansNot: m.MeansNot, Source: d.source(m.Name), At: last.At}, true
}

// margins of the pools a drive is in, now and without it: the least of them. A spare, and one whose share was restored elsewhere, takes
// nothing with it.
func (s *Service) margins(at place, key string) (now, after api.Margin) {
	first := true
	least := func(a, b api.Margin) api.Margin {
		if first || a.Known && (!b.Known || b.Members < a.Members) {
			return b
		}
		return a
	}
	at.every(func(x place) {
		n := wire.Margin(s.margin(x.pool))
		a := n
		if x.member.State != pool.Out && x.member.State != pool.Standby {
			left, _, known := s.without(x.pool, key, x.member.Slot)
			a = wire.Margin(left, known)
		}
		now, after = least(now, n), least(after, a)
		first = false
	})
	return now, after
}

// Trend is one metric of a drive over time, with its group's other members beside it.
func (s *Service) Trend(name, metric string, hours int) (api.Trend, error) {
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
	if hours <= 0 {
		hours = 30 * 24
	}
	since := s.clock.Now().Add(-time.Duration(hours) * time.Hour)
	out := api.Trend{Drive: d.Desc.Key(), Tail: d.tail(), Metric: metric, Unit: m.Unit, Means: m.Means, MeansNot: m.MeansNot, Source: d.source(m.Name),
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
	out := api.Pool{Id: p.ID, Name: p.Name, Kind: p.Kind, Hosts: []string{}, CapacityBytes: int64(p.Capacity), UsedBytes: int64(p.Used), Limit: p.Limit, Offers: p.offers, Priority: p.priority, Inconsistent: p.torn, SeenAt: p.at,
		Groups: []api.Group{}, Volumes: []api.Volume{}, Spares: s.viewMembers(p.Spares), Logs: s.viewMembers(p.Logs)}
	through := p.Through(s.below)
	margin, known := s.margin(p)
	out.Margin = wire.MarginBy(margin, known, through.LimitedBy())
	out.Watched, out.UsedUnknown, out.NotSeenSince, out.Wrong, out.Witness = p.Watched, p.UsedUnknown, p.unseen, p.wrong, p.witness
	out.Stale = !p.unseen.IsZero()
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
		out.Groups = append(out.Groups, api.Group{Name: g.Name, Protection: g.Protect.Words, Protect: wire.Protection(g.Protect), Spread: g.Spread, Heals: g.Heals, Members: s.viewMembers(g.Members), Margin: wire.Margin(p.GroupMargin(g))})
	}
	slices.Sort(out.Hosts)
	full, _ := whole.DriveMargin(func(id string) *pool.Pool {
		if q := s.below(id); q != nil {
			w := q.Whole()
			return &w
		}
		return nil
	})
	out.FullMargin = int(full)
	for _, v := range p.Volumes {
		out.Volumes = append(out.Volumes, api.Volume{Name: v.Name, Group: v.Group, Protection: v.Protect.Words, Protect: wire.Protection(v.Protect), Extents: wire.Extents(v.Extents), UsedBytes: int64(v.Used), Margin: wire.Margin(p.VolumeMargin(v))})
	}
	out.PriorityHours = s.hours[p.ID]
	newest := s.newest(p.ID, "")
	best := 0
	for _, w := range s.openSwaps() {
		rank := 1 // planned
		switch {
		case w.PoolID != p.ID:
			continue
		case newest != nil && w.Recovery == newest.ID:
			rank = 3
		case w.Phase != swap.Planned:
			rank = 2
		}
		if rank > best {
			best, out.Swap = rank, w.ID
		}
	}
	if c := newest; c != nil {
		out.Recovery = s.viewRecovery(c, false)
	}
	return out
}

func (s *Service) viewMembers(in []pool.Member) []api.Member {
	out := make([]api.Member, len(in))
	for i, m := range in {
		out[i] = api.Member{Slot: m.Slot, State: string(m.State), Drive: m.Drive, Domain: m.Domain, Log: m.Log, Parity: m.Parity, BadBlocks: m.BadBlocks, Beside: m.Beside, StandsFor: m.StandsFor, Device: m.Device, Drives: m.Drives, Under: m.Under, Partition: m.Partition, Layers: m.Layers, SizeBytes: int64(m.Size),
			UsedBytes: int64(m.Used), NeedsBytes: int64(m.Needs), Errors: wire.MemberErrors(m.Errors), Verdict: api.Unknown}
		if d := s.drives[m.Drive]; d != nil {
			out[i].Tail, out[i].Bay, out[i].Verdict = d.tail(), d.bay(), api.Verdict(s.judge()[m.Drive].verdict)
		}
	}
	return out
}
