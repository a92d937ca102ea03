package views

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"lantern/internal/api"
	"lantern/internal/service/fleet"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// Hosts lists all hosts.
func (s *Service) Hosts() []api.Host {
	s.mu.RLock()
	defer s.mu.RUnlock()
	out := make([]api.Host, 0, len(s.fleet.Hosts))
	for _, h := range s.fleet.Hosts {
		out = append(out, s.viewHost(h))
	}
	slices.SortFunc(out, func(a, b api.Host) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

func (s *State) viewHost(h *fleet.Host) api.Host {
	v := api.Host{
		Name:            h.Name,
		Room:            h.Room,
		Cold:            h.Cold,
		State:           api.HostStateReporting,
		SeenAt:          h.SeenAt,
		IntervalSeconds: h.Interval,
		Drives:          s.fleet.PresentOn(h.Name),
		Nameless:        h.LastReport.Nameless,
		ClockOffSeconds: -h.Skew.Seconds(),
		Refused:         h.RefusedOf(),
		Agent:           h.Agent,
		Formerly:        h.FormerNames(),
	}
	var controlled bool
	if v.Controller, controlled = fleet.ControllerOf(&h.Host); !controlled {
		v.Agent.Controller = api.ControllerState{}
	}
	for _, c := range fleet.CertificatesOf(&h.Host, time.Time{}) {
		v.CertificateEndsAt = c.Ends
	}
	switch {
	case h.SeenAt.IsZero():
		v.State = api.HostStateNever
	case s.fleet.Late(h, s.Clock.Now()):
		v.State = api.HostStateQuiet
	}
	return v
}

// SetRoom sets the room of a host.
func (s *Service) SetRoom(by, name, room string) (api.Host, error) {
	room = strings.Join(strings.Fields(room), " ")
	if n := utf8.RuneCountInString(room); n > 60 {
		return api.Host{}, problem.New(
			422,
			"bad-room",
			"For example: cellar, or hall 2.",
			"A room's name has up to 60 characters, this has %d.",
			n,
		)
	}
	return s.changeHost(name, func(h *store.Host) string {
		if h.Room == room {
			return ""
		}
		if h.Room = room; room == "" {
			return fmt.Sprintf("%s removed the room of %s", by, name)
		}
		return fmt.Sprintf("%s set the room of %s: %s", by, name, room)
	})
}

// SetCold sets whether a host's drives are replaced only while it is down.
func (s *Service) SetCold(by, name string, cold bool) (api.Host, error) {
	return s.changeHost(name, func(h *store.Host) string {
		if h.Cold == cold {
			return ""
		}
		if h.Cold = cold; cold {
			return by + " says that drives of " + name + " are changed only while it is down"
		}
		return by + " says that drives of " + name + " can be changed while it runs"
	})
}

// changeHost stores a person's setting of a host. change describes what it changed; empty when nothing changed.
func (s *Service) changeHost(name string, change func(h *store.Host) string) (api.Host, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := s.fleet.Hosts[name]
	if h == nil {
		return api.Host{}, fleet.NoHost(s.fleet, name)
	}
	row := h.Host
	if says := change(&row); says != "" {
		b := &store.Batch{}
		b.Put(&row)
		s.AddEvent(b, api.EventKindHost, name, says)
		if err := s.Commit(b); err != nil {
			return api.Host{}, err
		}
		h.Host = row
	}
	return s.viewHost(h), nil
}
