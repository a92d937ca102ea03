package fleet

import (
	"encoding/json"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/service/problem"
	"lantern/internal/service/secret"
	"lantern/internal/store"
	"lantern/internal/wire"
)

func (s *State) RoomOf(name string) string {
	if h := s.Hosts[name]; h != nil {
		return h.Room
	}
	return ""
}

var hostName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// CheckHostName refuses what cannot be a host's name.
func CheckHostName(name string) error {
	if hostName.MatchString(name) {
		return nil
	}
	return problem.New(
		422,
		"bad-name",
		"Use small letters, digits and hyphens, such as skerry-2.",
		"%q cannot be a host's name.",
		name,
	)
}

// Enrol adds a host and issues a token. A known host gets a new one only if that is requested explicitly: its agent is
// locked out until it has the new token.
func (s *Service) Enrol(by, name string, renew bool) (string, error) {
	if err := CheckHostName(name); err != nil {
		return "", err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	token := secret.New(secret.HostPrefix)
	h := s.Hosts[name]
	switch {
	case h != nil && !renew:
		return "", problem.New(409, "host-exists",
			"If its agent needs a new token: lantern host renew "+name+". Until it has that, it cannot report.",
			"%s is enrolled already.", name)
	case h == nil && renew:
		return "", problem.New(
			404,
			"no-host",
			"Enrol it with: lantern host enrol "+name,
			"No host named %q is enrolled.",
			name,
		)
	case h == nil:
		if err := NameFree(s.State, name, nil); err != nil {
			return "", err
		}
		h = &Host{Host: store.Host{Name: name, Enrolled: s.Clock.Now()}}
		s.Hosts[name] = h
	}
	h.TokenHash, h.Certificates = secret.Hash(token), nil
	row := h.Host
	b := &store.Batch{}
	b.Put(&row)
	did := map[bool]string{false: "enrolled", true: "gave another token to"}[renew]
	s.AddEvent(b, api.EventKindHost, name, fmt.Sprintf("%s %s %s", by, did, name))
	return token, s.Commit(b)
}

// TokenFor issues a token for a known or unknown host: for an administrator of the service's own machine.
func (s *Service) TokenFor(by, name string) (string, error) {
	s.mu.Lock()
	known := s.Hosts[name] != nil
	s.mu.Unlock()
	return s.Enrol(by, name, known)
}

type Host struct {
	store.Host
	LastReport api.Report
	Quiet      bool
	Taken      []string      // ids of its newest reports
	Skew       time.Duration // difference between its clock and ours in the newest report
	Refused    api.RefusedReports
	started    time.Time      // when it was started, by our clock, as its newest report has it
	Heard      bool           // it has reported since the service was started
	Agent      api.AgentState // what its agent reported about itself with the newest report; empty after a start
}

// SetPractice marks this service as a rehearsal: everything that it writes says so.
func (s *Service) SetPractice(p api.Practice) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.Practice = p
}

// Late reports whether two reports of a host were missed (R7).
func (s *State) Late(h *Host, now time.Time) bool {
	return h.SeenAt.IsZero() || now.Sub(h.SeenAt) > time.Duration(2*h.Interval*float64(time.Second))
}

// idsAtHand is the number of ids of a host's newest reports that are kept in memory.
const IdsAtHand = 64

// withoutReadings is the part of a report that the next one is compared with: what exists, without times.
func withoutReadings(r api.Report) api.Report {
	r.Id, r.At = "", time.Time{}
	r.Drives = slices.Clone(r.Drives)
	for i := range r.Drives {
		r.Drives[i].Reading, r.Drives[i].Busy, r.Drives[i].Rhythm = api.Reading{}, 0, false
		r.Drives[i].Surface = api.SurfaceReport{}
	}
	r.Pools = slices.Clone(r.Pools)
	for i := range r.Pools {
		r.Pools[i].Witness.At = time.Time{}
	}
	return r
}

// lasts reports whether a report without its readings and times is what was kept of an earlier one.
func lasts(r, kept *api.Report) bool {
	if len(r.Drives) != len(kept.Drives) {
		return false
	}
	for i := range r.Drives {
		if !sameDrive(&r.Drives[i], &kept.Drives[i]) {
			return false
		}
	}
	a, b := *r, *kept
	a.Drives, b.Drives = nil, nil
	a = withoutReadings(a)
	return reflect.DeepEqual(&a, &b)
}

