package pool

import (
	"fmt"
	"slices"
)

// Check reports what is impossible in a pool description: where it is, and why. Places are those of the pool's file
// (docs/pool-file.md), such as groups[0].members[2].state. Reports of pool systems are checked in the same way. Only
// descriptions by people must also be plausible (Plausible).
func (p *Pool) Check() error {
	if len(p.Groups) == 0 {
		return fmt.Errorf("groups: %s has none: name its groups, each with its members", p.Name)
	}
	c := checker{p, map[string]string{}}
	for i := range p.Groups {
		if err := c.group(i); err != nil {
			return err
		}
	}
	for what, members := range map[string][]Member{"spares": p.Spares, "logs": p.Logs} {
		for i := range members {
			if err := c.member(fmt.Sprintf("%s[%d]", what, i), &members[i]); err != nil {
				return err
			}
			if members[i].Log != "" {
				return fmt.Errorf("%s[%d].log: only members of groups depend on log devices", what, i)
			}
		}
	}
	for i := range p.Volumes {
		if err := c.volume(fmt.Sprintf("volumes[%d]", i), &p.Volumes[i]); err != nil {
			return err
		}
	}
	return nil
}

// checker checks the parts of a pool and records where each slot was found.
type checker struct {
	*Pool
	slots map[string]string
}

func (p checker) group(i int) error {
	g, at := &p.Groups[i], fmt.Sprintf("groups[%d]", i)
	for _, other := range p.Groups[:i] {
		if other.Name == g.Name {
			return fmt.Errorf("%s.name: there are two groups %q", at, g.Name)
		}
	}
	if len(g.Members) == 0 {
		return fmt.Errorf("%s.members: the group %q has none", at, g.Name)
	}
	for j := range g.Members {
		where, m := fmt.Sprintf("%s.members[%d]", at, j), &g.Members[j]
		if err := p.member(where, m); err != nil {
			return err
		}
		if m.State == Standby {
			return fmt.Errorf(
				"%s.state: %s is in %s and stands by: name spares beside the groups",
				where,
				m.Slot,
				g.Name,
			)
		}
	}
	if j := slices.IndexFunc(g.Members, func(m Member) bool { return m.Domain == "" }); j >= 0 && p.overDomains(g) {
		return fmt.Errorf(
			"%s.members[%d].domain: the group %q is spread over failure domains, and that of %s is not known",
			at,
			j,
			g.Name,
			g.Members[j].Slot,
		)
	}
	if !g.Protect.None && (g.Protect.Tolerance < 0 || g.Protect.Tolerance >= len(g.Members)) {
		return fmt.Errorf(
			"%s.protect.tolerance: %q has %d members and cannot lose %d of them with all data kept",
			at,
			g.Name,
			len(g.Members),
			g.Protect.Tolerance,
		)
	}
	return nil
}

// overDomains reports whether anything in a group is protected over failure domains.
func (p *Pool) overDomains(g *Group) bool {
	return g.Protect.Domains || slices.ContainsFunc(p.Volumes, func(v Volume) bool { return v.Protect.Domains && v.on(g) })
}

