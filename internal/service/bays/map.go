package bays

import (
	"cmp"
	"slices"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
	"lantern/internal/service/fleet"
	"lantern/internal/service/judging"
	"lantern/internal/wire"
)

// Bays is the bay map of a host.
func (s *Service) Bays(name string) (api.BayMap, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	h := s.fleet.Hosts[name]
	if h == nil {
		return api.BayMap{}, fleet.NoHost(s.fleet, name)
	}
	out := api.BayMap{Host: name, SeenAt: h.SeenAt, Sections: []api.Section{}}
	verdicts := s.judging.Judge()
	here := s.fleet.Occupants(name)
	loose := false // a drive without a known bay may be in any bay that is not reported
	for _, d := range s.fleet.Drives {
		loose = loose || d.Host == name && d.Present && d.Section == ""
	}
	lights := map[string]api.Light{}
	for _, l := range s.LightByID {
		if l.State != api.LightStateGoing {
			lights[l.Bay] = l.Light
		}
	}
	for _, e := range s.fleet.EnclosuresOf(h) {
		out.Parts = append(out.Parts, e.Parts...)
		for _, r := range e.Sections {
			sec := wire.ToSection(r)
			v := api.Section{
				Told:      fleet.Told(h, r.Name),
				Name:      r.Name,
				Enclosure: e.Name,
				Rows:      r.Rows,
				Columns:   r.Columns,
				Upright:   r.Upright,
				Bays:      []api.Bay{},
			}
			for _, n := range sec.Numbers() {
				at, _ := sec.Place(n)
				b := api.Bay{
					Address: enclosure.Address{Host: name, Section: r.Name, Number: n}.String(),
					Number:  n,
					Row:     at.Row,
					Column:  at.Column,
					Lit:     slices.Contains(r.Lit, n),
					Name:    sec.Names[n],
				}
				if until, ok := lights[b.Address]; ok {
					b.LitUntil = until.Until
					b.Lit = b.Lit || until.State == api.LightStateLit
				}
				if d := here[enclosure.Address{Host: name, Section: r.Name, Number: n}]; d != nil {
					s.occupied(&b, d, verdicts[d.Key()])
				}
				b.Unknown = b.Drive == "" && loose && !v.Told
				v.Bays = append(v.Bays, b)
			}
			out.Sections = append(out.Sections, v)
		}
	}
	return out, nil
}

// occupied fills in the drive of a bay.
func (s *State) occupied(b *api.Bay, d *fleet.Drive, j judging.Judged) {
	key := d.Key()
	b.How = api.BayHow(d.How)
	for name, to := range map[drive.MetricName]*float64{"temperature_celsius": &b.TemperatureCelsius,
		"power_on_hours": &b.PowerOnHours, "read_latency_seconds": &b.LatencySeconds} {
		if p, ok := d.Record[name].Last(); ok {
			*to = p.Value
		}
	}
	for _, l := range s.fleet.LastTests(d) {
		if l.At.After(b.TestedAt) {
			b.TestedAt = l.At
		}
	}
	b.Drive, b.Tail, b.Verdict, b.Missing = key, d.Tail(), api.Verdict(j.Verdict), !d.Present
	if fs := j.Findings; len(fs) > 0 {
		b.Says = fs[0].Says
	}
	if at := s.judging.Places()[key]; at.Pool != nil {
		b.Pool = at.Pool.Name
	}
}

// Lights lists those that have not ended.
func (s *Service) Lights() []api.Light {
	s.mu.RLock()
	defer s.mu.RUnlock()
	out := []api.Light{}
	for _, l := range s.LightByID {
		out = append(out, l.Light)
	}
	slices.SortFunc(out, func(a, b api.Light) int { return cmp.Compare(a.Bay, b.Bay) })
	return out
}
