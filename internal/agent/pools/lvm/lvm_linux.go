//go:build linux

// Package lvm watches the volumes with redundancy that LVM, or anybody else, makes with the kernel's device mapper
// (dm-raid and dm-mirror): through the ioctls of linux/dm-ioctl.h and the metadata on the physical volumes, read only.
// They cannot be ordered: LVM's own metadata would have to change with them.
package lvm

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"lantern/internal/agent/devmap"
	"lantern/internal/agent/direct"
	"lantern/internal/agent/pools"
	"lantern/internal/clock"
	"lantern/internal/core/drive"
	"lantern/internal/core/lvm"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/core/stack"
)

// Driver watches the volumes of one host.
type Driver struct {
	clock clock.Clock
	host  string
	sys   string
	// Asleep reports whether the drive behind a device is in standby; nil means that none ever sleeps.
	Asleep func(device string) bool
	// table and status ask the device mapper.
	table, status func(name string) ([]devmap.Target, error)
	runs          map[string]*recovery.Report
}

// New makes the driver of a host.
func New(host string, c clock.Clock) *Driver {
	return &Driver{
		clock:  c,
		host:   host,
		sys:    "/sys",
		table:  devmap.Table,
		status: devmap.Status,
		runs:   map[string]*recovery.Report{},
	}
}

func read(path string) string {
	b, _ := os.ReadFile(path)
	return strings.TrimSpace(string(b))
}

// image is one leg of a volume: its data, and the devices those lie on.
type image struct {
	device string // dm-5; empty when there is none any more
	below  []string
	bytes  uint64
}

// Pools are the mapped devices that have a raid or a mirror target, each with its images as members.
func (d *Driver) Pools(_ context.Context, _ func(string) string) (out []pools.Snapshot, err error) {
	dirs, _ := filepath.Glob(d.sys + "/block/dm-*")
	byNumbers := map[string]string{}
	for _, dir := range dirs {
		byNumbers[read(dir+"/dev")] = filepath.Base(dir)
	}
	for _, dir := range dirs {
		name := read(dir + "/dm/name")
		table, one := d.table(name)
		if one != nil {
			err = errors.Join(err, one)
			continue
		}
		if len(table) != 1 || table[0].Type != "raid" && table[0].Type != "mirror" {
			continue
		}
		status, one := d.status(name)
		if one == nil && (len(status) != 1 || status[0].Type != table[0].Type) {
			one = fmt.Errorf("%s changed while it was read", name)
		}
		if one != nil {
			err = errors.Join(err, one)
			continue
		}
		out = append(out, d.snapshot(dir, name, table[0], status[0], byNumbers))
	}
	return out, err
}

