//go:build linux

// Package linux is the agent's view of a real host: block devices from sysfs.
package linux

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"lantern/internal/agent"
	"lantern/internal/agent/direct"
	"lantern/internal/core/drive"
	"lantern/internal/core/drive/page"
	"lantern/internal/core/partition"
)

// Machine lists the block devices whose names match Match (path.Match); empty means all. Its zero value is this host.
type Machine struct {
	Match string
	// Root is put before /sys and /dev; empty on a real host.
	Root string

	mu      sync.Mutex
	looked  map[string]looked      // what was found on devices, by name and mark
	pending map[string]chan looked // contents that are still being looked at, by name
	tables  map[string]partition.Table
	sleeps  map[string]sleep
	lasting map[string]lasting // by name
}

// Drives are the block devices with a medium. Devices made of others (device mapper, md, memory) are not drives. A
// drive without an identity has an empty key and says so.
func (m *Machine) Drives(context.Context) ([]agent.Found, error) {
	entries, err := os.ReadDir(m.Root + "/sys/block")
	if err != nil {
		return nil, err
	}
	var out []agent.Found
	for _, e := range entries {
		name := e.Name()
		if ok, err := filepath.Match(m.Match, name); m.Match != "" && (err != nil || !ok) {
			continue
		}
		if f, ok := m.found(name, false); ok {
			out = append(out, f)
		}
	}
	return out, nil
}

// found is the present state of a drive; fresh always reads its content.
func (m *Machine) found(name string, fresh bool) (f agent.Found, ok bool) {
	dir := m.Root + "/sys/block/" + name
	sectors, err := strconv.ParseUint(read(dir+"/size"), 10, 64)
	if err != nil || sectors == 0 {
		return f, false // no medium: whatever was there is gone
	}
	seq := read(dir + "/diskseq")
	m.mu.Lock()
	was, known := m.lasting[name]
	m.mu.Unlock()
	if known && !fresh && seq != "" && was.seq == seq && time.Since(was.at) < lastingFor &&
		was.f.Known.Capacity == drive.Bytes(sectors*512) {
		f = was.f
	} else {
		if f, ok = m.identify(name, dir, sectors); !ok || f.Nameless != "" {
			return f, ok
		}
		if f.Known.Key() != "" &&
			!strings.HasPrefix(name, "loop") { // the file behind a loop device may change under one number
			m.mu.Lock()
			if m.lasting == nil {
				m.lasting = map[string]lasting{}
			}
			m.lasting[name] = lasting{seq, f, time.Now()}
			m.mu.Unlock()
		}
	}
	f.Stat = withoutOwn(name, read(dir+"/stat"))
	d := &f.Known
	f.ReadOnly = read(dir+"/ro") == "1"
	block := m.blockDevice(dir, name, "")
	// The kernel itself may put drives into standby; opening one would spin it up.
	if state := read(dir + "/device/power/runtime_status"); state == "suspended" {
		f.Transport, f.Blind = nil, "its host put it to sleep, and it was not woken to be asked"
	}
	l := m.look(block, used(dir), fresh)
	f.Holds, f.Looked = l.what, l.read
	if !l.read && len(l.what) == 0 {
		f.Holds = []string{drive.NotReadable + " while it is asleep"}
	}
	if len(l.table.Parts) > 0 {
		f.Layout = &l.table
	}
	f.Partition = func(t partition.Table) (string, error) {
		return writeTable(name, f.Path, int64(d.Capacity), int(d.LogicalSector), t)
	}
	f.Read = func(at int64, b []byte) error { return readDirect(f.Path, at, b) }
	return f, true
}

// lasting holds constant data of a drive, so that it is not read from the kernel at every look.
type lasting struct {
	seq string // diskseq: another number, another drive
	f   agent.Found
	at  time.Time
}

// lastingFor is how long it is valid: a light may appear later than its drive.
const lastingFor = 5 * time.Minute

