package lab

import (
	"fmt"
	"time"

	"lantern/internal/clock"
	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/lab/engine"
)

// Copied makes a fleet from a copy of real hosts, drives and pools, for a rehearsal: each drive answers with the known
// data of the original, and the pools' data is placed on them again. Every drive must be made Answerable first. file is
// the file of the fleet from then on.
func Copied(file string, at time.Time, hosts []*Host, drives []*Drive, ps []*Pool) (*Fleet, error) {
	f := &Fleet{file: file, Pace: 1, Hosts: hosts, Drives: drives, Pools: ps, clock: clock.NewLab(at, 1), last: at}
	f.unplaced()
	f.link()
	for _, p := range f.Pools {
		if err := p.takeOn(at); err != nil {
			return nil, err
		}
	}
	return f, f.Save()
}

// Answerable changes a description so that IDENTIFY DEVICE can carry it, and it leads back to the same drive: a lab
// drive answers like a SATA drive, whose identity is its WWN. nth is its number in its fleet.
func Answerable(d *drive.Description, nth int) {
	const serialLength = 20
	d.Serial = d.Serial[max(0, len(d.Serial)-serialLength):] // people read its tail
	back, err := drive.DecodeIdentify(drive.EncodeIdentify(*d))
	if err != nil || d.WWN == "" || back.Key() != d.Key() {
		d.Vendor, d.WWN = "", fmt.Sprintf("5%015x", wwnBase+0xC00000000+uint64(nth)*0x1003)
	}
}

// somewhere is the section of a host for drives without a known bay.
const somewhere = "somewhere"

// unplaced gives a bay to every drive without one: in a lab, too, a person must be able to pull it.
func (f *Fleet) unplaced() {
	n := map[string]int{}
	for _, d := range f.Drives {
		if st := &d.Stays[len(d.Stays)-1]; st.Section == "" {
			n[st.Host]++
			st.Section, st.Bay = somewhere, n[st.Host]
		}
	}
	const across, spare = 6, 6
	for _, h := range f.Hosts {
		if n[h.Name] > 0 || len(h.Layout) == 0 {
			h.Untold = append(h.Untold, somewhere)
			h.Layout = append(h.Layout, enclosure.Layout{Name: somewhere, Sections: []enclosure.Section{
				section(somewhere, (n[h.Name]+spare+across-1)/across, across, enclosure.AlongRows, false)}})
		}
	}
}

// takeOn places a pool's data as it was found: missing members keep their data, failed ones have none, and running work
// continues from its position.
func (p *Pool) takeOn(at time.Time) error {
	p.Wrote = at
	states := map[string]pool.MemberState{}
	p.Everyone(func(_ string, m *pool.Member) {
		states[m.Slot] = m.State
		if m.StandsFor != "" {
			if p.StandIn == nil {
				p.StandIn = map[string]string{}
			}
			p.StandIn[m.Slot] = m.StandsFor
		}
		switch m.State {
		case pool.Missing, pool.Faulty, pool.Recovering, pool.Failing:
			m.State = pool.Online
		}
	})
	e := p.laid()
	p.Everyone(func(group string, m *pool.Member) {
		if m.State = states[m.Slot]; m.State == pool.Faulty && group != "" {
			e.Blank(m.Slot)
		}
	})
	p.measure()
	for i := range p.Recs {
		if r := &p.Recs[i]; r.State == recovery.Running || r.State == recovery.Paused {
			if err := p.goOn(r, at); err != nil {
				return err
			}
		}
	}
	return nil
}

// goOn starts the work that was running, and advances it to its position.
func (p *Pool) goOn(r *recovery.Report, at time.Time) error {
	share := 0.0
	if r.Todo > 0 {
		share = min(0.99, float64(r.Done)/float64(r.Todo))
	}
	m, _, _ := p.Slot(r.Slot)
	if p.Works == nil {
		p.Works = map[string]*engine.Work{}
	}
	var w *engine.Work
	switch {
	case m.State == pool.Recovering:
		e := p.laid()
		e.Blank(r.Slot)
		w, _ = e.BeginFill(r.Kind, r.Slot, &p.Pool)
	case r.Slot != "" && r.Drive != "" && r.Drive != m.Drive && p.fleet.byKey[r.Drive] != nil:
		if p.Beside == nil {
			p.Beside = map[string]string{}
		}
		p.Beside[r.Slot] = r.Drive
		w = p.laid().BeginBack(r.Kind, r.Slot, r.Slot+beside)
		w.Slot = r.Slot
	default:
		w = p.laid().Begin(r.Kind, r.Slot, &p.Pool)
	}
	r.State, r.Todo, r.Done = recovery.Running, max(1, w.Todo), 0
	p.Works[r.ID] = w
	b := p.bench(at)
	const most = 400 * 24 * 60 // minutes: nothing takes longer
	for n := 0; w.Done() < drive.Bytes(share*float64(w.Todo)); n++ {
		if n > most {
			return fmt.Errorf("the %s of %s cannot be brought to where it is", r.Kind, p.Name)
		}
		if p.laid().Advance(w, time.Minute, b) {
			break
		}
	}
	p.tell(r, w)
	r.At = at
	return nil
}
