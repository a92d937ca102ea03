//go:build linux

// Package rig lets the agent meet the kernel's own ATA, SCSI and NVMe drivers, in a small virtual machine.
package rig

import (
	"bytes"
	"context"
	"debug/elf"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

func skip(t *testing.T, why string) {
	fmt.Fprintf(os.Stderr, "\n*** SKIPPED: the agent did not meet real kernel drivers: %s ***\n\n", why)
	t.Skip(why)
}

// kernel unpacks Debian's kernel package, once for all runs, and says where it lies.
func kernel(t *testing.T) (image, modules string) {
	t.Helper()
	cache := os.Getenv("LANTERN_RIG_KERNEL")
	if cache == "" {
		skip(t, "no kernel was unpacked; make rig does that")
	}
	images, _ := filepath.Glob(filepath.Join(cache, "boot", "vmlinuz-*"))
	trees, _ := filepath.Glob(filepath.Join(cache, "lib", "modules", "*"))
	if len(images) == 0 || len(trees) == 0 {
		skip(t, "there is no kernel in "+cache)
	}
	return images[0], trees[0]
}

// closure gives modules with all they depend on, in the order in which they must be loaded. What a module needs stands
// in its own .modinfo section.
func closure(t *testing.T, tree string, names ...string) (paths []string) {
	t.Helper()
	where := map[string]string{}
	require.NoError(t, filepath.Walk(tree, func(path string, _ os.FileInfo, err error) error {
		if strings.HasSuffix(path, ".ko") {
			where[strings.ReplaceAll(strings.TrimSuffix(filepath.Base(path), ".ko"), "-", "_")] = path
		}
		return err
	}))
	seen := map[string]bool{}
	var visit func(name string)
	visit = func(name string) {
		path := where[name]
		if seen[name] || path == "" {
			return // built in
		}
		seen[name] = true
		f, err := elf.Open(path)
		require.NoError(t, err)
		info, err := f.Section(".modinfo").Data()
		f.Close()
		require.NoError(t, err)
		for _, entry := range bytes.Split(info, []byte{0}) {
			if on, ok := bytes.CutPrefix(entry, []byte("depends=")); ok {
				for _, d := range strings.Split(string(on), ",") {
					visit(strings.ReplaceAll(d, "-", "_"))
				}
			}
		}
		paths = append(paths, path)
	}
	for _, n := range names {
		visit(n)
	}
	return paths
}

// archive writes an initramfs: a cpio archive in "newc" format (Documentation/driver-api/early-userspace).
func archive(files map[string][]byte, order []string) []byte {
	var b bytes.Buffer
	entry := func(name string, mode int, data []byte) {
		fmt.Fprintf(&b, "070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%s\x00", 0, mode, 0, 0, 1, 0, len(data), 0, 0, 0, 0, len(name)+1, 0, name)
		for b.Len()%4 != 0 {
			b.WriteByte(0)
		}
		b.Write(data)
		for b.Len()%4 != 0 {
			b.WriteByte(0)
		}
	}
	for _, dir := range []string{"modules", "dev", "proc", "sys", "tmp"} {
		entry(dir, 0o040755, nil)
	}
	for _, name := range order {
		entry(name, 0o100755, files[name])
	}
	entry("TRAILER!!!", 0, nil)
	return b.Bytes()
}

// TestRig boots the machine and looks at what the agent reports from it.
func TestRig(t *testing.T) {
	qemu, err := exec.LookPath("qemu-system-x86_64")
	if err != nil {
		skip(t, "qemu-system-x86_64 is missing: apt-get install qemu-system-x86")
	}
	image, tree := kernel(t)
	dir := t.TempDir()
	files, order := map[string][]byte{}, []string{}
	add := func(name string, data []byte) { files[name], order = data, append(order, name) }
	for name, pkg := range map[string]string{"init": "lantern/internal/rig/init", "lantern": "lantern/cmd/lantern"} {
		path := filepath.Join(dir, name)
		build := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", path, pkg)
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		out, err := build.CombinedOutput()
		require.NoError(t, err, string(out))
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		add(name, data)
	}
	var list strings.Builder
	for _, path := range closure(t, tree, "ahci", "sd_mod", "sg", "nvme", "virtio_pci", "virtio_scsi", "scsi_debug") {
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		name := filepath.Base(path)
		add("modules/"+name, data)
		if name == "scsi_debug.ko" {
			name += " dev_size_mb=8"
		}
		fmt.Fprintln(&list, name)
	}
	add("modules/order", []byte(list.String()))
	ram := filepath.Join(dir, "initramfs")
	require.NoError(t, os.WriteFile(ram, archive(files, order), 0o600))
	for _, disk := range []string{"ata", "nvme", "scsi"} {
		f, err := os.Create(filepath.Join(dir, disk))
		require.NoError(t, err)
		require.NoError(t, f.Truncate(64<<20))
		if disk == "nvme" {
			_, err = f.WriteAt([]byte("XFSB"), 0)
			require.NoError(t, err)
		}
		require.NoError(t, f.Close())
	}
	drive := func(name string) string { return "id=" + name + ",if=none,format=raw,file=" + filepath.Join(dir, name) }
	ctx, cancel := context.WithTimeout(t.Context(), 150*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, qemu, "-accel", "tcg", "-cpu", "max", "-m", "512", "-nographic", "-no-reboot", "-nodefaults", "-serial", "stdio", "-kernel", image, "-initrd", ram,
		"-append", "console=ttyS0 quiet panic=-1 rdinit=/init rig.drives=4",
		"-device", "ich9-ahci,id=ahci", "-drive", drive("ata"), "-device", "ide-hd,bus=ahci.0,drive=ata,serial=RIGATA00417,model=RIG ATA DISK,wwn=0x5002abe700000417",
		"-drive", drive("nvme"), "-device", "nvme,drive=nvme,serial=RIGNVME0118",
		"-device", "virtio-scsi-pci,id=scsi", "-drive", drive("scsi"), "-device", "scsi-hd,drive=scsi,serial=RIGSCSI0233,vendor=RIG,product=SCSI DISK,wwn=0x5002abe700000233")
	out, err := cmd.CombinedOutput()
	text := string(out)
	begin, end := strings.Index(text, "=====BEGIN====="), strings.Index(text, "=====END=====")
	require.True(t, begin >= 0 && end > begin, "the machine said (%v):\n%s", err, text[max(0, len(text)-4000):])
	var r api.Report
	require.NoError(t, json.Unmarshal([]byte(text[begin+len("=====BEGIN====="):end]), &r), text[begin:end])
	by := map[string]api.DriveReport{}
	for _, d := range r.Drives {
		by[d.Identity.Serial] = d
	}

	ata := by["RIGATA00417"]
	require.Equal(t, "5002abe700000417", ata.Identity.Wwn, "%s", text[begin:end])
	require.Equal(t, "RIG ATA DISK", ata.Identity.Model)
	require.EqualValues(t, 64<<20, ata.CapacityBytes)
	require.Empty(t, ata.Blind)
	require.Empty(t, ata.Holds)
	require.NotEmpty(t, ata.Reading.Attributes, "SMART READ DATA through SG_IO")
	require.Contains(t, ata.Reading.Metrics, "reallocated_sectors")
	require.False(t, ata.Reading.Failing)
	require.Empty(t, ata.Reading.Unreadable)

	n := by["RIGNVME0118"]
	require.NotEmpty(t, n.Identity.Model)
	require.Equal(t, "solid-state", n.Medium)
	require.Equal(t, []string{"xfs file system"}, n.Holds)
	require.Greater(t, n.Reading.Metrics["temperature_celsius"], 10.0)
	require.Contains(t, n.Reading.Metrics, "media_errors")
	require.Contains(t, n.Reading.Metrics, "spare_available_percent")

	scsi := by["RIGSCSI0233"]
	require.Equal(t, "5002abe700000233", scsi.Identity.Wwn)
	require.Equal(t, "RIG", scsi.Identity.Vendor)
	require.EqualValues(t, 64<<20, scsi.CapacityBytes)

	var logs []api.DriveReport
	for _, d := range r.Drives {
		if d.Identity.Model == "scsi_debug" {
			logs = append(logs, d)
		}
	}
	require.Len(t, logs, 1, "scsi_debug's own disk")
	require.Contains(t, logs[0].Reading.Metrics, "temperature_celsius", "LOG SENSE, page 0Dh")
}
