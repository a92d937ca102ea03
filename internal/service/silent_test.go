package service

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// TestSilentHost: of a host that stops reporting the round tells once, with how many drives of which pools are not
// known for that; what else is to be told of its drives stays, and all is as before when it reports again. A few drives
// are told one by one.
func TestSilentHost(t *testing.T) {
	s, c := nothingYet(t)
	var reports []api.Report
	for h, drives := range []int{60, 60, fewDrives} {
		r := api.Report{Host: fmt.Sprintf("annex-%03d", h), IntervalSeconds: 86400, Enclosures: []api.EnclosureReport{},
			Pools: []api.PoolReport{}}
		_, err := s.Fleet.Enrol("ida", r.Host, false)
		require.NoError(t, err)
		g := api.GroupReport{Name: "g", Protection: api.Protection{Tolerance: 2}}
		for i := range drives {
			wwn := fmt.Sprintf("5%015x", h*1000+i+1)
			r.Drives = append(r.Drives, api.DriveReport{CapacityBytes: 8e12, Reading: api.Reading{Metrics: map[string]float64{
				"pending_sectors": 0}}, Identity: api.Identity{Wwn: wwn, Model: "OSSFELL OF-8T",
				Serial: fmt.Sprintf("%c%c%d%05d", 'A'+i%26, 'A'+i/26, h, i)}})
			g.Members = append(g.Members, api.MemberReport{Slot: fmt.Sprint(i), State: "online", Drive: "wwn-" + wwn,
				Domain: r.Host})
		}
		if drives > fewDrives {
			r.Pools = []api.PoolReport{{Id: "p" + r.Host, Name: r.Host + "-store", CapacityBytes: 1,
				Volumes: []api.VolumeReport{},
				Spares:  []api.MemberReport{}, Logs: []api.MemberReport{}, Groups: []api.GroupReport{g}}}
		}
		reports = append(reports, r)
	}
	n := 0
	push := func(hosts ...int) {
		for _, h := range hosts {
			n++
			r := reports[h]
			r.Id, r.At = fmt.Sprint("r", n), c.Now()
			for i := range r.Drives {
				r.Drives[i].Reading.At = c.Now()
			}
			require.NoError(t, s.TakeReport(r.Host, r))
		}
	}
	push(0, 1, 2)
	c.forward(time.Hour)
	reports[0].Drives[5].Reading.Metrics["pending_sectors"] = 400
	push(0, 1, 2)
	c.forward(time.Hour)
	push(0, 1, 2)
	before := s.Views.Round()
	require.Equal(t, []string{"00005"}, tails(before.Lines))
	require.Empty(t, before.Silent)
	for range 4 {
		c.forward(24 * time.Hour)
		push(1)
	}
	now := s.Views.Round()
	require.Len(t, now.Silent, 1, "%v", now.Silent)
	h := now.Silent[0]
	require.Equal(t, "annex-000 does not report: 59 drives, of 1 pool", h.Says)
	require.Equal(t, []string{"annex-000-store"}, h.Pools)
	require.Equal(t, "Look at the host and its agent.", h.Do)
	require.WithinDuration(t, before.At, h.Since, time.Minute)
	of := map[string]int{}
	for _, l := range now.Lines {
		of[l.Host]++
	}
	require.Equal(t, 1, of["annex-000"], "what is known of its bad drive is still told")
	require.LessOrEqual(t, of["annex-002"], fewDrives)
	push(0, 2)
	again := s.Views.Round()
	require.Empty(t, again.Silent)
	require.Equal(t, []string{"00005"}, tails(again.Lines))
}

const fewDrives = 3

func tails(lines []api.RoundLine) (out []string) {
	for _, l := range lines {
		out = append(out, l.Tail)
	}
	return out
}
