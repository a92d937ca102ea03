package readings

import (
	"math"
	"runtime"
	"sync"
	"time"

	"lantern/internal/core/history"
	"lantern/internal/service/fleet"
	"lantern/internal/store"
)

// The record of a drive is stored each time that a block is made of its readings. A start reads the record and the
// readings after it, instead of the readings of 100 days. A record that cannot be trusted (damaged, older than a block,
// newer than the clock) is deleted, and the record is made again from the readings.

// savesATick is the number of records stored at once, since the service is locked meanwhile.
const savesATick = 16

// SaveEach is the shortest time between two times that records are stored, in real time.
var SaveEach = time.Second

// LoadReadings loads the readings of the newest months of every drive.
func (s *State) LoadReadings() error {
	now := s.Clock.Now()
	s.behind, s.full, s.unsaved = map[string]bool{}, map[string]bool{}, map[string]bool{}
	if err := s.loadRecords(now.Add(justNow)); err != nil {
		return err
	}
	since := now.Add(-keepInMemory)
	if err := s.loadBlocks(since, now); err != nil {
		return err
	}
	if err := s.loadLoose(since); err != nil {
		return err
	}
	give, wait := loading(func(d *fleet.Drive) {
		d.Record.Until(now.Add(justNow))
		d.Record.Thin(now)
	})
	for _, d := range s.fleet.Drives {
		give(d)
	}
	wait()
	for key, d := range s.fleet.Drives {
		if d.Saved == 0 && len(d.Record) > 0 {
			s.unsaved[key] = true
		}
	}
	s.RecallLate()
	return nil
}

// loading starts workers that process drives one at a time; wait returns when all are done.
func loading[W any](do func(W)) (give func(W), wait func()) {
	todo := make(chan W, 64)
	var done sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		done.Go(func() {
			for w := range todo {
				do(w)
			}
		})
	}
	return func(w W) { todo <- w }, func() { close(todo); done.Wait() }
}

// loadRecords reads the stored records. Those that cannot be trusted are deleted, and their drives are behind.
func (s *State) loadRecords(latest time.Time) error {
	folded, err := s.Store.LastBlocks()
	if err != nil {
		return err
	}
	var mu sync.Mutex // guards bad
	var bad []string
	give, wait := loading(func(r store.DriveRecord) {
		d := s.fleet.Drives[r.Drive]
		if d == nil {
			return
		}
		record, upto, err := history.DecodeRecord(r.Data)
		if err != nil || upto != r.Upto || upto < folded[r.Drive] || upto > latest.UnixMilli() {
			mu.Lock()
			bad = append(bad, r.Drive)
			mu.Unlock()
			return
		}
		d.Record, d.Saved = record, upto
	})
	err = s.Store.EachRecord(func(r store.DriveRecord) error { give(r); return nil })
	wait()
	if err != nil || len(bad) == 0 {
		return err
	}
	s.Log.Warn("stored records of drives cannot be trusted; they are made again from the readings", "drives", len(bad))
	b := &store.Batch{}
	for _, key := range bad {
		b.Drop(&store.DriveRecord{Drive: key})
		s.behind[key] = true
	}
	if err := s.Store.Write(b); err != nil { // a full disk does not stop a start
		s.Log.Error("stored records that cannot be trusted could not be deleted", "error", err)
		for _, key := range bad {
			s.fleet.Drives[key].Saved = unsure
		}
	}
	return nil
}

