package store

import (
	"cmp"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
)

// TableSize is the size of a table with its indexes.
type TableSize struct {
	Name  string
	Bytes int64
	Rows  int64
	// PerDay is its growth in bytes a day over the last 30 days of its rows, or fewer; 0 if rows have no time, or all
	// are of one day.
	PerDay float64
}

// times are the columns with the time of a row: in Unix milliseconds, or in SQLite's form.
var times = map[string]struct {
	column string
	millis bool
}{
	"blocks":        {"first", true},
	"readings":      {"at", true},
	"samples":       {"at", true},
	"deliveries":    {"made", true},
	"events":        {"at", false},
	"audit_entries": {"at", false},
	"swap_events":   {"at", false},
	"found_logs":    {"at", false},
	"report_ids":    {"at", false},
}

// growth is the recent growth of a table in rows a day.
func growth(db *sql.DB, table string) (perDay float64, err error) {
	t, known := times[table]
	if !known {
		return 0, nil
	}
	column, day := fmt.Sprintf("julianday(%q)", t.column), 1.0
	if t.millis {
		column, day = fmt.Sprintf("%q", t.column), 86400_000
	}
	var n, first, last float64
	err = db.QueryRow(fmt.Sprintf(`SELECT count(*), coalesce(min(%[1]s), 0), coalesce(max(%[1]s), 0) FROM %[2]s
		WHERE %[1]s > (SELECT max(%[1]s) FROM %[2]s) - ?`, column, table), 30*day).Scan(&n, &first, &last)
	if err != nil || last-first < day {
		return 0, err
	}
	return n / (last - first) * day, nil
}

// Shrink returns free pages to the disk, a few at a time, while more than a quarter of the file is free. Files of
// earlier versions must be written again once for that: Anew.
func (s *Store) Shrink() error {
	const most = 2000 // pages, so that nobody waits for long
	var free, all int64
	if err := s.db.Raw("PRAGMA freelist_count").Scan(&free).Error; err != nil {
		return err
	}
	if err := s.db.Raw("PRAGMA page_count").Scan(&all).Error; err != nil {
		return err
	}
	if free < 4096 || free < all/4 { // 16 MB are used again soon
		return nil
	}
	return full(s.db.Exec(fmt.Sprintf("PRAGMA incremental_vacuum(%d)", most)).Error)
}

// Anew writes a database again that no process has open: without free pages, and so that Shrink works on it.
func Anew(file string) (before, after int64, err error) {
	l, err := takeLock(file)
	if err != nil {
		return 0, 0, err
	}
	defer func() { err = errors.Join(err, l.release()) }()
	st, err := os.Stat(file)
	if err != nil {
		return 0, 0, err
	}
	db, err := raw(file)
	if err != nil {
		return 0, 0, err
	}
	for _, do := range []string{"PRAGMA auto_vacuum = INCREMENTAL", "VACUUM", "PRAGMA wal_checkpoint(TRUNCATE)"} {
		if _, err := db.Exec(do); err != nil {
			return 0, 0, errors.Join(full(err), db.Close())
		}
	}
	if err := db.Close(); err != nil {
		return 0, 0, err
	}
	now, err := os.Stat(file)
	if err != nil {
		return 0, 0, err
	}
	return st.Size(), now.Size(), nil
}

// Sizes gives the sizes of the tables in a database file, the largest first, and the size of its free pages. The file
// is only read (SQLite's DBSTAT).
func Sizes(file string) (tables []TableSize, free int64, err error) {
	db, err := readOnly(file)
	if err != nil {
		return nil, 0, err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	rows, err := db.Query(
		"SELECT m.tbl_name, sum(s.pgsize) FROM dbstat s JOIN sqlite_master m ON m.name = s.name GROUP BY m.tbl_name ORDER " +
			"BY 2 DESC",
	)
	if err != nil {
		return nil, 0, err
	}
	defer rows.Close()
	for rows.Next() {
		var t TableSize
		if err := rows.Scan(&t.Name, &t.Bytes); err != nil {
			return nil, 0, err
		}
		tables = append(tables, t)
	}
	if err := rows.Err(); err != nil {
		return nil, 0, err
	}
	for i, t := range tables {
		if err := db.QueryRow("SELECT count(*) FROM " + t.Name).Scan(&tables[i].Rows); err != nil { // its names are ours
			return nil, 0, err
		}
		perDay, err := growth(db, t.Name)
		if err != nil {
			return nil, 0, err
		}
		tables[i].PerDay = perDay * float64(t.Bytes) / float64(max(1, tables[i].Rows))
	}
	tables = pastAsOne(tables)
	var pages, size int64
	if err := db.QueryRow("PRAGMA freelist_count").Scan(&pages); err != nil {
		return nil, 0, err
	}
	err = db.QueryRow("PRAGMA page_size").Scan(&size)
	return tables, pages * size, err
}

// pastAsOne joins all tables of earlier moments into one entry.
func pastAsOne(tables []TableSize) (out []TableSize) {
	past := TableSize{Name: "past"}
	for _, t := range tables {
		if !strings.HasPrefix(t.Name, "past_") {
			out = append(out, t)
			continue
		}
		past.Bytes += t.Bytes
		past.Rows += t.Rows
	}
	if past.Bytes > 0 {
		out = append(out, past)
	}
	slices.SortStableFunc(out, func(a, b TableSize) int { return cmp.Compare(b.Bytes, a.Bytes) })
	return out
}
