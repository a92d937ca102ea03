package service

import (
	"cmp"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/core/health"
	"lantern/internal/core/notice"
	"lantern/internal/service/fleet"
	"lantern/internal/service/judging"
)

// TestJudgedAlike: whatever happens, drives of which something changed are judged as if all had been judged again.
func TestJudgedAlike(t *testing.T) {
	defer func(n int) { judging.TurnAtLeast = n }(judging.TurnAtLeast)
	judging.TurnAtLeast = 0
	for seed := range uint64(10) {
		r := rand.New(rand.NewPCG(seed, 1))
		b := newBench(t)
		b.s.Fleet.GraceUntil = time.Time{}
		hosts := []string{"fulmar", "skerry", "petrel"}
		reports := map[string]*api.Report{}
		for h, host := range hosts {
			if h > 0 {
				_, err := b.s.Fleet.Enrol("test", host, false)
				require.NoError(t, err)
			}
			p := api.PoolReport{
				Id:      "p" + host,
				Name:    host + "-pool",
				Volumes: []api.VolumeReport{},
				Spares:  []api.MemberReport{},
				Logs:    []api.MemberReport{},
			}
			rep := &api.Report{Host: host, IntervalSeconds: 30, Enclosures: []api.EnclosureReport{}}
			for g := range 2 {
				group := api.GroupReport{Name: fmt.Sprint(g), Protection: api.Protection{Tolerance: 1}}
				for i := range 5 {
					n := h*10 + g*5 + i
					d := api.DriveReport{
						Identity: api.Identity{
							Wwn:    fmt.Sprintf("5%015x", n+1),
							Model:  "OSSFELL OF-8T",
							Serial: fmt.Sprintf("KH3A%03d", n*7),
						},
						CapacityBytes: 8e12,
						Section:       fmt.Sprint("s", g),
						Bay:           i + 1,
						Looked:        true,
					}
					d.Reading = api.Reading{
						Metrics: map[string]float64{
							"pending_sectors":      0,
							"power_on_hours":       float64(1000 + n*3),
							"temperature_celsius":  30,
							"read_latency_seconds": 0.01,
							"link_crc_errors":      0,
						},
					}
					rep.Drives = append(rep.Drives, d)
					group.Members = append(
						group.Members,
						api.MemberReport{
							Slot:   fmt.Sprintf("%d.%d", g, i),
							State:  "online",
							Drive:  "wwn-" + d.Identity.Wwn,
							Domain: host,
						},
					)
				}
				p.Groups = append(p.Groups, group)
			}
			rep.Pools = []api.PoolReport{p}
			reports[host] = rep
		}
		away := map[string][]api.DriveReport{}
		send := func(host string) {
			b.n++
			rep := *reports[host]
			rep.Id, rep.At = fmt.Sprint("x", b.n), b.clock.Now()
			rep.Drives = slices.Clone(rep.Drives)
			for i := range rep.Drives {
				m := map[string]float64{}
				for k, v := range rep.Drives[i].Reading.Metrics {
					m[k] = v
				}
				rep.Drives[i].Reading = api.Reading{At: b.clock.Now(), Metrics: m}
			}
			require.NoError(t, b.s.TakeReport(host, rep))
		}
		for _, host := range hosts {
			send(host)
		}
		for step := range 60 {
			host := hosts[r.IntN(3)]
			rep := reports[host]
			what := ""
			switch k := r.IntN(18); {
			case k < 4 && len(rep.Drives) > 0:
				d := &rep.Drives[r.IntN(len(rep.Drives))]
				name := []string{"pending_sectors", "temperature_celsius", "read_latency_seconds",
					"link_crc_errors", "power_on_hours"}[r.IntN(5)]
				m := map[string]float64{}
				for k, v := range d.Reading.Metrics {
					m[k] = v
				}
				m[name] += []float64{0.5, 3, 60}[r.IntN(3)]
				d.Reading.Metrics = m
				what = name
			case k < 6 && len(rep.Drives) > 1:
				i := r.IntN(len(rep.Drives))
				away[host] = append(away[host], rep.Drives[i])
				rep.Drives = slices.Delete(slices.Clone(rep.Drives), i, i+1)
				what = "a drive leaves"
			case k < 8 && len(away[host]) > 0:
				rep.Drives = append(slices.Clone(rep.Drives), away[host][0])
				away[host] = away[host][1:]
				what = "a drive comes back"
			case k == 17:
				p := &rep.Pools[0]
				p.Recoveries = []api.RecoveryReport{{Id: fmt.Sprint("r", host, step/9), Kind: "resilver",
					State:     []string{"running", "paused", "finished"}[r.IntN(3)],
					StartedAt: b.clock.Now().Add(-time.Hour),
					DoneBytes: int64(step) * 1e9, TodoBytes: 1e12}}
				what = "a recovery is " + p.Recoveries[0].State
			case k == 8:
				m := &rep.Pools[0].Groups[r.IntN(2)].Members[r.IntN(5)]
				m.State = []string{"online", "missing", "faulty", "recovering"}[r.IntN(4)]
				what = "a member is " + m.State
			case k == 9:
				b.clock.forward(time.Duration(r.IntN(200)) * time.Minute)
				what = "time goes on"
			case k == 10:
				_, err := b.s.Judging.SetThreshold(
					"ida",
					api.ThresholdSet{Name: "burst_sectors", Value: float64(2 + r.IntN(60))},
				)
				require.NoError(t, err)
				what = "a threshold"
			case k == 12 && len(away[host]) > 0:
				other := reports[hosts[r.IntN(3)]]
				other.Drives = append(slices.Clone(other.Drives), away[host][0])
				away[host] = away[host][1:]
				what = "a drive comes to " + other.Host
			case k == 13:
				to := fmt.Sprint("pool-", step)
				_, err := b.s.RenamePool("ida", "p"+host, to)
				require.NoError(t, err)
				what = "a pool is called " + to
			case k == 16:
				room := []string{"", "cellar", "attic"}[r.IntN(3)]
				_, err := b.s.Views.SetRoom("ida", host, room)
				require.NoError(t, err)
				what = "a room: " + room
			case k == 15:
				rep.Pools = slices.Clone(rep.Pools)
				if what = "a pool goes"; len(rep.Pools) < 3 {
					what = "a pool comes"
					rep.Pools = append(rep.Pools, api.PoolReport{Id: fmt.Sprint("q", step), Name: fmt.Sprint("b", step),
						Volumes: []api.VolumeReport{}, Spares: []api.MemberReport{}, Logs: []api.MemberReport{},
						Groups: []api.GroupReport{{Name: "0", Members: []api.MemberReport{}}}})
				} else {
					rep.Pools = rep.Pools[:2]
				}
			case k == 14 && len(away[host]) > 0:
				d := away[host][0]
				err := b.s.Fleet.ForgetDrive("ida", "wwn-"+d.Identity.Wwn, "a test")
				what = fmt.Sprint("a drive is forgotten: ", err)
			case k == 11 && len(rep.Drives) > 0:
				rep.Drives = slices.Clone(rep.Drives)
				d := &rep.Drives[r.IntN(len(rep.Drives))]
				d.Section, d.Bay = fmt.Sprint("s", r.IntN(3)), 1+r.IntN(9)
				what = "a drive is moved"
			}
			b.clock.forward(time.Second)
			send(host)
			shown := func() (out []string) {
				places := b.s.Judging.Places()
				for key, j := range b.s.Judging.Judge() {
					out = append(
						out,
						fmt.Sprintf(
							"%s %s %v %s %s %v",
							key,
							j.Verdict,
							j.Findings,
							places[key].Member.Slot,
							places[key].Member.State,
							places[key].Peers,
						),
					)
				}
				slices.Sort(out)
				for _, l := range b.s.Views.Round().Lines {
					out = append(out, fmt.Sprintf("%+v", l))
				}
				return out
			}
			told := func(all []notice.Matter) (out []string) {
				for _, m := range all {
					out = append(out, fmt.Sprintf("%+v", m))
				}
				slices.Sort(out)
				return out
			}
			got, matters := shown(), told(b.s.Judging.AllMatters())
			b.s.Judging.Forget()
			require.Equal(t, shown(), got, "seed %d, step %d: %s on %s", seed, step, what, host)
			require.Equal(t, told(b.s.Judging.DriveMatters(func(*fleet.Drive, fleet.Place) bool { return true })), matters,
				"seed %d, step %d: %s on %s", seed, step, what, host)
			all := slices.SortedFunc(maps.Values(b.s.Fleet.Drives), fleet.ByPlace)
			require.Equal(t, all, b.s.Fleet.ByPlace(), "seed %d, step %d: %s on %s", seed, step, what, host)
			listsHold(t, b.s, all, fmt.Sprintf("seed %d, step %d: %s on %s", seed, step, what, host))
		}
	}
}

