//go:build linux

package linux

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lantern/internal/agent"
	"lantern/internal/core/drive"
)

// tree lays files out as sysfs does.
func tree(t *testing.T, files map[string]string) string {
	t.Helper()
	root := t.TempDir()
	for name, text := range files {
		path := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	return root
}

// TestRealDrives: drives are identified by the kernel's data until they are read themselves; devices without identity
// or medium are not listed; an unreadable drive is not taken for empty.
func TestRealDrives(t *testing.T) {
	empty := string(make([]byte, 1<<20))
	root := tree(t, map[string]string{
		"sys/block/sda/size":                      "2048\n",
		"sys/block/sda/diskseq":                   "9\n",
		"sys/block/sda/queue/rotational":          "1\n",
		"sys/block/sda/queue/logical_block_size":  "512\n",
		"sys/block/sda/queue/physical_block_size": "4096\n",
		"sys/block/sda/device/vendor":             "ATA     \n",
		"sys/block/sda/device/model":              "VELDRUN VR4-4000\n",
		"sys/block/sda/device/ioerr_cnt":          "0x1f\n",
		"sys/block/sda/device/wwid":               "naa.5002ABE700001234\n",
		"sys/block/sda/device/vpd_pg80":           "\x00\x80\x00\x0c    VR7ZU006",
		"dev/sda":                                 empty,
		"sys/block/nvme0n1/size":                  "2048",
		"sys/block/nvme0n1/wwid":                  "eui.0002abe700000009",
		"sys/block/nvme0n1/device/model":          "TARNWICK TN960   ",
		"sys/block/nvme0n1/device/serial":         "TW7PL118",
		"sys/block/nvme0n1/queue/rotational":      "0",
		"dev/nvme0n1":                             "XFSB" + empty[4:],
		"sys/block/sdb/size":                      "2048",
		"sys/block/sdb/device/model":              "OSSFELL OF-8T",
		"dev/sdb":                                 empty,
		"sys/block/sdc/size":                      "0",
		"sys/block/sdc/device/wwid":               "naa.5002abe700005678",
		"sys/block/sdd/size":                      "2048",
		"sys/block/sdd/device/wwid":               "naa.5002abe700009999",
		"sys/block/dm-0/size":                     "2048",
		"sys/block/md0/size":                      "2048",
		"sys/block/zram0/size":                    "2048",
	})
	m := &Machine{Root: root}
	found, err := m.Drives(t.Context())
	require.NoError(t, err)
	byPath := map[string]int{}
	for i, f := range found {
		byPath[filepath.Base(f.Path)] = i
	}
	require.Len(t, found, 4, "%v", byPath)
	require.Empty(
		t,
		found[byPath["sdb"]].Known.Key(),
		"it is there, and told of, though it has not said who it is yet",
	)
	a := found[byPath["sda"]]
	require.Equal(
		t,
		drive.Identity{WWN: "5002abe700001234", Vendor: "ATA", Model: "VELDRUN VR4-4000", Serial: "VR7ZU006"},
		a.Known.Identity,
	)
	require.Equal(t, "ZU006", a.Known.Tail())
	require.Equal(t, drive.Bytes(1<<20), a.Known.Capacity)
	require.Equal(t, drive.MediumRotating, a.Known.Medium)
	require.Equal(t, agent.ATA, a.Protocol)
	require.Equal(t, []string{"ata-VELDRUN_VR4-4000_VR7ZU006", "wwn-0x5002abe700001234"}, a.Names)
	failures, counted := a.Failures()
	require.True(t, counted)
	require.EqualValues(t, 0x1F, failures)
	require.NotNil(t, a.Transport)
	require.Empty(t, a.Holds)
	require.True(t, a.Looked)
	n := found[byPath["nvme0n1"]]
	require.Equal(t, "wwn-0002abe700000009", n.Known.Key())
	require.Equal(t, "TW7PL118", n.Known.Serial)
	require.Equal(t, agent.NVMe, n.Protocol)
	require.Equal(t, []string{"xfs file system"}, n.Holds)
	require.Contains(t, found[byPath["sdd"]].Holds[0], "cannot be read")
	only, err := (&Machine{Root: root, Match: "sd*"}).Drives(t.Context())
	require.NoError(t, err)
	require.Len(t, only, 3)

	require.False(t, found[byPath["sdd"]].Looked)

	// A drive that its host put to sleep is not opened: what was found before is kept. If it was never looked at,
	// nothing is known.
	sleep := func(m *Machine, asleep bool) {
		require.NoError(t, os.MkdirAll(filepath.Join(root, "sys/block/sda/device/power"), 0o755))
		state := map[bool]string{true: "suspended\n", false: "active\n"}[asleep]
		require.NoError(
			t,
			os.WriteFile(filepath.Join(root, "sys/block/sda/device/power/runtime_status"), []byte(state), 0o644),
		)
	}
	sleep(m, true)
	fresh := &Machine{Root: root}
	found, err = fresh.Drives(t.Context())
	require.NoError(t, err)
	require.Nil(t, found[byPath["sda"]].Transport)
	require.Contains(t, found[byPath["sda"]].Blind, "sleep")
	require.NotEmpty(t, found[byPath["sda"]].Holds, "not known to be empty is not empty")
	require.False(t, found[byPath["sda"]].Looked)
	sleep(m, false)

	// What was found is kept until the drive was written to, or may have been written to: then it is read again.
	require.NoError(t, os.WriteFile(filepath.Join(root, "dev/sda"), []byte("LUKS\xBA\xBE"+empty[6:]), 0o644))
	found, err = m.Drives(t.Context())
	require.NoError(t, err)
	require.Empty(t, found[byPath["sda"]].Holds)
	now, release, err := found[byPath["sda"]].Pin()
	require.NoError(t, err)
	release()
	require.Equal(t, []string{"encrypted volume"}, now.Holds)
	require.NoError(t, os.WriteFile(filepath.Join(root, "dev/sda"), []byte(empty), 0o644))
	require.NoError(
		t,
		os.WriteFile(filepath.Join(root, "sys/block/sda/stat"), []byte("5 0 40 2 7 0 56 3 0 5 5\n"), 0o644),
	)
	for key, l := range m.looked { // as if it had been some time ago
		l.at = l.at.Add(-lookAgain)
		m.looked[key] = l
	}
	found, err = m.Drives(t.Context())
	require.NoError(t, err)
	require.Empty(t, found[byPath["sda"]].Holds, "somebody wrote to it")
}

// TestStack: the users of a drive are found through partitions, encryption, volumes, arrays, paths, mounts and swap;
// unknown is not taken for unused. Nothing is read twice.
func TestStack(t *testing.T) {
	empty := string(make([]byte, 1<<20))
	ext := []byte(empty)
	ext[0x438], ext[0x439] = 0x53, 0xEF
	root := tree(t, map[string]string{
		// sda: a boot partition, an encrypted one under btrfs, and a swap partition.
		"sys/block/sda/size":             "4096",
		"sys/block/sda/dev":              "8:0",
		"dev/sda":                        empty,
		"sys/block/sda/sda1/size":        "2048",
		"sys/block/sda/sda1/dev":         "8:1",
		"sys/block/sda/sda1/partition":   "1",
		"dev/sda1":                       string(ext),
		"sys/block/sda/sda2/size":        "2048",
		"sys/block/sda/sda2/dev":         "8:2",
		"sys/block/sda/sda2/partition":   "2",
		"sys/block/sda/sda3/size":        "2048",
		"sys/block/sda/sda3/dev":         "8:3",
		"sys/block/sda/sda3/partition":   "3",
		"dev/sda3":                       empty,
		"sys/block/dm-0/size":            "2048",
		"sys/block/dm-0/dev":             "254:0",
		"sys/block/dm-0/dm/name":         "vault",
		"sys/block/dm-0/dm/uuid":         "CRYPT-LUKS2-1",
		"sys/block/dm-0/slaves/sda2/x":   "",
		"sys/fs/btrfs/F1/devices/dm-0/x": "",
		"sys/fs/btrfs/F1/label":          "seals",
		"sys/fs/btrfs/features/x":        "",
		// sdb: one of two paths, with an array on it that is mounted; sdc: the other; sdd: a physical volume with
		// nothing known above.
		"sys/block/sdb/size":          "2048",
		"sys/block/sdb/dev":           "8:16",
		"dev/sdb":                     empty,
		"sys/block/sdc/size":          "2048",
		"sys/block/sdc/dev":           "8:32",
		"dev/sdc":                     empty,
		"sys/block/dm-1/size":         "2048",
		"sys/block/dm-1/dev":          "254:1",
		"sys/block/dm-1/dm/name":      "mp",
		"sys/block/dm-1/dm/uuid":      "mpath-3600",
		"sys/block/dm-1/slaves/sdb/x": "",
		"sys/block/dm-1/slaves/sdc/x": "",
		"sys/block/md0/size":          "2048",
		"sys/block/md0/dev":           "9:0",
		"sys/block/md0/slaves/dm-1/x": "",
		"sys/block/sdd/size":          "2048",
		"sys/block/sdd/dev":           "8:48",
		"dev/sdd":                     empty[:512] + "LABELONE" + empty[520:],
		"sys/block/sde/size":          "2048",
		"sys/block/sde/dev":           "8:64",
		"dev/sde":                     empty,
		"sys/block/sdf/size":          "2048",
		"sys/block/sdf/dev":           "8:80",
		"sys/block/sdg/size":          "2048",
		"sys/block/sdg/dev":           "8:96",
		"dev/sdg":                     empty,
		"sys/block/sdh/size":          "2048",
		"sys/block/sdh/dev":           "8:112",
		"dev/sdh":                     empty,
		"proc/1/mountinfo": "1 1 0:40 / /seals rw - btrfs /dev/dm-0 rw\n2 1 9:0 / /srv rw - xfs " +
			"/dev/md0 rw,logdev=/dev/sdg\n3 1 0:5 / /proc rw - proc proc rw\n",
		"proc/swaps": "Filename Type\n/dev/sda3 partition 1 0 -2\n",
		"dev/dm-0":   "",
		"dev/md0":    "",
	})
	m := &Machine{Root: root}
	g, err := m.Stack()
	require.NoError(t, err)
	uses := func(disk string) (out []string) {
		for _, u := range g.Uses(disk, nil) {
			out = append(out, u.String())
		}
		return out
	}
	require.Equal(
		t,
		[]string{"ext file system on sda1", "btrfs seals on sda2 → dm-0, mounted at /seals", "swap on sda3"},
		uses("sda"),
	)
	for _, path := range []string{"sdb", "sdc"} {
		require.Equal(t, []string{"xfs file system on dm-1 → md0, mounted at /srv"}, uses(path))
	}
	require.Equal(t, []string{"logical volume member"}, uses("sdd"))
	require.Empty(t, uses("sde"), "both ends were read, and are blank")
	require.Contains(t, uses("sdf")[0], "something that cannot be read", "not read is not unused")
	require.Equal(t, []string{"log of the xfs file system, mounted at /srv"}, uses("sdg"))
	require.Empty(t, uses("sdh"))
	b, err := g.Base("md0", nil, func(disk string) string { return map[string]string{"sdb": "K", "sdc": "K"}[disk] })
	require.NoError(t, err)
	require.Equal(t, []string{"sdb"}, b.Disks, "two paths are one drive")

	// Nothing is read again while nothing changed: the devices may even be gone.
	require.NoError(t, os.Remove(filepath.Join(root, "dev/sde")))
	g, err = m.Stack()
	require.NoError(t, err)
	require.Empty(t, uses("sde"))
	require.NoError(t, os.WriteFile(filepath.Join(root, "proc/1/mountinfo"), []byte("no such form"), 0o644))
	_, err = m.Stack()
	require.Error(t, err, "what is mounted must not be missed")
}

// TestIdentities: a drive on a USB bridge is identified by its serial or reported without a name; two namespaces of one
// drive are two.
func TestIdentities(t *testing.T) {
	root := t.TempDir()
	put := func(path, text string) {
		t.Helper()
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, path)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, path), []byte(text), 0o644))
	}
	usb := func(name, serial string) {
		dev := "sys/devices/pci0/usb1/" + name
		put(dev+"/idVendor", "1234")
		put(dev+"/idProduct", "0001")
		if serial != "" {
			put(dev+"/serial", serial)
		}
		put(dev+"/1:0/host/0:0:0:0/model", "POCKET DISK")
		put("sys/block/"+name+"/size", "2048")
		require.NoError(
			t,
			os.Symlink(
				filepath.Join(root, dev+"/1:0/host/0:0:0:0"),
				filepath.Join(root, "sys/block/"+name+"/device"),
			),
		)
	}
	usb("sda", "USB77001")
	usb("sdb", "")
	put("sys/block/vda/size", "2048")
	for n, name := range []string{"nvme0n1", "nvme0n2"} {
		put("sys/block/"+name+"/size", "2048")
		put("sys/block/"+name+"/nsid", string(rune('1'+n)))
		put("sys/block/"+name+"/wwid", "nvme.1b36-5457-524947-0000000"+string(rune('1'+n)))
		put("sys/block/"+name+"/device/model", "TARNWICK TN960")
		put("sys/block/"+name+"/device/serial", "TW7PL118")
	}
	found, err := (&Machine{Root: root}).Drives(t.Context())
	require.NoError(t, err)
	got := map[string]string{}
	for _, f := range found {
		got[filepath.Base(f.Path)] = f.Known.Key() + "|" + f.Nameless + "|" + f.Known.Tail()
	}
	require.Equal(
		t,
		map[string]string{
			"sda":     "vms--pocket_disk-usb77001||77001",
			"sdb":     "|it reports neither a WWN nor a serial|",
			"vda":     "|it reports neither a WWN nor a serial|",
			"nvme0n1": "vms--tarnwick_tn960-tw7pl118||PL118",
			"nvme0n2": "vms--tarnwick_tn960-tw7pl118_ns2||PL118-ns2",
		},
		got,
	)
}

