package service

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/recovery"
	"lantern/internal/store"
	"lantern/internal/wire"
)

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

// Hosts lists all hosts.
func (s *Service) Hosts() []api.Host {
	s.mu.Lock()
	defer s.mu.Unlock()
	present := map[string]int{}
	for _, d := range s.drives {
		if d.Present {
			present[d.Host]++
		}
	}
	out := make([]api.Host, 0, len(s.hosts))
	for _, h := range s.hosts {
		out = append(out, s.viewHost(h, present[h.Name]))
	}
	slices.SortFunc(out, func(a, b api.Host) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

func (s *Service) viewHost(h *host, drives int) api.Host {
	v := api.Host{Name: h.Name, Room: h.Room, Cold: h.Cold, State: api.HostStateReporting, SeenAt: h.SeenAt, IntervalSeconds: h.Interval, Drives: drives, Nameless: h.report.Nameless}
	switch {
	case h.SeenAt.IsZero():
		v.State = api.HostStateNever
	case s.late(h, s.clock.Now()):
		v.State = api.HostStateQuiet
	}
	return v
}

func (s *Service) roomOf(name string) string {
	if h := s.hosts[name]; h != nil {
		return h.Room
	}
	return ""
}

// SetRoom says where a host stands.
func (s *Service) SetRoom(by, name, room string) (api.Host, error) {
	room = strings.Join(strings.Fields(room), " ")
	if n := utf8.RuneCountInString(room); n > 60 {
		return api.Host{}, problem(422, "bad-room", "Such as: cellar, or hall 2.", "A room's name has up to 60 characters, this has %d.", n)
	}
	return s.changeHost(name, func(h *store.Host) string {
		if h.Room == room {
			return ""
		}
		if h.Room = room; room == "" {
			return fmt.Sprintf("%s says that %s stands in no room", by, name)
		}
		return fmt.Sprintf("%s says that %s stands in %s", by, name, room)
	})
}

// SetCold says whether a host's drives are changed only while it is down.
func (s *Service) SetCold(by, name string, cold bool) (api.Host, error) {
	return s.changeHost(name, func(h *store.Host) string {
		if h.Cold == cold {
			return ""
		}
		if h.Cold = cold; cold {
			return by + " says that drives of " + name + " are changed only while it is down"
		}
		return by + " says that drives of " + name + " can be changed while it runs"
	})
}

// changeHost keeps what a person says of a host. change says in words what it changed; empty when that was so already.
func (s *Service) changeHost(name string, change func(h *store.Host) string) (api.Host, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := s.hosts[name]
	if h == nil {
		return api.Host{}, problem(404, "no-host", "See: lantern hosts", "There is no host %q.", name)
	}
	present := 0
	for _, d := range s.drives {
		if d.Present && d.Host == name {
			present++
		}
	}
	row := h.Host
	if says := change(&row); says != "" {
		b := &store.Batch{}
		b.Put(&row)
		s.happened(b, api.EventKindHost, name, says)
		if err := s.commit(b); err != nil {
			return api.Host{}, err
		}
		h.Host = row
	}
	return s.viewHost(h, present), nil
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
	here := s.occupants(name)
	loose := false // a drive whose bay nobody knows may be in any that is not told
	for _, d := range s.drives {
		loose = loose || d.Host == name && d.Present && d.Section == ""
	}
	lights := map[string]api.Light{}
	for _, l := range s.lights {
		if l.State != api.LightStateGoing {
			lights[l.Bay] = l.Light
		}
	}
	for _, e := range s.enclosuresOf(h) {
		out.Parts = append(out.Parts, e.Parts...)
		for _, r := range e.Sections {
			sec := wire.ToSection(r)
			v := api.Section{Told: told(h, r.Name), Name: r.Name, Enclosure: e.Name, Rows: r.Rows, Columns: r.Columns, Upright: r.Upright, Bays: []api.Bay{}}
			for _, n := range sec.Numbers() {
				at, _ := sec.Place(n)
				b := api.Bay{Address: enclosure.Address{Host: name, Section: r.Name, Number: n}.String(), Number: n, Row: at.Row, Column: at.Column,
					Lit: slices.Contains(r.Lit, n), Name: sec.Names[n]}
				if until, ok := lights[b.Address]; ok {
					b.LitUntil = until.Until
					b.Lit = b.Lit || until.State == api.LightStateLit
				}
				if d := here[enclosure.Address{Host: name, Section: r.Name, Number: n}]; d != nil {
					key := d.Desc.Key()
					b.How = api.BayHow(d.How)
					for name, to := range map[drive.MetricName]*float64{"temperature_celsius": &b.TemperatureCelsius, "power_on_hours": &b.PowerOnHours, "read_latency_seconds": &b.LatencySeconds} {
						if p, ok := d.record[name].Last(); ok {
							*to = p.Value
						}
					}
					for _, l := range s.lastTests(d) {
						if l.at.After(b.TestedAt) {
							b.TestedAt = l.at
						}
					}
					b.Drive, b.Tail, b.Verdict, b.Missing = key, d.tail(), api.Verdict(verdicts[key].verdict), !d.Present
					if fs := verdicts[key].findings; len(fs) > 0 {
						b.Says = fs[0].Says
					}
					if at := s.places()[key]; at.pool != nil {
						b.Pool = at.pool.Name
					}
				}
				b.Unknown = b.Drive == "" && loose && !v.Told
				v.Bays = append(v.Bays, b)
			}
			out.Sections = append(out.Sections, v)
		}
	}
	return out, nil
}

// occupants are the drives in a host's bays; where none answers, the one that was last seen there, if its pool still counts
// on it.
func (s *Service) occupants(host string) map[enclosure.Address]*disk {
	out := map[enclosure.Address]*disk{}
	for key, d := range s.drives {
		if d.Host != host || d.Section == "" {
			continue
		}
		at := enclosure.Address{Host: host, Section: d.Section, Number: d.Bay}
		was := out[at]
		if was != nil && was.Present && (!d.Present || was.Desc.Key() < key) {
			continue // two in one bay are told of elsewhere; the map shows the same one each time
		}
		if d.Present || (was == nil || !was.Present && d.SeenAt.After(was.SeenAt)) && len(s.poolsWith(key)) > 0 {
			out[at] = d
		}
	}
	return out
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
			_, _, _ = s.refresh(w, w.KeepSpare) // what cannot be kept is shown as it was
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
		if _, _, err := s.refresh(w, w.KeepSpare); err != nil {
			return api.Swap{}, err
		}
		return s.viewSwap(s.swaps[id]), nil
	}
	return api.Swap{}, problem(404, "no-swap", "List them with: lantern swap list", "There is no swap %q.", id)
}
