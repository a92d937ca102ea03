package rehearsal

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/health"
	"lantern/internal/core/history"
	"lantern/internal/core/pool"
	"lantern/internal/core/swap"
	"lantern/internal/service/fleet"
	"lantern/internal/service/problem"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// Copy is the model of a rehearsal: a pool, its hosts with every drive in them, and the other pools that are only on
// these hosts. It is of one moment. Unknown facts are not invented: while a host is not reporting, there is no copy
// (R7).
func (s *Service) Copy(name string) (api.Copy, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, err := s.fleet.FindPool(name)
	if err != nil {
		return api.Copy{}, err
	}
	now := s.Clock.Now()
	hosts := map[string]bool{p.Reporter: true}
	p.Everyone(func(_ string, m *pool.Member) {
		if m.Domain != "" && s.fleet.Hosts[m.Domain] != nil {
			hosts[m.Domain] = true
		}
	})
	layered, others := false, false
	out := api.Copy{
		Pool:    p.Name,
		At:      now,
		Hosts:   []api.CopyHost{},
		Pools:   []api.PoolReport{},
		Drives:  []api.CopyDrive{},
		Differs: []string{},
	}
	differs := func(format string, args ...any) { out.Differs = append(out.Differs, fmt.Sprintf(format, args...)) }
	for _, name := range slices.Sorted(maps.Keys(hosts)) {
		h := s.fleet.Hosts[name]
		if h.SeenAt.IsZero() || s.fleet.Late(h, now) {
			return out, problem.New(
				409,
				"host-silent",
				"Look at: lantern hosts. A rehearsal on unknown facts would teach the wrong thing.",
				"%s does not report, so the state of %s is not known.",
				name,
				p.Name,
			)
		}
		out.Hosts = append(out.Hosts, api.CopyHost{Name: name, Room: h.Room, Cold: h.Cold, Layouts: s.layoutsOf(h)})
	}
	unknown := ""
	p.Everyone(func(_ string, m *pool.Member) {
		if m.State == pool.StateUnkn {
			unknown = m.Slot
		}
	})
	if unknown != "" || p.Torn {
		return out, problem.New(
			409,
			"pool-unknown",
			"See: lantern pool "+p.Name+". A rehearsal on unknown facts would teach the wrong thing.",
			"The current state of %s is not known.",
			p.Name,
		)
	}

	out.Pools = append(out.Pools, s.recoveries.CopyOf(p))
	s.copyPools(&out, p, hosts, differs)
	s.swapsLeft(hosts, differs)
	out.Drives = s.copyDrives(hosts, differs)
	p.Everyone(func(_ string, m *pool.Member) {
		layered = layered || m.Partition > 0 || len(m.Layers) > 0 || m.Under != ""
		others = others || len(s.fleet.Seats(m.Drive)) > 1
	})
	if layered {
		differs("members of %s are on partitions or other layers: in the rehearsal they are whole drives", p.Name)
	}
	if others {
		differs("drives of %s have places in other pools as well: not in the rehearsal", p.Name)
	}
	return out, nil
}

// copyPools copies the other pools that are only on these hosts.
func (s *Service) copyPools(out *api.Copy, p *fleet.Pool, hosts map[string]bool, differs func(string, ...any)) {
	var partly []string
	for _, id := range slices.Sorted(maps.Keys(s.fleet.Pools)) {
		x := s.fleet.Pools[id]
		here, elsewhere := false, false
		x.Everyone(func(group string, m *pool.Member) {
			if group != "" {
				here, elsewhere = here || hosts[m.Domain], elsewhere || !hosts[m.Domain]
			}
		})
		switch {
		case x == p || !here:
		case elsewhere:
			partly = append(partly, x.Name)
		default:
			out.Pools = append(out.Pools, s.recoveries.CopyOf(x))
		}
	}
	if len(partly) > 0 {
		differs(
			"%s is on other hosts as well: its drives are in their bays, but as strangers, and it does not answer",
			strings.Join(partly, " and "),
		)
	}
}

// swapsLeft lists the open swaps that are not copied.
func (s *Service) swapsLeft(hosts map[string]bool, differs func(string, ...any)) {
	for _, w := range s.swaps.OpenSwaps() {
		if hosts[w.Host] {
			differs(
				"the swap of %s in %s is not copied: the rehearsal starts from the current state",
				w.Old.Tail(),
				w.Pool,
			)
		}
	}
}

