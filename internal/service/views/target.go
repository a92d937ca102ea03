package views

import (
	"slices"
	"strings"

	"lantern/internal/core/enclosure"
	"lantern/internal/core/notice"
	"lantern/internal/service/people"
)

// TargetOf gives the host and pool of an object: a drive, its tail or bay, a pool, a host, a swap, a campaign, an
// acceptance, a light, a notice. ok is false for an object without both.
func (s *Service) TargetOf(kind, name string) (t people.Target, ok bool) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	switch kind {
	case "drive", "tail", "stock":
		d, err := s.fleet.FindDrive(name)
		if err != nil {
			return t, false
		}
		return people.Target{Host: d.Host, Pool: s.poolOf(name)}, true
	case "bay", "spot":
		a, err := enclosure.ParseAddress(strings.TrimSpace(name))
		if err != nil {
			return t, false
		}
		return people.Target{Host: a.Host, Pool: s.poolOf(name)}, true
	case "pool":
		p, err := s.fleet.FindPool(name)
		if err != nil {
			return t, false
		}
		return people.Target{Host: p.Reporter, Pool: p.Name}, true
	case "host":
		return people.Target{Host: name}, s.fleet.Hosts[name] != nil
	case "light":
		if l := s.bays.LightByID[name]; l != nil {
			host, _, _ := strings.Cut(l.Bay, "/")
			return people.Target{Host: host}, true
		}
		return t, false
	}
	return s.targetOfWork(kind, name)
}

// poolOf is the pool in which a drive has a place, by the drive's name; empty for none.
func (s *State) poolOf(name string) string {
	if d, err := s.fleet.FindDrive(name); err == nil {
		if p, _, _ := s.fleet.Member(d.Key()); p != nil {
			return p.Name
		}
	}
	return ""
}

// targetOfWork is the target of a swap, a campaign, an acceptance or a notice.
func (s *State) targetOfWork(kind, name string) (t people.Target, ok bool) {
	switch kind {
	case "swap":
		if w := s.swaps.SwapByID[name]; w != nil {
			return people.Target{Host: w.Host, Pool: w.Pool}, true
		}
	case "campaign":
		if c, err := s.swaps.FindCampaign(name); err == nil {
			if p, err := s.fleet.FindPool(c.Pool); err == nil {
				return people.Target{Host: p.Reporter, Pool: p.Name}, true
			}
		}
	case "acceptance":
		if a, err := s.stock.FindAcceptance(name); err == nil {
			return people.Target{Host: a.Host}, true
		}
	case "notice":
		if i := slices.IndexFunc(s.swaps.News(), func(n notice.Notice) bool {
			return n.ID == name || len(name) >= 5 && strings.HasSuffix(n.ID, name)
		}); i >= 0 {
			n := s.swaps.News()[i]
			return people.Target{Host: n.Host, Pool: n.Pool}, true
		}
	}
	return t, false
}
