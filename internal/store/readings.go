package store

import (
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// EachReading calls f for every reading not older than since that is not in a block yet, in order of time for each
// drive. f must not use the store.
func (s *Store) EachReading(since time.Time, f func(r Reading) error) error {
	return each(s.read.Model(&Reading{}).Where("at >= ?", since.UnixMilli()).Order("drive, at"), f)
}

// EachBlock calls f for every block that reaches to since or beyond. f must not use the store.
func (s *Store) EachBlock(since time.Time, f func(b Block) error) error {
	return each(s.read.Model(&Block{}).Where("last >= ?", since.UnixMilli()).Order("drive, first"), f)
}

// NewReadings calls f for every reading that is not in a block yet, in order of time for each drive; packed is nil if
// the drive's kept record includes it. f must not use the store.
func (s *Store) NewReadings(f func(drive string, at int64, packed []byte) error) error {
	rows, err := s.read.Raw(`SELECT r.drive, r.at, CASE WHEN k.upto >= r.at THEN NULL ELSE r.packed END
		FROM readings r LEFT JOIN drive_records k ON k.drive = r.drive ORDER BY r.drive, r.at`).Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var drive string
		var at int64
		var packed []byte
		if err := rows.Scan(&drive, &at, &packed); err != nil {
			return err
		}
		if err := f(drive, at, packed); err != nil {
			return err
		}
	}
	return rows.Err()
}

// NewBlocks calls f for every block that reaches to since or beyond, of drives that have no kept record. f must not use
// the store.
func (s *Store) NewBlocks(since time.Time, f func(b Block) error) error {
	return each(s.read.Model(&Block{}).Where("last >= ? and drive not in (select drive from drive_records)",
		since.UnixMilli()).Order("drive, first"), f)
}

// EachRecord calls f for every kept record of a drive. f must not use the store.
func (s *Store) EachRecord(f func(r DriveRecord) error) error {
	return each(s.read.Model(&DriveRecord{}), f)
}

// LastBlocks is the time of the newest reading in a block, by drive, in Unix milliseconds.
func (s *Store) LastBlocks() (map[string]int64, error) {
	rows, err := s.read.Raw("SELECT drive, max(last) FROM blocks GROUP BY drive").Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]int64{}
	for rows.Next() {
		var drive string
		var last int64
		if err := rows.Scan(&drive, &last); err != nil {
			return nil, err
		}
		out[drive] = last
	}
	return out, rows.Err()
}

func each[T any](q *gorm.DB, f func(T) error) error {
	rows, err := q.Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var r T
		if err := q.ScanRows(rows, &r); err != nil {
			return err
		}
		if err := f(r); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Of gives a drive's readings and blocks that reach to since or beyond, both of one moment.
func (s *Store) Of(drive string, since time.Time) (blocks []Block, loose []Reading, err error) {
	ms := since.UnixMilli()
	return blocks, loose, s.read.Transaction(func(tx *gorm.DB) error {
		return errors.Join(
			tx.Where("drive = ? and last >= ?", drive, ms).Order("first").Find(&blocks).Error,
			tx.Where("drive = ? and at >= ?", drive, ms).Order("at").Find(&loose).Error,
		)
	})
}

// Around reports whether there is a reading of a drive at a time outside blocks, and gives the blocks that may have
// one.
func (s *Store) Around(drive string, at time.Time) (loose bool, blocks []Block, err error) {
	ms := at.UnixMilli()
	rows, err := All[Reading](s, "at", "drive = ? and at = ?", drive, ms)
	if err != nil || len(rows) > 0 {
		return len(rows) > 0, nil, err
	}
	blocks, err = All[Block](s, "first", "drive = ? and first <= ? and last >= ?", drive, ms, ms)
	return false, blocks, err
}

// Oldest gives the n oldest readings of a drive that are not in a block yet.
func (s *Store) Oldest(drive string, n int) ([]Reading, error) {
	var out []Reading
	return out, s.read.Where("drive = ?", drive).Order("at").Limit(n).Find(&out).Error
}

// Fold stores a block in place of its content (the given number of readings from its first to its last, and other
// blocks) and the drive's record, or it changes nothing. A block is never overwritten.
func (s *Store) Fold(b Block, loose int, of []Block, record DriveRecord) error {
	return full(s.db.Transaction(func(tx *gorm.DB) error {
		for _, o := range of {
			if err := tx.Where("drive = ? and first = ?", o.Drive, o.First).Delete(&Block{}).Error; err != nil {
				return err
			}
		}
		if loose > 0 {
			r := tx.Where("drive = ? and at between ? and ?", b.Drive, b.First, b.Last).Delete(&Reading{})
			if r.Error != nil {
				return r.Error
			}
			if r.RowsAffected != int64(loose) {
				return fmt.Errorf("%d readings were to be stored as a block, but %d exist", loose, r.RowsAffected)
			}
		}
		if err := tx.Create(&b).Error; err != nil {
			return err
		}
		return tx.Save(&record).Error
	}))
}

// EventsAfter are up to limit events after an id, in order.
func (s *Store) EventsAfter(id int64, limit int) (out []Event, err error) {
	return out, s.read.Where("id > ?", id).Order("id").Limit(limit).Find(&out).Error
}

// EventsBefore are up to limit events before an id, the newest first.
func (s *Store) EventsBefore(id int64, limit int) (out []Event, err error) {
	return out, s.read.Where("id < ?", id).Order("id desc").Limit(limit).Find(&out).Error
}
