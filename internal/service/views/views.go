package views

import (
	"cmp"
	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/history"
	"lantern/internal/core/pool"
	"lantern/internal/core/swap"
	"lantern/internal/service/fleet"
	"lantern/internal/service/problem"
	"lantern/internal/wire"
	"maps"
	"slices"
	"time"
)

// Drive is one drive with everything known of it.
func (s *Service) Drive(name string) (api.Drive, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.fleet.FindDrive(name)
	if err != nil {
		return api.Drive{}, err
	}
	return s.viewDrive(d, s.judging.Places()[d.Desc.Key()], true), nil
}

func (s *State) viewDrive(d *fleet.Drive, at fleet.Place, whole bool) api.Drive {
	key := d.Desc.Key()
	j := s.judging.Judge()[key]
	out := api.Drive{Key: key, Tail: d.Tail(), Identity: wire.Identity(d.Desc.Identity), Firmware: d.Desc.Firmware, Medium: string(d.Desc.Medium),
		RotationRpm: d.Desc.RotationRPM, FormFactor: d.Desc.FormFactor, CapacityBytes: int64(d.Desc.Capacity),
		LogicalSectorBytes: int(d.Desc.LogicalSector), PhysicalSectorBytes: int(d.Desc.PhysicalSector), Host: d.Host, Path: d.Path,
		Bay: d.BayName(), BayConfirmed: d.Section != "" && d.How.Sure(), BayHow: string(d.How), Role: api.DriveRoleNone, Holds: d.Holds, Present: d.Present, SeenAt: d.SeenAt, FirstSeenAt: d.FirstAt,
		ReadAt: d.Reading.At, Verdict: api.Verdict(j.Verdict), Findings: []api.Finding{}}
	if d.Present {
		if h := s.fleet.Hosts[d.Host]; h != nil {
			out.SeenAt = h.SeenAt
		}
	}
	for _, f := range j.Findings {
		out.Findings = append(out.Findings, fleet.ViewFinding(f))
	}
	out.Says = "has nothing to say"
	if len(j.Findings) > 0 {
		out.Says = j.Findings[0].Says
	}
	if j.Verdict == health.Unknown && len(j.Findings) > 0 {
		for _, f := range j.Findings {
			if f.Verdict == health.Unknown {
				out.Says = f.Says
				break
			}
		}
	}
	if h := s.fleet.Hosts[d.Host]; d.Present && h != nil && !s.fleet.Late(h, s.Clock.Now()) {
		out.Looked = d.Looked // of one that is away, or whose host is silent, what was found before says nothing of now
	}
	if at.Pool != nil {
		out.Pool, out.Group, out.Slot, out.State = at.Pool.Name, at.Group, at.Member.Slot, string(at.Member.State)
		out.Role = api.DriveRoleMember
		if at.Group == "" {
			out.Role = api.DriveRoleSpare
			for _, l := range at.Pool.Logs {
				if l.Slot == at.Member.Slot {
					out.Role = api.DriveRoleLog
				}
			}
		}
		if whole {
			out.Margin, out.MarginAfter = s.judging.Margins(at, key)
		}
	}
	if p, ok := d.Record["power_on_hours"].Last(); ok {
		out.PowerOnHours = int(p.Value)
	}
	if p, ok := d.Record["temperature_celsius"].Last(); ok {
		out.TemperatureCelsius = int(p.Value)
	}
	for _, l := range s.bays.LightByID {
		if l.Bay == out.Bay && out.Bay != "" && l.State != api.LightStateGoing {
			out.LitUntil = l.Until
		}
	}
	for _, w := range s.swaps.OpenSwaps() {
		if w.Old.Key() == key || w.New != nil && w.New.Key() == key {
			out.Swap = w.ID
		}
	}
	out.Uses = s.fleet.ViewUses(d)
	if !whole {
		return out
	}
	out.Siblings = s.judging.BatchOf(d)
	out.Places, out.Paths, out.Layout = s.fleet.ViewPlaces(key), d.Paths, d.Layout
	out.Testing, out.Busy = d.Reading.Testing, d.Busy
	out.SelfTests, _ = s.selftests.DriveTests(d, at, s.selftests.CorePlans(nil, ""), s.selftests.TestIndex()[key], s.Clock.Now())
	if d.Failed != nil {
		out.FailedAt = *d.Failed
	}
	out.TestKinds = slices.Sorted(maps.Keys(d.Reading.TestMinutes))
	out.Names, out.Blind, out.Happened = d.Names, d.Blind, s.happenings(d)
	life, err := s.readings.Life(d)
	if err != nil {
		s.Log.Error("the life-long totals of a drive cannot be made out", "drive", key, "error", err)
	}
	out.Attributes, out.Tests, out.Unreadable = d.Reading.Attributes, d.Reading.Tests, d.Reading.Unreadable
	for _, m := range drive.Catalogue {
		v, ok := s.fleet.ViewMetric(d, m)
		if !ok {
			continue
		}
		if m.Kind == drive.Counter || m.Unit == "sectors" {
			for _, g := range d.Record[m.Name].Rates(v.At, m.Kind == drive.Counter) {
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

// Trend is one metric of a drive over time, with its group's other members beside it.
func (s *Service) Trend(name, metric string, hours int) (api.Trend, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.fleet.FindDrive(name)
	if err != nil {
		return api.Trend{}, err
	}
	m, ok := drive.MetricByName(drive.MetricName(metric))
	if !ok {
		return api.Trend{}, problem.New(404, "no-metric", "A drive's page lists those it has.", "There is no metric %q.", metric)
	}
	if hours <= 0 {
		hours = 30 * 24
	}
	since := s.Clock.Now().Add(-time.Duration(hours) * time.Hour)
	out := api.Trend{Drive: d.Desc.Key(), Tail: d.Tail(), Metric: metric, Unit: m.Unit, Means: m.Means, MeansNot: m.MeansNot, Source: d.Source(m.Name),
		Resets: []time.Time{}}
	series, err := s.readings.Series(d.Desc.Key(), m.Name, since)
	if err != nil {
		return out, err
	}
	out.Points = points(series)
	if m.Kind == drive.Counter {
		out.Resets = append(out.Resets, series.Resets()...)
	}
	for _, k := range s.judging.Places()[d.Desc.Key()].Peers {
		if peer := s.fleet.Drives[k]; peer != nil && peer != d && len(out.Peers) < 24 {
			if ps := peer.Record[m.Name].Since(since); len(ps) > 0 {
				out.Peers = append(out.Peers, api.PeerTrend{Tail: peer.Tail(), Points: points(ps)})
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
	for _, p := range s.fleet.Pools {
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
	p, err := s.fleet.FindPool(name)
	if err != nil {
		return api.Pool{}, err
	}
	return s.viewPool(p), nil
}

func (s *State) viewPool(p *fleet.Pool) api.Pool {
	out := api.Pool{Id: p.ID, Name: p.Name, Kind: p.Kind, Hosts: []string{}, CapacityBytes: int64(p.Capacity), UsedBytes: int64(p.Used), Limit: p.Limit, Offers: p.Offers, Priority: p.Priority, Inconsistent: p.Torn, SeenAt: p.At,
		Groups: []api.Group{}, Volumes: []api.Volume{}, Spares: s.viewMembers(p.Spares), Logs: s.viewMembers(p.Logs)}
	through := p.Through(s.fleet.Below)
	margin, known := s.fleet.Margin(p)
	out.Margin = wire.MarginBy(margin, known, through.LimitedBy())
	out.Watched, out.UsedUnknown, out.NotSeenSince, out.Wrong, out.Witness = p.Watched, p.UsedUnknown, p.Unseen, p.Wrong, p.Witness
	out.Stale = !p.Unseen.IsZero()
	if h := s.fleet.Hosts[p.Reporter]; h == nil || s.fleet.Late(h, s.Clock.Now()) {
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
		if q := s.fleet.Below(id); q != nil {
			w := q.Whole()
			return &w
		}
		return nil
	})
	out.FullMargin = int(full)
	for _, v := range p.Volumes {
		out.Volumes = append(out.Volumes, api.Volume{Name: v.Name, Group: v.Group, Protection: v.Protect.Words, Protect: wire.Protection(v.Protect), Extents: wire.Extents(v.Extents), UsedBytes: int64(v.Used), Margin: wire.Margin(p.VolumeMargin(v))})
	}
	out.PriorityHours = s.progress.Hours[p.ID]
	newest := s.recoveries.Newest(p.ID, "")
	best := 0
	for _, w := range s.swaps.OpenSwaps() {
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
		out.Recovery = s.progress.ViewRecovery(c, false)
	}
	return out
}

func (s *State) viewMembers(in []pool.Member) []api.Member {
	out := make([]api.Member, len(in))
	for i, m := range in {
		out[i] = api.Member{Slot: m.Slot, State: string(m.State), Drive: m.Drive, Domain: m.Domain, Log: m.Log, Parity: m.Parity, BadBlocks: m.BadBlocks, Beside: m.Beside, StandsFor: m.StandsFor, Device: m.Device, Drives: m.Drives, Under: m.Under, Partition: m.Partition, Layers: m.Layers, SizeBytes: int64(m.Size),
			UsedBytes: int64(m.Used), NeedsBytes: int64(m.Needs), Errors: wire.MemberErrors(m.Errors), Verdict: api.Unknown}
		if d := s.fleet.Drives[m.Drive]; d != nil {
			out[i].Tail, out[i].Bay, out[i].Verdict = d.Tail(), d.BayName(), api.Verdict(s.judging.Judge()[m.Drive].Verdict)
		}
	}
	return out
}
