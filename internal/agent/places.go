package agent

import (
	"path/filepath"
	"slices"

	"lantern/internal/agent/pools"
	"lantern/internal/api"
	"lantern/internal/core/partition"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/core/stack"
	"lantern/internal/wire"
)

// places is the graph of block devices of this host during one look: it finds the drives behind the devices of pool
// systems, and what depends on each drive.
type places struct {
	graph   stack.Graph
	keys    map[string]string // drive key by the kernel's name of a disk
	pools   map[string]string // pool id by the kernel's name of the device that the pool is
	members map[string]string // pool id by the kernel's name of the device that is a member of it
}

// placesOf reads the host's devices. A machine without a graph of devices has only drives.
func (a *Agent) placesOf(found []Found) (*places, error) {
	p := &places{
		graph:   stack.Graph{},
		keys:    map[string]string{},
		pools:   map[string]string{},
		members: map[string]string{},
	}
	for _, f := range found {
		name := filepath.Base(f.Path)
		p.keys[name] = f.Known.Key()
		p.graph[name] = stack.Device{
			Name:     name,
			Kind:     stack.Disk,
			Bytes:    f.Known.Capacity,
			Contents: f.Holds,
			Read:     f.Looked,
		}
	}
	if m, ok := a.Machine.(Stacked); ok {
		g, err := m.Stack()
		if err != nil {
			return nil, err
		}
		p.graph = g
	}
	return p, nil
}

func (p *places) base(name string) (stack.Base, error) {
	set := make(map[string]bool, len(p.pools))
	for device := range p.pools {
		set[device] = true
	}
	return p.graph.Base(name, set, func(disk string) string { return p.keys[disk] })
}

// key gives the one drive behind a device path; empty when there is none, or more than one.
func (p *places) key(path string) string {
	if path == "" {
		return ""
	}
	b, err := p.base(filepath.Base(path))
	if err != nil || len(b.Disks) != 1 || len(b.Under)+len(b.Gone) > 0 {
		return ""
	}
	return p.keys[b.Disks[0]]
}

// take finds what the members of a pool are on: a drive, several, or a pool. A member whose device leads to none of
// them is unknown, whatever its pool system reports (R7).
func (p *places) take(s *pools.Snapshot) {
	if s.Pool.Device != "" {
		p.pools[s.Pool.Device] = s.Pool.ID
	}
	for _, d := range s.Devices {
		p.members[d] = s.Pool.ID
	}
	s.Pool.Everyone(func(_ string, m *pool.Member) {
		if m.Device == "" {
			return
		}
		b, err := p.base(m.Device)
		switch {
		case err != nil:
			return // it does not exist; the pool system reports its state
		case len(b.Gone) > 0 && len(b.Disks)+len(b.Under) == 0: // pulled; the layers above have not noticed
			if p.filled(s, m) || m.Lost() {
				break
			}
			m.State = pool.Missing
		case len(b.Gone) > 0 && !m.Lost():
			m.State = pool.StateUnkn
		case len(b.Under) == 1 && len(b.Disks) == 0:
			m.Under, m.Drive = p.pools[b.Under[0]], ""
		case len(b.Disks) > 0 && len(b.Under) == 0 && p.keys[b.Disks[0]] != "":
			p.onDisks(m, b.Disks)
		case !m.Lost():
			m.State = pool.StateUnkn
		}
		m.Partition, m.Layers = b.Number, layersOf(b)
		p.members[m.Device] = s.Pool.ID
	})
}

// onDisks adds the drives of a member; the member is unknown if one of them is.
func (p *places) onDisks(m *pool.Member, disks []string) {
	m.Drive = p.keys[disks[0]]
	for _, d := range disks[1:] {
		m.Drives = append(m.Drives, p.keys[d])
	}
	if slices.Contains(m.Drives, "") {
		m.Drives, m.State = slices.DeleteFunc(m.Drives, func(k string) bool { return k == "" }), pool.StateUnkn
	}
}

// layersOf names the layers between a member and its drives. The paths of a drive count as the drive.
func layersOf(b stack.Base) (out []string) {
	for _, l := range b.Layers {
		if l != stack.Multipath {
			out = append(out, string(l))
		}
	}
	return out
}

// filled reports whether another drive is being filled in the place of a member that is gone, and makes that drive the
// member.
func (p *places) filled(s *pools.Snapshot, m *pool.Member) bool {
	for _, r := range s.Recoveries {
		if r.Slot == m.Slot && r.Drive != "" && (r.State == recovery.Running || r.State == recovery.Paused) {
			m.State, m.Drive, m.Errors = pool.Recovering, r.Drive, pool.Errors{}
			return true
		}
	}
	return false
}