func (d *Driver) snapshot(dir, name string, table, status devmap.Target, byNumbers map[string]string) pools.Snapshot {
	uuid := read(dir + "/dm/uuid")
	p := pool.Pool{
		ID:          uuid,
		Name:        d.host + ":" + name,
		Kind:        "mapped " + table.Type,
		Device:      filepath.Base(dir),
		Watched:     true,
		UsedUnknown: true,
		Capacity:    drive.Bytes(table.Length * 512),
	}
	if uuid == "" {
		p.ID = "dm-" + d.host + "-" + name
	}
	if strings.HasPrefix(uuid, "LVM-") {
		p.Name, p.Kind = stack.VolumeLabel(name), "lvm "+table.Type
	}
	r, images, ok := d.legs(table, status, byNumbers)
	pr, sets := protection(r.Type, strings.Fields(table.Params), len(images))
	g := pool.Group{Name: "images", Protect: pr}
	for i, im := range images {
		m := pool.Member{
			Slot:   strconv.Itoa(i),
			Device: im.device,
			State:  pool.StateUnkn,
			Domain: d.host,
			Size:   drive.Bytes(im.bytes),
			Used:   drive.Bytes(im.bytes),
			Needs:  drive.Bytes(im.bytes),
		}
		switch {
		case !ok || i >= len(r.Health):
		case im.device == "" || len(im.below) == 0:
			m.State = pool.Missing // what it lay on is not there, whether the kernel has noticed or not
		case r.Health[i] == 'A':
			m.State = pool.Online
		case r.Health[i] == 'a':
			m.State = pool.Recovering
		case r.Health[i] == 'D':
			m.State = pool.Faulty
		}
		g.Members = append(g.Members, m)
	}
	v := pool.Volume{Name: p.Name, Protect: pr}
	if len(sets) > 0 {
		g.Protect = pool.Protection{Words: pr.Words, None: true}
		v.Group, v.Protect = g.Name, pool.Protection{Words: pr.Words, Data: 1}
		for _, set := range sets {
			e := pool.Extent{Need: 1}
			for _, i := range set {
				e.Slots = append(e.Slots, strconv.Itoa(i))
			}
			v.Extents = append(v.Extents, e)
		}
	}
	p.Groups, p.Volumes = []pool.Group{g}, []pool.Volume{v}
	s := pools.Snapshot{Pool: p, Witness: d.witness(&p, name, images)}
	for _, word := range strings.Fields(table.Params) { // the devices of its metadata or its log are named there too
		if own := byNumbers[word]; own != "" {
			s.Devices = append(s.Devices, own)
		}
	}
	if rec := d.follow(p, r, table.Length); rec != nil {
		s.Recoveries = append(s.Recoveries, *rec)
	}
	return s
}

// legs are the images of a volume, from its table, and how they are, from its status. ok is false when the status is
// not understood.
func (d *Driver) legs(
	table, status devmap.Target,
	byNumbers map[string]string,
) (r devmap.Raid, images []image, ok bool) {
	f := strings.Fields(table.Params)
	var devices []string
	number := func(i int) int {
		if i >= len(f) {
			return -1
		}
		n, err := strconv.Atoi(f[i])
		if err != nil {
			return -1
		}
		return n
	}
	// take reads the number of devices at a field, and every second field from the first of them.
	take := func(count, first int) {
		if n := number(count); number(1) >= 0 && n > 0 {
			for i := range n {
				if j := first + 2*i; j < len(f) {
					devices = append(devices, f[j])
				}
			}
		}
	}
	if table.Type == "raid" { // <type> <count> <parameters> <devices> <metadata> <data> …
		at := 2 + number(1)
		take(at, at+2)
		r, ok = devmap.ParseRaid(status.Params)
		if len(f) > 0 {
			r.Type = f[0]
		}
	} else { // <log type> <count> <arguments> <mirrors> <device> <offset> …
		at := 2 + number(1)
		take(at, at+1)
		r, ok = parseMirror(status.Params, len(devices))
	}
	for _, dev := range devices {
		images = append(images, d.image(dev, byNumbers[dev]))
	}
	return r, images, ok && len(images) > 0
}

// image is one device of an array by its numbers and its name, empty where it has none among the mapped devices.
func (d *Driver) image(numbers, name string) image {
	im := image{device: name}
	if name == "" && numbers != "-" {
		if at, err := filepath.EvalSymlinks(d.sys + "/dev/block/" + numbers); err == nil {
			im.device, im.below = filepath.Base(at), []string{filepath.Base(at)}
			n, _ := strconv.ParseUint(read(at+"/size"), 10, 64)
			im.bytes = n * 512
		}
	} else if name != "" {
		dir := d.sys + "/block/" + name
		below, _ := os.ReadDir(dir + "/slaves")
		for _, b := range below {
			if _, err := os.Stat(d.sys + "/class/block/" + b.Name()); err == nil {
				im.below = append(im.below, b.Name())
			}
		}
		n, _ := strconv.ParseUint(read(dir+"/size"), 10, 64)
		im.bytes = n * 512
	}
	return im
}

