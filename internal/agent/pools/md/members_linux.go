package md

import (
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"lantern/internal/agent/direct"
	"lantern/internal/agent/pools"
	"lantern/internal/core/pool"
)

// device is a member in sysfs.
type device struct {
	dir   string
	name  string // sda1
	slot  string // "none", "journal" or a number
	state []string
	size  uint64 // bytes that the array may use
	super *Super
	// gone is true when the device itself is not there any more, though the array has not noticed; old when its
	// superblock was not read now, since it sleeps.
	gone, old bool
}

func (m device) is(what string) bool { return slices.Contains(m.state, what) }

func (m device) attr(name string) string {
	b, _ := os.ReadFile(filepath.Join(m.dir, name))
	return strings.TrimSpace(string(b))
}

// members are an array's devices with what their superblocks say.
func (a array) members() (out []device) {
	dirs, _ := filepath.Glob(a.dir + "/dev-*")
	for _, dir := range dirs {
		m := device{dir: dir, name: strings.TrimPrefix(filepath.Base(dir), "dev-")}
		m.slot = m.attr("slot")
		for _, s := range strings.Split(m.attr("state"), ",") {
			m.state = append(m.state, strings.TrimSpace(s))
		}
		kib, _ := strconv.ParseUint(m.attr("size"), 10, 64)
		m.size = kib << 10
		if _, err := os.Stat(filepath.Join(dir, "block")); err != nil {
			m.gone = true
		}
		a.d.readSuper(&m)
		if m.slot != "" {
			out = append(out, m)
		}
	}
	slices.SortFunc(out, func(x, y device) int { return strings.Compare(x.name, y.name) })
	return out
}

// readSuper reads a member's superblock. The kernel writes superblocks past the page cache, so they are read past it.
func (d *Driver) readSuper(m *device) {
	d.superMu.Lock()
	defer d.superMu.Unlock()
	if d.Asleep != nil && d.Asleep(m.name) {
		m.super, m.old = d.supers[m.name], true
		return
	}
	delete(d.supers, m.name)
	if f, err := direct.Open(d.dev + m.name); err == nil && !m.gone {
		if f.Size > 0 {
			m.super, _ = Read(f, uint64(f.Size))
		}
		f.Close()
		d.supers[m.name] = m.super
	}
}

// super is the newest of the members' superblocks.
func newest(all []device) (s *Super) {
	for _, m := range all {
		if m.super != nil && (s == nil || m.super.Events > s.Events) {
			s = m.super
		}
	}
	return s
}

// named is what people call an array: the name in its superblock, with the host it was made on where that is not this
// one, or where the name is only a number, as installers give it.
func (d *Driver) named(a array, s *Super) string {
	host, name, ok := strings.Cut(s.Name, ":")
	switch {
	case s.Name == "":
		return d.host + ":" + a.name
	case !ok:
		host, name = d.host, s.Name
	}
	if _, err := strconv.Atoi(name); err == nil || name == "" || host != d.host {
		return host + ":" + name
	}
	return name
}

// externalID knows an array with external metadata again: by the GUID in the anchor header of a member (DDF 2.0 4.2.2)
// and its number in the container; where that cannot be read, by its name on this host.
func (d *Driver) externalID(a array, by string, all []device) string {
	_, number, _ := strings.Cut(strings.TrimLeft(by, "/-"), "/")
	for _, m := range all {
		f, err := direct.Open(d.dev + m.name)
		if err != nil {
			continue
		}
		b := make([]byte, 512)
		_, err = f.ReadAt(b, f.Size-512)
		f.Close()
		if err == nil && string(b[:4]) == "\xDE\x11\xDE\x11" {
			return "ddf-" + hex.EncodeToString(b[8:32]) + "-" + number
		}
	}
	return "md-external-" + d.host + "-" + strings.ReplaceAll(strings.Trim(by, "/-"), "/", "-")
}

// witness is what the superblocks on the members say of them. A member that carries its share has the array's id, its
// place among the roles, and an event count that is the newest, or one less where the newest is being written.
func witness(p *pool.Pool, all []device, external bool) *pools.Witness {
	if external {
		return nil // what is written there is not read here
	}
	newest := newest(all)
	if newest == nil {
		return nil
	}
	var by []pool.Testimony
	unread := false
	for _, m := range all {
		if m.old {
			unread = true
			by = append(by, pool.Testimony{Slot: m.slot, Says: "its drive is in standby, and was not woken to be read"})
			continue
		}
		if m.super == nil || m.is("replacement") || m.is("faulty") || m.is("spare") && m.slot == "none" {
			continue
		}
		role := int(m.super.Role())
		t := pool.Testimony{Slot: m.slot}
		switch {
		case m.super.ID != newest.ID:
			t.Says = "the superblock on " + m.name + " belongs to another array"
		case strconv.Itoa(role) != m.slot:
			t.Says = fmt.Sprintf("the superblock on %s gives it the place %d", m.name, role)
			if role >= RoleJournal {
				t.Says = "the superblock on " + m.name + " gives it no place"
			}
		case m.super.Events+1 < newest.Events:
			t.Says = fmt.Sprintf("the superblock on %s is %d events old", m.name, newest.Events-m.super.Events)
		default:
			t.Agrees = true
		}
		by = append(by, t)
	}
	return &pools.Witness{Source: "md superblocks on the members", Differs: p.Disagreements(by), Unread: unread}
}
