//go:build linux

// Command init is the first process of the small virtual machine in which the agent meets real kernel drivers: it
// mounts what the agent looks at, loads the modules that lie beside it, brings the network up, runs the agent, and does
// to the drives what it is told over the second serial line: one command a line, one answer a line.
package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"lantern/internal/agent/linux"
	"lantern/internal/agent/pools"
	"lantern/internal/agent/pools/conform"
	"lantern/internal/agent/pools/md"
	"lantern/internal/clock"
	"lantern/internal/core/drive"
	"lantern/internal/rig/pace"
)

func main() {
	defer func() {
		unix.Sync()
		_ = unix.Reboot(unix.LINUX_REBOOT_CMD_POWER_OFF)
	}()
	for _, m := range [][3]string{{"devtmpfs", "/dev", "devtmpfs"}, {"proc", "/proc", "proc"},
		{"sysfs", "/sys", "sysfs"}, {"tmpfs", "/tmp", "tmpfs"}} {
		_ = os.MkdirAll(m[1], 0o755)
		if err := unix.Mount(m[0], m[1], m[2], 0, ""); err != nil {
			fmt.Println("mount", m[1], err)
		}
	}
	list, err := os.ReadFile("/modules/order")
	if err != nil {
		fmt.Println("modules:", err)
		return
	}
	for _, line := range strings.Split(strings.TrimSpace(string(list)), "\n") {
		name, options, _ := strings.Cut(line, " ")
		f, err := os.Open("/modules/" + name)
		if err == nil {
			err = unix.FinitModule(int(f.Fd()), options, 0)
			f.Close()
		}
		if err != nil && err != unix.EEXIST {
			fmt.Println("module", name, err)
		}
	}
	if err := network(); err != nil {
		fmt.Println("network:", err)
		return
	}
	words := map[string]string{}
	line, _ := os.ReadFile("/proc/cmdline")
	for _, w := range strings.Fields(string(line)) {
		k, v, _ := strings.Cut(w, "=")
		words[k] = v
	}
	agent := exec.Command(
		"/lantern",
		"agent",
		"--host",
		"rig",
		"--server",
		words["rig.server"],
		"--data",
		"/tmp/agent",
		"--every",
		words["rig.every"],
		"--read-every",
		words["rig.read"],
		"--cleartext", // the host around the machine answers at another address
	)
	agent.Env = []string{
		"LANTERN_HOST_TOKEN=" + words["rig.token"],
		"PATH=/nowhere",
	} // it runs no program of anybody's
	agent.Stdout, agent.Stderr = os.Stdout, os.Stderr
	if err := withLess(agent.Start); err != nil {
		fmt.Println("agent:", err)
		return
	}
	agentPID = agent.Process.Pid
	if err := obey("/dev/ttyS1"); err != nil {
		fmt.Println("control:", err)
	}
	_ = agent.Process.Kill()
	_ = agent.Wait()
}

// withLess starts a process that may do no more than an agent needs: of all capabilities it has CAP_SYS_RAWIO, for
// commands to drives, and CAP_SYS_ADMIN, for what it asks of pools (capabilities(7)).
func withLess(start func() error) error {
	done := make(chan error)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread ends with this
		for c := uintptr(0); c <= unix.CAP_LAST_CAP; c++ {
			if c != unix.CAP_SYS_RAWIO && c != unix.CAP_SYS_ADMIN {
				if err := unix.Prctl(unix.PR_CAPBSET_DROP, c, 0, 0, 0); err != nil {
					done <- fmt.Errorf("drop capability %d: %w", c, err)
					return
				}
			}
		}
		done <- start()
	}()
	return <-done
}

// agentPID is the agent's process; stdin what the next program that is run reads.
var (
	agentPID int
	stdin    string
)

// network gives the first card the address that QEMU's user-mode network expects; its host answers at 10.0.2.2.
func network() error {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	for _, card := range []string{"lo", "eth0"} {
		for range 100 { // a card takes a moment to come
			if _, err = os.Stat("/sys/class/net/" + card); err == nil {
				break
			}
			time.Sleep(50 * time.Millisecond)
		}
		r, err := unix.NewIfreq(card)
		if err != nil {
			return err
		}
		if card == "eth0" {
			if err := errors.Join(
				r.SetInet4Addr([]byte{10, 0, 2, 15}),
				unix.IoctlIfreq(fd, unix.SIOCSIFADDR, r),
			); err != nil {
				return err
			}
			if err := errors.Join(
				r.SetInet4Addr([]byte{255, 255, 255, 0}),
				unix.IoctlIfreq(fd, unix.SIOCSIFNETMASK, r),
			); err != nil {
				return err
			}
		}
		r.SetUint16(unix.IFF_UP | unix.IFF_RUNNING)
		if err := unix.IoctlIfreq(fd, unix.SIOCSIFFLAGS, r); err != nil {
			return fmt.Errorf("%s: %w", card, err)
		}
	}
	return nil
}

