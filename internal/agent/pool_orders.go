package agent

import (
	"context"
	"errors"
	"path/filepath"

	"lantern/internal/agent/pools"
	"lantern/internal/api"
	"lantern/internal/core/recovery"
	"lantern/internal/wire"
)

// joinOrAdmit replaces a member by a drive, or adds a drive to a pool.
func (a *Agent) joinOrAdmit(ctx context.Context, o api.Order) (string, error) {
	t, release, err := a.resolve(ctx, o)
	if err != nil {
		return "", err
	}
	defer release()
	a.again.Store(true)
	if o.Kind == api.OrderKindJoin {
		return askPools(a, func(d pools.Joiner) (string, error) { return d.Join(ctx, o.Pool, o.Slot, t) })
	}
	return askPools(a, func(d pools.Admitter) (string, error) { return d.Admit(ctx, o.Pool, t) })
}

// whatIsAt asks the pool of a drive what it stores at an address.
func (a *Agent) whatIsAt(ctx context.Context, o api.Order) (string, error) {
	f, d, err := a.find(ctx, wire.ToIdentity(o.Drive))
	if err != nil {
		return "", err
	}
	says, err := askPools(a, func(p pools.Addresser) (string, error) {
		return p.WhatIsAt(ctx, f.Path, uint64(o.FirstLba)*uint64(max(d.LogicalSector, 512)))
	})
	if errors.Is(err, pools.ErrNotOffered) {
		return "", refuse("its pool cannot say what is there")
	}
	return says, err
}

// beginTask begins work of a pool that takes a while.
func (a *Agent) beginTask(ctx context.Context, o api.Order) (string, error) {
	t := pools.Task{Kind: recovery.Kind(o.Kind), Slot: o.Slot, Slots: o.Slots, Below: o.Below}
	switch o.Kind {
	case api.OrderKindDrain:
		if err := a.holdsPlace(ctx, o); err != nil {
			return "", err
		}
	case api.OrderKindRefill:
		t = pools.Task{Kind: recovery.Rebalance, Slots: o.Slots}
	}
	return askPools(a, func(d pools.Beginner) (string, error) { return d.Begin(ctx, o.Pool, t) })
}

// holdsPlace checks whether the drive of an order, found by its identity now, is at the place of the order (R2).
func (a *Agent) holdsPlace(ctx context.Context, o api.Order) error {
	id := wire.ToIdentity(o.Drive)
	f, _, err := a.find(ctx, id)
	if err != nil {
		return err
	}
	at, err := a.placesNow(ctx, f, id.Key())
	if err != nil {
		return err
	}
	told := false
	for _, s := range a.snapshots(ctx, at) {
		if s.Pool.ID != o.Pool {
			continue
		}
		if m, _, ok := s.Pool.Slot(o.Slot); ok && m.On(id.Key()) {
			return nil
		}
		told = true
	}
	if !told {
		return nil // another host reports that pool; the drive was found here
	}
	return refuse("place %[2]s of that pool no longer holds %[1]s", id.Tail(), o.Slot)
}

// placesNow is what is on what now, with one drive known by its identity.
func (a *Agent) placesNow(ctx context.Context, f Found, key string) (*places, error) {
	all, err := a.Machine.Drives(ctx)
	if err != nil {
		return nil, err
	}
	at, err := a.placesOf(all)
	if err != nil {
		return nil, err
	}
	for _, x := range all {
		if x.Path == f.Path {
			at.keys[filepath.Base(x.Path)] = key
		}
	}
	return at, nil
}

// askPools asks the pool systems with a capability, in turn, until one knows the pool.
func askPools[D any](a *Agent, f func(D) (string, error)) (string, error) {
	for _, d := range a.Pools {
		able, ok := d.(D)
		if !ok {
			continue
		}
		says, err := f(able)
		if !errors.Is(err, pools.ErrNoSuchPool) {
			return says, err
		}
	}
	return "", refuse("no pool system on this host knows that pool, or none can do this to it")
}
