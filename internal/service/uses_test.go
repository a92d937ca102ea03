package service

import (
	"slices"
	"strings"
	"testing"
	"time"

	"lantern/internal/api"

	"github.com/stretchr/testify/require"
)

// TestNeverOnAGuess: a drive in no known pool is called unused only when that was established; everything else is in
// use or unknown, and is neither stock, nor fitting, nor tested, nor admitted.
func TestNeverOnAGuess(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(*api.DriveReport)
		kind   string // of the refusal
		says   string
	}{
		{"blank", func(*api.DriveReport) {}, "no-member", "both its ends were read and are blank"},
		{"not read", func(d *api.DriveReport) { d.Looked = false }, "use-unknown", "was not read"},
		{"an old agent", func(d *api.DriveReport) { d.Looked, d.Uses = false, nil }, "use-unknown", "was not read"},
		{"encrypted, open", func(d *api.DriveReport) {
			d.Uses = []api.Use{{Kind: "btrfs", Chain: []string{"dm-0"}, Active: true, Says: "btrfs on dm-0, " +
				"mounted at /srv"}}
		}, "in-use", "btrfs on dm-0, mounted at /srv"},
		{"a volume of a group", func(d *api.DriveReport) {
			d.Holds, d.Uses = []string{"logical volume member"},
				[]api.Use{{Kind: "logical volume member", Says: "logical volume member"}}
		}, "in-use", "logical volume member"},
		{"swap", func(d *api.DriveReport) { d.Uses = []api.Use{{Kind: "swap", Active: true, Says: "swap"}} },
			"in-use", "swap"},
		{"a member of a pool that nobody knows", func(d *api.DriveReport) {
			d.Uses = []api.Use{{Kind: "array", Active: true, Pool: "gone", Says: "array md7"}}
		}, "in-use", "array md7"},
		{"something that nobody knows", func(d *api.DriveReport) {
			d.Holds = []string{"something unknown (it is " +
				"not blank)"}
		}, "in-use", "something unknown"},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := newBench(t)
			d := b.disk("ZZ009", 9)
			c.change(&d)
			b.drives = append(b.drives, d)
			b.report()
			_, err := b.s.Swaps.PlanSwap("ida", "ZZ009")
			b.problem(err, c.kind, c.says)
			blank := c.kind == "no-member"
			stock := b.s.Stock.Stock()
			require.Equal(
				t,
				blank,
				slices.ContainsFunc(stock, func(x api.StockItem) bool { return x.Tail == "ZZ009" }),
			)
			fits, err := b.s.Views.Fit("plankton")
			require.NoError(t, err)
			for _, f := range fits {
				require.Equal(
					t,
					blank,
					slices.ContainsFunc(f.Candidates, func(x api.LostMember) bool { return x.Tail == "ZZ009" }),
					"%+v",
					f,
				)
			}
			_, err = b.s.Stock.Accept("ida", api.AcceptDrive{Drive: "ZZ009", Surface: true, Tail: "ZZ009"})
			_, err2 := b.s.Views.ActOnPool(
				"ida",
				"plankton",
				api.PoolAction{Action: api.PoolActionActionAdmit, Drive: "ZZ009", Tail: "ZZ009"},
			)
			if !blank {
				b.problem(err, "drive-refused", "ZZ009")
				b.problem(err2, "drive-refused", "ZZ009")
				v, err := b.s.Views.Drive("ZZ009")
				require.NoError(t, err)
				require.False(t, len(v.Uses) == 0 && len(v.Holds) == 0 && v.Looked)
			}
			// If it is absent, or its host does not report, what was known before is unknown now.
			b.drives = b.drives[:3]
			b.report()
			_, err = b.s.Swaps.PlanSwap("ida", "ZZ009")
			b.problem(err, "use-unknown", "does not answer")
			v, err := b.s.Views.Drive("ZZ009")
			require.NoError(t, err)
			require.False(t, v.Looked)
			if want := map[bool]api.Verdict{true: api.Dead, false: api.Unknown}[len(d.Uses) > 0 && d.Uses[0].Active]; true {
				require.Equal(t, want, v.Verdict, "%+v", v.Findings)
			}
		})
	}
	b := newBench(t)
	b.drives = append(b.drives, b.disk("ZZ009", 9))
	b.report()
	b.clock.forward(10 * time.Minute)
	_, err := b.s.Swaps.PlanSwap("ida", "ZZ009")
	b.problem(err, "in-use", "does not report, so what uses it now is not known")
}

