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

// TestRealDrives: drives are known by what the kernel keeps of them until they are asked themselves; what has no identity or no medium is not listed; what cannot be read is not taken for empty.
func TestRealDrives(t *testing.T) {
	empty := string(make([]byte, 1<<20))
	root := tree(t, map[string]string{
		"sys/block/sda/size": "2048\n", "sys/block/sda/diskseq": "9\n", "sys/block/sda/queue/rotational": "1\n", "sys/block/sda/queue/logical_block_size": "512\n", "sys/block/sda/queue/physical_block_size": "4096\n",
		"sys/block/sda/device/vendor": "ATA     \n", "sys/block/sda/device/model": "VELDRUN VR4-4000\n", "sys/block/sda/device/ioerr_cnt": "0x1f\n", "sys/block/sda/device/wwid": "naa.5002ABE700001234\n",
		"sys/block/sda/device/vpd_pg80": "\x00\x80\x00\x0c    VR7ZU006", "dev/sda": empty,
		"sys/block/nvme0n1/size": "2048", "sys/block/nvme0n1/wwid": "eui.0002abe700000009", "sys/block/nvme0n1/device/model": "TARNWICK TN960   ", "sys/block/nvme0n1/device/serial": "TW7PL118", "sys/block/nvme0n1/queue/rotational": "0", "dev/nvme0n1": "XFSB" + empty[4:],
		"sys/block/sdb/size": "2048", "sys/block/sdb/device/model": "OSSFELL OF-8T", "dev/sdb": empty,
		"sys/block/sdc/size": "0", "sys/block/sdc/device/wwid": "naa.5002abe700005678",
		"sys/block/sdd/size": "2048", "sys/block/sdd/device/wwid": "naa.5002abe700009999",
		"sys/block/dm-0/size": "2048", "sys/block/md0/size": "2048", "sys/block/zram0/size": "2048",
	})
	m := &Machine{Root: root}
	found, err := m.Drives(t.Context())
	require.NoError(t, err)
	byPath := map[string]int{}
	for i, f := range found {
		byPath[filepath.Base(f.Path)] = i
	}
	require.Len(t, found, 3, "%v", byPath)
	a := found[byPath["sda"]]
	require.Equal(t, drive.Identity{WWN: "5002abe700001234", Vendor: "ATA", Model: "VELDRUN VR4-4000", Serial: "VR7ZU006"}, a.Known.Identity)
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
	n := found[byPath["nvme0n1"]]
	require.Equal(t, "wwn-0002abe700000009", n.Known.Key())
	require.Equal(t, "TW7PL118", n.Known.Serial)
	require.Equal(t, agent.NVMe, n.Protocol)
	require.Equal(t, []string{"xfs file system"}, n.Holds)
	require.Contains(t, found[byPath["sdd"]].Holds[0], "cannot be read")
	only, err := (&Machine{Root: root, Match: "sd*"}).Drives(t.Context())
	require.NoError(t, err)
	require.Len(t, only, 2)

	// One that its host put to sleep is not opened: neither asked nor looked at.
	require.NoError(t, os.MkdirAll(filepath.Join(root, "sys/block/sda/device/power"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "sys/block/sda/device/power/runtime_status"), []byte("suspended\n"), 0o644))
	found, err = m.Drives(t.Context())
	require.NoError(t, err)
	require.Nil(t, found[byPath["sda"]].Transport)
	require.Contains(t, found[byPath["sda"]].Blind, "sleep")
	require.NotEmpty(t, found[byPath["sda"]].Holds, "not known to be empty is not empty")
	require.NoError(t, os.Remove(filepath.Join(root, "sys/block/sda/device/power/runtime_status")))

	// That nothing lies on a drive is looked at anew each time; that something does is believed for a while.
	require.NoError(t, os.WriteFile(filepath.Join(root, "dev/sda"), []byte("LUKS\xBA\xBE"+empty[6:]), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "dev/nvme0n1"), []byte(empty), 0o644))
	found, err = m.Drives(t.Context())
	require.NoError(t, err)
	for _, f := range found {
		switch filepath.Base(f.Path) {
		case "sda":
			require.Equal(t, []string{"encrypted volume"}, f.Holds)
		case "nvme0n1":
			require.Equal(t, []string{"xfs file system"}, f.Holds)
		}
	}
}

// TestPlacesOfAHost: what a drive hangs on, the light that the kernel knows of it, and the enclosures that speak, from trees
// laid out as sysfs lays them out.
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
	const hba, ahci, nvme = "sys/devices/pci0000:00/0000:00:01.0/0000:03:00.0", "sys/devices/pci0000:00/0000:00:1f.2", "sys/devices/pci0000:00/0000:00:1c.0/0000:05:00.0"
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
	for dir, want := range map[string]string{ata: "0000:00:1f.2-ata-3", sas: "0000:03:00.0-sas-5002abe700000024-bay-11", other: "0000:03:00.0-target-0:2:0", flash: "0000:05:00.0"} {
		require.Equal(t, want, port(root, dir, adapter(dir)))
	}
	require.Nil(t, locate(root, ata, adapter(ata)), "nothing is known to light it")
	for dir, file := range map[string]string{sas: end + "/target0:0:5/0:0:5:0/block/sdb/device/enclosure_device:SLOT 11/locate", flash: "sys/devices/pci0000:00/0000:00:1c.0/leds/0000:00:1c.0:enclosure:locate/brightness"} {
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

// TestEvents: of what the kernel tells, whole block devices count.
func TestEvents(t *testing.T) {
	event := func(parts ...string) []byte { return []byte(strings.Join(parts, "\x00") + "\x00") }
	require.True(t, ofBlockDevice(event("add@/devices/virtual/block/loop0", "ACTION=add", "DEVPATH=/devices/virtual/block/loop0", "SUBSYSTEM=block", "DEVTYPE=disk")))
	require.False(t, ofBlockDevice(event("add@/devices/x/sda/sda1", "ACTION=add", "SUBSYSTEM=block", "DEVTYPE=partition")))
	require.False(t, ofBlockDevice(event("add@/devices/x/net/eth0", "ACTION=add", "SUBSYSTEM=net")))
	require.Equal(t, "0000:00:1f.2", adapter(linked(t, "sys/devices/pci0000:00/0000:00:1e.0/0000:00:1f.2/ata1/host0/target0:0:0/0:0:0:0/block/sda")))
	require.Empty(t, adapter(linked(t, "sys/devices/virtual/block/loop0")))
}

// linked makes a folder and a link to it, as /sys/block has them.
func linked(t *testing.T, dir string) string {
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, dir), 0o755))
	require.NoError(t, os.Symlink(filepath.Join(root, dir), filepath.Join(root, "link")))
	return filepath.Join(root, "link")
}
