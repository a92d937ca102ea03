package service

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// TestHorizon: however many pools and rooms there are, no pool is left out of the horizon, its blocks agree with the
// pools, and a page of the list of pools begins where the previous one ended.
func TestHorizon(t *testing.T) {
	for seed := range uint64(12) {
		r := rand.New(rand.NewPCG(seed, 3))
		s, _, _ := large(t, 0)
		hosts, rooms := 1+r.IntN(40), 1+r.IntN(30)
		for h := range hosts {
			host := fmt.Sprint("h", h)
			_, err := s.Fleet.Enrol("test", host, false)
			require.NoError(t, err)
			rep := api.Report{Id: host, Host: host, At: t0, IntervalSeconds: 60, Enclosures: []api.EnclosureReport{},
				Drives: []api.DriveReport{}}
			for p := range r.IntN(3) {
				g := api.GroupReport{Name: "a", Protection: api.Protection{Tolerance: 2}, Members: []api.MemberReport{}}
				for m := range 4 {
					state := "online"
					if r.IntN(9) == 0 {
						state = "missing"
					}
					g.Members = append(g.Members, api.MemberReport{Slot: fmt.Sprint(m), State: state, Domain: host})
				}
				rep.Pools = append(rep.Pools, api.PoolReport{
					Id: fmt.Sprint(host, "-", p), Name: fmt.Sprint("pool ", h, " ", p), Kind: "groups",
					CapacityBytes: 100, UsedBytes: int64(r.IntN(100)), UsedUnknown: r.IntN(5) == 0,
					Groups: []api.GroupReport{g}, Spares: []api.MemberReport{}, Logs: []api.MemberReport{},
					Volumes: []api.VolumeReport{},
				})
			}
			require.NoError(t, s.TakeReport(host, rep))
			if r.IntN(3) > 0 {
				_, err = s.Views.SetRoom("test", host, fmt.Sprint("room ", r.IntN(rooms)))
				require.NoError(t, err)
			}
		}
		all := s.Views.AllPools()
		most := 2 + r.IntN(30)
		got := s.Views.Horizon(most)
		require.Equal(t, len(all), got.Pools)
		require.LessOrEqual(t, len(got.Blocks), most)
		require.Equal(t, len(all) > most, got.Grouped)
		var pools, capacity, used, measured, below int
		worst := 1 << 20
		for _, b := range got.Blocks {
			pools, below = pools+b.Pools, below+b.Below
			capacity, used, measured = capacity+int(b.CapacityBytes), used+int(b.UsedBytes), measured+int(b.MeasuredBytes)
			worst = min(worst, b.Margin)
			if got.Grouped && b.Name != "" {
				require.Equal(t, 1, b.Places)
				page, _, err := s.Views.Pools(api.ListPoolsParams{Place: b.Name})
				require.NoError(t, err)
				require.Len(t, page, b.Pools, "%s", b.Name)
			}
		}
		var wantCapacity, wantUsed, wantMeasured, wantBelow int
		wantWorst := 1 << 20
		for _, p := range all {
			wantCapacity += int(p.CapacityBytes)
			if !p.UsedUnknown {
				wantUsed, wantMeasured = wantUsed+int(p.UsedBytes), wantMeasured+int(p.CapacityBytes)
			}
			if p.Margin.Members < p.FullMargin {
				wantBelow++
			}
			wantWorst = min(wantWorst, p.Margin.Members)
		}
		require.Equal(t, []int{len(all), wantCapacity, wantUsed, wantMeasured, wantBelow, wantWorst},
			[]int{pools, capacity, used, measured, below, worst}, "seed %d", seed)

		var listed []string
		cursor, size := "", 1+r.IntN(7)
		for {
			page, next, err := s.Views.Pools(api.ListPoolsParams{Brief: true, Limit: size, Cursor: cursor})
			require.NoError(t, err)
			for _, p := range page {
				require.Empty(t, p.Groups)
				listed = append(listed, p.Id)
			}
			if cursor = next; cursor == "" {
				break
			}
			require.Len(t, page, size)
		}
		var want []string
		for _, p := range all {
			want = append(want, p.Id)
		}
		require.Equal(t, want, listed)
		_, _, err := s.Views.Pools(api.ListPoolsParams{Cursor: "nosuch"})
		require.ErrorContains(t, err, "another list")
	}
}
