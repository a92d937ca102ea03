package daemon

import (
	"bytes"
	"compress/gzip"
	"database/sql"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lantern/internal/clock"
	"lantern/internal/service"
	"lantern/internal/store"
)

// earlier unpacks the records that a service of an earlier version wrote: the demo's, with a swap under way.
func earlier(t *testing.T, path string) (data string) {
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	z, err := gzip.NewReader(f)
	require.NoError(t, err)
	b, err := io.ReadAll(z)
	require.NoError(t, err)
	data = t.TempDir()
	require.NoError(t, os.WriteFile(records(data), b, 0o600))
	return data
}

// TestEarlierRecords: the records of each earlier version are brought to the newest form, tried on a copy before;
// nothing of them is lost, the swap that was under way stands where it stood, and an older version refuses what a newer
// one wrote.
func TestEarlierRecords(t *testing.T) {
	all, err := filepath.Glob("testdata/records/*.db.gz")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(all), 3)
	phases := map[string]string{"2026-11-23": "pull", "2026-11-27": "pull", "2026-11-29": "confirm"}
	for _, path := range all {
		t.Run(filepath.Base(path), func(t *testing.T) {
			data := earlier(t, path)
			before, err := os.ReadFile(records(data))
			require.NoError(t, err)
			counts := rows(t, records(data))
			var said bytes.Buffer
			require.NoError(t, PlanMigration(data, &said))
			require.Contains(t, said.String(), "the records have form 0; a service of this version makes it")
			after, err := os.ReadFile(records(data))
			require.NoError(t, err)
			require.Equal(t, before, after, "the plan changes nothing")

			said.Reset()
			wrong, err := CheckRecords(t.Context(), data, "", &said)
			require.NoError(t, err)
			require.Zero(t, wrong, said.String())

			for range 2 { // and opened again it is as it was
				st, err := store.Open(records(data))
				require.NoError(t, err)
				s, err := service.New(st, clock.Real{}, slog.New(slog.DiscardHandler))
				require.NoError(t, err)
				open := s.Swaps.Swaps(true)
				require.Len(t, open, 1)
				require.Equal(t, "ZU006", open[0].Old.Tail)
				if phase := phases[strings.TrimSuffix(filepath.Base(path), ".db.gz")]; phase != "" {
					require.Equal(t, phase, string(open[0].Phase))
				}
				require.NotEmpty(t, s.Views.Pools())
				require.NoError(t, st.Close())
			}
			for table, n := range counts {
				require.GreaterOrEqual(t, rows(t, records(data))[table], n, "rows of %s", table)
			}
			said.Reset()
			require.NoError(t, PlanMigration(data, &said))
			require.Contains(t, said.String(), "nothing changes")

			db, err := sql.Open("sqlite", records(data))
			require.NoError(t, err)
			_, err = db.Exec("INSERT INTO migrations (number, about) VALUES (?, 'of tomorrow')", store.Form()+1)
			require.NoError(t, err)
			require.NoError(t, db.Close())
			_, err = store.Open(records(data))
			require.ErrorIs(t, err, store.ErrNewer)
			require.ErrorIs(t, PlanMigration(data, &said), store.ErrNewer)
		})
	}
}

// rows counts what each table holds.
func rows(t *testing.T, file string) map[string]int {
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	defer db.Close()
	names, err := db.Query("SELECT name FROM sqlite_master WHERE type = 'table'")
	require.NoError(t, err)
	out := map[string]int{}
	for names.Next() {
		var name string
		require.NoError(t, names.Scan(&name))
		out[name] = 0
	}
	require.NoError(t, names.Err())
	for name := range out {
		n := 0
		require.NoError(t, db.QueryRow("SELECT count(*) FROM "+name).Scan(&n)) // its names are ours
		out[name] = n
	}
	return out
}
