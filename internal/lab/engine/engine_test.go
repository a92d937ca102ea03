package engine

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
)

const tb = drive.Bytes(1e12)

// kinds are pools of every kind.
func kinds() map[string]pool.Pool {
	group := func(name string, n int, pr pool.Protection) pool.Group {
		g := pool.Group{Name: name, Protect: pr}
		for i := range n {
			g.Members = append(
				g.Members,
				pool.Member{
					Slot:   fmt.Sprintf("%s.%d", name, i+1),
					State:  pool.Online,
					Domain: fmt.Sprint("h", i%4),
					Size:   4 * tb,
					Used:   2 * tb,
				},
			)
		}
		return g
	}
	one := func(g ...pool.Group) pool.Pool {
		return pool.Pool{Name: "p", Groups: g, Volumes: []pool.Volume{{Name: "v", Used: 5 * tb}}}
	}
	mixed := one(group("g", 7, pool.Protection{None: true}))
	mixed.Groups[0].Spread = true
	for i := range mixed.Groups[0].Members {
		mixed.Groups[0].Members[i].Size = drive.Bytes(2+i) * tb
	}
	mixed.Volumes = nil
	for name, pr := range map[string]pool.Protection{"bare": {Data: 1}, "twice": {Data: 1, Tolerance: 1},
		"thrice": {Data: 1, Tolerance: 2}, "parity": {Data: 3, Tolerance: 2}} {
		mixed.Volumes = append(mixed.Volumes, pool.Volume{Name: name, Group: "g", Protect: pr, Used: 2 * tb})
	}
	far := one(group("g", 12, pool.Protection{Data: 1, Tolerance: 2, Domains: true}))
	far.Groups[0].Spread = true
	ded := one(group("g", 5, pool.Protection{Data: -1, Tolerance: 1}))
	for i, n := range []drive.Bytes{1, 2, 2, 3, 3} {
		ded.Groups[0].Members[i].Used = n * tb
	}
	ded.Groups[0].Members[4].Parity = true
	return map[string]pool.Pool{
		"mirror": one(
			group("g", 3, pool.Protection{Data: 1, Tolerance: 2}),
		),
		"parity": one(
			group("a", 5, pool.Protection{Data: -1, Tolerance: 1}),
			group("b", 5, pool.Protection{Data: -1, Tolerance: 1}),
		),
		"triple": one(
			group("g", 9, pool.Protection{Data: -1, Tolerance: 3}),
		),
		"mixed":     mixed,
		"far":       far,
		"dedicated": ded,
	}
}

// TestCode: any k of n pieces give the data back.
func TestCode(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for range 500 {
		k, m := 1+r.IntN(8), r.IntN(4)
		data := make([]uint64, k)
		for i := range data {
			data[i] = r.Uint64()
		}
		at := r.Perm(k + m)[:k]
		pieces := make([]uint64, k)
		for i, j := range at {
			pieces[i] = encode(j, data)
		}
		require.Equal(t, data, decode(k, at, pieces), "%d of %d from %v", k, k+m, at)
	}
}

