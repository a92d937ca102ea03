package store

import (
	"bytes"
	"database/sql"
	"errors"
	"fmt"
	"math"
	"os"
	"slices"
	"strings"
	"time"
)

// ErrNoPast means that no records are kept from so long ago.
var ErrNoPast = errors.New("the records of that moment are not kept")

// roomLeft is the disk space that must stay free when a temporary copy of the records is made.
const roomLeft = 1 << 30

// PastRoom reports whether the disk has room for copies of the records: twice their size, and roomLeft.
func (s *Store) PastRoom() error {
	size, err := s.Size()
	if err != nil {
		return err
	}
	room, err := s.Room()
	if err == nil && room.Free < 2*size+roomLeft {
		err = fmt.Errorf(
			"%w: a copy of the records needs %d MB, and %d MB are free",
			ErrFull,
			(2*size+roomLeft)/1e6,
			room.Free/1e6,
		)
	}
	return err
}

// PastOf writes the records of a service, as they were at a moment, into a new file while the service runs. They have
// no secrets for sign-in. was is the time of their last change.
func PastOf(file, to string, at time.Time) (was time.Time, err error) {
	if err := copyOf(file, to); err != nil {
		return was, err
	}
	s, err := openDatabase(to)
	if err != nil {
		return was, err
	}
	db, err := s.db.DB()
	if err != nil {
		return was, err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	if _, err := db.Exec("PRAGMA synchronous = OFF"); err != nil {
		return was, err
	}
	var moment, ms int64
	err = db.QueryRow("SELECT moment, at FROM past_moments WHERE at <= ? ORDER BY moment DESC LIMIT 1", at.UnixMilli()).
		Scan(&moment, &ms)
	if errors.Is(err, sql.ErrNoRows) || err != nil && strings.Contains(err.Error(), "no such table") {
		return was, ErrNoPast
	}
	if err != nil {
		return was, err
	}
	back := map[string][]note{}
	shapes := map[string]shape{}
	for _, table := range remembered {
		if shapes[table], err = shapeOf(db, table); err != nil {
			return was, err
		}
		if back[table], err = since(db, table, shapes[table], moment); err != nil {
			return was, err
		}
	}
	exec := func(q string) error { _, err := db.Exec(q); return err }
	if err := dropPast(exec); err != nil { // with its triggers: what follows is not recorded
		return was, err
	}
	return time.UnixMilli(ms).UTC(), takeAllBack(db, shapes, back)
}

// copyOf makes a temporary copy: it need not survive a crash, so it does not wait for the disk.
func copyOf(file, to string) error {
	from, err := readOnly(file)
	if err != nil {
		return err
	}
	_, err = from.Exec("PRAGMA synchronous = OFF")
	if err == nil {
		_, err = from.Exec("VACUUM INTO ?", to)
	}
	if err := errors.Join(err, from.Close()); err != nil {
		return fmt.Errorf("copy the database: %w", full(err))
	}
	return os.Chmod(to, 0o600)
}

// takeAllBack reverts the noted changes of all tables, and empties the tables that a past does not need.
func takeAllBack(db *sql.DB, shapes map[string]shape, back map[string][]note) error {
	tx, err := db.Begin()
	if err != nil {
		return err
	}
	for _, table := range remembered {
		if err := takeBack(tx, table, shapes[table], back[table]); err != nil {
			return errors.Join(fmt.Errorf("%s: %w", table, err), tx.Rollback())
		}
	}
	for _, table := range unneeded {
		if _, err := tx.Exec("DELETE FROM " + table); err != nil {
			return errors.Join(err, tx.Rollback())
		}
	}
	return tx.Commit()
}

// since are the notes of a table after a moment, in order.
func since(db *sql.DB, table string, sh shape, moment int64) (out []note, err error) {
	rows, err := db.Query("SELECT data FROM past_packs WHERE tab = ? AND last > ? ORDER BY id", table, moment)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var data []byte
		if err := rows.Scan(&data); err != nil {
			return nil, err
		}
		notes, err := unpack(data, sh)
		if err != nil {
			return nil, err
		}
		for _, n := range notes {
			if n.moment > moment {
				out = append(out, n)
			}
		}
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	if err := rows.Close(); err != nil {
		return nil, err
	}
	loose, err := notesOf(db, table, sh, moment, math.MaxInt32)
	return append(out, loose...), err
}

// takeBack reverts the rows of a table to their state before the given notes: the first note of each row has it; of a
// blob that this note leaves out, the next note that has it.
func takeBack(tx *sql.Tx, table string, sh shape, notes []note) error {
	first := map[string]*note{}
	var order []string
	for _, n := range notes {
		key := sh.keyOf(n.row)
		was := first[key]
		switch {
		case was == nil:
			first[key] = &n
			order = append(order, key)
		case was.op == 'u':
			for i := range was.row {
				if unchanged(was.row[i]) {
					was.row[i] = n.row[i]
				}
			}
			if n.op != 'u' {
				was.op = n.op // the row was deleted: it must be inserted again
			}
		}
	}
	for _, key := range order {
		n := first[key]
		var sets, keys []string
		var values, of []any
		for i, c := range sh.columns {
			if slices.Contains(sh.keys, c) {
				keys, of = append(keys, quoted(c)+" IS ?"), append(of, n.row[i])
			}
			if !unchanged(n.row[i]) {
				sets, values = append(sets, quoted(c)+" = ?"), append(values, n.row[i])
			}
		}
		var err error
		switch where := strings.Join(keys, " AND "); n.op {
		case 'i':
			_, err = tx.Exec(fmt.Sprintf("DELETE FROM %s WHERE %s", table, where), of...)
		case 'd':
			_, err = tx.Exec(fmt.Sprintf("INSERT OR REPLACE INTO %s (%s) VALUES (%s)", table, list(sh.columns, quoted),
				list(sh.columns, func(string) string { return "?" })), n.row...)
		default:
			_, err = tx.Exec(
				fmt.Sprintf("UPDATE %s SET %s WHERE %s", table, strings.Join(sets, ", "), where),
				append(values, of...)...)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func unchanged(v any) bool {
	b, ok := v.([]byte)
	return ok && bytes.Equal(b, same)
}
