package lab

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
)

// wwnBase begins the invented WWNs: NAA 5h and an organisation number from the locally administered range, which no
// maker can hold.
const wwnBase = 0x2abe7000000000

// model is an invented make of drive.
type model struct {
	name   string
	prefix string // of its serials
	gb     uint64
	solid  bool
	rpm    int
}

// The makes found at the station. None exists.
var (
	vr4  = model{"VELDRUN VR4-4000", "VR", 4000, false, 7200}
	of6  = model{"OSSFELL OF-6T", "KF", 6000, false, 7200}
	of8  = model{"OSSFELL OF-8T", "KH", 8000, false, 7200}
	vr2  = model{"VELDRUN VR2-2000", "VQ", 2000, false, 5400}
	st48 = model{"TARNWICK TW480", "TW", 480, true, 0}
	st24 = model{"TARNWICK TW240", "TB", 240, true, 0}
)

// letters of serials: none that is taken for a digit.
const letters = "ABCDEFGHJKLMNPRSTUVWXYZ"

// capacity is the exact size of a drive sold as gb gigabytes (SFF-8447, IDEMA LBA1-03).
func capacity(gb uint64) drive.Bytes { return drive.Bytes((97_696_368 + 1_953_504*(gb-50)) * 512) }

// builder puts drives into bays, in order.
type builder struct {
	f     *Fleet
	now   time.Time
	rng   *rand.Rand
	next  map[string]int // next free bay by host/section
	used  map[string]bool
	third *Pool // of which a member is a third full
}

func (b *builder) drive(m model, host, section string, ageYears float64) *Drive {
	d := &Drive{Born: b.now.Add(-time.Duration(ageYears * 8766 * float64(time.Hour))).Round(time.Hour)}
	d.Desc = drive.Description{
		Identity:       drive.Identity{Model: m.name},
		Firmware:       "A" + m.prefix + "3",
		Capacity:       capacity(m.gb),
		LogicalSector:  512,
		PhysicalSector: 4096,
		Medium:         drive.MediumRotating,
		RotationRPM:    m.rpm,
		FormFactor:     "3.5 inch",
		SMARTSupported: true,
		SMARTEnabled:   true,
		SelfTests:      true,
		GeneralLogs:    m != vr2,
	}
	if m.solid {
		d.Desc.Medium, d.Desc.FormFactor = drive.MediumSolidState, "2.5 inch"
	}
	d.Tested = b.now
	letter := func() byte { return letters[b.rng.IntN(len(letters))] }
	for d.Desc.Serial == "" || b.used[d.Desc.Tail()] {
		d.Desc.Serial = fmt.Sprintf("%s%d%c%c%03d", m.prefix, 2+b.rng.IntN(7), letter(), letter(), b.rng.IntN(1000))
	}
	b.used[d.Desc.Tail()] = true
	d.Desc.WWN = fmt.Sprintf("5%015x", wwnBase+uint64(len(b.f.Drives))*0x10031+uint64(b.rng.IntN(0x1000)))
	b.next[host+"/"+section]++
	d.Stays = []Stay{{Host: host, Section: section, Bay: b.next[host+"/"+section], From: d.Born}}
	b.f.Drives = append(b.f.Drives, d)
	return d
}

func (b *builder) host(name string, layouts ...enclosure.Layout) {
	b.f.Hosts = append(b.f.Hosts, &Host{Name: name, Layout: layouts})
	for range 2 {
		section := layouts[len(layouts)-1].Sections
		d := b.drive(st24, name, section[len(section)-1].Name, 2.2)
		d.Holds = []string{"partition table", "system of " + name}
	}
}

// member makes a drive one of p's.
func member(p *Pool, d *Drive, slot string, used drive.Bytes) pool.Member {
	d.Holds = []string{"member of " + p.Name}
	return pool.Member{Slot: slot, Drive: d.key(), State: pool.Online, Domain: d.Stays[0].Host, Size: d.Desc.Capacity,
		Used: used, Needs: d.Desc.Capacity &^ (1<<20 - 1)}
}

func section(name string, rows, columns int, run enclosure.Run, upright bool) enclosure.Section {
	return enclosure.Section{
		Name:    name,
		Rows:    rows,
		Columns: columns,
		First:   enclosure.TopLeft,
		Run:     run,
		Upright: upright,
	}
}

const (
	gigabyte = drive.Bytes(1e9)
	terabyte = drive.Bytes(1e12)
)

