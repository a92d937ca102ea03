//go:build linux

package rig

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// member is one drive of the stacks' machine: an image, and the label tail that its serial ends in.
func serial(name string) string { return "RIGST" + strings.ToUpper(name) + "0" + name[1:] + "7" }

func tail(name string) string { s := serial(name); return s[len(s)-5:] }

func wwn(name string) uint64 { return 0x5002abe700000000 | uint64(name[0])<<16 | uint64(name[1])<<8 }

const (
	small = 64 << 20
	large = 128 << 20
	roomy = 640 << 20 // btrfs needs room to begin a replacement
)

// TestStacks runs the agent with real storage stacks, made with the usual programs: their state before, during and
// after faults, and swaps in them with a comparison of the data.
func TestStacks(t *testing.T) {
	boots := map[string]func(s *stacks){"short": func(s *stacks) {
		s.step("a file system, swap: in use, and never called unused", s.used)
		s.step("an LVM mirror, swapped by hand", s.volumes)
		s.step("two paths to one drive: one is lost", s.paths)
		s.step("metadata of firmware", s.external)
	}}
	whole := os.Getenv("LANTERN_STACKS") != ""
	if whole { // what takes longer: a second machine beside the first
		short := boots["short"]
		boots = map[string]func(s *stacks){"first": func(s *stacks) {
			short(s)
			s.step("partitions of one drive in two arrays, swapped twice, data compared on both", s.twoArrays)
		}, "second": func(s *stacks) {
			s.step("btrfs over encrypted drives, swapped, data compared", s.encrypted)
			s.step("a reshape followed", s.reshape)
			s.step("an array of version 0.90", s.old)
			s.step("the spare of an array, filled beside a member", s.spare)
			s.step("a member pulled from an idle array", s.idle)
			s.step("a file system over that array", s.over)
		}}
	}
	for name, steps := range boots {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := bootStacks(t, whole)
			steps(s)
			require.Equal(t, "ending", s.inside("end"))
		})
	}
}

// bootStacks starts a machine with blank drives and the programs that make storage stacks of them.
func bootStacks(t *testing.T, long bool) *stacks {
	disks := map[string]int64{
		"x1": small,
		"x2": small,
		"c1": roomy,
		"c2": roomy,
		"a1": large,
		"a2": large,
		"a3": large,
		"l1": small,
		"l2": small,
		"l3": small,
		"o1": small,
		"o2": small,
		"r1": small,
		"r2": small,
		"r3": small,
		"r4": small,
		"e1": small,
		"e2": small,
	}
	r := boot(t, machine{
		memory: 1400,
		long:   long,
		every:  "20s",
		read:   "20s",
		modules: []string{
			"sd_mod",
			"sg",
			"virtio_pci",
			"virtio_scsi",
			"virtio_net",
			"scsi_debug add_host=2 vpd_use_hostno=0 dev_size_mb=32",
			"crc32c_generic",
			"crc32c_intel",
			"raid0",
			"linear",
			"raid1",
			"raid10",
			"raid456",
			"dm_mod",
			"dm_crypt",
			"xts",
			"aesni_intel",
			"dm_raid",
			"dm_mirror",
			"dm_multipath",
			"dm_round_robin",
			"dm_service_time",
			"btrfs",
			"ext4",
			"algif_skcipher",
			"sha256_generic",
			"hmac",
			"ecb",
			"essiv",
		},
		tools: []string{
			arrayTool(t),
			"mdmon",
			"lvm",
			"cryptsetup",
			"dmsetup",
			"sfdisk",
			"mke2fs",
			"mkswap",
			"mkfs.btrfs",
		},
		devices: func(dir string) []string {
			out := []string{"-device", "virtio-scsi-pci,id=scsi"}
			for _, name := range slices.Sorted(maps.Keys(disks)) {
				image(t, dir, name, disks[name])
				out = append(
					out,
					"-drive",
					drive(dir, name),
					"-device",
					fmt.Sprintf(
						"scsi-hd,id=dev-%s,drive=%s,serial=%s,vendor=RIG,product=STACK DISK,wwn=0x%x",
						name,
						name,
						serial(name),
						wwn(name),
					),
				)
			}
			return out
		},
	})
	return &stacks{rig: r}
}

type stacks struct{ *rig }

func image(t *testing.T, dir, name string, size int64) {
	t.Helper()
	path := filepath.Join(dir, name)
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	require.NoError(t, os.Truncate(path, size))
}