// listsHold: what the index of the fleet keeps is what follows from all drives, given in order, and all pools.
func listsHold(t *testing.T, s *Service, all []*fleet.Drive, when string) {
	present, on := map[string]int{}, map[string][]*fleet.Drive{}
	bays := map[string]int{}
	for _, d := range all {
		on[d.Host] = append(on[d.Host], d)
		if d.Present {
			present[d.Host]++
			bays[d.BayName()]++
		}
	}
	var moved, named []*fleet.Drive
	for _, d := range all {
		if d.Present && (len(d.Stays) > 1 || d.BayName() != "" && bays[d.BayName()] > 1) {
			moved = append(moved, d)
		}
		if strings.Contains(strings.ToUpper(strings.Join([]string{d.Desc.Serial, d.Desc.WWN, d.BayName(), d.Desc.Model},
			"\n")), "2") {
			named = append(named, d)
		}
	}
	for host, drives := range on {
		require.Equal(t, drives, s.Fleet.ByHost(host), when)
		require.Equal(t, present[host], s.Fleet.PresentOn(host), when)
	}
	require.Equal(t, moved, s.Fleet.MovedOrShared(), when)
	require.Equal(t, named, s.Fleet.WithName("2"), when)
	require.Empty(t, s.Fleet.WithName("no drive has this in a name"))
	require.Equal(t, slices.SortedFunc(maps.Values(s.Fleet.Drives), func(a, b *fleet.Drive) int {
		return cmp.Or(a.FirstAt.Compare(b.FirstAt), cmp.Compare(a.Key(), b.Key()))
	}), s.Fleet.ByAge(), when)
	require.Equal(t, slices.SortedFunc(maps.Values(s.Fleet.Pools), func(a, b *fleet.Pool) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.ID, b.ID))
	}), s.Fleet.SortedPools(), when)
	filtersHold(t, s, when)
	horizonHolds(t, s, when)
	for _, v := range []health.Verdict{health.Watch, health.Replace, health.Dead, health.Unknown} {
		with := map[string]bool{}
		for key, j := range s.Judging.Judge() {
			if j.Verdict == v {
				with[key] = true
			}
		}
		if kept := s.Judging.With(v); len(with)+len(kept) > 0 {
			require.Equal(t, with, kept, "%s: %s", when, v)
		}
	}
}

