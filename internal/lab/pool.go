package lab

import (
	"fmt"
	"hash/fnv"
	"math"
	"slices"
	"strings"
	"time"

	"lantern/internal/agent/pools"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/lab/engine"
	"lantern/internal/practice"
)

// Pool is one simulated pool. It knows its members by identity, marks those that are gone, and keeps what is on them
// in an engine: so it really loses, fills, drains and repairs, at the pace of its drives.
type Pool struct {
	pool.Pool
	// Host is the one whose agent speaks for the pool.
	Host string `json:"host"`
	// Fill is what a member of it is filled by: resilver, rebuild or rebalance.
	Fill recovery.Kind     `json:"fill"`
	Recs []recovery.Report `json:"recs"`
	Seq  int               `json:"seq"`
	// Engine is laid when something first happens to the pool; Works are its recoveries that run, by their ids.
	Engine *engine.Engine          `json:"engine,omitempty"`
	Works  map[string]*engine.Work `json:"works,omitempty"`
	// Wrote is when users last wrote; Priority is what recoveries get.
	Wrote    time.Time         `json:"wrote"`
	Priority recovery.Priority `json:"priority,omitempty"`
	fleet    *Fleet
	// Beside says which drive is being filled beside the member at a slot that still helps.
	Beside map[string]string `json:"beside,omitempty"`
	// Stuck makes fillings wait for a word; Waiting are the slots that do.
	Stuck   bool     `json:"stuck,omitempty"`
	Waiting []string `json:"waiting,omitempty"`
	// StandIn says for which slot each spare stands in that has taken over.
	StandIn map[string]string `json:"stand_in,omitempty"`
	// Can is what it can be asked for, where that does not follow from its shape.
	Can []pools.Offer `json:"can,omitempty"`
	// Due are mishaps that have not come yet.
	Due   []practice.Mishap `json:"due,omitempty"`
	tried map[string]bool   // slots of which it was tried to restore what lay on them
}

// Rates of one member, in bytes a second, on the outermost tracks, and what a small thing costs it.
const (
	rateRotating   = 205e6
	rateSolidState = 480e6
	seekRotating   = 9 * time.Millisecond
	seekSolidState = 200 * time.Microsecond
)

// writeEach is how often a user writes, as far as it matters here.
const writeEach = 10 * time.Minute

// In a large fleet, where every look of every host comes through here, nothing moves in less than a grain of lab time.
const (
	grain     = 50 * time.Millisecond
	manyHosts = 20
)

// advance moves every pool on to t.
func (f *Fleet) advance(t time.Time) {
	dt := t.Sub(f.last)
	if dt < 0 || dt < grain && len(f.Hosts) > manyHosts {
		return
	}
	f.last = t
	for _, h := range f.Hosts {
		if h.Off && !h.Back.IsZero() && !t.Before(h.Back) {
			h.Off, h.Back = false, time.Time{}
		}
	}
	for _, p := range f.Pools {
		if f.off(p.Host) {
			continue // nobody keeps it: it stands still
		}
		p.notice(t)
		p.heal(t)
		p.takeOver(t)
		p.written(t)
		for i := range p.Recs {
			p.move(&p.Recs[i], t, dt)
		}
		p.goWrong(t)
	}
}

// laid is what is in the pool.
func (p *Pool) laid() *engine.Engine {
	if p.Engine == nil {
		h := fnv.New64a()
		h.Write([]byte(p.ID))
		p.Engine = engine.Lay(&p.Pool, h.Sum64())
	}
	return p.Engine
}

// written lets users write to what may not be the same afterwards: where nothing ever happened, nothing can be stale.
func (p *Pool) written(t time.Time) {
	if p.Engine == nil || t.Sub(p.Wrote) < writeEach {
		return
	}
	there := p.bench(t).There
	n := int(t.Sub(p.Wrote) / writeEach)
	if p.Wrote.IsZero() {
		n = 0
	}
	for range min(n, 1000) {
		p.Engine.Write(there)
	}
	p.Wrote = t
}

