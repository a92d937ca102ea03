//go:build linux

// Package btrfs speaks for the kernel's btrfs file systems, through the ioctls of linux/btrfs.h alone: no other program
// is run.
package btrfs

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"lantern/internal/agent/pools"
	"lantern/internal/clock"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/core/stack"
)

// Driver is the pool system. Its zero value is not usable; call New.
type Driver struct {
	clock clock.Clock
	host  string
	// Asleep reports whether the drive behind a device is in standby; nil means that none ever sleeps.
	Asleep func(device string) bool
	// Busy kernel calls that this agent began: the kernel works inside the call, so each has a goroutine.
	mu   sync.Mutex
	runs map[string]*run // by pool id
}

// run is a scrub or a rebalance begun here, or seen while it ran.
type run struct {
	report recovery.Report
	err    error
	mine   bool
	ended  scrubProgress // of the devices that a scrub is done with
	done   chan struct{}
}

// New makes the driver for a host.
func New(host string, c clock.Clock) *Driver {
	return &Driver{clock: c, host: host, runs: map[string]*run{}}
}

// mounted lists where btrfs file systems are mounted, one place each (Documentation/filesystems/proc.rst 3.5).
func mounted() ([]string, error) {
	text, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return nil, err
	}
	mounts, err := stack.ParseMounts(string(text))
	if err != nil {
		return nil, err
	}
	var at []string
	for _, m := range mounts {
		if m.Type == "btrfs" {
			at = append(at, m.At)
		}
	}
	return at, nil
}

// each opens every mounted file system once.
func each(f func(file *os.File, at string, info fsInfo) error) error {
	places, err := mounted()
	if err != nil {
		return err
	}
	seen := map[string]bool{}
	var failed []error
	for _, at := range places {
		file, err := os.Open(at)
		if err != nil {
			failed = append(failed, err)
			continue
		}
		info, err := readFSInfo(file)
		if err == nil && !seen[info.id] {
			seen[info.id] = true
			err = f(file, at, info)
		}
		file.Close()
		if err != nil {
			failed = append(failed, fmt.Errorf("%s: %w", at, err))
		}
	}
	return errors.Join(failed...)
}

var _ pools.Whole = &Driver{}

// Trust is the kernel's: its answers to ioctl, and the superblocks on the members.
func (d *Driver) Trust() pools.Trust { return pools.TrustKernel }

// Pools are the mounted file systems with their devices, profiles and whatever moves in them.
func (d *Driver) Pools(_ context.Context, drives func(string) string) ([]pools.Snapshot, error) {
	keys := func(path string) string {
		if name := deviceName(path); name != "" {
			return drives("/dev/" + name)
		}
		return ""
	}
	var out []pools.Snapshot
	err := each(func(f *os.File, at string, info fsInfo) error {
		s, err := d.snapshot(f, at, info, keys)
		if err == nil {
			s.Witness = d.witness(&s.Pool)
			out = append(out, s)
		}
		return err
	})
	return out, err
}

// deviceName is the kernel's name of the device at a path, whatever the path is called; empty when nothing is there.
func deviceName(path string) string {
	var st unix.Stat_t
	if path == "" || unix.Stat(path, &st) != nil || st.Mode&unix.S_IFMT != unix.S_IFBLK {
		return ""
	}
	at, err := filepath.EvalSymlinks(fmt.Sprintf("/sys/dev/block/%d:%d", unix.Major(st.Rdev), unix.Minor(st.Rdev)))
	if err != nil {
		return ""
	}
	return filepath.Base(at)
}

// profiles by the bits of a block group's flags, linux/btrfs_tree.h; copies is how many times data is stored, parity
// how many devices of a stripe hold parity.
var profiles = []struct {
	bit       uint64
	words     string
	tolerance int
	copies    float64
	parity    int
}{
	{
		1 << 10,
		"four copies",
		3,
		4,
		0,
	},
	{1 << 9, "three copies", 2, 3, 0},
	{1 << 4, "two copies", 1, 2, 0},
	{1 << 6, "striped mirrors", 1, 2, 0},
	{1 << 7, "single parity", 1, 1, 1},
	{1 << 8, "double parity", 2, 1, 2},
	{
		1 << 5,
		"two copies on one device",
		0,
		2,
		0,
	},
	{1 << 3, "striped, no redundancy", 0, 1, 0},
	{0, "no redundancy", 0, 1, 0},
}