// arrayTool is the program that makes arrays of the kernel: it stands beside the one that watches their metadata.
func arrayTool(t *testing.T) string {
	t.Helper()
	for _, folder := range []string{os.Getenv("LANTERN_RIG_TOOLS") + "/sbin", "/sbin", "/usr/sbin"} {
		found, err := filepath.Glob(folder + "/md*m")
		require.NoError(t, err)
		if len(found) > 0 {
			return filepath.Base(found[0])
		}
	}
	return "the program that makes arrays" // programs says that it is missing
}

// array makes or changes an array of the kernel, with another party's tool.
func (s *stacks) array(words ...string) string {
	return s.run(append([]string{arrayTool(s.t)}, words...)...)
}

// path is where a drive is now.
func (s *stacks) path(name string) string {
	return s.until(serial(name), "there", func(d api.Drive) bool { return d.Present }).Path
}

func (s *stacks) run(words ...string) string {
	all := []string{"run"}
	for _, w := range words {
		all = append(all, strings.ReplaceAll(w, " ", "\u2423"))
	}
	return s.inside(all...)
}

// hot puts a new drive in.
func (s *stacks) hot(name string, size int64) {
	image(s.t, s.dir, name, size)
	s.tell(
		"blockdev-add",
		map[string]any{"driver": "file", "node-name": name, "filename": filepath.Join(s.dir, name)},
	)
	s.tell(
		"device_add",
		map[string]any{
			"driver":  "scsi-hd",
			"id":      "dev-" + name,
			"bus":     "scsi.0",
			"drive":   name,
			"serial":  serial(name),
			"vendor":  "RIG",
			"product": "STACK DISK",
			"wwn":     wwn(name),
		},
	)
}

func (s *stacks) pull(name string) { s.tell("device_del", map[string]any{"id": "dev-" + name}) }

// refused plans a swap and gives why there is none.
func (s *stacks) refused(name string) string {
	s.t.Helper()
	res, err := s.client.PlanSwapWithResponse(s.t.Context(), nil, api.PlanSwap{Drive: serial(name)})
	require.NoError(s.t, err)
	require.Nil(s.t, res.JSON201, "%s", res.Body)
	return string(res.Body)
}

func (s *stacks) pool(name, what string, holds func(api.Pool) bool) (p api.Pool) {
	s.t.Helper()
	begun := time.Now()
	said := ""
	if !assert.Eventually(s.t, func() bool {
		res, err := s.client.GetPoolWithResponse(s.t.Context(), name)
		if err != nil || res.JSON200 == nil {
			said = fmt.Sprintf("%v %s", err, res.Body)
			return false
		}
		p = *res.JSON200
		return holds(p)
	}, 90*time.Second, 50*time.Millisecond, what) {
		b, _ := json.MarshalIndent(p, "", " ")
		require.FailNow(s.t, "never seen", "%s\n%s\n%s", what, said, b)
	}
	s.t.Logf("%-12s %s: %.1f s", name, what, time.Since(begun).Seconds())
	return p
}

func (s *stacks) plan(name string) api.Swap {
	s.t.Helper()
	res, err := s.client.PlanSwapWithResponse(s.t.Context(), nil, api.PlanSwap{Drive: serial(name)})
	require.NoError(s.t, err)
	require.NotNil(s.t, res.JSON201, "%s", res.Body)
	return *res.JSON201
}

func check(w api.Swap, id string) api.Check {
	for _, c := range w.Checks {
		if c.Id == id {
			return c
		}
	}
	return api.Check{}
}

// swap waits for a swap to come to something.
func (s *stacks) swap(id, what string, holds func(api.Swap) bool) (w api.Swap) {
	s.t.Helper()
	begun := time.Now()
	if !assert.Eventually(s.t, func() bool {
		res, err := s.client.GetSwapWithResponse(s.t.Context(), id)
		if err != nil || res.JSON200 == nil {
			return false
		}
		w = *res.JSON200
		return holds(w)
	}, 90*time.Second, 50*time.Millisecond, what) {
		b, _ := json.MarshalIndent(w, "", " ")
		require.FailNow(s.t, "never seen", "%s\n%s", what, b)
	}
	s.t.Logf("swap         %s: %.1f s", what, time.Since(begun).Seconds())
	return w
}

func at(phase api.SwapPhase) func(api.Swap) bool {
	return func(w api.Swap) bool { return w.Phase == phase && w.Hold == "" }
}

func (s *stacks) begin(id string) {
	s.t.Helper()
	said := ""
	require.Eventually(s.t, func() bool {
		res, err := s.client.BeginSwapWithResponse(
			s.t.Context(),
			id,
			nil,
			api.BeginSwap{Reason: "a test", NoBackup: true},
		)
		require.NoError(s.t, err)
		said = string(res.Body)
		return res.JSON200 != nil
	}, 40*time.Second, 200*time.Millisecond, "%s", lazy(&said))
}

