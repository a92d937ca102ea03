package daemon

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"time"

	"lantern/internal/clock"
	"lantern/internal/service/notices"
	"lantern/internal/store"
)

// BackupPlan says when backups are made, and how many are kept.
type BackupPlan struct {
	Folder string // empty for no backups
	Every  time.Duration
	Keep   int // at least 1
}

// backups makes backups of a service's records by a schedule. It removes only files that it made itself, and only after
// a newer one was checked.
type backups struct {
	BackupPlan
	records string
	log     *slog.Logger
	tell    func(notices.Backups)
	stands  notices.Backups
	tried   time.Time
}

// backupName is the form of the names of scheduled backups.
var backupName = regexp.MustCompile(`^lantern-(\d{8}T\d{6}Z)\.db$`)

const (
	backupTime = "20060102T150405Z"
	// tryAgain is how long after a failure the next backup is tried.
	tryAgain = 10 * time.Minute
)

// list gives the existing scheduled backups, the oldest first, and the time of the newest. One with a time in the
// future does not count as the newest: the clock was wrong.
func (b *backups) list(now time.Time) (names []string, newest time.Time, err error) {
	entries, err := os.ReadDir(b.Folder)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, newest, err
	}
	for _, e := range entries {
		m := backupName.FindStringSubmatch(e.Name())
		if m == nil || !e.Type().IsRegular() {
			continue
		}
		if at, err := time.Parse(backupTime, m[1]); err == nil {
			names = append(names, e.Name())
			if at.After(newest) && !at.After(now) {
				newest = at
			}
		}
	}
	slices.Sort(names)
	return names, newest, nil
}

// step makes a backup if one is due.
func (b *backups) step(now time.Time) {
	_, newest, err := b.list(now)
	b.stands.Every, b.stands.Folder, b.stands.Last = b.Every, b.Folder, newest
	if b.stands.Since.IsZero() {
		b.stands.Since = now
	}
	if err == nil && newest.Add(b.Every).After(now) {
		b.stands.Failed = ""
		b.tell(b.stands)
		return
	}
	if b.stands.Failed != "" && now.Sub(b.tried) < min(tryAgain, b.Every) {
		return
	}
	b.tried = now
	err = cmp.Or(err, b.make(now))
	if err != nil {
		b.log.Error("a backup failed", "folder", b.Folder, "error", err)
		b.stands.Failed = err.Error()
	} else {
		b.stands.Failed, b.stands.Last = "", now
	}
	b.tell(b.stands)
}

func (b *backups) make(now time.Time) error {
	if err := private(b.Folder); err != nil {
		return err
	}
	to := filepath.Join(b.Folder, "lantern-"+now.UTC().Format(backupTime)+".db")
	size, err := store.Backup(b.records, to)
	if err != nil {
		return err
	}
	b.log.Info("backed up", "file", to, "bytes", size)
	names, _, err := b.list(now)
	if err != nil {
		return err
	}
	names = slices.DeleteFunc(
		names,
		func(name string) bool { return name == filepath.Base(to) },
	) // it is kept, whatever the names of the others are
	for len(names) > b.Keep-1 {
		old := filepath.Join(b.Folder, names[0])
		if err := os.Remove(store.SumFile(old)); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		if err := os.Remove(old); err != nil {
			return err
		}
		names = names[1:]
	}
	return nil
}

// run makes backups until ctx ends.
func (b *backups) run(ctx context.Context) {
	for ctx.Err() == nil {
		b.step(clock.Real{}.Now())
		_ = clock.Real{}.Sleep(ctx, min(time.Minute, b.Every))
	}
}