// errChanging means that the file system changed while it was read.
var errChanging = errors.New("the file system changes while it is read")

// snapshot reads a file system until it holds still: around the end of a replacement the kernel for a moment shows the
// old device under its number although the replacement is over.
func (d *Driver) snapshot(
	f *os.File,
	at string,
	info fsInfo,
	keys func(string) string,
) (s pools.Snapshot, err error) {
	for range 40 {
		if s, err = d.snapshotOnce(f, at, info, keys); !errors.Is(err, errChanging) {
			return s, err
		}
		_ = clock.Real{}.Sleep(context.Background(), 5*time.Millisecond)
	}
	// It would not hold still: what was read last is told, and marked.
	s.Inconsistent = s.Pool.ID != ""
	if s.Inconsistent {
		err = nil
	}
	return s, err
}

func (d *Driver) snapshotOnce(f *os.File, at string, info fsInfo, keys func(string) string) (pools.Snapshot, error) {
	const group = "devices"
	p := pool.Pool{ID: info.id, Name: readLabel(f), Kind: "btrfs"}
	if p.Name == "" {
		p.Name = at
	}
	g := pool.Group{Name: group, Protect: pool.Protection{Words: "by volume", None: true}, Spread: true}
	changing := false
	rep, repErr := readReplacement(f)
	replacing := repErr == nil && (rep.state == replaceStarted || rep.state == replaceSuspended)
	var target device
	var raw, rawUsed uint64
	all, err := readDevices(f, info.maxID)
	if err != nil {
		return pools.Snapshot{}, err
	}
	for _, x := range all {
		if x.id == 0 {
			target = x.device // the drive that is being filled has the number 0 until it is done
			continue
		}
		raw, rawUsed = raw+x.total, rawUsed+x.used
		g.Members = append(g.Members, d.member(f, info, x, keys))
	}
	if after, err := readReplacement(
		f,
	); repErr == nil &&
		(err != nil || after.state != rep.state || !after.started.Equal(rep.started) || replacing != (target.path != "")) {
		changing = true
	}
	spaces, err := readSpace(f)
	if err != nil {
		return pools.Snapshot{}, err
	}
	p.Volumes, p.Capacity, p.Used = volumes(spaces, group, raw, len(g.Members))
	p.Groups = []pool.Group{g}
	s := pools.Snapshot{
		Pool:     p,
		Priority: priority(info.id),
		Offers: []pools.Offer{
			pools.OfferJoin,
			pools.OfferAdmit,
			pools.OfferScrub,
			pools.OfferRebalance,
			pools.OfferDrain,
			pools.OfferBeside,
			pools.OfferStop,
			pools.OfferPriority,
		},
	}
	if repErr == nil && rep.state != replaceNever {
		s.Recoveries = append(s.Recoveries, d.replacement(f, info, rep, target, keys))
	}
	if replacing {
		r := s.Recoveries[len(s.Recoveries)-1]
		s.Pool.Everyone(func(_ string, m *pool.Member) {
			// While the old drive still answers, its share is whole until the new one takes over.
			if m.Slot == r.Slot && m.State == pool.Missing {
				// The old drive's error counters are not the new one's, which has the number 0 for now.
				m.State, m.Drive, m.Errors = pool.Recovering, r.Drive, errorsOf(f, 0)
			}
		})
	}
	if r, ok := d.running(f, info, rawUsed); ok {
		s.Recoveries = append(s.Recoveries, r)
	}
	if changing {
		return s, errChanging
	}
	return s, nil
}

// numbered is a device with its number in the file system.
type numbered struct {
	id uint64
	device
}

