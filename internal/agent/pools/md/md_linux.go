package md

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"lantern/internal/agent/pools"
	"lantern/internal/clock"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
)

// Driver speaks for the md arrays of a host.
type Driver struct {
	clock clock.Clock
	host  string
	sys   string // where the kernel shows block devices
	dev   string // and their nodes
	mu    sync.Mutex
	was   map[string]*memory // by array id
	// Asleep reports whether a disk is in standby: what its superblock said before is used then, and it is not woken.
	// Nil means that no disk ever sleeps.
	Asleep  func(disk string) bool
	superMu sync.Mutex
	supers  map[string]*Super // by device, as they were last read
}

// memory is what is remembered of an array between two looks: the kernel forgets the place of a member that failed, and
// a recovery that has ended.
type memory struct {
	slots map[string]string // device to slot
	run   *recovery.Report
}

// New makes the driver for a host.
func New(host string, c clock.Clock) *Driver {
	return &Driver{
		clock:  c,
		host:   host,
		sys:    "/sys/block",
		dev:    "/dev/",
		was:    map[string]*memory{},
		supers: map[string]*Super{},
	}
}

// array is one array in sysfs.
type array struct {
	dir  string // …/md
	name string // md0
	d    *Driver
}

func (a array) attr(name string) string {
	b, _ := os.ReadFile(filepath.Join(a.dir, name))
	return strings.TrimSpace(string(b))
}

// number reads an attribute that is a number. While an array reshapes, some have two: what it becomes, and in brackets
// what it was.
func (a array) number(name string) uint64 {
	first, _, _ := strings.Cut(a.attr(name), " ")
	n, _ := strconv.ParseUint(first, 10, 64)
	return n
}

// external says by whom the metadata of an array are kept, if not by the kernel: "ddf" of a container, "/md127/0" of a
// volume in one.
func (a array) external() (by string, yes bool) {
	return strings.CutPrefix(a.attr("metadata_version"), "external:")
}

func (a array) set(name, value string) error {
	if err := os.WriteFile(filepath.Join(a.dir, name), []byte(value), 0o644); err != nil {
		return fmt.Errorf("the kernel refused %s: %w", name, err)
	}
	return nil
}

func (d *Driver) arrays() []array {
	dirs, _ := filepath.Glob(d.sys + "/md*/md")
	var out []array
	for _, dir := range dirs {
		a := array{dir: dir, name: filepath.Base(filepath.Dir(dir)), d: d}
		if state := a.attr("array_state"); state != "" && state != "clear" && state != "inactive" {
			out = append(out, a)
		}
	}
	return out
}

// errChanging means that an array changed while it was read.
var errChanging = errors.New("the array changes while it is read")

var _ pools.Whole = &Driver{}

// Trust is the kernel's: its own account of its arrays, and the metadata on the members.
func (d *Driver) Trust() pools.Trust { return pools.TrustKernel }

// Pools are the arrays with their members and what moves in them.
func (d *Driver) Pools(_ context.Context, keys func(string) string) (out []pools.Snapshot, err error) {
	for _, a := range d.arrays() {
		var s pools.Snapshot
		var one error
		for range 5 {
			if s, one = d.snapshot(a, keys); !errors.Is(one, errChanging) {
				break
			}
		}
		if s.Inconsistent = errors.Is(one, errChanging); one != nil && !s.Inconsistent {
			err = errors.Join(err, fmt.Errorf("%s: %w", a.name, one))
			continue
		}
		out = append(out, s)
	}
	return out, err
}

// protections by level: words, and how many members can be lost. Those of mirrors depend on how many there are.
var protections = map[string]pool.Protection{
	"raid4": {
		Words:     "dedicated parity",
		Tolerance: 1,
		Data:      -1,
	},
	"raid5":  {Words: "single parity", Tolerance: 1, Data: -1},
	"raid6":  {Words: "double parity", Tolerance: 2, Data: -1},
	"raid0":  {Words: "striped, no redundancy"},
	"linear": {Words: "no redundancy"},
}

