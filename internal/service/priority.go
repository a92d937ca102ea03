package service

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/store"
)

// Priorities of recoveries by the hour: high at night, low by day, or as people like it.

// priorityTry is how long it is waited until a priority that did not take is ordered again.
const priorityTry = 10 * time.Minute

func (s *Service) loadPriorities() error {
	rows, err := store.All[store.PriorityHours](s.store, "pool", "")
	if err != nil {
		return err
	}
	s.hours, s.turned = map[string]api.PriorityHours{}, map[string]time.Time{}
	for _, row := range rows {
		var h api.PriorityHours
		if err := json.Unmarshal(row.Doc, &h); err != nil {
			return fmt.Errorf("priority hours of %s: %w", row.Pool, err)
		}
		s.hours[row.Pool] = h
	}
	return nil
}

// SetPriorityHours gives a pool's recoveries another priority within some hours of the day.
func (s *Service) SetPriorityHours(by, name string, h api.PriorityHours) (api.Pool, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, err := s.findPool(name)
	if err != nil {
		return api.Pool{}, err
	}
	_, err1 := time.Parse("15:04", h.From)
	_, err2 := time.Parse("15:04", h.To)
	_, err3 := time.LoadLocation(h.Zone)
	known := func(x string) bool { return slices.Contains([]string{"low", "normal", "high"}, x) }
	switch {
	case err1 != nil || err2 != nil || h.From == h.To:
		return api.Pool{}, problem(422, "bad-hours", "Such as from 22:00 to 06:00.", "From %q to %q are no hours of a day.", h.From, h.To)
	case err3 != nil:
		return api.Pool{}, problem(422, "bad-zone", "Such as Europe/Berlin.", "There is no zone %q.", h.Zone)
	case !known(string(h.Within)) || !known(string(h.Otherwise)):
		return api.Pool{}, problem(422, "bad-priority", "It is low, normal or high.", "%q and %q are no priorities.", h.Within, h.Otherwise)
	case len(p.offers) > 0 && !slices.Contains(p.offers, "priority"):
		return api.Pool{}, problem(409, "not-offered", "", "%s offers no priority.", p.Name)
	}
	b := &store.Batch{}
	b.Put(&store.PriorityHours{Pool: p.ID, Doc: document(h)})
	s.happened(b, api.EventKindPool, p.ID, fmt.Sprintf("%s gives recoveries in %s priority %s from %s to %s, and %s otherwise", by, p.Name, h.Within, h.From, h.To, h.Otherwise))
	if err := s.commit(b); err != nil {
		return api.Pool{}, err
	}
	s.hours[p.ID] = h
	delete(s.turned, p.ID)
	return s.viewPool(p), nil
}

// RemovePriorityHours leaves a pool's priority as it is now.
func (s *Service) RemovePriorityHours(by, name string) (api.Pool, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, err := s.findPool(name)
	if err != nil {
		return api.Pool{}, err
	}
	if _, ok := s.hours[p.ID]; !ok {
		return api.Pool{}, problem(404, "no-hours", "", "%s has no priority hours.", p.Name)
	}
	b := &store.Batch{}
	b.Drop(&store.PriorityHours{Pool: p.ID})
	s.happened(b, api.EventKindPool, p.ID, fmt.Sprintf("%s removed the priority hours of %s", by, p.Name))
	if err := s.commit(b); err != nil {
		return api.Pool{}, err
	}
	delete(s.hours, p.ID)
	return s.viewPool(p), nil
}

// wanted is the priority that a pool ought to have now by its hours.
func wanted(h api.PriorityHours, now time.Time) string {
	zone, err := time.LoadLocation(h.Zone)
	if err != nil {
		zone = time.UTC
	}
	at := now.In(zone).Format("15:04")
	in := h.From <= at && at < h.To
	if h.From > h.To {
		in = at >= h.From || at < h.To
	}
	if in {
		return string(h.Within)
	}
	return string(h.Otherwise)
}

// turnPriorities orders what the hours ask for.
func (s *Service) turnPriorities(b *store.Batch, now time.Time) {
	for id, h := range s.hours {
		p := s.pools[id]
		if p == nil || p.priority == "" || p.priority == wanted(h, now) || now.Sub(s.turned[id]) < priorityTry && !now.Before(s.turned[id]) {
			continue
		}
		if host := s.hosts[p.reporter]; host == nil || s.late(host, now) {
			continue
		}
		s.turned[id] = now
		s.order(b, &order{Order: api.Order{Host: p.reporter, Kind: api.OrderKindPriority, By: "its hours", Pool: id, Priority: wanted(h, now)}})
		s.happened(b, api.EventKindPool, id, fmt.Sprintf("%s: priority %s ordered by its hours", p.Name, wanted(h, now)))
	}
}
