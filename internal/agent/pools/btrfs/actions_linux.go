//go:build linux

package btrfs

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"lantern/internal/agent/pools"
	"lantern/internal/clock"
	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
)

// settle is how long the kernel may take until it shows that something has begun.
const settle = 20 * time.Second

// await looks until seen is true, work has ended, or the time is over.
func await(ctx context.Context, done <-chan struct{}, seen func() bool) bool {
	ctx, cancel := context.WithTimeout(ctx, settle)
	defer cancel()
	for ctx.Err() == nil {
		if seen() {
			return true
		}
		select {
		case <-done:
			return seen()
		default:
		}
		_ = clock.Real{}.Sleep(ctx, 5*time.Millisecond)
	}
	return false
}

// Join replaces the device at slot by t: the kernel copies its share from the others, and from the old one only where
// there is no other way if that one is gone or has errors.
func (d *Driver) Join(ctx context.Context, id, slot string, t pools.Target) (string, error) {
	f, info, err := open(id)
	if err != nil {
		return "", err
	}
	devid, err := strconv.ParseUint(slot, 10, 64)
	if err != nil || devid == 0 {
		f.Close()
		return "", fmt.Errorf("btrfs devices have numbers, %q is none", slot)
	}
	old, err := readDevice(f, devid)
	if err != nil {
		f.Close()
		return "", fmt.Errorf("btrfs has no device %d: %w", devid, err)
	}
	source := uint64(readSourceAlways)
	if s, err := readDevStats(
		f,
		devid,
	); err != nil || s != (devStats{}) || missing(info.id, devid) ||
		!hasMedium(old.path) {
		source = readSourceAvoid
	}
	before, _ := readReplacement(f)
	r := &run{mine: true, done: make(chan struct{}), report: recovery.Report{Slot: slot, Drive: t.Key,
		Sample: recovery.Sample{Todo: drive.Bytes(max(old.used, 1))}}}
	d.mu.Lock()
	d.runs[replaceRun+id] = r
	d.mu.Unlock()
	go func() {
		defer f.Close()
		defer close(r.done)
		r.err = replace(f, devid, source, t.Path)
	}()
	begun := await(ctx, r.done, func() bool {
		now, err := readReplacement(f)
		return err == nil &&
			(now.state == replaceStarted || !now.started.Equal(before.started) || now.state == replaceFinished &&
				before.state != replaceFinished)
	})
	select {
	case <-r.done:
		if r.err != nil {
			return "", fmt.Errorf("the kernel refused: %w", r.err)
		}
		return fmt.Sprintf("the kernel has replaced device %d", devid), nil
	default:
	}
	if !begun {
		return "", errors.New("the kernel does not show that the replacement has begun")
	}
	return fmt.Sprintf("the kernel shows that the replacement of device %d has begun", devid), nil
}

// hasMedium reports whether anything is behind a device path.
func hasMedium(path string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	n, err := f.Seek(0, 2)
	return err == nil && n > 0
}

// Admit adds a device.
func (d *Driver) Admit(_ context.Context, id string, t pools.Target) (string, error) {
	f, _, err := open(id)
	if err != nil {
		return "", err
	}
	defer f.Close()
	if err := addDevice(f, t.Path); err != nil {
		return "", fmt.Errorf("the kernel refused: %w", err)
	}
	info, err := readFSInfo(f)
	if err != nil {
		return "", err
	}
	for n := uint64(1); n <= info.maxID; n++ {
		if dev, err := readDevice(f, n); err == nil && dev.path == t.Path {
			return fmt.Sprintf("the kernel shows it as device %d", n), nil
		}
	}
	return "", errors.New("the kernel accepted it but does not list it")
}