// readDevices are the devices of a file system in the order of their numbers; numbers that are not in use are left out.
func readDevices(f *os.File, most uint64) (out []numbered, err error) {
	for id := uint64(0); id <= most; id++ {
		dev, err := readDevice(f, id)
		if errors.Is(err, unix.ENODEV) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, numbered{id, dev})
	}
	return out, nil
}

// member is a device as a member of the pool.
func (d *Driver) member(f *os.File, info fsInfo, x numbered, keys func(string) string) pool.Member {
	m := pool.Member{
		Slot:   strconv.FormatUint(x.id, 10),
		Device: deviceName(x.path),
		Drive:  keys(x.path),
		State:  pool.Online,
		Domain: d.host,
		Size:   drive.Bytes(x.total),
		Used:   drive.Bytes(x.used),
		Needs:  drive.Bytes(x.total),
		Errors: errorsOf(f, x.id),
	}
	if missing(info.id, x.id) || !hasMedium(x.path) {
		m.State = pool.Missing
	}
	return m
}

func errorsOf(f *os.File, id uint64) pool.Errors {
	s, err := readDevStats(f, id)
	if err != nil {
		return pool.Errors{}
	}
	return pool.Errors{Read: s.read, Write: s.write + s.flush, Checksum: s.corruption + s.generation}
}

// missing asks sysfs whether the kernel itself holds the device for gone.
func missing(fs string, id uint64) bool {
	b, err := os.ReadFile(fmt.Sprintf("/sys/fs/btrfs/%s/devinfo/%d/missing", fs, id))
	return err == nil && strings.TrimSpace(string(b)) == "1"
}

// volumes makes one volume of each kind of block group and profile.
func volumes(spaces []space, group string, raw uint64, devices int) (out []pool.Volume, capacity, used drive.Bytes) {
	names := map[uint64]string{
		groupData:                 "data",
		groupMetadata:             "metadata",
		groupSystem:               "system",
		groupData | groupMetadata: "data and metadata",
	}
	for _, s := range spaces {
		name := names[s.flags&(groupData|groupSystem|groupMetadata)]
		if s.flags&globalReserve != 0 || name == "" || s.total == 0 {
			continue
		}
		for _, pr := range profiles {
			if pr.bit != 0 && s.flags&pr.bit == 0 {
				continue
			}
			if s.used == 0 && pr.tolerance == 0 {
				break // left over and empty: nothing is kept there
			}
			out = append(out, pool.Volume{
				Name:  name + ", " + pr.words,
				Group: group,
				Used:  drive.Bytes(s.used),
				Protect: pool.Protection{
					Words:     pr.words,
					Tolerance: pr.tolerance,
					Data:      map[bool]int{true: -1, false: 1}[pr.parity > 0],
				},
			})
			used += drive.Bytes(s.used)
			if s.flags&groupData != 0 {
				share := float64(max(1, devices-pr.parity)) / float64(max(1, devices))
				capacity = drive.Bytes(float64(raw) / pr.copies * share)
			}
			break
		}
	}
	if capacity == 0 {
		capacity = drive.Bytes(raw)
	}
	return out, capacity, used
}

// kept is how many bytes are kept, every copy counted.
func kept(spaces []space) (bytes uint64) {
	for _, s := range spaces {
		if s.flags&globalReserve != 0 {
			continue
		}
		for _, pr := range profiles {
			if pr.bit == 0 || s.flags&pr.bit != 0 {
				bytes += uint64(float64(s.used) * pr.copies)
				break
			}
		}
	}
	return bytes
}