// sameDrive reports whether two reports of a drive differ in nothing that withoutReadings keeps.
func sameDrive(a, b *api.DriveReport) bool {
	return a.Identity == b.Identity && a.Path == b.Path && a.Section == b.Section && a.Bay == b.Bay &&
		a.CapacityBytes == b.CapacityBytes && a.LogicalSectorBytes == b.LogicalSectorBytes &&
		a.PhysicalSectorBytes == b.PhysicalSectorBytes && a.Firmware == b.Firmware && a.FormFactor == b.FormFactor &&
		a.Medium == b.Medium && a.RotationRpm == b.RotationRpm && a.Zoned == b.Zoned && a.Port == b.Port &&
		a.Blind == b.Blind && a.Looked == b.Looked &&
		slices.Equal(a.Holds, b.Holds) && slices.Equal(a.Names, b.Names) &&
		reflect.DeepEqual(&a.Layout, &b.Layout) && reflect.DeepEqual(a.Paths, b.Paths) && reflect.DeepEqual(a.Uses, b.Uses)
}

// beside is the rest of the newest report of a host, as stored: so that after a start everything is shown as before.
type beside struct {
	Agent   api.AgentState     `json:"agent,omitzero"`
	Skew    time.Duration      `json:"skew,omitempty"`
	Refused api.RefusedReports `json:"refused,omitzero"`
	Started time.Time          `json:"started,omitzero"`
	Busy    map[string]float64 `json:"busy,omitempty"`
	At      time.Time          `json:"at"` // of the report
	// Witness is when the metadata on the members of each pool were read.
	Witness map[string]time.Time `json:"witness,omitempty"`
	// Read is when most of its drives were read, ReadElse when each of the others was; a drive's own record is written
	// only if something else changed as well. Both are empty in records of earlier versions.
	Read     time.Time            `json:"read,omitzero"`
	ReadElse map[string]time.Time `json:"read_else,omitempty"`
}

func (h *Host) besides(drives []DriveChange, pools []api.PoolReport) beside {
	b := beside{
		Agent:   h.Agent,
		Skew:    h.Skew,
		Refused: h.Refused,
		Started: h.started,
		At:      h.SeenAt,
		Busy:    map[string]float64{},
	}
	for _, p := range pools {
		if !p.Witness.At.IsZero() {
			if b.Witness == nil {
				b.Witness = map[string]time.Time{}
			}
			b.Witness[p.Id] = p.Witness.At
		}
	}
	times := map[time.Time]int{}
	for _, x := range drives {
		if x.Drive.Busy != 0 {
			b.Busy[x.Key] = x.Drive.Busy
		}
		at := x.Drive.Reading.At
		if times[at]++; times[at] > times[b.Read] {
			b.Read = at
		}
	}
	for _, x := range drives {
		if at := x.Drive.Reading.At; at != b.Read {
			if b.ReadElse == nil {
				b.ReadElse = map[string]time.Time{}
			}
			b.ReadElse[x.Key] = at
		}
	}
	return b
}

// told gives the stored rest of the newest report; empty in records of earlier versions.
func (h *Host) told() (b beside, err error) {
	if len(h.Host.Beside) == 0 {
		return b, nil
	}
	if err = json.Unmarshal(h.Host.Beside, &b); err != nil {
		err = fmt.Errorf("what %s told beside: %w", h.Name, err)
	}
	return b, err
}

// takePools restores the pools of a host's newest report.
func takePools(s *State, h *Host) error {
	b, err := h.told()
	if err != nil {
		return err
	}
	for _, p := range h.LastReport.Pools {
		p.Witness.At = b.Witness[p.Id]
		s.TakePool(h.Name, h.SeenAt, p)
	}
	return nil
}

// remember restores the state of a host after its newest report.
func remember(s *State, h *Host) error {
	b, err := h.told()
	if err != nil {
		return err
	}
	h.Agent, h.Skew, h.Refused, h.started = b.Agent, b.Skew, b.Refused, b.Started
	for key, busy := range b.Busy {
		if d := s.Drives[key]; d != nil && d.Host == h.Name {
			d.Busy, d.busyAt = busy, b.At
		}
	}
	catchUp(s, h, b, nil)
	return nil
}

// catchUp adds to the records of a host's drives when they were seen and read last by its newest report. which are
// their keys; nil means all.
func catchUp(s *State, h *Host, b beside, which map[string]bool) {
	for _, r := range h.LastReport.Drives {
		key := wire.ToIdentity(r.Identity).Key()
		d := s.Drives[key]
		if d == nil || d.Host != h.Name || which != nil && !which[key] {
			continue
		}
		at, other := b.ReadElse[key]
		if !other {
			at = b.Read
		}
		if at.After(d.Reading.At) {
			d.Reading.At = at
		}
		if d.Present && b.At.After(d.SeenAt) {
			d.SeenAt = b.At
		}
	}
}

// HearAgent records what a host's agent reports about itself.
func (s *Service) HearAgent(host string, a api.AgentState) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if h := s.Hosts[host]; h != nil {
		h.Agent = a
	}
}
