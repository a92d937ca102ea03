// Package store keeps records in SQLite. What was known when is added, never overwritten; the few rows that are
// replaced (a host's newest report, a drive's newest facts) are copies of what was added elsewhere.
package store

import (
	"errors"
	"fmt"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/libtnb/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
	"gorm.io/gorm/logger"
)

// ErrFull means that the disk is full; nothing was written.
var ErrFull = errors.New("the disk under the database is full")

// ErrUnwritable means that the disk refuses writes; nothing was written.
var ErrUnwritable = errors.New("the database cannot be written")

// ErrNone means that there is no such record.
var ErrNone = errors.New("no such record")

// ErrTwice means that a report with this id was stored before; nothing was written.
var ErrTwice = errors.New("this report was accepted before")

// Store is an open database.
type Store struct {
	ways atomic.Uint64 // see Ways
	db   *gorm.DB      // the one connection that writes
	read *gorm.DB      // connections that only read: they do not wait for writers, and see committed data
	log  writeAheadLog
	file string
	lock *lock
	now  func() time.Time // the clock for the notes of changes; nil while there are none
}

// Open opens or creates the database file and updates its schema. Only one process can have it open.
func Open(file string) (*Store, error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, err
	}
	l, err := takeLock(file)
	if err != nil {
		return nil, err
	}
	s, err := openDatabase(file)
	if err != nil {
		return nil, errors.Join(err, l.release())
	}
	s.lock = l
	return s, nil
}

// Serves records the address of the service, for the error of another process that tries to open the records.
func (s *Store) Serves(address string) error { return s.lock.say(address) }

func openDatabase(file string) (*Store, error) {
	// SQLite makes the files beside it with the same permissions.
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	err = errors.Join(f.Chmod(0o600), f.Close())
	if err != nil {
		return nil, err
	}
	// A path may have characters with a meaning in a URI: "#" would cut it, and another file would be opened.
	dsn := "file:" + (&url.URL{Path: file}).EscapedPath() + "?_time_format=sqlite" +
		"&_pragma=auto_vacuum(INCREMENTAL)&_pragma=journal_mode(WAL)&_pragma=busy_timeout(5000)&_pragma=synchronous(FULL)" +
		"&_pragma=foreign_keys(1)&_pragma=cache_size(-65536)&_pragma=wal_autocheckpoint(" + strconv.Itoa(logMost) + ")"
	db, err := connect(dsn, 1)
	if err != nil {
		return nil, fmt.Errorf("open the database %s: %w", file, err)
	}
	if err := migrate(db); err != nil {
		err = errors.Join(full(err), disconnect(db))
		return nil, fmt.Errorf("bring the database %s to its newest form: %w", file, err)
	}
	if err := prepare(db); err != nil {
		return nil, fmt.Errorf("open the database %s: %w", file, errors.Join(err, disconnect(db)))
	}
	small := strings.Replace(dsn, "cache_size(-65536)", "cache_size(-8192)", 1)
	read, err := connect(small+"&_pragma=query_only(1)", readers)
	if err != nil {
		return nil, fmt.Errorf("open the database %s: %w", file, errors.Join(err, disconnect(db)))
	}
	side, err := connect(small, 1)
	if err != nil {
		return nil, fmt.Errorf("open the database %s: %w", file, errors.Join(err, disconnect(read), disconnect(db)))
	}
	return &Store{db: db, read: read, log: writeAheadLog{side: side}, file: file}, nil
}

// readers is the number of connections for reading.
const readers = 4

// connect opens a database with a limited number of connections.
func connect(dsn string, most int) (*gorm.DB, error) {
	db, err := gorm.Open(
		sqlite.Open(dsn),
		&gorm.Config{Logger: logger.Discard, SkipDefaultTransaction: true, PrepareStmt: true, PrepareStmtMaxSize: 200,
			NowFunc: func() time.Time { return time.Now().UTC() }},
	)
	if err != nil {
		return nil, err
	}
	raw, err := db.DB()
	if err != nil {
		return nil, err
	}
	raw.SetMaxOpenConns(most)
	raw.SetMaxIdleConns(most)
	return db, nil
}

func disconnect(db *gorm.DB) error {
	raw, err := db.DB()
	if err != nil {
		return err
	}
	return raw.Close() // and its prepared statements
}

// Close closes the database.
func (s *Store) Close() error {
	return errors.Join(disconnect(s.log.side), disconnect(s.read), disconnect(s.db), s.lock.release())
}

// ReadOnly makes every write fail until it is called with false. Tests use it.
func (s *Store) ReadOnly(on bool) error {
	return s.db.Exec(fmt.Sprintf("PRAGMA query_only = %t", on)).Error
}

