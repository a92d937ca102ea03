package fleet

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/service/problem"
	"lantern/internal/service/secret"
	"lantern/internal/store"
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

// Enrol makes a host known and gives it a token. One that is known gets another only where that is said: its agent is
// shut out until it has the new one.
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

// TokenFor gives a host a token, known or not: for who holds the service itself.
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
	Skew       time.Duration // how far its clock was behind ours in the newest report
	Refused    api.RefusedReports
	started    time.Time      // when it was started, by our clock, as its newest report has it
	Heard      bool           // it has reported since the service was started
	Agent      api.AgentState // what its agent said of itself with the newest report; nothing after a start
}

// SetPractice makes this service a practice: what it writes says so.
func (s *Service) SetPractice(p api.Practice) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.Practice = p
}

// Late says whether two reports of a host were missed (R7).
func (s *State) Late(h *Host, now time.Time) bool {
	return h.SeenAt.IsZero() || now.Sub(h.SeenAt) > time.Duration(2*h.Interval*float64(time.Second))
}

// idsAtHand is how many ids of a host's newest reports are known without a look into the store.
const IdsAtHand = 64

// withoutReadings is what is kept of a report to compare the next one with: what is there, whenever it was told.
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

// beside is what the newest report of a host told beside what is there, as it is kept: so that after a start everything
// is shown as it was.
type beside struct {
	Agent   api.AgentState     `json:"agent,omitzero"`
	Skew    time.Duration      `json:"skew,omitempty"`
	Refused api.RefusedReports `json:"refused,omitzero"`
	Started time.Time          `json:"started,omitzero"`
	Busy    map[string]float64 `json:"busy,omitempty"`
	At      time.Time          `json:"at"` // of the report
	// Witness is when the marks on the members of each pool were read.
	Witness map[string]time.Time `json:"witness,omitempty"`
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
	for _, x := range drives {
		if x.Drive.Busy != 0 {
			b.Busy[x.Key] = x.Drive.Busy
		}
	}
	return b
}

// told is what is kept of what the newest report told beside what is there; nothing in records of before that was kept.
func (h *Host) told() (b beside, err error) {
	if len(h.Host.Beside) == 0 {
		return b, nil
	}
	if err = json.Unmarshal(h.Host.Beside, &b); err != nil {
		err = fmt.Errorf("what %s told beside: %w", h.Name, err)
	}
	return b, err
}

// takePools takes the pools of a host's newest report again.
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

// remember makes a host what it was when its newest report had been taken.
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
	return nil
}

// HearAgent notes what a host's agent says of itself.
func (s *Service) HearAgent(host string, a api.AgentState) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if h := s.Hosts[host]; h != nil {
		h.Agent = a
	}
}
