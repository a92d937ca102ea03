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
	quiet(t, 60, 1, 900, 0.01)
}

// TestShelves measures the same for a host with 1,020 drives behind four shelves, and the duration of the agent's first
// look at all of them.
func TestShelves(t *testing.T) {
	if os.Getenv("LANTERN_SHELVES") == "" {
		skip(t, "it takes a quarter of an hour; make shelves measures it")
	}
	quiet(t, 60, 17, 3000, 0.02)
}

// quiet runs an agent with blank drives in a machine with some MiB of memory, and requires that it takes less than a
// share of a core when nothing happens.
func quiet(t *testing.T, targets, units, memory int, most float64) {
	drives := targets * units
	begun := time.Now()
	r := boot(t, machine{
		memory: memory,
		every:  "30s",
		read:   "5m",
		long:   units > 1,
		modules: []string{
			"sd_mod",
			"sg",
			"virtio_pci",
			"virtio_net",
			fmt.Sprintf("scsi_debug num_tgts=%d max_luns=%d dev_size_mb=8", targets, units),
		},
		devices: func(string) []string { return nil },
	})
	patience := 150*time.Second + time.Duration(drives)*600*time.Millisecond
	looked := 0
	require.Eventually(t, func() bool {
		known, before := 0, looked
		looked = 0
		for cursor := ""; ; {
			res, err := r.client.ListDrivesWithResponse(t.Context(), &api.ListDrivesParams{Limit: 500, Cursor: cursor})
			require.NoError(t, err)
			for _, d := range res.JSON200.Drives {
				if known++; d.Looked && !d.ReadAt.IsZero() {
					looked++
				}
			}
			if cursor = res.JSON200.Next; cursor == "" {
				break
			}
		}
		if looked/100 > before/100 {
			t.Logf("%d of %d drives were read after %.0f s", looked, known, time.Since(begun).Seconds())
		}
		return looked >= drives
	}, patience, 2*time.Second, "all drives were looked at and read once")
	type use struct {
		cpu   float64 // seconds
		reads uint64
		mib   float64
	}
	usage := func() (u use) {
		var user, system, n, kib uint64
		_, err := fmt.Sscanf(r.inside("usage"), "usage %d %d %d %d %d", &user, &system, &u.reads, &n, &kib)
		require.NoError(t, err)
		require.GreaterOrEqual(t, n, uint64(drives))
		u.cpu, u.mib = float64(user+system)/100, float64(kib)/1024 // USER_HZ
		return u
	}
	first := usage()
	require.Eventually(t, func() bool { // until the first looks are over
		before := usage()
		time.Sleep(5 * time.Second)
		return usage().cpu-before.cpu < 2.5
	}, patience, time.Millisecond)
	before := usage()
	from := time.Now()
	time.Sleep(time.Minute) // this is measured
	after := usage()
	span := time.Since(from).Seconds()
	var there int64
	_, err := fmt.Sscanf(r.inside("pace"), "pace %d", &there)
	require.NoError(t, err)
	slower := float64(there) / float64(pace.Work())
	share := (after.cpu - before.cpu) / span
	t.Logf(
		"an agent with %d blank drives: %.1f %% of a core (%.1f %% of the emulated one, which is %.1f times "+
			"slower at such work), %d reads a minute, %.0f MiB; the first look took %.1f s of processor time",
		drives,
		100*share/slower,
		100*share,
		slower,
		after.reads-before.reads,
		after.mib,
		first.cpu/slower,
	)
	require.Zero(t, after.reads-before.reads, "an idle blank drive is not read")
	require.Greater(t, slower, 1.0)
	require.Less(t, share/slower, most, "of a core")
	require.Less(t, after.mib, 100.0)
	require.Equal(t, "ending", r.inside("end"))
}