// identify gives the constant data of a drive from the kernel.
func (m *Machine) identify(name, dir string, sectors uint64) (f agent.Found, ok bool) {
	var err error
	f = agent.Found{Path: m.Root + "/dev/" + name, Mark: read(dir + "/diskseq"), Adapter: adapter(dir)}
	f.Port = port(m.Root, dir, f.Adapter)
	f.Surface = func() (agent.Surface, error) { return OpenSurface(f.Path) }
	f.Pin = func() (agent.Found, func(), error) { return m.pin(name) }
	f.Locate = locate(m.Root, dir, f.Adapter)
	f.Address = strings.ToLower(strings.TrimPrefix(read(dir+"/device/sas_address"), "0x"))
	if _, err := os.Stat(dir + "/device/ioerr_cnt"); err == nil {
		f.Failures = func() (int64, bool) { // drivers/scsi/scsi_sysfs.c: hexadecimal
			n, err := strconv.ParseInt(read(dir+"/device/ioerr_cnt"), 0, 64)
			return n, err == nil
		}
	}
	d := &f.Known
	// The kernel counts in units of 512 bytes whatever the sector size is.
	d.Capacity = drive.Bytes(sectors * 512)
	d.LogicalSector, d.PhysicalSector = size(dir+"/queue/logical_block_size"), size(dir+"/queue/physical_block_size")
	d.Medium = drive.MediumUnknown
	switch {
	case strings.HasPrefix(name, "loop"):
		d.Identity, err = loopIdentity(f.Path)
		f.Blind = "a loop device has no SMART"
	case strings.HasPrefix(name, "vd"):
		d.Identity = drive.Identity{Vendor: "virtio", Model: "virtio disk", Serial: read(dir + "/serial")}
		f.Blind = "a virtio disk hides SMART"
	case strings.HasPrefix(name, "mmcblk"):
		d.Identity = drive.Identity{
			Vendor: "mmc",
			Model:  read(dir + "/device/name"),
			Serial: strings.TrimPrefix(read(dir+"/device/serial"), "0x"),
		}
		f.Blind = "a memory card has no SMART"
	case strings.HasPrefix(name, "sd"):
		d.Identity = scsiIdentity(dir)
		d.Medium = medium(dir)
		f.Transport, f.Protocol = Transport{f.Path}, agent.SCSI
		bus := "scsi"
		if d.Vendor == "ATA" { // SAT-4 10.3.3: behind a translation layer the vendor reads so
			f.Protocol, bus = agent.ATA, "ata"
		}
		if serial, usb := usbSerial(dir); usb {
			// A bridge's answers to pass-through commands are not the drive's; the kernel's data is used.
			f.Transport, f.Blind = nil, "a USB bridge hides SMART"
			if d.Serial == "" && d.WWN == "" {
				d.Serial = serial
			}
		}
		f.Names = d.StableNames(bus)
	case strings.HasPrefix(name, "nvme"):
		d.Identity = nvmeIdentity(dir)
		d.Medium = medium(dir)
		f.Transport, f.Protocol = Transport{f.Path}, agent.NVMe
		f.Namespace, _ = strconv.Atoi(read(dir + "/nsid"))
		f.Names = d.StableNames("nvme")
	default:
		if below, _ := os.ReadDir(
			dir + "/slaves",
		); len(below) > 0 ||
			slices.ContainsFunc(made, func(p string) bool { return strings.HasPrefix(name, p) }) {
			return f, false
		}
		f.Blind = "a device of a kind that is not known here"
	}
	if err != nil {
		return f, false
	}
	if d.Key() == "" && f.Transport == nil {
		f.Nameless = "it reports neither a WWN nor a serial"
		return f, true
	}
	// Older kernels have no diskseq; and it does not change when the file behind a loop device does.
	f.Mark += "/" + d.Key() + "/" + d.Serial
	return f, true
}

// made are devices made of others, or of memory; they are not drives.
var made = []string{"dm-", "md", "ram", "zram", "sr", "fd", "bcache", "nbd", "zd"}

// used reports whether anything is on a disk that the kernel knows: a partition, or a device made of it.
func used(dir string) bool {
	above, _ := os.ReadDir(dir + "/holders")
	entries, _ := os.ReadDir(dir)
	return len(above) > 0 ||
		slices.ContainsFunc(
			entries,
			func(e os.DirEntry) bool { return strings.HasPrefix(e.Name(), filepath.Base(dir)) },
		)
}

// usbSerial gives the serial of the USB device that a disk is connected to, if there is one (drivers/usb/core/sysfs.c).
func usbSerial(dir string) (serial string, usb bool) {
	at, err := filepath.EvalSymlinks(dir + "/device")
	if err != nil {
		return "", false
	}
	for deep := 0; deep < 12 && len(at) > 1; deep++ {
		if read(at+"/idVendor") != "" && read(at+"/idProduct") != "" {
			return read(at + "/serial"), true
		}
		at = filepath.Dir(at)
	}
	return "", false
}