var copies = map[int]string{1: "no redundancy", 2: "two-way mirror", 3: "three-way mirror", 4: "four-way mirror"}

func (d *Driver) snapshot(a array, keys func(string) string) (pools.Snapshot, error) {
	before := a.attr("sync_action") + a.attr("degraded") + a.attr("raid_disks")
	all := a.members()
	super := newest(all)
	p := pool.Pool{Kind: "md " + a.attr("level"), Device: a.name}
	by, external := a.external()
	offset := uint64(0)
	switch {
	case external:
		p.ID, p.Name = d.externalID(a, by, all), d.host+":"+a.name
		p.Kind, p.Watched = "md "+a.attr("level")+", external metadata", true
	case super == nil:
		return pools.Snapshot{}, errors.New(
			"no superblock of a member can be read, so nobody could know the array again",
		)
	default:
		p.ID, p.Name = hex.EncodeToString(super.ID[:]), d.named(a, super)
		offset = super.DataOffset * 512
	}
	mem := d.was[p.ID]
	if mem == nil {
		mem = &memory{slots: map[string]string{}}
		d.was[p.ID] = mem
	}
	n := int(a.number("raid_disks"))
	if n == 0 {
		return pools.Snapshot{}, fmt.Errorf("the kernel says that it has %q places", a.attr("raid_disks"))
	}
	places := seating{d: d, pool: &p, mem: mem, keys: keys, offset: offset, size: a.share(all)}
	places.empty(n)
	for i := range all {
		places.take(&all[i])
	}
	bySlot, size, fills := places.bySlot, places.size, places.fills
	d.group(&p, a, bySlot, size)
	s := pools.Snapshot{Pool: p, Priority: a.priority(), Witness: witness(&p, all, external)}
	if !external {
		s.Offers = a.offers(super, len(p.Spares))
	}
	s.Waits = a.waits(all)
	if r := d.follow(a, p.ID, mem, fills, keys); r != nil {
		s.Recoveries = append(s.Recoveries, *r)
	}
	if a.attr("sync_action")+a.attr("degraded")+a.attr("raid_disks") != before {
		return s, errChanging
	}
	return s, nil
}

// offers are the orders that an array takes.
func (a array) offers(super *Super, spares int) []pools.Offer {
	offers := []pools.Offer{
		pools.OfferJoin,
		pools.OfferAdmit,
		pools.OfferScrub,
		pools.OfferBeside,
		pools.OfferNudge,
		pools.OfferGrow,
		pools.OfferStop,
		pools.OfferPriority,
	}
	if super.Minor == 90 || strings.HasPrefix(a.attr("level"), "raid0") || a.attr("level") == "linear" {
		return slices.DeleteFunc(offers, func(o pools.Offer) bool { return o == pools.OfferBeside })
	}
	if spares == 1 {
		return append(offers, pools.OfferSpare) // of several the kernel takes which it likes
	}
	return offers
}

// share is how many bytes the array uses of each member; linear and striped arrays use all of it.
func (a array) share(all []device) uint64 {
	size := a.number("component_size") << 10
	if size == 0 {
		for _, m := range all {
			size = max(size, m.size)
		}
	}
	return size
}

