package selftest

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/core/drive"
)

// crowded are drives on hosts of 60, in groups of 10, with a short test each week, and a long one for which there is no
// time any more in this period.
func crowded(n int, now time.Time) (members []Member) {
	plan := &Plan{Name: "fleet", Limits: Limits{Group: 1, Pool: 2, Host: 6}}
	week := Span{now, now.Add(7 * 24 * time.Hour)}
	today := Span{now.Add(-29 * 24 * time.Hour), now.Add(20 * time.Hour)}
	for i := range n {
		host := fmt.Sprint("host", i/60)
		members = append(members, Member{
			Where: Where{
				Drive: fmt.Sprintf("wwn-5%015x", i), Host: host, Pool: fmt.Sprint("p", i/30),
				PoolName: fmt.Sprint("pool", i/30), Group: fmt.Sprint(i / 10 % 3),
			},
			Plan: plan,
			Dues: []Due{
				{Kind: drive.SelfTestShort, Periods: []Span{week}},
				{Kind: drive.SelfTestExtended, Periods: []Span{today}},
			},
			Takes: map[drive.SelfTestKind]time.Duration{
				drive.SelfTestShort: 8 * time.Minute, drive.SelfTestExtended: 16 * time.Hour,
			},
			Last: map[drive.SelfTestKind]time.Time{},
		})
	}
	return members
}

// TestBenchCheckSchedule: the plan for ten times as many drives, most of which have no place for a long test, takes
// about ten times as long, not a hundred times.
func TestBenchCheckSchedule(t *testing.T) {
	if os.Getenv("LANTERN_BENCH_CHECK") == "" {
		t.Skip("*** SKIPPED: the limits of benchmarks are looked at by: make bench-check ***")
	}
	now := time.Date(2026, 11, 30, 4, 0, 0, 0, time.UTC)
	took := func(n int) time.Duration {
		members := crowded(n, now)
		best := time.Hour
		for range 3 {
			from := time.Now()
			items, crowds := Schedule(nil, members, now)
			best = min(best, time.Since(from))
			require.Len(t, items, 2*n)
			left := 0
			for _, c := range crowds {
				left += len(c.Left)
			}
			require.Greater(t, left, n/2)
		}
		return best
	}
	few, many := took(3000), took(30000)
	require.Less(t, many, 30*few, "3,000 drives: %v; 30,000: %v", few, many)
}

// BenchmarkSchedule plans the tests of 100,000 drives, and again with all that was planned.
func BenchmarkSchedule(b *testing.B) {
	now := time.Date(2026, 11, 30, 4, 0, 0, 0, time.UTC)
	members := crowded(100_000, now)
	var items []Item
	b.Run("first", func(b *testing.B) {
		for b.Loop() {
			items, _ = Schedule(nil, members, now)
		}
	})
	b.Run("again", func(b *testing.B) {
		for b.Loop() {
			items, _ = Schedule(items, members, now)
		}
	})
}

// TestChange: results of tests that came while others were planned stay, everything else is as planned, and only
// differences are written.
func TestChange(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 5))
		var was, is, next []Item
		want, kept := map[string]string{}, map[string]string{} // by drive: the wanted state, and the stored one
		for d := range 12 {
			it := Item{Drive: fmt.Sprint("d", d), Kind: drive.SelfTestShort, State: Planned, Why: "was"}
			planned, before, alike := r.IntN(4) > 0, r.IntN(4) > 0, r.IntN(2) > 0
			if before {
				was = append(was, it)
				now := it
				if r.IntN(3) == 0 {
					now.State, now.Run = Running, fmt.Sprint("run", d)
					want[it.Drive] = now.Run
				}
				is = append(is, now)
				kept[it.Drive] = cmp.Or(now.Run, now.Why)
			}
			if planned {
				if !alike {
					it.Why = "planned"
				}
				next = append(next, it)
				if want[it.Drive] == "" {
					want[it.Drive] = it.Why
				}
			}
		}
		r.Shuffle(len(next), func(i, j int) { next[i], next[j] = next[j], next[i] })
		items, put, drop := Changes(was, next).Over(is)
		got := map[string]string{}
		for _, it := range items {
			require.Empty(t, got[it.Drive], "twice")
			got[it.Drive] = cmp.Or(it.Run, it.Why)
		}
		require.Equal(t, want, got, "seed %d", seed)
		for _, it := range put {
			require.NotEqual(t, kept[it.Drive], cmp.Or(it.Run, it.Why), "seed %d: it is kept so already", seed)
			kept[it.Drive] = cmp.Or(it.Run, it.Why)
		}
		for _, it := range drop {
			delete(kept, it.Drive)
		}
		require.Equal(t, want, kept, "seed %d", seed)
	}
}
