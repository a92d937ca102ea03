package store

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestShrink: what is let go of goes back to the disk, a little at a time; records that were made without that can be
// made anew; and the pace at which they grow is told from their rows.
func TestShrink(t *testing.T) {
	file := filepath.Join(t.TempDir(), "lantern.db")
	s, err := Open(file)
	require.NoError(t, err)
	begin := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	fill := func() {
		for day := range 60 {
			b := &Batch{}
			for i := range 100 {
				b.Add(&Reading{Drive: fmt.Sprint(i), At: begin.AddDate(0, 0, day).UnixMilli(), Packed: make([]byte, 9000)})
			}
			require.NoError(t, s.Write(b))
		}
	}
	fill()
	tables, _, err := Sizes(file)
	require.NoError(t, err)
	require.Equal(t, "readings", tables[0].Name)
	require.InDelta(t, 100*9300, tables[0].PerDay, 100*600, "100 a day, of 9,000 bytes and what is around them")
	pages := func() (n int64) {
		require.NoError(t, s.db.Raw("PRAGMA page_count").Scan(&n).Error)
		return n
	}
	full := pages()
	_, err = Remove[Reading](s, "at > 0")
	require.NoError(t, err)
	require.Equal(t, full, pages())
	for last := int64(0); last != pages(); {
		last = pages()
		require.NoError(t, s.Shrink())
	}
	require.Less(t, pages(), full/2)
	fill()
	_, err = Remove[Reading](s, "at > 0")
	require.NoError(t, err)
	_, _, err = Anew(file)
	require.ErrorContains(t, err, "in use", "while it is open it is left alone")
	require.NoError(t, s.Close())
	before, after, err := Anew(file)
	require.NoError(t, err)
	require.Less(t, after, before/4)
	require.NoError(t, Sound(file))
	s, err = Open(file)
	require.NoError(t, err)
	require.NoError(t, s.Close())
}
