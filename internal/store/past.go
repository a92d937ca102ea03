package store

import (
	"database/sql"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"
)

// remembered are the tables whose changes can be reverted, so that the records of an earlier moment can be made. Tables
// for authentication, sent messages, and tables that only grow by numbered rows are not among them.
var remembered = []string{
	"accept_policies", "acceptances", "blocks", "campaigns", "channels", "drives", "events", "found_logs", "hosts",
	"inventories", "layouts", "lights", "notices", "orders", "own_rules", "planned_tests", "plans", "pool_names",
	"pool_uses", "priority_hours", "readings", "recoveries", "samples", "settings", "spots", "standings", "surveys",
	"swap_events", "swap_looks", "test_runs",
}

// unneeded are the tables that a past does not need: nobody signs in there, and records of drives are made from its
// readings.
var unneeded = []string{"answers", "audit_entries", "authorities", "deliveries", "drive_records", "feeds",
	"host_secrets", "report_ids", "sessions", "sign_in_codes", "sites", "tokens"}

// same stands for a blob that did not change. No document, reading or hash is this one byte.
var same = []byte{0}

// shape is which columns a table has.
type shape struct {
	columns, keys []string
	blobs         map[string]bool
}

func shapeOf(db *sql.DB, table string) (out shape, err error) {
	rows, err := db.Query("SELECT name, type, pk FROM pragma_table_info(?) ORDER BY cid", table)
	if err != nil {
		return out, err
	}
	defer rows.Close()
	out.blobs = map[string]bool{}
	for rows.Next() {
		var name, kind string
		var pk int
		if err := rows.Scan(&name, &kind, &pk); err != nil {
			return out, err
		}
		out.columns = append(out.columns, name)
		if pk > 0 {
			out.keys = append(out.keys, name)
		}
		out.blobs[name] = strings.EqualFold(kind, "blob") && pk == 0
	}
	if len(out.keys) == 0 {
		return out, fmt.Errorf("the table %s has no key", table)
	}
	return out, rows.Err()
}

// list joins a text for each column.
func list(columns []string, of func(string) string) string { return joined(columns, ", ", of) }

func joined(columns []string, by string, of func(string) string) string {
	var out []string
	for _, c := range columns {
		out = append(out, of(c))
	}
	return strings.Join(out, by)
}

func quoted(c string) string { return `"` + c + `"` }

// KeepPast records every change from now on, with the moment by the given clock, so that PastOf can revert it. Triggers
// do it (SQLite, CREATE TRIGGER) in the transaction of the change, so that no change can be missed.
func (s *Store) KeepPast(now func() time.Time) error {
	raw, err := s.db.DB()
	if err != nil {
		return err
	}
	todo := []string{
		"CREATE TABLE IF NOT EXISTS past_moments (moment INTEGER PRIMARY KEY AUTOINCREMENT, at INTEGER NOT NULL)",
		"CREATE INDEX IF NOT EXISTS past_moments_at ON past_moments (at)",
		"CREATE TABLE IF NOT EXISTS past_now (one INTEGER PRIMARY KEY CHECK (one = 1), moment INTEGER NOT NULL)",
		"INSERT OR IGNORE INTO past_now VALUES (1, 0)",
		"CREATE TABLE IF NOT EXISTS past_packs (id INTEGER PRIMARY KEY, tab TEXT, first INTEGER, last INTEGER, data BLOB)",
	}
	for _, table := range remembered {
		sh, err := shapeOf(raw, table)
		if err != nil {
			return err
		}
		// Columns without a type return values unchanged.
		todo = append(
			todo,
			fmt.Sprintf(
				"CREATE TABLE IF NOT EXISTS past_%s (n_number INTEGER PRIMARY KEY, n_moment INTEGER, n_change TEXT, %s)",
				table,
				list(sh.columns, quoted),
			),
		)
		for _, on := range []string{"insert", "update", "delete"} {
			todo = append(todo, fmt.Sprintf("DROP TRIGGER IF EXISTS past_%s_%s", table, on), sh.trigger(table, on))
		}
	}
	if err := s.db.Transaction(func(tx *gorm.DB) error {
		for _, q := range todo {
			if err := tx.Exec(q).Error; err != nil {
				return fmt.Errorf("%s: %w", q, err)
			}
		}
		if err := addColumns(tx); err != nil {
			return err
		}
		s.now = now
		return s.moment(tx)
	}); err != nil {
		s.now = nil
		return full(err)
	}
	return nil
}