// pin opens a device, and examines it while it is open. The kernel reuses the name of a removed device only after it
// was closed by all users (drivers/scsi/sd.c, scsi_disk_release; drivers/nvme/host/core.c, nvme_free_ns_head), and a
// loop device lets go of its file no sooner (drivers/block/loop.c, loop_clr_fd).
func (m *Machine) pin(name string) (f agent.Found, release func(), err error) {
	fd, err := unix.Open(m.Root+"/dev/"+name, unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return f, nil, fmt.Errorf("open %s: %w", name, err)
	}
	f, ok := m.found(name, true)
	if !ok {
		unix.Close(fd)
		return f, nil, fmt.Errorf("%s is no longer there", name)
	}
	return f, func() { unix.Close(fd) }, nil
}

// readDirect reads from a device past the page cache.
func readDirect(path string, at int64, b []byte) error {
	f, err := direct.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.ReadAt(b, at)
	return err
}

var pciAddress = regexp.MustCompile(`^[0-9a-f]{4,}:[0-9a-f]{2}:[0-9a-f]{2}\.[0-7]$`)

// adapter is the PCI function of a block device: the last one in its path in sysfs.
func adapter(dir string) string {
	real, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return ""
	}
	parts := strings.Split(real, "/")
	for i := len(parts) - 1; i >= 0; i-- {
		if pciAddress.MatchString(parts[i]) {
			return parts[i]
		}
	}
	return ""
}

// locate finds the light that the kernel itself knows to belong to a drive: the locate attribute of its slot in the
// enclosure class (drivers/misc/enclosure.c), or the indication of native PCIe enclosure management, of the drive's
// function or of the port above it, as a LED (drivers/pci/npem.c).
func locate(root, dir, adapter string) func(on bool) (bool, error) {
	patterns := []string{dir + "/device/enclosure_device:*/locate"}
	if function, err := filepath.EvalSymlinks(root + "/sys/bus/pci/devices/" + adapter); err == nil && adapter != "" {
		for _, at := range []string{function, filepath.Dir(function)} {
			patterns = append(patterns, at+"/leds/*:enclosure:locate/brightness")
		}
	}
	for _, p := range patterns {
		if found, err := filepath.Glob(p); err == nil && len(found) == 1 {
			return func(on bool) (bool, error) {
				if err := os.WriteFile(found[0], []byte(map[bool]string{true: "1", false: "0"}[on]), 0); err != nil {
					return false, err
				}
				v := read(found[0])
				return v != "0" && v != "", nil
			}
		}
	}
	return nil
}

var (
	ataPort   = regexp.MustCompile(`^ata[0-9]+$`)
	endDevice = regexp.MustCompile(`^end_device-`)
	target    = regexp.MustCompile(`^[0-9]+:([0-9]+:[0-9]+:[0-9]+)$`)
)

// port names the port of a drive, constant over restarts: the PCI function, and of that the port of an AHCI controller
// (its own number, not the one the kernel counts on; drivers/ata/libata-transport.c), the phy of a SAS device with its
// expander (drivers/scsi/scsi_transport_sas.c), or else the SCSI target. An NVMe drive is its PCI function.
func port(root, dir, adapter string) string {
	real, err := filepath.EvalSymlinks(dir)
	if err != nil || adapter == "" {
		return ""
	}
	parts := strings.Split(real, "/")
	if strings.HasPrefix(filepath.Base(real), "nvme") {
		return adapter
	}
	last := ""
	for i, part := range parts {
		at := strings.Join(parts[:i+1], "/")
		switch {
		case ataPort.MatchString(part):
			if n := read(at + "/ata_port/" + part + "/port_no"); n != "" {
				return adapter + "-ata-" + n
			}
		case endDevice.MatchString(part):
			sas := at + "/sas_device/" + part
			phy, in := read(sas+"/phy_identifier"), strings.TrimPrefix(read(sas+"/enclosure_identifier"), "0x")
			if bay := read(sas + "/bay_identifier"); bay != "" && strings.Trim(in, "0") != "" {
				return adapter + "-sas-" + in + "-bay-" + bay
			}
			if phy != "" {
				return adapter + "-sas-" + in + "-phy-" + phy
			}
		case target.MatchString(part):
			last = target.FindStringSubmatch(part)[1]
		}
	}
	if last != "" {
		return adapter + "-target-" + last
	}
	return ""
}

