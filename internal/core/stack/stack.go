// Package stack is the graph of block devices on one host: from a drive up to everything that depends on it. It answers
// what uses a drive, and which drives a device needs.
package stack

import (
	"fmt"
	"slices"
	"strings"

	"lantern/internal/core/drive"
)

// Kind is the kind of a block device.
type Kind string

// The kinds of block devices. Every kind but Disk is on other devices.
const (
	Disk      Kind = "disk"
	Partition Kind = "partition"
	Array     Kind = "array"     // md, native or external metadata
	Crypt     Kind = "encrypted" // dm-crypt
	Volume    Kind = "logical volume"
	Raid      Kind = "raid"      // dm-raid and dm-mirror
	Multipath Kind = "multipath" // one drive over several paths
	Cache     Kind = "cache"     // bcache, dm-cache, dm-writecache
	Mapped    Kind = "mapped device"
	Other     Kind = "device"
)

// Device is one block device as the kernel shows it.
type Device struct {
	Name  string // the kernel's: sda1, dm-0, md127
	Kind  Kind
	Label string   // another name: vg0/home, cryptdata; empty if it has none
	On    []string // names of the devices it is on; empty for a disk
	Bytes drive.Bytes
	// Contents are the signatures found on the device itself; Read is true when it was read. A device that was not read
	// is not empty (R7).
	Contents []string
	Read     bool
	// Uses are the kernel's own uses of the device: a mounted file system, swap, a pool.
	Uses []Leaf
	// Busy is true when the device is opened exclusively by an unknown user.
	Busy bool
	// Type is the type of a partition from its partition table; empty if unknown.
	Type string
	// Number is the number of a partition in its table; 0 for everything else.
	Number int
	// Failed are the failed paths of a multipath device, by the names of their disks.
	Failed []string
}

// Leaf is a use of a device by the kernel itself.
type Leaf struct {
	Kind    string // "ext4 file system", "swap", "btrfs", "md member"
	Name    string
	Mounted []string
	Pool    string // id of the pool that the device is a member of, from the pool's driver; empty if there is none
}

// Graph holds all block devices of a host by name.
type Graph map[string]Device

// Use is one thing that depends on a drive.
type Use struct {
	Kind string `json:"kind"`
	Name string `json:"name,omitempty"`
	// Devices from the drive up to the used one, without the drive; empty for the drive itself
	Chain   []string    `json:"chain"`
	Bytes   drive.Bytes `json:"bytes"`
	Mounted []string    `json:"mounted,omitempty"`
	// Active is true when the kernel uses it now; false for content that is not in use, such as a file system that is
	// not mounted.
	Active bool `json:"active"`
	// Pool is the id of the pool that explains this use: the lowest one in the chain that has a member there.
	Pool string `json:"pool,omitempty"`
	// Table is the type of the partition in the chain, from its partition table.
	Table string `json:"table,omitempty"`
	// Number is the partition in the chain; 0 when there is none.
	Number int `json:"number,omitempty"`
}

// Above lists the devices directly on top of one, in order of their names.
func (g Graph) Above(name string) (out []string) {
	for _, d := range g {
		if slices.Contains(d.On, name) {
			out = append(out, d.Name)
		}
	}
	slices.Sort(out)
	return out
}

// OpenCrypt is an unlocked encrypted volume without known content.
const OpenCrypt = "encrypted volume, open, nothing known in it"

// Unread is the use of a device whose content is not known.
const Unread = "unknown: not read"

// Held is a device that is opened exclusively by an unknown user.
const Held = "held by something that the kernel does not name"

// mostDeep bounds the depth of a chain: no real stack is deeper, and a cycle ends here.
const mostDeep = 16

// Uses lists everything that depends on a drive. members gives the id of the pool that a device is a member of. A drive
// that was read and is empty has no use; one that was not read has an unknown use.
func (g Graph) Uses(disk string, members map[string]string) (out []Use) {
	var walk func(name string, chain []string, pool string, table string, number int)
	walk = func(name string, chain []string, pool, table string, number int) {
		d, there := g[name]
		if !there {
			return
		}
		if len(chain) > mostDeep {
			out = append(out, Use{Kind: Unread, Chain: chain})
			return
		}
		if d.Type != "" {
			table = d.Type
		}
		if d.Number != 0 {
			number = d.Number
		}
		if pool == "" {
			pool = members[name]
		}
		use := Use{Name: d.Label, Chain: chain, Bytes: d.Bytes, Pool: pool, Table: table, Number: number}
		for _, l := range d.Uses {
			u := use
			u.Kind, u.Name, u.Mounted, u.Active = l.Kind, l.Name, l.Mounted, true
			out = append(out, u)
		}
		above := g.Above(name)
		for _, up := range above {
			walk(up, append(slices.Clip(chain), up), pool, table, number)
		}
		partitioned := slices.ContainsFunc(above, func(up string) bool { return g[up].Kind == Partition })
		if len(d.Uses) == 0 && (len(above) == 0 || partitioned) {
			out = append(out, d.itself(use, partitioned)...)
		}
	}
	walk(disk, nil, "", "", 0)
	slices.SortStableFunc(
		out,
		func(a, b Use) int { return strings.Compare(strings.Join(a.Chain, "/"), strings.Join(b.Chain, "/")) },
	)
	return out
}