// lazy is a text that is looked at only when it is written.
func lazy(s *string) fmt.Stringer { return text{s} }

type text struct{ s *string }

func (x text) String() string { return *x.s }

func (s *stacks) confirm(id, name string) {
	s.t.Helper()
	res, err := s.client.ConfirmSwapWithResponse(
		s.t.Context(),
		id,
		nil,
		api.ConfirmTail{Tail: tail(name), Reason: "a test"},
	)
	require.NoError(s.t, err)
	require.NotNil(s.t, res.JSON200, "%s", res.Body)
}

func (s *stacks) next(id string) {
	s.t.Helper()
	res, err := s.client.NextInSwapWithResponse(s.t.Context(), id, nil, api.Reason{})
	require.NoError(s.t, err)
	require.NotNil(s.t, res.JSON200, "%s", res.Body)
}

func uses(d api.Drive) (out []string) {
	for _, u := range d.Uses {
		out = append(out, u.Says)
	}
	return out
}

func closed(w api.Swap) bool { return !w.Open }

// used: a drive with a file system, and one that is swapped to.
func (s *stacks) used(t *testing.T) {
	x1, x2 := s.path("x1"), s.path("x2")
	s.until(serial("x1"), "it was looked at", func(d api.Drive) bool { return d.Looked })
	require.Contains(t, s.refused("x1"), "no-member", "blank, and nothing uses it")
	require.Contains(t, s.refused("x1"), "both its ends were read and are blank")
	s.run("mke2fs", "-q", "-t", "ext4", x1)
	s.until(
		serial("x1"),
		"a file system is there",
		func(d api.Drive) bool { return slices.Contains(d.Holds, "ext file system") },
	)
	require.Contains(t, s.refused("x1"), "in-use")
	s.inside("mount", "ext4", x1, "/mnt/x1")
	s.until(
		serial("x1"),
		"it is mounted",
		func(d api.Drive) bool { return slices.Contains(uses(d), "ext4 file system, mounted at /mnt/x1") },
	)
	require.Contains(t, s.refused("x1"), "ext4 file system, mounted at /mnt/x1")
	s.run("mkswap", x2)
	s.inside("swap", "on", x2)
	s.until(serial("x2"), "it is swapped to", func(d api.Drive) bool { return slices.Contains(uses(d), "swap") })
	require.Contains(t, s.refused("x2"), "swap")
	for _, name := range []string{"x1", "x2"} {
		res, err := s.client.AcceptDriveWithResponse(
			t.Context(),
			nil,
			api.AcceptDrive{Drive: serial(name), Surface: true, Tail: tail(name)},
		)
		require.NoError(t, err)
		require.Contains(t, string(res.Body), "drive-refused", "never written to")
	}
	// A drive that vanishes while it is in use is as serious as the loss of a member.
	s.inside("swap", "off", x2)
	s.until(
		serial("x2"),
		"not swapped to any more",
		func(d api.Drive) bool { return slices.Equal(uses(d), []string{"swap area"}) },
	)
	s.pull("x1")
	s.until(
		serial("x1"),
		"it vanished while it was mounted",
		func(d api.Drive) bool { return !d.Present && d.Verdict == api.Dead },
	)
}

