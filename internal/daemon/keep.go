package daemon

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"lantern/internal/clock"
	"lantern/internal/core/history"
	"lantern/internal/core/words"
	"lantern/internal/service"
	"lantern/internal/store"
)

// records is the database of a service's folder.
func records(data string) string { return filepath.Join(data, "lantern.db") }

// Backup copies the records of a service's folder into a file.
func Backup(data, to string, out io.Writer) error {
	begun := time.Now()
	n, err := store.Backup(records(data), to)
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("%s contains no database of a service: %w. Give the folder: --data", data, err)
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(
		out,
		"%s: %.1f MB, checked, no fault found; it took %.1f s\n",
		to,
		float64(n)/1e6,
		time.Since(begun).Seconds(),
	)
	return nil
}

// Restore replaces the records of a service's folder by a backup.
func Restore(from, data string, out io.Writer) error {
	kept, err := store.Restore(from, records(data))
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "%s is restored in %s\n", from, data)
	if kept != "" {
		fmt.Fprintf(out, "the earlier database is kept as %s\n", kept)
	}
	fmt.Fprintln(
		out,
		"The service that starts there gives no orders until somebody says that the one before is gone for good:\n"+
			"  lantern take-over --reason \"...\"",
	)
	return nil
}

// CheckRecords checks the records of a service's folder, or a backup, and prints the result of each check; wrong is the
// number of checks that found something.
func CheckRecords(ctx context.Context, data, backup string, out io.Writer) (wrong int, err error) {
	file := backup
	if file == "" {
		file = records(data)
	}
	say := func(what string, err error, found string) bool {
		if err != nil {
			wrong++
			fmt.Fprintf(out, "WRONG  %s: %v\n", what, err)
			return false
		}
		fmt.Fprintf(out, "sound  %s: %s\n", what, found)
		return true
	}
	if backup != "" {
		known, err := store.Unchanged(file)
		found := "it has no checksum file, so a changed letter in a text would not be found"
		if known {
			found = "its SHA-256 is that of what was written"
		}
		if !say("the file", err, found) {
			return wrong, nil
		}
	}
	if !say("the database", store.Sound(file), file+": every page and every document can be read") {
		return wrong, nil
	}
	dir, err := os.MkdirTemp("", "lantern-check")
	if err != nil {
		return wrong, err
	}
	defer os.RemoveAll(dir)
	// Everything else is checked in a copy, so that nothing can change the records.
	at := filepath.Join(dir, "lantern.db")
	if _, err := store.Backup(file, at); err != nil {
		say("a copy to look at", err, "")
		return wrong, nil
	}
	st, err := store.Open(at)
	if err != nil {
		say("opening it", err, "")
		return wrong, nil
	}
	defer func() { err = errors.Join(err, st.Close()) }()
	blocks, loose := 0, 0
	var damaged error
	look := st.EachBlock(time.Time{}, func(b store.Block) error {
		blocks++
		if _, err := history.DecodeBlock(b.Data); err != nil {
			damaged = errors.Join(
				damaged,
				fmt.Errorf("block of %s from %s: %w", b.Drive, time.UnixMilli(b.First).UTC().Format(time.RFC3339), err),
			)
		}
		return ctx.Err()
	})
	look = errors.Join(look, st.EachReading(time.Time{}, func(r store.Reading) error {
		loose++
		if _, err := history.Unpack(r.Packed); err != nil {
			damaged = errors.Join(
				damaged,
				fmt.Errorf("reading of %s at %s: %w", r.Drive, time.UnixMilli(r.At).UTC().Format(time.RFC3339), err),
			)
		}
		return ctx.Err()
	}))
	say(
		"the readings",
		errors.Join(look, damaged),
		fmt.Sprintf("%d blocks and %d loose readings, every checksum right", blocks, loose),
	)
	chain, err := st.VerifyAudit(0, "")
	if err == nil && chain.Broken != "" {
		err = errors.New(chain.Broken)
	}
	say("the audit", err, fmt.Sprintf("%d entries, none changed", chain.Entries))
	s, err := service.New(st, clock.Real{}, slog.New(slog.DiscardHandler))
	if !say("loading it as at a start", err, "it loads") {
		return wrong, nil
	}
	odd := s.Swaps.Differing()
	if len(odd) > 0 {
		err = errors.New(strings.Join(odd, "; "))
	}
	say(
		"the swaps",
		err,
		words.Count(len(s.Swaps.Swaps(false)), "swap")+" in the records, replayed without a difference",
	)
	return wrong, nil
}

