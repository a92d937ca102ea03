package ledger

import (
	"errors"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/core/health"
	"lantern/internal/store"
)

// TestTrouble: each trouble of the records is told with how grave it is, the gravest first; writing that works again
// for a while ends it.
func TestTrouble(t *testing.T) {
	file := filepath.Join(t.TempDir(), "lantern.db")
	st, err := store.Open(file)
	require.NoError(t, err)
	defer st.Close()
	now := clock.NewLab(time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC), 0)
	l := New(st, now, slog.New(slog.DiscardHandler))
	const gb = 1 << 30
	for _, c := range []struct {
		room store.Room
		says string
		how  health.Verdict
	}{
		{store.Room{}, "", health.Sound},
		{store.Room{Free: 100 * gb, Total: 200 * gb, Reserved: true}, "", health.Sound},
		{store.Room{Free: 1900 << 20, Total: 10 * gb, Reserved: true}, "", health.Sound}, // more than a tenth of a small disk
		{store.Room{Free: 1900 << 20, Total: 100 * gb, Reserved: true}, "fills up: less than 2000 MB", health.Watch},
		{store.Room{Free: 500 << 20, Total: 100 * gb, Reserved: true}, "nearly full: 524 MB", health.Replace},
		{store.Room{Free: 10 << 20, Total: 100 * gb}, "is full: 10 MB are left, and the reserve is in use", health.Dead},
	} {
		l.Disk.Room = c.room
		says, do, how := l.Trouble()
		require.Contains(t, says, c.says)
		require.Equal(t, c.how, how, says)
		require.Equal(t, says == "", do == "", "what to do is said with it")
	}
	l.Disk.Room = store.Room{}
	l.wrote(errors.New("a slip of the pen"))
	says, _, _ := l.Trouble()
	require.Empty(t, says, "that is no trouble of the disk")
	l.wrote(store.ErrFull)
	now.Forward(10 * time.Second)
	l.wrote(nil)
	says, _, how := l.Trouble()
	require.Contains(t, says, "cannot record anything since 2026-11-23 08:00")
	require.Equal(t, health.Dead, how)
	now.Forward(time.Minute)
	l.wrote(nil)
	says, _, _ = l.Trouble()
	require.Empty(t, says)
	l.Restored = store.Restored{At: now.Now(), From: "/backup/x"}
	says, do, _ := l.Trouble()
	require.Contains(t, says, "restored from /backup/x")
	require.Contains(t, do, "lantern take-over")
	require.NoError(t, l.TakeOver())
	says, _, _ = l.Trouble()
	require.Empty(t, says)
	now.Forward(time.Minute)
	l.LookAtDisk(now.Now())
	require.Positive(t, l.Disk.Total)
}

// TestListen: who listens gets what came after a number first, and then what comes; who does not read holds nobody up.
func TestListen(t *testing.T) {
	st, err := store.Open(filepath.Join(t.TempDir(), "lantern.db"))
	require.NoError(t, err)
	defer st.Close()
	l := New(st, clock.Real{}, slog.New(slog.DiscardHandler))
	l.Before, l.After = func(*store.Batch) {}, func(*store.Batch) {}
	for _, says := range []string{"one", "two"} {
		b := &store.Batch{}
		l.AddEvent(b, api.EventKindHost, "x", says)
		require.NoError(t, l.Commit(b))
	}
	past, live, stop, err := l.Listen(1)
	require.NoError(t, err)
	defer stop()
	require.Len(t, past, 1)
	require.Equal(t, "two", past[0].Says)
	_, _, idle, err := l.Listen(2) // nobody reads this one
	require.NoError(t, err)
	defer idle()
	for range 5000 {
		l.Announce(api.EventKindHost, "x", "three")
	}
	require.Equal(t, "three", (<-live).Says)
}
