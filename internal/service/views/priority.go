package views

import (
	"fmt"
	"lantern/internal/api"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/store"
	"slices"
	"time"
)

// SetPriorityHours gives a pool's recoveries another priority within some hours of the day.
func (s *Service) SetPriorityHours(by, name string, h api.PriorityHours) (api.Pool, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, err := s.fleet.FindPool(name)
	if err != nil {
		return api.Pool{}, err
	}
	_, err1 := time.Parse("15:04", h.From)
	_, err2 := time.Parse("15:04", h.To)
	_, err3 := time.LoadLocation(h.Zone)
	known := func(x string) bool { return slices.Contains([]string{"low", "normal", "high"}, x) }
	switch {
	case err1 != nil || err2 != nil || h.From == h.To:
		return api.Pool{}, problem.New(422, "bad-hours", "Such as from 22:00 to 06:00.", "From %q to %q are no hours of a day.", h.From, h.To)
	case err3 != nil:
		return api.Pool{}, problem.New(422, "bad-zone", "Such as Europe/Berlin.", "There is no zone %q.", h.Zone)
	case !known(string(h.Within)) || !known(string(h.Otherwise)):
		return api.Pool{}, problem.New(422, "bad-priority", "It is low, normal or high.", "%q and %q are no priorities.", h.Within, h.Otherwise)
	case len(p.Offers) > 0 && !slices.Contains(p.Offers, "priority"):
		return api.Pool{}, problem.New(409, "not-offered", "", "%s offers no priority.", p.Name)
	}
	b := &store.Batch{}
	b.Put(&store.PriorityHours{Pool: p.ID, Doc: ledger.Document(h)})
	s.Happened(b, api.EventKindPool, p.ID, fmt.Sprintf("%s gives recoveries in %s priority %s from %s to %s, and %s otherwise", by, p.Name, h.Within, h.From, h.To, h.Otherwise))
	if err := s.Commit(b); err != nil {
		return api.Pool{}, err
	}
	s.progress.Hours[p.ID] = h
	delete(s.progress.Turned, p.ID)
	return s.viewPool(p), nil
}

// RemovePriorityHours leaves a pool's priority as it is now.
func (s *Service) RemovePriorityHours(by, name string) (api.Pool, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, err := s.fleet.FindPool(name)
	if err != nil {
		return api.Pool{}, err
	}
	if _, ok := s.progress.Hours[p.ID]; !ok {
		return api.Pool{}, problem.New(404, "no-hours", "", "%s has no priority hours.", p.Name)
	}
	b := &store.Batch{}
	b.Drop(&store.PriorityHours{Pool: p.ID})
	s.Happened(b, api.EventKindPool, p.ID, fmt.Sprintf("%s removed the priority hours of %s", by, p.Name))
	if err := s.Commit(b); err != nil {
		return api.Pool{}, err
	}
	delete(s.progress.Hours, p.ID)
	return s.viewPool(p), nil
}