// Salvage copies the readable part of damaged records into a file that can be restored, and says what was lost.
func Salvage(ctx context.Context, from, to string, out io.Writer) error {
	all, err := store.Salvage(from, to, makesSense)
	if err != nil {
		return err
	}
	whole, rows := 0, 0
	for _, t := range all {
		rows += t.Rows
		if t.Gaps == 0 && t.Dropped == 0 {
			whole++
			continue
		}
		fmt.Fprintf(out, "LOST   %s: %s kept; ", t.Table, words.Count(t.Rows, "row"))
		if t.Gaps > 0 {
			lost := "an unknown number of rows"
			if t.Lost > 0 {
				lost = words.Count(t.Lost, "row") + " or more"
			}
			fmt.Fprintf(out, "%s, %s lost; ", words.Count(t.Gaps, "gap"), lost)
		}
		fmt.Fprintf(out, "%s dropped whose content was damaged\n", words.Count(t.Dropped, "row"))
	}
	fmt.Fprintf(out, "kept   %s of %s whole, %s in all\n", words.Count(whole, "table"), words.Count(len(all), "table"),
		words.Count(rows, "row"))
	if _, err := CheckRecords(ctx, "", to, out); err != nil {
		return err
	}
	fmt.Fprintf(out, "What was known at earlier moments (--at) is not salvaged. A changed letter within a text cannot "+
		"be found. If there is a backup that is not much older, restore that.\n"+
		"Use the salvaged file: lantern restore %s\n", to)
	return nil
}

// makesSense checks whether a row of the records can be as it was written.
func makesSense(table string, row map[string]any) bool {
	bytesOf := func(v any) []byte {
		switch v := v.(type) {
		case []byte:
			return v
		case string:
			return []byte(v)
		}
		return nil
	}
	for _, column := range []string{"doc", "report"} {
		if b := bytesOf(row[column]); len(b) > 0 && !json.Valid(b) {
			return false
		}
	}
	switch table {
	case "blocks":
		_, err := history.DecodeBlock(bytesOf(row["data"]))
		return err == nil
	case "readings":
		_, err := history.Unpack(bytesOf(row["packed"]))
		return err == nil
	case "drive_records":
		_, _, err := history.DecodeRecord(bytesOf(row["data"]))
		return err == nil
	}
	return true
}

// PlanMigration lists the changes that this version would make to the schema of a service's records.
func PlanMigration(data string, out io.Writer) error {
	p, err := store.PlanMigration(records(data))
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("%s contains no database of a service: %w. Give the folder: --data", data, err)
	}
	if err != nil {
		return err
	}
	if len(p.Changes) == 0 {
		fmt.Fprintf(out, "no changes: the database has version %d, the newest of this program\n", p.From)
		return nil
	}
	fmt.Fprintf(out, "the database has version %d; a service of this program version makes it %d:\n", p.From, p.To)
	for _, c := range p.Changes {
		fmt.Fprintf(out, "  %s\n", c)
	}
	fmt.Fprintf(out, "tried on a copy: it took %.1f s\n", p.Took.Seconds())
	return nil
}

// Sizes gives the sizes of the parts of a service's records.
func Sizes(data string, out io.Writer) error {
	tables, free, err := store.Sizes(records(data))
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("%s contains no database of a service: %w. Give the folder: --data", data, err)
	}
	if err != nil {
		return err
	}
	all, year := free, 0.0
	fmt.Fprintf(out, "%12s  %10s  %14s  %s\n", "BYTES", "ROWS", "BYTES A YEAR", "WHAT")
	for _, t := range tables {
		all += t.Bytes
		year += 365 * t.PerDay
		if t.Bytes >= smallest || len(tables) < 8 {
			grows := ""
			if t.PerDay > 0 {
				grows = fmt.Sprintf("%.0f", 365*t.PerDay)
			}
			fmt.Fprintf(out, "%12d  %10d  %14s  %s\n", t.Bytes, t.Rows, grows, t.Name)
		}
	}
	fmt.Fprintf(out, "%12d  %10s  %14s  free, used again before the file grows\n", free, "", "")
	fmt.Fprintf(out, "%12d  %10s  %14.0f  in all\n", all, "", year)
	fmt.Fprintln(out, "A year at the rate of the last 30 days, without what is deleted by then.")
	return nil
}

// Shrink writes the records of a service's folder again, without free pages.
func Shrink(data string, out io.Writer) error {
	before, after, err := store.Anew(records(data))
	if errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("%s contains no database of a service: %w. Give the folder: --data", data, err)
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "%.1f MB before, %.1f MB now\n", float64(before)/1e6, float64(after)/1e6)
	return nil
}

// smallest is the least size of a table that gets a line.
const smallest = 16 << 10
