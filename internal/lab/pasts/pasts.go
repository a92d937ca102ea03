// Package pasts generates the pasts of drives with known fates, for measuring the rules: each with the counters that a
// real drive of that kind would show. It is independent of the rules and shares no numbers with them.
package pasts

import (
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"lantern/internal/core/drive"
)

// Fate is the fate of a drive.
type Fate string

// The fates.
const (
	Healthy   Fate = "healthy"
	Noisy     Fate = "noisy but healthy" // now and then something, and nothing comes of it
	Cable     Fate = "bad cable"
	HotShelf  Fate = "hot shelf"
	Ageing    Fate = "ageing"           // months of slow wear
	Degrading Fate = "slow degradation" // weeks of damage that feeds itself
	Batch     Fate = "batch defect"
	Infant    Fate = "infant mortality" // fails young, after days
	Sudden    Fate = "sudden death"     // no sign, or hardly one
)

// Fates lists them, those that fail last; Share is how many of a thousand drives meet each.
var Fates = []struct {
	Fate    Fate
	Share   int
	Fails   bool
	Gradual bool
}{
	{Healthy, 835, false, false},
	{Noisy, 60, false, false},
	{Cable, 15, false, false},
	{HotShelf, 12, false, false},
	{
		Ageing,
		20,
		true,
		true,
	},
	{Degrading, 28, true, true},
	{Batch, 10, true, true},
	{Infant, 8, true, true},
	{Sudden, 12, true, false},
}

// Past is one drive's.
type Past struct {
	Drive   string
	Fate    Fate
	Gradual bool      // it fails by and by
	Fails   time.Time // zero when it does not
	Begins  time.Time

	rng      *rand.Rand
	hours    float64 // of power when it begins
	ambient  float64
	latency  float64 // s
	onset    time.Time
	total    float64 // damage by the time it fails
	bend     float64 // how suddenly damage grows at the end
	slows    float64 // how many times slower it gets by the end
	crcDaily float64
	m        map[drive.MetricName]float64
	pending  []spot
	tests    []drive.SelfTest
	nextTest time.Time
	nth      int
	last     time.Time
}

// spot is damage that waits to be rewritten.
type spot struct {
	lba   int64
	until time.Time
}

// Fleet makes n pasts of one year.
func Fleet(seed uint64, n int, begins time.Time) []*Past {
	rng := rand.New(rand.NewPCG(seed, 0x5eed))
	out := make([]*Past, n)
	for i := range out {
		x := rng.IntN(1000)
		for _, f := range Fates {
			if x -= f.Share; x < 0 {
				out[i] = makePast(fmt.Sprintf("drive-%05d", i), f.Fate, f.Fails, f.Gradual, seed, uint64(i), begins)
				break
			}
		}
	}
	return out
}

const year = 365 * 24 * time.Hour

func makePast(name string, fate Fate, fails, gradual bool, seed, i uint64, begins time.Time) *Past {
	rng := rand.New(rand.NewPCG(seed, i+1))
	p := &Past{
		Drive:   name,
		Fate:    fate,
		Gradual: gradual,
		Begins:  begins,
		rng:     rng,
		last:    begins,
		hours:   2000 + 40000*rng.Float64(),
		ambient: 27 + 8*rng.Float64(),
		latency: 0.005 + 0.004*rng.Float64(),
		m:       map[drive.MetricName]float64{},
	}
	p.nextTest = begins.Add(time.Duration(rng.Float64() * 7 * 24 * float64(time.Hour)))
	for _, n := range []drive.MetricName{"pending_sectors", "reallocated_sectors",
		"offline_uncorrectable_sectors", "reported_uncorrectable_errors", "link_crc_errors", "command_timeouts",
		"spin_retries"} {
		p.m[n] = 0
	}
	if rng.IntN(14) == 0 {
		p.m["reallocated_sectors"] = float64(1 + rng.IntN(12)) // old scars
	}
	if rng.IntN(30) == 0 {
		p.m["link_crc_errors"] = float64(1 + rng.IntN(40))
	}
	span := func(least, most float64) time.Duration {
		return time.Duration((least + (most-least)*rng.Float64()) * 24 * float64(time.Hour))
	}
	if fails {
		p.Fails = begins.Add(span(20, 364))
	}
	switch fate {
	case Ageing:
		p.hours, p.onset, p.total, p.bend = 30000+30000*rng.Float64(), p.Fails.Add(
			-span(60, 240),
		), 40*math.Exp(
			1.2*rng.NormFloat64(),
		), 1.6
	case Degrading:
		p.onset, p.total, p.bend = p.Fails.Add(-span(8, 90)), 250*math.Exp(1.3*rng.NormFloat64()), 2.6
	case Batch:
		p.onset, p.total, p.bend = p.Fails.Add(-span(5, 40)), 120*math.Exp(rng.NormFloat64()), 2
	case Infant:
		p.hours = 20 + 400*rng.Float64()
		p.Fails = begins.Add(span(4, 60))
		p.onset, p.total, p.bend = p.Fails.Add(-span(2, 14)), 150*math.Exp(rng.NormFloat64()), 1.8
	case Cable:
		p.onset, p.crcDaily = begins.Add(span(0, 300)), 300*math.Exp(1.5*rng.NormFloat64())/10
	case HotShelf:
		p.onset = begins.Add(span(0, 300))
	}
	if fails && gradual && rng.IntN(3) == 0 {
		p.slows = 3 + 30*rng.Float64()
	}
	return p
}

