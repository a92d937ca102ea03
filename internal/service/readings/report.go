package readings

import (
	"reflect"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/service/fleet"
	"lantern/internal/store"
)

// ahead is how much later than its report the time of a reading may be.
const ahead = time.Minute

// justNow is how far ahead of our clock a reading in memory may be; a later one was made while our clock was wrong.
const justNow = time.Second

// Take stores the readings of a report.
func (s *State) Take(c *fleet.Change) {
	b := c.Batch
	undoTimes(c)
	for i := range c.Drives {
		x := &c.Drives[i]
		d := x.Drive
		if x.Dropped {
			last, known := d.Record["bus_drops"].Last()
			if !known {
				// A moment after the drive's last reading, and before its next one, which have the times of their
				// reports.
				s.Keep(b, x.Key, d, x.SeenBefore.Add(2*time.Millisecond), map[string]float64{"bus_drops": 0})
			}
			s.Keep(b, x.Key, d, c.Report.At.Add(-time.Millisecond), map[string]float64{"bus_drops": last.Value + 1})
		}
		rd := x.Says.Reading
		if rd.At.IsZero() {
			continue
		}
		if rd.At.After(c.Report.At.Add(ahead)) {
			c.Batch.Add(&store.BadPage{
				Drive: x.Key,
				At:    c.Report.At,
				Kind:  "value",
				Why:   "a reading is dated " + rd.At.UTC().Format(time.RFC3339) + ", after the report that brings it",
			})
			continue // later ones still count
		}
		now := s.Clock.Now()
		if rd.At.After(now) {
			rd.At = now // its host's clock is ahead: a future time would block later readings until then
		}
		rd = fleet.Believable(rd)
		if len(rd.Metrics) > 0 {
			s.Keep(b, x.Key, d, rd.At, rd.Metrics)
		}
		if !rd.At.Before(d.Reading.At) || d.Reading.At.After(now) {
			before := d.Reading
			d.Reading = rd
			d.Reading.Metrics = nil
			if len(rd.Attributes) == 0 {
				d.Reading.Attributes = before.Attributes // an unreadable or past page does not delete known values
			}
			x.Newest = true
			// Times alone are in the record of the host, which each newest report writes.
			x.Keep = x.Keep || !c.Live || rd.At.Before(before.At) || !sameBesideTime(d.Reading, before)
		}
		for _, p := range rd.Unreadable {
			b.Add(&store.BadPage{Drive: x.Key, At: rd.At, Kind: p.Kind, Why: p.Why, Bytes: p.Bytes})
		}
	}
}

// sameBesideTime reports whether two readings without their metrics differ in nothing but their times.
func sameBesideTime(a, b api.Reading) bool {
	a.At = b.At
	return reflect.DeepEqual(&a, &b)
}

// undoTimes reverts when drives were seen and read, if the batch is not written: their own records may not be in it.
func undoTimes(c *fleet.Change) {
	before := make([]time.Time, len(c.Drives))
	for i, x := range c.Drives {
		before[i] = x.Drive.Reading.At
	}
	drives := c.Drives
	c.Batch.Undo = append(c.Batch.Undo, func() {
		for i, x := range drives {
			x.Drive.Reading.At, x.Drive.SeenAt = before[i], x.SeenBefore
		}
	})
}

// TakePools adds the pools' own counters as metrics of their drives, so that they survive a cleared counter. For a
// member whose drive is gone, the drive last seen there counts.
func (s *State) TakePools(c *fleet.Change) {
	for _, r := range c.Pools {
		p := s.fleet.Pools[r.Id]
		// A moment after the drive's own reading, which may have the same time.
		at := p.At.Add(time.Millisecond)
		p.Everyone(func(_ string, m *pool.Member) {
			d := s.fleet.Drives[m.Drive]
			if d == nil {
				return
			}
			metrics := map[string]float64{"pool_read_errors": float64(m.Errors.Read),
				"pool_write_errors": float64(m.Errors.Write), "pool_checksum_errors": float64(m.Errors.Checksum)}
			same := true
			for n, v := range metrics {
				last, ok := d.Record[drive.MetricName(n)].Last()
				same = same && ok && last.Value == v && at.Sub(last.At()) < 24*time.Hour
			}
			if !same {
				s.Keep(c.Batch, m.Drive, d, at, metrics)
			}
		})
	}
}
