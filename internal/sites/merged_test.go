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

// many is a headquarters that was told of so many hosts of 60 drives at ten sites.
func many(hosts int) *Headquarters {
	r := rand.New(rand.NewPCG(1, 2))
	h := &Headquarters{Clock: clock.Real{}, Log: slog.New(slog.DiscardHandler), sites: map[string]*site{}}
	for n := range hosts {
		x := h.ofLocked(fmt.Sprintf("site-%d", n%10))
		x.heard, x.at = time.Now(), time.Now()
		if x.says == nil {
			x.says = &views.SiteSays{}
		}
		host := views.HostSays{Host: fmt.Sprintf("host-%04d", n), Room: "stone house"}
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

// TestSearchOfMany: a search finds what looking at each drive finds.
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

// TestRoundOfMany: the round of all sites is in the order that one service has.
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

// TestSilent: people are told of a site that has been silent for long, once, and when it is heard again; of one that never
// came they are not.
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
	h.tellSilent(begun)
	require.Empty(t, told, "all are heard")
	h.sites["site-3"].heard = time.Now().Add(-30 * time.Second)
	h.tellSilent(begun)
	require.Empty(t, told, "a service may be started anew")
	h.sites["site-3"].heard = time.Now().Add(-2 * time.Minute)
	h.sites["site-4"].heard = time.Time{}
	h.tellSilent(time.Now())
	require.Empty(t, told, "this headquarters has not listened for long enough")
	h.tellSilent(begun)
	h.tellSilent(begun)
	require.Equal(t, [][]string{{"site-3", "site-4"}}, told)
	h.sites["site-4"].heard = time.Now()
	h.tellSilent(begun)
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
