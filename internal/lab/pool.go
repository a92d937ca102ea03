package lab

import (
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"lantern/internal/agent/pools"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
)

// Pool is one simulated pool. It knows its members by identity, marks those that are gone, and fills new ones at a rate
// that falls from the outer to the inner tracks.
type Pool struct {
	pool.Pool
	// Host is the one whose agent speaks for the pool.
	Host string `json:"host"`
	// Fill is what a member of it is filled by: resilver, rebuild or rebalance.
	Fill  recovery.Kind     `json:"fill"`
	Recs  []recovery.Report `json:"recs"`
	Seq   int               `json:"seq"`
	fleet *Fleet
}

// Rates of filling one member, in bytes a second, on the outermost tracks.
const (
	rateRotating   = 185e6
	rateSolidState = 430e6
)

// In a large fleet, where every look of every host comes through here, nothing moves in less than a grain of lab time.
const (
	grain     = 50 * time.Millisecond
	manyHosts = 20
)

// advance moves every pool on to t.
func (f *Fleet) advance(t time.Time) {
	dt := t.Sub(f.last)
	if dt < 0 || dt < grain && len(f.Hosts) > manyHosts {
		return
	}
	f.last = t
	for _, p := range f.Pools {
		p.notice(t)
		for i := range p.Recs {
			p.move(&p.Recs[i], t, dt)
		}
	}
}

// notice marks members as they come and go.
func (p *Pool) notice(t time.Time) {
	p.Everyone(func(_ string, m *pool.Member) {
		present := false
		if d := p.fleet.byKey[m.Drive]; d != nil {
			s, in := d.at(t)
			present = in && s.Host == m.Domain
		}
		switch {
		case !present && (m.State == pool.Online || m.State == pool.Recovering || m.State == pool.Standby):
			m.State = pool.Missing
		case present && m.State == pool.Missing:
			// What was written while it was away is known and written again at once.
			m.State = pool.Online
			if p.filling(m.Slot) != nil {
				m.State = pool.Recovering
			}
			if slices.ContainsFunc(p.Spares, func(s pool.Member) bool { return s.Slot == m.Slot }) {
				m.State = pool.Standby
			}
		}
	})
}

func (p *Pool) filling(slot string) *recovery.Report {
	for i := range p.Recs {
		if r := &p.Recs[i]; r.State == recovery.Running && r.Slot == slot && slot != "" {
			return r
		}
	}
	return nil
}

func (p *Pool) move(r *recovery.Report, t time.Time, dt time.Duration) {
	if r.State != recovery.Running {
		return
	}
	if m, _, ok := p.Pool.Slot(r.Slot); ok && m.State == pool.Missing {
		return // it waits for its drive
	}
	share := float64(r.Done) / math.Max(1, float64(r.Todo))
	rate := rateRotating * (1 - 0.45*share) * (0.92 + 0.1*math.Sin(float64(t.Unix())/211))
	if d := p.fleet.byKey[r.Drive]; d != nil && d.Desc.Medium == drive.MediumSolidState {
		rate = rateSolidState
	}
	if r.Slot == "" {
		rate *= float64(p.members()) / 2 // all members work at once
	}
	r.Done += drive.Bytes(rate * dt.Seconds())
	r.At = t
	if r.Done < r.Todo {
		return
	}
	r.Done, r.State, r.EndedAt = r.Todo, recovery.Finished, t
	p.Everyone(func(_ string, m *pool.Member) {
		if m.Slot == r.Slot && m.State == pool.Recovering {
			m.State = pool.Online
		}
	})
}

func (p *Pool) members() (n int) {
	for _, g := range p.Groups {
		n += len(g.Members)
	}
	return n
}

func (p *Pool) begin(kind recovery.Kind, slot, driveKey string, todo drive.Bytes, t time.Time) {
	p.Seq++
	p.Recs = append(p.Recs, recovery.Report{ID: fmt.Sprintf("%s-%d", p.ID, p.Seq), Kind: kind, State: recovery.Running, StartedAt: t,
		Slot: slot, Drive: driveKey, Sample: recovery.Sample{At: t, Todo: todo}})
	if len(p.Recs) > 8 {
		p.Recs = p.Recs[len(p.Recs)-8:]
	}
}

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
			out = append(out, pools.Snapshot{Pool: p.With(pool.StateUnkn), Recoveries: slices.Clone(p.Recs)})
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
			p.begin(p.Fill, slot, t.Key, m.Used, now)
			says = fmt.Sprintf("it fills slot %s, the %s has begun", slot, p.Fill)
		})
		return says, err
	})
}

// Admit is not something the lab's pools can do.
func (k Keeper) Admit(_ context.Context, id string, _ pools.Target) (string, error) {
	return k.change(id, func(*Pool, time.Time) (string, error) { return "", pools.ErrNotOffered })
}

// Begin starts a scrub or a rebalance.
func (k Keeper) Begin(_ context.Context, id string, kind recovery.Kind) (string, error) {
	return k.change(id, func(p *Pool, now time.Time) (string, error) {
		for _, r := range p.Recs {
			if r.State == recovery.Running {
				return "", fmt.Errorf("a %s is running in %s", r.Kind, p.Name)
			}
		}
		p.begin(kind, "", "", p.Used, now)
		return fmt.Sprintf("the %s has begun", kind), nil
	})
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
			if r.State == recovery.Running && r.Slot == "" {
				r.State, r.EndedAt = recovery.Stopped, now
				return fmt.Sprintf("the %s has stopped", r.Kind), nil
			}
		}
		return "", fmt.Errorf("nothing runs in %s that could be stopped", p.Name)
	})
}