// Limit keeps the database from growing beyond so many pages of 4 KiB. Tests use it for a full disk.
func (s *Store) Limit(pages int) error {
	return s.db.Exec(fmt.Sprintf("PRAGMA max_page_count = %d", pages)).Error
}

func full(err error) error {
	switch {
	case err == nil:
		return nil
	case strings.Contains(err.Error(), "database or disk is full"):
		return ErrFull
	case strings.Contains(err.Error(), "readonly database"), strings.Contains(err.Error(), "disk I/O error"):
		return fmt.Errorf("%w: %w", ErrUnwritable, err)
	}
	return err
}

// Batch collects records that belong together.
type Batch struct {
	// Once makes the whole batch fail with ErrTwice if a report with its id was stored before.
	Once *ReportID
	put  []any // replaces a record with the same key
	add  []any // does not replace a record with the same key
	drop []any // goes
	// needs must be found at the beginning of the transaction; none of dropAll is left in it.
	needs, dropAll []matching
	// Events get their numbers when the batch is written.
	Events []*Event
	// Audit are entries about the changes in the batch; they get their numbers and hashes when it is written.
	Audit []*AuditEntry
	// Observed is true if the batch only records what was seen or became due, and no decision of a person.
	Observed bool
	// Undo is called if the batch was not written: it reverts what has no record in it.
	Undo []func()
}

// matching are the records of one kind that match a condition.
type matching struct {
	record any // a pointer to an empty one
	where  string
	args   []any
}

// Records are all records of the batch but its events.
func (b *Batch) Records() []any { return slices.Concat(b.put, b.add, b.drop) }

// Of gives the records of one kind in a batch.
func Of[T any](b *Batch) (out []*T) {
	for _, r := range b.Records() {
		if x, ok := r.(*T); ok {
			out = append(out, x)
		}
	}
	return out
}

// Put stores a record, and replaces one with the same key.
func (b *Batch) Put(record any) { b.put = append(b.put, record) }

// Add stores a record unless there is one with the same key.
func (b *Batch) Add(record any) { b.add = append(b.add, record) }

// Drop deletes the record with the same key.
func (b *Batch) Drop(record any) { b.drop = append(b.drop, record) }

// Need makes the whole batch fail with ErrNone unless a record matches when it is written. record is a pointer to an
// empty one of its kind.
func (b *Batch) Need(record any, where string, args ...any) {
	b.needs = append(b.needs, matching{record, where, args})
}

// DropAll deletes the records that match before others are put. record is a pointer to an empty one of their kind.
func (b *Batch) DropAll(record any, where string, args ...any) {
	b.dropAll = append(b.dropAll, matching{record, where, args})
}

// Empty reports whether there is nothing to write.
func (b *Batch) Empty() bool {
	return len(b.put)+len(b.add)+len(b.drop)+len(b.dropAll)+len(b.Events)+len(b.Audit) == 0 && b.Once == nil
}

// Write stores batches in order, in one transaction: all of them, or nothing.
func (s *Store) Write(batches ...*Batch) error {
	batches = slices.DeleteFunc(slices.Clone(batches), (*Batch).Empty)
	if len(batches) == 0 {
		return nil
	}
	err := s.write(batches)
	if errors.Is(err, ErrFull) && s.release() {
		err = s.write(batches)
	}
	for _, b := range batches {
		if slices.ContainsFunc(b.Records(), letsIn) ||
			slices.ContainsFunc(b.dropAll, func(m matching) bool { return letsIn(m.record) }) {
			s.ways.Add(1)
		}
	}
	return err
}

// letsIn reports whether a record is used for authentication.
func letsIn(record any) bool {
	switch record.(type) {
	case *Token, *Session:
		return true
	}
	return false
}

// Ways is a number that changes with every written change of the records for authentication: what was read of them
// stays valid as long as it is the same. Read it before the records.
func (s *Store) Ways() uint64 { return s.ways.Load() }

func (s *Store) write(batches []*Batch) error {
	defer s.log.written.Add(1)
	return full(s.db.Transaction(func(tx *gorm.DB) error {
		if err := s.moment(tx); err != nil {
			return err
		}
		for _, b := range batches {
			if err := b.write(tx); err != nil {
				return err
			}
		}
		return nil
	}))
}

func (b *Batch) write(tx *gorm.DB) error {
	if b.Once != nil {
		if done := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(b.Once); done.Error != nil {
			return done.Error
		} else if done.RowsAffected == 0 {
			return ErrTwice
		}
	}
	for _, m := range b.needs {
		var n int64
		if err := tx.Model(m.record).Where(m.where, m.args...).Count(&n).Error; err != nil {
			return err
		} else if n == 0 {
			return ErrNone
		}
	}
	if err := writeNew(tx, b.add); err != nil {
		return err
	}
	for _, r := range b.drop {
		if err := tx.Delete(r).Error; err != nil {
			return err
		}
	}
	for _, m := range b.dropAll {
		if err := tx.Where(m.where, m.args...).Delete(m.record).Error; err != nil {
			return err
		}
	}
	if err := writeOver(tx, b.put); err != nil {
		return err
	}
	for _, e := range b.Events {
		if err := tx.Create(e).Error; err != nil {
			return err
		}
	}
	return appendAudit(tx, b.Audit)
}

