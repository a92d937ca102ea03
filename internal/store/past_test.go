package store

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// dump is all that is in the tables of which changes are noted.
func dump(t require.TestingT, file string) string {
	db, err := readOnly(file)
	require.NoError(t, err)
	defer db.Close()
	var out strings.Builder
	for _, table := range remembered {
		sh, err := shapeOf(db, table)
		require.NoError(t, err)
		rows, err := db.Query(
			fmt.Sprintf(
				"SELECT %s FROM %s ORDER BY %s",
				list(sh.columns, func(c string) string { return "quote(" + quoted(c) + ")" }),
				table,
				list(sh.keys, quoted),
			),
		)
		require.NoError(t, err)
		for rows.Next() {
			values := make([]sql.NullString, len(sh.columns))
			to := make([]any, len(values))
			for i := range to {
				to[i] = &values[i]
			}
			require.NoError(t, rows.Scan(to...))
			fmt.Fprintln(&out, table, values)
		}
		require.NoError(t, rows.Err())
		require.NoError(t, rows.Close())
	}
	return out.String()
}

// TestPast: whatever was written, changed, folded and dropped in whatever order, and however much of what was noted is
// packed by now, the records can be had as they were after each change; what was forgotten cannot, and is said.
func TestPast(t *testing.T) {
	dir, n := t.TempDir(), 0
	rapid.Check(t, func(t *rapid.T) {
		if n++; n > 25 {
			return // each run makes many databases
		}
		file := filepath.Join(dir, fmt.Sprint(n, ".db"))
		s, err := Open(file)
		require.NoError(t, err)
		defer func() { require.NoError(t, s.Close()) }()
		require.NoError(t, s.Write(&Batch{put: []any{&Host{Name: "before", SeenAt: time.Unix(1, 5).UTC()}}}))
		now := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
		require.NoError(t, s.KeepPast(func() time.Time { return now }))
		seen := map[time.Time]string{now: dump(t, file)}
		var moments []time.Time
		key := rapid.SampledFrom([]string{"a", "b", "c"})
		doc := func(name string) []byte {
			return []byte(rapid.SampledFrom([]string{`{"x":1}`, `{"x":22}`, `""`}).Draw(t, name))
		}
		for range rapid.IntRange(1, 25).Draw(t, "changes") {
			now = now.Add(time.Duration(rapid.IntRange(1, 90).Draw(t, "later")) * time.Second)
			b := &Batch{}
			for range rapid.IntRange(1, 4).Draw(t, "records") {
				k, at := key.Draw(t, "key"), int64(rapid.IntRange(1, 5).Draw(t, "at"))
				switch rapid.IntRange(0, 9).Draw(t, "what") {
				case 0:
					b.Drop(&Drive{Key: k})
				case 1, 2:
					b.Put(&Drive{Key: k, Doc: doc("doc")})
				case 3, 4: // its report is left as it was, mostly
					b.Put(&Host{Name: k, SeenAt: now, Interval: float64(at) / 3, Report: doc("report"), Cold: at > 2})
				case 5:
					b.Drop(&Host{Name: k})
				case 6:
					b.Add(&Reading{Drive: k, At: at, Packed: doc("packed")})
				case 7:
					b.Put(&Setting{Model: k, Name: "x", Value: float64(at) / 7})
				case 8:
					b.Events = append(b.Events, &Event{Kind: k, At: now, Subject: k})
				case 9:
					b.Put(&PlannedTest{Drive: k, Kind: "short", From: at, Doc: doc("test")})
				}
			}
			require.NoError(t, s.Write(b))
			if rapid.IntRange(0, 5).Draw(t, "fold") == 0 {
				now = now.Add(time.Second)
				k := key.Draw(t, "folded")
				rows, err := All[Reading](s, "at", "drive = ?", k)
				require.NoError(t, err)
				if len(rows) > 0 {
					require.NoError(
						t,
						s.Write(&Batch{put: []any{&Setting{Name: "moment", Value: float64(now.Unix())}}}),
					)
					last := rows[len(rows)-1].At
					had, err := All[Block](s, "first", "drive = ? and first = ?", k, rows[0].At)
					require.NoError(t, err)
					b := Block{
						Drive: k,
						First: rows[0].At,
						Last:  last,
						Count: len(rows),
						Data:  fmt.Append(nil, now.Unix()),
					}
					require.NoError(t, s.Fold(b, len(rows), had, DriveRecord{Drive: k, Upto: last, Data: b.Data}))
				}
			}
			seen[now] = dump(t, file)
			moments = append(moments, now)
			if rapid.IntRange(0, 6).Draw(t, "pack") == 0 {
				packAll(t, s)
			}
			if rapid.IntRange(0, 20).Draw(t, "again") == 0 { // the service is restarted
				require.NoError(t, s.KeepPast(func() time.Time { return now }))
			}
		}
		for i, at := range moments {
			if len(moments) > 4 && rapid.IntRange(0, len(moments)/4).Draw(t, "looked at") > 0 {
				continue
			}
			to := filepath.Join(dir, fmt.Sprint(n, "-", i, ".db"))
			was, err := PastOf(file, to, at.Add(300*time.Millisecond))
			require.NoError(t, err)
			require.False(t, was.After(at))
			require.Equal(t, seen[at], dump(t, to), "as of %s", at)
		}
		_, err = PastOf(file, filepath.Join(dir, fmt.Sprint(n, "-x.db")), moments[0].Add(-time.Hour))
		require.ErrorIs(t, err, ErrNoPast)
		_, err = Backup(file, filepath.Join(dir, fmt.Sprint(n, "-backup.db")))
		require.NoError(t, err, "records with notes are sound")
		half := moments[len(moments)/2]
		require.NoError(t, s.ForgetPast(half))
		to := filepath.Join(dir, fmt.Sprint(n, "-half.db"))
		_, err = PastOf(file, to, moments[len(moments)-1])
		require.NoError(t, err)
		require.Equal(t, seen[moments[len(moments)-1]], dump(t, to))
		to = filepath.Join(dir, fmt.Sprint(n, "-half2.db"))
		_, err = PastOf(file, to, half)
		require.NoError(t, err)
		require.Equal(t, seen[half], dump(t, to), "the moment from which on it is kept")
		require.NoError(t, s.NoPast())
		_, err = PastOf(file, filepath.Join(dir, fmt.Sprint(n, "-none.db")), now)
		require.ErrorIs(t, err, ErrNoPast)
	})
}

// packAll packs all notes, however few.
func packAll(t require.TestingT, s *Store) {
	for _, table := range remembered {
		require.NoError(t, s.packTable(table, 1, 3))
	}
}

// FuzzUnpack: no damage to a pack is taken for notes of other columns, and none ends the service.
func FuzzUnpack(f *testing.F) {
	sh := shape{columns: []string{"a", "b"}, keys: []string{"a"}, blobs: map[string]bool{"b": true}}
	good, err := pack(
		[]note{
			{1, 1, 'u', []any{"x", []byte("y")}},
			{2, 3, 'i', []any{int64(7), nil}},
			{3, 3, 'd', []any{1.5, []byte{}}},
		},
		sh,
	)
	require.NoError(f, err)
	f.Add(good)
	f.Fuzz(func(t *testing.T, data []byte) {
		notes, err := unpack(data, sh)
		if err != nil {
			return
		}
		for _, n := range notes {
			require.Len(t, n.row, 2)
		}
	})
}