// itself is the use of a device without a use in the kernel: its content, or that this is unknown. The uses of a
// partitioned device are those of its partitions.
func (d Device) itself(use Use, partitioned bool) (out []Use) {
	one := func(kind string) []Use {
		use.Kind = kind
		return []Use{use}
	}
	switch {
	case d.Busy && !partitioned:
		use.Active = true
		return one(Held)
	case !d.Read && partitioned:
		return nil
	case !d.Read && len(d.Contents) > 0:
		return one(d.Contents[0])
	case !d.Read:
		return one(Unread)
	case d.Kind == Crypt && len(d.Contents) == 1 && d.Contents[0] == drive.Something:
		return one(OpenCrypt) // the content of a new one cannot be distinguished from unknown data
	case len(d.Contents) > 0:
		for _, c := range d.Contents {
			if !partitioned || c != drive.PartitionTable {
				out = append(out, one(c)...)
			}
		}
		return out
	case d.Kind != Disk && !partitioned:
		return one("empty " + string(d.Kind))
	}
	return nil
}

// LayerWords names the layers between a drive, or a partition of it, and a member: kinds of devices from below. It is
// empty when there are none.
func LayerWords(layers []string) string {
	var out []string
	for _, l := range layers {
		switch Kind(l) {
		case Partition:
		case Crypt:
			out = append(out, "an unlocked encrypted volume")
		case Volume:
			out = append(out, "a logical volume")
		default:
			out = append(out, "a device of the kind "+l)
		}
	}
	return strings.Join(out, " and on it ")
}

// String is a use in words: "ext4 file system on sda1, mounted at /srv".
func (u Use) String() string {
	s := u.Kind
	if u.Name != "" {
		s += " " + u.Name
	}
	if len(u.Chain) > 0 {
		s += " on " + strings.Join(u.Chain, " → ")
	}
	if u.Table != "" && !u.Active {
		s += " (" + u.Table + ")"
	}
	if len(u.Mounted) > 0 {
		s += ", mounted at " + strings.Join(u.Mounted, ", ")
	}
	return s
}

// FailedPaths are all disks that are failed paths.
func (g Graph) FailedPaths() map[string]bool {
	out := map[string]bool{}
	for _, d := range g {
		for _, path := range d.Failed {
			out[path] = true
		}
	}
	return out
}

// Base is what a device depends on: the drives, each of which it needs, or the one pool that it is.
type Base struct {
	Disks []string // names of disks, in order; with several, the loss of any one loses the device
	// Under is the name of the device, itself or below it, that is a pool; Disks is empty then.
	Under []string
	// Layers are the kinds of devices between the lowest and the device, from the drive up.
	Layers []Kind
	// Number is the number of its partition; 0 when it is on none.
	Number int
	// Gone are names of devices below it that no longer exist, although the layers above have not noticed.
	Gone []string
}

// Base follows a device down; err means that it does not exist or is too deep. pools are the devices that are pools;
// they end the chain. The paths of a multipath device are one drive: same gives the key of a disk's drive; the first
// path represents all.
func (g Graph) Base(name string, pools map[string]bool, same func(disk string) string) (b Base, err error) {
	keys := map[string]bool{}
	var walk func(name string, deep int) error
	walk = func(name string, deep int) error {
		d, there := g[name]
		switch {
		case !there && deep == 0:
			return fmt.Errorf("%s is not there", name)
		case !there:
			b.Gone = append(b.Gone, name)
			return nil
		case deep > mostDeep:
			return fmt.Errorf("%s is on more than %d devices, one on the other", name, mostDeep)
		case pools[name]:
			if !slices.Contains(b.Under, name) {
				b.Under = append(b.Under, name)
			}
			return nil
		case len(d.On) == 0:
			key := same(name)
			if key == "" {
				key = name
			}
			if !keys[key] {
				keys[key] = true
				b.Disks = append(b.Disks, name)
			}
			return nil
		}
		if d.Number != 0 {
			b.Number = d.Number
		}
		below, gone := slices.Sorted(slices.Values(d.On)), len(b.Gone)
		for _, on := range below {
			if err := walk(on, deep+1); err != nil {
				return err
			}
		}
		if d.Kind == Multipath && len(b.Gone)-gone < len(below) {
			b.Gone = b.Gone[:gone] // the other paths lead to the drive
		}
		if !slices.Contains(b.Layers, d.Kind) {
			b.Layers = append(b.Layers, d.Kind)
		}
		return nil
	}
	err = walk(name, 0)
	slices.Sort(b.Disks)
	return b, err
}