// scsiIdentity is what the kernel keeps of a SCSI or SATA drive: its WWN from the device identification page, its
// serial from page 80h (SPC-5 7.7.3, 7.7.18; drivers/scsi/scsi_sysfs.c).
func scsiIdentity(dir string) (id drive.Identity) {
	id.Vendor, id.Model = read(dir+"/device/vendor"), read(dir+"/device/model")
	for _, prefix := range []string{"naa.", "eui."} {
		if wwid, ok := strings.CutPrefix(read(dir+"/device/wwid"), prefix); ok {
			id.WWN = strings.ToLower(wwid)
		}
	}
	if raw, err := os.ReadFile(dir + "/device/vpd_pg80"); err == nil {
		if p, err := page.Decode("scsi-vpd", raw); err == nil {
			for _, f := range p.Fields {
				if serial, ok := f.Value.(string); ok && f.Name == "unit serial number" {
					id.Serial = serial
				}
			}
		}
	}
	return id
}

// nvmeIdentity is what the kernel keeps of a namespace and its controller (drivers/nvme/host/sysfs.c).
func nvmeIdentity(dir string) (id drive.Identity) {
	id.Model, id.Serial = read(dir+"/device/model"), read(dir+"/device/serial")
	for _, prefix := range []string{"eui.", "uuid."} {
		if wwid, ok := strings.CutPrefix(read(dir+"/wwid"), prefix); ok {
			id.WWN = strings.ReplaceAll(strings.ToLower(wwid), "-", "")
		}
	}
	if n, err := strconv.Atoi(read(dir + "/nsid")); err == nil {
		id = id.Namespace(n)
	}
	return id
}

func medium(dir string) drive.Medium {
	switch read(dir + "/queue/rotational") {
	case "0":
		return drive.MediumSolidState
	case "1":
		return drive.MediumRotating
	}
	return drive.MediumUnknown
}

// loopIdentity makes the file behind a loop device its identity: file system and inode stay what they are whichever
// loop number they get (linux/loop.h, LOOP_GET_STATUS64).
func loopIdentity(path string) (drive.Identity, error) {
	f, err := os.Open(path)
	if err != nil {
		return drive.Identity{}, err
	}
	defer f.Close()
	info, err := unix.IoctlLoopGetStatus64(int(f.Fd()))
	if err != nil {
		return drive.Identity{}, fmt.Errorf("%s: %w", path, err)
	}
	return drive.Identity{
		Vendor: "kernel",
		Model:  "loop device",
		Serial: fmt.Sprintf("L%X-%08d", info.Device, info.Inode),
	}, nil
}

func read(path string) string {
	b, _ := os.ReadFile(path)
	return string(bytes.TrimSpace(b))
}

func size(path string) drive.Bytes {
	n, _ := strconv.ParseUint(read(path), 10, 64)
	return drive.Bytes(n)
}

// Boxes are the SCSI devices of type 0Dh, enclosure services (SPC-5 table 149), by their generic device.
func (m *Machine) Boxes(context.Context) ([]agent.BoxFound, error) {
	entries, err := os.ReadDir(m.Root + "/sys/class/scsi_generic")
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	var out []agent.BoxFound
	for _, e := range entries {
		dir := m.Root + "/sys/class/scsi_generic/" + e.Name() + "/device"
		if read(dir+"/type") != "13" {
			continue
		}
		id := strings.ToLower(strings.TrimPrefix(read(dir+"/wwid"), "naa."))
		if id == "" {
			id = strings.TrimPrefix(read(dir+"/sas_address"), "0x")
		}
		if len(id) > 6 {
			id = id[len(id)-6:] // distinguishes a host's enclosures, and is short enough for the address of a bay
		}
		out = append(out, agent.BoxFound{ID: "shelf-" + id, Transport: Transport{m.Root + "/dev/" + e.Name()}})
	}
	return out, err
}

// Enclosures are only those with SES: all others are described by people.
func (*Machine) Enclosures(context.Context) ([]agent.Enclosure, error) { return nil, nil }

// Light cannot be switched where no bay is known.
func (*Machine) Light(context.Context, string, int, bool) (bool, error) {
	return false, errors.New("this host has no bays that are known, so no light")
}