// group puts members together as they carry redundancy: mirrors of mirrors as one group each, everything else as one.
func (d *Driver) group(p *pool.Pool, a array, members []pool.Member, size uint64) {
	n := len(members)
	level := a.attr("level")
	pr, known := protections[level]
	data := n - pr.Tolerance
	var extents []pool.Extent
	switch {
	case level == "raid1":
		pr, data = pool.Protection{Words: words(n), Tolerance: n - 1, Data: 1}, 1
	case level == "raid10":
		layout := a.number("layout")
		near, far := int(layout&0xff), int(layout>>8&0xff)
		data = n / max(1, near*far)
		if far <= 1 && near > 0 && n%near == 0 {
			// Copies lie beside each other: each few members are a mirror of their own.
			for i := 0; i < n; i += near {
				p.Groups = append(
					p.Groups,
					pool.Group{
						Name:    fmt.Sprintf("mirror %d", i/near+1),
						Protect: pool.Protection{Words: words(near), Tolerance: near - 1, Data: 1},
						Members: members[i : i+near],
					},
				)
			}
			break
		}
		// Copies go around the members: which of them hold the same follows from the layout.
		pr = pool.Protection{Words: words(near * far), None: true}
		sets := pool.CopySets(n, int(layout))
		for _, set := range sets {
			e := pool.Extent{
				Need:  1,
				Bytes: drive.Bytes(size * uint64(n) / uint64(max(1, near*far)) / uint64(len(sets))),
			}
			for _, i := range set {
				e.Slots = append(e.Slots, strconv.Itoa(i))
			}
			extents = append(extents, e)
		}
	case !known:
		pr = pool.Protection{Words: level}
	case level == "raid4":
		members[n-1].Parity = true
	}
	if len(p.Groups) == 0 {
		p.Groups = []pool.Group{{Name: "members", Protect: pr, Members: members}}
	}
	p.Capacity = drive.Bytes(uint64(max(data, 1)) * size)
	if whole := a.sectors() * 512; whole > 0 {
		p.Capacity = drive.Bytes(whole) // the kernel's own account, right for every level and layout
	}
	p.UsedUnknown = true // md does not know what of it is in use
	v := pool.Volume{Name: a.name, Protect: p.Groups[0].Protect, Extents: extents}
	if len(extents) > 0 {
		v.Group, v.Protect = p.Groups[0].Name, pool.Protection{Words: pr.Words, Data: 1}
	}
	p.Volumes = []pool.Volume{v}
}

// sectors is the size of the array itself, in sectors of 512 bytes.
func (a array) sectors() uint64 {
	b, _ := os.ReadFile(filepath.Join(filepath.Dir(a.dir), "size"))
	n, _ := strconv.ParseUint(strings.TrimSpace(string(b)), 10, 64)
	return n
}

func words(n int) string {
	if w := copies[n]; w != "" {
		return w
	}
	return fmt.Sprintf("%d copies", n)
}

// kinds are what each action of md's is called here.
var kinds = map[string]recovery.Kind{
	"resync":  recovery.Resilver,
	"recover": recovery.Rebuild,
	"check":   recovery.Scrub,
	"repair":  recovery.Scrub,
	"reshape": recovery.Grow,
}

// follow reports what moves in an array, or what ended since it was last looked at.
func (d *Driver) follow(a array, id string, mem *memory, fills *device, keys func(string) string) *recovery.Report {
	now := d.clock.Now()
	action := a.attr("sync_action")
	kind, moving := kinds[action]
	if !moving {
		return a.ended(mem.run, now)
	}
	name := fmt.Sprintf("%s-%s", id, action)
	slot, key := "", ""
	if fills != nil && kind == recovery.Rebuild {
		slot, key = fills.slot, keys("/dev/"+fills.name)
		if fills.super != nil {
			// The same filling of the same device has the same name after a restart.
			name += "-" + hex.EncodeToString(fills.super.DeviceID[:6])
		}
	}
	r := mem.run
	if r == nil || r.State == recovery.Finished || r.State == recovery.Stopped || r.Kind != kind ||
		r.Slot != slot && slot != "" {
		if kind != recovery.Rebuild || slot == "" {
			name += fmt.Sprintf("-%d", now.Unix())
		}
		r = &recovery.Report{ID: name, Kind: kind, StartedAt: now, Slot: slot, Drive: key}
		mem.run = r
	}
	r.State, r.At, r.Phase = recovery.Running, now, action
	a.progress(r)
	return r
}

