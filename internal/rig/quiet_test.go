//go:build linux

package rig

import (
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/rig/pace"
)

// TestQuiet measures what an idle agent costs: sixty blank drives, a minute at its usual intervals.
// No blank drive is read in that time.
func TestQuiet(t *testing.T) {
	if os.Getenv("LANTERN_STACKS") == "" {
		skip(t, "it takes minutes; make stacks measures it")
	}
	const drives = 60
	r := boot(t, machine{
		memory: 900,
		every:  "30s",
		read:   "5m",
		modules: []string{
			"sd_mod",
			"sg",
			"virtio_pci",
			"virtio_net",
			fmt.Sprintf("scsi_debug num_tgts=%d max_luns=1 dev_size_mb=8", drives),
		},
		devices: func(string) []string { return nil },
	})
	looked := 0
	require.Eventually(t, func() bool {
		res, err := r.client.ListDrivesWithResponse(t.Context(), &api.ListDrivesParams{})
		require.NoError(t, err)
		looked = 0
		for _, d := range res.JSON200.Drives {
			if d.Looked && !d.ReadAt.IsZero() {
				looked++
			}
		}
		return looked >= drives
	}, 150*time.Second, time.Second, "all drives were looked at and read once")
	usage := func() (cpu float64, reads uint64) {
		var user, system, n uint64
		_, err := fmt.Sscanf(r.inside("usage"), "usage %d %d %d %d", &user, &system, &reads, &n)
		require.NoError(t, err)
		require.GreaterOrEqual(t, n, uint64(drives))
		return float64(user+system) / 100, reads // USER_HZ
	}
	require.Eventually(t, func() bool { // until the first looks are over
		before, _ := usage()
		time.Sleep(5 * time.Second)
		after, _ := usage()
		return after-before < 2.5
	}, 90*time.Second, time.Millisecond)
	cpu0, reads0 := usage()
	begun := time.Now()
	time.Sleep(time.Minute) // this is what is measured
	cpu1, reads1 := usage()
	span := time.Since(begun).Seconds()
	var there int64
	_, err := fmt.Sscanf(r.inside("pace"), "pace %d", &there)
	require.NoError(t, err)
	slower := float64(there) / float64(pace.Work())
	share := (cpu1 - cpu0) / span
	t.Logf(
		"an agent with %d blank drives: %.1f %% of a core (%.1f %% of the emulated one, which is %.1f times "+
			"slower at such work), %d reads a minute",
		drives,
		100*share/slower,
		100*share,
		slower,
		reads1-reads0,
	)
	require.Zero(t, reads1-reads0, "an idle blank drive is not read")
	require.Greater(t, slower, 1.0)
	require.Less(t, share/slower, 0.01, "of a core")
	require.Equal(t, "ending", r.inside("end"))
}