// Begin starts a scrub of all devices, a rebalance of all chunks or of those that are little used, or drains a device:
// it is emptied and then no member any more, in one step of the kernel's.
func (d *Driver) Begin(ctx context.Context, id string, task pools.Task) (string, error) {
	kind := task.Kind
	f, info, err := open(id)
	if err != nil {
		return "", err // of a pool of another kind nothing is said here, not even what is not offered
	}
	switch kind {
	case recovery.Scrub, recovery.Rebalance:
	case recovery.Drain:
		f.Close()
		if len(task.Slots) > 0 {
			return "", pools.ErrNotOffered // nothing depends on another device here
		}
		return d.drain(ctx, id, task.Slot)
	default:
		f.Close()
		return "", pools.ErrNotOffered
	}
	s, err := d.snapshot(f, "", info, func(path string) string { return path })
	if err != nil {
		f.Close()
		return "", err
	}
	for _, r := range s.Recoveries {
		if r.State == recovery.Running {
			f.Close()
			return "", fmt.Errorf("a %s is running", r.Kind)
		}
	}
	var used uint64
	var ids []uint64
	s.Pool.Everyone(func(_ string, m *pool.Member) {
		used += uint64(m.Used)
		n, _ := strconv.ParseUint(m.Slot, 10, 64)
		ids = append(ids, n)
	})
	if kind == recovery.Scrub {
		// A scrub reads every copy of what is kept, not all that was set aside for it.
		if spaces, err := readSpace(f); err == nil {
			used = kept(spaces)
		}
	}
	r := &run{mine: true, done: make(chan struct{}), report: d.report(id, kind, used)}
	d.mu.Lock()
	d.runs[id] = r
	d.mu.Unlock()
	go func() {
		defer f.Close()
		defer close(r.done)
		if kind == recovery.Scrub {
			d.scrubAll(f, r, ids)
		} else {
			_, err := balance(f, task.Below)
			d.end(r, err)
		}
	}()
	if await(ctx, r.done, func() bool { return d.shows(f, kind, ids) }) {
		return fmt.Sprintf("the kernel shows that the %s has begun", kind), nil
	}
	select {
	case <-r.done:
		if r.err != nil {
			return "", fmt.Errorf("the kernel refused: %w", r.err)
		}
		return fmt.Sprintf("the %s has ended already", kind), nil
	default:
		return "", fmt.Errorf("the kernel does not show that the %s has begun", kind)
	}
}

func (d *Driver) shows(f *os.File, kind recovery.Kind, ids []uint64) bool {
	if kind == recovery.Rebalance {
		_, err := readBalance(f)
		return err == nil
	}
	for _, id := range ids {
		if _, err := readScrub(f, id); err == nil {
			return true
		}
	}
	return false
}

// scrubAll reads the devices through one after the other, so that what was found on one is known when the next begins.
func (d *Driver) scrubAll(f *os.File, r *run, ids []uint64) {
	var sum scrubProgress
	var failed error
	for _, id := range ids {
		p, err := scrub(f, id)
		if err != nil && !errors.Is(err, unix.ENODEV) {
			failed = errors.Join(failed, fmt.Errorf("device %d: %w", id, err))
		}
		sum.add(p)
		d.mu.Lock()
		r.ended = sum
		r.take(sum)
		d.mu.Unlock()
		if errors.Is(err, unix.ECANCELED) {
			break
		}
	}
	d.end(r, failed)
}

// end writes down how a run ended.
func (d *Driver) end(r *run, err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	r.err = err
	r.report.EndedAt = d.clock.Now()
	r.report.State = recovery.Finished
	switch {
	case errors.Is(err, unix.ECANCELED):
		r.report.State = recovery.Stopped
	case err != nil:
		r.report.State = recovery.Failed
	default:
		r.report.Done = r.report.Todo
	}
}

// drain lets the kernel remove a device: it moves all chunks away first (BTRFS_IOC_RM_DEV_V2).
func (d *Driver) drain(ctx context.Context, id, slot string) (string, error) {
	f, info, err := open(id)
	if err != nil {
		return "", err
	}
	devid, err := strconv.ParseUint(slot, 10, 64)
	if err != nil || devid == 0 {
		f.Close()
		return "", fmt.Errorf("btrfs devices have numbers, %q is none", slot)
	}
	dev, err := readDevice(f, devid)
	if err != nil {
		f.Close()
		return "", fmt.Errorf("btrfs has no device %d: %w", devid, err)
	}
	r := &run{mine: true, done: make(chan struct{}), report: d.report(info.id, recovery.Drain, max(dev.used, 1))}
	r.report.Slot = slot
	d.mu.Lock()
	d.runs[id] = r
	d.mu.Unlock()
	go func() {
		defer f.Close()
		defer close(r.done)
		d.end(r, removeDevice(f, devid))
	}()
	begun := await(ctx, r.done, func() bool {
		now, err := readDevice(f, devid)
		return err != nil || now.used < dev.used || exclusive(info.id) == "device remove"
	})
	select {
	case <-r.done:
		if r.err != nil {
			return "", fmt.Errorf("the kernel refused: %w", r.err)
		}
		return fmt.Sprintf("device %d is empty, and no member any more", devid), nil
	default:
	}
	if !begun {
		return "", errors.New("the kernel does not show that the drain has begun")
	}
	return fmt.Sprintf("the kernel shows that device %d is being emptied", devid), nil
}

