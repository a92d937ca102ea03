package pool

import (
	"slices"
	"strings"
)

// part is one part of a pool with a margin of its own: a volume, or a group that no volume covers.
type part struct {
	name   string // "volume films", "group 1"
	margin Margin
	known  bool
	logs   []string // log devices whose loss the margin counts; empty where it counts members
}

// worse reports whether a part limits the margin more than another.
func (x part) worse(y part) bool { return x.margin < y.margin }

// join gives the part that limits the margin: first a certain loss, then an unknown part (R7), then the least margin.
func (x part) join(y part) part {
	switch {
	case x.known && x.margin < 0:
		return x
	case y.known && y.margin < 0:
		return y
	case !x.known:
		return x
	case !y.known, y.worse(x):
		return y
	}
	return x
}

// told is the margin; 0 where it is not known.
func (x part) told() Margin {
	if !x.known {
		return 0
	}
	return x.margin
}

// limits finds the parts of a pool that have their own margin, and which of them limits it.
type limits struct{ *Pool }

func (p limits) limiting() (x part, ok bool) {
	parts := p.parts()
	if len(parts) == 0 {
		return part{}, false
	}
	x = parts[0]
	for _, y := range parts[1:] {
		x = x.join(y)
	}
	return x, true
}

// parts are all volumes, and the groups that no volume covers.
func (p limits) parts() (out []part) {
	for i := range p.Volumes {
		if x, ok := p.volumePart(&p.Volumes[i]); ok {
			out = append(out, x)
		}
	}
	for i := range p.Groups {
		if g := &p.Groups[i]; !p.spokenFor(g) {
			out = append(out, p.bare(g)...)
		}
	}
	return out
}

// groupParts are the parts that are on one group.
func (p limits) groupParts(g *Group) (out []part) {
	for i := range p.Volumes {
		if v := &p.Volumes[i]; v.on(g) {
			out = append(out, p.onGroup(g, v))
		}
	}
	if len(out) == 0 {
		out = p.bare(g)
	}
	return out
}

// bare is a group without volumes. A group without members can lose nothing; a group without its own protection has no
// margin. If the state of its members is unknown, the pool is unknown too (R7).
func (p limits) bare(g *Group) []part {
	x := part{name: groupWords(g.Name)}
	if !g.Protect.None {
		x = p.under(g, g.Protect)
		x.name = groupWords(g.Name)
	} else if !p.unsure(g.Members) {
		return nil
	}
	return []part{x}
}

// on reports whether a volume is on a group.
func (v *Volume) on(g *Group) bool { return v.Group == "" || v.Group == g.Name }

// spokenFor reports whether a volume is on the group; then the margin follows from the volumes.
func (p limits) spokenFor(g *Group) bool {
	return slices.ContainsFunc(p.Volumes, func(v Volume) bool { return v.on(g) })
}

func (p limits) volumePart(v *Volume) (x part, ok bool) {
	for i := range p.Groups {
		if g := &p.Groups[i]; v.on(g) {
			if y := p.onGroup(g, v); !ok {
				x, ok = y, true
			} else {
				x = x.join(y)
			}
			if len(v.Extents) > 0 && v.Group == "" {
				break // its extents were counted over all groups
			}
		}
	}
	x.name = "volume " + v.Name
	return x, ok
}

// onGroup is the margin of a volume on one group: the least of its extents, where their members are known; else that of
// its own protection on the group, or that of the group where it is spread over several.
func (p limits) onGroup(g *Group, v *Volume) (x part) {
	switch {
	case len(v.Extents) > 0:
		x = p.byExtents(v)
	case v.Group == "":
		x = p.under(g, g.Protect)
	default:
		x = p.under(g, v.Protect)
	}
	x.name = "volume " + v.Name
	return x
}

// under is the margin of a protection on a group; known also when unknown members cannot change that data is lost.
func (p limits) under(g *Group, pr Protection) part {
	m, logs := p.margin(g, pr)
	return part{margin: m, logs: logs, known: m < 0 || !p.unsure(g.Members)}
}

// byExtents is the margin of a volume whose extents are known.
func (p limits) byExtents(v *Volume) part {
	at := map[string]*Member{}
	for i := range p.Groups {
		for j := range p.Groups[i].Members {
			at[p.Groups[i].Members[j].Slot] = &p.Groups[i].Members[j]
		}
	}
	x := part{margin: Margin(len(at)), known: true}
	sure := true
	var logs []string
	for _, e := range v.Extents {
		// Where no log device loses two of its pieces, which is the usual case, the margin is simple.
		left, shared := 0, false
		logs = logs[:0]
		for _, slot := range e.Slots {
			m := at[slot]
			if m == nil || p.gone(m) {
				continue
			}
			sure = sure && m.State != StateUnkn && p.logState(m.Log) != StateUnkn
			left++
			if m.Log != "" {
				shared = shared || slices.Contains(logs, m.Log)
				logs = append(logs, m.Log)
			}
		}
		y := part{margin: Margin(left - e.Need)}
		if shared && y.margin >= 0 {
			on := Group{}
			for _, slot := range e.Slots {
				if at[slot] != nil {
					on.Members = append(on.Members, *at[slot])
				}
			}
			y.margin, y.logs = p.margin(&on, Protection{Tolerance: len(e.Slots) - e.Need})
		}
		if y.worse(x) || y.margin == x.margin && len(y.logs) == 0 {
			x.margin, x.logs = y.margin, y.logs
		}
	}
	x.known = sure || x.margin < 0
	return x
}

// groupWords names a group: some pool systems already call one "group 1".
func groupWords(name string) string {
	if strings.HasPrefix(name, "group") {
		return name
	}
	return "group " + name
}
