package stack

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func graph(all ...Device) Graph {
	g := Graph{}
	for _, d := range all {
		g[d.Name] = d
	}
	return g
}

func words(uses []Use) (out []string) {
	for _, u := range uses {
		s := u.String()
		if u.Pool != "" {
			s += " (" + u.Pool + ")"
		}
		if !u.Active {
			s += " (idle)"
		}
		out = append(out, s)
	}
	return out
}

// TestUses: the uses of a drive are followed through every layer, with and without pools; an unread drive is unknown,
// not unused.
func TestUses(t *testing.T) {
	mounted := func(kind, name, at string) []Leaf {
		return []Leaf{{Kind: kind, Name: name, Mounted: []string{at}}}
	}
	for _, c := range []struct {
		name    string
		g       Graph
		members map[string]string
		want    []string
	}{
		{"blank", graph(Device{Name: "sda", Kind: Disk, Read: true}), nil, nil},
		{"not read", graph(Device{Name: "sda", Kind: Disk}), nil, []string{"unknown: not read (idle)"}},
		{"a file system on the whole drive",
			graph(Device{Name: "sda", Kind: Disk, Uses: mounted("ext4 file system", "srv", "/srv")}), nil,
			[]string{"ext4 file system srv, mounted at /srv"}},
		{"partitions of two pools, swap and a boot loader", graph(
			Device{Name: "sda", Kind: Disk, Read: true, Contents: []string{"partition table"}},
			Device{Name: "sda1", Kind: Partition, On: []string{"sda"}, Number: 1, Type: "EFI system " +
				"partition", Read: true, Contents: []string{"fat file system"}},
			Device{Name: "sda2", Kind: Partition, On: []string{"sda"}, Number: 2, Uses: []Leaf{{Kind: "swap"}}},
			Device{Name: "sda3", Kind: Partition, On: []string{"sda"}, Number: 3},
			Device{Name: "sda4", Kind: Partition, On: []string{"sda"}, Number: 4},
			Device{Name: "md0", Kind: Array, On: []string{"sda3"}, Uses: mounted("xfs file system", "", "/a")},
			Device{Name: "md1", Kind: Array, On: []string{"sda4"}, Read: true}), map[string]string{"sda3": "A", "sda4": "B"},
			[]string{"fat file system on sda1 (EFI system partition) (idle)", "swap on sda2", "xfs file system " +
				"on sda3 → md0, mounted at /a (A)", "empty array on sda4 → md1 (B) (idle)"}},
		{"btrfs over an encrypted drive", graph(Device{Name: "sda", Kind: Disk},
			Device{Name: "dm-0", Kind: Crypt, Label: "vault", On: []string{"sda"},
				Uses: mounted("btrfs", "seals", "/seals")}), map[string]string{"dm-0": "FS"},
			[]string{"btrfs seals on dm-0, mounted at /seals (FS)"}},
		{"an unlocked encrypted drive with nothing in it", graph(Device{Name: "sda", Kind: Disk},
			Device{Name: "dm-0", Kind: Crypt, Label: "vault", On: []string{"sda"}, Read: true}), nil,
			[]string{"empty encrypted vault on dm-0 (idle)"}},
		{"LVM over md", graph(Device{Name: "sda", Kind: Disk}, Device{Name: "md0", Kind: Array, On: []string{"sda"}},
			Device{Name: "dm-1", Kind: Volume, Label: "vg/home", On: []string{"md0"},
				Uses: mounted("ext4 file system", "", "/home")}), map[string]string{"sda": "A"},
			[]string{"ext4 file system on md0 → dm-1, mounted at /home (A)"}},
		{"held by something that has no name", graph(Device{Name: "sda", Kind: Disk, Busy: true}), nil,
			[]string{"held by something that the kernel does not name"}},
		{"a stopped array", graph(Device{Name: "sda", Kind: Disk, Read: true, Contents: []string{"md member"}}),
			nil, []string{"md member (idle)"}},
		{"a table without partitions that the kernel shows",
			graph(Device{Name: "sda", Kind: Disk, Read: true, Contents: []string{"partition table"}}), nil,
			[]string{"partition table (idle)"}},
	} {
		require.Equal(t, c.want, words(c.g.Uses("sda", c.members)), c.name)
	}
}