// Release is not something btrfs needs: a device that was drained is no member any more.
func (d *Driver) Release(_ context.Context, id, _ string) (string, error) {
	f, _, err := open(id)
	if err != nil {
		return "", err
	}
	f.Close()
	return "", pools.ErrNotOffered
}

// Nudge lets a balance go on that was paused, as the kernel does after a mount (BTRFS_IOC_BALANCE_V2 with
// BTRFS_BALANCE_RESUME).
func (d *Driver) Nudge(ctx context.Context, id string) (string, error) {
	f, info, err := open(id)
	if err != nil {
		return "", err
	}
	if exclusive(info.id) != "balance paused" {
		f.Close()
		return "", errors.New("nothing waits that a word would begin: a replacement is begun by the kernel at once")
	}
	r := &run{mine: true, done: make(chan struct{}), report: d.report(info.id, recovery.Rebalance, 1)}
	d.mu.Lock()
	d.runs[id] = r
	d.mu.Unlock()
	go func() {
		defer f.Close()
		defer close(r.done)
		d.end(r, resumeBalance(f))
	}()
	if !await(ctx, r.done, func() bool { return exclusive(info.id) != "balance paused" }) {
		return "", errors.New("the kernel does not show that it goes on")
	}
	return "the kernel shows that the rebalance goes on", nil
}

// exclusive is the operation of which the kernel allows one at a time (/sys/fs/btrfs/<id>/exclusive_operation).
func exclusive(id string) string {
	b, _ := os.ReadFile("/sys/fs/btrfs/" + id + "/exclusive_operation")
	return strings.TrimSpace(string(b))
}

// speeds is what each priority lets a scrub read of one device, in bytes a second; 0 is without a limit. Of other
// recoveries the kernel lets nobody set the pace.
var speeds = map[recovery.Priority]uint64{recovery.Low: 40 << 20, recovery.Normal: 0, recovery.High: 0}

// Prioritise limits the pace of scrubs (/sys/fs/btrfs/<id>/devinfo/<device>/scrub_speed_max), now and later.
func (d *Driver) Prioritise(_ context.Context, id string, p recovery.Priority) (string, error) {
	f, _, err := open(id)
	if err != nil {
		return "", err
	}
	f.Close()
	limit, ok := speeds[p]
	if !ok {
		return "", fmt.Errorf("priority is low, normal or high, not %q", p)
	}
	files, _ := filepath.Glob("/sys/fs/btrfs/" + id + "/devinfo/*/scrub_speed_max")
	if len(files) == 0 {
		return "", pools.ErrNotOffered
	}
	for _, file := range files {
		if err := os.WriteFile(file, []byte(strconv.FormatUint(limit, 10)), 0o644); err != nil {
			return "", err
		}
	}
	if limit == 0 {
		return "scrubs read as fast as they can; of other recoveries the kernel sets the pace", nil
	}
	return fmt.Sprintf(
		"scrubs read up to %d MiB/s of each device; of other recoveries the kernel sets the pace",
		limit>>20,
	), nil
}

// priority is what was set.
func priority(id string) recovery.Priority {
	files, _ := filepath.Glob("/sys/fs/btrfs/" + id + "/devinfo/*/scrub_speed_max")
	for _, file := range files {
		if b, err := os.ReadFile(file); err == nil && strings.TrimSpace(string(b)) != "0" {
			return recovery.Low
		}
	}
	if len(files) == 0 {
		return ""
	}
	return recovery.Normal
}

// Stop cancels what runs.
func (d *Driver) Stop(_ context.Context, id string) (string, error) {
	f, info, err := open(id)
	if err != nil {
		return "", err
	}
	defer f.Close()
	if control(f, iocScrubCancel, nil) == nil {
		return "the scrub has stopped", nil
	}
	if cancelBalance(f) == nil {
		return "the rebalance has stopped", nil
	}
	if r, err := readReplacement(f); err == nil && r.state == replaceStarted {
		if err := cancelReplacement(f); err != nil {
			return "", err
		}
		return "the replacement has stopped; the old device is still the member", nil
	}
	return "", fmt.Errorf("nothing runs in %s that could be stopped", info.id)
}
