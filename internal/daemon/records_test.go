package daemon

import (
	"bytes"
	"compress/gzip"
	"database/sql"
	"io"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/clock"
	"lantern/internal/core/swap"
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

// TestEarlierRecords: the records of each earlier version are migrated to the newest schema, tried on a copy first;
// nothing is lost, the open swap is at the same step, and an older version refuses the records of a newer one.
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
			require.Contains(t, said.String(), "the database has version 0; a service of this program version makes it")
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
				require.NotEmpty(t, s.Views.AllPools())
				require.NoError(t, st.Close())
			}
			for table, n := range counts {
				require.GreaterOrEqual(t, rows(t, records(data))[table], n, "rows of %s", table)
			}
			said.Reset()
			require.NoError(t, PlanMigration(data, &said))
			require.Contains(t, said.String(), "no changes")

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

// TestSalvage: whichever pages of the records are overwritten, the readable rows are copied into records that load,
// losses are listed, and no row is new; the damaged file stays as it is.
func TestSalvage(t *testing.T) {
	all, err := filepath.Glob("testdata/records/*.db.gz")
	require.NoError(t, err)
	whole := records(earlier(t, all[len(all)-1]))
	sound, err := os.ReadFile(whole)
	require.NoError(t, err)
	var out bytes.Buffer
	to := filepath.Join(t.TempDir(), "salvaged.db")
	require.NoError(t, Salvage(t.Context(), whole, to, &out))
	require.Equal(t, rows(t, whole), rows(t, to), "of sound records nothing is lost")
	require.NotContains(t, out.String(), "LOST")
	require.ErrorContains(t, Salvage(t.Context(), whole, to, &out), "is there already")

	page := int(sound[16])<<8 | int(sound[17])
	r := rand.New(rand.NewPCG(7, 7))
	lost := 0
	for i := range 25 {
		bad := slices.Clone(sound)
		for range 1 + i/5 {
			at := page * (1 + r.IntN(len(bad)/page-1)) // any but the first, which describes the others
			for j := range page {
				bad[at+j] = byte(r.IntN(256))
			}
		}
		dir := t.TempDir()
		damaged, to := filepath.Join(dir, "damaged.db"), filepath.Join(dir, "salvaged.db")
		require.NoError(t, os.WriteFile(damaged, bad, 0o600))
		out.Reset()
		err := Salvage(t.Context(), damaged, to, &out)
		after, read := os.ReadFile(damaged)
		require.NoError(t, read)
		require.Equal(t, bad, after, "the damaged file is only read")
		if err != nil {
			require.ErrorContains(t, err, "Restore a backup") // the list of tables is damaged
			continue
		}
		before, now := rows(t, whole), rows(t, to)
		for table, n := range now {
			require.LessOrEqual(t, n, before[table], "rows of %s", table)
			if n < before[table] {
				lost++
				require.Contains(t, out.String(), "LOST   "+table, "round %d", i)
			}
		}
		require.Contains(t, out.String(), "sound  the database")
		require.Contains(t, out.String(), "sound  loading it as at a start", out.String())
		swaps := "sound  the swaps"
		switch {
		case now["swap_events"] == 0:
			swaps = "sound  the swaps: 0 swaps in the records"
		case strings.Contains(out.String(), "LOST   swap_events"):
			swaps = "WRONG  the swaps"
		}
		require.Contains(t, out.String(), swaps, "round %d", i)
		require.Contains(t, out.String(), "lantern restore "+to)
	}
	require.Greater(t, lost, 10, "the damage hit something")
	require.NoError(t, os.WriteFile(whole, []byte("no database"), 0o600))
	require.ErrorContains(t, Salvage(t.Context(), whole, to+"2", &out), "Restore a backup")
}

// TestSwapsReread: a swap whose records do not lead to its stored state, or that this version reads differently, has an
// unknown step: nothing is done for it and it excuses nothing, until a person ends it.
func TestSwapsReread(t *testing.T) {
	all, err := filepath.Glob("testdata/records/*.db.gz")
	require.NoError(t, err)
	for change, why := range map[string]string{
		"UPDATE swap_events SET after = 'recover 3 x' WHERE seq = 2": `it stood at the step "recover" at`,
		"UPDATE swap_events SET seq = 3 WHERE seq = 2": "its records have no " +
			"event 2: they were damaged",
		"UPDATE swap_events SET doc = json_set(CAST(doc AS TEXT), '$.kind', 'fate') WHERE seq = 2": "is refused by this version",
		"UPDATE swap_events SET after = 'lost' WHERE seq = 2":                                      "records of swaps were lost",
		"UPDATE swap_events SET after = '' WHERE seq = 2":                                          "",
	} {
		data := earlier(t, all[len(all)-1])
		st, err := store.Open(records(data))
		require.NoError(t, err)
		require.NoError(t, st.Close())
		db, err := sql.Open("sqlite", records(data))
		require.NoError(t, err)
		_, err = db.Exec(change)
		require.NoError(t, err)
		require.NoError(t, db.Close())
		st, err = store.Open(records(data))
		require.NoError(t, err)
		s, err := service.New(st, clock.Real{}, slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		open := s.Swaps.Swaps(true)
		require.Len(t, open, 1, change)
		w := open[0]
		if why == "" {
			require.Empty(t, w.Held, "records of before say nothing of where it stood")
		} else {
			require.Contains(t, w.Held, why)
			require.Contains(t, strings.Join(s.Swaps.Differing(), ""), why)
			_, err = s.Swaps.ActOnSwap(swap.NextIt, "ida", w.Id, "*", "")
			require.ErrorContains(t, err, "The step of the swap of ZU006 is not known")
			require.False(t, s.Swaps.AskedOut(w.Old.Key, time.Now()))
			ended, err := s.Swaps.ActOnSwap(swap.AbandonIt, w.Lead, w.Id, "*", "planned anew")
			require.NoError(t, err)
			require.False(t, ended.Open)
		}
		require.NoError(t, st.Close())
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