// bench is what the members can do at a moment.
func (p *Pool) bench(t time.Time) engine.Bench {
	at := map[string]*pool.Member{}
	p.Everyone(func(_ string, m *pool.Member) { at[m.Slot] = m })
	drives := func(slot string) *Drive {
		if of, found := strings.CutSuffix(slot, beside); found {
			return p.fleet.byKey[p.Beside[of]]
		}
		if m := at[slot]; m != nil {
			return p.fleet.byKey[m.Drive]
		}
		return nil
	}
	hour := float64(t.Hour()) + float64(t.Minute())/60
	b := engine.Bench{
		Load:  0.08 + 0.12*max(0, math.Sin((hour-7)/12*math.Pi)) + 0.04*math.Sin(float64(t.Unix())/211),
		Share: shares[p.Priority],
	}
	b.There = func(slot string) bool {
		if strings.HasSuffix(slot, beside) {
			d := drives(slot)
			if d == nil {
				return false
			}
			s, in := d.at(t)
			return in && !p.fleet.off(s.Host)
		}
		m := at[slot]
		return m != nil && (m.State == pool.Online || m.State == pool.Recovering || m.State == pool.Failing)
	}
	b.Rate = func(slot string) float64 {
		d := drives(slot)
		switch {
		case d == nil:
			return rateRotating
		case d.Desc.Medium == drive.MediumSolidState:
			return rateSolidState
		case d.Slow > 1 && t.After(d.SlowAt):
			return rateRotating / d.Slow
		}
		return rateRotating
	}
	b.Seek = func(slot string) time.Duration {
		if d := drives(slot); d != nil && d.Desc.Medium == drive.MediumSolidState {
			return seekSolidState
		}
		return seekRotating
	}
	return b
}

// shares is what a recovery gets of the time that users leave.
var shares = map[recovery.Priority]float64{recovery.Low: 0.35, "": 0.9, recovery.Normal: 0.9, recovery.High: 1}

func (p *Pool) filling(slot string) *recovery.Report {
	for i := range p.Recs {
		if r := &p.Recs[i]; r.State == recovery.Running && r.Slot == slot && slot != "" {
			return r
		}
	}
	return nil
}

func (p *Pool) move(r *recovery.Report, t time.Time, dt time.Duration) {
	w := p.Works[r.ID]
	if r.State != recovery.Running || w == nil {
		return
	}
	b := p.bench(t)
	done := p.laid().Advance(w, dt, b)
	p.Everyone(func(_ string, m *pool.Member) {
		if d := p.fleet.byKey[m.Drive]; d != nil && b.There(m.Slot) {
			d.strain(b.Share, dt)
		}
	})
	p.tell(r, w)
	r.At = t
	if !done {
		return
	}
	p.moved(r, w, t)
}

// moved ends a work that has done all.
func (p *Pool) moved(r *recovery.Report, w *engine.Work, t time.Time) {
	delete(p.Works, r.ID)
	r.Done, r.State, r.EndedAt = r.Todo, recovery.Finished, t
	if key := p.Beside[r.Slot]; key != "" && key == r.Drive {
		p.takePlace(r.Slot, key, t)
	}
	if r.Kind == recovery.Grow {
		p.grown()
	}
	if r.Kind == recovery.Drain && w.Left > 0 {
		r.State = recovery.Failed // there was no room
	}
	p.Everyone(func(_ string, m *pool.Member) {
		switch {
		case m.Slot != r.Slot || r.Slot == "":
		case m.State == pool.Recovering:
			m.State, m.Beside = pool.Online, ""
		case w.Left > 0:
		case r.Kind == recovery.Drain, r.Kind == recovery.Rebalance && r.Drive == "" && m.State == pool.Missing:
			m.State = pool.Out
		}
	})
	if r.Kind == recovery.Drain && r.State == recovery.Finished && p.forgets() {
		p.forget(r.Slot)
	}
	p.relieve(r.Slot)
	p.measure()
}

// forgets reports whether a member that was drained is none any more, and its place with it.
func (p *Pool) forgets() bool {
	return slices.Contains(p.offers(), pools.OfferAdmit) && !slices.Contains(p.offers(), pools.OfferRelease)
}

func (p *Pool) forget(slot string) {
	m, _, _ := p.Slot(slot)
	if d := p.fleet.byKey[m.Drive]; d != nil {
		d.Holds = nil // what says so on it was wiped
	}
	p.resize(func() {
		for i := range p.Groups {
			p.Groups[i].Members = slices.DeleteFunc(
				slices.Clone(p.Groups[i].Members),
				func(m pool.Member) bool { return m.Slot == slot },
			)
		}
	})
}

// beside marks what is being filled beside the member at a slot.
const beside = "'"

