package fleet

import (
	"encoding/json"
	"errors"
	"fmt"

	"lantern/internal/store"
)

// Undo reads the hosts, drives and layouts of a failed batch again from the store.
func (s *State) Undo(b *store.Batch) error {
	var failed []error
	for _, row := range store.Of[store.Drive](b) {
		failed = append(failed, s.drive(row.Key))
	}
	for _, row := range store.Of[store.Host](b) {
		failed = append(failed, s.host(row.Name))
	}
	of := map[string]map[string]bool{} // keys of the drives, by host
	for _, row := range store.Of[store.Drive](b) {
		if d := s.Drives[row.Key]; d != nil {
			if of[d.Host] == nil {
				of[d.Host] = map[string]bool{}
			}
			of[d.Host][row.Key] = true
		}
	}
	for host, keys := range of {
		if h := s.Hosts[host]; h != nil {
			told, err := h.told()
			failed = append(failed, err)
			catchUp(s, h, told, keys)
		}
	}
	if len(store.Of[store.Layout](b))+len(store.Of[store.Spot](b)) > 0 {
		failed = append(failed, s.LoadLayouts())
	}
	if len(store.Of[store.PoolName](b)) > 0 {
		failed = append(failed, s.loadNames())
	}
	return errors.Join(failed...)
}

// drive restores the facts of a drive from the store, and removes a drive that is not there.
func (s *State) drive(key string) error {
	d := s.Drives[key]
	row, err := store.One[store.Drive](s.Store, "key = ?", key)
	switch {
	case d == nil:
		return nil
	case errors.Is(err, store.ErrNone):
		unknow(s, key, d)
		return nil
	case err != nil:
		return err
	}
	var facts Facts
	if err := json.Unmarshal(row.Doc, &facts); err != nil {
		return fmt.Errorf("facts of drive %s: %w", key, err)
	}
	d.Facts = facts
	d.Touch()
	return nil
}

// host restores a host and its pools from the store.
func (s *State) host(name string) error {
	h := s.Hosts[name]
	row, err := store.One[store.Host](s.Store, "name = ?", name)
	switch {
	case h == nil:
		return nil
	case errors.Is(err, store.ErrNone):
		delete(s.Hosts, name)
		return nil
	case err != nil:
		return err
	}
	was := Host{
		Host:    row,
		Taken:   h.Taken,
		Quiet:   h.Quiet,
		Skew:    h.Skew,
		Refused: h.Refused,
		Heard:   h.Heard,
		started: h.started,
		Agent:   h.Agent,
	}
	if len(row.Report) > 0 {
		if err := json.Unmarshal(row.Report, &was.LastReport); err != nil {
			return fmt.Errorf("report of host %s: %w", name, err)
		}
	}
	*h = was
	before := map[string]*Pool{}
	for id, p := range s.Pools {
		if p.Reporter == name {
			before[id] = p
			p.At = h.SeenAt // so that the restored report is no older
		}
	}
	if err := takePools(s, h); err != nil {
		return err
	}
	for _, p := range h.LastReport.Pools {
		delete(before, p.Id)
	}
	for id := range before {
		s.drop(id)
	}
	// A pool that this host had taken over belongs to the previous host again: it must not be removed, or its drives
	// would look unused (R7).
	for _, other := range s.Hosts {
		for _, p := range other.LastReport.Pools {
			if before[p.Id] != nil {
				s.TakePool(other.Name, other.SeenAt, p)
			}
		}
	}
	s.Names.twins = nil
	return nil
}