// twoArrays: three drives, each with a boot partition and a partition of two arrays.
func (s *stacks) twoArrays(t *testing.T) {
	table := "label: gpt\\nsize=8M, type=U\\nsize=40M, type=R\\nsize=60M, type=R"
	var parts [2][]string
	for _, name := range []string{"a1", "a2", "a3"} {
		path := s.path(name)
		s.inside("input", table)
		s.run("sfdisk", "-q", path)
		for i := range parts {
			parts[i] = append(parts[i], fmt.Sprint(path, i+2))
		}
	}
	s.array(
		append(
			[]string{
				"--create",
				"/dev/md10",
				"--run",
				"--name=films",
				"--homehost=rig",
				"--level=1",
				"--raid-devices=3",
				"--metadata=1.2",
				"--assume-clean",
				"--bitmap=none",
			},
			parts[0]...)...)
	s.array(
		append(
			[]string{
				"--create",
				"/dev/md11",
				"--run",
				"--name=0",
				"--homehost=rig",
				"--level=5",
				"--raid-devices=3",
				"--chunk=64",
				"--assume-clean",
				"--bitmap=none",
			},
			parts[1]...)...)
	s.inside("fill", "/dev/md10", "0", "20", "11")
	s.inside("fill", "/dev/md11", "0", "40", "12")
	s.pool(
		"films",
		"the mirror",
		func(p api.Pool) bool { return p.Margin.Known && p.Margin.Members == 2 && p.UsedUnknown },
	)
	p := s.pool(
		"rig:0",
		"an installer's array keeps its host",
		func(p api.Pool) bool { return p.Margin.Known && p.Margin.Members == 1 },
	)
	require.NotEmpty(t, p.Witness.Source)
	require.Empty(t, p.Witness.Differs)
	d := s.until(serial("a1"), "it has both places", func(d api.Drive) bool { return len(d.Places) == 2 })
	require.Equal(t, 1, d.Margin.Members, "the worst of both: %+v", d.Margin)
	require.Equal(t, 0, d.MarginAfter.Members)
	require.Len(t, d.Layout.Parts, 3)
	require.Equal(t, "EFI system partition", d.Uses[0].Table)
	for _, x := range [][2]string{{"a1", "a4"}, {"a2", "a5"}} {
		was, now := x[0], x[1]
		w := s.plan(was)
		require.Len(t, w.Places, 2)
		require.Equal(t, api.Warns, check(w, "other-uses").Result, "the boot partition is named: %+v", w.Checks)
		require.Contains(t, check(w, "other-uses").Do, "boot loader is left to you")
		require.Equal(t, api.Passes, check(w, "two-accounts").Result, "%+v", check(w, "two-accounts"))
		s.begin(w.Id)
		s.swap(w.Id, "it may be pulled", func(w api.Swap) bool {
			if w.Phase == api.SwapPhaseScrub && w.Recovery.State != api.RecoveryStateRunning {
				_, _ = s.client.NextInSwapWithResponse(t.Context(), w.Id, nil, api.Reason{Reason: "a test"})
			}
			return w.Phase == api.SwapPhasePull && w.Hold == ""
		})
		s.pull(was)
		s.swap(w.Id, "a new one is asked for", at(api.SwapPhaseInsert))
		s.hot(now, large+16<<20)
		s.swap(w.Id, "its label is asked for", at(api.SwapPhaseConfirm))
		s.confirm(w.Id, now)
		s.swap(w.Id, "it is partitioned, and joins place by place", at(api.SwapPhaseJoin))
		n := s.until(serial(now), "it has its partitions", func(d api.Drive) bool { return len(d.Layout.Parts) == 3 })
		require.Equal(t, d.Layout.Parts, n.Layout.Parts)
		for range 2 {
			s.swap(w.Id, "a place waits to be ordered", func(w api.Swap) bool {
				return w.Phase != api.SwapPhaseJoin ||
					slices.ContainsFunc(
						w.Steps,
						func(st api.Step) bool { return st.State == api.StepStateNow && st.Acts },
					)
			})
			s.next(w.Id)
		}
		w = s.swap(w.Id, "it closes when both are whole", closed)
		require.Equal(t, api.SwapPhaseClosed, w.Phase, "%+v", w.Log)
		s.pool("films", "whole", func(p api.Pool) bool { return p.Margin.Members == 2 })
		s.pool("rig:0", "whole", func(p api.Pool) bool { return p.Margin.Members == 1 })
		require.Equal(t, "same", s.inside("compare", "/dev/md10", "0", "20", "11"))
		require.Equal(t, "same", s.inside("compare", "/dev/md11", "0", "40", "12"))
	}
}

