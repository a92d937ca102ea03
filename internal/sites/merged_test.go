package sites

import (
	"fmt"
	"log/slog"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/core/health"
	"lantern/internal/service/views"
)

// many is a headquarters with a number of hosts of 60 drives at ten sites.
func many(hosts int) *Headquarters {
	r := rand.New(rand.NewPCG(1, 2))
	h := &Headquarters{Clock: clock.Real{}, Log: slog.New(slog.DiscardHandler), sites: map[string]*site{}}
	for n := range hosts {
		x := h.ofLocked(fmt.Sprintf("site-%d", n%10))
		x.heard, x.at = time.Now(), time.Now()
		if x.says == nil {
			x.says = &views.SiteState{}
		}
		host := views.HostState{Host: fmt.Sprintf("host-%04d", n), Room: "stone house"}
		for d := range 60 {
			key := fmt.Sprintf("wwn-5%06x%08x", n, d)
			host.Drives = append(host.Drives, views.SiteDrive{Key: key, Tail: fmt.Sprintf("%05d", n*60+d),
				Serial: fmt.Sprintf("LD%07d", n*60+d), WWN: key[4:], Model: "OSSFELL OF-8T", Bay: fmt.Sprintf("front/%d", d),
				Pool: fmt.Sprintf("pool-%d", n/3), Verdict: "sound", Present: true})
			if r.IntN(3) == 0 {
				host.Lines = append(host.Lines, views.SiteLine{Line: api.RoundLine{Drive: key}, Matter: health.Matter{Key: key,
					Verdict: health.Watch, Growth: float64(r.IntN(5)), Since: time.Unix(int64(r.IntN(1000)), 0)}})
			}
		}
		x.hosts[host.Host] = hostOf(host)
	}
	return h
}

// TestSearchOfMany: a search finds the same as a comparison with every drive.
func TestSearchOfMany(t *testing.T) {
	h := many(40)
	for _, q := range []string{"LD0000017", "00017", "ld000001", "front/7 site-3", "pool-4 00", "stone", "host-0007",
		"site-2", "nothing", "ossfell host-0001", "pool-12 0216"} {
		want, found := views.Words(q), 0
		for name, x := range h.sites {
			for _, host := range x.hosts {
				for _, d := range host.Drives {
					pool := ""
					if len(want) > 1 {
						pool = d.Pool
					}
					if views.Score(want, d.Serial, d.WWN, d.Bay, d.Model, pool, name) > 0 &&
						!(len(want) == 1 && views.Score(want, name) > 0) {
						found++
					}
				}
			}
		}
		hits := h.Search(q)
		drives := 0
		for _, hit := range hits {
			if hit.Kind == api.HitKindDrive {
				drives++
			}
		}
		if found <= 20 && len(hits) < 20 {
			require.Equal(t, found, drives, q)
		} else {
			require.Len(t, hits, 20, q)
		}
	}
}

// TestRoundOfMany: the round of all sites has the order that one service with all drives has.
func TestRoundOfMany(t *testing.T) {
	h := many(20)
	matters := map[string]health.Matter{}
	for name, x := range h.sites {
		for _, host := range x.hosts {
			for _, l := range host.Lines {
				m := l.Matter
				m.Key = name + " " + m.Key
				matters[m.Key] = m
			}
		}
	}
	var got []health.Matter
	for _, l := range h.Round().Lines {
		got = append(got, matters[l.Site+" "+l.Drive])
	}
	require.Len(t, got, len(matters))
	want := slices.Clone(got)
	health.Rank(want)
	require.Equal(t, want, got)
}

// TestOldData: while a site is not reachable, or a part of its data is missing, everything from it is dated. Then its
// margins are unknown, and no drive of its stock is said to fit.
func TestOldData(t *testing.T) {
	h := many(10)
	at := time.Now().Add(-time.Minute).UTC()
	x := h.sites["site-3"]
	x.says = &views.SiteState{Hosts: []string{"host-0003"}, Horizon: api.HorizonBlock{Known: true, Pools: 1},
		Stock: []api.StockItem{{Drive: "d", Fits: []string{"plankton"}}},
		Round: api.Round{Hosts: 1, Drives: 60, Silent: []api.SilentHost{{Host: "a"}},
			Underway: []api.UnderWay{{Id: "u", Finish: api.Range{P50: at}}},
			Filling:  []api.Filling{{Pool: "p"}}, Pools: []api.PoolLine{{Pool: "p"}}}}
	x.at = at
	check := func(want time.Time, reachable, known bool, fits int) {
		t.Helper()
		r := h.Round()
		require.Equal(t, want, r.Silent[0].AsOf)
		require.Equal(t, want, r.Underway[0].AsOf)
		require.Equal(t, reachable, !r.Underway[0].Finish.P50.IsZero())
		require.Equal(t, want, r.Filling[0].AsOf)
		require.Equal(t, want, r.Pools[0].AsOf)
		lines := 0
		for _, l := range r.Lines {
			if l.Site == "site-3" {
				require.Equal(t, want, l.AsOf)
				lines++
			}
		}
		require.Equal(t, reachable, len(r.Sites) == 0)
		if lines == 0 {
			require.False(t, reachable, "its host is missing")
		}
		for _, s := range h.Sites() {
			if s.Name == "site-3" {
				require.Equal(t, reachable, s.Reachable)
				require.Equal(t, reachable, s.Says == "")
			}
		}
		for _, b := range h.Horizon(20).Blocks {
			if b.Site == "site-3" {
				require.Equal(t, known, b.Known)
			}
		}
		require.Len(t, h.Stock()[0].Fits, fits)
	}
	check(time.Time{}, true, true, 1)
	x.heard = time.Now().Add(-time.Hour)
	check(at, false, false, 0)
	x.heard = time.Now()
	delete(x.hosts, "host-0003")
	check(at, false, false, 0)
	require.Equal(t, []string{"plankton"}, x.says.Stock[0].Fits, "what was sent stays as it is")
}

// TestSilent: there is one call when a site becomes silent and one when it reports again, and none for a site that
// never connected.
func TestSilent(t *testing.T) {
	h := many(20)
	var told [][]string
	h.Silent = func(all []api.Site) {
		names := []string{}
		for _, x := range all {
			names = append(names, x.Name)
		}
		told = append(told, names)
	}
	h.ofLocked("never")
	begun := time.Now().Add(-time.Hour)
	h.noticeSilent(begun)
	require.Empty(t, told, "all are heard")
	h.sites["site-3"].heard = time.Now().Add(-30 * time.Second)
	h.noticeSilent(begun)
	require.Empty(t, told, "a service may be started anew")
	h.sites["site-3"].heard = time.Now().Add(-2 * time.Minute)
	h.sites["site-4"].heard = time.Time{}
	h.noticeSilent(time.Now())
	require.Empty(t, told, "this headquarters has not listened for long enough")
	h.noticeSilent(begun)
	h.noticeSilent(begun)
	require.Equal(t, [][]string{{"site-3", "site-4"}}, told)
	h.sites["site-4"].heard = time.Now()
	h.noticeSilent(begun)
	require.Equal(t, []string{"site-3"}, told[1])
}

// BenchmarkMany: the round and a search of 200,000 drives.
func BenchmarkMany(b *testing.B) {
	h := many(3334)
	b.Run("round", func(b *testing.B) {
		for b.Loop() {
			h.Round()
		}
	})
	b.Run("search", func(b *testing.B) {
		for b.Loop() {
			h.Search("LD0200017")
		}
	})
}