// filtersHold: a filter selects of all drives those that it describes, in the same order, and a search finds all that
// have its words in their names.
func filtersHold(t *testing.T, s *Service, when string) {
	list := func(f api.ListDrivesParams) (out []string) {
		f.Limit = 1000
		page, err := s.Views.Drives(f)
		require.NoError(t, err)
		for _, d := range page.Drives {
			out = append(out, d.Key)
		}
		return out
	}
	page, err := s.Views.Drives(api.ListDrivesParams{Limit: 1000})
	require.NoError(t, err)
	those := func(fit func(api.Drive) bool) (out []string) {
		for _, d := range page.Drives {
			if fit(d) {
				out = append(out, d.Key)
			}
		}
		return out
	}
	for _, p := range s.Fleet.SortedPools() {
		require.Equal(t, those(func(d api.Drive) bool { return d.Pool == p.Name }),
			list(api.ListDrivesParams{Pool: []string{p.Name}}), when)
	}
	for _, hosts := range [][]string{{"skerry"}, {"skerry", "fulmar", "skerry"}} {
		require.Equal(t, those(func(d api.Drive) bool { return slices.Contains(hosts, d.Host) }),
			list(api.ListDrivesParams{Host: hosts}), when)
	}
	for _, verdicts := range [][]api.Verdict{{api.Watch}, {api.Replace, api.Unknown, api.Replace}, {api.Sound}} {
		require.Equal(t, those(func(d api.Drive) bool { return slices.Contains(verdicts, d.Verdict) }),
			list(api.ListDrivesParams{Verdict: verdicts}), when)
	}
	for _, q := range []string{"kh3a0", "ULM", "s1/3", "trel-p", "8t"} {
		has := func(d api.Drive) bool {
			return strings.Contains(strings.ToUpper(strings.Join([]string{d.Identity.Serial, d.Identity.Wwn,
				d.Identity.Model, d.Bay, d.Pool, d.Host}, "\n")), strings.ToUpper(q))
		}
		require.Equal(t, those(has), list(api.ListDrivesParams{Q: q}), "%s: %s", when, q)
	}
	for _, q := range []string{"3a02", "3a02 fulmar-pool", "trel-p s1/3", "s1/3 trel-p", "of-8t 3a0"} {
		found := 0
		for _, h := range s.Views.Search(q) {
			if h.Kind == api.HitKindDrive {
				found++
			}
		}
		words := strings.Fields(strings.ToUpper(q))
		want := those(func(d api.Drive) bool {
			names := []string{d.Identity.Serial, d.Identity.Wwn, d.Identity.Model, d.Bay}
			if len(words) > 1 {
				names = append(names, d.Pool)
			}
			text := strings.ToUpper(strings.Join(names, "\n"))
			return !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(text, w) })
		})
		require.Equal(t, min(20, len(want)), found, "%s: %s", when, q)
	}
}

