package lab

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/agent/pools"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
)

// Keeper is the lab's pool system on one host.
type Keeper struct {
	Fleet *Fleet
	Host  string
}

// What it can do; the compiler keeps this list true.
var (
	_ pools.Driver      = Keeper{}
	_ pools.Joiner      = Keeper{}
	_ pools.Admitter    = Keeper{}
	_ pools.Beginner    = Keeper{}
	_ pools.Stopper     = Keeper{}
	_ pools.Releaser    = Keeper{}
	_ pools.Nudger      = Keeper{}
	_ pools.Prioritiser = Keeper{}
	_ pools.Addresser   = Keeper{}
)

// Trust is as of the kernel: the lab is the machine.
func (k Keeper) Trust() pools.Trust { return pools.TrustKernel }

// Pools are the pools of this host.
func (k Keeper) Pools(context.Context, func(string) string) ([]pools.Snapshot, error) {
	f := k.Fleet
	f.mu.Lock()
	defer f.mu.Unlock()
	f.advance(f.clock.Now())
	if f.off(k.Host) {
		return nil, errOff
	}
	var out []pools.Snapshot
	for _, p := range f.Pools {
		if p.Host == k.Host {
			s := pools.Snapshot{
				Pool:       p.With(pool.StateUnkn),
				Recoveries: slices.Clone(p.Recs),
				Offers:     p.offers(),
				Priority:   cmp.Or(p.Priority, recovery.Normal),
				Waits:      p.waits(),
			}
			s.Witness = f.witness(p)
			out = append(out, s)
		}
	}
	return out, nil
}

// witness reads what stands on the members themselves: each must be there and carry a mark.
func (f *Fleet) witness(p *Pool) *pools.Witness {
	var by []pool.Testimony
	p.Everyone(func(_ string, m *pool.Member) {
		for _, d := range f.Drives {
			if d.key() != m.Drive {
				continue
			}
			t := pool.Testimony{Slot: m.Slot, Agrees: len(d.Holds) > 0, Says: "nothing on it says so"}
			by = append(by, t)
		}
	})
	return &pools.Witness{Source: "marks on the members", Differs: p.Disagreements(by)}
}

// on reports whether a host takes part in the pool: any of them can bring its own drives into it.
func (p *Pool) on(host string) bool {
	found := p.Host == host
	p.Everyone(func(_ string, m *pool.Member) { found = found || m.Domain == host })
	return found
}