// replacement reports the newest one the file system remembers; it is kept on disk by the kernel, so it is known after
// any restart.
func (d *Driver) replacement(
	f *os.File,
	info fsInfo,
	rep replacement,
	target device,
	keys func(string) string,
) recovery.Report {
	r := recovery.Report{
		ID:           fmt.Sprintf("%s-replace-%d", info.id, rep.started.Unix()),
		Kind:         recovery.Rebuild,
		StartedAt:    rep.started,
		EndedAt:      rep.stopped,
		Unrepairable: rep.uncorrectableReading,
		Found:        rep.writeErrors + rep.uncorrectableReading,
		Drive:        keys(target.path),
	}
	d.mu.Lock()
	mine := d.runs[replaceRun+info.id]
	d.mu.Unlock()
	if mine != nil {
		r.Slot = mine.report.Slot
		r.Todo = mine.report.Todo
		if r.Drive == "" {
			r.Drive = mine.report.Drive
		}
	}
	if r.Todo == 0 {
		r.Todo = drive.Bytes(max(target.used, target.total)) // begun by another hand: the whole device is gone through
	}
	r.Sample.At = d.clock.Now()
	r.Done = drive.Bytes(float64(r.Todo) * float64(rep.thousandths) / 1000)
	switch rep.state {
	case replaceStarted:
		r.State, r.EndedAt = recovery.Running, time.Time{}
	case replaceSuspended:
		r.State, r.EndedAt = recovery.Paused, time.Time{}
	case replaceFinished:
		r.State, r.Done = recovery.Finished, r.Todo
	case replaceCanceled:
		r.State = recovery.Stopped
	}
	return r
}

// replaceRun keeps replacements apart from scrubs and rebalances in runs.
const replaceRun = "replace/"

// running reports the scrub or rebalance that this agent began, or one that somebody else did and the kernel shows.
func (d *Driver) running(f *os.File, info fsInfo, rawUsed uint64) (recovery.Report, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	r := d.runs[info.id]
	p, err := readBalance(f)
	if err == nil {
		if r == nil || r.report.Kind != recovery.Rebalance || r.report.State != recovery.Running {
			r = &run{report: d.report(info.id, recovery.Rebalance, rawUsed)}
			d.runs[info.id] = r
		}
		if p.expected > 0 {
			r.report.Done = drive.Bytes(float64(r.report.Todo) * float64(p.completed) / float64(p.expected))
		}
	} else if r != nil && !r.mine && r.report.Kind == recovery.Rebalance && r.report.State == recovery.Running {
		r.report.State, r.report.EndedAt, r.report.Done = recovery.Finished, d.clock.Now(), r.report.Todo
	}
	if r == nil {
		return recovery.Report{}, false
	}
	if r.report.Kind == recovery.Drain && r.report.State == recovery.Running {
		devid, _ := strconv.ParseUint(r.report.Slot, 10, 64)
		if dev, err := readDevice(f, devid); err == nil && drive.Bytes(dev.used) < r.report.Todo {
			r.report.Done = max(r.report.Done, r.report.Todo-drive.Bytes(dev.used))
		}
	}
	if r.report.Kind == recovery.Scrub && r.report.State == recovery.Running {
		sum := r.ended
		for id := uint64(1); id <= info.maxID; id++ {
			if p, err := readScrub(f, id); err == nil {
				sum.add(p)
			}
		}
		r.take(sum)
	}
	r.report.Sample.At = d.clock.Now()
	return r.report, true
}

// take raises what is known so far; a device that is done no longer answers, so numbers never fall.
func (r *run) take(p scrubProgress) {
	r.report.Done = max(r.report.Done, min(drive.Bytes(p.bytes), r.report.Todo))
	r.report.Found = max(r.report.Found, p.found())
	r.report.Repaired = max(r.report.Repaired, p.fixed)
	r.report.Unrepairable = max(r.report.Unrepairable, p.uncorrectable)
}

func (d *Driver) report(id string, kind recovery.Kind, todo uint64) recovery.Report {
	now := d.clock.Now()
	return recovery.Report{ID: fmt.Sprintf("%s-%s-%d", id, kind, now.UnixMilli()), Kind: kind, State: recovery.Running,
		StartedAt: now, Sample: recovery.Sample{At: now, Todo: drive.Bytes(todo)}}
}

// open finds a file system by its id and keeps it open.
func open(id string) (file *os.File, info fsInfo, err error) {
	err = each(func(f *os.File, at string, i fsInfo) error {
		if i.id != id || file != nil {
			return nil
		}
		var err error
		file, err = os.Open(at)
		info = i
		return err
	})
	if file == nil && err == nil {
		err = pools.ErrNoSuchPool
	}
	if file != nil {
		err = nil
	}
	return file, info, err
}
