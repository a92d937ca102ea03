package lab

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/agent/pools"
	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
)

// Pull pulls the drive out of a bay, as a person would, without checks. A label tail is accepted as well, for bays that
// no map shows.
func (f *Fleet) Pull(bay string) (Moved, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	now := f.clock.Now()
	var d *Drive
	if !strings.Contains(bay, "/") {
		for _, x := range f.Drives {
			if st, in := x.at(now); in && x.Desc.TailMatches(bay) {
				d, bay = x, fmt.Sprintf("%s/%s/%d", st.Host, st.Section, st.Bay)
				break
			}
		}
		if d == nil {
			return Moved{}, impossible("no drive that is in a bay has a label that ends in %q", bay)
		}
	} else {
		_, a, err := f.bay(bay)
		if err != nil {
			return Moved{}, err
		}
		if d = f.in(a, now); d == nil {
			return Moved{}, impossible("bay %s is empty: there is nothing to pull", bay)
		}
	}
	d.Stays[len(d.Stays)-1].To = now
	f.advance(now)
	return Moved{d.Desc.Tail(), d.Desc.Serial, bay}, f.save()
}

// Moved is the drive that was moved.
type Moved struct{ Tail, Serial, Bay string }

// NewDrive describes a drive to be put in.
type NewDrive struct {
	Tail     string      // of a drive that was pulled before; empty for one from the shelf
	Capacity drive.Bytes // 0: as large as what was last in the bay, or the host's drives
	Holds    string
	Damaged  bool
	Like     string  // label tail of a drive of whose make it is
	Weak     bool    // a place of its surface does not keep what is written to it
	Hours    float64 // its power-on time
}

func impossible(format string, args ...any) error { return &Impossible{fmt.Sprintf(format, args...)} }

// Impossible is the reason why a person cannot do that.
type Impossible struct{ why string }

func (i *Impossible) Error() string { return i.why }

// JoinByHand makes a drive a member of a pool that can only be watched, as a person does with the pool system's own
// tool.
func (f *Fleet) JoinByHand(name, slot, tail string) (Moved, error) {
	f.mu.Lock()
	now := f.clock.Now()
	var p *Pool
	for _, x := range f.Pools {
		if x.Name == name || x.ID == name {
			p = x
		}
	}
	var d *Drive
	for _, x := range f.Drives {
		if _, in := x.at(now); in && x.Desc.TailMatches(tail) {
			d = x
		}
	}
	f.mu.Unlock()
	switch {
	case p == nil:
		return Moved{}, impossible("no pool %s in the lab", name)
	case !p.Watched:
		return Moved{}, impossible("%s takes orders: let the swap order it", name)
	case d == nil:
		return Moved{}, impossible("no drive that is in a bay has a label that ends in %q", tail)
	}
	st, _ := d.at(now)
	_, err := Keeper{
		Fleet: f,
		Host:  p.Host,
	}.Join(
		context.Background(),
		p.ID,
		slot,
		pools.Target{Key: d.key(), Size: d.Desc.Capacity},
	)
	if err != nil {
		return Moved{}, impossible("%v", err)
	}
	return Moved{
		Tail:   d.Desc.Tail(),
		Serial: d.Desc.Serial,
		Bay:    fmt.Sprintf("%s/%s/%d", st.Host, st.Section, st.Bay),
	}, nil
}

// Insert puts a drive into an empty bay; where only a host is named, into any of it, those first that no map shows.
func (f *Fleet) Insert(bay string, s NewDrive) (Moved, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	now := f.clock.Now()
	if !strings.Contains(bay, "/") {
		bay = cmp.Or(f.empty(bay, now), bay)
	}
	_, a, err := f.bay(bay)
	if err != nil {
		return Moved{}, err
	}
	if d := f.in(a, now); d != nil {
		return Moved{}, &Impossible{"bay " + bay + " is taken by " + d.Desc.Tail() + ": pull that one first"}
	}
	var d *Drive
	if s.Tail != "" {
		var fits []*Drive
		for _, x := range f.Drives {
			if _, in := x.at(now); !in && x.Desc.TailMatches(s.Tail) {
				fits = append(fits, x)
			}
		}
		if len(fits) != 1 {
			return Moved{}, &Impossible{
				fmt.Sprintf("%d drives on the table have a label that ends in %q", len(fits), s.Tail),
			}
		}
		d = fits[0]
	} else {
		d = f.fromShelf(a, s, now)
	}
	d.Stays = append(d.Stays, Stay{Host: a.Host, Section: a.Section, Bay: a.Number, From: now})
	f.advance(now)
	return Moved{d.Desc.Tail(), d.Desc.Serial, bay}, f.save()
}

