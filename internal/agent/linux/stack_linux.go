package linux

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"lantern/internal/agent"
	"lantern/internal/agent/devmap"
	"lantern/internal/agent/direct"
	"lantern/internal/core/drive"
	"lantern/internal/core/partition"
	"lantern/internal/core/stack"
)

// blockDevice is one block device as sysfs shows it.
type blockDevice struct {
	dir    string // in sysfs
	parent string // name of the disk that a partition is on
	stack.Device
	numbers string // "8:1"
	writes  string // how many writes it has completed: another number, another content
}

// virtual are block devices that are never on a drive.
var virtual = []string{"ram", "zram", "sr", "fd"}

// blockDevices lists all block devices, disks and partitions.
func (m *Machine) blockDevices() (map[string]blockDevice, error) {
	entries, err := os.ReadDir(m.Root + "/sys/block")
	if err != nil {
		return nil, err
	}
	out := map[string]blockDevice{}
	for _, e := range entries {
		name := e.Name()
		if slices.ContainsFunc(virtual, func(prefix string) bool { return strings.HasPrefix(name, prefix) }) {
			continue
		}
		dir := m.Root + "/sys/block/" + name
		out[name] = m.blockDevice(dir, name, "")
		parts, err := os.ReadDir(dir + "/")
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, err
		}
		for _, p := range parts {
			if !strings.HasPrefix(p.Name(), name) {
				continue // a partition's name begins with its disk's
			}
			if n := read(dir + "/" + p.Name() + "/partition"); n != "" {
				d := m.blockDevice(dir+"/"+p.Name(), p.Name(), name)
				d.Kind, d.On = stack.Partition, []string{name}
				d.Number, _ = strconv.Atoi(n)
				out[p.Name()] = d
			}
		}
	}
	return out, nil
}

func (m *Machine) blockDevice(dir, name, parent string) blockDevice {
	d := blockDevice{
		dir:     dir,
		parent:  parent,
		numbers: read(dir + "/dev"),
		Device:  stack.Device{Name: name, Kind: stack.Disk},
	}
	sectors, _ := strconv.ParseUint(read(dir+"/size"), 10, 64)
	d.Bytes = drive.Bytes(sectors * 512)
	if f := strings.Fields(read(dir + "/stat")); len(f) > 4 {
		d.writes = f[4]
	}
	if parent != "" {
		return d
	}
	below, _ := os.ReadDir(dir + "/slaves")
	for _, b := range below {
		d.On = append(d.On, b.Name())
	}
	dm := read(dir + "/dm/name")
	switch {
	case dm != "":
		var types []string
		if m.Root == "" {
			if targets, err := devmap.Table(dm); err == nil {
				for _, t := range targets {
					types = append(types, t.Type)
				}
			}
		}
		uuid := read(dir + "/dm/uuid")
		d.Kind, d.Label = stack.MappedKind(uuid, types), dm
		if strings.HasPrefix(uuid, "LVM-") {
			d.Label = stack.VolumeLabel(dm)
		}
		if d.Kind == stack.Partition { // "part3-mpath-…"
			n, _, _ := strings.Cut(strings.TrimPrefix(uuid, "part"), "-")
			d.Number, _ = strconv.Atoi(n)
		}
	case strings.HasPrefix(name, "md"):
		d.Kind = stack.Array
	case strings.HasPrefix(name, "bcache"):
		d.Kind = stack.Cache
	case len(d.On) > 0:
		d.Kind = stack.Other
	case strings.HasPrefix(name, "loop"):
		d.Kind = stack.Disk // a loop device counts as a drive: its file is the medium
	}
	return d
}

// Stack is the graph of block devices of this host, with what the kernel does with each of them. The content of a
// device is read at its first look, when its uses changed, or when it was written to; never on a device in standby.
func (m *Machine) Stack() (stack.Graph, error) {
	all, err := m.blockDevices()
	if err != nil {
		return nil, err
	}
	g := stack.Graph{}
	byNumbers, above := map[string]string{}, map[string][]string{}
	for name, d := range all {
		byNumbers[d.numbers] = name
		for _, on := range d.On {
			above[on] = append(above[on], name)
		}
	}
	leafs, err := m.leafs(byNumbers)
	if err != nil {
		return nil, err
	}
	for name, d := range all {
		d.Uses = leafs[name]
		m.failedPaths(&d, byNumbers)
		partitioned := slices.ContainsFunc(above[name], func(up string) bool { return all[up].Kind == stack.Partition })
		if d.Bytes > 0 && len(d.Uses) == 0 && (len(above[name]) == 0 || partitioned || d.Kind == stack.Disk) {
			l := m.look(d, len(above[name])+len(d.Uses) > 0, false)
			d.Contents, d.Read, d.Busy = l.what, l.read, l.busy
		}
		g[name] = d.Device
	}
	m.partitionTypes(all, g)
	return g, nil
}

