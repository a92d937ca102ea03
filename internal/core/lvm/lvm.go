// Package lvm reads what LVM keeps on its physical volumes: the label in one of the first four sectors, the header
// behind it, and the newest text of the volume group's metadata. Nothing is ever written.
//
// Source: the on-disk format as the lvm2 sources lay it out (lib/format_text/layout.h, lib/label/label.h).
package lvm

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"slices"
	"strconv"
	"strings"
)

// ErrNone means that there is no label.
var ErrNone = errors.New("no LVM label")

// PV is what a physical volume says of itself.
type PV struct {
	ID   string // 32 characters, without hyphens
	Size uint64 // bytes, as it was when it was made
	// Group is the volume group as this volume's copy of the metadata has it; nil when it keeps no copy, or belongs to
	// no group.
	Group *Group
}

// Group is a volume group.
type Group struct {
	ID, Name string
	Sequence uint64 // rises with every change
	Extent   uint64 // bytes of an extent
	PVs      map[string]GroupPV
	LVs      map[string]LV
}

// GroupPV is a physical volume as its group knows it.
type GroupPV struct {
	ID      string
	Missing bool
}

// LV is a logical volume, its segments in order.
type LV struct {
	Name     string
	ID       string
	Visible  bool
	Segments []Segment
}

// Segment is a part of a logical volume. Kind is "striped" (also for linear), "raid1", "raid5_ls" and so on. Parts are
// the names of physical volumes for a striped one, else of the logical volumes that hold its images.
type Segment struct {
	Kind  string
	Parts []string
}

const (
	sector   = 512
	labels   = 4
	mostText = 16 << 20
	mdaMagic = " LVM2 x[5A%r0N*>"
	initCRC  = 0xf597a6cf
)

// Read takes a physical volume apart. read gives bytes of the device.
func Read(read func(offset int64, b []byte) error) (pv PV, err error) {
	head := make([]byte, labels*sector)
	if err := read(0, head); err != nil {
		return pv, err
	}
	for i := range labels {
		b := head[i*sector : (i+1)*sector]
		if string(b[:8]) != "LABELONE" || string(b[24:32]) != "LVM2 001" {
			continue
		}
		le := binary.LittleEndian
		if le.Uint64(b[8:]) != uint64(i) || crc(b[20:]) != le.Uint32(b[16:]) {
			return pv, errors.New("the LVM label is damaged: its sector or its checksum is wrong")
		}
		return header(read, b, int(le.Uint32(b[20:])))
	}
	return pv, ErrNone
}

func header(read func(int64, []byte) error, b []byte, at int) (pv PV, err error) {
	le := binary.LittleEndian
	if at < 32 || at+40 > len(b) {
		return pv, fmt.Errorf("the LVM label is damaged: its header is at %d", at)
	}
	pv.ID, pv.Size = string(b[at:at+32]), le.Uint64(b[at+32:])
	areas := func(from int) (out [][2]uint64, next int) {
		for ; from+16 <= len(b); from += 16 {
			l := [2]uint64{le.Uint64(b[from:]), le.Uint64(b[from+8:])}
			if l[0] == 0 {
				return out, from + 16
			}
			out = append(out, l)
		}
		return out, len(b)
	}
	_, next := areas(at + 40) // data
	metas, _ := areas(next)
	var failed []error
	for _, m := range metas {
		g, err := metadata(read, m[0], m[1])
		if err != nil {
			failed = append(failed, err)
			continue
		}
		if g != nil && (pv.Group == nil || g.Sequence > pv.Group.Sequence) {
			pv.Group = g
		}
	}
	if pv.Group == nil && len(failed) > 0 {
		return pv, errors.Join(failed...)
	}
	return pv, nil
}

func metadata(read func(int64, []byte) error, start, size uint64) (*Group, error) {
	le := binary.LittleEndian
	h := make([]byte, sector)
	if err := read(int64(start), h); err != nil {
		return nil, err
	}
	if string(h[4:20]) != mdaMagic || crc(h[4:]) != le.Uint32(h) {
		return nil, errors.New("an area of LVM metadata is damaged: its mark or its checksum is wrong")
	}
	offset, n, sum := le.Uint64(h[40:]), le.Uint64(h[48:]), le.Uint32(h[56:])
	if offset == 0 || n == 0 {
		return nil, nil
	}
	if n > mostText || offset >= size || n > size || size < sector {
		return nil, fmt.Errorf("an area of LVM metadata is damaged: a text of %d bytes at %d of %d", n, offset, size)
	}
	text := make([]byte, n)
	first := min(n, size-offset)
	if err := read(int64(start+offset), text[:first]); err != nil {
		return nil, err
	}
	if first < n { // it goes on behind the header
		if err := read(int64(start+sector), text[first:]); err != nil {
			return nil, err
		}
	}
	if crc(text) != sum {
		return nil, errors.New("the text of LVM metadata is damaged: its checksum is wrong")
	}
	return ParseGroup(string(bytes.TrimRight(text, "\x00")))
}

// crc is LVM's: the polynomial of IEEE 802.3, begun with a value of its own and not turned over at the end.
func crc(b []byte) uint32 {
	begin := uint32(initCRC)
	return ^crc32.Update(^begin, crc32.IEEETable, b)
}

// section is one {…} of the text.
type section struct {
	values map[string][]string
	inner  map[string]*section
	order  []string
}

func (s *section) one(key string) string {
	if v := s.values[key]; len(v) > 0 {
		return v[0]
	}
	return ""
}

func (s *section) number(key string) uint64 {
	n, _ := strconv.ParseUint(s.one(key), 10, 64)
	return n
}

