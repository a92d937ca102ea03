package readings

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/history"
	"lantern/internal/service/fleet"
	"lantern/internal/store"
)

// A reading is stored as a row until its drive has foldAt of them; then the oldest foldSize become one block, and small
// blocks become a large one when they hold enough. So readings are durable at once, and small in the long run.
const (
	FoldSize  = 64
	FoldAt    = FoldSize + 16
	LargeSize = 1024
	// foldsATick bounds how long folding delays the service.
	foldsATick = 4
)

// keepInMemory is the time whose readings of every drive are in memory for judging, thinned (history.Series.Thin).
const keepInMemory = 100 * 24 * time.Hour

// RecallLate loads the records of drives with late readings again.
func (s *State) RecallLate() {
	for key := range s.behind {
		s.Recall(key)
	}
	s.behind = map[string]bool{}
}

// Recall loads the record of a drive from the store.
func (s *State) Recall(key string) {
	if d := s.fleet.Drives[key]; d != nil {
		s.recall(key, d)
	}
}

func (s *State) recall(key string, d *fleet.Drive) {
	since := s.Clock.Now().Add(-keepInMemory)
	blocks, loose, err := s.Store.Of(key, since)
	if err != nil {
		s.Log.Error("the readings of a drive cannot be read", "drive", key, "error", err)
		return
	}
	whole := history.Whole{}
	for _, b := range blocks {
		if err := whole.AddBlock(b.Data, since); err != nil {
			s.Log.Error("a block of readings is left out", "drive", key, "first", time.UnixMilli(b.First), "error", err)
		}
	}
	for _, r := range loose {
		if metrics, err := history.Unpack(r.Packed); err == nil {
			whole.Add(time.UnixMilli(r.At).UTC(), metrics)
		}
	}
	d.Record = whole.Record()
	d.Record.Until(s.Clock.Now().Add(justNow))
	d.Record.Thin(s.Clock.Now())
	if d.Saved == 0 {
		s.unsaved[key] = true
	}
	d.Touch()
}

// Keep adds a reading to memory and to a batch.
func (s *State) Keep(b *store.Batch, key string, d *fleet.Drive, at time.Time, metrics map[string]float64) {
	if d.Saved > 0 && at.UnixMilli() <= d.Saved && (d.Saved == unsure || !twice(d.Record, at, metrics)) {
		s.unsave(b, key, d)
	}
	for name, v := range metrics {
		n := drive.MetricName(name)
		series := d.Record[n]
		last, known := series.Last()
		kept, newer := series.Keep(history.PointAt(at, v))
		if !newer {
			// Its effect on the record is computed when it is stored, and on the Life on demand.
			s.behind[key], d.Life = true, nil
			b.Put(d.Row())
			break
		}
		d.Record[n] = kept
		if known && d.Life != nil && (v < last.Value || d.Life[n].Fell > 0) {
			if m, _ := drive.MetricByName(n); m.Kind == drive.Counter {
				d.Life[n] = d.Life[n].After(last.Value, v)
				b.Put(d.Row())
			}
		}
	}
	d.Touch()
	s.loosened(key, d)
	b.Add(&store.Reading{Drive: key, At: at.UnixMilli(), Packed: history.Pack(metrics)})
}

// twice reports whether a reading is the newest one of a record, delivered again.
func twice(r history.Record, at time.Time, metrics map[string]float64) bool {
	for name := range metrics {
		if p, ok := r[drive.MetricName(name)].Last(); !ok || p.At().UnixMilli() != at.UnixMilli() {
			return false
		}
	}
	return true
}

// Tick thins the records of some drives, each once a day.
func (s *State) Tick(t *fleet.Tick) {
	now := t.Now
	if now.Before(s.ticked.Add(-ahead)) {
		// Our clock was set back. Readings with wrong times would count as the newest until that time; they are kept on
		// disk.
		for _, d := range s.fleet.Drives {
			if d.Record.Until(now.Add(justNow)) {
				s.unsave(t.Batch, d.Key(), d)
				d.Touch()
			}
		}
	}
	s.ticked = now
	const looksATick, drivesATick = 2000, 200
	all := s.fleet.ByPlace()
	for looks, n := 0, 0; looks < min(looksATick, len(all)) && n < drivesATick; looks++ {
		s.thinNext = (s.thinNext + 1) % len(all)
		if d := all[s.thinNext]; now.Sub(d.Thinned) >= 24*time.Hour {
			thin(d, now)
			n++
		}
	}
}