// encrypted: btrfs on two encrypted drives; a person opens an encrypted volume on the new one.
func (s *stacks) encrypted(t *testing.T) {
	s.inside("put", "/tmp/key", "a passphrase of the rig")
	open := func(name string) {
		path := s.path(name)
		s.run(
			"cryptsetup",
			"-q",
			"luksFormat",
			"--type",
			"luks2",
			"--pbkdf",
			"pbkdf2",
			"--pbkdf-force-iterations",
			"1000",
			"--key-file",
			"/tmp/key",
			path,
		)
		s.run("cryptsetup", "open", "--key-file", "/tmp/key", path, "vault-"+name)
	}
	open("c1")
	s.until(
		serial("c1"),
		"unlocked",
		func(d api.Drive) bool { return len(d.Uses) > 0 && strings.Contains(d.Uses[0].Says, "dm-") },
	)
	require.Contains(t, s.refused("c1"), "in-use", "nothing in it yet")
	open("c2")
	s.run(
		"mkfs.btrfs",
		"-q",
		"-L",
		"seals",
		"-d",
		"raid1",
		"-m",
		"raid1",
		"/dev/mapper/vault-c1",
		"/dev/mapper/vault-c2",
	)
	s.inside("mount", "btrfs", "/dev/mapper/vault-c1", "/mnt/seals")
	s.inside("put", "/mnt/seals/log", strings.Repeat("seal seen at the skerry. ", 40))
	p := s.pool("seals", "its members are on drives, through encryption", func(p api.Pool) bool {
		return p.Margin.Known && p.Margin.Members == 1 && len(p.Groups[0].Members) == 2 &&
			p.Groups[0].Members[0].Tail == tail("c1")
	})
	require.Equal(t, []string{"encrypted"}, p.Groups[0].Members[0].Layers)
	require.Empty(t, p.Witness.Differs)
	d := s.until(serial("c1"), "what uses it", func(d api.Drive) bool {
		return len(d.Uses) > 0 && d.Uses[0].PoolName == "seals" &&
			strings.Contains(d.Uses[0].Says, "btrfs seals on dm-")
	})
	require.Len(t, d.Uses, 1)
	w := s.plan("c1")
	require.Contains(t, strings.Join(w.Why, " "), "you set that up")
	s.begin(w.Id)
	s.swap(w.Id, "it may be pulled", func(w api.Swap) bool {
		if w.Phase == api.SwapPhaseScrub && w.Recovery.State != api.RecoveryStateRunning {
			_, _ = s.client.NextInSwapWithResponse(t.Context(), w.Id, nil, api.Reason{Reason: "a test"})
		}
		return w.Phase == api.SwapPhasePull && w.Hold == ""
	})
	s.pull("c1")
	s.pool("seals", "the layer has not noticed, its member is missing all the same", func(p api.Pool) bool {
		i := slices.IndexFunc(p.Groups[0].Members, func(m api.Member) bool { return m.State == "missing" })
		return i >= 0 && p.Margin.Known && p.Margin.Members == 0
	})
	s.swap(w.Id, "a new one is asked for", at(api.SwapPhaseInsert))
	s.hot("c3", roomy)
	s.swap(w.Id, "its label is asked for", at(api.SwapPhaseConfirm))
	s.confirm(w.Id, "c3")
	s.swap(w.Id, "a person is to set it up", at(api.SwapPhasePrepare))
	open("c3")
	s.swap(w.Id, "it is seen", at(api.SwapPhaseJoin))
	s.next(w.Id)
	w = s.swap(w.Id, "it closes", func(w api.Swap) bool {
		if w.Phase == api.SwapPhaseJoin { // btrfs lacked the room to begin on so small a file system: it is asked again
			_, _ = s.client.NextInSwapWithResponse(t.Context(), w.Id, nil, api.Reason{Reason: "a test"})
		}
		return closed(w)
	})
	require.Equal(t, api.SwapPhaseClosed, w.Phase, "%+v", w.Log)
	require.Equal(
		t,
		"is "+strings.TrimSpace(strings.Repeat("seal seen at the skerry. ", 40)),
		s.inside("get", "/mnt/seals/log"),
	)
	// It is unmounted: its state is unknown, and shown as unknown.
	s.inside("unmount", "/mnt/seals")
	p = s.pool(
		"seals",
		"not reported any more",
		func(p api.Pool) bool { return !p.NotSeenSince.IsZero() && !p.Margin.Known },
	)
	require.True(t, p.Stale)
	round, err := s.client.GetRoundWithResponse(t.Context())
	require.NoError(t, err)
	require.True(
		t,
		slices.ContainsFunc(round.JSON200.Pools, func(l api.PoolLine) bool { return l.Pool == "seals" }),
		"it is in the round",
	)
	require.Contains(t, s.refused("c2"), "pool-unknown")
	s.inside("mount", "btrfs", "/dev/mapper/vault-c2", "/mnt/seals")
	s.pool("seals", "reported again", func(p api.Pool) bool { return p.Margin.Known && p.Margin.Members == 1 })
}

const lvmConfig = `devices { use_devicesfile=0 scan=["/dev"] global_filter=["a|/dev/sd|","r|.*|"] } ` +
	`activation { udev_sync=0 udev_rules=0 monitoring=0 } ` +
	`global { use_lvmpolld=0 locking_dir="/run/lock" } backup { backup=0 archive=0 }`

func (s *stacks) lvm(words ...string) string {
	return s.run(append([]string{"lvm", words[0], "--config", lvmConfig}, words[1:]...)...)
}