// ParseGroup reads the text of a volume group.
func ParseGroup(text string) (*Group, error) {
	p := &parser{text: text}
	root, err := p.section(0)
	if err != nil {
		return nil, err
	}
	if len(root.order) == 0 {
		return nil, errors.New("the text of LVM metadata names no volume group")
	}
	name := root.order[0]
	v := root.inner[name]
	g := &Group{
		ID:       plain(v.one("id")),
		Name:     name,
		Sequence: v.number("seqno"),
		Extent:   v.number("extent_size") * sector,
		PVs:      map[string]GroupPV{},
		LVs:      map[string]LV{},
	}
	if all := v.inner["physical_volumes"]; all != nil {
		for name, x := range all.inner {
			g.PVs[name] = GroupPV{
				ID: plain(x.one("id")),
				Missing: slices.Contains(x.values["flags"], "MISSING") ||
					slices.Contains(x.values["status"], "MISSING"),
			}
		}
	}
	if all := v.inner["logical_volumes"]; all != nil {
		for name, x := range all.inner {
			l := LV{Name: name, ID: plain(x.one("id")), Visible: slices.Contains(x.values["status"], "VISIBLE")}
			for i := 1; ; i++ {
				seg := x.inner["segment"+strconv.Itoa(i)]
				if seg == nil {
					break
				}
				l.Segments = append(l.Segments, seg.segment())
			}
			g.LVs[name] = l
		}
	}
	return g, nil
}

func (s *section) segment() Segment {
	out := Segment{Kind: s.one("type")}
	switch {
	case len(s.values["stripes"]) > 0: // name, first extent, name, first extent …
		for i := 0; i < len(s.values["stripes"]); i += 2 {
			out.Parts = append(out.Parts, s.values["stripes"][i])
		}
	case len(s.values["raids"]) > 0: // metadata, data, metadata, data …
		for i := 1; i < len(s.values["raids"]); i += 2 {
			out.Parts = append(out.Parts, s.values["raids"][i])
		}
	case len(s.values["mirrors"]) > 0:
		for i := 0; i < len(s.values["mirrors"]); i += 2 {
			out.Parts = append(out.Parts, s.values["mirrors"][i])
		}
	}
	return out
}

// On lists the physical volumes that a logical volume is on, by their names in the group.
func (g *Group) On(lv string) (pvs []string) {
	var walk func(name string, deep int)
	walk = func(name string, deep int) {
		if _, is := g.PVs[name]; is {
			if !slices.Contains(pvs, name) {
				pvs = append(pvs, name)
			}
			return
		}
		if deep > 8 {
			return
		}
		for _, s := range g.LVs[name].Segments {
			for _, p := range s.Parts {
				walk(p, deep+1)
			}
		}
	}
	walk(lv, 0)
	slices.Sort(pvs)
	return pvs
}

func plain(id string) string { return strings.ReplaceAll(id, "-", "") }

// parser goes through the text: names, {, }, =, numbers, "strings" and [lists].
type parser struct {
	text string
	at   int
}

func (p *parser) skip() {
	for p.at < len(p.text) {
		switch c := p.text[p.at]; {
		case c == '#':
			for p.at < len(p.text) && p.text[p.at] != '\n' {
				p.at++
			}
		case c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == ',':
			p.at++
		default:
			return
		}
	}
}

func (p *parser) fail(what string) error {
	return fmt.Errorf("the text of LVM metadata is damaged at byte %d: %s", p.at, what)
}

func (p *parser) word() string {
	p.skip()
	from := p.at
	for p.at < len(p.text) && !strings.ContainsRune(" \t\r\n{}[]=,#\"", rune(p.text[p.at])) {
		p.at++
	}
	return p.text[from:p.at]
}

func (p *parser) next() byte {
	p.skip()
	if p.at < len(p.text) {
		return p.text[p.at]
	}
	return 0
}

const mostNested = 8

func (p *parser) section(deep int) (*section, error) {
	s := &section{values: map[string][]string{}, inner: map[string]*section{}}
	if deep > mostNested {
		return nil, p.fail("too many sections, one in the other")
	}
	for {
		switch p.next() {
		case 0:
			if deep > 0 {
				return nil, p.fail("a section does not end")
			}
			return s, nil
		case '}':
			p.at++
			if deep == 0 {
				return nil, p.fail("a section ends that did not begin")
			}
			return s, nil
		}
		name := p.word()
		if name == "" {
			return nil, p.fail("a name is missing")
		}
		switch p.next() {
		case '{':
			p.at++
			inner, err := p.section(deep + 1)
			if err != nil {
				return nil, err
			}
			s.inner[name], s.order = inner, append(s.order, name)
		case '=':
			p.at++
			v, err := p.value()
			if err != nil {
				return nil, err
			}
			s.values[name] = v
		default:
			return nil, p.fail("neither { nor = follows " + name)
		}
	}
}

func (p *parser) value() ([]string, error) {
	if p.next() != '[' {
		v, err := p.scalar()
		return []string{v}, err
	}
	p.at++
	out := []string{}
	for {
		switch p.next() {
		case ']':
			p.at++
			return out, nil
		case 0:
			return nil, p.fail("a list does not end")
		}
		v, err := p.scalar()
		if err != nil {
			return nil, err
		}
		out = append(out, v)
	}
}

func (p *parser) scalar() (string, error) {
	if p.next() != '"' {
		w := p.word()
		if w == "" {
			return "", p.fail("a value is missing")
		}
		return w, nil
	}
	var b strings.Builder
	for p.at++; p.at < len(p.text); p.at++ {
		switch c := p.text[p.at]; c {
		case '\\':
			if p.at++; p.at < len(p.text) {
				b.WriteByte(p.text[p.at])
			}
		case '"':
			p.at++
			return b.String(), nil
		default:
			b.WriteByte(c)
		}
	}
	return "", p.fail("a string does not end")
}
