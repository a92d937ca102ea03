package notices

import (
	"fmt"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/health"
	"lantern/internal/core/notice"
)

// Backups is the state of the scheduled backups.
type Backups struct {
	Every  time.Duration // zero without a schedule
	Last   time.Time     // the newest that succeeded; zero when none did
	Since  time.Time     // since when this process knows the schedule
	Failed string        // error of the newest try; empty when it succeeded
	Folder string
}

// Backed records the state of backups.
func (s *Service) Backed(b Backups) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.own.backups = b
}

// Backups gives the state of backups.
func (s *Service) Backups() Backups {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.own.backups
}

// backedUp is the matter of backups; ok is false while they are made in time. A missed backup is reported after twice
// the interval, a failed one at once: it does not correct itself.
func (s *State) backedUp(now time.Time) (m notice.Matter, ok bool) {
	b := s.own.backups
	if b.Every == 0 {
		return m, false
	}
	from := b.Last
	if from.IsZero() {
		from = b.Since
	}
	late := now.Sub(from)
	if b.Failed == "" && late <= 2*b.Every {
		return m, false
	}
	last := "there is no backup of the service's records"
	if !b.Last.IsZero() {
		last = "the newest backup of the service's records is of " + b.Last.UTC().Format("2006-01-02 15:04Z")
	}
	m = notice.Matter{Key: "service/backup", Kind: notice.Service, Severity: health.Watch, Says: last,
		Do: fmt.Sprintf("Look at %s on the service's machine, and at the service's log.", b.Folder)}
	if b.Failed != "" {
		m.Says = fmt.Sprintf("a backup failed: %s; %s", b.Failed, last)
	}
	if late > 7*b.Every {
		m.Severity = health.Replace
	}
	return m, true
}

// Copying is the state of the continuous copy of the records for a standby.
type Copying struct {
	To     string    // empty when there is none
	Upto   time.Time // every change until then is in the copy; zero when nothing is
	Since  time.Time // since when this process makes it
	Failed string    // error of the newest check; empty when it succeeded
}

// copyLate is the delay of a copy above which people are notified, copyGrave the delay above which it is useless.
const (
	copyLate  = 2 * time.Minute
	copyGrave = time.Hour
)

// Copied records the state of the copy.
func (s *Service) Copied(c Copying) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.own.copying = c
}

// SilentSites records which sites of a headquarters cannot be reached.
func (s *Service) SilentSites(sites []api.Site) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.own.sites = sites
}

// silentSites are the matters of these sites: their own services may be unable to notify anybody.
func (s *State) silentSites() (out []notice.Matter) {
	for _, x := range s.own.sites {
		m := notice.Matter{Key: "service/site/" + x.Name, Kind: notice.Service, Severity: health.Watch, Says: "the site " +
			x.Name + " cannot be reached", Do: x.Do + "."}
		if !x.AsOf.IsZero() {
			m.Says += "; what is known of it is of " + x.AsOf.UTC().Format("2006-01-02 15:04Z")
		}
		out = append(out, m)
	}
	return out
}

// copyBehind is the matter of the copy; ok is false while its delay is small. now is real time.
func (s *State) copyBehind(now time.Time) (m notice.Matter, ok bool) {
	c := s.own.copying
	from := c.Upto
	if from.IsZero() {
		from = c.Since
	}
	late := now.Sub(from)
	if c.To == "" || late <= copyLate {
		return m, false
	}
	upto := "nothing of the service's records is in the copy for its standby"
	if !c.Upto.IsZero() {
		upto = "the copy of the service's records for its standby is of " + c.Upto.UTC().Format("2006-01-02 15:04Z")
	}
	m = notice.Matter{Key: "service/copy", Kind: notice.Service, Severity: health.Watch, Says: upto,
		Do: fmt.Sprintf("Later changes are lost with this machine. Check that %s can be reached, and look at the "+
			"service's log.", c.To)}
	if c.Failed != "" {
		m.Says += ": " + c.Failed
	}
	if late > copyGrave {
		m.Severity = health.Replace
	}
	return m, true
}
