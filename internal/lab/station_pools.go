package lab

import (
	"fmt"
	"slices"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
)

func (b *builder) soundscape() *Pool {
	p := b.pool("soundscape", "parity groups", "skerry", recovery.Resilver)
	for g := range 2 {
		group := pool.Group{
			Name:    fmt.Sprintf("group %d", g+1),
			Protect: pool.Protection{Words: "double parity", Tolerance: 2, Data: -1},
		}
		for i := range 9 {
			d := b.drive(vr4, "skerry", "front", 3.6-float64(g)*0.9)
			group.Members = append(group.Members, member(p, d, fmt.Sprintf("%d.%d", g+1, i+1), 2870*gigabyte))
		}
		p.Groups = append(p.Groups, group)
	}
	spare := member(p, b.drive(vr4, "skerry", "front", 1.2), "spare.1", 0)
	spare.State = pool.Standby
	p.Spares = append(p.Spares, spare)
	p.Volumes = []pool.Volume{
		{Name: "hydrophones", Protect: p.Groups[0].Protect, Used: 29 * terabyte},
		{Name: "annotations", Protect: p.Groups[0].Protect, Used: 2 * terabyte},
	}
	p.finish(7.0/9, 0.72)
	return p
}

func (b *builder) tidegauge() {
	p := b.pool("tidegauge", "parity group", "fulmar", recovery.Rebuild)
	g := pool.Group{Name: "group 1", Protect: pool.Protection{Words: "single parity", Tolerance: 1, Data: -1}}
	for i := range 5 {
		age := 4.1
		if i == 3 {
			age = 0.02
		}
		d := b.drive(of6, "fulmar", "front", age)
		d.Backup = 1
		g.Members = append(g.Members, member(p, d, fmt.Sprint(i+1), 3300*gigabyte))
	}
	p.Groups = []pool.Group{g}
	p.Volumes = []pool.Volume{{Name: "gauges", Protect: g.Protect, Used: 13 * terabyte}}
	p.finish(4.0/5, 0.55)
	// Its fourth drive was replaced earlier this morning, and is a third full.
	m := &p.Groups[0].Members[3]
	m.State = pool.Recovering
	b.third = p
}

// settle lays what a pool keeps where its members say how much is on each.
func (p *Pool) settle(now time.Time) {
	p.Wrote = now
	if slices.ContainsFunc(p.Groups, func(g pool.Group) bool { return g.Spread }) {
		p.laid()
		p.measure()
	}
}

// third lets the filling of the member that was replaced earlier this morning come as far as a third.
func (p *Pool) third(now time.Time) {
	p.Everyone(func(_ string, m *pool.Member) {
		if m.State != pool.Recovering {
			return
		}
		p.laid().Blank(m.Slot)
		w := p.begin(p.Fill, m.Slot, m.Drive, now)
		r := &p.Recs[len(p.Recs)-1]
		for w.Done() < w.Todo/3 {
			r.StartedAt = r.StartedAt.Add(-time.Minute)
			p.Engine.Advance(w, time.Minute, p.bench(now))
		}
		p.tell(r, w)
	})
}

func (b *builder) plankton() {
	p := b.pool("plankton", "mirrors", "fulmar", recovery.Resilver)
	log := member(p, b.drive(st48, "fulmar", "front", 2.9), "log.1", 40*gigabyte)
	p.Logs = []pool.Member{log}
	for g := range 3 {
		group := pool.Group{
			Name:    fmt.Sprintf("mirror %d", g+1),
			Protect: pool.Protection{Words: "two-way mirror", Tolerance: 1, Data: 1},
		}
		for i := range 2 {
			m := member(p, b.drive(of8, "fulmar", "front", 2.9), fmt.Sprintf("%d.%d", g+1, i+1), 4100*gigabyte)
			m.Log = log.Slot
			group.Members = append(group.Members, m)
		}
		p.Groups = append(p.Groups, group)
	}
	spare := member(p, b.drive(of8, "fulmar", "front", 2.9), "spare.1", 0)
	spare.State = pool.Standby
	p.Spares = []pool.Member{spare}
	p.Volumes = []pool.Volume{{Name: "slides", Protect: p.Groups[0].Protect, Used: 12 * terabyte}}
	p.finish(0.5, 0.51)
}