// TestWhatWasWritten: after any run of writes, losses, returns, new drives, damaged pieces and recoveries of every
// kind, data are read back correctly or reported as lost; and they are lost only if more was removed than the
// protection tolerates.
func TestWhatWasWritten(t *testing.T) {
	for name, p := range kinds() {
		t.Run(name, func(t *testing.T) {
			lost, kept := 0, 0
			for seed := range uint64(24) {
				r := rand.New(rand.NewPCG(seed, 2))
				e := Lay(&p, seed)
				q := p.With(pool.StateUnkn)
				gone := map[string]bool{}
				there := func(slot string) bool { return !gone[slot] }
				b := Bench{
					There: there,
					Rate:  func(string) float64 { return 2e8 },
					Seek:  func(string) time.Duration { return time.Millisecond },
					Share: 1,
				}
				var all []string
				q.Everyone(func(_ string, m *pool.Member) { all = append(all, m.Slot) })
				run := func(w *Work) *Work {
					for range 3000 {
						if e.Advance(w, time.Duration(r.IntN(7200))*time.Second, b) {
							require.Equal(t, w.Todo, w.Done())
							return w
						}
						if r.IntN(4) == 0 {
							e.Write(there)
						}
						require.LessOrEqual(t, w.Done(), w.Todo)
					}
					return w // it waits for a member that does not arrive
				}
				gentle := seed%2 == 0 // one at a time, each recovered before the next: nothing may ever be lost
				for range 12 {
					slot := all[r.IntN(len(all))]
					switch op := r.IntN(5); {
					case op == 0:
						for range r.IntN(30) {
							e.Write(there)
						}
					case op == 1 && (!gentle || name != "mixed"):
						gone[slot] = true
						for range r.IntN(5) {
							e.Write(there)
						}
						delete(gone, slot)
						if r.IntN(2) == 0 {
							e.Blank(slot)
						}
						run(e.Begin([]recovery.Kind{recovery.Resilver, recovery.Rebuild}[r.IntN(2)], slot, &q))
					case op == 2 && (!gentle || name != "mixed"):
						e.Corrupt(slot, 1+r.IntN(3), r)
						if gentle {
							w := run(e.Begin(recovery.Scrub, "", &q))
							require.Zero(t, w.Left)
							require.Equal(t, w.Found, w.Repaired)
						}
					case op == 3:
						run(e.Begin(recovery.Drain, slot, &q))
					case op == 4 && !gentle:
						e.Blank(slot)
						e.Blank(all[r.IntN(len(all))])
					}
					require.Zero(
						t,
						e.ReadBack(there).Wrong,
						"seed %d: something was given back that was never written",
						seed,
					)
				}
				run(e.Begin(recovery.Rebalance, "", &q))
				scrub := run(e.Begin(recovery.Scrub, "", &q))
				v := e.ReadBack(there)
				require.Zero(t, v.Wrong)
				require.Equal(
					t,
					len(v.Lost) > 0,
					scrub.Left > 0,
					"seed %d: what is lost is reported, and nothing else: %d",
					seed,
					len(v.Lost),
				)
				if gentle {
					require.Empty(t, v.Lost, "seed %d", seed)
				}
				if len(v.Lost) > 0 {
					lost++
				} else {
					kept++
				}
				for i, x := range e.Extents {
					seen := map[string]bool{}
					for _, piece := range x.Pieces {
						m, _, _ := q.Slot(piece.Slot)
						at := piece.Slot
						if x.Domains {
							at = m.Domain
						}
						require.False(t, seen[at], "extent %d has two pieces in %s", i, at)
						seen[at] = true
					}
				}
			}
			require.NotZero(t, kept)
			if name != "triple" && name != "mirror" {
				require.NotZero(t, lost, "some of the rough runs lose data, or this proves little")
			}
		})
	}
}

// TestPace: inner tracks are slower, users slow it down, a sick member is named, and small things take longest for
// their size.
func TestPace(t *testing.T) {
	p := kinds()["parity"]
	sick := ""
	b := Bench{
		There: func(string) bool { return true },
		Seek:  func(string) time.Duration { return 8 * time.Millisecond },
		Share: 1,
		Rate: func(slot string) float64 {
			if slot == sick {
				return 3e7
			}
			return 2e8
		},
	}
	hours := func(b Bench) (float64, []drive.Bytes, *Work) {
		e := Lay(&p, 1)
		e.Blank("a.2")
		w := e.Begin(recovery.Rebuild, "a.2", &p)
		var course []drive.Bytes
		n := 0
		for ; !e.Advance(w, 6*time.Minute, b); n++ {
			course = append(course, w.Done())
			require.Less(t, n, 5000)
		}
		return float64(n) / 10, course, w
	}
	plain, course, w := hours(b)
	require.InDelta(t, 4, plain, 1.5)
	first, later := course[3], course[len(course)*3/4]-course[len(course)*3/4-4]
	require.Less(t, float64(later), 0.88*float64(first))
	require.Equal(t, 2*tb/1e9, (w.Done()+5e8)/1e9)
	busy := b
	busy.Load = 0.5
	slow, _, _ := hours(busy)
	require.Greater(t, slow, 1.7*plain)
	sick = "a.4"
	ill, _, w := hours(b)
	require.Greater(t, ill, 3*plain)
	slot, share := w.Slowest()
	require.Equal(t, "a.4", slot)
	require.Greater(t, share, 0.8)
}
