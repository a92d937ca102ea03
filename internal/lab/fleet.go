// Package lab simulates storage hosts: drives that answer command blocks with bytes, enclosures with lights, pools that
// lose members and recover them, under a clock that can run fast. The agent meets them through the same interfaces as
// real ones. Nothing here is used for a real fleet.
package lab

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"lantern/internal/agent"
	"lantern/internal/clock"
	"lantern/internal/core/enclosure"
)

// Fleet is the whole lab. Its exported fields are stored in its file; mu guards everything.
type Fleet struct {
	mu     sync.Mutex
	clock  *clock.Lab
	file   string
	Saved  time.Time `json:"saved"`  // lab time
	Pace   float64   `json:"pace"`   // how fast the clock ran
	Brisk  float64   `json:"brisk"`  // how fast it runs while nothing but waiting is left; 0: its speed is set by hand
	Filled bool      `json:"filled"` // the past was reported
	Serial int       `json:"serial"` // number of drives taken from the shelf
	Drives []*Drive  `json:"drives"`
	Hosts  []*Host   `json:"hosts"`
	Pools  []*Pool   `json:"pools"`
	last   time.Time // when pools were last moved on
	byKey  map[string]*Drive
}

// Host is one simulated machine.
type Host struct {
	Name   string             `json:"name"`
	Room   string             `json:"room,omitempty"` // where it stands
	Layout []enclosure.Layout `json:"layout"`
	Lit    map[string][]int   `json:"lit"`
	Speaks string             `json:"speaks,omitempty"` // which of its enclosures speaks SES
	Broken []string           `json:"broken,omitempty"` // parts of it that failed
	Mute   bool               `json:"mute,omitempty"`   // its enclosures report nothing, and have no lights
	Off    bool               `json:"off,omitempty"`    // it has no power
	Back   time.Time          `json:"back,omitzero"`    // when the power comes back by itself
	Untold []string           `json:"untold,omitempty"` // sections that it does not report
	fleet  *Fleet
	past   time.Time // time for which it answers, if not the present
}

// Open reads a fleet from its file, or makes one with build and keeps it there. speed is for a new fleet.
func Open(file string, now time.Time, speed float64, build func(now time.Time) *Fleet) (*Fleet, error) {
	f := &Fleet{}
	b, err := os.ReadFile(file)
	switch {
	case err == nil:
		if err := json.Unmarshal(b, f); err != nil {
			return nil, fmt.Errorf("the lab's file %s is damaged (%w); begin again with FRESH=1, or --fresh", file, err)
		}
		if f.Saved.After(now) {
			now = f.Saved // it ran fast before: time never goes back
		}
	case os.IsNotExist(err):
		f = build(now)
		f.Pace = speed
	default:
		return nil, err
	}
	f.file = file
	f.clock = clock.NewLab(now, f.Pace)
	f.last = now
	f.link()
	return f, f.Save()
}

// link restores what is not kept in the file.
func (f *Fleet) link() {
	f.byKey = map[string]*Drive{}
	for _, d := range f.Drives {
		f.byKey[d.key()] = d
	}
	for _, h := range f.Hosts {
		h.fleet = f
		if h.Lit == nil {
			h.Lit = map[string][]int{}
		}
	}
	for _, p := range f.Pools {
		p.fleet = f
	}
}

// Clock is the lab's.
func (f *Fleet) Clock() *clock.Lab { return f.clock }

// Save writes the fleet to its file.
func (f *Fleet) Save() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.save()
}

func (f *Fleet) save() error {
	f.Saved, f.Pace = f.clock.Now(), f.clock.Speed()
	b, err := json.Marshal(f)
	if err != nil {
		return err
	}
	next := f.file + ".new"
	if err := os.MkdirAll(filepath.Dir(f.file), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(next, b, 0o600); err != nil {
		return err
	}
	return os.Rename(next, f.file)
}

// SetSpeed changes how fast the lab's time runs, by hand.
func (f *Fleet) SetSpeed(speed float64) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.Brisk = 0
	f.clock.SetSpeed(speed)
	return f.save()
}

// SetHurry sets the speed of time while nothing but waiting is left; while a person is needed, time runs in real time.
func (f *Fleet) SetHurry(speed float64) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.Brisk = speed
	return f.save()
}

// Hurry is how fast time runs while nothing but waiting is left; 0 when its speed is set by hand.
func (f *Fleet) Hurry() float64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.Brisk
}

// Waits tells the lab whether only waiting is left, and reports whether that changed its speed.
func (f *Fleet) Waits(only bool) (changed bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	pace := 1.0
	if only {
		pace = f.Brisk
	}
	if f.Brisk == 0 || f.clock.Speed() == pace {
		return false
	}
	f.clock.SetSpeed(pace)
	return true
}

// Past makes a host answer as of another moment; the zero time brings it back to now.
func (h *Host) Past(t time.Time) {
	h.fleet.mu.Lock()
	defer h.fleet.mu.Unlock()
	h.past = t
}

func (h *Host) time() time.Time {
	if !h.past.IsZero() {
		return h.past
	}
	return h.fleet.clock.Now()
}

// Uptime counts the lab's own time, as if the host had been started with the lab.
func (h *Host) Uptime() (boot string, since time.Duration) {
	return "lab", h.fleet.clock.Now().Sub(time.Unix(0, 0))
}

