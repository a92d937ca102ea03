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
	left    atomic.Bool  // another program moves the log
}

// logMost is the number of pages in the log at which a commit moves them after all: nobody called Checkpoint, or
// commits follow each other so closely that the log never ends.
const logMost = 16_000

// LeaveLog leaves checkpoints to another program, which copies the log first.
func (s *Store) LeaveLog() error {
	s.log.left.Store(true)
	return s.db.Exec("PRAGMA wal_autocheckpoint = 0").Error
}

// Checkpoint moves committed pages from the log into the database. It does not wait for transactions, nor they for it.
// One goroutine must call it every few seconds.
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
