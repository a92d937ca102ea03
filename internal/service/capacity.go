package service

import (
	"fmt"
	"slices"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/capacity"
	"lantern/internal/core/drive"
	"lantern/internal/core/words"
	"lantern/internal/service/views"
	"lantern/internal/store"
)

// forecastFrom is how much of a pool's past a forecast uses.
const forecastFrom = 180 * 24 * time.Hour

// Capacity gives the forecasts of pools, and the approximate gain from more or larger drives.
func (s *Service) Capacity(asked api.ListCapacityParams) ([]api.PeriodCapacity, error) {
	pools := s.Views.AllPools()
	if asked.Pool != "" {
		one, err := s.Views.Pool(asked.Pool)
		if err != nil {
			return nil, err
		}
		pools = []api.Pool{one}
	}
	return s.capacityOf(pools, drive.Bytes(asked.DriveBytes))
}

// capacityOf is Capacity for some pools, the first to be full first. size is that of the larger drives; 0 means twice
// the largest of a pool.
func (s *Service) capacityOf(pools []api.Pool, size drive.Bytes) ([]api.PeriodCapacity, error) {
	out := []api.PeriodCapacity{}
	now := s.Clock.Now()
	for _, x := range pools {
		v := api.PeriodCapacity{
			Pool: x.Name, CapacityBytes: x.CapacityBytes, UsedBytes: x.UsedBytes, UsedUnknown: x.UsedUnknown,
			Stale: x.Stale || !x.NotSeenSince.IsZero(), SeenAt: x.SeenAt, Ways: []api.CapacityWay{},
		}
		rows, err := store.All[store.PoolUse](
			s.Store,
			"at",
			"pool = ? and at > ?",
			x.Id,
			now.Add(-forecastFrom).UnixMilli(),
		)
		if err != nil {
			return nil, err
		}
		var uses []capacity.Use
		if x.UsedUnknown {
			rows = nil // earlier data says nothing about the present
		}
		for _, u := range rows {
			uses = append(uses, capacity.Use{At: time.UnixMilli(u.At), Used: float64(u.Used)})
		}
		if f, ok := capacity.Of(uses, float64(x.CapacityBytes), now); ok {
			v.Days, v.GrowthBytesPerDay, v.Soonest, v.Likely, v.Latest = f.Days, f.Growth, f.Soonest, f.Likely, f.Latest
		}
		var ways []capacity.Way
		ways, v.WaysKnown = s.waysOf(x.Id, size)
		for _, w := range ways {
			way := api.CapacityWay{
				Kind: api.CapacityWayKind(w.Kind), Says: sayWay(w), Drives: w.Drives, DriveBytes: int64(w.Size),
				AddsBytes: int64(w.Adds),
			}
			if f, ok := capacity.Of(uses, float64(x.CapacityBytes+way.AddsBytes), now); ok {
				way.Soonest, way.Likely, way.Latest = f.Soonest, f.Likely, f.Latest
			}
			v.Ways = append(v.Ways, way)
		}
		out = append(out, v)
	}
	slices.SortStableFunc(out, views.FullFirst)
	return out, nil
}

func (s *Service) waysOf(id string, size drive.Bytes) ([]capacity.Way, bool) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	p := s.Fleet.Pools[id]
	if p == nil || p.Wrong != "" || p.Torn {
		return nil, false
	}
	return capacity.Ways(&p.Pool, size)
}

func sayWay(w capacity.Way) string {
	drives := fmt.Sprintf("%s of %s", words.Count(w.Drives, "drive"), size(int64(w.Size)))
	if w.Size == 0 {
		drives = words.Count(w.Drives, "drive") + " of the same sizes"
	}
	switch w.Kind {
	case capacity.AnotherGroup:
		return fmt.Sprintf("another group like %s: %s", w.Like, drives)
	case capacity.AnotherHost:
		return fmt.Sprintf("another host like %s: %s", w.Like, drives)
	case capacity.AnotherDrive:
		return fmt.Sprintf("one more drive of %s", size(int64(w.Size)))
	}
	return fmt.Sprintf("larger drives: %s in place of smaller ones", drives)
}