// copyDrives are all drives in these hosts, with their findings.
func (s *Service) copyDrives(hosts map[string]bool, differs func(string, ...any)) []api.CopyDrive {
	out := []api.CopyDrive{}
	verdicts := s.judging.Judge()
	for _, key := range slices.Sorted(maps.Keys(s.fleet.Drives)) {
		d := s.fleet.Drives[key]
		mine, m, _ := s.fleet.Member(key)
		if !hosts[d.Host] ||
			!d.Present && (mine == nil || m.State == pool.Out) &&
				!slices.ContainsFunc(
					verdicts[key].Findings,
					func(f health.Finding) bool { return f.Rule == "vanished" },
				) {
			continue
		}
		v := s.copyDrive(key, d, mine)
		for _, f := range verdicts[key].Findings {
			v.Findings = append(v.Findings, fleet.ViewFinding(f))
		}
		v.Verdict = api.Verdict(verdicts[key].Verdict)
		if d.Section != "" && !d.How.Sure() {
			differs("the bay of %s is only guessed: in the rehearsal it is unknown", d.Tail())
		}
		out = append(out, v)
	}
	return out
}

func (s *Service) layoutsOf(h *fleet.Host) []api.Layout {
	out := []api.Layout{}
	for _, e := range s.fleet.EnclosuresOf(h) {
		l := enclosure.Layout{Name: e.Name}
		for _, sec := range e.Sections {
			l.Sections = append(l.Sections, wire.ToSection(sec))
		}
		v := wire.Layout(l)
		v.Told = fleet.Told(h, e.Sections[0].Name)
		out = append(out, v)
	}
	return out
}

// growthOver is the time over which the growth of a metric is computed.
const growthOver = 7 * 24 * time.Hour

func (s *Service) copyDrive(key string, d *fleet.Drive, p *fleet.Pool) api.CopyDrive {
	r := wire.Description(d.Desc)
	r.Holds, r.Blind = d.Holds, d.Blind
	v := api.CopyDrive{
		Key:      key,
		Host:     d.Host,
		Drive:    r,
		Present:  d.Present,
		SeenAt:   d.SeenAt,
		Reading:  d.Reading,
		Courses:  []api.CopyCourse{},
		Findings: []api.Finding{},
	}
	v.Stock, v.Note = d.Stock, d.StockNote
	if d.Accepted.Words() != "" {
		v.Accepted, v.AcceptedAt, v.AcceptedSays = d.Accepted.State, d.Accepted.At, d.Accepted.Says
	}
	if v.Reading.Metrics == nil {
		v.Reading.Metrics = map[string]float64{}
	}
	if d.Section != "" && d.How.Sure() {
		v.Drive.Section, v.Drive.Bay, v.How = d.Section, d.Bay, string(d.How)
	}
	if last, ok := d.Record["power_on_hours"].Last(); ok {
		v.PowerOnHours = last.Value
	}
	for _, m := range drive.Catalogue {
		if last, ok := d.Record[m.Name].Last(); ok {
			v.Reading.Metrics[string(m.Name)] = last.Value
		}
		if m.Strength == drive.Background || m.Unit == "s" || m.Unit == "°C" {
			continue
		}
		if c := courseOf(d.Record[m.Name]); len(c.Points) > 0 {
			c.Metric = string(m.Name)
			v.Courses = append(v.Courses, c)
		}
	}
	s.slower(&v, key, d, p)
	return v
}

// slower adds how much a drive is slower than its peers, where there is such a finding.
func (s *Service) slower(v *api.CopyDrive, key string, d *fleet.Drive, p *fleet.Pool) {
	const latency = "read_latency_seconds"
	for _, f := range s.judging.Judge()[key].Findings {
		last, ok := d.Record[latency].Last()
		if f.Metric != latency || !ok || p == nil {
			continue
		}
		var peers []float64
		p.Everyone(func(_ string, m *pool.Member) {
			if x := s.fleet.Drives[m.Drive]; x != nil && x != d && x.Desc.Medium == d.Desc.Medium {
				if y, ok := x.Record[latency].Last(); ok && y.Value > 0 {
					peers = append(peers, y.Value)
				}
			}
		})
		if slices.Sort(peers); len(peers) > 0 {
			v.Slower, v.SlowerSince = last.Value/peers[len(peers)/2], f.Since
		}
	}
}