// signatures are the second source for a pool of a pool program: the content of each member's device. Members on other
// hosts cannot be read here.
func (p *places) signatures(host string, of *pool.Pool) *pools.Witness {
	var by []pool.Testimony
	of.Everyone(func(_ string, m *pool.Member) {
		d, there := p.graph[m.Device]
		t := pool.Testimony{Slot: m.Slot, Says: "nothing is on its device"}
		switch {
		case m.Domain != "" && m.Domain != host:
			t.Agrees = true
		case m.Device == "" || !there || !d.Read && len(p.graph.Above(m.Device)) == 0 && len(d.Uses) == 0:
			t.Says = "what is on its device could not be read"
		default:
			t.Agrees = len(d.Contents) > 0 || d.Busy || len(d.Uses) > 0 || len(p.graph.Above(m.Device)) > 0
		}
		by = append(by, t)
	})
	return &pools.Witness{Source: "signatures on the members", Differs: of.Disagreements(by)}
}

// uses are the uses of a drive, through any of its paths.
func (p *places) uses(disks []string) (out []api.Use) {
	seen := map[string]bool{}
	for _, disk := range disks {
		for _, u := range p.graph.Uses(disk, p.members) {
			if says := u.String(); !seen[says] {
				seen[says] = true
				out = append(
					out,
					api.Use{
						Kind:      u.Kind,
						Name:      u.Name,
						Chain:     u.Chain,
						Bytes:     int64(u.Bytes),
						Mounted:   u.Mounted,
						Active:    u.Active,
						Pool:      u.Pool,
						Table:     u.Table,
						Partition: u.Number,
						Says:      says,
					},
				)
			}
		}
	}
	return out
}

// onePerDrive merges the paths of one drive: the first usable one represents it, the others are reported with it.
func onePerDrive(found []Found, failed map[string]bool) (out []Found, paths map[string][]api.DrivePath) {
	paths = map[string][]api.DrivePath{}
	at := map[string]int{}
	for _, f := range found {
		key := f.Known.Key()
		way := api.DrivePath{Path: f.Path, Port: f.Port, State: api.DrivePathStateWorking}
		if failed[filepath.Base(f.Path)] {
			way.State = api.DrivePathStateFailed
		}
		if n, ok := f.failures(); ok {
			way.Errors = n
		}
		paths[key] = append(paths[key], way)
		i, known := at[key]
		switch {
		case !known:
			at[key] = len(out)
			out = append(out, f)
		case failed[filepath.Base(out[i].Path)] && way.State == api.DrivePathStateWorking:
			out[i] = f
		}
	}
	for key, ways := range paths {
		if len(ways) < 2 {
			delete(paths, key)
		}
	}
	return out, paths
}

// disksOf are the kernel's names of all paths of one drive.
func (p *places) disksOf(key string) (names []string) {
	for name, k := range p.keys {
		if k == key {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// layerOn finds the device on a drive that is to become a member: the partition, and above it the given kinds of
// devices. It must be the only one, and nothing may be on it.
func (p *places) layerOn(key string, part int, layers []string) (stack.Device, error) {
	var fits []stack.Device
	for _, d := range p.graph {
		if d.Kind == stack.Disk && part == 0 && len(layers) == 0 && p.keys[d.Name] == key {
			fits = append(fits, d)
			continue
		}
		b, err := p.base(d.Name)
		if err != nil || len(b.Disks) != 1 || len(b.Under)+len(b.Gone) > 0 || p.keys[b.Disks[0]] != key ||
			b.Number != part {
			continue
		}
		kinds := []string{}
		for _, l := range b.Layers {
			if l != stack.Multipath {
				kinds = append(kinds, string(l))
			}
		}
		if slices.Equal(kinds, layers) {
			fits = append(fits, d)
		}
	}
	switch {
	case len(fits) == 0:
		return stack.Device{}, refuse("the drive does not have this yet: %s", wire.LayerWords(part, layers))
	case len(fits) > 1:
		return stack.Device{}, refuse(
			"the drive has %d devices of this kind, so the target is ambiguous: %s",
			len(fits),
			wire.LayerWords(part, layers),
		)
	}
	d := fits[0]
	if above := p.graph.Above(d.Name); len(above) > 0 || len(d.Uses) > 0 || d.Busy {
		return d, refuse("%s is in use already", d.Name)
	}
	return d, nil
}

// table converts a partition table from the API.
func table(t *partition.Table) api.PartitionTable {
	if t == nil {
		return api.PartitionTable{}
	}
	return wire.PartitionTable(*t)
}