// parseMirror reads the status of a mirror target (drivers/md/dm-raid1.c, mirror_status): devices, regions in step, and
// a letter a device, A alive, D, S, R and U not.
func parseMirror(params string, n int) (r devmap.Raid, ok bool) {
	f := strings.Fields(params)
	at := 1 + n
	if len(f) < at+3 {
		return r, false
	}
	r.Type, r.Action = "raid1", "idle"
	if _, err := fmt.Sscanf(f[at], "%d/%d", &r.Done, &r.Todo); err != nil {
		return r, false
	}
	if r.Done < r.Todo {
		r.Action = "recover"
	}
	for i, c := range f[at+2] {
		switch {
		case c != 'A':
			r.Health += "D"
		case r.Done < r.Todo && i > 0:
			r.Health += "a" // which of them is filled is not told; the first is what they are filled from
		default:
			r.Health += "A"
		}
	}
	return r, len(r.Health) == n
}

// protection of a level; sets are those images that hold the same, where they do not all. params are the table's: those
// of raid10 name how many copies there are and how they are laid out
// (Documentation/admin-guide/device-mapper/dm-raid.rst), two near ones if nothing else is said. Of far copies it is not
// told whether they keep to sets; without them more images share data, so the margin is never too much.
func protection(level string, params []string, n int) (pr pool.Protection, sets [][]int) {
	switch {
	case level == "raid1":
		return pool.Protection{Words: fmt.Sprintf("%d copies", n), Tolerance: n - 1, Data: 1}, nil
	case strings.HasPrefix(level, "raid10"):
		copies, format := 2, "near"
		for i := 0; i+1 < len(params); i++ {
			switch params[i] {
			case "raid10_copies":
				copies, _ = strconv.Atoi(params[i+1])
			case "raid10_format":
				format = params[i+1]
			}
		}
		layout, known := map[string]int{"near": 1<<8 | copies, "far": copies<<8 | 1, "offset": 1<<16 | copies<<8 | 1}[format]
		if !known || copies < 1 || copies > n {
			return pool.Protection{Words: level}, nil // nothing may be lost, as far as anybody here knows
		}
		return pool.Protection{Words: fmt.Sprintf("%d copies, striped", copies), Data: 1}, pool.CopySets(n, layout)
	case strings.HasPrefix(level, "raid6"):
		return pool.Protection{Words: "double parity", Tolerance: 2, Data: -1}, nil
	case strings.HasPrefix(level, "raid4"), strings.HasPrefix(level, "raid5"):
		return pool.Protection{Words: "single parity", Tolerance: 1, Data: -1}, nil
	}
	return pool.Protection{Words: level}, nil // striped, or not known here: nothing may be lost
}

// actions are what each action of dm-raid is called here.
var actions = map[string]recovery.Kind{
	"resync":  recovery.Resilver,
	"recover": recovery.Rebuild,
	"check":   recovery.Scrub,
	"repair":  recovery.Scrub,
	"reshape": recovery.Grow,
}

// follow reports what moves in a volume, or what ended since it was last looked at.
func (d *Driver) follow(p pool.Pool, r devmap.Raid, length uint64) *recovery.Report {
	now := d.clock.Now()
	was := d.runs[p.ID]
	kind, moving := actions[r.Action]
	if !moving {
		if was != nil && was.State == recovery.Running {
			was.State, was.EndedAt, was.At, was.Done = recovery.Finished, now, now, was.Todo
			for _, m := range p.Groups[0].Members {
				if m.Slot == was.Slot && m.State != pool.Online {
					was.State = recovery.Stopped
				}
			}
			was.Found = max(was.Found, r.Mismatch)
		}
		return was
	}
	if was == nil || was.Kind != kind || was.State != recovery.Running {
		was = &recovery.Report{ID: fmt.Sprintf("%s-%s-%d", p.ID, r.Action, now.Unix()), Kind: kind, StartedAt: now}
		d.runs[p.ID] = was
	}
	for _, m := range p.Groups[0].Members {
		if m.State == pool.Recovering {
			was.Slot = m.Slot
		}
	}
	was.State, was.At, was.Phase = recovery.Running, now, r.Action
	was.Done, was.Todo = drive.Bytes(512*r.Done), drive.Bytes(512*r.Todo)
	if was.Todo == 0 {
		was.Todo = drive.Bytes(512 * length)
	}
	return was
}