// Drives are those in its bays.
func (h *Host) Drives(context.Context) ([]agent.Found, error) {
	f := h.fleet
	f.mu.Lock()
	defer f.mu.Unlock()
	t := h.time()
	if h.past.IsZero() {
		f.advance(t)
		if h.Off {
			return nil, errOff
		}
	}
	var out []agent.Found
	for _, d := range f.Drives {
		s, ok := d.at(t)
		if !ok || s.Host != h.Name {
			continue
		}
		section, bay := s.Section, s.Bay
		if h.Mute || h.speaks(section) || slices.Contains(h.Untold, section) {
			section, bay = "", 0 // its enclosure tells, or nobody does
		}
		out = append(
			out,
			agent.Found{
				Path:      labPath(s),
				Mark:      d.key() + s.From.String(),
				Port:      fmt.Sprintf("backplane-%s-%d", s.Section, s.Bay),
				Address:   d.Desc.WWN,
				Read:      func(int64, []byte) error { return h.read(d) },
				Surface:   h.surface(d),
				Section:   section,
				Bay:       bay,
				Transport: device{f, d, h},
				Holds:     slices.Clone(d.Holds),
				Looked:    true,
				Stat:      d.stat(t),
				Failures:  func() (int64, bool) { return 0, true },
			},
		)
	}
	slices.SortFunc(out, func(a, b agent.Found) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

// Changes are not told: a lab host is looked at.
func (h *Host) Changes(context.Context) <-chan struct{} { return nil }

// speaks reports whether a section is part of the enclosure that speaks for itself.
func (h *Host) speaks(section string) bool {
	for _, l := range h.Layout {
		if l.Name == h.Speaks && l.Sections[0].Name == section {
			return true
		}
	}
	return false
}

// Silence makes the enclosures of a host report nothing from now on, or report again.
func (f *Fleet) Silence(host string, mute bool) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, h := range f.Hosts {
		if h.Name == host {
			h.Mute = mute
			return f.save()
		}
	}
	return impossible("the lab has no host %q", host)
}

var errOff = errors.New("the host has no power")

// off reports whether a host has no power.
func (f *Fleet) off(host string) bool {
	return slices.ContainsFunc(f.Hosts, func(h *Host) bool { return h.Name == host && h.Off })
}

// Power takes a host down, or brings it up.
func (f *Fleet) Power(host string, on bool) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, h := range f.Hosts {
		if h.Name == host {
			f.advance(f.clock.Now())
			h.Off, h.Back = !on, time.Time{}
			return f.save()
		}
	}
	return impossible("the lab has no host %q", host)
}

// Stick makes the recoveries of a pool wait for an order, or not.
func (f *Fleet) Stick(name string, stuck bool) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, p := range f.Pools {
		if p.Name == name {
			p.Stuck = stuck
			return f.save()
		}
	}
	return impossible("the lab has no pool %q", name)
}

// Blinks lists the bays in which an activity light blinked within the last two seconds of real time, as eyes see it.
func (f *Fleet) Blinks() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := []string{}
	for _, d := range f.Drives {
		if s, ok := d.at(f.clock.Now()); ok && time.Since(d.blinked) < 2*time.Second {
			out = append(out, fmt.Sprintf("%s/%s/%d", s.Host, s.Section, s.Bay))
		}
	}
	slices.Sort(out)
	return out
}

// read makes a drive's activity light flash. The data do not matter.
func (h *Host) read(d *Drive) error {
	h.fleet.mu.Lock()
	if s, ok := d.at(h.time()); !ok || s.Host != h.Name {
		h.fleet.mu.Unlock()
		return errGone
	}
	d.blinked = time.Now()
	h.fleet.mu.Unlock()
	time.Sleep(8 * time.Millisecond) // as long as a disk takes
	return nil
}

// labPath is where a drive answers as long as it is in a bay.
func labPath(s Stay) string { return fmt.Sprintf("/lab/%s/%s%02d", s.Host, s.Section, s.Bay) }

// Enclosures are its layouts and lights.
func (h *Host) Enclosures(context.Context) ([]agent.Enclosure, error) {
	h.fleet.mu.Lock()
	defer h.fleet.mu.Unlock()
	var out []agent.Enclosure
	if h.Mute {
		return nil, nil
	}
	for _, l := range h.Layout {
		if l.Name == h.Speaks || slices.Contains(h.Untold, l.Sections[0].Name) {
			continue
		}
		lit := map[string][]int{}
		for _, s := range l.Sections {
			lit[s.Name] = slices.Clone(h.Lit[s.Name])
		}
		out = append(out, agent.Enclosure{Layout: l, Lit: lit})
	}
	return out, nil
}

// Light switches a bay's light.
func (h *Host) Light(_ context.Context, section string, bay int, on bool) (bool, error) {
	h.fleet.mu.Lock()
	defer h.fleet.mu.Unlock()
	if h.Mute || slices.Contains(h.Untold, section) {
		return false, errors.New("this enclosure has no lights")
	}
	if _, _, err := h.fleet.bay(enclosure.Address{Host: h.Name, Section: section, Number: bay}.String()); err != nil {
		return false, err
	}
	h.Lit[section] = slices.DeleteFunc(h.Lit[section], func(n int) bool { return n == bay })
	if on {
		h.Lit[section] = append(h.Lit[section], bay)
		slices.Sort(h.Lit[section])
	}
	return slices.Contains(h.Lit[section], bay), h.fleet.save()
}

// Speed is how fast the lab's time runs.
func (f *Fleet) Speed() float64 { return f.clock.Speed() }
