package outside

import (
	"context"
	"errors"
	"strings"

	"lantern/internal/agent/pools"
	"lantern/internal/core/recovery"
)

// mine is a pool's id as the program knows it.
func (d *Driver) mine(id string) (string, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, s := range d.known {
		if s.Pool.ID == id {
			_, own, _ := strings.Cut(id, ":")
			return own, true
		}
	}
	return "", false
}

// act asks for something to be done to a pool, and gives back what the program observed.
func (d *Driver) act(ctx context.Context, id, method string, params map[string]any) (string, error) {
	own, ok := d.mine(id)
	if !ok {
		return "", pools.ErrNoSuchPool
	}
	params["pool"] = own
	var done struct {
		Observed string `json:"observed"`
	}
	if err := translate(d.ask(ctx, actIn, method, params, &done)); err != nil {
		return "", err
	}
	if done.Observed == "" {
		return "", errors.New("the program does not say what it observed")
	}
	return done.Observed, nil
}

// translate makes a program's refusals ours.
func translate(err error) error {
	var r *Refusal
	if errors.As(err, &r) {
		switch r.Code {
		case CodeNoPool:
			return pools.ErrNoSuchPool
		case CodeNotOffered, -32601:
			return pools.ErrNotOffered
		}
	}
	return err
}

// Join makes a drive a member in the place of the one at slot.
func (d *Driver) Join(ctx context.Context, id, slot string, t pools.Target) (string, error) {
	return d.act(ctx, id, "join", map[string]any{"slot": slot, "path": t.Path, "bytes": t.Size})
}

// Admit adds a drive as a further member.
func (d *Driver) Admit(ctx context.Context, id string, t pools.Target) (string, error) {
	return d.act(ctx, id, "admit", map[string]any{"path": t.Path, "bytes": t.Size})
}

// Begin starts a recovery.
func (d *Driver) Begin(ctx context.Context, id string, t pools.Task) (string, error) {
	return d.act(ctx, id, "begin", map[string]any{"kind": t.Kind, "slot": t.Slot, "slots": t.Slots, "below": t.Below})
}

// Release makes the pool forget a place.
func (d *Driver) Release(ctx context.Context, id, slot string) (string, error) {
	return d.act(ctx, id, "release", map[string]any{"slot": slot})
}

// Nudge makes a recovery begin that waits.
func (d *Driver) Nudge(ctx context.Context, id string) (string, error) {
	return d.act(ctx, id, "nudge", map[string]any{})
}

// Prioritise sets what recoveries get beside the users.
func (d *Driver) Prioritise(ctx context.Context, id string, p recovery.Priority) (string, error) {
	return d.act(ctx, id, "prioritise", map[string]any{"priority": p})
}

// Stop ends what is running.
func (d *Driver) Stop(ctx context.Context, id string) (string, error) {
	return d.act(ctx, id, "stop", map[string]any{})
}

// WhatIsAt says what is at an address of a drive.
func (d *Driver) WhatIsAt(ctx context.Context, path string, offset uint64) (string, error) {
	var said struct {
		Says string `json:"says"`
	}
	if err := translate(d.ask(ctx, lookIn, "lies", map[string]any{"path": path, "offset": offset}, &said)); err != nil {
		var b *Broken
		if errors.Is(err, pools.ErrNotOffered) || errors.As(err, &b) {
			return "", pools.ErrNoSuchPool // so that others are asked
		}
		return "", err
	}
	return said.Says, nil
}
