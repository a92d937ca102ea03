package store

import (
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// inDatabase is the number of readings in the database file alone, without its write-ahead log.
func inDatabase(t *testing.T, file string) (n int64) {
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	alone := filepath.Join(t.TempDir(), "alone.db")
	require.NoError(t, os.WriteFile(alone, b, 0o600))
	db, err := raw(alone)
	require.NoError(t, err)
	defer db.Close()
	if err := db.QueryRow("select count(*) from readings").Scan(&n); err != nil {
		require.ErrorContains(t, err, "no such table") // that is in the log as well
	}
	return n
}

// TestCheckpoint: what was committed is moved into the database without a commit that does it, also while others write
// and read; not if the log is left to others.
func TestCheckpoint(t *testing.T) {
	file := filepath.Join(t.TempDir(), "lantern.db")
	s, err := Open(file)
	require.NoError(t, err)
	defer s.Close()
	n := 0
	write := func() {
		n++
		b := &Batch{}
		b.Add(&Reading{Drive: fmt.Sprint("d", n), At: int64(n), Packed: []byte{1}})
		require.NoError(t, s.Write(b))
	}
	require.NoError(t, s.Checkpoint())
	write()
	require.EqualValues(t, 0, inDatabase(t, file))
	require.NoError(t, s.Checkpoint())
	require.EqualValues(t, 1, inDatabase(t, file))

	// A reader that still needs an older state keeps later pages in the log; nothing fails, and they are moved
	// once it ends.
	tx := s.read.Begin()
	var one Reading
	require.NoError(t, tx.First(&one).Error)
	write()
	write()
	require.NoError(t, s.Checkpoint())
	write()
	require.NoError(t, s.Checkpoint())
	require.NoError(t, tx.Rollback().Error)
	require.NoError(t, s.Checkpoint())
	require.EqualValues(t, n, inDatabase(t, file))

	var writing sync.WaitGroup
	done := make(chan struct{})
	writing.Go(func() {
		defer close(done)
		for range 300 {
			write()
		}
	})
	for going := true; going; {
		select {
		case <-done:
			going = false
		default:
		}
		require.NoError(t, s.Checkpoint())
	}
	writing.Wait()
	require.NoError(t, s.Checkpoint())
	require.EqualValues(t, n, inDatabase(t, file))
	info, err := os.Stat(file + "-wal")
	require.NoError(t, err)
	require.Less(t, info.Size(), int64(logMost)*4096/4, "the log is used again from its beginning")

	require.NoError(t, s.LeaveLog())
	write()
	require.NoError(t, s.Checkpoint())
	require.EqualValues(t, n-1, inDatabase(t, file))
}
