package store

import (
	"database/sql"
	"errors"
	"fmt"
	"math"
	"net/url"
	"os"
	"path/filepath"
	"strings"
)

// Salvaged is what was read of one table of a damaged database.
type Salvaged struct {
	Table string
	Rows  int // copied
	// Gaps are the places among its rows where some could not be read, Lost at least so many rows, by their numbers.
	Gaps, Lost int
	Dropped    int // rows that could be read and make no sense
}

// Salvage copies what can be read of a damaged database into a file that is not there yet. keep says of a row, by the
// names of its columns, whether it makes sense. The damaged file is only read, and so is its write-ahead log.
func Salvage(from, to string, keep func(table string, row map[string]any) bool) (out []Salvaged, err error) {
	if _, err := os.Stat(to); err == nil {
		return nil, fmt.Errorf("%s is there already. Choose another name, or remove it", to)
	}
	dir, err := os.MkdirTemp(filepath.Dir(to), ".salvage-*")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	// A copy: SQLite may want to take in what the write-ahead log holds.
	bad := filepath.Join(dir, "damaged.db")
	for _, end := range []string{"", "-wal"} {
		if err := copyFile(from+end, bad+end); err != nil && (end == "" || !errors.Is(err, os.ErrNotExist)) {
			return nil, err
		}
	}
	src, err := raw(bad)
	if err != nil {
		return nil, err
	}
	defer src.Close()
	fresh := filepath.Join(dir, "salvaged.db")
	dst, err := raw(fresh)
	if err != nil {
		return nil, err
	}
	defer dst.Close()
	tables, later, err := schema(src)
	if err != nil {
		return nil, fmt.Errorf("%s: not even the list of its tables can be read: %w. Restore a backup", from, err)
	}
	for _, t := range tables {
		if _, err := dst.Exec(t.made); err != nil {
			return nil, fmt.Errorf("make the table %s: %w", t.name, err)
		}
		c := &salvager{src: src, dst: dst, out: Salvaged{Table: t.name}, keep: keep}
		if err := c.table(); err != nil {
			return nil, fmt.Errorf("the table %s: %w", t.name, err)
		}
		out = append(out, c.out)
	}
	if err := loseSwaps(dst, out); err != nil {
		return nil, err
	}
	for _, made := range later {
		if _, err := dst.Exec(made); err != nil {
			return nil, err
		}
	}
	if err := dst.Close(); err != nil {
		return nil, err
	}
	_, err = Backup(fresh, to) // looked through, in one piece, with its sum beside it
	return out, err
}

// AfterLost stands where a swap stood after an event, when what followed may be lost.
const AfterLost = "lost"

// loseSwaps marks all swaps where events of some were lost: of one whose last are missing, nothing else would show it.
func loseSwaps(dst *sql.DB, all []Salvaged) error {
	for _, t := range all {
		if t.Table != "swap_events" || t.Gaps == 0 && t.Dropped == 0 {
			continue
		}
		if _, err := dst.Exec(`ALTER TABLE swap_events ADD COLUMN "after" text`); err != nil &&
			!strings.Contains(err.Error(), "duplicate column") { // records of before that was noted have none
			return err
		}
		_, err := dst.Exec(`UPDATE swap_events SET "after" = ?
			WHERE seq = (SELECT max(seq) FROM swap_events o WHERE o.swap = swap_events.swap)`, AfterLost)
		return err
	}
	return nil
}

// raw opens a database as it is.
func raw(file string) (*sql.DB, error) {
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: file}).EscapedPath())
	if err == nil {
		db.SetMaxOpenConns(1)
	}
	return db, err
}

type table struct{ name, made string }

// schema reads how tables were made, and what is made after them: indexes. The notes of changes are left out: if some
// are lost, earlier states would be shown wrong.
func schema(db *sql.DB) (tables []table, later []string, err error) {
	rows, err := db.Query(`SELECT type, name, coalesce(sql, '') FROM sqlite_master
		WHERE name NOT LIKE 'sqlite_%' AND substr(name, 1, 5) <> 'past_'`)
	if err != nil {
		return nil, nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var kind, name, made string
		if err := rows.Scan(&kind, &name, &made); err != nil {
			return nil, nil, err
		}
		switch {
		case made == "":
		case kind == "table":
			tables = append(tables, table{name, made})
		default:
			later = append(later, made)
		}
	}
	return tables, later, rows.Err()
}

