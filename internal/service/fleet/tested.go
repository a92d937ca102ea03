package fleet

import (
	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/pool"
	"lantern/internal/core/selftest"
	"slices"
	"time"
)

// Where is what a drive shares with others.
func (s *State) Where(d *Drive, at Place) selftest.Where {
	w := selftest.Where{Drive: d.Desc.Key(), Host: d.Host}
	if at.Pool != nil {
		w.Pool, w.PoolName, w.Group = at.Pool.ID, at.Pool.Name, at.Group
		if s.twins()[w.PoolName] { // two pools of one name are told apart by id
			w.PoolName += " " + w.Pool
		}
	}
	if h := s.Hosts[d.Host]; h != nil && d.Section != "" {
		for _, l := range s.Layouts[d.Host] {
			if slices.ContainsFunc(l.Sections, func(sec enclosure.Section) bool { return sec.Name == d.Section }) {
				w.Enclosure = l.Name
			}
		}
		for _, e := range h.LastReport.Enclosures {
			if slices.ContainsFunc(e.Sections, func(sec api.SectionReport) bool { return sec.Name == d.Section }) {
				w.Enclosure = e.Name
			}
		}
	}
	return w
}

// twins are the names that more than one pool has.
func (s *State) twins() map[string]bool {
	if s.TwinNames == nil {
		s.TwinNames = map[string]bool{}
		seen := map[string]bool{}
		for _, p := range s.Pools {
			s.TwinNames[p.Name] = seen[p.Name]
			seen[p.Name] = true
		}
	}
	return s.TwinNames
}

// LastTest is the newest test of a kind that came to an end of its own, passed or failed.
type LastTest struct {
	At     time.Time
	About  bool
	Result string
}

func (s *State) LastTests(d *Drive) map[drive.SelfTestKind]LastTest {
	out := map[drive.SelfTestKind]LastTest{}
	hours := d.Record["power_on_hours"]
	now, _ := hours.Last()
	for _, t := range d.Reading.Tests {
		kind := drive.SelfTestKind(t.Kind)
		if _, known := out[kind]; known || t.Result != string(drive.SelfTestPassed) && t.Result != string(drive.SelfTestFailed) {
			continue
		}
		at, about := hours.Reached(TestHours(t.Hours, now.Value))
		out[kind] = LastTest{at, about, t.Result}
	}
	return out
}

// PoolBusy is the mean of how busy a pool's drives are: one sick member alone does not make a busy pool.
func (s *State) PoolBusy(p *Pool) float64 {
	sum, n := 0.0, 0
	p.Everyone(func(_ string, m *pool.Member) {
		if d := s.Drives[m.Drive]; d != nil && d.Present {
			sum += d.Busy
			n++
		}
	})
	return sum / float64(max(1, n))
}

// busyAverage is over how long a drive's I/O is averaged.
const busyAverage = 5 * time.Minute

// Feel takes in how busy a drive was since the report before, as an average over some minutes.
func (d *Drive) Feel(busy float64, at time.Time) {
	if span := at.Sub(d.busyAt); d.busyAt.IsZero() || span >= busyAverage {
		d.Busy = busy
	} else if span > 0 {
		d.Busy += (busy - d.Busy) * float64(span) / float64(busyAverage)
	}
	d.busyAt = at
}
