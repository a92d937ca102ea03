package service

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"lantern/internal/api"
	"lantern/internal/service/fleet"

	"github.com/stretchr/testify/require"
)

// TestOffersAreTaken: the drives that fit and stock offer for a place are exactly those that a swap of that place
// accepts, whatever the size, medium, sectors, zones, contents and host of the drive.
func TestOffersAreTaken(t *testing.T) {
	r := rand.New(rand.NewPCG(15, 16))
	offered, refused := 0, 0
	for range 12 {
		b := newBench(t)
		for i := range b.drives {
			b.drives[i].Medium, b.drives[i].LogicalSectorBytes = "solid-state", 512
			if r.IntN(2) == 0 {
				b.drives[i].Medium, b.drives[i].LogicalSectorBytes = "rotating", 4096
			}
		}
		log := b.disk("LL004", 4)
		log.CapacityBytes, log.Medium = 480e9, "solid-state"
		b.drives = append(b.drives, log)
		b.pool.Logs = []api.MemberReport{
			{
				Slot:       "log",
				State:      "online",
				Drive:      "wwn-" + log.Identity.Wwn,
				Domain:     "fulmar",
				SizeBytes:  480e9,
				NeedsBytes: 480e9,
			},
		}
		var free []string
		for i := range 6 {
			d := b.disk(fmt.Sprintf("ZZ%03d", i+5), i+5)
			d.CapacityBytes = []int64{480e9, 8e12, 16e12}[r.IntN(3)]
			d.Medium, d.LogicalSectorBytes = []string{"solid-state", "rotating"}[r.IntN(2)], []int{512, 4096}[r.IntN(2)]
			d.Zoned = []string{"", "", "host-managed"}[r.IntN(3)]
			if r.IntN(4) == 0 {
				d.Holds = []string{"ext file system"}
			}
			b.drives = append(b.drives, d)
			free = append(free, d.Identity.Serial[3:])
		}
		b.report()
		fits, err := b.s.Views.Fit("plankton")
		require.NoError(t, err)
		pools := map[string]bool{}
		for _, f := range fits {
			if f.Spare {
				continue
			}
			b.s.mu.Lock()
			p, _ := b.s.Fleet.FindPool("plankton")
			m, _, _ := p.Slot(f.Slot)
			d := b.s.Fleet.Drives[m.Drive]
			b.s.mu.Unlock()
			if d == nil {
				continue
			}
			v, err := b.s.Swaps.PlanSwap("ida", d.Tail())
			require.NoError(t, err)
			w := b.s.Swaps.SwapByID[v.Id]
			for _, tail := range free {
				x, err := b.s.Fleet.FindDrive(tail)
				require.NoError(t, err)
				why := w.Unfit(*b.s.Stock.SwapDrive(x))
				require.Equal(
					t,
					why == "",
					slices.ContainsFunc(f.Candidates, func(c api.LostMember) bool { return c.Tail == tail }),
					"%s for %s: %q",
					tail,
					f.Slot,
					why,
				)
				if why == "" {
					offered++
					pools[tail] = true
				} else {
					refused++
				}
			}
			b.s.mu.Lock()
			delete(b.s.Swaps.SwapByID, v.Id) // only asked
			b.s.mu.Unlock()
		}
		for _, item := range b.s.Stock.Stock() {
			require.Equal(t, pools[item.Tail], len(item.Fits) > 0, "%+v", item)
		}
	}
	require.Greater(t, min(offered, refused), 30)
}

// TestThePastStays: a drive that needed replacement, or was replaced, is not in stock when it comes back with good
// readings, nor offered, nor accepted by a swap, until it has passed an acceptance test; this is kept over a restart.
func TestThePastStays(t *testing.T) {
	b := newBench(t)
	d := b.disk("ZZ009", 9)
	d.Reading.Metrics["pending_sectors"] = 500
	b.drives = append(b.drives, d)
	b.report()
	v, err := b.s.Views.Drive("ZZ009")
	require.NoError(t, err)
	require.Equal(t, api.Replace, v.Verdict)
	at := len(b.drives) - 1
	gone := b.drives[at]
	b.drives = b.drives[:at]
	b.report()
	b.clock.forward(30 * 24 * time.Hour)
	gone.Reading.At, gone.Reading.Metrics = b.clock.Now(), map[string]float64{
		"pending_sectors": 0,
		"power_on_hours":  110,
	}
	b.drives = append(b.drives, gone)
	b.report()
	for range 2 {
		b.s.mu.Lock()
		x, err := b.s.Fleet.FindDrive("ZZ009")
		require.NoError(t, err)
		require.Contains(t, b.s.Fleet.Distrust(x), "had the verdict replace (Sectors that cannot be read)")
		require.NotEmpty(t, b.s.Stock.SwapDrive(x).Ill)
		b.s.mu.Unlock()
		require.False(
			t,
			slices.ContainsFunc(b.s.Stock.Stock(), func(i api.StockItem) bool { return i.Tail == "ZZ009" }),
		)
		fits, err := b.s.Views.Fit("plankton")
		require.NoError(t, err)
		for _, f := range fits {
			require.Empty(t, f.Candidates)
		}
		b.restart()
		b.report()
	}
	b.s.mu.Lock()
	x, _ := b.s.Fleet.FindDrive("ZZ009")
	x.Accepted = fleet.Accepted{State: "passed", At: b.clock.Now().Add(time.Hour)}
	b.s.mu.Unlock()
	require.True(
		t,
		slices.ContainsFunc(
			b.s.Stock.Stock(),
			func(i api.StockItem) bool { return i.Tail == "ZZ009" && len(i.Fits) > 0 },
		),
	)
}
