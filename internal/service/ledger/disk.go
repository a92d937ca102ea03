package ledger

import (
	"errors"
	"fmt"
	"time"

	"lantern/internal/core/health"
	"lantern/internal/store"
)

// Disk is the state of the disk that holds the records.
type Disk struct {
	store.Room
	LookedAt time.Time
	// Failed is the reason why writes fail, FailedSince since when, FailedAt when one last failed; empty while writing
	// works. A small write may succeed where a report does not fit, so the state is kept for failedFor after the last
	// failure.
	Failed                string
	FailedSince, FailedAt time.Time
}

// Free space at which people are notified: a tenth and below 2 GiB, and again when it is critical.
const (
	roomWatch   = 2 << 30
	roomReplace = 512 << 20
	lookEach    = 10 * time.Second
	failedFor   = 30 * time.Second
)

// LookAtDisk checks the free space from time to time, and reserves some.
func (s *Ledger) LookAtDisk(now time.Time) {
	if d := now.Sub(s.Disk.LookedAt); d >= 0 && d < lookEach {
		return
	}
	s.Disk.LookedAt = now
	if err := s.Store.Reserve(); err != nil {
		s.Log.Warn("no space can be set aside for a full disk", "error", err)
	}
	r, err := s.Store.Room()
	if err != nil {
		s.Log.Warn("the space under the records cannot be read", "error", err)
		return
	}
	s.Disk.Room = r
}

// wrote records whether writing works.
func (s *Ledger) wrote(err error) {
	now := s.Clock.Now()
	switch {
	case err == nil && now.Sub(s.Disk.FailedAt).Abs() > failedFor:
		s.Disk.Failed, s.Disk.FailedSince = "", time.Time{}
	case errors.Is(err, store.ErrFull), errors.Is(err, store.ErrUnwritable):
		if s.Disk.Failed == "" {
			s.Disk.FailedSince = now
		}
		s.Disk.Failed, s.Disk.FailedAt = err.Error(), now
	}
}

// Trouble says what is wrong with the service's own records, how severe it is, and what to do; empty when nothing is
// wrong.
func (s *Ledger) Trouble() (says, do string, severity health.Verdict) {
	if r := s.Restored; !r.At.IsZero() {
		return fmt.Sprintf("this service was restored from %s at %s UTC, and gives no orders and takes no changes", r.From,
				r.At.UTC().Format("2006-01-02 15:04")),
			"When the service before it is gone for good, say so: lantern take-over --reason \"...\"", health.Replace
	}
	d := s.Disk
	const room = "Free some space on the disk that holds the service's data folder, or repair it. Agents keep their " +
		"reports."
	switch {
	case d.Failed != "":
		return "the service cannot record anything since " + d.FailedSince.UTC().Format(
			"2006-01-02 15:04",
		) + ": " + d.Failed +
			". What is shown was recorded before that", room, health.Dead
	case d.Total == 0:
		return "", "", health.Sound
	case !d.Reserved && d.Free < roomReplace:
		return fmt.Sprintf("the disk under the service's records is full: %d MB are left, and the reserve is in use",
			d.Free/1e6), room, health.Dead
	case d.Free < roomReplace:
		return fmt.Sprintf("the disk under the service's records is nearly full: %d MB are left", d.Free/1e6), room,
			health.Replace
	case d.Free < roomWatch && d.Free < d.Total/10:
		return fmt.Sprintf("the disk under the service's records fills up: less than %d MB are left",
			(d.Free/1e6/100+1)*100), room, health.Watch
	}
	return "", "", health.Sound
}

// TakeOver records that the service that made the restored backup no longer runs.
func (s *Ledger) TakeOver() error {
	if err := s.Store.TakeOver(); err != nil {
		return err
	}
	s.Restored = store.Restored{}
	s.restored.Store(false)
	s.Changed()
	return nil
}
