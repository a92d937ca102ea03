package md

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lantern/internal/agent/pools"
	"lantern/internal/clock"
	"lantern/internal/core/pool"
)

// tree is a kernel's view of arrays laid out in files: what sysfs shows, and devices with superblocks.
type tree struct {
	t    *testing.T
	root string
}

func (k tree) put(path, text string) {
	k.t.Helper()
	path = filepath.Join(k.root, path)
	require.NoError(k.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(k.t, os.WriteFile(path, []byte(text), 0o644))
}

// array lays out an array; attributes beside those that are usual.
func (k tree) array(name, level string, places int, attrs map[string]string) {
	usual := map[string]string{
		"array_state":      "clean",
		"level":            level,
		"raid_disks":       fmt.Sprint(places),
		"component_size":   "51200",
		"sync_action":      "idle",
		"degraded":         "0",
		"metadata_version": "1.2",
		"layout":           "0",
	}
	for n, v := range attrs {
		usual[n] = v
	}
	for n, v := range usual {
		k.put("sys/"+name+"/md/"+n, v+"\n")
	}
}

// member lays out a device of an array with its superblock; s is nil for one that has none.
func (k tree) member(array, device, slot, state string, s *Super) {
	at := "sys/" + array + "/md/dev-" + device + "/"
	k.put(at+"slot", slot+"\n")
	k.put(at+"state", state+"\n")
	k.put(at+"size", "51200\n")
	k.put(at+"block/dev", "8:0\n")
	disk := make([]byte, 1<<20)
	if s != nil {
		s.Offset = 8
		b, err := s.Encode()
		require.NoError(k.t, err)
		copy(disk[4096:], b)
	}
	k.put("dev/"+device, string(disk))
}

func (k tree) look(d *Driver) (out map[string]pools.Snapshot, err error) {
	d.sys, d.dev = k.root+"/sys", k.root+"/dev/"
	all, err := d.Pools(k.t.Context(), func(path string) string { return "key-" + filepath.Base(path) })
	out = map[string]pools.Snapshot{}
	for _, s := range all {
		out[s.Pool.Name] = s
	}
	return out, err
}

func driver() *Driver { return New("rig", clock.Real{}) }

func states(s pools.Snapshot) string {
	var out []string
	s.Pool.Everyone(func(_ string, m *pool.Member) { out = append(out, m.Slot+" "+string(m.State)) })
	return strings.Join(out, ", ")
}

func super(name string, device uint32, roles ...uint16) *Super {
	s := sample()
	s.Name, s.Device, s.Roles, s.Disks = name, device, roles, uint32(len(roles))
	s.ID = [16]byte{byte(len(name)), name[len(name)-1]}
	return s
}

// TestArrays: arrays are reported as the kernel and the superblocks describe them, and missing facts are not invented.
func TestArrays(t *testing.T) {
	k := tree{t, t.TempDir()}
	// It reshapes from four places to five: sysfs has both numbers.
	k.array("md1", "raid5", 0, map[string]string{"raid_disks": "5 (4)", "sync_action": "idle"})
	for i := range 5 {
		k.member("md1", fmt.Sprint("sda", i), fmt.Sprint(i), "in_sync", super("rig:grows", uint32(i), 0, 1, 2, 3, 4))
	}
	// An installer's array on two hosts; one made on another host.
	k.array("md2", "raid1", 2, nil)
	k.member("md2", "sdb0", "0", "in_sync", super("rig:0", 0, 0, 1))
	k.member("md2", "sdb1", "1", "in_sync", super("rig:0", 1, 0, 1))
	k.array("md3", "raid1", 1, nil)
	k.member("md3", "sdc0", "0", "in_sync", super("other:films", 0, 0))
	// Striped and linear arrays have no component size; the size of the array is the kernel's.
	k.array("md4", "raid0", 2, map[string]string{"component_size": "0"})
	k.put("sys/md4/size", "409600\n")
	k.member("md4", "sdd0", "0", "in_sync", super("rig:stripes", 0, 0, 1))
	k.member("md4", "sdd1", "1", "in_sync", super("rig:stripes", 1, 0, 1))
	// A member of an idle array whose device is gone.
	k.array("md5", "raid1", 2, nil)
	k.member("md5", "sde0", "0", "in_sync", super("rig:idle", 0, 0, 1))
	k.member("md5", "sde1", "1", "in_sync", super("rig:idle", 1, 0, 1))
	require.NoError(t, os.RemoveAll(filepath.Join(k.root, "sys/md5/md/dev-sde1/block")))
	// A faulty member whose place the kernel has forgotten: its own superblock knows it, also after the agent was
	// restarted.
	k.array("md6", "raid10", 4, map[string]string{"layout": "258", "degraded": "1"})
	for i, state := range []string{"in_sync", "in_sync", "faulty", "in_sync"} {
		slot := fmt.Sprint(i)
		if state == "faulty" {
			slot = "none"
		}
		k.member("md6", fmt.Sprint("sdf", i), slot, state, super("rig:mirrors", uint32(i), 0, 1, 2, 3))
	}
	// Metadata of firmware: the container is not an array, its volume is watched.
	k.array("md127", "container", 0, map[string]string{"array_state": "inactive", "metadata_version": "external:ddf"})
	k.array("md7", "raid1", 2, map[string]string{"metadata_version": "external:/md127/0"})
	k.member("md7", "sdg0", "0", "in_sync", nil)
	k.member("md7", "sdg1", "1", "in_sync", nil)
	// The kernel uses a member whose superblock is old.
	k.array("md8", "raid1", 2, nil)
	k.member("md8", "sdh0", "0", "in_sync", super("rig:torn", 0, 0, 1))
	old := super("rig:torn", 1, 0, 1)
	old.Events = 3
	k.member("md8", "sdh1", "1", "in_sync", old)

	all, err := k.look(driver())
	require.NoError(t, err)
	require.Equal(t, "0 online, 1 online, 2 online, 3 online, 4 online", states(all["grows"]))
	grows := all["grows"].Pool
	m, known := grows.Margin()
	require.True(t, known && m == 1, "a reshape costs no margin")
	require.Contains(t, all, "rig:0")
	require.Contains(t, all, "other:films")
	require.EqualValues(t, 409600*512, all["stripes"].Pool.Capacity)
	require.EqualValues(t, 51200<<10, all["stripes"].Pool.Groups[0].Members[0].Size)
	require.NotContains(t, all["stripes"].Offers, pools.OfferBeside)
	require.Equal(t, "0 online, 1 missing", states(all["idle"]))
	require.Equal(t, "0 online, 1 online, 2 faulty, 3 online", states(all["mirrors"]))
	fw := all["rig:md7"]
	require.True(t, fw.Pool.Watched)
	require.Empty(t, fw.Offers)
	require.Nil(t, fw.Witness, "there is no second source for it")
	require.Equal(t, "md-external-rig-md127-0", fw.Pool.ID)
	require.Empty(t, all["rig:0"].Witness.Differs)
	require.Equal(
		t,
		[]string{"place 1: the pool shows it online, the superblock on sdh1 is 14 events old"},
		all["torn"].Witness.Differs,
	)
	require.Len(t, all, 8)
	for name, s := range all {
		require.True(t, s.Pool.UsedUnknown, "%s: md does not know what of it is in use", name)
		require.NoError(t, s.Pool.Check(), name)
		s.Pool.Everyone(func(_ string, m *pool.Member) {
			require.True(t, m.Device != "" || m.State == pool.Missing, "%s %s", name, m.Slot)
		})
	}

	// An array that reports no places is ignored.
	k.put("sys/md2/md/raid_disks", "\n")
	all, err = k.look(driver())
	require.ErrorContains(t, err, "places")
	require.NotContains(t, all, "rig:0")
}

// TestAsleep: the superblock of a sleeping member is not read; its earlier content is no evidence of the present.
func TestAsleep(t *testing.T) {
	k := tree{t, t.TempDir()}
	k.array("md2", "raid1", 2, nil)
	k.member("md2", "sdb0", "0", "in_sync", super("rig:nap", 0, 0, 1))
	k.member("md2", "sdb1", "1", "in_sync", super("rig:nap", 1, 0, 1))
	d := driver()
	all, err := k.look(d)
	require.NoError(t, err)
	require.Empty(t, all["nap"].Witness.Differs)
	d.Asleep = func(string) bool { return true }
	require.NoError(t, os.RemoveAll(filepath.Join(k.root, "dev")), "nothing is opened")
	all, err = k.look(d)
	require.NoError(t, err)
	require.Len(t, all["nap"].Witness.Differs, 2)
}
