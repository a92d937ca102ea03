//go:build linux

// Command init is the first process of the small virtual machine in which the agent meets real kernel drivers: it mounts
// what the agent looks at, loads the modules that lie beside it, runs the agent once, and switches the machine off.
package main

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

func main() {
	defer func() {
		unix.Sync()
		_ = unix.Reboot(unix.LINUX_REBOOT_CMD_POWER_OFF)
	}()
	for _, m := range [][3]string{{"devtmpfs", "/dev", "devtmpfs"}, {"proc", "/proc", "proc"}, {"sysfs", "/sys", "sysfs"}, {"tmpfs", "/tmp", "tmpfs"}} {
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
	// The drives are there when as many block devices have come as the machine has.
	var want int
	for _, word := range strings.Fields(string(must(os.ReadFile("/proc/cmdline")))) {
		_, _ = fmt.Sscanf(word, "rig.drives=%d", &want)
	}
	for range 300 {
		n := 0
		entries, _ := os.ReadDir("/sys/block")
		for _, e := range entries {
			if strings.HasPrefix(e.Name(), "sd") || strings.HasPrefix(e.Name(), "nvme") {
				n++
			}
		}
		if n >= want {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	out, err := exec.Command("/lantern", "agent", "--print", "--host", "rig", "--data", "/tmp/agent").Output()
	fmt.Printf("\n=====BEGIN=====\n%s\n=====END===== %v\n", out, err)
}

func must(b []byte, _ error) []byte { return b }