// empty is an empty bay of a host.
func (f *Fleet) empty(host string, now time.Time) (bay string) {
	for _, h := range f.Hosts {
		for _, l := range h.Layout {
			for _, sec := range l.Sections {
				for _, n := range sec.Numbers() {
					a := enclosure.Address{Host: h.Name, Section: sec.Name, Number: n}
					if h.Name == host && f.in(a, now) == nil && (bay == "" || slices.Contains(h.Untold, sec.Name)) {
						bay = a.String()
						break
					}
				}
			}
		}
	}
	return bay
}

// fromShelf unpacks a new drive like the one that was last in that bay, or like the largest of that host.
func (f *Fleet) fromShelf(a enclosure.Address, s NewDrive, now time.Time) *Drive {
	var like, largest *Drive
	for _, x := range f.Drives {
		for _, st := range x.Stays {
			if x.Shelf || st.Host != a.Host {
				continue
			}
			if st.Section == a.Section && st.Bay == a.Number {
				like = x
			}
			if largest == nil || x.Desc.Capacity > largest.Desc.Capacity {
				largest = x
			}
		}
	}
	like = cmp.Or(like, largest)
	for _, x := range f.Drives {
		if s.Like != "" && x.Desc.TailMatches(s.Like) {
			like = x
		}
	}
	f.spoil(&s, like)
	d := &Drive{
		Desc: drive.Description{
			LogicalSector:  512,
			PhysicalSector: 4096,
			Medium:         drive.MediumRotating,
			RotationRPM:    7200,
			FormFactor:     "3.5 inch",
			SMARTSupported: true,
			SMARTEnabled:   true,
			SelfTests:      true,
		},
		Shelf:  true,
		Born:   now.Add(-5 * time.Hour),
		Unused: 5,
	}
	if like != nil {
		d.Desc = like.Desc
	}
	maker := d.Desc.Serial + "XX"
	for again := true; again; {
		f.Serial++
		d.Desc.Serial = fmt.Sprintf(
			"%.2s9%c%c%03d",
			maker,
			letters[(f.Serial*7)%len(letters)],
			letters[(f.Serial*5+3)%len(letters)],
			(f.Serial*389+102)%1000,
		)
		d.Desc.WWN = fmt.Sprintf("5%015x", wwnBase+0x800000000+uint64(f.Serial)*0x1003)
		again = slices.ContainsFunc(
			f.Drives,
			func(x *Drive) bool { return x.key() == d.key() || x.Desc.Tail() == d.Desc.Tail() },
		)
	}
	if s.Capacity != 0 {
		d.Desc.Capacity = s.Capacity / d.Desc.LogicalSector * d.Desc.LogicalSector
	}
	if s.Holds != "" {
		d.Holds = []string{s.Holds}
	}
	if s.Damaged {
		d.Faults = append(d.Faults, Fault{Kind: FaultDamaged, From: now.Add(-time.Hour)})
	}
	if s.Weak {
		d.Faults = append(
			d.Faults,
			Fault{Kind: FaultWeakSpot, LBA: int64(d.Desc.Capacity/d.Desc.LogicalSector) / 3, From: now},
		)
	}
	if s.Hours > 0 {
		d.Born, d.Unused = now.Add(-time.Duration(s.Hours*float64(time.Hour))), 0
	}
	f.Drives = append(f.Drives, d)
	f.byKey[d.key()] = d
	return d
}

func (f *Fleet) bay(s string) (*Host, enclosure.Address, error) {
	a, err := enclosure.ParseAddress(s)
	if err != nil {
		return nil, a, &Impossible{err.Error()}
	}
	for _, h := range f.Hosts {
		if h.Name != a.Host {
			continue
		}
		for _, l := range h.Layout {
			for _, sec := range l.Sections {
				if _, ok := sec.Place(a.Number); ok && sec.Name == a.Section {
					return h, a, nil
				}
			}
		}
	}
	return nil, a, &Impossible{"there is no bay " + s + " in the lab"}
}

// in is the drive in a bay at t.
func (f *Fleet) in(a enclosure.Address, t time.Time) *Drive {
	for _, d := range f.Drives {
		if s, ok := d.at(t); ok && s.Host == a.Host && s.Section == a.Section && s.Bay == a.Number {
			return d
		}
	}
	return nil
}

// At is the label tail of the drive in a bay, as eyes read it; empty when nothing is there.
func (f *Fleet) At(bay string) string {
	f.mu.Lock()
	defer f.mu.Unlock()
	_, a, err := f.bay(bay)
	if err != nil {
		return ""
	}
	if d := f.in(a, f.clock.Now()); d != nil {
		return d.Desc.Tail()
	}
	return ""
}