// salvager copies one table in the order of its row ids.
type salvager struct {
	src, dst *sql.DB
	out      Salvaged
	keep     func(table string, row map[string]any) bool
	columns  []string
}

// table goes up through the numbers of the rows. Where a row cannot be read, the next that can is looked for in growing
// steps and then between the last that failed and the first that did not.
func (c *salvager) table() error {
	at := int64(math.MinInt64)
	for {
		last, ended, err := c.copyFrom(at)
		if err != nil {
			return err
		}
		if ended {
			return nil
		}
		if last != math.MinInt64 && last >= at {
			at = last + 1
		}
		c.out.Gaps++
		next, found := c.next(at)
		if !found {
			return nil
		}
		c.out.Lost += int(min(next-max(at, 1), math.MaxInt32))
		at = next
	}
}

// copyFrom copies rows from a number up. ended is true when there are no more; otherwise the row after last, or one
// from at on where last is the least number, cannot be read. err is of the copy.
func (c *salvager) copyFrom(at int64) (last int64, ended bool, err error) {
	last = math.MinInt64
	rows, err := c.src.Query(fmt.Sprintf(`SELECT rowid, * FROM "%s" WHERE rowid >= ? ORDER BY rowid`, c.out.Table), at)
	if err != nil {
		return last, false, nil
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return last, false, nil
	}
	c.columns = names[1:]
	tx, err := c.dst.Begin()
	if err != nil {
		return last, false, err
	}
	put, err := tx.Prepare(fmt.Sprintf(`INSERT OR IGNORE INTO "%s" ("%s") VALUES (%s)`, c.out.Table,
		strings.Join(c.columns, `", "`), strings.TrimSuffix(strings.Repeat("?, ", len(c.columns)), ", ")))
	if err != nil {
		return last, false, errors.Join(err, tx.Rollback())
	}
	defer put.Close()
	for rows.Next() {
		values, n, err := scan(rows, len(c.columns))
		if err != nil {
			break
		}
		last = n
		if !c.makesSense(values) {
			c.out.Dropped++
			continue
		}
		done, err := put.Exec(values...)
		if err != nil { // such as a value that a column does not allow
			c.out.Dropped++
			continue
		}
		if k, _ := done.RowsAffected(); k > 0 {
			c.out.Rows++
		}
	}
	return last, rows.Err() == nil && !more(rows), tx.Commit()
}

// more reports whether rows remain after one that could not be read.
func more(rows *sql.Rows) bool { return rows.Next() }

func scan(rows *sql.Rows, columns int) (values []any, n int64, err error) {
	values = make([]any, columns)
	to := []any{&n}
	for i := range values {
		to = append(to, &values[i])
	}
	return values, n, rows.Scan(to...)
}

func (c *salvager) makesSense(values []any) bool {
	row := map[string]any{}
	for i, name := range c.columns {
		row[name] = values[i]
	}
	return c.keep(c.out.Table, row)
}

// next is the first number from at on from which rows can be read; found is false when there is none.
func (c *salvager) next(at int64) (number int64, found bool) {
	if at < 0 {
		at = 0 // SQLite itself gives only positive ids
	}
	failed, step := at, int64(1)
	good := int64(-1)
	for step > 0 && failed <= math.MaxInt64-step { // until it overflows
		n, there, err := c.first(failed + step)
		if err == nil {
			if !there {
				return c.between(failed, failed+step)
			}
			good = n
			break
		}
		failed += step
		step *= 2
	}
	if good < 0 {
		return 0, false
	}
	if n, ok := c.between(failed, good); ok {
		return n, true
	}
	return good, true
}

// between looks for the least number from which rows can be read, above one that fails and up to one that does not.
func (c *salvager) between(failed, good int64) (number int64, found bool) {
	for good-failed > 1 {
		middle := failed + (good-failed)/2
		if n, there, err := c.first(middle); err == nil && there {
			number, found, good = n, true, middle
		} else if err == nil {
			good = middle
		} else {
			failed = middle
		}
	}
	return number, found
}

// first reads the first row from a number on, whole.
func (c *salvager) first(at int64) (n int64, there bool, err error) {
	rows, err := c.src.Query(
		fmt.Sprintf(`SELECT rowid, * FROM "%s" WHERE rowid >= ? ORDER BY rowid LIMIT 1`, c.out.Table), at)
	if err != nil {
		return 0, false, err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return 0, false, err
	}
	for rows.Next() {
		if _, n, err = scan(rows, len(names)-1); err != nil {
			return 0, false, err
		}
		there = true
	}
	return n, there, rows.Err()
}