// progress reads how far a run is.
func (a array) progress(r *recovery.Report) {
	done, todo, ok := strings.Cut(a.attr("sync_completed"), " / ")
	x, err1 := strconv.ParseUint(done, 10, 64)
	y, err2 := strconv.ParseUint(todo, 10, 64)
	if ok && err1 == nil && err2 == nil && y > 0 {
		r.Done, r.Todo = drive.Bytes(512*min(x, y)), drive.Bytes(512*y)
	} else if r.Todo == 0 {
		r.Todo = drive.Bytes(a.number("component_size") << 10)
	}
	if r.Phase == "check" {
		r.Found = a.number("mismatch_cnt") / 8 // it counts sectors, in pages
	}
}

// ended reports how a run ended that moves no more, or that it rests.
func (a array) ended(r *recovery.Report, now time.Time) *recovery.Report {
	switch frozen := a.attr("sync_action") == "frozen"; {
	case r == nil:
	case frozen:
		r.State, r.At = recovery.Paused, now
	case r.State != recovery.Finished && r.State != recovery.Stopped:
		r.EndedAt, r.At, r.State = now, now, recovery.Finished
		// What fills a member has ended well only if that is in step now; a check that was told to stop has moved
		// no further.
		if r.Slot != "" && !a.inStep(r.Slot) || r.Slot == "" && a.interrupted() {
			r.State = recovery.Stopped
		}
		if r.State == recovery.Finished {
			r.Done = r.Todo
		}
		r.Found = max(r.Found, a.number("mismatch_cnt")/8)
	}
	return r
}

// scrubBegun records that a scrub was seen to have begun. Must be called with d.mu held.
func (d *Driver) scrubBegun(a array, id string) {
	mem := d.was[id]
	if mem == nil {
		mem = &memory{slots: map[string]string{}}
		d.was[id] = mem
	}
	now := d.clock.Now()
	mem.run = &recovery.Report{
		ID:        fmt.Sprintf("%s-repair-%d", id, now.Unix()),
		Kind:      recovery.Scrub,
		State:     recovery.Running,
		StartedAt: now,
		Phase:     "repair",
		Sample:    recovery.Sample{At: now, Todo: drive.Bytes(a.number("component_size") << 10)},
	}
}

// inStep reports whether the member at a place carries its share.
func (a array) inStep(slot string) bool {
	for _, m := range a.members() {
		if m.slot == slot && m.is("in_sync") {
			return true
		}
	}
	return false
}

// interrupted reports whether the last check did not come to its end: then the kernel keeps where the next would go on
// (md_do_sync in drivers/md/md.c).
func (a array) interrupted() bool { return a.number("sync_min") > 0 }

// priority is told by the limits that were set for this array alone.
func (a array) priority() recovery.Priority {
	maximum := a.attr("sync_speed_max")
	minimum := a.attr("sync_speed_min")
	switch {
	case strings.HasPrefix(maximum, strconv.Itoa(lowMost)+" "):
		return recovery.Low
	case strings.HasPrefix(minimum, strconv.Itoa(highLeast)+" "):
		return recovery.High
	}
	return recovery.Normal
}

// Limits of the pace, in KiB a second and member: low is held below the first, high is let no slower than the second,
// even where that is felt.
const (
	lowMost   = 20_000
	highLeast = 400_000
)

// find gives an array by its id.
func (d *Driver) find(id string) (array, []device, *Super, error) {
	for _, a := range d.arrays() {
		all := a.members()
		if s := newest(all); s != nil && hex.EncodeToString(s.ID[:]) == id {
			return a, all, s, nil
		}
	}
	return array{}, nil, nil, pools.ErrNoSuchPool
}

// settle is how long the kernel may take until it shows what it was told.
const settle = 20 * time.Second

func await(ctx context.Context, seen func() bool) bool {
	ctx, cancel := context.WithTimeout(ctx, settle)
	defer cancel()
	for ctx.Err() == nil {
		if seen() {
			return true
		}
		_ = clock.Real{}.Sleep(ctx, 20*time.Millisecond)
	}
	return false
}