// two makes the drive of a bench a member of a second pool as well, on partitions.
func (b *bench) two() {
	table := api.PartitionTable{
		Scheme:      api.Gpt,
		SectorBytes: 512,
		Slots:       128,
		Parts: []api.PartitionEntry{
			{Number: 1, First: 2048, Last: 4095, Type: "a19d880f-05fc-4d3b-a006-743f0f84911e", Attributes: "0"},
			{Number: 2, First: 4096, Last: 8191, Type: "a19d880f-05fc-4d3b-a006-743f0f84911e", Attributes: "0"},
		},
	}
	b.drives[0].Layout, b.drives[0].Holds = table, []string{"partition table"}
	b.drives[0].Uses = []api.Use{
		{Kind: "array", Chain: []string{"x1p1", "md0"}, Partition: 1, Pool: "p1", Says: "array md0 on x1p1"},
		{Kind: "array", Chain: []string{"x1p2", "md1"}, Partition: 2, Pool: "p2", Says: "array md1 on x1p2"},
	}
	m := &b.pool.Groups[0].Members[0]
	m.Partition, m.Layers, m.Device = 1, []string{"partition"}, "x1p1"
	second := b.pool
	second.Id, second.Name = "p2", "krill"
	second.Groups = []api.GroupReport{
		{
			Name:       "parity",
			Protection: api.Protection{Words: "single parity", Tolerance: 1},
			Members:    slices.Clone(b.pool.Groups[0].Members),
		},
	}
	second.Groups[0].Members[0].Partition, second.Groups[0].Members[0].Device = 2, "x1p2"
	b.more = []api.PoolReport{second}
}

// TestAllPlaces: of a drive with places in two pools the worst counts, every time; one swap plans for both, and is held
// when the other pool cannot bear it.
func TestAllPlaces(t *testing.T) {
	b := newBench(t)
	b.two()
	b.report()
	for range 20 { // nothing depends on the order of a map
		b.report()
		v, err := b.s.Views.Drive("AA001")
		require.NoError(t, err)
		require.Len(t, v.Places, 2)
		require.Equal(t, "krill", v.Pool, "the pool with the least margin stands first")
		require.Equal(t, 1, v.Margin.Members)
		require.Equal(t, 0, v.MarginAfter.Members)
		for _, u := range v.Uses {
			require.NotEmpty(t, u.PoolName, "%+v", u)
		}
	}
	w, err := b.s.Swaps.PlanSwap("ida", "AA001")
	require.NoError(t, err)
	require.Len(t, w.Places, 2)
	require.Contains(t, strings.Join(w.Why, " "), "the drive is also a member of")
	phases := func(w api.Swap) (out []string) {
		for _, s := range w.Steps {
			out = append(out, s.Phase)
		}
		return out
	}
	require.Contains(t, phases(w), "layout")
	// The other pool loses a member: without this drive it would lose data, although the first pool would not.
	b.more[0].Groups[0].Members = slices.Clone(b.more[0].Groups[0].Members)
	b.more[0].Groups[0].Members[1].State = "faulty"
	b.report()
	_, err = b.s.Swaps.BeginSwap("ida", w.Id, "", api.BeginSwap{Reason: "x", NoBackup: true})
	b.problem(err, "check-stops", "data would be lost")
	v, err := b.s.Views.Drive("AA001")
	require.NoError(t, err)
	require.Negative(t, v.MarginAfter.Members)
	b.more[0].Groups[0].Members[1].State = "online"
	b.report()
	_, err = b.s.Swaps.BeginSwap("ida", w.Id, "", api.BeginSwap{Reason: "x", NoBackup: true})
	require.NoError(t, err)
	// When it waits to be pulled and the second source of the other pool differs, the swap stops.
	b.more[0].Witness.Differs = []string{"place 1: the kernel shows it online, its superblock is 9 events old"}
	b.report()
	w, _ = b.s.Swaps.Swap(w.Id)
	require.Contains(t, w.Hold, "its superblock is 9 events old")
	b.more[0].Witness.Differs = nil
	b.report()
	w, _ = b.s.Swaps.Swap(w.Id)
	require.Empty(t, w.Hold)
	// And when something else begins to use the drive.
	b.drives[0].Uses = append(
		slices.Clone(b.drives[0].Uses),
		api.Use{
			Kind:    "ext4 file system",
			Chain:   []string{"x1p3"},
			Active:  true,
			Mounted: []string{"/mnt"},
			Says:    "ext4 file system on x1p3, mounted at /mnt",
		},
	)
	b.report()
	w, _ = b.s.Swaps.Swap(w.Id)
	require.Contains(t, w.Hold, "mounted at /mnt")
}

