package swaps

import (
	"cmp"
	"slices"

	"lantern/internal/api"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/pool"
	"lantern/internal/core/swap"
	"lantern/internal/service/fleet"
	"lantern/internal/wire"
)

// ground gives the facts for a recipe, and the drive that waits for it in a bay, if there is one.
func (s *State) ground(p *fleet.Pool, m pool.Member, d *fleet.Drive, plan swap.State) (swap.Ground, *fleet.Drive) {
	g := swap.Ground{Pool: &p.Pool, Slot: m.Slot, Gone: !d.Present, Offers: p.Offers, Now: s.Clock.Now()}
	g.Scrubbed, g.Clean = s.recoveries.LastScrub(p.ID)
	h := s.fleet.Hosts[plan.Host]
	if h == nil {
		return g, nil
	}
	g.Cold, g.Layout = h.Cold, slices.ContainsFunc(plan.Seats, func(x swap.Seat) bool { return x.Partition > 0 })
	for i, x := range plan.Seats {
		if i > 0 && s.fleet.Pools[x.PoolID] != nil {
			g.Others = append(
				g.Others,
				swap.OtherPlace{
					Pool:   &s.fleet.Pools[x.PoolID].Pool,
					Slot:   x.Slot,
					Offers: s.fleet.Pools[x.PoolID].Offers,
				},
			)
		}
		for _, l := range x.Above() {
			if !slices.Contains(g.Layers, l) {
				g.Layers = append(g.Layers, l)
			}
		}
	}
	for _, x := range s.fleet.Pools {
		if x.OnlyOn(h.Name) {
			g.Stops = append(g.Stops, x.Name)
		}
	}
	slices.Sort(g.Stops)
	stock := s.stockFor(plan, h.Name)
	if stock != nil {
		g.Free, g.Waits = stock.BayName(), true
	}
	g.Free = cmp.Or(g.Free, s.freeBay(h, d, true))
	g.Outside = s.freeBay(h, d, false)
	if !plan.KeepSpare {
		g.Spare = s.stock.SpareFor(p, m, plan.Needs)
	}
	return g, stock
}

// freeBay is the nearest empty bay of the drive's own section, or one of another enclosure; empty when none is known.
func (s *State) freeBay(h *fleet.Host, d *fleet.Drive, same bool) string {
	if d.Section == "" {
		return ""
	}
	taken := s.fleet.Occupants(h.Name)
	for _, x := range s.fleet.Drives {
		if x.Host == h.Name && x.Present && x.Section == "" {
			return "" // a drive without a known bay may be in any bay
		}
	}
	best, far := "", 0
	for _, e := range s.fleet.EnclosuresOf(h) {
		here := slices.ContainsFunc(e.Sections, func(sec api.SectionReport) bool { return sec.Name == d.Section })
		for _, sec := range e.Sections {
			if same != (sec.Name == d.Section) || !same && here {
				continue
			}
			for _, n := range wire.ToSection(sec).Numbers() {
				a := enclosure.Address{Host: h.Name, Section: sec.Name, Number: n}
				off := max(n-d.Bay, d.Bay-n)
				if taken[a] == nil && !slices.Contains(sec.Occupied, n) && (best == "" || off < far) {
					best, far = a.String(), off
				}
			}
		}
	}
	return best
}

// stockFor is the smallest accepted drive in a bay of the host that fits.
func (s *State) stockFor(plan swap.State, host string) (best *fleet.Drive) {
	for key, d := range s.fleet.Drives {
		if d.Host != host || !d.Present || d.Accepted.State != string(api.AcceptanceStatePassed) ||
			s.Promised(key, plan.ID) != "" {
			continue
		}
		if why := plan.Unfit(*s.stock.SwapDrive(d)); why != "" {
			continue
		}
		if best == nil || d.Desc.Capacity < best.Desc.Capacity ||
			d.Desc.Capacity == best.Desc.Capacity && d.Desc.Serial < best.Desc.Serial {
			best = d
		}
	}
	return best
}
