//go:build linux

package lvm

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/agent/devmap"
	"lantern/internal/agent/pools"
	"lantern/internal/clock"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
)

// host is a made-up sysfs tree and what its device mapper answers.
type host struct {
	*testing.T
	*Driver
	root          string
	tables, stats map[string]devmap.Target
}

func newHost(t *testing.T) *host {
	h := &host{T: t, root: t.TempDir(), tables: map[string]devmap.Target{}, stats: map[string]devmap.Target{}}
	h.Driver = New("rig", clock.Real{})
	h.sys = h.root
	ask := func(of map[string]devmap.Target) func(string) ([]devmap.Target, error) {
		return func(name string) ([]devmap.Target, error) {
			if x, ok := of[name]; ok {
				return []devmap.Target{x}, nil
			}
			return nil, errors.New("no such device")
		}
	}
	h.table, h.status = ask(h.tables), ask(h.stats)
	return h
}

func (h *host) put(path, text string) {
	require.NoError(h, os.MkdirAll(filepath.Dir(filepath.Join(h.root, path)), 0o755))
	require.NoError(h, os.WriteFile(filepath.Join(h.root, path), []byte(text), 0o644))
}

// device makes a mapped device on disks; those that are not in the tree any more are left over in its list of slaves
// only.
func (h *host) device(number int, name, uuid, table string, on ...string) {
	dir := fmt.Sprintf("block/dm-%d", number)
	h.put(dir+"/dev", fmt.Sprintf("254:%d\n", number))
	h.put(dir+"/size", "4096\n")
	h.put(dir+"/dm/name", name+"\n")
	h.put(dir+"/dm/uuid", uuid+"\n")
	for _, disk := range on {
		h.put(dir+"/slaves/"+disk, "")
	}
	kind, params, _ := strings.Cut(table, " ")
	h.tables[name] = devmap.Target{Length: 8192, Type: kind, Params: params}
}

// volume is a raid or mirror volume over images of their own disks, dm-1 and so on; gone are the disks that were
// pulled.
func (h *host) volume(kind, table, status string, images int, gone ...int) pools.Snapshot {
	for i := range images {
		disk := fmt.Sprintf("sd%c", 'a'+i)
		h.device(i+1, fmt.Sprintf("bank-scans_rimage_%d", i), "LVM-x"+fmt.Sprint(i), "linear "+disk, disk)
		h.put("class/block/"+disk+"/x", "")
	}
	for _, i := range gone {
		require.NoError(h, os.RemoveAll(filepath.Join(h.root, fmt.Sprintf("class/block/sd%c", 'a'+i))))
	}
	h.device(0, "bank-scans", "LVM-whole", kind+" "+table)
	h.stats["bank-scans"] = devmap.Target{Length: 8192, Type: kind, Params: status}
	all, err := h.Pools(h.Context(), nil)
	require.NoError(h, err)
	require.Len(h, all, 1, "the images are no pools")
	require.NoError(h, all[0].Pool.Check())
	return all[0]
}

