package md

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"

	"lantern/internal/agent/pools"
	"lantern/internal/core/recovery"
)

// Join makes a drive a member in the place of the one at slot: of one that is gone or faulty, whose place it is given
// by the kernel; of one that still works, beside which it is filled until it takes over.
func (d *Driver) Join(ctx context.Context, id, slot string, t pools.Target) (string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	a, all, super, err := d.find(id)
	if err != nil {
		return "", err
	}
	if n, err := strconv.Atoi(slot); err != nil || n < 0 || uint32(n) >= super.Disks {
		return "", fmt.Errorf("the places of %s have the numbers 0 to %d, %q is none", a.name, super.Disks-1, slot)
	}
	old, err := a.clear(all, slot)
	if err != nil {
		return "", err
	}
	n := uint32(0)
	if spares := a.spares(
		all,
	); slices.ContainsFunc(
		spares,
		func(m device) bool { return m.name == filepath.Base(t.Path) },
	) {
		// It is a device of the array already. Which spare it takes the kernel decides, so there must be no other.
		if len(spares) > 1 || old == nil || !old.is("in_sync") {
			return "", fmt.Errorf(
				"%s has %d spares: only the single one can be filled beside a member that works",
				a.name,
				len(spares),
			)
		}
	} else if n, err = a.newcomer(
		all,
		super,
		t,
	); err != nil {
		return "", err
	}
	if old != nil && old.is("in_sync") {
		if err := os.WriteFile(filepath.Join(old.dir, "state"), []byte("want_replacement"), 0o644); err != nil {
			return "", fmt.Errorf("the kernel refused to replace %s in place: %w", old.name, err)
		}
	}
	name := filepath.Base(t.Path)
	shown := ""
	if !await(ctx, func() bool {
		for _, m := range a.members() {
			if m.name == name && m.slot == slot {
				shown = strings.Join(m.state, ", ")
				return true
			}
		}
		return false
	}) {
		return "", fmt.Errorf("the kernel took %s as device %d, but does not give it the place %s", name, n, slot)
	}
	if old != nil {
		return fmt.Sprintf("the kernel fills it beside the old one at place %s (%s)", slot, shown), nil
	}
	return fmt.Sprintf("the kernel has given it the place %s (%s)", slot, shown), nil
}

// clear takes faulty devices out: they take up places that a new one needs, and their data are given up by the kernel
// already. It returns the device that is at the place and works, nil when there is none.
func (a *array) clear(all []device, slot string) (old *device, err error) {
	for i, m := range all {
		if m.slot == slot && !m.is("replacement") {
			old = &all[i]
		}
		if m.is("faulty") {
			if err := a.remove(m); err != nil {
				return nil, fmt.Errorf("%s, which is faulty, could not be taken out: %w", m.name, err)
			}
			if m.slot == slot {
				old = nil
			}
		}
	}
	return old, nil
}

// spares are the devices that stand by.
func (a array) spares(all []device) (out []device) {
	for _, m := range all {
		if m.is("spare") && m.slot == "none" && !m.is("faulty") && !m.gone {
			out = append(out, m)
		}
	}
	return out
}