// TestBase: a device is followed down to its drives; paths of one drive count once; pools end the way.
func TestBase(t *testing.T) {
	g := graph(
		Device{Name: "sda", Kind: Disk},
		Device{Name: "sdb", Kind: Disk},
		Device{Name: "sdc", Kind: Disk},
		Device{
			Name: "dm-0",
			Kind: Multipath,
			On:   []string{"sda", "sdb"},
		},
		Device{Name: "dm-1", Kind: Partition, On: []string{"dm-0"}, Number: 1},
		Device{
			Name:   "sdc1",
			Kind:   Partition,
			On:     []string{"sdc"},
			Number: 1,
		},
		Device{Name: "dm-2", Kind: Crypt, On: []string{"sdc1"}},
		Device{Name: "dm-3", Kind: Volume, On: []string{"dm-2", "dm-0"}},
		Device{
			Name: "md0",
			Kind: Array,
			On:   []string{"dm-1", "sdc1"},
		},
		Device{Name: "dm-4", Kind: Crypt, On: []string{"md0"}},
	)
	same := func(disk string) string {
		return map[string]string{"sda": "A", "sdb": "A", "sdc": "C"}[disk]
	}
	base := func(name string, pools ...string) string {
		set := map[string]bool{}
		for _, p := range pools {
			set[p] = true
		}
		b, err := g.Base(name, set, same)
		if err != nil {
			return err.Error()
		}
		return fmt.Sprint(b.Disks, b.Under, b.Layers, b.Number)
	}
	require.Equal(t, "[sda] [] [multipath partition] 1", base("dm-1"))
	require.Equal(t, "[sdc] [] [partition encrypted] 1", base("dm-2"))
	require.Equal(t, "[sda sdc] [] [multipath partition encrypted logical volume] 1", base("dm-3"))
	require.Equal(t, "[] [md0] [encrypted] 0", base("dm-4", "md0"))
	require.Equal(t, "[sda] [] [] 0", base("sda", "md0"))
	require.Equal(t, "gone is not there", base("gone"))
	// A stack deeper than the limit is in use by something unknown.
	deep := Graph{"sda": {Name: "sda", Kind: Disk, Read: true}}
	for i := range 20 {
		deep[fmt.Sprint("e", i)] = Device{
			Name: fmt.Sprint("e", i),
			Kind: Volume,
			On:   []string{map[bool]string{true: "sda", false: fmt.Sprint("e", i-1)}[i == 0]},
			Read: true,
		}
	}
	require.Equal(t, Unread, deep.Uses("sda", nil)[0].Kind)
	g["dm-9"] = Device{Name: "dm-9", Kind: Crypt, On: []string{"dm-9"}}
	require.Contains(t, base("dm-9"), "is on more than")
}

// TestNothingInUseIsUnused: in any graph, a drive below something that the kernel uses, or that was not read, has a
// use.
func TestNothingInUseIsUnused(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		g := Graph{"sda": {Name: "sda", Kind: Disk, Read: true}}
		names := []string{"sda"}
		used := false
		for i := range rapid.IntRange(0, 6).Draw(t, "devices") {
			name := fmt.Sprintf("d%d", i)
			d := Device{
				Name: name,
				Kind: rapid.SampledFrom([]Kind{Partition, Array, Crypt, Volume, Multipath}).Draw(t, "kind"),
				On:   []string{rapid.SampledFrom(names).Draw(t, "on")},
				Read: rapid.Bool().Draw(t, "read"),
			}
			if rapid.Bool().Draw(t, "used") {
				d.Uses = []Leaf{{Kind: "ext4 file system", Mounted: []string{"/"}}}
			}
			used = true // whatever it is, it is on the drive
			g[name] = d
			names = append(names, name)
		}
		uses := g.Uses("sda", nil)
		if used && len(uses) == 0 {
			t.Fatalf("%v", g)
		}
		for _, d := range g {
			for range d.Uses {
				if !slices.ContainsFunc(
					uses,
					func(u Use) bool { return u.Active && len(u.Chain) > 0 && u.Chain[len(u.Chain)-1] == d.Name },
				) {
					t.Fatalf("%s is used, and %v does not say so", d.Name, words(uses))
				}
			}
		}
	})
}

// TestMounts: the kernel's lists of mounts and swap are read completely, or refused.
func TestMounts(t *testing.T) {
	m, err := ParseMounts(
		"36 35 8:1 / /mnt/a\\040b rw,noatime shared:1 - ext4 /dev/sda1 rw,logdev=/dev/sdb,errors=continue\n40 " +
			"35 0:44 /sub /s rw - btrfs /dev/dm-0 rw\n",
	)
	require.NoError(t, err)
	require.Equal(
		t,
		Mount{
			Device:  "8:1",
			At:      "/mnt/a b",
			Type:    "ext4",
			Source:  "/dev/sda1",
			Options: []string{"rw", "logdev=/dev/sdb", "errors=continue"},
		},
		m[0],
	)
	require.Equal(t, []string{"/dev/sdb"}, m[0].Besides())
	_, err = ParseMounts("36 35 8:1 / /mnt\n")
	require.Error(t, err)
	long := "41 35 0:45 / /layers rw - overlay overlay rw,lowerdir=" + strings.Repeat(
		"/a",
		60_000,
	) + "\n42 35 8:2 / /after rw - ext4 /dev/sda2 rw"
	m, err = ParseMounts(long)
	require.NoError(t, err)
	require.Len(t, m, 2, "what comes after a long line is not missed")
	require.Equal(t, "/after", m[1].At)
	require.Equal(
		t,
		[]string{"/dev/sda2", "/swap file"},
		Swaps("Filename\tType\n/dev/sda2 partition 1 0 -2\n/swap\\040file file 1 0 -3\n"),
	)
	require.Equal(t, "vg-0/ho-me", VolumeLabel("vg--0-ho--me"))
	for want, got := range map[Kind]Kind{Crypt: MappedKind("CRYPT-LUKS2-x", []string{"crypt"}),
		Raid: MappedKind("LVM-x", []string{"raid"}), Volume: MappedKind("LVM-x", []string{"linear"}),
		Multipath: MappedKind("mpath-3600", nil), Partition: MappedKind("part1-mpath-3600", []string{"linear"}),
		Mapped: MappedKind("", []string{"linear"}), Cache: MappedKind("LVM-x", []string{"cache"})} {
		require.Equal(t, want, got)
	}
	require.True(t, strings.HasPrefix(Unescape(`\011a`), "\ta"))
}