// courseOf is the course of a metric that was ever above zero: its first value, and each change.
func courseOf(s history.Series) (out api.CopyCourse) {
	last, ok := s.Last()
	if !ok {
		return out
	}
	more := false
	for i, p := range s {
		more = more || p.Value > 0
		if i == 0 || p.Value != s[i-1].Value {
			out.Points = append(out.Points, api.Point{At: p.At(), Value: p.Value})
		}
	}
	if !more {
		return api.CopyCourse{}
	}
	if before, ok := s.At(last.At().Add(-growthOver)); ok {
		out.PerDay = max(0, (last.Value-before.Value)/(growthOver.Hours()/24))
	} else if days := last.At().Sub(s[0].At()).Hours() / 24; days >= 1 {
		out.PerDay = max(0, (last.Value-s[0].Value)/days)
	}
	const most = 200
	out.Points = out.Points[max(0, len(out.Points)-most):]
	return out
}

// TakeOver stores what people had recorded in the service that a copy came from, as far as the hosts do not report it
// themselves. They must be enrolled, and have reported their drives once.
func (s *Service) TakeOver(c api.Copy) error {
	const by = "the copy"
	for _, h := range c.Hosts {
		if _, err := s.views.SetCold(by, h.Name, h.Cold); err != nil {
			return err
		}
		for _, l := range h.Layouts {
			if l.Told {
				continue
			}
			if _, err := s.bays.SetLayout(by, h.Name, l); err != nil {
				return err
			}
		}
	}
	if err := s.remember(c); err != nil {
		return err
	}
	for _, d := range c.Drives {
		tail := wire.ToIdentity(d.Drive.Identity).Tail()
		if d.Present && d.Drive.Section != "" && d.How != string(enclosure.Told) {
			if err := s.bays.ConfirmBay(
				by,
				api.Spot{Bay: fmt.Sprintf("%s/%s/%d", d.Host, d.Drive.Section, d.Drive.Bay), Drive: tail},
			); err != nil {
				return fmt.Errorf("the bay of %s: %w", tail, err)
			}
		}
		if !d.Stock && d.Accepted == "" {
			continue
		}
		if err := s.takeOverStock(d); err != nil {
			return fmt.Errorf("what is known of %s: %w", tail, err)
		}
	}
	return nil
}

// remember adds the drives that had left before the copy was made: no host reports them any more.
func (s *Service) remember(c api.Copy) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	b := &store.Batch{}
	for _, d := range c.Drives {
		key := wire.ToIdentity(d.Drive.Identity).Key()
		if d.Present || s.fleet.Drives[key] != nil {
			continue
		}
		x := &fleet.Drive{
			Record: history.Record{},
			Facts: fleet.Facts{
				Desc:    wire.ToDescription(d.Drive),
				Host:    d.Host,
				Section: d.Drive.Section,
				Bay:     d.Drive.Bay,
				How:     enclosure.How(d.How),
				FirstAt: d.SeenAt,
				SeenAt:  d.SeenAt,
				Holds:   d.Drive.Holds,
				Life:    map[drive.MetricName]history.Life{},
			},
		}
		s.fleet.Know(key, x)
		b.Put(x.Row())
	}
	return s.Commit(b)
}

func (s *Service) takeOverStock(c api.CopyDrive) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.fleet.FindDrive(c.Drive.Identity.Serial)
	if err != nil {
		return err
	}
	d.Stock, d.StockNote = c.Stock, c.Note
	if c.Accepted != "" {
		d.Accepted = fleet.Accepted{ID: "copied-" + c.Key, State: c.Accepted, At: c.AcceptedAt, Says: c.AcceptedSays}
	}
	b := &store.Batch{}
	b.Put(d.Row())
	return s.Commit(b)
}

// OnlyWaiting reports whether a person only waits, for a swap or for the test of a drive.
func (s *Service) OnlyWaiting() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	moves := false
	for _, p := range s.fleet.Pools {
		moves = moves || len(p.Running) > 0
	}
	waits := len(s.selftests.Runs) > 0
	for _, w := range s.swaps.OpenSwaps() {
		step := w.Now()
		ordered := step.Kind == swap.StepDo && (w.Ordered || w.InProgress)
		switch {
		case len(w.Wrong) > 0 || w.PausedBy != "":
			return false
		case w.Phase == swap.Planned && moves, w.BlockedBy != "" || w.Stuck == "" && step.Kind == swap.StepWait || ordered:
			waits = true
		default:
			return false
		}
	}
	for _, a := range s.stock.AcceptanceByID {
		waits = waits || a.Outcome.Open()
	}
	return waits
}