// TestPlacesOfAHost: a drive's attachment, its light in the kernel, and the enclosures, from trees in the form of
// sysfs.
func TestPlacesOfAHost(t *testing.T) {
	root := t.TempDir()
	put := func(path, text string) {
		t.Helper()
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, path)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, path), []byte(text), 0o644))
	}
	link := func(dir, name string) string {
		t.Helper()
		require.NoError(t, os.MkdirAll(filepath.Join(root, dir), 0o755))
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.Symlink(filepath.Join(root, dir), filepath.Join(root, name)))
		return filepath.Join(root, name)
	}
	const hba, ahci, nvme = "sys/devices/pci0000:00/0000:00:01.0/0000:03:00.0",
		"sys/devices/pci0000:00/0000:00:1f.2", "sys/devices/pci0000:00/0000:00:1c.0/0000:05:00.0"
	put(ahci+"/ata7/ata_port/ata7/port_no", "3\n")
	ata := link(ahci+"/ata7/host6/target6:0:0/6:0:0:0/block/sda", "sys/block/sda")
	const end = hba + "/host0/port-0:0/expander-0:0/port-0:0:5/end_device-0:0:5"
	put(end+"/sas_device/end_device-0:0:5/phy_identifier", "5\n")
	put(end+"/sas_device/end_device-0:0:5/enclosure_identifier", "0x5002abe700000024\n")
	put(end+"/sas_device/end_device-0:0:5/bay_identifier", "11\n")
	sas := link(end+"/target0:0:5/0:0:5:0/block/sdb", "sys/block/sdb")
	put(end+"/target0:0:5/0:0:5:0/block/sdb/device/enclosure_device:SLOT 11/locate", "0\n")
	other := link(hba+"/host9/target9:0:2/9:0:2:0/block/sdc", "sys/block/sdc")
	flash := link(nvme+"/nvme/nvme0/nvme0n1", "sys/block/nvme0n1")
	put("sys/devices/pci0000:00/0000:00:1c.0/leds/0000:00:1c.0:enclosure:locate/brightness", "0\n")
	link(nvme, "sys/bus/pci/devices/0000:05:00.0")
	for dir, want := range map[string]string{ata: "0000:00:1f.2-ata-3",
		sas: "0000:03:00.0-sas-5002abe700000024-bay-11", other: "0000:03:00.0-target-0:2:0", flash: "0000:05:00.0"} {
		require.Equal(t, want, port(root, dir, adapter(dir)))
	}
	require.Nil(t, locate(root, ata, adapter(ata)), "nothing is known to light it")
	for dir, file := range map[string]string{sas: end +
		"/target0:0:5/0:0:5:0/block/sdb/device/enclosure_device:SLOT 11/locate",
		flash: "sys/devices/pci0000:00/0000:00:1c.0/leds/0000:00:1c.0:enclosure:locate/brightness"} {
		light := locate(root, dir, adapter(dir))
		require.NotNil(t, light, dir)
		for _, on := range []bool{true, false} {
			lit, err := light(on)
			require.NoError(t, err)
			require.Equal(t, on, lit)
			b, err := os.ReadFile(filepath.Join(root, file))
			require.NoError(t, err)
			require.Equal(t, map[bool]string{true: "1", false: "0"}[on], string(b))
		}
	}
	put("sys/class/scsi_generic/sg0/device/type", "0\n")
	put("sys/class/scsi_generic/sg4/device/type", "13\n")
	put("sys/class/scsi_generic/sg4/device/wwid", "naa.5002ABE700000024\n")
	boxes, err := (&Machine{Root: root}).Boxes(t.Context())
	require.NoError(t, err)
	require.Len(t, boxes, 1)
	require.Equal(t, "shelf-000024", boxes[0].ID)
	none, err := (&Machine{Root: t.TempDir()}).Boxes(t.Context())
	require.NoError(t, err)
	require.Empty(t, none)
}

