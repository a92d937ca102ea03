package service

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/history"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// A reading is kept as a row of its own until there are foldAt of its drive; then the oldest foldSize become one block,
// and small blocks become a large one when they hold enough. What is on disk is so durable at once, and small in the long
// run.
const (
	foldSize  = 64
	foldAt    = foldSize + 16
	largeSize = 1024
	// foldsATick bounds how long folding holds the service up.
	foldsATick = 4
)

// loadReadings puts the newest months of every drive into memory.
func (s *Service) loadReadings() error {
	since := s.clock.Now().Add(-keepInMemory)
	err := s.store.EachBlock(since, func(b store.Block) error {
		d := s.drives[b.Drive]
		if d == nil {
			return nil
		}
		rs, err := history.DecodeBlock(b.Data)
		if err != nil {
			s.log.Error("a block of readings is left out", "drive", b.Drive, "first", time.UnixMilli(b.First), "error", err)
			return nil
		}
		for _, r := range rs {
			if !r.At.Before(since) {
				d.record.Add(r.At, r.Metrics)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return s.store.EachReading(time.UnixMilli(0), func(r store.Reading) error {
		d := s.drives[r.Drive]
		if d == nil {
			return nil
		}
		d.loose++
		if r.At < since.UnixMilli() {
			return nil
		}
		metrics, err := history.Unpack(r.Packed)
		if err != nil {
			s.log.Error("a reading is left out", "drive", r.Drive, "error", err)
			return nil
		}
		d.record.Add(time.UnixMilli(r.At).UTC(), metrics)
		return nil
	})
}

// keep puts a reading into memory and into a batch.
func (s *Service) keep(b *store.Batch, key string, d *disk, at time.Time, metrics map[drive.MetricName]float64) {
	for n, v := range metrics {
		series := d.record[n]
		last, ok := series.Last()
		switch {
		case !ok || d.Life == nil || v >= last.Value && at.After(last.At):
		case !at.After(last.At):
			d.Life = nil // it came late: what it changes is made out when it is asked for
			b.Put(d.row())
		default:
			if m, _ := drive.MetricByName(n); m.Kind == drive.Counter {
				d.Life[n] = d.Life[n].After(last.Value, v)
				b.Put(d.row())
			}
		}
		d.record[n] = series.Add(history.Point{At: at, Value: v})
	}
	d.version++
	d.loose++
	b.Add(&store.Reading{Drive: key, At: at.UnixMilli(), Packed: history.Pack(metrics)})
}

// fold makes blocks of drives that have many loose readings. s.mu is held.
func (s *Service) fold() error {
	done := 0
	for key, d := range s.drives {
		if d.loose < foldAt {
			continue
		}
		if done++; done > foldsATick {
			return nil
		}
		rows, err := s.store.Oldest(key, foldSize)
		if err != nil {
			return err
		}
		d.loose -= len(rows)
		if len(rows) < foldSize {
			d.loose = len(rows) // a reading that came twice was counted twice
			continue
		}
		rs := make([]history.Reading, len(rows))
		for i, r := range rows {
			metrics, err := history.Unpack(r.Packed)
			if err != nil {
				return fmt.Errorf("fold the readings of %s: %w", key, err)
			}
			rs[i] = history.Reading{At: time.UnixMilli(r.At).UTC(), Metrics: metrics}
		}
		if err := s.foldInto(key, rs, len(rows)); err != nil {
			return fmt.Errorf("fold the readings of %s: %w", key, err)
		}
	}
	return nil
}

// foldInto makes a block of a drive's loose readings, and a large one of its small blocks when they hold enough. A block
// that begins at the very same moment (a reading came once more, long after) is taken in.
func (s *Service) foldInto(key string, rs []history.Reading, loose int) error {
	first := rs[0].At.UnixMilli()
	of, err := store.All[store.Block](s.store, "first", "drive = ? and (count < ? or first = ?)", key, largeSize, first)
	if err != nil {
		return err
	}
	count := len(rs)
	for _, b := range of {
		count += b.Count
	}
	if count < largeSize {
		of = slices.DeleteFunc(of, func(b store.Block) bool { return b.First != first })
	}
	for _, b := range of {
		part, err := history.DecodeBlock(b.Data)
		if err != nil {
			return err // both stay as they are: a damaged block is told of, and never written over
		}
		rs = append(rs, part...)
	}
	slices.SortStableFunc(rs, func(a, b history.Reading) int { return a.At.Compare(b.At) })
	last := rs[len(rs)-1].At.UnixMilli()
	return s.store.Fold(store.Block{Drive: key, First: rs[0].At.UnixMilli(), Last: last, Count: len(rs), Data: history.EncodeBlock(rs)}, loose, of)
}

// series of one metric, from memory when that reaches far enough back, else from the store.
func (s *Service) series(key string, metric drive.MetricName, since time.Time) (history.Series, error) {
	if !since.Before(s.clock.Now().Add(-keepInMemory)) {
		return s.drives[key].record[metric].Since(since), nil
	}
	blocks, loose, err := s.store.Of(key, since)
	if err != nil {
		return nil, err
	}
	var all history.Series
	for _, b := range blocks {
		part, err := history.BlockSeries(b.Data, metric)
		if err != nil {
			continue // loading has told of it
		}
		for _, p := range part {
			all = all.Add(p)
		}
	}
	for _, r := range loose {
		if m, err := history.Unpack(r.Packed); err == nil {
			if v, ok := m[metric]; ok {
				all = all.Add(history.Point{At: time.UnixMilli(r.At).UTC(), Value: v})
			}
		}
	}
	return all.Since(since), nil
}

// life is what a drive's counters had counted when they began anew. It is kept up as readings come in order; when some came
// late, or it is not known yet, it is made out from all of them.
func (s *Service) life(d *disk) (map[drive.MetricName]history.Life, error) {
	if d.Life != nil {
		return d.Life, nil
	}
	life := map[drive.MetricName]history.Life{}
	for _, m := range drive.Catalogue {
		if m.Kind != drive.Counter || len(d.record[m.Name]) == 0 {
			continue
		}
		all, err := s.series(d.Desc.Key(), m.Name, time.UnixMilli(0))
		if err != nil {
			return nil, err
		}
		if l := all.Life(); l.Resets > 0 {
			life[m.Name] = l
		}
	}
	d.Life = life
	return life, nil
}

// Readings gives every reading of a drive since a time, whole and in order; the drive's key comes with them.
func (s *Service) Readings(name string, hours int) (key string, out []history.Reading, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := s.findDrive(name)
	if err != nil {
		return "", nil, err
	}
	if hours <= 0 {
		hours = 30 * 24
	}
	key = d.Desc.Key()
	since := s.clock.Now().Add(-time.Duration(hours) * time.Hour)
	blocks, loose, err := s.store.Of(key, since)
	if err != nil {
		return key, nil, err
	}
	for _, b := range blocks {
		rs, err := history.DecodeBlock(b.Data)
		if err != nil {
			return key, nil, err
		}
		out = append(out, rs...)
	}
	for _, r := range loose {
		m, err := history.Unpack(r.Packed)
		if err != nil {
			return key, nil, err
		}
		out = append(out, history.Reading{At: time.UnixMilli(r.At).UTC(), Metrics: m})
	}
	out = slices.DeleteFunc(out, func(r history.Reading) bool { return r.At.Before(since) })
	slices.SortStableFunc(out, func(a, b history.Reading) int { return a.At.Compare(b.At) })
	return key, out, nil
}

// Line is one reading of an export.
type Line struct {
	Drive   string             `json:"drive"`
	At      time.Time          `json:"at"`
	Metrics map[string]float64 `json:"metrics"`
}

// mostRefused is how many lines that were refused are told of.
const mostRefused = 100

// Import takes readings of the past in, a batch at a time; next gives the lines until it says no more. What is known of a
// drive at a time already stays as it is.
func (s *Service) Import(next func() (Line, error, bool)) (out api.Imported, err error) {
	out.Refused = []api.RefusedLine{}
	const together = 500
	for n, more := 0, true; more; {
		// A slow sender must not hold the service up: lines are waited for before anything is locked.
		type arrived struct {
			Line
			bad error
		}
		var lines []arrived
		for more && len(lines) < together {
			var l arrived
			if l.Line, l.bad, more = next(); more {
				lines = append(lines, l)
			}
		}
		s.mu.Lock()
		b := &store.Batch{}
		for _, l := range lines {
			n++
			known, bad := false, l.bad
			if bad == nil {
				known, bad = s.importOne(b, l.Line)
			}
			switch {
			case bad != nil && len(out.Refused) < mostRefused:
				out.Refused = append(out.Refused, api.RefusedLine{Line: n, Why: bad.Error()})
			case bad != nil:
			case known:
				out.Known++
			default:
				out.Taken++
			}
		}
		err := s.commit(b)
		s.mu.Unlock()
		if err != nil {
			return out, err
		}
	}
	return out, nil
}

func (s *Service) importOne(b *store.Batch, l Line) (known bool, err error) {
	d, err := s.findDrive(l.Drive)
	if err != nil {
		return false, err
	}
	if l.At.IsZero() || l.At.After(s.clock.Now()) {
		return false, fmt.Errorf("its time is %s, which is not in the past", l.At.Format(time.RFC3339))
	}
	for n := range l.Metrics {
		if _, ok := drive.MetricByName(drive.MetricName(n)); !ok {
			return false, fmt.Errorf("there is no metric %q; did you mean %s?", n, drive.Nearest(n))
		}
	}
	if len(l.Metrics) == 0 {
		return false, errors.New("it has no metrics")
	}
	key := d.Desc.Key()
	if known, err = s.has(key, d, l.At); err != nil || known {
		return known, err
	}
	s.keep(b, key, d, l.At, wire.ToMetrics(l.Metrics))
	return false, nil
}

// has says whether a reading of a drive at a time is kept already.
func (s *Service) has(key string, d *disk, at time.Time) (bool, error) {
	if at.After(s.clock.Now().Add(-keepInMemory)) {
		for _, series := range d.record {
			if p, ok := series.At(at); ok && p.At.UnixMilli() == at.UnixMilli() {
				return true, nil
			}
		}
		return false, nil
	}
	blocks, loose, err := s.store.Of(key, at)
	if err != nil {
		return false, err
	}
	for _, r := range loose {
		if r.At == at.UnixMilli() {
			return true, nil
		}
	}
	for _, b := range blocks {
		if b.First > at.UnixMilli() {
			continue
		}
		times, err := history.BlockTimes(b.Data)
		if err != nil {
			return false, err
		}
		if _, found := slices.BinarySearch(times, at.UnixMilli()); found {
			return true, nil
		}
	}
	return false, nil
}

// idsLast is how long the ids of reports are kept to know them again. One that comes later still can only tell of the
// past, and its readings are known by drive and time.
const idsLast = 30 * 24 * time.Hour

// forget lets go of ids that are too old to matter, now and then.
func (s *Service) forget(now time.Time) error {
	if now.Sub(s.forgot) < 6*time.Hour {
		return nil
	}
	s.forgot = now
	_, err := store.Remove[store.ReportID](s.store, "at < ?", now.Add(-idsLast))
	return err
}