// writeNew inserts rows that may exist already, several readings or pages per statement.
func writeNew(tx *gorm.DB, rows []any) error {
	var readings []*Reading
	var pages []*BadPage
	for _, r := range rows {
		switch one := r.(type) {
		case *Reading:
			readings = append(readings, one)
			continue
		case *BadPage:
			pages = append(pages, one)
			continue
		}
		if err := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(r).Error; err != nil {
			return err
		}
	}
	for some := range slices.Chunk(readings, 200) {
		if err := writeReadings(tx, some); err != nil {
			return err
		}
	}
	if len(pages) > 0 {
		return tx.CreateInBatches(pages, 200).Error
	}
	return nil
}

// writeReadings inserts readings by one statement, without GORM's reflection: they are most of what is written.
func writeReadings(tx *gorm.DB, readings []*Reading) error {
	values := make([]any, 0, 3*len(readings))
	for _, r := range readings {
		values = append(values, r.Drive, r.At, r.Packed)
	}
	insert := "INSERT INTO readings (drive, at, packed) VALUES (?,?,?)" + strings.Repeat(",(?,?,?)", len(readings)-1) +
		" ON CONFLICT DO NOTHING"
	_, err := tx.Statement.ConnPool.ExecContext(tx.Statement.Context, insert, values...)
	return err
}

// writeOver inserts or replaces rows, several drives or planned tests per statement.
func writeOver(tx *gorm.DB, rows []any) error {
	var drives []*Drive
	var tests []*PlannedTest
	for _, r := range rows {
		switch one := r.(type) {
		case *Drive:
			drives = append(drives, one)
			continue
		case *PlannedTest: // a batch never has two of the same
			tests = append(tests, one)
			continue
		}
		if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(r).Error; err != nil {
			return err
		}
	}
	if len(drives) > 0 {
		// The last of several documents of one drive counts.
		newest := map[string]*Drive{}
		for _, d := range drives {
			newest[d.Key] = d
		}
		if err := tx.Clauses(
			clause.OnConflict{UpdateAll: true},
		).CreateInBatches(
			slices.Collect(maps.Values(newest)),
			200,
		).Error; err != nil {
			return err
		}
	}
	if len(tests) > 0 {
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(tests, 200).Error
	}
	return nil
}

// All reads all matching records of a kind in the given order (such as "swap, seq"). where may be empty.
func All[T any](s *Store, order, where string, args ...any) ([]T, error) {
	var out []T
	q := s.read.Order(order)
	if where != "" {
		q = q.Where(where, args...)
	}
	return out, q.Find(&out).Error
}

// Newest reads the n newest matching records of a kind with growing ids.
func Newest[T any](s *Store, n int, where string, args ...any) ([]T, error) {
	var out []T
	return out, s.read.Where(where, args...).Order("id desc").Limit(n).Find(&out).Error
}

// Page reads up to n matching records, in the given order.
func Page[T any](s *Store, order string, n int, where string, args ...any) ([]T, error) {
	var out []T
	return out, s.read.Where(where, args...).Order(order).Limit(n).Find(&out).Error
}

// One reads the first matching record, or returns ErrNone.
func One[T any](s *Store, where string, args ...any) (T, error) {
	var out T
	err := s.read.Where(where, args...).First(&out).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return out, ErrNone
	}
	return out, err
}

// Remove deletes the rows that match: expired sessions and codes, and records that can be made again.
func Remove[T any](s *Store, where string, args ...any) (n int64, err error) {
	var record T
	r := s.db.Where(where, args...).Delete(&record)
	if letsIn(&record) {
		s.ways.Add(1)
	}
	return r.RowsAffected, full(r.Error)
}

// Set writes one column of the rows that match, and adds none.
func Set[T any](s *Store, column string, value any, where string, args ...any) error {
	var record T
	r := s.db.Model(&record).Where(where, args...).Update(column, value)
	if letsIn(&record) {
		s.ways.Add(1)
	}
	return full(r.Error)
}

// Size is the size of the database on disk in bytes, with indexes and free pages.
func (s *Store) Size() (bytes int64, err error) {
	var pages, size int64
	if err := s.read.Raw("PRAGMA page_count").Scan(&pages).Error; err != nil {
		return 0, err
	}
	err = s.read.Raw("PRAGMA page_size").Scan(&size).Error
	return pages * size, err
}
