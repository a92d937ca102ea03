package linux

import (
	"fmt"
	"lantern/internal/core/stack"
	"os"
	"slices"
	"strings"
)

// leafs are the kernel's own uses of devices: mounted file systems, swap.
func (m *Machine) leafs(byNumbers map[string]string) (map[string][]stack.Leaf, error) {
	text, err := os.ReadFile(m.Root + "/proc/1/mountinfo")
	if err != nil {
		text, err = os.ReadFile(m.Root + "/proc/self/mountinfo")
	}
	if err != nil && m.Root == "" {
		return nil, fmt.Errorf("what is mounted cannot be read: %w", err)
	}
	mounts, err := stack.ParseMounts(string(text))
	if err != nil {
		return nil, err
	}
	found := leaves{}
	systems := m.btrfsDevices(found)
	for _, mount := range mounts {
		m.mounted(found, mount, systems, byNumbers)
	}
	swaps, _ := os.ReadFile(m.Root + "/proc/swaps")
	for _, path := range stack.Swaps(string(swaps)) {
		if name := m.nameOf(path, byNumbers); name != "" {
			found.add(name, "swap", "", "")
		}
	}
	return found, nil
}

// leaves are the uses of each device.
type leaves map[string][]stack.Leaf

func (f leaves) add(device, kind, name, at string) {
	for i, l := range f[device] {
		if l.Kind == kind && l.Name == name {
			if at != "" && !slices.Contains(l.Mounted, at) {
				f[device][i].Mounted = append(l.Mounted, at)
			}
			return
		}
	}
	l := stack.Leaf{Kind: kind, Name: name}
	if at != "" {
		l.Mounted = []string{at}
	}
	f[device] = append(f[device], l)
}

// fileSystem is a file system on several devices.
type fileSystem struct {
	label   string
	devices []string
}

// btrfsDevices are the devices of each btrfs that the kernel has opened.
func (m *Machine) btrfsDevices(found leaves) (out []fileSystem) {
	systems, _ := os.ReadDir(m.Root + "/sys/fs/btrfs")
	for _, fs := range systems {
		devices, err := os.ReadDir(m.Root + "/sys/fs/btrfs/" + fs.Name() + "/devices")
		if err != nil {
			continue // "features" and the like
		}
		one := fileSystem{label: read(m.Root + "/sys/fs/btrfs/" + fs.Name() + "/label")}
		for _, d := range devices {
			one.devices = append(one.devices, d.Name())
			found.add(d.Name(), "btrfs", one.label, "")
		}
		out = append(out, one)
	}
	return out
}

// devicesOf are the devices that a mount names.
func (m *Machine) devicesOf(mount stack.Mount, byNumbers map[string]string) (devices []string) {
	if name := byNumbers[mount.Device]; name != "" {
		return []string{name}
	}
	if !strings.HasPrefix(mount.Source, "/") {
		return nil
	}
	for _, part := range strings.Split(mount.Source, ":") {
		if name := m.nameOf(part, byNumbers); name != "" {
			devices = append(devices, name)
		}
	}
	return devices
}

// mounted adds the uses of a mount.
func (m *Machine) mounted(found leaves, mount stack.Mount, systems []fileSystem, byNumbers map[string]string) {
	devices := m.devicesOf(mount, byNumbers)
	if mount.Type == "btrfs" && len(systems) > 0 {
		for _, fs := range systems {
			if len(devices) > 0 && slices.Contains(fs.devices, devices[0]) {
				for _, d := range fs.devices {
					found.add(d, "btrfs", fs.label, mount.At)
				}
			}
		}
		return
	}
	for _, beside := range mount.Besides() {
		if name := m.nameOf(beside, byNumbers); name != "" {
			found.add(name, "log of the "+mount.Type+" file system", "", mount.At)
		}
	}
	for _, d := range devices {
		found.add(d, mount.Type+" file system", "", mount.At)
	}
}