// HeronPoint builds the marine station's fleet as it is on a bad morning, at now. extra more drives are added on hosts
// of their own, all of them sound.
func HeronPoint(extra int) func(now time.Time) *Fleet {
	return func(now time.Time) *Fleet {
		b := &builder{
			f:    &Fleet{},
			now:  now,
			rng:  rand.New(rand.NewPCG(7411, 1974)),
			next: map[string]int{},
			used: map[string]bool{},
		}
		b.host(
			"skerry",
			enclosure.Layout{
				Name:     "shelf",
				Sections: []enclosure.Section{section("front", 6, 4, enclosure.DownColumns, false)},
			},
			enclosure.Layout{
				Name:     "cage",
				Sections: []enclosure.Section{section("inner", 1, 4, enclosure.AlongRows, true)},
			},
		)
		b.f.Hosts[0].Speaks = "shelf"
		b.host(
			"fulmar",
			enclosure.Layout{
				Name:     "chassis",
				Sections: []enclosure.Section{section("front", 2, 12, enclosure.AlongRows, true)},
			},
		)
		b.host(
			"petrel",
			enclosure.Layout{
				Name:     "chassis",
				Sections: []enclosure.Section{section("front", 4, 4, enclosure.AlongRows, false)},
			},
		)
		b.host(
			"guillemot",
			enclosure.Layout{
				Name:     "chassis",
				Sections: []enclosure.Section{section("front", 4, 4, enclosure.AlongRows, false)},
			},
		)

		for i, room := range []string{"stone house", "stone house", "boat shed", "boat shed"} {
			b.f.Hosts[i].Room = room
		}
		soundscape := b.soundscape()
		b.tidegauge()
		b.plankton()
		b.specimens()
		driftnet := b.driftnet()
		b.logbook()
		for _, at := range []string{"fulmar", "petrel", "guillemot"} {
			b.drive(vr4, at, "front", 0.1)
		}
		b.badMorning(soundscape, driftnet)
		for i, p := range b.f.Pools {
			b.scrubbed(p, 3+2*i)
		}
		b.more(extra)
		b.f.link()
		for _, p := range b.f.Pools {
			p.settle(b.now)
		}
		b.third.third(b.now)
		return b.f
	}
}

func (b *builder) pool(name, kind, host string, fill recovery.Kind) *Pool {
	p := &Pool{
		Host: host,
		Fill: fill,
		Pool: pool.Pool{ID: fmt.Sprintf("lab-%02d-%s", len(b.f.Pools)+1, name), Name: name, Kind: kind},
	}
	b.f.Pools = append(b.f.Pools, p)
	return p
}

// finish sums up what the members hold; usable is the share of the raw size that data can fill.
func (p *Pool) finish(usable, full float64) {
	var raw drive.Bytes
	for _, g := range p.Groups {
		for _, m := range g.Members {
			raw += m.Size
		}
	}
	p.Capacity = drive.Bytes(float64(raw) * usable)
	p.Used = drive.Bytes(float64(p.Capacity) * full)
}

// scrubbed puts a scrub that ended days ago, and left nothing, on the pool's record.
func (b *builder) scrubbed(p *Pool, days int) {
	end := b.now.Add(-time.Duration(days) * 24 * time.Hour).Truncate(time.Minute)
	p.Seq++
	r := recovery.Report{
		ID:        fmt.Sprintf("%s-%d", p.ID, p.Seq),
		Kind:      recovery.Scrub,
		State:     recovery.Finished,
		StartedAt: end.Add(-7 * time.Hour),
		EndedAt:   end,
		Sample:    recovery.Sample{At: end, Done: p.Used, Todo: p.Used},
	}
	p.Recs = append([]recovery.Report{r}, p.Recs...)
}

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

// settle lays what a pool keeps where its members say how much lies on each.
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