// thin thins a drive's record.
func thin(d *fleet.Drive, now time.Time) {
	d.Thinned = now
	d.Record.Thin(now)
	for name, series := range d.Record {
		// Older points are not used; the last value stays, however old.
		if kept := series.Since(now.Add(-keepInMemory)); len(kept) > 0 && len(kept) < len(series) {
			d.Record[name] = slices.Clone(kept)
		}
	}
}

// loosened counts a reading that is not in a block.
func (s *State) loosened(key string, d *fleet.Drive) {
	if d.Loose++; d.Loose >= FoldAt {
		s.full[key] = true
	}
}

// Fold makes blocks for some drives with many loose readings.
func (s *State) Fold() error {
	done := 0
	for key := range s.full {
		d := s.fleet.Drives[key]
		if d == nil || d.Loose < FoldAt {
			delete(s.full, key)
			continue
		}
		if done++; done > foldsATick {
			return nil
		}
		rows, err := s.Store.Oldest(key, FoldSize)
		if err != nil {
			return err
		}
		d.Loose -= len(rows)
		if len(rows) < FoldSize {
			d.Loose = len(rows) // a repeated reading was counted twice
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
		if err := s.foldInto(key, d, rs, len(rows)); err != nil {
			return fmt.Errorf("fold the readings of %s: %w", key, err)
		}
	}
	return nil
}

// foldInto makes a block from a drive's loose readings, and a large one from its small blocks when they hold enough. A
// block that begins at the same moment (from a late repeated reading) is merged. The drive's record is stored with it.
func (s *State) foldInto(key string, d *fleet.Drive, rs []history.Reading, loose int) error {
	first := rs[0].At.UnixMilli()
	of, err := store.All[store.Block](s.Store, "first", "drive = ? and (count < ? or first = ?)", key, LargeSize, first)
	if err != nil {
		return err
	}
	count := len(rs)
	for _, b := range of {
		count += b.Count
	}
	if count < LargeSize {
		of = slices.DeleteFunc(of, func(b store.Block) bool { return b.First != first })
	}
	for _, b := range of {
		part, err := history.DecodeBlock(b.Data)
		if err != nil {
			return err // both are unchanged: a damaged block is reported, and never overwritten
		}
		rs = append(rs, part...)
	}
	slices.SortStableFunc(rs, func(a, b history.Reading) int { return a.At.Compare(b.At) })
	last := rs[len(rs)-1].At.UnixMilli()
	record := s.recordOf(key, d)
	b := store.Block{
		Drive: key,
		First: rs[0].At.UnixMilli(),
		Last:  last,
		Count: len(rs),
		Data:  history.EncodeBlock(rs),
	}
	err = s.Aside(func() error { return s.Store.Fold(b, loose, of, record) })
	if err == nil {
		s.saved(key, d, record.Upto)
	}
	return err
}

// Series is the whole series of one metric, from the store.
func (s *State) Series(key string, metric drive.MetricName, since time.Time) (history.Series, error) {
	blocks, loose, err := s.Store.Of(key, since)
	if err != nil {
		return nil, err
	}
	var all history.Series
	for _, b := range blocks {
		part, err := history.BlockSeries(b.Data, metric)
		if err != nil {
			continue // reported when it was loaded
		}
		for _, p := range part {
			all = all.Add(p)
		}
	}
	for _, r := range loose {
		if m, err := history.Unpack(r.Packed); err == nil {
			if v, ok := m[metric]; ok {
				all = all.Add(history.PointAt(time.UnixMilli(r.At).UTC(), v))
			}
		}
	}
	return all.Since(since), nil
}

// Life is the sum of a drive's counter values before resets. It is updated with readings in order; after late ones, or
// when it is not known yet, it is computed from all of them.
func (s *State) Life(d *fleet.Drive) (map[drive.MetricName]history.Life, error) {
	if d.Life != nil {
		return d.Life, nil
	}
	life := map[drive.MetricName]history.Life{}
	for _, m := range drive.Catalogue {
		if m.Kind != drive.Counter || len(d.Record[m.Name]) == 0 {
			continue
		}
		all, err := s.Series(d.Key(), m.Name, time.UnixMilli(0))
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

// Readings gives every reading of a drive since a time, complete and in order, with the drive's key.
func (s *Service) Readings(name string, hours int) (key string, out []history.Reading, err error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	d, err := s.fleet.FindDrive(name)
	if err != nil {
		return "", nil, err
	}
	if hours <= 0 {
		hours = 30 * 24
	}
	key = d.Key()
	since := s.Clock.Now().Add(-time.Duration(hours) * time.Hour)
	out, err = s.ReadingsOf(key, since)
	return key, out, err
}

// ReadingsOf are all readings of a drive since a time, complete and in order.
func (s *State) ReadingsOf(key string, since time.Time) (out []history.Reading, err error) {
	blocks, loose, err := s.Store.Of(key, since)
	if err != nil {
		return nil, err
	}
	for _, b := range blocks {
		rs, err := history.DecodeBlock(b.Data)
		if err != nil {
			return nil, err
		}
		out = append(out, rs...)
	}
	for _, r := range loose {
		m, err := history.Unpack(r.Packed)
		if err != nil {
			return nil, err
		}
		out = append(out, history.Reading{At: time.UnixMilli(r.At).UTC(), Metrics: m})
	}
	out = slices.DeleteFunc(out, func(r history.Reading) bool { return r.At.Before(since) })
	slices.SortStableFunc(out, func(a, b history.Reading) int { return a.At.Compare(b.At) })
	return out, nil
}

// Newest is the newest value of every metric of one drive; At is the time of the newest of them.
type Newest struct {
	Drive  string
	At     time.Time
	Values []Value
}

// Value is one metric's.
type Value struct {
	Metric drive.MetricName
	Value  float64
}

// Line is its line in an export.
func (n Newest) Line() Line {
	l := Line{Drive: n.Drive, At: n.At, Metrics: make(map[string]float64, len(n.Values))}
	for _, v := range n.Values {
		l.Metrics[string(v.Metric)] = v.Value
	}
	return l
}

// Latest gives the newest values of all drives, by drive.
func (s *Service) Latest() []Newest {
	s.mu.RLock()
	defer s.mu.RUnlock()
	all := 0
	for _, d := range s.fleet.Drives {
		all += len(d.Record)
	}
	values := make([]Value, 0, all)
	out := make([]Newest, 0, len(s.fleet.Drives))
	for key, d := range s.fleet.Drives {
		n, from := Newest{Drive: key}, len(values)
		for name, series := range d.Record {
			if p, ok := series.Last(); ok {
				values = append(values, Value{name, p.Value})
				if p.At().After(n.At) {
					n.At = p.At()
				}
			}
		}
		if n.Values = values[from:len(values):len(values)]; len(n.Values) > 0 {
			out = append(out, n)
		}
	}
	slices.SortFunc(out, func(a, b Newest) int { return strings.Compare(a.Drive, b.Drive) })
	return out
}

// has reports whether a reading of a drive at a time is stored already.
func (s *State) has(key string, at time.Time) (bool, error) {
	loose, blocks, err := s.Store.Around(key, at)
	if err != nil || loose {
		return loose, err
	}
	for _, b := range blocks {
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

// idsLast is how long the ids of reports are stored to recognise them. A report repeated later can only be about the
// past, and its readings are recognised by drive and time.
const idsLast = 30 * 24 * time.Hour

// Forget deletes old ids from time to time.
func (s *State) Forget(now time.Time) error {
	if now.Sub(s.forgot) < 6*time.Hour {
		return nil
	}
	s.forgot = now
	return s.Aside(func() error {
		_, err := store.Remove[store.ReportID](s.Store, "at < ?", now.Add(-idsLast))
		return err
	})
}