func (b *builder) specimens() {
	p := b.pool("specimens", "mixed protection", "petrel", recovery.Rebuild)
	g := pool.Group{Name: "drives", Protect: pool.Protection{Words: "by volume", None: true}, Spread: true}
	for i, m := range []model{vr2, vr4, vr4, of6, of6, of8, of8} {
		d := b.drive(m, "petrel", "front", 3+0.3*float64(i))
		g.Members = append(g.Members, member(p, d, fmt.Sprint(i+1), d.Desc.Capacity/100*93))
	}
	p.Groups = []pool.Group{g}
	for _, v := range []struct {
		name, words string
		tolerance   int
		data        int
		used        drive.Bytes
	}{{"scans-raw", "double copies", 1, 1, 9 * terabyte}, {"scans-master", "triple copies", 2, 1, 3 * terabyte},
		{"catalogue", "single parity", 1, 2, 4 * terabyte}, {"thumbnails", "no redundancy", 0, 1, 900 * gigabyte}} {
		p.Volumes = append(
			p.Volumes,
			pool.Volume{
				Name:    v.name,
				Group:   g.Name,
				Protect: pool.Protection{Words: v.words, Tolerance: v.tolerance, Data: v.data},
				Used:    v.used,
			},
		)
	}
	p.finish(0.5, 0.93)
}

func (b *builder) driftnet() *Pool {
	p := b.pool("driftnet", "distributed copies", "skerry", recovery.Rebalance)
	g := pool.Group{Name: "all hosts", Spread: true, Heals: true,
		Protect: pool.Protection{Words: "three copies over hosts", Tolerance: 2, Data: 1, StopsAt: 2, Domains: true}}
	p.Limit = 0.85
	for _, at := range []struct{ host, section string }{{"skerry", "front"}, {"fulmar", "front"},
		{"petrel", "front"}, {"guillemot", "front"}} {
		logSection := at.section
		if at.host == "skerry" {
			logSection = "inner"
		}
		log := member(p, b.drive(st48, at.host, logSection, 2.4), at.host+".log", 60*gigabyte)
		p.Logs = append(p.Logs, log)
		for i := range 5 {
			m := member(p, b.drive(vr4, at.host, at.section, 2.4), fmt.Sprintf("%s.%d", at.host, i+1), 2200*gigabyte)
			m.Log = log.Slot
			g.Members = append(g.Members, m)
		}
	}
	p.Groups = []pool.Group{g}
	p.Volumes = []pool.Volume{{Name: "telemetry", Protect: g.Protect, Used: 14 * terabyte}}
	p.finish(1.0/3, 0.56)
	return p
}

func (b *builder) logbook() {
	p := b.pool("logbook", "dedicated parity", "guillemot", recovery.Rebuild)
	g := pool.Group{
		Name:    "data and parity",
		Protect: pool.Protection{Words: "dedicated parity", Tolerance: 1, Data: -1},
	}
	for i, m := range []model{vr2, vr4, vr4, of6, of6} {
		slot := fmt.Sprintf("data.%d", i+1)
		if i == 4 {
			slot = "parity"
		}
		x := member(p, b.drive(m, "guillemot", "front", 5.2), slot, capacity(m.gb)/100*61)
		x.Parity = slot == "parity"
		g.Members = append(g.Members, x)
	}
	p.Groups = []pool.Group{g}
	p.Volumes = []pool.Volume{{Name: "diaries", Protect: g.Protect, Used: 9 * terabyte}}
	p.finish(16.0/22, 0.61)
}