// partitionTypes fills in what the tables of partitions say that each is for.
func (m *Machine) partitionTypes(all map[string]blockDevice, g stack.Graph) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for name, d := range all {
		if d.Kind != stack.Partition || d.parent == "" {
			continue
		}
		for _, e := range m.tables[d.parent].Parts {
			if e.Number == d.Number {
				x := g[name]
				x.Type = e.Words()
				g[name] = x
			}
		}
	}
}

// failedPaths fills in which paths of a multipath device have failed.
func (m *Machine) failedPaths(d *blockDevice, byNumbers map[string]string) {
	if d.Kind == stack.Multipath && m.Root == "" {
		if targets, err := devmap.Status(d.Label); err == nil {
			for _, t := range targets {
				for _, p := range devmap.Paths(t.Params) {
					if p.Failed && byNumbers[p.Device] != "" {
						d.Failed = append(d.Failed, byNumbers[p.Device])
					}
				}
			}
		}
	}
}

// nameOf is the kernel's name of the device at a path, whatever links lead there.
func (m *Machine) nameOf(path string, byNumbers map[string]string) string {
	var st unix.Stat_t
	if err := unix.Stat(m.Root+path, &st); err == nil && st.Mode&unix.S_IFMT == unix.S_IFBLK {
		return byNumbers[fmt.Sprintf("%d:%d", unix.Major(st.Rdev), unix.Minor(st.Rdev))]
	}
	real, err := filepath.EvalSymlinks(m.Root + path)
	if err != nil {
		return ""
	}
	name := filepath.Base(real)
	for _, known := range byNumbers {
		if known == name {
			return name
		}
	}
	return ""
}

// looked is the content found on a device.
type looked struct {
	what   []string
	read   bool
	busy   bool
	table  partition.Table
	used   bool
	writes string
	at     time.Time
}

// lookAgain is the time after which a device that was written to, or could not be read, is examined again.
const (
	lookAgain = 5 * time.Second
	readAgain = time.Minute
)