// horizonHolds: the list of pools and the horizon are what follows from all pools.
func horizonHolds(t *testing.T, s *Service, when string) {
	type ranked struct {
		api.Pool
		margin int
	}
	var all []ranked
	for id := range s.Fleet.Pools {
		v, err := s.Views.Pool(id)
		require.NoError(t, err)
		margin := v.Margin.Members
		if !v.Margin.Known || v.Stale {
			margin = -1 << 20
		}
		all = append(all, ranked{v, margin})
	}
	slices.SortFunc(all, func(a, b ranked) int {
		return cmp.Or(cmp.Compare(a.margin, b.margin), cmp.Compare(a.Name, b.Name), cmp.Compare(a.Id, b.Id))
	})
	var blocks []api.HorizonBlock
	var names, listed []string
	for _, p := range all {
		names = append(names, p.Name)
		host := append(slices.Clone(p.Hosts), s.Fleet.Pools[p.Id].Reporter)[0]
		known := p.Margin.Known && !p.Stale
		b := api.HorizonBlock{Name: cmp.Or(s.Fleet.RoomOf(host), host), Places: 1, Pools: 1, Known: known,
			Margin: p.Margin.Members, CapacityBytes: p.CapacityBytes}
		if !p.Margin.Known {
			b.Margin = p.FullMargin
		}
		if known && p.Margin.Members < p.FullMargin {
			b.Below = 1
		}
		if !p.UsedUnknown {
			b.UsedBytes, b.MeasuredBytes = p.UsedBytes, p.CapacityBytes
		}
		if r := p.Recovery.State; r == api.RecoveryStateRunning || r == api.RecoveryStatePaused {
			b.Moving = 1
		}
		i := slices.IndexFunc(blocks, func(x api.HorizonBlock) bool { return x.Name == b.Name })
		if i < 0 {
			blocks = append(blocks, b)
			continue
		}
		x := &blocks[i]
		x.Pools, x.Known, x.Margin = x.Pools+1, x.Known && b.Known, min(x.Margin, b.Margin)
		x.Below, x.Moving, x.CapacityBytes = x.Below+b.Below, x.Moving+b.Moving, x.CapacityBytes+b.CapacityBytes
		x.UsedBytes, x.MeasuredBytes = x.UsedBytes+b.UsedBytes, x.MeasuredBytes+b.MeasuredBytes
	}
	for _, p := range s.Views.AllPools() {
		listed = append(listed, p.Name)
	}
	require.Equal(t, names, listed, when)
	if h := s.Views.Horizon(len(blocks)); h.Grouped {
		require.Equal(t, blocks, h.Blocks, when)
	}
}