// obey reads commands from a serial line until it is told to end.
func obey(path string) error {
	f, err := os.OpenFile(path, os.O_RDWR|unix.O_NOCTTY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	t, err := unix.IoctlGetTermios(int(f.Fd()), unix.TCGETS)
	if err != nil {
		return err
	}
	t.Lflag &^= unix.ECHO | unix.ICANON | unix.ISIG
	t.Oflag &^= unix.OPOST
	if err := unix.IoctlSetTermios(int(f.Fd()), unix.TCSETS, t); err != nil {
		return err
	}
	fmt.Fprintln(f, "ready")
	for s := bufio.NewScanner(f); s.Scan(); {
		words := strings.Fields(s.Text())
		if len(words) == 0 {
			continue
		}
		if words[0] == "end" {
			fmt.Fprintln(f, "ending")
			return nil
		}
		says, err := do(words)
		if err != nil {
			says = "failed: " + strings.ReplaceAll(err.Error(), "\n", " ")
		}
		fmt.Fprintln(f, says)
	}
	return nil
}

// contents writes what a seed gives to a device, or reads it back and compares, past all caches.
func contents(write bool, path string, first, n int64, seed uint64) (string, error) {
	f, err := os.OpenFile(path, os.O_RDWR|unix.O_SYNC, 0)
	if err != nil {
		return "", err
	}
	defer f.Close()
	r := rand.New(rand.NewPCG(seed, 1))
	b, got := make([]byte, 1<<20), make([]byte, 1<<20)
	_ = unix.IoctlSetInt(int(f.Fd()), 0x1261, 0) // BLKFLSBUF
	for i := range n {
		for j := 0; j < len(b); j += 8 {
			binary.LittleEndian.PutUint64(b[j:], r.Uint64())
		}
		at := (first + i) << 20
		if write {
			if _, err := f.WriteAt(b, at); err != nil {
				return "", err
			}
			continue
		}
		if _, err := f.ReadAt(got, at); err != nil {
			return "", err
		}
		if !bytes.Equal(b, got) {
			return fmt.Sprintf("differs at MiB %d", first+i), nil
		}
	}
	return map[bool]string{true: "filled", false: "same"}[write], f.Sync()
}

// conformance tries the driver of md on one array: a member fails, and another takes its place.
func conformance(ctx context.Context, id, slot, with string) string {
	d := md.New("rig", clock.Real{})
	size := drive.Bytes(0)
	if f, err := os.Open(with); err == nil {
		n, _ := f.Seek(0, io.SeekEnd)
		size = drive.Bytes(n)
		f.Close()
	}
	var lines []string
	conform.Kit{
		Driver:   d,
		Fresh:    func() pools.Driver { return md.New("rig", clock.Real{}) },
		Keys:     func(path string) string { return path },
		Pool:     id,
		Slot:     slot,
		With:     pools.Target{Path: with, Size: size},
		Break:    func(context.Context) (string, error) { return "it is faulty", d.Fail(id, slot) },
		Patience: 30 * time.Second,
		Tell: func(r conform.Result) {
			word := map[bool]string{true: "passes", false: "FAILS"}[r.OK]
			if r.Left {
				word = "left out"
			}
			lines = append(lines, word+": "+r.Title+": "+strings.ReplaceAll(r.Says, "\n", ", "))
		},
	}.Run(ctx)
	return strings.Join(lines, " | ")
}

func do(words []string) (string, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	switch {
	case words[0] == "command" && len(words) == 3: // command <path> <SCSI command block in hexadecimal>
		cmd, err := hex.DecodeString(words[2])
		if err != nil {
			return "", err
		}
		sense, err := linux.Transport{Path: words[1]}.Execute(ctx, cmd, nil)
		return fmt.Sprintf("done %x", sense), err
	case words[0] == "array" && len(words) >= 5: // array <number> <name> <level> <path>...
		number, err := strconv.Atoi(words[1])
		level, err2 := strconv.Atoi(words[3])
		if err := errors.Join(err, err2); err != nil {
			return "", err
		}
		layout := uint32(0)
		switch level {
		case 5, 6:
			layout = 2 // left-symmetric
		case 10:
			layout = 1<<8 | 2 // two near copies
		}
		return "made", md.Make(number, words[2], int32(level), layout, 128, words[4:])
	case words[0] == "run" && len(words) >= 2: // run <program> <arguments>
		for i := range words { // a space within a word comes as an open box
			words[i] = strings.ReplaceAll(words[i], "\u2423", " ")
		}
		cmd := exec.CommandContext(ctx, "/sbin/"+words[1], words[2:]...)
		cmd.Env = []string{
			"PATH=/sbin",
			"LD_LIBRARY_PATH=/lib",
			"HOME=/tmp",
			"LVM_SUPPRESS_FD_WARNINGS=1",
			"DM_DISABLE_UDEV=1",
		}
		if cmd.Stdin = os.Stdin; stdin != "" {
			cmd.Stdin = strings.NewReader(stdin)
			stdin = ""
		}
		out, err := cmd.CombinedOutput()
		said := strings.ReplaceAll(strings.TrimSpace(string(out)), "\n", " | ")
		if err != nil {
			return "", fmt.Errorf("%w: %s", err, said)
		}
		return "ran " + said, nil
	case words[0] == "input" && len(words) >= 2: // input <text>: what the next program reads
		stdin = strings.ReplaceAll(strings.Join(words[1:], " "), "\\n", "\n")
		return "noted", nil
	case words[0] == "put" && len(words) >= 3: // put <file> <text>
		_ = os.MkdirAll(filepath.Dir(words[1]), 0o755)
		return "put", os.WriteFile(words[1], []byte(strings.Join(words[2:], " ")), 0o644)
	case words[0] == "get" && len(words) == 2: // get <file>
		b, err := os.ReadFile(words[1])
		return "is " + strings.ReplaceAll(strings.TrimSpace(string(b)), "\n", " | "), err
	case words[0] == "mount" && len(words) == 4: // mount <type> <device> <folder>
		if err := os.MkdirAll(words[3], 0o755); err != nil {
			return "", err
		}
		return "mounted", unix.Mount(words[2], words[3], words[1], 0, "")
	case words[0] == "unmount" && len(words) == 2:
		return "unmounted", unix.Unmount(words[1], 0)
	case words[0] == "swap" && len(words) == 3: // swap on|off <device>
		call := uintptr(unix.SYS_SWAPON)
		if words[1] == "off" {
			call = unix.SYS_SWAPOFF
		}
		path, err := unix.BytePtrFromString(words[2])
		if err != nil {
			return "", err
		}
		if _, _, errno := unix.Syscall(call, uintptr(unsafe.Pointer(path)), 0, 0); errno != 0 {
			return "", errno
		}
		return "swap " + words[1], nil
	case words[0] == "pace" && len(words) == 1:
		return fmt.Sprintf("pace %d", pace.Work()), nil
	case words[0] == "usage" && len(words) == 1: // the agent's processor time, the reads of all disks, its memory in KiB
		b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", agentPID))
		if err != nil {
			return "", err
		}
		f := strings.Fields(string(b[bytes.LastIndexByte(b, ')')+2:]))
		stats, _ := filepath.Glob("/sys/block/sd*/stat")
		reads := uint64(0)
		for _, s := range stats {
			b, _ := os.ReadFile(s)
			if x := strings.Fields(string(b)); len(x) > 0 {
				n, _ := strconv.ParseUint(x[0], 10, 64)
				reads += n
			}
		}
		held := uint64(0)
		if b, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", agentPID)); err == nil {
			if x := strings.Fields(string(b)); len(x) > 1 {
				n, _ := strconv.ParseUint(x[1], 10, 64)
				held = n * uint64(os.Getpagesize()) / 1024
			}
		}
		return fmt.Sprintf("usage %s %s %d %d %d", f[11], f[12], reads, len(stats), held), nil
	case words[0] == "fail" && len(words) == 3: // fail <array's id> <place>
		return "faulty", md.New("rig", clock.Real{}).Fail(words[1], words[2])
	case words[0] == "conform" && len(words) == 4: // conform <array's id> <place> <path of what takes it>
		return conformance(ctx, words[1], words[2], words[3]), nil
	case words[0] == "join" && len(words) == 4: // join <array's id> <place> <path>
		f, err := os.Open(words[3])
		if err != nil {
			return "", err
		}
		n, err := f.Seek(0, 2)
		f.Close()
		if err != nil {
			return "", err
		}
		return md.New(
			"rig",
			clock.Real{},
		).Join(
			ctx,
			words[1],
			words[2],
			pools.Target{Path: words[3], Size: drive.Bytes(n)},
		)
	case (words[0] == "fill" || words[0] == "compare") && len(words) == 5: // fill <path> <first MiB> <MiB> <seed>
		first, err := strconv.ParseInt(words[2], 10, 64)
		n, err2 := strconv.ParseInt(words[3], 10, 64)
		seed, err3 := strconv.ParseUint(words[4], 10, 64)
		if err := errors.Join(err, err2, err3); err != nil {
			return "", err
		}
		return contents(words[0] == "fill", words[1], first, n, seed)
	case words[0] == "read" && len(words) == 3: // read <path> <sector>
		n, err := strconv.ParseInt(words[2], 10, 64)
		if err != nil {
			return "", err
		}
		f, err := os.Open(words[1])
		if err != nil {
			return "", err
		}
		defer f.Close()
		if _, err := f.ReadAt(make([]byte, 512), 512*n); err != nil {
			return "error " + err.Error(), nil
		}
		return "read", nil
	}
	return "", fmt.Errorf("not understood: %v", words)
}