// badMorning gives the fleet its troubles.
func (b *builder) badMorning(soundscape, driftnet *Pool) {
	of := func(p *Pool, group, i int) (*Drive, *pool.Member) {
		m := &p.Groups[group].Members[i]
		for _, d := range b.f.Drives {
			if d.key() == m.Drive {
				return d, m
			}
		}
		return nil, nil
	}
	ago := func(days float64) time.Time { return b.now.Add(-time.Duration(days * 24 * float64(time.Hour))) }

	// Sectors pending that rise by the day.
	rising, _ := of(soundscape, 0, 6)
	rising.Faults = []Fault{
		{Kind: FaultAttribute, Attribute: 197, PerDay: 4.3, From: ago(9)},
		{Kind: FaultAttribute, Attribute: 5, Start: 3, PerDay: 0, From: ago(200)},
	}

	// One that failed its extended test, and two of its batch.
	failed, m := of(soundscape, 1, 2)
	rename := func(d *Drive, m *pool.Member, serial string) {
		d.Desc.Serial = serial
		if m != nil {
			m.Drive = d.key()
		}
	}
	rename(failed, m, "VR5LM417")
	failed.Faults = []Fault{{Kind: FaultFailedTest, LBA: 3_118_442_904, From: ago(0.4)}}
	for i, serial := range []string{"VR5LM409", "VR5LM422"} {
		d, m := of(soundscape, 1, 3+2*i)
		rename(d, m, serial)
	}

	// One that vanished overnight; its pool has made new copies elsewhere since.
	gone, m := of(driftnet, 0, 17)
	gone.Stays[0].To = ago(0.3)
	m.State = pool.Out
	driftnet.Recs = []recovery.Report{
		{
			ID:    driftnet.ID + "-0",
			Kind:  recovery.Rebalance,
			State: recovery.Finished,
			StartedAt: ago(
				0.29,
			),
			EndedAt: ago(0.09),
			Sample:  recovery.Sample{At: ago(0.09), Done: 2200 * gigabyte, Todo: 2200 * gigabyte},
		},
	}

	// One ten times slower than its peers.
	slow, _ := of(driftnet, 0, 12)
	slow.Slow, slow.SlowAt = 10, ago(1.6)

	// One with link errors that is innocent.
	link, _ := of(driftnet, 0, 6)
	link.Faults = []Fault{{Kind: FaultAttribute, Attribute: 199, PerDay: 21, From: ago(5)}}

	// An old scar that has not moved for months.
	scar, _ := of(soundscape, 0, 1)
	scar.Faults = []Fault{{Kind: FaultAttribute, Attribute: 5, Start: 8, PerDay: 0, From: ago(300)}}
}

// more adds hosts of 60 bays, 36 of them in front, 17 hosts a hall, with one pool each until n further drives are
// there.
func (b *builder) more(n int) {
	for h := 1; n > 0; h++ {
		name := fmt.Sprintf("annex-%03d", h)
		b.f.Hosts = append(
			b.f.Hosts,
			&Host{Name: name, Room: fmt.Sprintf("annex hall %d", 1+(h-1)/17), Layout: []enclosure.Layout{
				{
					Name: "chassis",
					Sections: []enclosure.Section{
						section("front", 3, 12, enclosure.AlongRows, true),
						section("rear", 2, 12, enclosure.AlongRows, true),
					},
				},
			}},
		)
		p := b.pool(name+"-store", "parity groups", name, recovery.Resilver)
		for g := 0; g < 6 && n > 0; g++ {
			group := pool.Group{
				Name:    fmt.Sprintf("group %d", g+1),
				Protect: pool.Protection{Words: "double parity", Tolerance: 2, Data: -1},
			}
			for i := 0; i < 10 && n > 0; i++ {
				side := "front"
				if g*10+i >= 36 {
					side = "rear"
				}
				group.Members = append(
					group.Members,
					member(
						p,
						b.drive(of8, name, side, 0.5+3*b.rng.Float64()),
						fmt.Sprintf("%d.%d", g+1, i+1),
						4000*gigabyte,
					),
				)
				n--
			}
			p.Groups = append(p.Groups, group)
		}
		p.finish(0.8, 0.4+0.4*b.rng.Float64())
	}
}

// Moments are those of which a new lab tells the past, the oldest first: a month, denser towards now. For a very large
// fleet only a few.
func Moments(now time.Time, drives int) []time.Time {
	var at []time.Time
	if drives > 2000 {
		for _, days := range []int{14, 7, 2, 1} {
			at = append(at, now.Add(-time.Duration(days)*24*time.Hour))
		}
		return at
	}
	for h := 30 * 24; h > 48; h -= 12 {
		at = append(at, now.Add(-time.Duration(h)*time.Hour))
	}
	for h := 48; h > 0; h -= 2 {
		at = append(at, now.Add(-time.Duration(h)*time.Hour))
	}
	return at
}