// loadBlocks adds the blocks of drives without a stored record to their records. A record is thinned as soon as it is
// complete, so that only a few are in memory with every point.
func (s *State) loadBlocks(since, now time.Time) error {
	type work struct {
		key    string
		blocks []store.Block
	}
	var mu sync.Mutex // guards behind
	give, wait := loading(func(w work) {
		d := s.fleet.Drives[w.key]
		for _, b := range w.blocks {
			ok, err := d.Record.AddBlock(b.Data, since)
			if err != nil {
				s.Log.Error("a block of readings is left out", "drive", b.Drive, "first", time.UnixMilli(b.First), "error", err)
			} else if !ok {
				mu.Lock()
				s.behind[b.Drive] = true
				mu.Unlock()
			}
		}
		d.Record.Thin(now)
	})
	var next work
	err := s.Store.NewBlocks(since, func(b store.Block) error { // in order of drives
		if b.Drive != next.key {
			if len(next.blocks) > 0 {
				give(next)
			}
			next = work{key: b.Drive}
		}
		if s.fleet.Drives[b.Drive] != nil {
			next.blocks = append(next.blocks, b)
		}
		return nil
	})
	if len(next.blocks) > 0 {
		give(next)
	}
	wait()
	return err
}

// loadLoose puts the readings that are not in a block yet into the records that do not have them.
func (s *State) loadLoose(since time.Time) error {
	type row struct {
		at     int64
		packed []byte
	}
	type work struct {
		key  string
		d    *fleet.Drive
		rows []row
	}
	var mu sync.Mutex // guards behind
	give, wait := loading(func(w work) {
		for _, r := range w.rows {
			metrics, err := history.Unpack(r.packed)
			if err != nil {
				s.Log.Error("a reading is left out", "drive", w.key, "error", err)
				continue
			}
			if !w.d.Record.Add(time.UnixMilli(r.at).UTC(), metrics) {
				mu.Lock()
				s.behind[w.key] = true
				mu.Unlock()
			}
		}
	})
	var next work
	err := s.Store.NewReadings(func(key string, at int64, packed []byte) error { // in order of drives
		if key != next.key {
			if len(next.rows) > 0 {
				give(next)
			}
			next = work{key: key, d: s.fleet.Drives[key]}
		}
		if next.d == nil {
			return nil
		}
		s.loosened(key, next.d)
		if packed != nil && at >= since.UnixMilli() {
			next.rows = append(next.rows, row{at, packed})
		}
		return nil
	})
	if len(next.rows) > 0 {
		give(next)
	}
	wait()
	return err
}

// recordOf thins the record of a drive and encodes it for the store.
func (s *State) recordOf(key string, d *fleet.Drive) store.DriveRecord {
	thin(d, s.Clock.Now())
	data, upto := history.EncodeRecord(d.Record)
	return store.DriveRecord{Drive: key, Upto: upto, Data: data}
}

// saved records that the record of a drive is stored.
func (s *State) saved(key string, d *fleet.Drive, upto int64) {
	d.Saved = upto
	delete(s.unsaved, key)
}

// unsave deletes the stored record of a drive with a batch, after a reading that is older than the end of the record.
func (s *State) unsave(b *store.Batch, key string, d *fleet.Drive) {
	b.Drop(&store.DriveRecord{Drive: key})
	d.Saved, s.unsaved[key] = 0, true
}

// unsure is the Saved of a drive whose stored record could not be deleted: its next reading tries again.
const unsure = math.MaxInt64

// Save stores the records of some drives without a stored one. They only speed up the next start, so it can wait.
func (s *State) Save() error {
	if len(s.unsaved) == 0 || time.Since(s.savedAt) < SaveEach {
		return nil
	}
	s.savedAt = time.Now()
	b, upto := &store.Batch{}, map[string]int64{}
	for key := range s.unsaved {
		d := s.fleet.Drives[key]
		if d == nil || s.behind[key] {
			delete(s.unsaved, key)
			continue
		}
		if len(upto) == savesATick {
			break
		}
		record := s.recordOf(key, d)
		b.Put(&record)
		upto[key] = record.Upto
	}
	if err := s.Aside(func() error { return s.Store.Write(b) }); err != nil {
		return err
	}
	for key, ms := range upto {
		s.saved(key, s.fleet.Drives[key], ms)
	}
	return nil
}
