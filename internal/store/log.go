package store

import (
	"sync/atomic"

	"gorm.io/gorm"
)

// writeAheadLog moves committed pages from the write-ahead log into the database (a "checkpoint"), on a connection of
// its own. Otherwise a commit does it every 1,000 pages, and everybody waits for it.
type writeAheadLog struct {
	side    *gorm.DB
	written atomic.Int64 // transactions
	moved   int64        // written, when the log was moved last; used by Checkpoint only
	left    atomic.Bool  // others move it
}

// logMost is the number of pages in the log at which a commit moves them after all: nobody called Checkpoint, or
// commits follow each other so closely that the log never ends.
const logMost = 16_000

// LeaveLog leaves it to others to move the log: a program that copies it first.
func (s *Store) LeaveLog() error {
	s.log.left.Store(true)
	return s.db.Exec("PRAGMA wal_autocheckpoint = 0").Error
}

// Checkpoint moves what was committed from the log into the database. It waits for no transaction, and none waits for
// it. It must be called by one goroutine, every few seconds.
func (s *Store) Checkpoint() error {
	n := s.log.written.Load()
	if s.log.left.Load() || n == s.log.moved {
		return nil
	}
	var result struct{ Busy, Log, Checkpointed int }
	if err := s.log.side.Raw("PRAGMA wal_checkpoint(PASSIVE)").Scan(&result).Error; err != nil {
		return full(err)
	}
	if result.Busy == 0 && result.Log == result.Checkpointed {
		s.log.moved = n
	}
	return nil
}
