package recoveries

import (
	"encoding/json"
	"fmt"
	"lantern/internal/core/drive"
	"lantern/internal/core/recovery"
	"lantern/internal/store"
	"time"
)

type Course struct {
	recovery.Report
	PoolID   string            `json:"pool_id"`
	PoolName string            `json:"pool_name"`
	SeenAt   time.Time         `json:"seen_at"`
	Turns    []turn            `json:"turns,omitempty"` // of its priority
	Samples  []recovery.Sample `json:"-"`
	Profile  *recovery.Profile `json:"-"` // how its time was spread; nil while it runs, and for one that was not seen whole
	Scores   []float64         `json:"-"` // how right its ranges were
	Profiled bool              `json:"-"`
	Scored   bool              `json:"-"`
	Told     *recovery.Range   `json:"-"` // its finish, worked out from toldOf
	ToldOf   ToldOf            `json:"-"`
}

// ToldOf is what a finish was worked out from.
type ToldOf struct {
	Samples, Past, Kin, Scores int
	Done                       drive.Bytes
	Reach                      float64
}

// turn is when a recovery's priority became another.
type turn struct {
	At       time.Time `json:"at"`
	Priority string    `json:"priority"`
}

func (s *State) LoadRecoveries() error {
	s.Courses = map[string]*Course{}
	rows, err := store.All[store.Recovery](s.Store, "started", "")
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
	samples, err := store.All[store.Sample](s.Store, "recovery, at", "")
	if err != nil {
		return err
	}
	for _, row := range samples {
		if c := s.Courses[row.Recovery]; c != nil {
			c.Samples = append(c.Samples, recovery.Sample{At: time.UnixMilli(row.At).UTC(), Done: drive.Bytes(row.Done), Todo: drive.Bytes(row.Todo)})
		}
	}
	return nil
}