// TestEvents: of the kernel's events, those about block devices and partitions count.
func TestEvents(t *testing.T) {
	event := func(parts ...string) []byte { return []byte(strings.Join(parts, "\x00") + "\x00") }
	require.True(
		t,
		ofBlockDevice(
			event(
				"add@/devices/virtual/block/loop0",
				"ACTION=add",
				"DEVPATH=/devices/virtual/block/loop0",
				"SUBSYSTEM=block",
				"DEVTYPE=disk",
			),
		),
	)
	require.True(
		t,
		ofBlockDevice(event("add@/devices/x/sda/sda1", "ACTION=add", "SUBSYSTEM=block", "DEVTYPE=partition")),
	)
	require.False(t, ofBlockDevice(event("add@/devices/x/net/eth0", "ACTION=add", "SUBSYSTEM=net")))
	require.Equal(
		t,
		"0000:00:1f.2",
		adapter(
			linked(t, "sys/devices/pci0000:00/0000:00:1e.0/0000:00:1f.2/ata1/host0/target0:0:0/0:0:0:0/block/sda"),
		),
	)
	require.Empty(t, adapter(linked(t, "sys/devices/virtual/block/loop0")))
}

// linked makes a folder and a link to it, as /sys/block has them.
func linked(t *testing.T, dir string) string {
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, dir), 0o755))
	require.NoError(t, os.Symlink(filepath.Join(root, dir), filepath.Join(root, "link")))
	return filepath.Join(root, "link")
}
