package daemon

import (
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/service/notices"
	"lantern/internal/store"
)

// TestBackupPlan: backups are made when due, each is checked, and the set number is kept; other files in the folder are
// not touched; a failure makes a notice immediately and is tried again later; a wrong clock costs no backup.
func TestBackupPlan(t *testing.T) {
	data, folder := t.TempDir(), filepath.Join(t.TempDir(), "backups")
	st, err := store.Open(records(data))
	require.NoError(t, err)
	defer st.Close()
	var stands notices.Backups
	b := &backups{BackupPlan: BackupPlan{Folder: folder, Every: time.Hour, Keep: 3}, records: records(data),
		log: slog.New(slog.DiscardHandler), tell: func(n notices.Backups) { stands = n }}
	there := func() (names []string) {
		entries, err := os.ReadDir(folder)
		require.NoError(t, err)
		for _, e := range entries {
			if backup, sum := strings.CutSuffix(e.Name(), ".sha256"); sum {
				_, err := os.Stat(filepath.Join(folder, backup))
				require.NoError(t, err, "a sum goes with its backup")
				continue
			}
			names = append(names, e.Name())
			if backupName.MatchString(e.Name()) && !e.IsDir() {
				require.NoError(t, store.Sound(filepath.Join(folder, e.Name())))
				known, err := store.Unchanged(filepath.Join(folder, e.Name()))
				require.NoError(t, err)
				require.True(t, known)
			}
		}
		return names
	}
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	for range 5 * 60 {
		b.step(now)
		require.Empty(t, stands.Failed)
		now = now.Add(time.Minute)
	}
	require.Equal(
		t,
		[]string{"lantern-20261129T140000Z.db", "lantern-20261129T150000Z.db", "lantern-20261129T160000Z.db"},
		there(),
	)
	require.Equal(t, time.Date(2026, 11, 29, 16, 0, 0, 0, time.UTC), stands.Last)

	// Files that people put there stay.
	own := filepath.Join(folder, "lantern-before-upgrade.db")
	require.NoError(t, os.WriteFile(own, []byte("x"), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(folder, "lantern-20200101T000000Z.db"), 0o700))
	b.step(now)
	require.Equal(
		t,
		[]string{"lantern-20200101T000000Z.db", "lantern-20261129T150000Z.db", "lantern-20261129T160000Z.db",
			"lantern-20261129T170000Z.db", "lantern-before-upgrade.db"},
		there(),
	)

	// The records cannot be read: nothing is removed, there is a notice, and it is tried again after ten minutes, not
	// each minute.
	b.records = filepath.Join(data, "nowhere.db")
	now = now.Add(time.Hour)
	b.step(now)
	require.Contains(t, stands.Failed, "nowhere.db")
	require.Len(t, there(), 5)
	b.records = records(data)
	b.step(now.Add(time.Minute))
	require.NotEmpty(t, stands.Failed)
	now = now.Add(11 * time.Minute)
	b.step(now)
	require.Empty(t, stands.Failed)
	require.Equal(t, now, stands.Last)

	// The clock is years ahead for one backup: when it is right again, further backups are made and kept as before.
	b.step(now.AddDate(10, 0, 0))
	for range 4 {
		now = now.Add(time.Hour)
		b.step(now)
		require.Empty(t, stands.Failed)
		require.Equal(t, now, stands.Last)
		b.step(now.Add(time.Minute))
		require.Equal(t, now, stands.Last, "one an hour")
	}
	require.Contains(t, there(), "lantern-"+now.Format(backupTime)+".db")
}