// look gives the content of a device. It is read the first time, when its uses changed, or when it was written to
// without a known use; fresh always reads it.
func (m *Machine) look(d blockDevice, used, fresh bool) looked {
	disk := d.Name
	if d.parent != "" {
		disk = d.parent
	}
	mark := read(m.Root + "/sys/block/" + disk + "/diskseq")
	key := d.Name + "\x00" + mark + "\x00" + d.numbers + "\x00" + fmt.Sprint(d.Bytes)
	m.mu.Lock()
	was, known := m.looked[key]
	m.mu.Unlock()
	since := time.Since(was.at)
	if known && was.busy && !fresh && since >= lookAgain {
		if was.busy = busy(m.Root + "/dev/" + d.Name); !was.busy {
			m.mu.Lock()
			m.looked[key] = was
			m.mu.Unlock()
		}
	}
	switch {
	case fresh, !known:
	case !was.read && since < readAgain:
		return was
	case was.read && was.used == used && (was.writes == d.writes || used || since < lookAgain):
		return was
	}
	if m.asleep(disk) {
		return was // it is not woken for this; the earlier result stays, and no result means unknown
	}
	got := m.readContents(d)
	got.used, got.writes, got.at = used, d.writes, time.Now()
	if w := strings.Fields(read(d.dir + "/stat")); len(w) > 4 {
		got.writes = w[4]
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.looked == nil || len(m.looked) > 20_000 {
		m.looked, m.tables = map[string]looked{}, map[string]partition.Table{}
	}
	m.looked[key] = got
	if d.parent == "" {
		m.tables[d.Name] = got.table
	}
	return got
}

// contentsLimit is how long reading the content of a device may take; a device that hangs must not delay its host's
// look.
const contentsLimit = 2 * time.Second

func (m *Machine) readContents(d blockDevice) looked {
	m.mu.Lock()
	pending := m.pending[d.Name]
	wait := contentsLimit
	if pending == nil {
		pending = make(chan looked, 1)
		if m.pending == nil {
			m.pending = map[string]chan looked{}
		}
		m.pending[d.Name] = pending
		path := m.Root + "/dev/" + d.Name
		sector, _ := strconv.Atoi(read(m.Root + "/sys/block/" + d.Name + "/queue/logical_block_size"))
		go func() { pending <- contents(path, int64(d.Bytes), sector, d.parent == "") }()
	} else {
		wait = 0 // it was waited for before
	}
	m.mu.Unlock()
	select {
	case got := <-pending:
		m.mu.Lock()
		delete(m.pending, d.Name)
		m.mu.Unlock()
		return got
	case <-time.After(wait):
		return looked{what: []string{drive.NotReadable + ": it does not answer"}} // not known to be empty is not empty
	}
}

// busy reports whether a device is opened exclusively: without O_CREAT, O_EXCL is refused then (open(2)). It is closed
// again at once.
func busy(path string) bool {
	fd, err := unix.Open(path, unix.O_RDONLY|unix.O_EXCL|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err == nil {
		unix.Close(fd)
	}
	return errors.Is(err, unix.EBUSY)
}

func contents(path string, size int64, sector int, whole bool) (l looked) {
	unread := func(err error) looked {
		return looked{what: []string{drive.NotReadable + ": " + err.Error()}, busy: l.busy}
	}
	l.busy = busy(path)
	f, err := direct.Open(path)
	if err != nil {
		return unread(err)
	}
	defer f.Close()
	head, tail := make([]byte, min(size, drive.HeadSize)), make([]byte, min(size, drive.TailSize))
	_, err1 := f.ReadAt(head, 0)
	_, err2 := f.ReadAt(tail, size-int64(len(tail)))
	if err := errors.Join(err1, err2); err != nil {
		return unread(err)
	}
	l.what, l.read = drive.Contents(head, tail), true
	mirror := make([]byte, 72)
	if size > drive.Mirror+4096 && !slices.Contains(l.what, "btrfs") {
		if _, err := f.ReadAt(mirror, drive.Mirror); err == nil && string(mirror[64:72]) == "_BHRfS_M" {
			l.what = append(l.what, "btrfs (its second copy)")
		}
	}
	if whole && slices.Contains(l.what, drive.PartitionTable) {
		t, err := partition.Read(f.Fill, uint64(size), max(sector, 512))
		if err == nil {
			l.table = t
		}
	}
	return l
}

// sleepKnown is how long the answer whether a drive is in standby is valid.
const sleepKnown = 10 * time.Second

// sleep is whether a drive was in standby when it was asked.
type sleep struct {
	yes bool
	at  time.Time
}

// Asleep reports whether the drives that a device is on are in standby, any of them. The question does not wake them.
func (m *Machine) Asleep(device string) bool {
	dir := "/sys/class/block/" + device
	if below, err := os.ReadDir(m.Root + dir + "/slaves"); err == nil && len(below) > 0 {
		return slices.ContainsFunc(below, func(b os.DirEntry) bool { return m.Asleep(b.Name()) })
	}
	if at, err := filepath.EvalSymlinks(m.Root + dir); err == nil && read(at+"/partition") != "" {
		device = filepath.Base(filepath.Dir(at))
	}
	return m.asleep(device)
}

// asleep asks an ATA or SCSI drive whether it is in standby; the question does not wake it.
func (m *Machine) asleep(disk string) bool {
	if read(m.Root+"/sys/block/"+disk+"/device/power/runtime_status") == "suspended" {
		return true
	}
	if m.Root != "" || !strings.HasPrefix(disk, "sd") {
		return false
	}
	m.mu.Lock()
	was, known := m.sleeps[disk]
	m.mu.Unlock()
	if known && time.Since(was.at) < sleepKnown {
		return was.yes
	}
	protocol := agent.SCSI
	if read("/sys/block/"+disk+"/device/vendor") == "ATA" {
		protocol = agent.ATA
	}
	now := sleep{agent.Sleeping(agent.Found{Transport: Transport{"/dev/" + disk}, Protocol: protocol}), time.Now()}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.sleeps == nil {
		m.sleeps = map[string]sleep{}
	}
	m.sleeps[disk] = now
	return now.yes
}

// withoutOwn subtracts the agent's own reads from a line of I/O statistics, so that they do not count as use.
func withoutOwn(disk, stat string) string {
	reads, ms := direct.Own(disk)
	f := strings.Fields(stat)
	if reads == 0 || len(f) < 4 {
		return stat
	}
	for i, less := range map[int]uint64{0: reads, 3: ms} {
		if n, err := strconv.ParseUint(f[i], 10, 64); err == nil {
			f[i] = strconv.FormatUint(n-min(n, less), 10)
		}
	}
	return strings.Join(f, " ")
}

// Contents reads the content of a device now; read is false when that failed.
func (m *Machine) Contents(device string) (holds []string, read bool) {
	all, err := m.blockDevices()
	if err != nil || all[device].Name == "" {
		return nil, false
	}
	l := m.look(all[device], false, true)
	return l.what, l.read
}
