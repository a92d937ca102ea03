package lab

import (
	"cmp"
	"context"
	"fmt"
	"lantern/internal/agent/pools"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"slices"
	"time"
)

// Keeper is the lab's pool system on one host.
type Keeper struct {
	Fleet *Fleet
	Host  string
}

// Pools are those it speaks for.
func (k Keeper) Pools(context.Context, func(string) string) ([]pools.Snapshot, error) {
	f := k.Fleet
	f.mu.Lock()
	defer f.mu.Unlock()
	f.advance(f.clock.Now())
	var out []pools.Snapshot
	for _, p := range f.Pools {
		if p.Host == k.Host {
			out = append(out, pools.Snapshot{Pool: p.With(pool.StateUnkn), Recoveries: slices.Clone(p.Recs), Offers: p.offers(), Priority: cmp.Or(p.Priority, recovery.Normal)})
		}
	}
	return out, nil
}

// on says whether a host takes part in the pool: any of them can bring its own drives into it.
func (p *Pool) on(host string) bool {
	found := p.Host == host
	p.Everyone(func(_ string, m *pool.Member) { found = found || m.Domain == host })
	return found
}

func (k Keeper) change(id string, f func(p *Pool, t time.Time) (string, error)) (string, error) {
	k.Fleet.mu.Lock()
	defer k.Fleet.mu.Unlock()
	for _, p := range k.Fleet.Pools {
		if p.ID == id && p.on(k.Host) {
			says, err := f(p, k.Fleet.clock.Now())
			if err != nil {
				return "", err
			}
			return says, k.Fleet.save()
		}
	}
	return "", pools.ErrNoSuchPool
}

// Join puts a drive in place of a member that is gone, and begins to fill it.
func (k Keeper) Join(_ context.Context, id, slot string, t pools.Target) (string, error) {
	return k.change(id, func(p *Pool, now time.Time) (string, error) {
		says, err := "", fmt.Errorf("%s has no slot %q", p.Name, slot)
		p.Everyone(func(_ string, m *pool.Member) {
			if m.Slot != slot {
				return
			}
			if m.State != pool.Missing && m.State != pool.Out && m.State != pool.Faulty {
				err = fmt.Errorf("slot %s of %s is still %s", slot, p.Name, m.State)
				return
			}
			m.Drive, m.State, m.Size, err = t.Key, pool.Recovering, t.Size, nil
			if d := p.fleet.byKey[t.Key]; d != nil {
				d.Holds = []string{"member of " + p.Name}
				if s, in := d.at(now); in {
					m.Domain = s.Host
				}
			}
			if spare := p.standsIn(slot); spare != "" {
				// The spare carries on until the new one holds all, and then stands by again.
				m.Beside = spare
				p.record(p.laid().BeginBack(p.Fill, spare, slot), slot, t.Key, now)
			} else {
				p.laid().Blank(slot)
				p.begin(p.Fill, slot, t.Key, now)
			}
			says = fmt.Sprintf("it fills slot %s, the %s has begun", slot, p.Fill)
		})
		return says, err
	})
}

// Admit is not something the lab's pools can do.
func (k Keeper) Admit(_ context.Context, id string, _ pools.Target) (string, error) {
	return k.change(id, func(*Pool, time.Time) (string, error) { return "", pools.ErrNotOffered })
}

// Begin starts a scrub; where pieces lie anywhere, a rebalance, or the draining of a member.
func (k Keeper) Begin(_ context.Context, id string, task pools.Task) (string, error) {
	kind := task.Kind
	return k.change(id, func(p *Pool, now time.Time) (string, error) {
		for _, r := range p.Recs {
			if r.State == recovery.Running {
				return "", fmt.Errorf("a %s is running in %s", r.Kind, p.Name)
			}
		}
		if kind != recovery.Scrub && !slices.ContainsFunc(p.Groups, func(g pool.Group) bool { return g.Spread }) {
			return "", pools.ErrNotOffered // stripes as wide as the group lie where they lie
		}
		if kind == recovery.Drain {
			m, group, ok := p.Pool.Slot(task.Slot)
			if !ok || group == "" || m.State != pool.Online {
				return "", fmt.Errorf("%s has no member %q that could be drained", p.Name, task.Slot)
			}
			w := p.begin(kind, task.Slot, m.Drive, now)
			return fmt.Sprintf("the drain of slot %s has begun: %d bytes will move", task.Slot, w.Todo), nil
		}
		p.begin(kind, "", "", now)
		return fmt.Sprintf("the %s has begun", kind), nil
	})
}

// Prioritise sets what recoveries get of the time that users leave.
func (k Keeper) Prioritise(_ context.Context, id string, to recovery.Priority) (string, error) {
	return k.change(id, func(p *Pool, _ time.Time) (string, error) {
		if _, ok := shares[to]; !ok || to == "" {
			return "", fmt.Errorf("priority is low, normal or high, not %q", to)
		}
		p.Priority = to
		return fmt.Sprintf("recoveries get %.0f %% of the time that users leave", 100*shares[to]), nil
	})
}

// offers is what can be asked of the pool.
func (p *Pool) offers() []pools.Offer {
	out := []pools.Offer{pools.OfferJoin, pools.OfferScrub, pools.OfferStop, pools.OfferPriority}
	if slices.ContainsFunc(p.Groups, func(g pool.Group) bool { return g.Spread }) {
		out = append(out, pools.OfferRebalance, pools.OfferDrain)
	}
	return out
}

// Lies says what lies at an address. Lab pools fill their members from the beginning.
func (k Keeper) Lies(_ context.Context, path string, offset uint64) (string, error) {
	f := k.Fleet
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, d := range f.Drives {
		if s, ok := d.at(f.clock.Now()); !ok || labPath(s) != path {
			continue
		}
		for _, p := range f.Pools {
			says := ""
			p.Everyone(func(group string, m *pool.Member) {
				switch {
				case m.Drive != d.key():
				case offset < uint64(m.Used):
					says = "data of " + p.Name
					if group != "" {
						says = "data of " + group + " of " + p.Name
					}
				default:
					says = "free space of " + p.Name
				}
			})
			if says != "" {
				return says, nil
			}
		}
	}
	return "", pools.ErrNoSuchPool
}

// Stop ends a scrub or a rebalance. What fills a member is not stopped: redundancy would be left missing.
func (k Keeper) Stop(_ context.Context, id string) (string, error) {
	return k.change(id, func(p *Pool, now time.Time) (string, error) {
		for i := range p.Recs {
			r := &p.Recs[i]
			if r.State == recovery.Running && (r.Slot == "" || r.Kind == recovery.Drain) {
				r.State, r.EndedAt = recovery.Stopped, now
				delete(p.Works, r.ID)
				return fmt.Sprintf("the %s has stopped", r.Kind), nil
			}
		}
		return "", fmt.Errorf("nothing runs in %s that could be stopped", p.Name)
	})
}
