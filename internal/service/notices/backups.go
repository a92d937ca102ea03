package notices

import (
	"fmt"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/health"
	"lantern/internal/core/notice"
)

// Backups is how the scheduled backups of the records stand.
type Backups struct {
	Every  time.Duration // zero without a schedule
	Last   time.Time     // the newest that succeeded; zero when none did
	Since  time.Time     // since when there is a schedule, as far as this process knows
	Failed string        // why the newest try failed; empty when it did not
	Folder string
}

// Backed notes how backups stand.
func (s *Service) Backed(b Backups) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.own.backups = b
}

// Backups says how backups stand.
func (s *Service) Backups() Backups {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.own.backups
}

// backedUp is what is to be told of backups; ok is false while they come in time. One that is missed is told after
// twice the time, one that has failed at once: it does not mend itself.
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

// Copying is how the copy of the records stands that is made for a standby as they change.
type Copying struct {
	To     string    // empty when there is none
	Upto   time.Time // every change until then is there; zero when nothing is
	Since  time.Time // since when it is made, as far as this process knows
	Failed string    // why the newest look failed; empty when it did not
}

// copyLate is how far behind a copy may be before people are told, and copyGrave before it is of no use.
const (
	copyLate  = 2 * time.Minute
	copyGrave = time.Hour
)

// Copied notes how the copy stands.
func (s *Service) Copied(c Copying) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.own.copying = c
}

// SilentSites notes which sites of a headquarters cannot be reached.
func (s *Service) SilentSites(sites []api.Site) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.own.sites = sites
}

// silentSites is what is to be told of them: their own services may tell nobody any more.
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

// copyBehind is what is to be told of the copy; ok is false while it is not far behind. now is real time.
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
