package readings

import (
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/service/fleet"
	"lantern/internal/store"
)

// ahead is how much later than its report a reading may be dated.
const ahead = time.Minute

// justNow is how far ahead of our clock a reading in memory may be; one that is further was made while our clock was
// wrong.
const justNow = time.Second

// Take keeps the readings that a report brings.
func (s *State) Take(c *fleet.Change) {
	b := c.Batch
	for i := range c.Drives {
		x := &c.Drives[i]
		d := x.Drive
		if x.Dropped {
			last, known := d.Record["bus_drops"].Last()
			if !known {
				// A moment after the drive's last reading, and before its next, which have the very times of their
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
			continue // what comes later still counts
		}
		now := s.Clock.Now()
		if rd.At.After(now) {
			rd.At = now // its host's clock is ahead: a time that is not here yet would block what comes until then
		}
		rd = fleet.Believable(rd)
		if len(rd.Metrics) > 0 {
			s.Keep(b, x.Key, d, rd.At, rd.Metrics)
		}
		if !rd.At.Before(d.Reading.At) || d.Reading.At.After(now) {
			before := d.Reading.Attributes
			d.Reading = rd
			d.Reading.Metrics = nil
			if len(rd.Attributes) == 0 {
				d.Reading.Attributes = before // an unreadable or a past page does not wipe out what was known
			}
			x.Newest, x.Keep = true, true
		}
		for _, p := range rd.Unreadable {
			b.Add(&store.BadPage{Drive: x.Key, At: rd.At, Kind: p.Kind, Why: p.Why, Bytes: p.Bytes})
		}
	}
}

// TakePools makes the pools' own counters metrics of their drives, so that a cleared counter does not clear the memory.
// A member whose drive is gone still counts: it is the one that was last seen there.
func (s *State) TakePools(c *fleet.Change) {
	for _, r := range c.Pools {
		p := s.fleet.Pools[r.Id]
		// A moment after the drive's own reading, which may carry the very same time.
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
