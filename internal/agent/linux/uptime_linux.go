package linux

import (
	"os"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// Uptime is the kernel's: its boot id (random(4)) and CLOCK_BOOTTIME (clock_gettime(2)), which counts sleep as well.
func (m *Machine) Uptime() (boot string, since time.Duration) {
	id, err := os.ReadFile(m.Root + "/proc/sys/kernel/random/boot_id")
	if err != nil {
		return "", 0
	}
	var at unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_BOOTTIME, &at); err != nil {
		return "", 0
	}
	return strings.TrimSpace(string(id)), time.Duration(at.Nano())
}
