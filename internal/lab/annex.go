package lab

import (
	"fmt"
	"time"

	"lantern/internal/core/enclosure"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
)

// birds name the hosts of the annex after birds, so that their names differ in their first letters.
var birds = []string{
	"auklet",
	"bittern",
	"curlew",
	"dunlin",
	"egret",
	"fieldfare",
	"godwit",
	"heron",
	"ibis",
	"jacana",
	"knot",
	"lapwing",
	"merganser",
	"noddy",
	"osprey",
	"plover",
	"quail",
	"rail",
	"sanderling",
	"tern",
	"umbrette",
	"veery",
	"whimbrel",
	"yellowlegs",
	"zitting",
}

// annexName is the name of the h-th host of the annex, from 1: auklet-1, bittern-1, ..., auklet-2.
func annexName(h int) string {
	return fmt.Sprintf("%s-%d", birds[(h-1)%len(birds)], 1+(h-1)/len(birds))
}

// Frequencies of faults in a large fleet: one in so many drives, hosts, or pools.
const (
	drivePerIll  = 61
	hostPerOff   = 83
	hostPerPart  = 41
	poolPerFull  = 29
	poolPerMoves = 23
)

// more adds hosts of 60 bays, 36 of them in front, 17 hosts a hall, with one pool each until n further drives are
// there. A large fleet has the ills of its size, the same ones each time: of 60 drives about one is flagged, a host has
// no power, a shelf has a part that failed, some pools fill up, and some are being filled.
func (b *builder) more(n int) {
	for h, k := 1, 0; n > 0; h++ {
		name := annexName(h)
		host := &Host{Name: name, Room: fmt.Sprintf("annex hall %d", 1+(h-1)/17), Layout: []enclosure.Layout{
			{
				Name: "chassis",
				Sections: []enclosure.Section{
					section("front", 3, 12, enclosure.AlongRows, true),
					section("rear", 2, 12, enclosure.AlongRows, true),
				},
			},
		}}
		if h%hostPerPart == 7 {
			host.Speaks, host.Broken = "chassis", []string{"cooling 2"}
		}
		host.Off = h%hostPerOff == 11
		b.f.Hosts = append(b.f.Hosts, host)
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
				d := b.drive(of8, name, side, 0.5+3*b.rng.Float64())
				m := member(p, d, fmt.Sprintf("%d.%d", g+1, i+1), 4000*gigabyte)
				if k++; k%drivePerIll == 30 {
					b.ill(d, &m, k/drivePerIll)
				}
				group.Members = append(group.Members, m)
				n--
			}
			p.Groups = append(p.Groups, group)
		}
		full := 0.4 + 0.4*b.rng.Float64()
		if h%poolPerFull == 5 {
			full = 0.93
		}
		p.finish(0.8, full)
		if h%poolPerMoves == 3 && p.Groups[0].Members[0].State == pool.Online {
			p.Groups[0].Members[0].State = pool.Recovering
			b.filling = append(b.filling, p)
		}
	}
}

// ill gives a drive one of many faults.
func (b *builder) ill(d *Drive, m *pool.Member, nth int) {
	ago := func(days float64) time.Time { return b.now.Add(-time.Duration(days * 24 * float64(time.Hour))) }
	days := 1 + float64(nth%9)
	switch nth % 8 {
	case 0:
		d.Faults = []Fault{{Kind: FaultAttribute, Attribute: 197, PerDay: 1.5 + float64(nth%5), From: ago(days)}}
	case 1:
		d.Faults = []Fault{{Kind: FaultFailedTest, LBA: int64(1_000_000 * (nth + 7)), From: ago(days / 10)}}
	case 2:
		d.Stays[0].To = ago(days / 4)
		m.State = pool.Missing
	case 3:
		d.Slow, d.SlowAt = 8+float64(nth%5), ago(days)
	case 4:
		d.Faults = []Fault{{Kind: FaultAttribute, Attribute: 199, PerDay: 12 + float64(nth%20), From: ago(days)}}
	case 5:
		d.Faults = []Fault{{Kind: FaultAttribute, Attribute: 5, Start: float64(4 + nth%30), From: ago(200)}}
	case 6:
		d.Faults = []Fault{{Kind: FaultFailing, From: ago(days / 8)}}
	case 7:
		d.Faults = []Fault{{Kind: FaultDamaged, From: ago(days)}}
	}
}