// Plausible reports what cannot be meant in a pool description: protection that its members cannot give, or more data
// on a member than its size. The pool has passed Check.
func (p *Pool) Plausible() error {
	if p.Limit < 0 || p.Limit > 1 {
		return fmt.Errorf("limit: %v is not a share of 0 to 1", p.Limit)
	}
	for i := range p.Groups {
		at := fmt.Sprintf("groups[%d]", i)
		if err := p.Groups[i].plausible(at); err != nil {
			return err
		}
		for j, m := range p.Groups[i].Members {
			if m.Size > 0 && m.Used > m.Size {
				return fmt.Errorf(
					"%s.members[%d].used_bytes: %s holds %d bytes and has only %d",
					at,
					j,
					m.Slot,
					m.Used,
					m.Size,
				)
			}
		}
	}
	for i := range p.Volumes {
		v, at := &p.Volumes[i], fmt.Sprintf("volumes[%d]", i)
		for _, g := range p.Groups {
			switch {
			case v.Group == "" && g.Protect.None && len(v.Extents) == 0: // spread over all groups, with their protection
				return fmt.Errorf(
					"%s: the volume %q is spread over all groups, and %q protects nothing itself: name its "+
						"group and its protection",
					at,
					v.Name,
					g.Name,
				)
			case v.Group != "" && v.Group == g.Name:
				if err := g.checkProtection(at+".protect", v.Protect); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func (g *Group) plausible(at string) error {
	if g.Protect.None {
		if g.Protect.Tolerance != 0 || g.Protect.Data != 0 || g.Protect.StopsAt != 0 {
			return fmt.Errorf(
				"%s.protect.none: a group that protects nothing itself has no tolerance, data or stops_at",
				at,
			)
		}
		return nil
	}
	return g.checkProtection(at+".protect", g.Protect)
}

// checkProtection says why a group cannot have this protection.
func (g *Group) checkProtection(at string, pr Protection) error {
	units, what := len(g.Members), "members"
	width := max(1, pr.Data) + pr.Tolerance
	if pr.Domains {
		var domains []string
		for _, m := range g.Members {
			if !slices.Contains(domains, m.Domain) {
				domains = append(domains, m.Domain)
			}
		}
		units, what = len(domains), "failure domains"
	}
	switch {
	case pr.Data < -1:
		return fmt.Errorf(
			"%s.data: %d is not a number of pieces: 1 or more, or -1 for a stripe as wide as the group",
			at,
			pr.Data,
		)
	case pr.Tolerance < 0:
		return fmt.Errorf("%s.tolerance: %d is negative", at, pr.Tolerance)
	case pr.Tolerance >= units:
		return fmt.Errorf(
			"%s.tolerance: %q has %d %s and cannot lose %d of them with all data kept",
			at,
			g.Name,
			units,
			what,
			pr.Tolerance,
		)
	case pr.Data > 0 && width > len(g.Members):
		return fmt.Errorf(
			"%s.data: %d pieces of data and %d more do not fit on %d members, one on each",
			at,
			max(1, pr.Data),
			pr.Tolerance,
			len(g.Members),
		)
	case pr.StopsAt < 0:
		return fmt.Errorf("%s.stops_at: %d is negative", at, pr.StopsAt)
	case pr.StopsAt > pr.Tolerance:
		return fmt.Errorf(
			"%s.stops_at: with %d losses data is lost already, as the tolerance is %d",
			at,
			pr.StopsAt,
			pr.Tolerance,
		)
	}
	return nil
}

func (p checker) member(at string, m *Member) error {
	if m.Slot == "" {
		return fmt.Errorf("%s.slot: every member needs a slot of its own", at)
	}
	if other := p.slots[m.Slot]; other != "" {
		return fmt.Errorf("%s.slot: %q is the slot of %s already", at, m.Slot, other)
	}
	p.slots[m.Slot] = at
	switch {
	case !slices.Contains(states, m.State):
		return fmt.Errorf(
			"%s.state: %s cannot be %q: a member is online, failing, missing, faulty, recovering, standby, out "+
				"or unknown",
			at,
			m.Slot,
			m.State,
		)
	case m.Log != "" && !p.isLog(m.Log):
		return fmt.Errorf("%s.log: %s depends on the log device %q, and there is none", at, m.Slot, m.Log)
	}
	return nil
}

func (p checker) volume(at string, v *Volume) error {
	if v.Group != "" && !slices.ContainsFunc(p.Groups, func(g Group) bool { return g.Name == v.Group }) {
		return fmt.Errorf("%s.group: the volume %q is on the group %q, and there is none", at, v.Name, v.Group)
	}
	for i, e := range v.Extents {
		at := fmt.Sprintf("%s.extents[%d]", at, i)
		for j, s := range e.Slots {
			m, group, ok := p.Slot(s)
			switch {
			case p.slots[s] == "" || !ok || group == "" && p.isSpareOrLog(m.Slot):
				return fmt.Errorf(
					"%s.slots[%d]: the volume %q has a piece on %q, and there is no such member of a group",
					at,
					j,
					v.Name,
					s,
				)
			case v.Group != "" && group != v.Group:
				return fmt.Errorf("%s.slots[%d]: %q is not in the group %q", at, j, s, v.Group)
			case slices.Contains(e.Slots[:j], s):
				return fmt.Errorf("%s.slots[%d]: %q is named twice; no two pieces are on one member", at, j, s)
			}
		}
		if e.Need < 1 || e.Need > len(e.Slots) {
			return fmt.Errorf(
				"%s.need: an extent of %q has %d pieces and needs %d of them",
				at,
				v.Name,
				len(e.Slots),
				e.Need,
			)
		}
	}
	return nil
}

func (p checker) isSpareOrLog(slot string) bool {
	return p.isLog(slot) || slices.ContainsFunc(p.Spares, func(m Member) bool { return m.Slot == slot })
}