// volumes: a mirror of LVM on two drives, a plain volume on a third.
func (s *stacks) volumes(t *testing.T) {
	l1, l2, l3 := s.path("l1"), s.path("l2"), s.path("l3")
	s.lvm("pvcreate", "-y", "-q", l1, l2, l3)
	s.lvm("vgcreate", "-q", "bank", l1, l2, l3)
	s.lvm("lvcreate", "-y", "-q", "--type", "raid1", "-m1", "-L", "32m", "--nosync", "-n", "scans", "bank", l1, l2)
	s.lvm("lvcreate", "-y", "-q", "-L", "16m", "-n", "scratch", "bank", l3)
	s.run("mke2fs", "-q", "-t", "ext4", "/dev/mapper/bank-scratch")
	s.inside("mount", "ext4", "/dev/mapper/bank-scratch", "/mnt/scratch")
	s.inside("fill", "/dev/mapper/bank-scans", "0", "20", "21")
	p := s.pool(
		"bank/scans",
		"the mirror, watched",
		func(p api.Pool) bool { return p.Margin.Known && p.Margin.Members == 1 },
	)
	require.True(t, p.Watched)
	require.Equal(t, "LVM metadata on the physical volumes", p.Witness.Source)
	require.Empty(t, p.Witness.Differs)
	s.until(
		serial("l3"),
		"a plain volume uses it",
		func(d api.Drive) bool { return strings.Contains(strings.Join(uses(d), ";"), "mounted at /mnt/scratch") },
	)
	require.Contains(t, s.refused("l3"), "mounted at /mnt/scratch")
	res, err := s.client.ActOnPoolWithResponse(
		t.Context(),
		"bank/scans",
		nil,
		api.PoolAction{Action: api.PoolActionActionScrub},
	)
	require.NoError(t, err)
	require.Contains(t, string(res.Body), "not-offered")
	w := s.plan("l1")
	require.True(t, w.ByHand)
	s.begin(w.Id)
	s.swap(w.Id, "it may be pulled", at(api.SwapPhasePull))
	s.pull("l1")
	s.swap(w.Id, "a new one is asked for", at(api.SwapPhaseInsert))
	s.hot("l4", small)
	s.swap(w.Id, "its label is asked for", at(api.SwapPhaseConfirm))
	s.confirm(w.Id, "l4")
	w = s.swap(w.Id, "by hand now", at(api.SwapPhaseJoin))
	l4 := s.path("l4")
	s.lvm("pvcreate", "-y", "-q", l4)
	s.lvm("vgextend", "-q", "bank", l4)
	s.lvm("lvconvert", "-y", "-q", "--repair", "bank/scans", l4)
	w = s.swap(w.Id, "it closes", closed)
	require.Equal(t, api.SwapPhaseClosed, w.Phase, "%+v", w.Log)
	require.Equal(t, "same", s.inside("compare", "/dev/mapper/bank-scans", "0", "20", "21"))
}

// paths: one drive that is reached in two ways, one of which is lost.
func (s *stacks) paths(t *testing.T) {
	var d api.Drive
	require.Eventually(t, func() bool {
		res, err := s.client.ListDrivesWithResponse(t.Context(), &api.ListDrivesParams{})
		require.NoError(t, err)
		for _, x := range res.JSON200.Drives {
			if x.Identity.Model == "scsi_debug" {
				d, _ = s.drive(x.Key)
			}
		}
		return len(d.Paths) == 2
	}, 40*time.Second, 50*time.Millisecond, "one drive, two paths")
	sectors := fmt.Sprint(d.CapacityBytes / 512)
	s.run(
		"dmsetup",
		"create",
		"mp",
		"--table",
		"0 "+sectors+" multipath 0 0 1 1 round-robin 0 2 1 "+d.Paths[0].Path+" 1 "+d.Paths[1].Path+" 1",
	)
	s.run("mke2fs", "-q", "-t", "ext4", "/dev/mapper/mp")
	s.inside("mount", "ext4", "/dev/mapper/mp", "/mnt/mp")
	s.until(
		d.Key,
		"mounted over both",
		func(d api.Drive) bool { return strings.Contains(strings.Join(uses(d), ";"), "mounted at /mnt/mp") },
	)
	lost := filepath.Base(d.Paths[1].Path)
	s.inside("put", "/sys/block/"+lost+"/device/delete", "1")
	d = s.until(d.Key, "a path is lost, and told", func(d api.Drive) bool {
		return slices.ContainsFunc(d.Findings, func(f api.Finding) bool { return f.Rule == "path-lost" })
	})
	require.True(t, d.Present)
	require.NotEqual(t, api.Dead, d.Verdict)
	s.inside("unmount", "/mnt/mp")
}

