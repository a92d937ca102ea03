package progress

import (
	"encoding/json"
	"fmt"
	"time"

	"lantern/internal/api"
	"lantern/internal/service/fleet"
	"lantern/internal/service/orders"
	"lantern/internal/store"
)

// Priorities of recoveries by the hour, for example high at night and low by day.

// priorityTry is the time after which a priority that did not take effect is ordered again.
const priorityTry = 10 * time.Minute

func (s *State) LoadPriorities() error {
	rows, err := store.All[store.PriorityHours](s.Store, "pool", "")
	if err != nil {
		return err
	}
	s.Hours, s.Turned = map[string]api.PriorityHours{}, map[string]time.Time{}
	for _, row := range rows {
		var h api.PriorityHours
		if err := json.Unmarshal(row.Doc, &h); err != nil {
			return fmt.Errorf("priority hours of %s: %w", row.Pool, err)
		}
		s.Hours[row.Pool] = h
	}
	return nil
}

// wanted is the priority of a pool now, by its hours.
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

// Tick orders the priorities of the present hours.
func (s *State) Tick(t *fleet.Tick) {
	b, now := t.Batch, t.Now
	for id, h := range s.Hours {
		p := s.fleet.Pools[id]
		if p == nil || p.Priority == "" || p.Priority == wanted(h, now) ||
			now.Sub(s.Turned[id]) < priorityTry && !now.Before(s.Turned[id]) {
			continue
		}
		if host := s.fleet.Hosts[p.Reporter]; host == nil || s.fleet.Late(host, now) {
			continue
		}
		s.Turned[id] = now
		s.orders.Give(
			b,
			&orders.Order{
				Order: api.Order{
					Host:     p.Reporter,
					Kind:     api.OrderKindPriority,
					By:       "its hours",
					Pool:     id,
					Priority: wanted(h, now),
				},
			},
		)
		s.AddEvent(
			b,
			api.EventKindPool,
			id,
			fmt.Sprintf("%s: priority %s ordered by its hours", p.Name, wanted(h, now)),
		)
	}
}
