package lab

import (
	"fmt"
	"math/rand/v2"
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
	// Pools of the annex of which a member is being filled.
	filling []*Pool
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
		for _, p := range b.filling {
			p.third(b.now)
		}
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

// badMorning gives the fleet its faults.
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