// reshape: an array grows from four members to five while it is looked at.
func (s *stacks) reshape(t *testing.T) {
	var paths []string
	for _, name := range []string{"r1", "r2", "r3", "r4"} {
		paths = append(paths, s.path(name))
	}
	s.array(
		append(
			[]string{
				"--create",
				"/dev/md20",
				"--run",
				"--name=whales",
				"--homehost=rig",
				"--level=5",
				"--raid-devices=4",
				"--chunk=64",
				"--assume-clean",
				"--bitmap=none",
			},
			paths...)...)
	s.inside("fill", "/dev/md20", "0", "60", "31")
	before := s.pool(
		"whales",
		"four members",
		func(p api.Pool) bool { return p.Margin.Known && len(p.Groups[0].Members) == 4 },
	)
	s.hot("r5", small)
	s.array("/dev/md20", "--add", s.path("r5"))
	s.inside("put", "/sys/block/md20/md/sync_speed_max", "600")
	s.inside("put", "/sys/block/md20/md/sync_speed_min", "300")
	s.array("--grow", "/dev/md20", "--raid-devices=5")
	p := s.pool("whales", "it reshapes", func(p api.Pool) bool {
		return p.Recovery.Kind == api.RecoveryKindGrow && p.Recovery.State == api.RecoveryStateRunning
	})
	require.Contains(t, s.inside("get", "/sys/block/md20/md/raid_disks"), "(4)")
	require.Len(t, p.Groups[0].Members, 5)
	require.True(t, p.Margin.Known && p.Margin.Members == 1, "%+v", p)
	for _, m := range p.Groups[0].Members {
		require.Equal(t, "online", m.State)
	}
	w := s.plan("r1")
	require.Equal(t, api.Stops, check(w, "no-recovery").Result, "nothing is pulled meanwhile (R4)")
	s.inside("put", "/sys/block/md20/md/sync_speed_max", "200000")
	after := s.pool("whales", "it has ended", func(p api.Pool) bool {
		return p.Recovery.State == api.RecoveryStateFinished && p.CapacityBytes > before.CapacityBytes
	})
	require.Equal(t, before.CapacityBytes/3*4, after.CapacityBytes)
	require.Equal(t, "same", s.inside("compare", "/dev/md20", "0", "60", "31"))
}

// external: an array whose metadata are those of RAID firmware.
func (s *stacks) external(t *testing.T) {
	e1, e2 := s.path("e1"), s.path("e2")
	s.array("--create", "/dev/md127", "--run", "--metadata=ddf", "--raid-devices=2", e1, e2)
	s.array("--create", "/dev/md30", "--run", "--level=1", "--raid-devices=2", "--assume-clean", "/dev/md127")
	p := s.pool(
		"rig:md30",
		"the volume is shown, and watched",
		func(p api.Pool) bool { return p.Margin.Known && p.Margin.Members == 1 },
	)
	require.True(t, p.Watched)
	require.Contains(t, p.Kind, "external metadata")
	require.True(t, strings.HasPrefix(p.Id, "ddf-"), p.Id)
	w := s.plan("e1")
	require.True(t, w.ByHand)
	require.Equal(t, api.Warns, check(w, "two-accounts").Result, "%+v", check(w, "two-accounts"))
	d := s.until(serial("e2"), "what is on it is known", func(d api.Drive) bool { return len(d.Uses) > 0 })
	require.Equal(t, "rig:md30", d.Uses[0].PoolName)
}

// old: an array of version 0.90 takes a new member.
func (s *stacks) old(t *testing.T) {
	s.array(
		"--create",
		"/dev/md40",
		"--run",
		"--metadata=0.90",
		"--level=1",
		"--raid-devices=2",
		"--assume-clean",
		s.path("o1"),
		s.path("o2"),
	)
	s.inside("fill", "/dev/md40", "0", "20", "41")
	p := s.pool("rig:md40", "it is shown", func(p api.Pool) bool { return p.Margin.Known && p.Margin.Members == 1 })
	require.Empty(t, p.Witness.Differs)
	w := s.plan("o1")
	s.begin(w.Id)
	s.swap(w.Id, "it may be pulled", func(w api.Swap) bool {
		if w.Phase == api.SwapPhaseScrub && w.Recovery.State != api.RecoveryStateRunning {
			_, _ = s.client.NextInSwapWithResponse(t.Context(), w.Id, nil, api.Reason{Reason: "a test"})
		}
		return w.Phase == api.SwapPhasePull && w.Hold == ""
	})
	s.pull("o1")
	s.swap(w.Id, "a new one is asked for", at(api.SwapPhaseInsert))
	s.hot("o3", small)
	s.swap(w.Id, "its label is asked for", at(api.SwapPhaseConfirm))
	s.confirm(w.Id, "o3")
	w = s.swap(w.Id, "it closes", closed)
	require.Equal(t, api.SwapPhaseClosed, w.Phase, "%+v", w.Log)
	require.Equal(t, "same", s.inside("compare", "/dev/md40", "0", "20", "41"))
}

