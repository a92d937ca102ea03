package lab

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"slices"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/history"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/practice"
)

// Throw arms a mishap for a pool.
func (f *Fleet) Throw(name string, m practice.Mishap) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	at := slices.IndexFunc(f.Pools, func(p *Pool) bool { return p.Name == name })
	if at < 0 {
		return impossible("the lab has no pool %q", name)
	}
	p := f.Pools[at]
	if m == practice.Surprise {
		m = practice.Mishaps[dice(fmt.Sprint(p.ID, p.Seq, f.clock.Now().UnixNano()), len(practice.Mishaps)-1)].Name
	}
	if !m.Known() {
		return impossible("no mishap %q", m)
	}
	if p.Due = append(p.Due, m); m == practice.Stuck {
		p.Stuck = p.due(practice.Stuck)
	}
	return f.save()
}

// dice gives a number below n that follows from what is written on it.
func dice(seed string, n int) int {
	h := fnv.New64a()
	h.Write([]byte(seed))
	return int(h.Sum64() % uint64(n))
}

// due reports whether a mishap waits, and lets it come only once.
func (p *Pool) due(m practice.Mishap) bool {
	i := slices.Index(p.Due, m)
	if i >= 0 {
		p.Due = slices.Delete(p.Due, i, i+1)
	}
	return i >= 0
}

// cutFor is how long a host is without power after a cut.
const cutFor = 15 * time.Minute

// goWrong triggers the mishaps due at t.
func (p *Pool) goWrong(t time.Time) {
	if len(p.Due) == 0 {
		return
	}
	for _, r := range p.Recs {
		if r.State != recovery.Running || r.Slot == "" || r.Kind == recovery.Drain || r.Todo == 0 {
			continue
		}
		share := float64(r.Done) / float64(r.Todo)
		if share >= 1.0/4 && p.due(practice.IllPeer) {
			if d := p.peer(r.Slot, t); d != nil {
				const pending, sectors, perDay = 197, 16, 96
				was := 0.0
				for _, a := range d.attributes(t) {
					if a.ID == pending {
						was = float64(a.Raw)
					}
				}
				d.Faults = append(d.Faults, Fault{Kind: FaultCourse, Attribute: pending, PerDay: perDay, From: t,
					Course: history.Series{history.PointAt(t.Add(-time.Second), was), history.PointAt(t, was+sectors)}})
			}
		}
		if share >= 1.0/3 && p.due(practice.SecondFailure) {
			if d := p.peer(r.Slot, t); d != nil {
				d.Stays[len(d.Stays)-1].To = t
			}
		}
		if share >= 1.0/2 && p.due(practice.PowerCut) {
			for _, h := range p.fleet.Hosts {
				if h.Name == p.Host && !h.Off {
					h.Off, h.Back = true, t.Add(cutFor)
				}
			}
		}
	}
}

// peer is a member of the group of a slot that is there and helps: any, but the same one whenever it is asked.
func (p *Pool) peer(slot string, t time.Time) *Drive {
	_, group, _ := p.Slot(slot)
	var fits []*Drive
	p.Everyone(func(g string, m *pool.Member) {
		if d := p.fleet.byKey[m.Drive]; g == group && m.Slot != slot && m.State == pool.Online && d != nil {
			if _, in := d.at(t); in {
				fits = append(fits, d)
			}
		}
	})
	if len(fits) == 0 {
		return nil
	}
	slices.SortFunc(fits, func(a, b *Drive) int { return cmp.Compare(a.Desc.Serial, b.Desc.Serial) })
	return fits[dice(p.ID+slot, len(fits))]
}

// spoil makes a drive from the shelf one that should not be trusted, if that is due anywhere.
func (f *Fleet) spoil(s *NewDrive, like *Drive) {
	for _, p := range f.Pools {
		switch {
		case p.due(practice.SmallDrive):
			least := drive.Bytes(0)
			p.Everyone(func(_ string, m *pool.Member) {
				if like != nil && (m.Drive == like.key() || least == 0) && m.Needs > 0 {
					least = m.Needs
				}
			})
			const short = 8 << 20
			s.Capacity = max(least, 2*short) - short
		case p.due(practice.TakenDrive):
			s.Holds = "file system of another owner"
		case p.due(practice.WeakDrive):
			s.Weak = true
		}
	}
}
