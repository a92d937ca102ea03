//go:build linux

package e2e

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/agent/pools"
	"lantern/internal/agent/pools/btrfs"
	"lantern/internal/agent/pools/conform"
	"lantern/internal/clock"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
)

// TestConformBtrfs tests the driver of btrfs with the conformance kit: a member of a real file system fails, and
// another takes its place. The same is done to md in the virtual machine (TestRig).
func TestConformBtrfs(t *testing.T) {
	if apart(t, 3*time.Minute) {
		return
	}
	b := newBench(t)
	var members []*loop
	for range 3 {
		members = append(members, b.loop(400<<20))
	}
	b.mkfs(members, "raid1")
	b.write("before", 12)
	with := b.loop(400 << 20)
	keys := func(path string) string { return path }
	d := btrfs.New("here", clock.Real{})
	id, slot := "", ""
	all, err := d.Pools(t.Context(), keys)
	require.NoError(t, err)
	for _, s := range all { // the machine may have others
		s.Pool.Everyone(func(_ string, m *pool.Member) {
			if m.Drive == members[1].dev.Name() {
				id, slot = s.Pool.ID, m.Slot
			}
		})
	}
	require.NotEmpty(t, id)
	results := conform.Kit{
		Driver: d,
		Fresh:  func() pools.Driver { return btrfs.New("here", clock.Real{}) },
		Keys:   keys,
		Pool:   id,
		Slot:   slot,
		With:   pools.Target{Path: with.dev.Name(), Size: drive.Bytes(400 << 20)},
		Break: func(context.Context) (string, error) {
			members[1].pull()
			b.write("after the loss", 4)
			return "its backing is gone", nil
		},
		Patience: time.Minute,
		Tell:     func(r conform.Result) { b.say("%v  %s: %s", r.OK, r.Title, r.Says) },
	}.Run(t.Context())
	require.Greater(t, len(results), 12)
	for _, r := range results {
		require.True(t, r.OK, "%s: %s", r.Title, r.Says)
	}
	b.compare()
}