// TestPoolsThatAreNotKnown: a pool that its host stops reporting, one whose report contradicts itself, and a member
// state that nobody knows are unknown, and never whole.
func TestPoolsThatAreNotKnown(t *testing.T) {
	b := newBench(t)
	look := func() api.Pool {
		p, err := b.s.Views.Pool("plankton")
		require.NoError(t, err)
		return p
	}
	require.True(t, look().Margin.Known)
	for _, state := range []string{"FAULTY", "offline", ""} {
		b.pool.Groups[0].Members[1].State = state
		b.report()
		require.False(t, look().Margin.Known, "a member is %q", state)
	}
	b.pool.Groups[0].Members[1].State = "online"
	b.report()
	require.True(t, look().Margin.Known)
	good := b.pool.Groups[0]
	b.pool.Groups = []api.GroupReport{
		{Name: "mirror", Protection: good.Protection, Members: append(slices.Clone(good.Members), good.Members[0])},
	}
	b.report()
	require.False(t, look().Margin.Known)
	require.Contains(t, look().Wrong, `"1" is the slot of groups[0].members[0] already`)
	b.pool.Groups = []api.GroupReport{good}
	b.report()

	gone := func() {
		r := b.next()
		r.Pools = nil
		require.NoError(t, b.s.TakeReport("fulmar", r))
	}
	w, err := b.s.Swaps.PlanSwap("ida", "AA001")
	require.NoError(t, err)
	gone()
	since := look().NotSeenSince
	gone()
	for range 2 { // over a restart as well
		p := look()
		require.Equal(t, since, p.NotSeenSince)
		require.True(t, p.Stale)
		require.False(t, p.Margin.Known)
		round := b.s.Views.Round()
		require.Len(t, round.Pools, 1)
		require.Contains(t, round.Pools[0].Says, "has not been reported by fulmar since")
		_, err = b.s.Swaps.BeginSwap("ida", w.Id, "", api.BeginSwap{Reason: "x", NoBackup: true})
		require.Error(t, err)
		_, err = b.s.Swaps.PlanSwap("ida", "BB002")
		b.problem(err, "pool-unknown", "has not been reported")
		_, err = b.s.Views.ActOnPool("ida", "plankton", api.PoolAction{Action: api.PoolActionActionRebalance})
		b.problem(err, "pool-unknown", "has not been reported")
		b.restart()
	}
	b.report()
	require.True(t, look().NotSeenSince.IsZero() && look().Margin.Known, "it is reported again")
	_, err = b.s.Views.ActOnPool("ida", "plankton", api.PoolAction{Action: api.PoolActionActionForget})
	b.problem(err, "pool-reported", "still reports plankton")
	gone()
	_, err = b.s.Views.ActOnPool("ida", "plankton", api.PoolAction{Action: api.PoolActionActionForget})
	require.NoError(t, err)
	gone()
	b.restart()
	_, err = b.s.Views.Pool("plankton")
	b.problem(err, "no-pool", "plankton")
}