// takePlace lets a drive that was filled beside a member take its place.
func (p *Pool) takePlace(slot, key string, t time.Time) {
	p.laid().Blank(slot) // what could not be brought over is lost
	p.laid().Rename(slot+beside, slot)
	delete(p.Beside, slot)
	p.Everyone(func(_ string, m *pool.Member) {
		if m.Slot != slot {
			return
		}
		if was := p.fleet.byKey[m.Drive]; was != nil {
			was.Holds = nil // what says so on it was wiped
		}
		d := p.fleet.byKey[key]
		m.Drive, m.State, m.Size = key, pool.Online, d.Desc.Capacity
		if s, in := d.at(t); in {
			m.Domain = s.Host
		}
	})
}

// grown lets a pool use all of members that were changed for larger ones.
func (p *Pool) grown() {
	var before, after float64
	for gi := range p.Groups {
		least := drive.Bytes(0)
		for _, m := range p.Groups[gi].Members {
			if least == 0 || m.Size < least {
				least = m.Size
			}
		}
		for i := range p.Groups[gi].Members {
			m := &p.Groups[gi].Members[i]
			before += float64(m.Needs)
			m.Needs = max(m.Needs, least&^(1<<20-1))
			after += float64(m.Needs)
		}
	}
	if before > 0 {
		p.Capacity = drive.Bytes(float64(p.Capacity) * after / before)
	}
}

// tell puts how work stands into its report.
func (p *Pool) tell(r *recovery.Report, w *engine.Work) {
	r.Done, r.Found, r.Repaired, r.Unrepairable, r.Phase = w.Done(), w.Found, w.Repaired, w.Left, "copying"
	switch {
	case w.Scan > 0:
		r.Phase = "looking for what is missing"
	case r.Kind == recovery.Scrub:
		r.Phase = "reading"
	}
	r.Flows = r.Flows[:0]
	p.Everyone(func(_ string, m *pool.Member) {
		if w.Reads[m.Slot]+w.Wrote[m.Slot] > 0 {
			r.Flows = append(r.Flows, recovery.Flow{Slot: m.Slot, Read: w.Reads[m.Slot], Written: w.Wrote[m.Slot]})
		}
	})
	r.Slowest = ""
	if slot, share := w.Slowest(); slot != "" && w.Done() > 0 {
		r.Slowest = slot
		r.SlowestWhy = fmt.Sprintf("the others waited for it %.0f %% of the time", 100*share)
	}
}

// measure takes down how much is on the members where that moves.
func (p *Pool) measure() {
	if p.Engine == nil {
		return
	}
	used := p.Engine.Used()
	for g := range p.Groups {
		if !p.Groups[g].Spread {
			continue
		}
		for i := range p.Groups[g].Members {
			m := &p.Groups[g].Members[i]
			m.Used = used[m.Slot]
		}
		for v := range p.Volumes {
			if x := &p.Volumes[v]; x.Group == p.Groups[g].Name {
				x.Extents = p.Engine.Known(x.Name, x.Group)
			}
		}
	}
}

func (p *Pool) begin(kind recovery.Kind, slot, driveKey string, t time.Time) *engine.Work {
	return p.record(p.laid().Begin(kind, slot, &p.Pool), slot, driveKey, t)
}

// record puts work that has begun on the pool's record.
func (p *Pool) record(w *engine.Work, slot, driveKey string, t time.Time) *engine.Work {
	p.Seq++
	r := recovery.Report{ID: fmt.Sprintf("%s-%d", p.ID, p.Seq), Kind: w.Kind, State: recovery.Running, StartedAt: t,
		Slot: slot, Drive: driveKey, Sample: recovery.Sample{At: t, Todo: max(1, w.Todo)}}
	if p.Works == nil {
		p.Works = map[string]*engine.Work{}
	}
	p.Works[r.ID] = w
	p.Recs = append(p.Recs, r)
	if len(p.Recs) > 8 {
		p.Recs = p.Recs[len(p.Recs)-8:]
	}
	return w
}

// ReadBack reads all that users ever wrote to a pool and compares it with what they wrote: an error names what is lost
// or wrong.
func (f *Fleet) ReadBack(name string) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, p := range f.Pools {
		if p.Name != name {
			continue
		}
		laid := p.laid()
		if v := laid.ReadBack(p.bench(f.clock.Now()).There); v.Wrong > 0 || len(v.Lost) > 0 {
			var of []string
			for _, i := range v.Lost {
				of = append(of, laid.Extents[i].Volume)
			}
			slices.Sort(of)
			return fmt.Errorf(
				"of %s, %d extents are lost (of %s) and %d wrong",
				name,
				len(v.Lost),
				strings.Join(slices.Compact(of), ", "),
				v.Wrong,
			)
		}
		return nil
	}
	return impossible("the lab has no pool %q", name)
}
