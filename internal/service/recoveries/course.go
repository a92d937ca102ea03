package recoveries

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/service/fleet"
	"lantern/internal/store"
	"lantern/internal/wire"
)

// PlacesOf are the places in one pool by drive.
func (s *State) PlacesOf(p *fleet.Pool, out map[string][]fleet.Place) {
	filling := map[string]bool{}
	for _, id := range p.Running {
		if c := s.Courses[id]; c != nil && c.State == recovery.Running {
			filling[c.Report.Drive] = true
		}
	}
	p.Everyone(func(group string, m *pool.Member) {
		for _, key := range append([]string{m.Drive}, m.Drives...) {
			if key != "" {
				out[key] = append(out[key], fleet.Place{Pool: p, Member: *m, Group: group, Filling: filling[key]})
			}
		}
	})
	for _, g := range p.Groups {
		var keys []string
		for _, m := range g.Members {
			keys = append(keys, m.Drive)
		}
		for _, k := range keys {
			for i := range out[k] {
				if out[k][i].Group == g.Name {
					out[k][i].Peers = keys
				}
			}
		}
	}
}

// CopyOf is a pool as its host reported it, with the records of its recoveries.
func (s *State) CopyOf(p *fleet.Pool) api.PoolReport {
	var rs []recovery.Report
	for _, c := range s.Of(p.ID) {
		rs = append(rs, c.Report)
	}
	slices.SortFunc(rs, func(a, b recovery.Report) int { return a.StartedAt.Compare(b.StartedAt) })
	const most = 8
	rs = rs[max(0, len(rs)-most):]
	r := wire.Pool(p.Pool, rs)
	r.Offers, r.Priority, r.Waits = p.Offers, p.Priority, p.Waits
	return r
}

func LastMove(c *Course) time.Time {
	for i := len(c.Samples) - 1; i > 0; i-- {
		if c.Samples[i].Done > c.Samples[i-1].Done {
			return c.Samples[i].At
		}
	}
	return c.StartedAt
}

type Course struct {
	recovery.Report
	PoolID   string            `json:"pool_id"`
	PoolName string            `json:"pool_name"`
	SeenAt   time.Time         `json:"seen_at"`
	Turns    []turn            `json:"turns,omitempty"` // of its priority
	Pause    *time.Duration    `json:"pause,omitempty"` // the longest, of a course that was thinned out
	Samples  []recovery.Sample `json:"-"`
	// Distribution of its time; nil while it runs, and for a recovery that was not seen completely
	Profile  *recovery.Profile `json:"-"`
	Scores   []float64         `json:"-"` // scores of its ranges
	Profiled bool              `json:"-"`
	Scored   bool              `json:"-"`
	Told     *recovery.Range   `json:"-"` // its finish, computed from toldOf
	ToldOf   ToldOf            `json:"-"`
}

// ToldOf are the inputs of a finish.
type ToldOf struct {
	Samples, Past, Kin, Scores int
	Done                       drive.Bytes
	Reach                      float64
}

// turn is a change of a recovery's priority.
type turn struct {
	At       time.Time `json:"at"`
	Priority string    `json:"priority"`
}

// LoadRecoveries loads the courses from the store.
func (s *State) LoadRecoveries() error {
	s.Courses, s.lists = map[string]*Course{}, lists{}
	return s.load("", "")
}

// load adds the matching courses, and their samples.
func (s *State) load(where, samplesWhere string, args ...any) error {
	rows, err := store.All[store.Recovery](s.Store, "started", where, args...)
	if err != nil {
		return err
	}
	for _, row := range rows {
		c := &Course{}
		if err := json.Unmarshal(row.Doc, c); err != nil {
			return fmt.Errorf("recovery %s: %w", row.ID, err)
		}
		s.Courses[row.ID] = c
	}
	s.added()
	samples, err := store.All[store.Sample](s.Store, "recovery, at", samplesWhere, args...)
	if err != nil {
		return err
	}
	for _, row := range samples {
		if c := s.Courses[row.Recovery]; c != nil {
			c.Samples = append(
				c.Samples,
				recovery.Sample{
					At:   time.UnixMilli(row.At).UTC(),
					Done: drive.Bytes(row.Done),
					Todo: drive.Bytes(row.Todo),
				},
			)
		}
	}
	return nil
}

func (s *State) LastScrub(poolID string) (at time.Time, clean bool) {
	for _, c := range s.Of(poolID) {
		if c.Report.Kind == recovery.Scrub && c.Report.State == recovery.Finished &&
			c.Report.EndedAt.After(at) {
			at, clean = c.Report.EndedAt, c.Report.Unrepairable == 0
		}
	}
	return at, clean
}

// Newest is the running recovery of a pool, else the one that began last; only of a slot, if one is given.
func (s *State) Newest(poolID, slot string) (best *Course) {
	for _, c := range s.Of(poolID) {
		if slot != "" && c.Report.Slot != slot {
			continue
		}
		if best == nil || Running(c) && !Running(best) ||
			Running(c) == Running(best) &&
				cmp.Or(c.Report.StartedAt.Compare(best.Report.StartedAt), cmp.Compare(best.ID, c.ID)) > 0 {
			best = c
		}
	}
	return best
}

func Running(c *Course) bool {
	return c.Report.State == recovery.Running || c.Report.State == recovery.Paused
}