// Ends is when it is read for the last time.
func (p *Past) Ends() time.Time {
	if p.Fails.IsZero() {
		return p.Begins.Add(year)
	}
	return p.Fails
}

// poisson draws how often something happens that happens rate times on the average.
func (p *Past) poisson(rate float64) float64 {
	if rate > 50 {
		return math.Max(0, math.Round(rate+math.Sqrt(rate)*p.rng.NormFloat64()))
	}
	limit, n, x := math.Exp(-rate), 0.0, p.rng.Float64()
	for x > limit {
		n++
		x *= p.rng.Float64()
	}
	return n
}

// Read gives the reading at a time; times must come in order. The map is used again.
func (p *Past) Read(at time.Time) (metrics map[drive.MetricName]float64, tests []drive.SelfTest, peers float64) {
	days := at.Sub(p.last).Hours() / 24
	p.hours += at.Sub(p.last).Hours()
	p.m["power_on_hours"] = math.Floor(p.hours)
	temp := p.ambient + 3*math.Sin(2*math.Pi*float64(at.Hour())/24) + p.rng.NormFloat64()
	slow := 1 + 0.15*math.Abs(p.rng.NormFloat64())
	hurt := 0.0
	if !p.onset.IsZero() && at.After(p.onset) {
		switch p.Fate {
		case Cable:
			p.m["link_crc_errors"] += p.poisson(p.crcDaily * days)
			p.m["command_timeouts"] += p.poisson(0.2 * days)
		case HotShelf:
			temp += 14
		default:
			share := func(t time.Time) float64 {
				x := t.Sub(p.onset).Hours() / p.Fails.Sub(p.onset).Hours()
				return math.Pow(math.Min(1, math.Max(0, x)), p.bend)
			}
			hurt = p.poisson(p.total * (share(at) - share(p.last)))
			if p.slows > 0 {
				slow *= 1 + p.slows*share(at)
			}
			if p.Fate == Ageing && p.rng.Float64() < 0.01*days {
				p.m["spin_retries"]++
			}
		}
	}
	if p.Fate == Noisy && p.rng.Float64() < 4.0/365*days {
		hurt = 1
		for p.rng.Float64() < 0.4 {
			hurt++
		}
		p.m["command_timeouts"] += p.poisson(1)
	}
	if p.rng.Float64() < 0.15/365*days {
		hurt++ // any drive, once in some years
	}
	if p.Fate == Noisy && p.rng.Float64() < 3.0/365*days {
		slow *= 4 + 20*p.rng.Float64() // something else was going on
	}
	if p.Fate == Sudden && p.Fails.Sub(at) < 6*time.Hour {
		p.m["command_timeouts"] += p.poisson(2)
	}
	p.damage(hurt, at)
	p.m["temperature_celsius"] = math.Round(temp)
	p.m["read_latency_seconds"] = math.Round(p.latency*slow*1e6) / 1e6
	p.test(at)
	p.last = at
	return p.m, p.tests, p.latency
}

// damage is n spots that went bad: found as pending, and rewritten to the reserve after a while, or reported.
func (p *Past) damage(n float64, at time.Time) {
	for range int(n) {
		switch {
		case p.rng.Float64() < 0.45:
			p.m["reallocated_sectors"]++
		default:
			p.m["pending_sectors"]++
			p.pending = append(
				p.pending,
				spot{p.rng.Int64N(1 << 33), at.Add(time.Duration(p.rng.ExpFloat64() * 6 * 24 * float64(time.Hour)))},
			)
			if p.rng.Float64() < 0.25 {
				p.m["offline_uncorrectable_sectors"]++
			}
			if p.rng.Float64() < 0.15 {
				p.m["reported_uncorrectable_errors"]++
			}
		}
	}
	kept := p.pending[:0]
	for _, s := range p.pending {
		if at.After(s.until) {
			p.m["pending_sectors"]--
			p.m["offline_uncorrectable_sectors"] = math.Max(0, p.m["offline_uncorrectable_sectors"]-1)
			if p.rng.Float64() < 0.6 {
				p.m["reallocated_sectors"]++
			}
			continue
		}
		kept = append(kept, s)
	}
	p.pending = kept
}

// test is one each week, every fourth an extended one; it fails where something cannot be read, if it gets that far.
func (p *Past) test(at time.Time) {
	if at.Before(p.nextTest) {
		return
	}
	p.nextTest = at.Add(7 * 24 * time.Hour)
	p.nth++
	one := drive.SelfTest{
		Kind:   drive.SelfTestShort,
		Result: drive.SelfTestPassed,
		Hours:  int(p.hours) & 0xFFFF,
		LBA:    -1,
	}
	reach := 0.02
	if p.nth%4 == 0 {
		one.Kind, reach = drive.SelfTestExtended, 0.9
	}
	for _, bad := range p.pending { // it stops at the first place that it cannot read
		if p.rng.Float64() < reach && (one.LBA < 0 || bad.lba < one.LBA) {
			one.Result, one.LBA = drive.SelfTestFailed, bad.lba
		}
	}
	p.tests = append([]drive.SelfTest{one}, p.tests[:min(len(p.tests), 20)]...)
}