func (k Keeper) change(id string, f func(p *Pool, t time.Time) (string, error)) (string, error) {
	k.Fleet.mu.Lock()
	defer k.Fleet.mu.Unlock()
	if k.Fleet.off(k.Host) {
		return "", errOff
	}
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

// Join puts a drive in place of a member that is gone, and begins to fill it; or beside one that still helps.
func (k Keeper) Join(_ context.Context, id, slot string, t pools.Target) (string, error) {
	return k.change(id, func(p *Pool, now time.Time) (string, error) {
		says, err := "", fmt.Errorf("%s has no slot %q", p.Name, slot)
		p.Everyone(func(_ string, m *pool.Member) {
			if m.Slot == slot {
				says, err = p.join(m, t, now)
			}
		})
		return says, err
	})
}

// join fills a drive into the place of a member, beside it where it still works.
func (p *Pool) join(m *pool.Member, t pools.Target, now time.Time) (string, error) {
	slot := m.Slot
	helps := m.State == pool.Online || m.State == pool.Failing
	if helps && (!p.Watched && !slices.Contains(p.offers(), pools.OfferBeside) || p.Beside[slot] != "") ||
		m.State == pool.Recovering {
		return "", fmt.Errorf("slot %s of %s is still %s", slot, p.Name, m.State)
	}
	d := p.fleet.byKey[t.Key]
	if i := slices.IndexFunc(p.Spares, func(x pool.Member) bool { return x.Drive == t.Key }); i >= 0 {
		if p.Spares[i].State != pool.Standby || !helps {
			return "", fmt.Errorf("the spare at %s is %s", p.Spares[i].Slot, p.Spares[i].State)
		}
		p.Spares = slices.Delete(slices.Clone(p.Spares), i, i+1)
	}
	if d != nil {
		d.Holds = []string{"member of " + p.Name}
	}
	if helps {
		if p.Beside == nil {
			p.Beside = map[string]string{}
		}
		p.Beside[slot] = t.Key
		w := p.laid().BeginBack(p.Fill, slot, slot+beside)
		w.Slot = slot
		p.record(w, slot, t.Key, now)
		return fmt.Sprintf("it is filled beside slot %s, the %s has begun", slot, p.Fill), nil
	}
	m.Drive, m.State, m.Size = t.Key, pool.Recovering, t.Size
	if d != nil {
		if s, in := d.at(now); in {
			m.Domain = s.Host
		}
	}
	if slices.ContainsFunc(p.Logs, func(l pool.Member) bool { return l.Slot == slot }) {
		p.logJoined(m)
		return fmt.Sprintf("it is the log device at %s", slot), nil
	}
	if p.Stuck {
		p.laid().Blank(slot)
		p.Waiting = append(p.Waiting, slot)
		return fmt.Sprintf("it is at slot %s; its %s has not begun", slot, p.Fill), nil
	}
	if spare := p.standsIn(slot); spare != "" {
		// The spare carries on until the new one holds all, and then stands by again.
		m.Beside = spare
		p.record(p.laid().BeginBack(p.Fill, spare, slot), slot, t.Key, now)
	} else {
		p.laid().Blank(slot)
		p.fill(slot, t.Key, now)
	}
	return fmt.Sprintf("it fills slot %s, the %s has begun", slot, p.Fill), nil
}

// logJoined takes a new log device into use: what depended on the old one and was not emptied before went with it.
func (p *Pool) logJoined(m *pool.Member) {
	p.Everyone(func(_ string, x *pool.Member) {
		if x.Log == m.Slot && x.State == pool.Missing {
			x.State = pool.Faulty
		}
	})
	m.State = pool.Online
}

// Admit adds a drive as a further member of a group whose pieces lie anywhere; nothing is on it yet.
func (k Keeper) Admit(_ context.Context, id string, t pools.Target) (string, error) {
	return k.change(id, func(p *Pool, now time.Time) (string, error) {
		d := p.fleet.byKey[t.Key]
		if d == nil || !slices.Contains(p.offers(), pools.OfferAdmit) {
			return "", pools.ErrNotOffered
		}
		g := &p.Groups[slices.IndexFunc(p.Groups, func(g pool.Group) bool { return g.Spread })]
		slot := ""
		for n := 1; slot == ""; n++ {
			if _, _, taken := p.Slot(fmt.Sprint(n)); !taken {
				slot = fmt.Sprint(n)
			}
		}
		m := pool.Member{Slot: slot, Drive: t.Key, State: pool.Online, Size: t.Size}
		if st, in := d.at(now); in {
			m.Domain = st.Host
		}
		d.Holds = []string{"member of " + p.Name}
		p.resize(func() { g.Members = append(slices.Clone(g.Members), m) })
		return "it is member " + slot + ", and nothing is on it yet", nil
	})
}

// resize changes the members, and with them how much the pool can hold.
func (p *Pool) resize(change func()) {
	raw := func() (all float64) {
		for _, g := range p.Groups {
			for _, m := range g.Members {
				all += float64(m.Size)
			}
		}
		return all
	}
	before := raw()
	change()
	if before > 0 {
		p.Capacity = drive.Bytes(float64(p.Capacity) / before * raw())
	}
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
		if kind == recovery.Grow {
			w := p.laid().Begin(recovery.Scrub, "", &p.Pool) // everything is read and laid anew
			w.Kind = recovery.Grow
			p.record(w, "", "", now)
			return fmt.Sprintf("%s begins to use all of its members", p.Name), nil
		}
		if kind == recovery.Rebalance && len(task.Slots) > 0 {
			return p.refill(task.Slots, now)
		}
		if kind != recovery.Scrub && !slices.ContainsFunc(p.Groups, func(g pool.Group) bool { return g.Spread }) {
			return "", pools.ErrNotOffered // stripes as wide as the group lie where they lie
		}
		if kind == recovery.Drain {
			if len(task.Slots) > 0 {
				return p.drainAll(task.Slots, now)
			}
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
	if p.Watched {
		return nil
	}
	if p.Can != nil {
		return p.Can
	}
	out := []pools.Offer{pools.OfferJoin, pools.OfferScrub, pools.OfferStop, pools.OfferPriority, pools.OfferNudge}
	spread, heals, parity := false, false, false
	for _, g := range p.Groups {
		spread, heals = spread || g.Spread, heals || g.Heals
		parity = parity || slices.ContainsFunc(g.Members, func(m pool.Member) bool { return m.Parity })
	}
	switch {
	case spread:
		out = append(out, pools.OfferRebalance, pools.OfferDrain, pools.OfferRefill)
		if heals {
			out = append(out, pools.OfferRelease)
		}
	case !parity:
		out = append(out, pools.OfferBeside, pools.OfferGrow)
		if len(p.Spares) > 0 {
			out = append(out, pools.OfferSpare)
		}
	}
	return out
}

// fill begins to bring a member what it lacks.
func (p *Pool) fill(slot, driveKey string, now time.Time) {
	p.Everyone(func(_ string, m *pool.Member) {
		if m.Slot == slot {
			m.State = pool.Online // it takes what others give from now on
		}
	})
	w, lacks := p.laid().BeginFill(p.Fill, slot, &p.Pool)
	p.record(w, slot, driveKey, now)
	p.Everyone(func(_ string, m *pool.Member) {
		if m.Slot == slot && lacks {
			m.State = pool.Recovering // else nothing is missing: others share with it what they have
		}
	})
}

// drainAll empties several members together.
func (p *Pool) drainAll(slots []string, now time.Time) (string, error) {
	at := map[string]pool.Member{}
	for _, s := range slots {
		m, group, ok := p.Pool.Slot(s)
		if !ok || group == "" || m.State != pool.Online {
			return "", fmt.Errorf("%s has no member %q that could be drained", p.Name, s)
		}
		at[s] = m
	}
	for _, w := range p.laid().BeginDrains(slots, &p.Pool) {
		p.record(w, w.Slot, at[w.Slot].Drive, now)
	}
	return fmt.Sprintf("the drains of slots %s have begun", strings.Join(slots, ", ")), nil
}

// refill fills members again that were drained and are still in their places.
func (p *Pool) refill(slots []string, now time.Time) (string, error) {
	var filled []string
	for _, s := range slots {
		m, _, _ := p.Pool.Slot(s)
		d := p.fleet.byKey[m.Drive]
		if d == nil || m.State != pool.Out && m.State != pool.Faulty {
			continue
		}
		if m.State == pool.Faulty {
			p.laid().Blank(s)
		}
		if st, in := d.at(now); !in || p.fleet.off(st.Host) {
			continue
		}
		p.fill(s, m.Drive, now)
		filled = append(filled, s)
	}
	if len(filled) == 0 {
		return "", fmt.Errorf("none of the slots %s waits to be filled", strings.Join(slots, ", "))
	}
	return fmt.Sprintf("slots %s are filled again", strings.Join(filled, ", ")), nil
}

// waits says why a filling does not begin.
func (p *Pool) waits() string {
	if len(p.Waiting) > 0 {
		return "recoveries of " + p.Name + " were put off by hand"
	}
	return ""
}

// Release lets the pool forget a place whose member was drained.
func (k Keeper) Release(_ context.Context, id, slot string) (string, error) {
	return k.change(id, func(p *Pool, _ time.Time) (string, error) {
		if !slices.Contains(p.offers(), pools.OfferRelease) {
			return "", pools.ErrNotOffered
		}
		m, _, ok := p.Pool.Slot(slot)
		if !ok || m.State != pool.Out {
			return "", fmt.Errorf("slot %s of %s is %s: only one that was drained is forgotten", slot, p.Name, m.State)
		}
		if d := p.fleet.byKey[m.Drive]; d != nil {
			d.Holds = nil
		}
		p.Everyone(func(_ string, x *pool.Member) {
			if x.Slot == slot {
				x.Drive = ""
			}
		})
		return fmt.Sprintf("slot %s was removed", slot), nil
	})
}

// Nudge lets fillings begin that were put off.
func (k Keeper) Nudge(_ context.Context, id string) (string, error) {
	return k.change(id, func(p *Pool, now time.Time) (string, error) {
		if len(p.Waiting) == 0 {
			return "", fmt.Errorf("nothing waits in %s", p.Name)
		}
		slots := p.Waiting
		p.Stuck, p.Waiting = false, nil
		for _, s := range slots {
			m, _, _ := p.Pool.Slot(s)
			p.fill(s, m.Drive, now)
		}
		return fmt.Sprintf("the %s of slots %s has begun", p.Fill, strings.Join(slots, ", ")), nil
	})
}

// WhatIsAt says what is at an address. Lab pools fill their members from the beginning.
func (k Keeper) WhatIsAt(_ context.Context, path string, offset uint64) (string, error) {
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
						says = "data of " + p.Name + ", " + group
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