// TestVolumes: margin and states follow from the device mapper's status, for each kind of volume; a pulled drive is
// missing, whatever the kernel has noticed; an unknown status makes the state unknown.
func TestVolumes(t *testing.T) {
	legs := func(n int) (s string) {
		for i := range n {
			s += fmt.Sprintf(" 254:%d 254:%d", 100+i, i+1)
		}
		return fmt.Sprint(n, s)
	}
	for _, c := range []struct {
		name, kind, table, status string
		images                    int
		gone                      []int
		margin                    pool.Margin
		known                     bool
		states                    string
	}{
		{"two copies", "raid", "raid1 3 0 region_size 1024 " + legs(2), "raid1 2 AA 8192/8192 " +
			"idle 0 0 -", 2, nil, 1, true, "online online"},
		{"one is filled", "raid", "raid1 3 0 region_size 1024 " + legs(2), "raid1 2 Aa 100/8192 " +
			"recover 0 0 -", 2, nil, 0, true, "online recovering"},
		{"one is dead", "raid", "raid1 3 0 region_size 1024 " + legs(3), "raid1 3 ADA 8192/8192 " +
			"idle 0 0 -", 3, nil, 1, true, "online faulty online"},
		{"one was pulled and nobody noticed", "raid", "raid1 3 0 region_size 1024 " + legs(2), "raid1 2 AA " +
			"8192/8192 idle 0 0 -", 2, []int{1}, 0, true, "online missing"},
		{"double parity", "raid", "raid6_zr 3 128 region_size 1024 " + legs(5), "raid6_zr 5 AAAAA 8192/8192 " +
			"idle 0 0 -", 5, nil, 2, true, "online online online online online"},
		{"single parity, one dead", "raid", "raid5_ls 3 128 region_size 1024 " + legs(3), "raid5_ls 3 ADA " +
			"8192/8192 idle 0 0 -", 3, nil, 0, true, "online faulty online"},
		{"striped", "raid", "raid0 1 128 " + legs(2), "raid0 2 AA 8192/8192 idle 0 0 -", 2, nil, 0, true, "online online"},
		{"striped copies", "raid", "raid10 3 128 region_size 1024 " + legs(4), "raid10 4 ADAD 8192/8192 " +
			"idle 0 0 -", 4, nil, 0, true, "online faulty online faulty"},
		{"striped copies, both of a pair dead", "raid", "raid10 3 128 region_size 1024 " + legs(4), "raid10 4 " +
			"DDAA 8192/8192 idle 0 0 -", 4, nil, -1, true, "faulty faulty online online"},
		{"three striped copies", "raid", "raid10 5 128 raid10_copies 3 region_size 1024 " + legs(6), "raid10 6 " +
			"AAAAAA 8192/8192 idle 0 0 -", 6, nil, 2, true, ""},
		{"far copies", "raid", "raid10 5 128 raid10_format far raid10_copies 2 " + legs(4), "raid10 4 AAAA " +
			"8192/8192 idle 0 0 -", 4, nil, 1, true, ""},
		{"copies laid out in a way that is not known", "raid", "raid10 3 128 " +
			"raid10_format woven " + legs(4), "raid10 4 AAAA 8192/8192 idle 0 0 -", 4, nil, 0, true, ""},
		{"an unknown level", "raid", "raid99 1 128 " + legs(2), "raid99 2 AA 8192/8192 " +
			"idle 0 0 -", 2, nil, 0, true, ""},
		{"a status of another form", "raid", "raid1 3 0 region_size 1024 " + legs(2), "raid1 two", 2, nil, 0,
			false, "unknown unknown"},
		{"a mirror", "mirror", "core 2 1024 nosync 2 254:1 0 254:2 0", "2 254:1 254:2 8/8 1 " +
			"AA 1 core", 2, nil, 1, true, "online online"},
		{"a mirror with a dead leg", "mirror", "core 2 1024 nosync 2 254:1 0 254:2 0", "2 254:1 254:2 8/8 1 " +
			"AD 1 core", 2, nil, 0, true, "online faulty"},
		{"a mirror that is filled", "mirror", "core 1 1024 2 254:1 0 254:2 0", "2 254:1 254:2 3/8 1 " +
			"AA 1 core", 2, nil, 0, true, "online recovering"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newHost(t).volume(c.kind, c.table, c.status, c.images, c.gone...)
			m, known := s.Pool.Margin()
			require.Equal(t, c.known, known)
			if known {
				require.Equal(t, c.margin, m)
			}
			var states []string
			s.Pool.Everyone(func(_ string, m *pool.Member) { states = append(states, string(m.State)) })
			if c.states != "" {
				require.Equal(t, c.states, strings.Join(states, " "))
			}
			require.True(t, s.Pool.Watched && s.Pool.UsedUnknown && len(s.Offers) == 0)
			require.Equal(t, "bank/scans", s.Pool.Name)
			require.Equal(t, "dm-0", s.Pool.Device)
			require.Equal(
				t,
				known,
				len(s.Witness.Differs) > 0,
				"without metadata nothing bears out what is counted on",
			)
			require.False(t, s.Witness.Unread)
		})
	}
	// A device that cannot be examined is an error of that device alone.
	h := newHost(t)
	h.volume("raid", "raid1 3 0 region_size 1024 "+legs(2), "raid1 2 AA 8192/8192 idle 0 0 -", 2)
	h.put("block/dm-9/dm/name", "stranger")
	all, err := h.Pools(t.Context(), nil)
	require.ErrorContains(t, err, "no such device")
	require.Len(t, all, 1)
	// A drive in standby is not read, which is different from metadata that differ.
	h = newHost(t)
	h.Asleep = func(string) bool { return true }
	s := h.volume("raid", "raid1 3 0 region_size 1024 "+legs(2), "raid1 2 AA 8192/8192 idle 0 0 -", 2)
	require.True(t, s.Witness.Unread)
	require.Len(t, s.Witness.Differs, 2)
	require.Contains(t, s.Witness.Differs[0], "standby")
}

// TestFollowed: a move of data in a volume is one recovery from its beginning to its end; one that ends while its image
// is not complete was stopped, not finished.
func TestFollowed(t *testing.T) {
	for _, c := range []struct {
		after string
		want  recovery.State
	}{{"raid1 2 AA 8192/8192 idle 0 0 -", recovery.Finished}, {"raid1 2 AD 8192/8192 idle 0 0 -", recovery.Stopped}} {
		h := newHost(t)
		table := "raid1 3 0 region_size 1024 2 254:100 254:1 254:101 254:2"
		require.Empty(t, h.volume("raid", table, "raid1 2 AA 8192/8192 idle 0 0 -", 2).Recoveries)
		first := h.volume("raid", table, "raid1 2 Aa 1024/8192 recover 0 0 -", 2).Recoveries
		require.Len(t, first, 1)
		require.Equal(t, recovery.Rebuild, first[0].Kind)
		require.Equal(t, "1", first[0].Slot)
		require.EqualValues(t, 1024*512, first[0].Done)
		require.EqualValues(t, 8192*512, first[0].Todo)
		next := h.volume("raid", table, "raid1 2 Aa 4096/8192 recover 0 0 -", 2).Recoveries
		require.Equal(t, first[0].ID, next[0].ID)
		require.Equal(t, recovery.Running, next[0].State)
		last := h.volume("raid", table, c.after, 2).Recoveries
		require.Equal(t, c.want, last[0].State)
		require.False(t, last[0].EndedAt.IsZero() || last[0].EndedAt.Before(last[0].StartedAt.Add(-time.Second)))
	}
}

// TestNothingIsOrdered: the driver has none of the methods that change something.
func TestNothingIsOrdered(t *testing.T) {
	var d any = New("rig", clock.Real{})
	_, joins := d.(pools.Joiner)
	_, admits := d.(pools.Admitter)
	_, begins := d.(pools.Beginner)
	_, stops := d.(pools.Stopper)
	_, releases := d.(pools.Releaser)
	_, nudges := d.(pools.Nudger)
	_, prioritises := d.(pools.Prioritiser)
	require.False(t, joins || admits || begins || stops || releases || nudges || prioritises)
}