// addColumns adds the columns of a later schema to the notes of a table.
func addColumns(tx *gorm.DB) error {
	for _, table := range remembered {
		var missing []string
		err := tx.Raw(`SELECT name FROM pragma_table_info(?) WHERE name NOT IN (SELECT name FROM pragma_table_info(?))`,
			table, "past_"+table).Scan(&missing).Error
		if err != nil {
			return err
		}
		for _, c := range missing {
			if err := tx.Exec(fmt.Sprintf("ALTER TABLE past_%s ADD COLUMN %s", table, quoted(c))).Error; err != nil {
				return err
			}
		}
	}
	return nil
}

// trigger records a row as it was before its change; of a new row only the key.
func (sh shape) trigger(table, on string) string {
	columns, what, when := sh.columns, list(sh.columns, func(c string) string { return "OLD." + quoted(c) }), ""
	switch on {
	case "insert":
		columns, what = sh.keys, list(sh.keys, func(c string) string { return "NEW." + quoted(c) })
	case "update":
		what = quotedOld(sh)
		when = "WHEN " + joined(
			sh.columns,
			" OR ",
			func(c string) string { return "OLD." + quoted(c) + " IS NOT NEW." + quoted(c) },
		)
	}
	return fmt.Sprintf(`CREATE TRIGGER past_%[1]s_%[2]s AFTER %[2]s ON %[1]s %[3]s BEGIN
		INSERT INTO past_%[1]s (n_moment, n_change, %[4]s) VALUES ((SELECT moment FROM past_now), '%[5]s', %[6]s); END`,
		table, on, when, list(columns, quoted), on[:1], what)
}

// quotedOld are the columns of a row before its change, without blobs that did not change.
func quotedOld(sh shape) string {
	return list(sh.columns, func(c string) string {
		if !sh.blobs[c] {
			return "OLD." + quoted(c)
		}
		return fmt.Sprintf("CASE WHEN OLD.%[1]s IS NEW.%[1]s THEN x'00' ELSE OLD.%[1]s END", quoted(c))
	})
}

// moment starts a group of changes that belong together.
func (s *Store) moment(tx *gorm.DB) error {
	if s.now == nil {
		return nil
	}
	if err := tx.Exec("INSERT INTO past_moments (at) VALUES (?)", s.now().UnixMilli()).Error; err != nil {
		return err
	}
	return tx.Exec("UPDATE past_now SET moment = last_insert_rowid()").Error
}

// NoPast removes all notes of changes, and stops recording them.
func (s *Store) NoPast() error {
	s.now = nil
	return full(
		s.db.Transaction(func(tx *gorm.DB) error { return dropPast(func(q string) error { return tx.Exec(q).Error }) }),
	)
}

func dropPast(exec func(string) error) error {
	for _, table := range remembered {
		for _, on := range []string{"insert", "update", "delete"} {
			if err := exec(fmt.Sprintf("DROP TRIGGER IF EXISTS past_%s_%s", table, on)); err != nil {
				return err
			}
		}
		if err := exec("DROP TABLE IF EXISTS past_" + table); err != nil {
			return err
		}
	}
	for _, t := range []string{"past_packs", "past_now", "past_moments"} {
		if err := exec("DROP TABLE IF EXISTS " + t); err != nil {
			return err
		}
	}
	return nil
}

// PastSince is the earliest moment whose records can be made; zero if none is kept.
func (s *Store) PastSince() (time.Time, error) {
	if s.now == nil {
		return time.Time{}, nil
	}
	var at int64
	err := s.read.Raw("SELECT at FROM past_moments ORDER BY moment LIMIT 1").Scan(&at).Error
	return time.UnixMilli(at).UTC(), err
}