// spare: the kernel fills the spare of an array beside a member that still works, and the margin never falls.
func (s *stacks) spare(t *testing.T) {
	s.array(
		"--create",
		"/dev/md50",
		"--run",
		"--name=nets",
		"--homehost=rig",
		"--metadata=1.2",
		"--level=1",
		"--raid-devices=2",
		"--spare-devices=1",
		"--assume-clean",
		s.path("l1"),
		s.path("l2"),
		s.path("l3"),
	)
	s.inside("fill", "/dev/md50", "0", "20", "51")
	s.pool("nets", "whole, and its spare stands by", func(p api.Pool) bool {
		return p.Margin.Known && p.Margin.Members == 1 && len(p.Spares) == 1 && p.Spares[0].State == "standby" &&
			slices.Contains(p.Offers, "spare")
	})
	s.until(serial("l3"), "the spare was looked at", func(d api.Drive) bool { return d.Looked && len(d.Places) == 1 })
	w := s.plan("l1")
	require.NotEmpty(t, w.Spare, "%+v", w)
	s.begin(w.Id)
	s.swap(w.Id, "the label of the spare is asked for", at(api.SwapPhaseConfirm))
	s.confirm(w.Id, "l3")
	s.swap(
		w.Id,
		"the old one may be pulled",
		func(w api.Swap) bool { return w.Phase == api.SwapPhasePull && w.Hold == "" },
	)
	p := s.pool(
		"nets",
		"the spare is a member",
		func(p api.Pool) bool { return p.Margin.Members == 1 && len(p.Groups[0].Members) == 2 },
	)
	require.True(
		t,
		slices.ContainsFunc(
			p.Groups[0].Members,
			func(m api.Member) bool { return m.Tail == tail("l3") && m.State == "online" },
		),
		"%+v",
		p.Groups[0].Members,
	)
	s.pull("l1")
	w = s.swap(w.Id, "it closes", closed)
	require.Equal(t, api.SwapPhaseClosed, w.Phase, "%+v", w.Log)
	record, err := s.client.ReportSwapWithResponse(t.Context(), w.Id)
	require.NoError(t, err)
	for _, m := range record.JSON200.Margins {
		require.True(t, !m.Margin.Known || m.Margin.Members >= 1, "%+v", record.JSON200.Margins)
	}
	require.Equal(t, "same", s.inside("compare", "/dev/md50", "0", "20", "51"))
}

// idle: the kernel does not notice that a member of an idle array is gone; what is said of it does.
func (s *stacks) idle(t *testing.T) {
	p := s.pool("whales", "idle and whole", func(p api.Pool) bool { return p.Margin.Known && p.Margin.Members == 1 })
	slot := slices.IndexFunc(p.Groups[0].Members, func(m api.Member) bool { return m.Tail == tail("r2") })
	require.GreaterOrEqual(t, slot, 0)
	s.pull("r2")
	s.pool("whales", "it is missing, and the margin is less", func(p api.Pool) bool {
		return p.Groups[0].Members[slot].State == "missing" && p.Margin.Members == 0 &&
			p.Groups[0].Members[slot].Tail == tail("r2")
	})
	s.until(serial("r2"), "dead", func(d api.Drive) bool { return d.Verdict == api.Dead })
	require.Equal(t, "same", s.inside("compare", "/dev/md20", "0", "60", "31"))
}

// over: btrfs on an array has the array for a member, and the margin of what is below it.
func (s *stacks) over(t *testing.T) {
	s.run("mkfs.btrfs", "-q", "-f", "-L", "floe", "-d", "single", "-m", "dup", "/dev/md20")
	s.inside("mount", "btrfs", "/dev/md20", "/mnt/floe")
	below := s.pool(
		"whales",
		"the array below",
		func(p api.Pool) bool { return p.Margin.Known && p.Margin.Members == 0 },
	)
	p := s.pool("floe", "its member is an array, and its margin that of the array", func(p api.Pool) bool {
		return p.Margin.Known && p.Margin.Members == 0 && p.Groups[0].Members[0].Under == below.Id
	})
	require.Empty(t, p.Witness.Differs)
	w, err := s.client.WhatIfWithResponse(t.Context(), "floe", &api.WhatIfParams{Lose: []string{serial("r3")}})
	require.NoError(t, err)
	require.NotNil(t, w.JSON200, "%s", w.Body)
	require.EqualValues(t, "lost", w.JSON200.Outcome, "%+v", w.JSON200)
	s.until(serial("r3"), "both account for it", func(d api.Drive) bool {
		return strings.Contains(strings.Join(uses(d), ";"), "mounted at /mnt/floe") && d.Uses[0].PoolName == "whales"
	})
}
