package store

import (
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// Restored is written beside records that were restored from a backup, until somebody says that the service from which
// it was made is gone.
type Restored struct {
	At   time.Time `json:"at"`
	From string    `json:"from"` // the backup's file
}

func fenceOf(file string) string { return file + ".restored" }

// Restored says from which backup these records were restored; zero if they were not, or if a person has confirmed that
// the previous service is gone.
func (s *Store) Restored() (r Restored, err error) {
	b, err := os.ReadFile(fenceOf(s.file))
	if errors.Is(err, os.ErrNotExist) {
		return r, nil
	}
	if err != nil {
		return r, err
	}
	return r, json.Unmarshal(b, &r)
}

// TakeOver records that the previous service is gone.
func (s *Store) TakeOver() error {
	if err := os.Remove(fenceOf(s.file)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return syncFolder(filepath.Dir(s.file))
}

// readOnly opens a database file for reading only; another process may have it open.
func readOnly(file string) (*sql.DB, error) {
	if _, err := os.Stat(file); err != nil {
		return nil, err
	}
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: file}).EscapedPath()+"?mode=ro&_pragma=busy_timeout(5000)")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	return db, nil
}

// Backup writes a consistent copy of a database into a new file while a service uses it (SQLite's VACUUM INTO), and
// checks the copy. bytes is its size.
func Backup(file, to string) (bytes int64, err error) {
	if _, err := os.Stat(to); err == nil {
		return 0, fmt.Errorf("%s is there already. Choose another name, or remove it", to)
	}
	db, err := readOnly(file)
	if err != nil {
		return 0, err
	}
	defer db.Close()
	part := to + ".part"
	if err := os.Remove(part); err != nil && !errors.Is(err, os.ErrNotExist) {
		return 0, err
	}
	// Its permissions are set first: it contains hashes of tokens and the secrets of channels.
	f, err := os.OpenFile(part, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err != nil {
		return 0, err
	}
	defer os.Remove(part)
	if err := f.Close(); err != nil {
		return 0, err
	}
	if _, err := db.Exec("VACUUM INTO ?", part); err != nil {
		return 0, fmt.Errorf("copy the database: %w", full(err))
	}
	if err := Sound(part); err != nil {
		return 0, fmt.Errorf("the copy is damaged: %w", err)
	}
	if bytes, err = syncFile(part); err != nil {
		return 0, err
	}
	sum, err := sumOf(part)
	if err != nil {
		return 0, err
	}
	// The sum is written before the backup gets its name: a backup without a sum is from elsewhere.
	if err := os.WriteFile(SumFile(to), []byte(sum+"  "+filepath.Base(to)+"\n"), 0o600); err != nil {
		return 0, err
	}
	if err := os.Rename(part, to); err != nil {
		return 0, errors.Join(err, os.Remove(SumFile(to)))
	}
	return bytes, syncFolder(filepath.Dir(to))
}

// SumFile is beside a backup and holds its SHA-256, in the form that sha256sum(1) reads. SQLite keeps no checksums of
// its own.
func SumFile(backup string) string { return backup + ".sha256" }

func sumOf(file string) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// Unchanged checks a backup against its sum; known is false if there is no sum beside it.
func Unchanged(backup string) (known bool, err error) {
	b, err := os.ReadFile(SumFile(backup))
	if errors.Is(err, os.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return true, err
	}
	sum, err := sumOf(backup)
	if err != nil {
		return true, err
	}
	if want, _, _ := strings.Cut(string(b), " "); want != sum {
		return true, fmt.Errorf("%s is not what was written: its SHA-256 is %.16s…, it was %.16s…", backup, sum, want)
	}
	return true, nil
}

// Sound checks a database file: with SQLite's own check of the whole file (PRAGMA integrity_check), and by reading each
// document. SQLite keeps no checksums, so a document with changed letters is not found.
func Sound(file string) error {
	db, err := readOnly(file)
	if err != nil {
		return err
	}
	defer db.Close()
	rows, err := db.Query("PRAGMA integrity_check(10)")
	if err != nil {
		return fmt.Errorf("%s is not a readable database: %w", file, err)
	}
	defer rows.Close()
	var wrong []string
	for rows.Next() {
		var says string
		if err := rows.Scan(&says); err != nil {
			return err
		}
		if says != "ok" {
			wrong = append(wrong, says)
		}
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("%s cannot be read to its end: %w", file, err)
	}
	if len(wrong) > 0 {
		return fmt.Errorf("%s is damaged: %s", file, strings.Join(wrong, "; "))
	}
	var n int
	if err := db.QueryRow("SELECT count(*) FROM sqlite_master WHERE name = 'swap_events'").Scan(&n); err != nil ||
		n == 0 {
		return errors.Join(fmt.Errorf("%s holds no records of this service", file), err)
	}
	return readable(db, file)
}

// readable checks that the documents of a database are valid JSON.
func readable(db *sql.DB, file string) error {
	type place struct{ table, column string }
	var places []place
	columns, err := db.Query(`SELECT m.name, c.name FROM sqlite_master m, pragma_table_info(m.name) c
		WHERE m.type = 'table' AND c.name IN ('doc', 'report') ORDER BY 1`)
	if err != nil {
		return err
	}
	defer columns.Close()
	for columns.Next() {
		var p place
		if err := columns.Scan(&p.table, &p.column); err != nil {
			return err
		}
		places = append(places, p)
	}
	if err := columns.Err(); err != nil {
		return err
	}
	for _, p := range places {
		var n int
		but := "" // a note of a change leaves out a document that did not change
		if strings.HasPrefix(p.table, "past_") {
			but = fmt.Sprintf(`AND "%s" IS NOT x'00'`, p.column)
		}
		// As text: SQLite would take JSON in a blob for its own binary form.
		err := db.QueryRow(
			fmt.Sprintf(`SELECT count(*) FROM "%s" WHERE length("%s") > 0 %s AND NOT json_valid(CAST("%[2]s" AS TEXT))`,
				p.table, p.column, but),
		).Scan(&n)
		if err != nil {
			return fmt.Errorf("%s: the table %s cannot be read: %w", file, p.table, err)
		}
		if n > 0 {
			return fmt.Errorf("%s is damaged: %d documents of the table %s cannot be read", file, n, p.table)
		}
	}
	return nil
}

// Restore replaces a database that no process has open by a backup. The previous file is kept beside it under another
// name, which is returned; empty if there was none.
func Restore(backup, file string) (kept string, err error) {
	if _, err := Unchanged(backup); err != nil {
		return "", err
	}
	if err := Sound(backup); err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return "", err
	}
	l, err := takeLock(file)
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, l.release()) }()
	part := file + ".part"
	if err := copyFile(backup, part); err != nil {
		return "", errors.Join(err, os.Remove(part))
	}
	now := time.Now().UTC()
	fence, err := json.Marshal(Restored{At: now, From: backup})
	if err != nil {
		return "", err
	}
	// The mark of the restore is written before the records, so that they are never without it.
	if err := os.WriteFile(fenceOf(file), fence, 0o600); err != nil {
		return "", err
	}
	if _, err := syncFile(fenceOf(file)); err != nil {
		return "", err
	}
	if _, err := os.Stat(file); err == nil {
		kept = file + ".before-" + now.Format("20060102T150405")
		for _, end := range []string{"", "-wal", "-shm"} {
			if err := os.Rename(file+end, kept+end); err != nil && !errors.Is(err, os.ErrNotExist) {
				return "", err
			}
		}
	}
	if err := os.Rename(part, file); err != nil {
		return kept, err
	}
	return kept, syncFolder(filepath.Dir(file))
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Sync(), out.Close())
}

func syncFile(file string) (bytes int64, err error) {
	f, err := os.Open(file)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return 0, err
	}
	return st.Size(), f.Sync()
}

func syncFolder(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}