// TestOldFacts: nothing that was known of a spare, of a pool that changed while it was read, or of one whose drives are
// in standby is taken for what is known now.
func TestOldFacts(t *testing.T) {
	b := newBench(t)
	spare := b.disk("ZZ009", 9)
	spare.Holds, spare.Uses = []string{"md member"}, []api.Use{{Kind: "md member", Says: "md member"}}
	b.drives = append(b.drives, spare)
	b.pool.Spares = []api.MemberReport{
		{Slot: "spare-0", State: "standby", Drive: "wwn-" + spare.Identity.Wwn, SizeBytes: 4_000_787_030_016},
	}
	b.report()
	_, err := b.s.Swaps.PlanSwap("ida", "ZZ009")
	b.problem(err, "is-spare", "stands by, and nothing else uses it")
	b.pool.Inconsistent = true
	b.report()
	_, err = b.s.Swaps.PlanSwap("ida", "ZZ009")
	b.problem(err, "pool-unknown", "changed while it was read")
	p, err := b.s.Views.Pool("plankton")
	require.NoError(t, err)
	require.False(t, p.Margin.Known)
	b.pool.Inconsistent = false
	b.report()
	w, err := b.s.Swaps.PlanSwap("ida", "AA001")
	require.NoError(t, err)
	b.pool.Inconsistent = true
	b.report()
	_, err = b.s.Swaps.BeginSwap("ida", w.Id, "", api.BeginSwap{Reason: "x", NoBackup: true})
	b.problem(err, "check-stops", "")
	b.pool.Inconsistent = false
	b.drives = b.drives[:3]
	b.report()
	_, err = b.s.Swaps.PlanSwap("ida", "ZZ009")
	b.problem(err, "use-unknown", "is not known")
	b.drives = append(b.drives, spare)
	b.report()
	b.clock.forward(10 * time.Minute)
	_, err = b.s.Swaps.PlanSwap("ida", "ZZ009")
	b.problem(err, "use-unknown", "is not known")

	// Unread metadata stop a swap, but are not a problem of the pool; different metadata are one.
	for unread, lines := range map[bool]int{true: 0, false: 1} {
		b.pool.Witness.Differs, b.pool.Witness.Unread = []string{
			"place 1: the pool shows it online, its drive is in standby",
		}, unread
		b.report()
		require.Len(t, b.s.Views.Round().Pools, lines)
		w, err := b.s.Swaps.Swap(w.Id)
		require.NoError(t, err)
		_, err = b.s.Swaps.BeginSwap("ida", w.Id, "", api.BeginSwap{Reason: "x", NoBackup: true})
		b.problem(err, "check-stops", "place 1")
	}
}

// TestLostTogether: drives below a pool's member are lost together: what bears each alone need not bear both.
func TestLostTogether(t *testing.T) {
	b := newBench(t)
	upper := b.pool
	upper.Id, upper.Name = "top", "krill"
	upper.Groups = []api.GroupReport{
		{
			Name:       "devices",
			Protection: api.Protection{Words: "none", None: true},
			Members: []api.MemberReport{
				{Slot: "1", State: "online", Under: b.pool.Id, Device: "md0", SizeBytes: 1 << 40},
			},
		},
	}
	upper.Volumes = []api.VolumeReport{
		{Name: "v", Group: "devices", Protection: api.Protection{Words: "no redundancy"}},
	}
	b.more = []api.PoolReport{upper}
	b.report()
	lost := func(names ...string) bool {
		out, err := b.s.Views.WhatIf("krill", names, 0, 0)
		require.NoError(t, err)
		require.True(t, out.Is.Known)
		return out.Is.Members < 0
	}
	for _, one := range []string{"AA001", "BB002", "CC003"} {
		require.False(t, lost(one))
	}
	require.True(t, lost("AA001", "BB002", "CC003"), "all of the mirror below")
	// A pool on top of another that is no longer reported makes the margin of the swap unknown.
	w, err := b.s.Swaps.PlanSwap("ida", "AA001")
	require.NoError(t, err)
	r := b.next()
	r.Pools = r.Pools[:1]
	require.NoError(t, b.s.TakeReport("fulmar", r))
	_, err = b.s.Swaps.BeginSwap("ida", w.Id, "", api.BeginSwap{Reason: "x", NoBackup: true})
	b.problem(err, "check-stops", "")
	require.Contains(t, err.Error(), "unknown")
}

// TestPaths: a drive that is reached in two ways loses one, and gets it back.
func TestPaths(t *testing.T) {
	b := newBench(t)
	two := []api.DrivePath{
		{Path: "/dev/x1", Port: "a", State: api.DrivePathStateWorking},
		{Path: "/dev/y1", Port: "b", State: api.DrivePathStateWorking},
	}
	b.drives[0].Paths, b.drives[0].Port = two, "a"
	b.report()
	lost := func() bool {
		v, err := b.s.Views.Drive("AA001")
		require.NoError(t, err)
		require.True(t, v.Present)
		return slices.ContainsFunc(v.Findings, func(f api.Finding) bool { return f.Rule == "path-lost" })
	}
	require.False(t, lost())
	b.drives[0].Paths = nil // one is left, and is reported as the drive's own
	b.report()
	require.True(t, lost())
	b.restart()
	b.report()
	require.True(t, lost(), "what was seen once is remembered")
	b.drives[0].Paths = two
	b.report()
	require.False(t, lost())
	b.drives[0].Paths = []api.DrivePath{two[0], {Path: "/dev/y1", Port: "b", State: api.DrivePathStateFailed}}
	b.report()
	require.True(t, lost())
}
