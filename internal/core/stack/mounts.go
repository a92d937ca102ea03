package stack

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Mount is one line of /proc/<pid>/mountinfo (Documentation/filesystems/proc.rst 3.5).
type Mount struct {
	Device  string // "8:1"; "0:…" for file systems that give no device of their own
	At      string
	Type    string
	Source  string
	Options []string // those of the file system itself
}

// ParseMounts reads mountinfo. A malformed line is an error: no mount may be missed.
func ParseMounts(text string) (out []Mount, err error) {
	for line := range strings.Lines(text) { // a line may be longer than the limit of a scanner
		line = strings.TrimSuffix(line, "\n")
		if line == "" {
			continue
		}
		before, after, ok := strings.Cut(line, " - ")
		f, g := strings.Fields(before), strings.Fields(after)
		if !ok || len(f) < 6 || len(g) < 2 {
			return nil, fmt.Errorf("a line of mountinfo is not of its form: %q", line)
		}
		m := Mount{Device: f[2], At: Unescape(f[4]), Type: g[0], Source: Unescape(g[1])}
		if len(g) > 2 {
			m.Options = strings.Split(g[2], ",")
		}
		out = append(out, m)
	}
	return out, nil
}

// Unescape undoes the octal escapes of mountinfo and of /proc/swaps.
func Unescape(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+3 < len(s) {
			if n, err := strconv.ParseUint(s[i+1:i+4], 8, 8); err == nil {
				b.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// Swaps reads /proc/swaps: the devices and files that the kernel swaps to.
func Swaps(text string) (paths []string) {
	for i, line := range strings.Split(text, "\n") {
		if f := strings.Fields(line); i > 0 && len(f) > 1 {
			paths = append(paths, Unescape(f[0]))
		}
	}
	return paths
}

// Besides are further devices of a file system, besides the one that it is mounted from: its log or journal, a realtime
// section.
func (m Mount) Besides() (paths []string) {
	for _, o := range m.Options {
		k, v, _ := strings.Cut(o, "=")
		switch k {
		case "logdev", "rtdev", "journal_path", "journal":
			if strings.HasPrefix(v, "/") {
				paths = append(paths, v)
			}
		}
	}
	return paths
}

// MappedKind gives the kind of a device-mapper device, from the types of its targets (dm_table_status with
// DM_STATUS_TABLE_FLAG) and the prefix of its uuid, which shows what created it.
func MappedKind(uuid string, targets []string) Kind {
	is := func(what ...string) bool {
		return slices.ContainsFunc(targets, func(t string) bool { return slices.Contains(what, t) })
	}
	switch {
	case is("raid", "mirror"):
		return Raid
	case is("multipath") || strings.HasPrefix(uuid, "mpath-"):
		return Multipath
	case is("crypt") || strings.HasPrefix(uuid, "CRYPT-"):
		return Crypt
	case is("cache", "writecache"):
		return Cache
	case strings.HasPrefix(uuid, "LVM-"):
		return Volume
	case strings.HasPrefix(uuid, "part"):
		return Partition
	}
	return Mapped
}

// VolumeLabel makes "vg0/home" from the device-mapper name of a logical volume: a single hyphen separates group and
// volume, two mean one hyphen.
func VolumeLabel(name string) string {
	marked := strings.ReplaceAll(name, "--", "\x00")
	vg, lv, ok := strings.Cut(marked, "-")
	if !ok {
		return name
	}
	return strings.ReplaceAll(vg+"/"+lv, "\x00", "-")
}
