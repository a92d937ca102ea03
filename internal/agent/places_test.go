package agent

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lantern/internal/agent/pools"
	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/core/stack"
)

// heap is a host's devices for the tests of layers: sda and sdb are two paths to one drive, sdc to sdf four others.
func heap() *places {
	p := &places{
		graph:   stack.Graph{},
		pools:   map[string]string{},
		members: map[string]string{},
		keys:    map[string]string{"sda": "A", "sdb": "A", "sdc": "C", "sdd": "D", "sde": "E", "sdf": "F", "sdg": ""},
	}
	for _, d := range []stack.Device{
		{Name: "sda", Kind: stack.Disk}, {Name: "sdb", Kind: stack.Disk}, {Name: "sdc", Kind: stack.Disk},
		{Name: "sdd", Kind: stack.Disk, Read: true, Contents: []string{drive.PartitionTable}},
		{Name: "sde", Kind: stack.Disk}, {Name: "sdf", Kind: stack.Disk}, {Name: "sdg", Kind: stack.Disk},
		{Name: "dm-0", Kind: stack.Multipath, On: []string{"sda", "sdb"}},
		{Name: "md0", Kind: stack.Array, On: []string{"dm-0", "sdc"}},
		{Name: "sdd1", Kind: stack.Partition, On: []string{"sdd"}, Number: 1},
		{Name: "dm-1", Kind: stack.Crypt, On: []string{"sdd1"}, Bytes: 100, Read: true},
		{Name: "dm-2", Kind: stack.Volume, On: []string{"sde", "sdf"}},
	} {
		p.graph[d.Name] = d
	}
	return p
}

func members(devices ...string) *pools.Snapshot {
	s := &pools.Snapshot{Pool: pool.Pool{ID: "fs", Groups: []pool.Group{{Name: "g"}}}}
	for _, d := range devices {
		s.Pool.Groups[0].Members = append(
			s.Pool.Groups[0].Members,
			pool.Member{Slot: d, Device: d, State: pool.Online},
		)
	}
	return s
}

// TestLayers: the drives of a pool's members are found through every layer; a path without an end is unknown.
func TestLayers(t *testing.T) {
	p := heap()
	md := members("dm-0", "sdc")
	md.Pool.ID, md.Pool.Device = "md", "md0"
	p.take(md)
	at := func(s *pools.Snapshot, i int) pool.Member { return s.Pool.Groups[0].Members[i] }
	require.Equal(t, "A", at(md, 0).Drive, "two paths are one drive")
	require.Empty(t, at(md, 0).Layers)
	fs := members("md0", "dm-1", "dm-2", "sdg")
	p.take(fs)
	require.Equal(t, "md", at(fs, 0).Under, "an array is a pool of its own")
	require.Empty(t, at(fs, 0).Drive)
	require.Equal(t, pool.Online, at(fs, 0).State)
	require.Equal(t, "D", at(fs, 1).Drive)
	require.Equal(t, []string{"partition", "encrypted"}, at(fs, 1).Layers)
	require.Equal(t, 1, at(fs, 1).Partition)
	require.Equal(t, "E", at(fs, 2).Drive)
	require.Equal(t, []string{"F"}, at(fs, 2).Drives, "losing either loses it")
	require.Equal(t, pool.StateUnkn, at(fs, 3).State, "a drive that tells no identity")
	require.Equal(t, "D", p.key("/dev/dm-1"))
	require.Empty(t, p.key("/dev/dm-2"))
	require.Empty(t, p.key("/dev/md0"), "it is a pool, not a drive")

	// A drive that was pulled from below a layer that has not noticed is missing, not online. With two drives below, it
	// is unknown.
	delete(p.graph, "sdd")
	delete(p.graph, "sdf")
	delete(p.graph, "sdb")
	late := members("dm-1", "dm-2", "dm-0")
	p.take(late)
	require.Equal(t, pool.Missing, at(late, 0).State)
	require.Equal(t, pool.StateUnkn, at(late, 1).State)
	require.Equal(t, pool.Online, at(late, 2).State, "the other path leads to it")
	require.Empty(t, p.key("/dev/dm-1"))
	late = members("dm-1")
	late.Recoveries = []recovery.Report{{Slot: "dm-1", Drive: "E", State: recovery.Running}}
	p.take(late)
	require.Equal(t, pool.Recovering, at(late, 0).State)
	require.Equal(t, "E", at(late, 0).Drive, "another is filled in its place")
	p = heap()
	p.take(md)
	p.take(fs)

	// What uses a drive is accounted for by the lowest pool.
	for disk, want := range map[string]string{"sda": "md", "sdc": "md", "sdd": "fs"} {
		uses := p.uses([]string{disk})
		require.NotEmpty(t, uses, disk)
		require.Equal(t, want, uses[0].Pool, disk)
	}
	require.Len(t, p.uses([]string{"sda", "sdb"}), 1, "told once, by whichever path")

	found, paths := onePerDrive(
		[]Found{
			{Path: "/dev/sda", Known: drive.Description{Identity: drive.Identity{WWN: "a"}}},
			{Path: "/dev/sdb", Known: drive.Description{Identity: drive.Identity{WWN: "a"}}},
			{Path: "/dev/sdc", Known: drive.Description{Identity: drive.Identity{WWN: "c"}}},
		},
		map[string]bool{"sda": true},
	)
	require.Len(t, found, 2)
	require.Equal(t, "/dev/sdb", found[0].Path, "the path that works stands for it")
	require.Equal(t, api.DrivePathStateFailed, paths["wwn-a"][0].State)
	require.NotContains(t, paths, "wwn-c")

	// The device that will become a member is the only one of its kind, and it is empty.
	x, err := p.layerOn("D", 1, []string{"partition", "encrypted"})
	require.NoError(t, err)
	require.Equal(t, "dm-1", x.Name)
	_, err = p.layerOn("D", 1, []string{"partition"})
	require.ErrorContains(t, err, "in use already")
	_, err = p.layerOn("D", 2, []string{"partition"})
	require.ErrorContains(t, err, "partition 2")
	_, err = p.layerOn("C", 0, nil)
	require.ErrorContains(t, err, "in use already")

	// The second source for a pool program: the devices that it names as members are not empty.
	w := p.signatures(
		"h",
		&pool.Pool{
			Groups: []pool.Group{
				{
					Members: []pool.Member{
						{Slot: "a", Device: "sdd", State: pool.Online},
						{Slot: "b", Device: "dm-1", State: pool.Online},
						{Slot: "c", State: pool.Online},
						{Slot: "d", State: pool.Online, Domain: "other"},
					},
				},
			},
		},
	)
	require.Equal(
		t,
		[]string{
			"place b: the pool shows it online, nothing is on its device",
			"place c: the pool shows it online, what is on its device could not be read",
		},
		w.Differs,
	)
}