// witness lays what LVM's metadata on the physical volumes say beside what the kernel does: each image must be on the
// volumes that they name for it. Nil where there are no such metadata.
func (d *Driver) witness(p *pool.Pool, name string, images []image) *pools.Witness {
	if !strings.HasPrefix(p.ID, "LVM-") {
		return nil
	}
	volume := name
	if _, lv, ok := strings.Cut(stack.VolumeLabel(name), "/"); ok {
		volume = lv
	}
	volumes, failed, group, unread := d.readPVs(images)
	var by []pool.Testimony
	for i, im := range images {
		t := pool.Testimony{
			Slot:   strconv.Itoa(i),
			Agrees: group != nil && len(im.below) > 0,
			Says:   "no metadata of its volume group were found",
		}
		leaf := fmt.Sprintf("%s_rimage_%d", volume, i)
		var named []string
		if group != nil {
			if len(group.On(leaf)) == 0 {
				leaf = fmt.Sprintf("%s_mimage_%d", volume, i)
			}
			for _, pv := range group.On(leaf) {
				if x := group.PVs[pv]; x.Missing {
					t.Agrees, t.Says = false, "LVM's metadata mark the volume it is on as missing"
				} else {
					named = append(named, x.ID)
				}
			}
		}
		for _, on := range im.below {
			switch pv := volumes[on]; {
			case failed[on] != "":
				t.Agrees, t.Says = false, failed[on]
			case group != nil && !slices.Contains(named, pv.ID) && t.Agrees:
				t.Agrees, t.Says = false, "LVM's metadata do not name "+on+" for it"
			case group != nil && pv.Group != nil && pv.Group.Sequence < group.Sequence:
				t.Agrees, t.Says = false, fmt.Sprintf(
					"the metadata on %s are %d changes old",
					on,
					group.Sequence-pv.Group.Sequence,
				)
			}
		}
		by = append(by, t)
	}
	return &pools.Witness{Source: "LVM metadata on the physical volumes", Differs: p.Disagreements(by), Unread: unread}
}

// readPVs reads the metadata on the devices below images: what is on each, why it could not be read, the newest group
// among them, and whether some were left out because their drives are in standby.
func (d *Driver) readPVs(
	images []image,
) (volumes map[string]lvm.PV, failed map[string]string, group *lvm.Group, unread bool) {
	volumes, failed = map[string]lvm.PV{}, map[string]string{}
	for _, im := range images {
		for _, on := range im.below {
			if d.Asleep != nil && d.Asleep(on) {
				failed[on], unread = "its drive is in standby, and was not woken to be read", true
				continue
			}
			pv, err := readPV("/dev/" + on)
			if err != nil {
				failed[on] = "its metadata cannot be read: " + err.Error()
				continue
			}
			volumes[on] = pv
			if pv.Group != nil && (group == nil || pv.Group.Sequence > group.Sequence) {
				group = pv.Group
			}
		}
	}
	return volumes, failed, group, unread
}

func readPV(path string) (lvm.PV, error) {
	f, err := direct.Open(path)
	if err != nil {
		return lvm.PV{}, err
	}
	defer f.Close()
	return lvm.Read(f.Fill)
}

// The volumes are watched: nothing can be ordered of them.

var _ pools.Driver = &Driver{}

// Trust is the kernel's: the device mapper's tables and status, and LVM's metadata on the drives.
func (d *Driver) Trust() pools.Trust { return pools.TrustKernel }
