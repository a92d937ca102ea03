package main

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"lantern/internal/agent/pools"
	"lantern/internal/agent/pools/btrfs"
	"lantern/internal/clock"
	"lantern/internal/core/recovery"
)

// inside says that this process is the one in a namespace of its own: whatever ends it, the kernel takes everything
// away.
const inside = "LANTERN_FINISHES_INSIDE"

// realCourses lets a real btrfs be scrubbed, at speeds that change as if users came and went, and be rebalanced.
func realCourses() (*card, string) {
	mkfs, err := exec.LookPath("mkfs.btrfs")
	switch {
	case err != nil:
		return nil, "mkfs.btrfs is missing: apt-get install btrfs-progs"
	case os.Geteuid() != 0:
		return nil, "only root may make loop devices"
	case os.Getenv(inside) == "":
		cmd := exec.Command("/proc/self/exe")
		cmd.Env = append(os.Environ(), inside+"=1")
		cmd.SysProcAttr = &unix.SysProcAttr{Cloneflags: unix.CLONE_NEWNS, Pdeathsig: unix.SIGKILL}
		cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
		if err := cmd.Run(); err != nil {
			return nil, err.Error()
		}
		os.Exit(0)
	}
	c, err := onBtrfs(mkfs)
	if err != nil {
		return nil, err.Error()
	}
	return c, ""
}

func onBtrfs(mkfs string) (c *card, err error) {
	dir, err := os.MkdirTemp("", "finishes")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	if err := errors.Join(
		unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""),
		unix.Mount("tmpfs", dir, "tmpfs", 0, ""),
	); err != nil {
		return nil, err
	}
	defer func() { _ = unix.Unmount(dir, unix.MNT_DETACH) }()
	args := []string{"-q", "-f", "-d", "raid1", "-m", "raid1"}
	var devices []string
	for i := range 3 {
		file := filepath.Join(dir, strconv.Itoa(i))
		f, err := os.Create(file)
		if err != nil {
			return nil, err
		}
		err = errors.Join(f.Truncate(1400<<20), f.Close())
		if err != nil {
			return nil, err
		}
		out, err := exec.Command("losetup", "-f", "--show", file).Output()
		if err != nil {
			return nil, fmt.Errorf("no loop device: %w", err)
		}
		devices = append(devices, strings.TrimSpace(string(out)))
	}
	defer func() {
		for _, d := range devices {
			_ = exec.Command("losetup", "-d", d).Run()
		}
	}()
	if out, err := exec.Command(mkfs, append(args, devices...)...).CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%w: %s", err, out)
	}
	at := filepath.Join(dir, "fs")
	if err := errors.Join(os.Mkdir(at, 0o755), unix.Mount(devices[0], at, "btrfs", 0, "")); err != nil {
		return nil, err
	}
	defer func() { _ = unix.Unmount(at, 0) }()
	for i := range 22 {
		f, err := os.Create(filepath.Join(at, strconv.Itoa(i)))
		if err != nil {
			return nil, err
		}
		_, err = io.CopyN(f, rand.Reader, 64<<20)
		if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
			return nil, err
		}
	}
	c = &card{note: "1.4 GiB kept twice: scrubs whose speed is changed on the way, and rebalances"}
	var past []recovery.Profile
	for i := range 6 {
		kind, speeds := recovery.Scrub, [][]int{{110, 110, 110}, {110, 70, 110}, {160, 110, 80}, {130, 130, 60}}[i%4]
		if i >= 4 {
			kind, speeds = recovery.Rebalance, nil
		}
		course, begun, err := follow(at, kind, speeds)
		if err != nil {
			return nil, err
		}
		k := recovery.Known{Reach: 0}
		if kind == recovery.Scrub {
			k.Past = past
		}
		c.take(course, begun, k)
		if p, ok := recovery.ProfileOf(course); ok && kind == recovery.Scrub {
			past = append(past, p)
		}
	}
	return c, nil
}

// follow begins a recovery and looks at it until it ends. speeds are what a member is read with in each third, in MB/s.
func follow(at string, kind recovery.Kind, speeds []int) (course []recovery.Sample, begun time.Time, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), 4*time.Minute)
	defer cancel()
	d := btrfs.New("here", clock.Real{})
	ours := func() (s pools.Snapshot, err error) {
		all, err := d.Pools(ctx, func(path string) string { return path })
		for _, s := range all {
			if s.Pool.Name == at {
				return s, nil
			}
		}
		return s, errors.Join(err, errors.New("the file system is not seen"))
	}
	s, err := ours()
	if err != nil {
		return nil, begun, err
	}
	throttle := func(mb int) {
		files, _ := filepath.Glob("/sys/fs/btrfs/" + s.Pool.ID + "/devinfo/*/scrub_speed_max")
		for _, f := range files {
			_ = os.WriteFile(f, []byte(strconv.Itoa(mb<<20)), 0o644)
		}
	}
	if len(speeds) > 0 {
		throttle(speeds[0])
	}
	begun = time.Now()
	if _, err := d.Begin(ctx, s.Pool.ID, pools.Task{Kind: kind}); err != nil {
		return nil, begun, err
	}
	for third := 0; ctx.Err() == nil; {
		s, err := ours()
		if err != nil {
			return nil, begun, err
		}
		for _, r := range s.Recoveries {
			if r.Kind != kind || r.StartedAt.Before(begun.Add(-time.Second)) {
				continue
			}
			x := r.Sample
			x.At = time.Now()
			course = append(course, x)
			if n := int(3 * float64(x.Done) / float64(max(1, x.Todo))); len(speeds) > 0 && n > third && n < 3 {
				third = n
				throttle(speeds[n])
			}
			if r.State != recovery.Running {
				return course, begun, nil
			}
		}
		if err := (clock.Real{}).Sleep(ctx, 50*time.Millisecond); err != nil {
			return nil, begun, err
		}
	}
	return nil, begun, ctx.Err()
}