// hotAdd adds a device to an array of version 0.90: the kernel itself writes its superblock (hot_add_disk in
// drivers/md/md.c).
func (a array) hotAdd(path string) error {
	f, err := os.OpenFile(path, os.O_RDONLY, 0)
	if err != nil {
		return err
	}
	major, minor, err := numbers(f)
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	whole, err := os.OpenFile("/dev/"+a.name, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer whole.Close()
	return control(whole, iocHotAdd, uintptr(minor&0xff|major<<8|minor&^0xff<<12))
}

// newcomer makes a drive a device of the array, a spare at first.
func (a array) newcomer(all []device, super *Super, t pools.Target) (uint32, error) {
	if super.Minor == 90 {
		if at, err := place(90, uint64(t.Size)/512); err != nil || at < super.Size {
			return 0, fmt.Errorf("it has %d bytes, %d are needed", t.Size, (super.Size+256)*512)
		}
		if err := a.hotAdd(t.Path); err != nil {
			return 0, fmt.Errorf("the kernel refused it: %w", err)
		}
		return 0, nil
	}
	number := free(all, super)
	for a.inUse(number) {
		number++ // by a device that is gone, and whose superblock is gone with it
	}
	var id [16]byte
	if _, err := rand.Read(id[:]); err != nil {
		return 0, err
	}
	s, err := super.For(number, id, uint64(t.Size))
	if err != nil {
		return 0, err
	}
	if err := a.add(t.Path, s); err != nil {
		return 0, fmt.Errorf("the kernel refused it: %w", err)
	}
	return number, nil
}

// remove takes a device that is faulty or stands by out of the array.
func (a array) remove(m device) error {
	return os.WriteFile(filepath.Join(m.dir, "state"), []byte("remove"), 0o644)
}

// Admit adds a drive as a spare.
func (d *Driver) Admit(ctx context.Context, id string, t pools.Target) (string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	a, all, super, err := d.find(id)
	if err != nil {
		return "", err
	}
	n, err := a.newcomer(all, super, t)
	if err != nil {
		return "", err
	}
	name := filepath.Base(t.Path)
	shown := ""
	if !await(ctx, func() bool {
		for _, m := range a.members() {
			if m.name == name {
				shown = strings.Join(m.state, ", ")
			}
		}
		return shown != ""
	}) {
		return "", errors.New("the kernel accepted it but does not list it")
	}
	return fmt.Sprintf("the kernel shows it as device %d (%s)", n, shown), nil
}

// Begin starts a check of all members, or lets the array use all of members that were changed for larger ones.
func (d *Driver) Begin(ctx context.Context, id string, t pools.Task) (string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	a, all, _, err := d.find(id)
	if err != nil {
		return "", err
	}
	if now := a.attr("sync_action"); now != "idle" {
		return "", fmt.Errorf("a %s is running", now)
	}
	switch t.Kind {
	case recovery.Scrub:
		// What differs is repaired where there is a way to tell what is right, and counted where there is none.
		// One that was stopped before would go on from there, and leave the beginning out.
		if err := errors.Join(a.set("sync_min", "0"), a.set("sync_action", "repair")); err != nil {
			return "", err
		}
		if !await(
			ctx,
			func() bool { return a.attr("sync_action") == "repair" || a.attr("last_sync_action") == "repair" },
		) {
			return "", errors.New("the kernel does not show that the scrub has begun")
		}
		d.scrubBegun(a, id) // a short one may have ended before the next look
		return "the kernel shows that the scrub has begun", nil
	case recovery.Grow:
		before := a.number("component_size")
		var sizes []string
		for _, m := range all {
			if m.is("faulty") {
				// It is no member any more, but while it is listed the kernel counts its size as well.
				if err := a.remove(m); err != nil {
					return "", fmt.Errorf("%s, which is faulty, could not be taken out: %w", m.name, err)
				}
				continue
			}
			sizes = append(sizes, fmt.Sprintf("%s %d KiB", m.name, m.size>>10))
		}
		// Nothing stands for all that the smallest member has (update_size in drivers/md/md.c).
		if err := a.set("component_size", "0"); err != nil {
			return "", err
		}
		after := a.number("component_size")
		if after <= before {
			return "", fmt.Errorf(
				"the kernel uses %d KiB of each member, as before; they have: %s",
				after,
				strings.Join(sizes, ", "),
			)
		}
		return fmt.Sprintf("of each member %d KiB are used now, %d before", after, before), nil
	}
	return "", pools.ErrNotOffered
}

// Release is not something md knows: its places stay.
func (d *Driver) Release(_ context.Context, id, _ string) (string, error) {
	if _, _, _, err := d.find(id); err != nil {
		return "", err
	}
	return "", pools.ErrNotOffered
}

// Nudge lets an array recover that was frozen, or whose recovery was put off (sync_action of
// Documentation/admin-guide/md.rst).
func (d *Driver) Nudge(ctx context.Context, id string) (string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	a, _, _, err := d.find(id)
	if err != nil {
		return "", err
	}
	if now := a.attr("sync_action"); now != "frozen" && now != "idle" {
		return "", fmt.Errorf("a %s is running", now)
	}
	if err := errors.Join(a.set("sync_action", "idle"), a.set("sync_action", "recover")); err != nil {
		return "", err
	}
	if !await(ctx, func() bool { return a.attr("sync_action") == "recover" || a.attr("degraded") == "0" }) {
		return "", errors.New("the kernel does not show that it recovers")
	}
	return "the kernel shows that it recovers", nil
}

// waits says why an array that lacks a member does not recover.
func (a array) waits(all []device) string {
	if a.attr("degraded") == "0" || a.attr("degraded") == "" {
		return ""
	}
	spare := false
	for _, m := range all {
		spare = spare || m.is("spare")
	}
	switch now := a.attr("sync_action"); {
	case now == "frozen":
		return "recoveries of " + a.name + " are frozen"
	case now != "idle":
		return ""
	case strings.Contains(a.attr("sync_completed"), "delayed"):
		return "it waits for another array on the same drives"
	case spare && strings.HasPrefix(a.attr("array_state"), "read"):
		return a.name + " is read-only"
	case spare:
		return "a spare is there, and nothing has begun to fill it"
	}
	return ""
}

// Stop ends a check. What fills a member is not stopped: redundancy would be left missing.
func (d *Driver) Stop(ctx context.Context, id string) (string, error) {
	a, _, _, err := d.find(id)
	if err != nil {
		return "", err
	}
	if now := a.attr("sync_action"); now != "check" && now != "repair" {
		return "", fmt.Errorf("nothing runs in %s that could be stopped (%s)", a.name, now)
	}
	if err := a.set("sync_action", "idle"); err != nil {
		return "", err
	}
	if !await(ctx, func() bool { return a.attr("sync_action") == "idle" }) {
		return "", errors.New("the kernel does not show that it has stopped")
	}
	return "the scrub has stopped", nil
}

// Prioritise sets the limits of the pace for this array.
func (d *Driver) Prioritise(_ context.Context, id string, p recovery.Priority) (string, error) {
	a, _, _, err := d.find(id)
	if err != nil {
		return "", err
	}
	least, most := "system", "system"
	switch p {
	case recovery.Low:
		most = strconv.Itoa(lowMost)
	case recovery.High:
		least, most = strconv.Itoa(highLeast), strconv.Itoa(10*highLeast)
	case recovery.Normal:
	default:
		return "", fmt.Errorf("priority is low, normal or high, not %q", p)
	}
	// The least must never be above the most, in between either.
	err = errors.Join(a.set("sync_speed_min", "system"), a.set("sync_speed_max", most))
	if least != "system" {
		err = errors.Join(err, a.set("sync_speed_min", least))
	} else if p == recovery.Low {
		err = errors.Join(err, a.set("sync_speed_min", "1000"))
	}
	if err != nil {
		return "", err
	}
	return fmt.Sprintf(
		"the kernel keeps it between %s and %s KiB/s a member",
		a.attr("sync_speed_min"),
		a.attr("sync_speed_max"),
	), nil
}

// WhatIsAt is not something md knows: what is on it, it does not.
func (d *Driver) WhatIsAt(_ context.Context, path string, _ uint64) (string, error) {
	for _, a := range d.arrays() {
		for _, m := range a.members() {
			if "/dev/"+m.name == path {
				return "", pools.ErrNotOffered
			}
		}
	}
	return "", pools.ErrNoSuchPool
}

// Fail tells the kernel that a member is faulty: it is used no more.
func (d *Driver) Fail(id, slot string) error {
	a, all, _, err := d.find(id)
	if err != nil {
		return err
	}
	for _, m := range all {
		if m.slot == slot {
			return os.WriteFile(filepath.Join(m.dir, "state"), []byte("faulty"), 0o644)
		}
	}
	return fmt.Errorf("%s has no member at place %s", a.name, slot)
}

// Make makes a new array /dev/md<number> of empty devices that are known to hold nothing but zeros, so that they are in
// step from the beginning: for trying things out, on machines made for that.
func Make(number int, name string, level int32, layout, chunk uint32, paths []string) error {
	var size uint64
	const offset = 2048
	for i, path := range paths {
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		n, err := f.Seek(0, 2)
		f.Close()
		if err != nil {
			return err
		}
		if usable := (uint64(n)/512 - offset) &^ 127; i == 0 || usable < size {
			size = usable
		}
	}
	base := &Super{
		Minor:      2,
		Name:       name,
		Level:      level,
		Layout:     layout,
		Size:       size,
		Chunk:      chunk,
		Disks:      uint32(len(paths)),
		DataOffset: offset,
		Resync:     inStep,
	}
	if _, err := rand.Read(base.ID[:]); err != nil {
		return err
	}
	for i := range paths {
		base.Roles = append(base.Roles, uint16(i))
	}
	_ = os.WriteFile("/sys/module/md_mod/parameters/new_array", []byte(fmt.Sprintf("md%d", number)), 0o200)
	node := fmt.Sprintf("/dev/md%d", number)
	if _, err := os.Stat(node); err != nil {
		if err := unix.Mknod(node, unix.S_IFBLK|0o600, int(unix.Mkdev(9, uint32(number)))); err != nil {
			return err
		}
	}
	md, err := os.OpenFile(node, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	defer md.Close()
	var info [arrayWords]int32
	info[0], info[1] = 1, 2 // of what version the superblocks are; the rest stands in them
	if err := control(md, iocSetArray, uintptr(unsafe.Pointer(&info))); err != nil {
		return fmt.Errorf("set up the array: %w", err)
	}
	for i, path := range paths {
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		if err != nil {
			return err
		}
		n, _ := f.Seek(0, 2)
		s := *base
		s.Device, s.Offset = uint32(i), 8
		s.DataSize = uint64(n)/512 - offset
		if _, err := rand.Read(s.DeviceID[:]); err != nil {
			return err
		}
		err = put(f, &s)
		major, minor, err2 := numbers(f)
		if err := errors.Join(err, err2, f.Close()); err != nil {
			return err
		}
		disk := [diskInfoWords]int32{int32(i), int32(major), int32(minor), int32(i), 1<<1 | 1<<2}
		if err := control(md, iocAddDisk, uintptr(unsafe.Pointer(&disk))); err != nil {
			return fmt.Errorf("add %s: %w", path, err)
		}
	}
	if err := control(md, iocRunArray, 0); err != nil {
		return fmt.Errorf("run the array: %w", err)
	}
	return nil
}