// ForgetPast forgets the moments before a time.
func (s *Store) ForgetPast(before time.Time) error {
	if s.now == nil {
		return nil
	}
	return full(s.db.Transaction(func(tx *gorm.DB) error {
		var last int64 // the newest moment that is not needed
		err := tx.Raw("SELECT coalesce(max(moment), 0) FROM past_moments WHERE at < ?", before.UnixMilli()).
			Scan(&last).
			Error
		if err != nil || last == 0 {
			return err
		}
		if err := tx.Exec("DELETE FROM past_moments WHERE moment < ?", last).Error; err != nil {
			return err
		}
		if err := tx.Exec("DELETE FROM past_packs WHERE last <= ?", last).Error; err != nil {
			return err
		}
		for _, table := range remembered {
			if err := tx.Exec(fmt.Sprintf("DELETE FROM past_%s WHERE n_moment <= ?", table), last).Error; err != nil {
				return err
			}
		}
		return nil
	}))
}

// packRows is the number of notes that are packed at once; it limits how long others wait.
const packRows = 500

// PackPast packs the notes of one table that has many; more reports whether it packed some.
func (s *Store) PackPast() (more bool, err error) {
	if s.now == nil {
		return false, nil
	}
	for _, table := range remembered {
		var n int
		q := fmt.Sprintf("SELECT count(*) FROM (SELECT 1 FROM past_%s LIMIT %d)", table, packRows)
		if err := s.read.Raw(q).Scan(&n).Error; err != nil {
			return false, err
		}
		if n == packRows {
			return true, s.packTable(table, packRows, packRows)
		}
	}
	return false, nil
}

// packTable packs up to most of the oldest notes of a table, if there are at least as many as least.
func (s *Store) packTable(table string, least, most int) error {
	raw, err := s.read.DB() // the connection that writes stays free
	if err != nil {
		return err
	}
	sh, err := shapeOf(raw, table)
	if err != nil {
		return err
	}
	notes, err := notesOf(raw, table, sh, 0, most)
	if err != nil || len(notes) < least {
		return err
	}
	data, err := pack(notes, sh)
	if err != nil {
		return err
	}
	newest := notes[len(notes)-1]
	return full(s.db.Transaction(func(tx *gorm.DB) error {
		err := tx.Exec("INSERT INTO past_packs (tab, first, last, data) VALUES (?, ?, ?, ?)",
			table, notes[0].moment, newest.moment, data).Error
		if err != nil {
			return err
		}
		return tx.Exec(fmt.Sprintf("DELETE FROM past_%s WHERE n_number <= ?", table), newest.seq).Error
	}))
}

// note is a row as it was before a change.
type note struct {
	seq, moment int64
	op          byte  // i, u or d
	row         []any // nil, int64, float64, string or []byte, a value for each column
}

// notesOf reads the notes of a table that are not packed, the oldest first.
func notesOf(db *sql.DB, table string, sh shape, after int64, most int) (out []note, err error) {
	// A text is read as bytes: the driver tries to convert the texts of expressions to times, which also takes most of the
	// time of a query.
	rows, err := db.Query(
		fmt.Sprintf("SELECT n_number, n_moment, unicode(n_change), %s FROM past_%s "+
			"WHERE n_moment > ? ORDER BY n_number LIMIT ?",
			list(sh.columns, func(c string) string {
				return fmt.Sprintf(
					"typeof(%[1]s) = 'text', CASE typeof(%[1]s) WHEN 'text' THEN CAST(%[1]s AS BLOB) ELSE %[1]s END",
					quoted(c),
				)
			}), table),
		after,
		most,
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		n := note{row: make([]any, len(sh.columns))}
		var op int
		to, isText := []any{&n.seq, &n.moment, &op}, make([]bool, len(n.row))
		for i := range n.row {
			to = append(to, &isText[i], &n.row[i])
		}
		if err := rows.Scan(to...); err != nil {
			return nil, err
		}
		for i, text := range isText {
			switch v := n.row[i].(type) {
			case nil, int64, float64:
			case []byte:
				if text {
					n.row[i] = string(v)
				}
			default:
				return nil, fmt.Errorf("%s of %s is read as %T", sh.columns[i], table, v)
			}
		}
		n.op = byte(op)
		out = append(out, n)
	}
	return out, rows.Err()
}
