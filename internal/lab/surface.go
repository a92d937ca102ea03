package lab

import (
	"context"
	"time"

	"lantern/internal/agent"
)

// stretch of a lab drive is large: its patterns stand for themselves, and only their time passes.
const labStretch = 100 << 30

// surface is a lab drive that is written from end to end.
type surface struct {
	h *Host
	d *Drive
}

func (h *Host) surface(d *Drive) func() (agent.Surface, error) {
	return func() (agent.Surface, error) {
		if err := h.read(d); err != nil {
			return nil, err
		}
		return surface{h, d}, nil
	}
}

func (s surface) Stretch() int64 { return labStretch }

func (s surface) Sync(context.Context) error { return nil }

// pass takes as long as the drive needs for so many bytes.
func (s surface) pass(ctx context.Context, n int64) error {
	if err := s.h.fleet.clock.Sleep(ctx, time.Duration(float64(n)/rateRotating*1e9)); err != nil {
		return err
	}
	s.h.fleet.mu.Lock()
	defer s.h.fleet.mu.Unlock()
	if st, ok := s.d.at(s.h.time()); !ok || st.Host != s.h.Name || s.h.Off {
		return errGone
	}
	return nil
}

func (s surface) Write(ctx context.Context, at, n int64, seed uint64) error {
	if err := s.pass(ctx, n); err != nil {
		return err
	}
	s.h.fleet.mu.Lock()
	defer s.h.fleet.mu.Unlock()
	if s.d.Written == nil {
		s.d.Written = map[int64]uint64{}
	}
	s.d.Written[at-at%labStretch] = seed
	return nil
}

func (s surface) Verify(ctx context.Context, at, n int64, seed uint64) (int64, error) {
	if err := s.pass(ctx, n); err != nil {
		return at, err
	}
	s.h.fleet.mu.Lock()
	defer s.h.fleet.mu.Unlock()
	for _, f := range s.d.Faults {
		if f.Kind == FaultWeakSpot && f.LBA*512 >= at && f.LBA*512 < at+n {
			return f.LBA * 512, nil
		}
	}
	if s.d.Written[at-at%labStretch] != seed {
		return at, nil
	}
	return -1, nil
}

func (s surface) Blank(context.Context, int64) error { return nil }
func (s surface) Close() error                       { return nil }
