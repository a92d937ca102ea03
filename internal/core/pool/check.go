package pool

import (
	"fmt"
	"slices"
)

// Check says what of a pool that somebody described cannot be so.
func (p *Pool) Check() error {
	if len(p.Groups) == 0 {
		return fmt.Errorf("%s has no group: name its groups, each with its members", p.Name)
	}
	seen := map[string]bool{}
	var twice string
	p.Everyone(func(_ string, m *Member) {
		if m.Slot == "" || seen[m.Slot] {
			twice = m.Slot
		}
		seen[m.Slot] = true
	})
	if len(seen) > 0 && (twice != "" || seen[""]) {
		return fmt.Errorf("every member needs a slot of its own; %q is there twice, or is empty", twice)
	}
	var bad error
	p.Everyone(func(group string, m *Member) {
		switch {
		case !slices.Contains(states, m.State):
			bad = fmt.Errorf("%s cannot be %q: a member is online, failing, missing, faulty, recovering, standby, out or unknown", m.Slot, m.State)
		case m.Log != "" && !p.isLog(m.Log):
			bad = fmt.Errorf("%s depends on the log device %q, and there is none", m.Slot, m.Log)
		case group != "" && m.State == Standby:
			bad = fmt.Errorf("%s is in %s and stands by: spares are named beside the groups", m.Slot, group)
		}
	})
	if bad != nil {
		return bad
	}
	names := map[string]bool{}
	for _, g := range p.Groups {
		switch {
		case names[g.Name]:
			return fmt.Errorf("there are two groups %q", g.Name)
		case len(g.Members) == 0:
			return fmt.Errorf("the group %q has no member", g.Name)
		case !g.Protect.None && (g.Protect.Tolerance < 0 || g.Protect.Tolerance >= len(g.Members)):
			return fmt.Errorf("the group %q has %d members and cannot lose %d of them: say its protection's tolerance", g.Name, len(g.Members), g.Protect.Tolerance)
		}
		names[g.Name] = true
	}
	for _, v := range p.Volumes {
		if v.Group != "" && !names[v.Group] {
			return fmt.Errorf("the volume %q is on the group %q, and there is none", v.Name, v.Group)
		}
		for _, e := range v.Extents {
			for _, s := range e.Slots {
				if !seen[s] {
					return fmt.Errorf("the volume %q has a piece on %q, and there is no such member", v.Name, s)
				}
			}
			if e.Need < 1 || e.Need > len(e.Slots) {
				return fmt.Errorf("an extent of %q has %d pieces and needs %d of them", v.Name, len(e.Slots), e.Need)
			}
		}
	}
	return nil
}
