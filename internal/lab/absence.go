package lab

import (
	"slices"
	"time"

	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
)

// notice updates the states of members whose drives appear or vanish.
func (p *Pool) notice(t time.Time) {
	p.Everyone(func(group string, m *pool.Member) {
		present := false
		if d := p.fleet.byKey[m.Drive]; d != nil {
			s, in := d.at(t)
			present = in && s.Host == m.Domain && !p.fleet.off(s.Host)
		}
		if log, _, ok := p.Pool.Slot(m.Log); m.Log != "" && ok && log.State == pool.Missing {
			present = false // it is unusable without its log device
		}
		switch {
		case !present && (m.State == pool.Online || m.State == pool.Recovering || m.State == pool.Standby):
			if group != "" {
				p.laid() // as it was before
			}
			m.State = pool.Missing
		case present && m.State == pool.Missing:
			m.State = pool.Online
			p.unheal(m.Slot, t)
			switch {
			case p.filling(m.Slot) != nil:
				m.State = pool.Recovering
			case slices.ContainsFunc(p.Spares, func(s pool.Member) bool { return s.Slot == m.Slot }):
				m.State = pool.Standby
			case group != "" && p.laid().Stale(m.Slot) > 0:
				// Data written during its absence is written again.
				m.State = pool.Recovering
				p.begin(p.Fill, m.Slot, m.Drive, t)
			}
		}
	})
}

// healAfter is how long a member may be missing before a pool that heals restores its data on others.
const healAfter = 10 * time.Minute

// heal restores the data of missing members on the others, in groups that do so by themselves.
func (p *Pool) heal(t time.Time) {
	for _, g := range p.Groups {
		if !g.Heals {
			continue
		}
		for _, m := range g.Members {
			d := p.fleet.byKey[m.Drive]
			if m.State != pool.Missing || d == nil || len(d.Stays) == 0 || p.filling(m.Slot) != nil || p.tried[m.Slot] {
				continue
			}
			if left := d.Stays[len(d.Stays)-1].To; !left.IsZero() && t.Sub(left) > healAfter {
				if p.tried == nil {
					p.tried = map[string]bool{}
				}
				p.tried[m.Slot] = true
				p.begin(recovery.Rebalance, m.Slot, "", t)
			}
		}
	}
}

// takeOver puts a hot spare in the place of a missing member, in groups that do not restore its share on the others.
func (p *Pool) takeOver(t time.Time) {
	for gi := range p.Groups {
		g := &p.Groups[gi]
		if g.Heals || g.Spread {
			continue
		}
		for i := range g.Members {
			m := &g.Members[i]
			d := p.fleet.byKey[m.Drive]
			if m.State != pool.Missing || m.Beside != "" || d == nil || len(d.Stays) == 0 || p.filling(m.Slot) != nil {
				continue
			}
			left := d.Stays[len(d.Stays)-1].To
			at := slices.IndexFunc(
				p.Spares,
				func(s pool.Member) bool { return s.State == pool.Standby && s.Size >= m.Needs },
			)
			if left.IsZero() || t.Sub(left) <= healAfter || at < 0 {
				continue
			}
			s := p.Spares[at]
			p.Spares = slices.Delete(slices.Clone(p.Spares), at, at+1)
			e := p.laid()
			e.Rename(m.Slot, s.Slot)
			e.Blank(s.Slot)
			// Its place is remembered, but the spare stores its data now.
			m.State = pool.Out
			s.State, s.Used, s.Needs, s.StandsFor = pool.Recovering, m.Used, m.Needs, m.Slot
			if p.StandIn == nil {
				p.StandIn = map[string]string{}
			}
			p.StandIn[s.Slot] = m.Slot
			g.Members = append(slices.Clone(g.Members), s)
			p.begin(p.Fill, s.Slot, s.Drive, t)
			return // its slice of members was replaced
		}
	}
}

// standsIn is the spare that stands in for a slot, if there is one.
func (p *Pool) standsIn(slot string) string {
	for spare, of := range p.StandIn {
		if of == slot {
			return spare
		}
	}
	return ""
}

// relieve makes a spare idle again: its data is back in its place.
func (p *Pool) relieve(slot string) {
	spare := p.standsIn(slot)
	if spare == "" {
		return
	}
	delete(p.StandIn, spare)
	for gi := range p.Groups {
		g := &p.Groups[gi]
		if i := slices.IndexFunc(g.Members, func(m pool.Member) bool { return m.Slot == spare }); i >= 0 {
			s := g.Members[i]
			g.Members = slices.Delete(slices.Clone(g.Members), i, i+1)
			if s.Used, s.StandsFor = 0, ""; s.State == pool.Online {
				s.State = pool.Standby
			}
			p.Spares = append(slices.Clone(p.Spares), s)
		}
	}
}

// unheal ends the healing for a member that is back.
func (p *Pool) unheal(slot string, t time.Time) {
	delete(p.tried, slot)
	if r := p.filling(slot); r != nil && r.Kind == recovery.Rebalance && p.Works[r.ID] != nil && r.Drive == "" {
		r.State, r.EndedAt = recovery.Stopped, t
		delete(p.Works, r.ID)
	}
}
