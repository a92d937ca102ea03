package pool

import (
	"cmp"
	"fmt"
	"math/bits"
	"slices"
	"strings"
)

// Margin is how many more members, any of them, can be lost without losing data. Negative means that data is lost.
type Margin int

// String is the margin in words, as every interface shows it.
func (m Margin) String() string {
	switch {
	case m < 0:
		return "data is lost"
	case m == 0:
		return "cannot lose another drive"
	case m == 1:
		return "can lose 1 more drive"
	}
	return fmt.Sprintf("can lose %d more drives", int(m))
}

// GroupMargin is the least margin of what is stored on one group: of its volumes where there are any, else of its own
// protection. ok is false when the group has no known protection, or when the answer depends on a member whose state is
// not known (R7).
func (p *Pool) GroupMargin(g Group) (least Margin, ok bool) {
	parts := limits{p}.groupParts(&g)
	if len(parts) == 0 {
		return 0, false
	}
	x := parts[0]
	for _, y := range parts[1:] {
		x = x.join(y)
	}
	return x.told(), x.known
}

// VolumeMargin is the margin of one volume: of its extents where they are known, else of its own protection on its
// group, or the least of all groups that it is spread over.
func (p *Pool) VolumeMargin(v Volume) (least Margin, ok bool) {
	x, ok := limits{p}.volumePart(&v)
	if !ok {
		return 0, false
	}
	return x.told(), x.known
}

// Margin is the least margin of the pool's volumes and groups. ok is false for a pool with an unknown part: it is
// unknown, not healthy (R7). A loss that is certain for every possible state of the unknown members is reported as a
// loss.
func (p *Pool) Margin() (least Margin, ok bool) {
	x, ok := limits{p}.limiting()
	if !ok {
		return 0, false
	}
	return x.told(), x.known
}

// LimitedBy names what limits the margin: log devices that others depend on, or the volume or group that can lose fewer
// than the others; empty where all parts can lose the same, where the margin is unknown, and where data is lost (see
// LostVolumes).
func (p *Pool) LimitedBy() string {
	x, ok := limits{p}.limiting()
	if !ok || !x.known || x.margin < 0 {
		return ""
	}
	var as, logs []string
	parts := limits{p}.parts()
	for _, y := range parts {
		if !y.known || y.margin != x.margin {
			continue
		}
		if len(y.logs) == 0 {
			as = append(as, y.name)
		}
		for _, l := range y.logs {
			if !slices.Contains(logs, l) {
				logs = append(logs, l)
			}
		}
	}
	if len(as) == len(parts) {
		return ""
	}
	if len(logs) > 0 {
		as = append(as, plural(len(logs), "log device")+" "+list(logs))
	}
	return list(as)
}

func plural(n int, what string) string {
	if n == 1 {
		return what
	}
	return what + "s"
}

// list joins up to three names.
func list(names []string) string {
	if len(names) > 3 {
		return strings.Join(names[:2], ", ") + fmt.Sprintf(" and %d more", len(names)-2)
	}
	if n := len(names); n > 1 {
		return strings.Join(names[:n-1], ", ") + " and " + names[n-1]
	}
	return strings.Join(names, "")
}

// gone reports whether the share on a member is lost: by itself, or with the log device that it depends on.
func (p *Pool) gone(m *Member) bool {
	if m.Lost() || m.State == Out {
		return m.Lost() // the share of a member that is set aside is stored elsewhere, independent of its log device
	}
	switch p.logState(m.Log) {
	case Missing, Faulty, Recovering, Out:
		return true
	}
	return false
}

// logState is the state of a log device; online if there is none, unknown if the pool does not list it.
func (p *Pool) logState(slot string) MemberState {
	if slot == "" {
		return Online
	}
	for i := range p.Logs {
		if p.Logs[i].Slot == slot {
			return p.Logs[i].State
		}
	}
	return StateUnkn
}

// unsure reports whether the state of some member is unknown.
func (p *Pool) unsure(members []Member) bool {
	return slices.ContainsFunc(members, func(m Member) bool {
		return m.State == StateUnkn || m.State != Out && !m.Lost() && p.logState(m.Log) == StateUnkn
	})
}

// Bears is how many members, or failure domains, a group with this protection can lose. With more pieces than domains,
// a domain stores several pieces of a stripe, spread evenly; then the number is smaller than the tolerance of the
// protection.
func (g *Group) Bears(pr Protection) int {
	if !pr.Domains {
		return pr.Tolerance
	}
	weights := g.domainPieces(pr)
	lost := 0
	for i, w := range weights {
		if lost += w; lost > pr.Tolerance {
			return i
		}
	}
	return max(len(weights), pr.Tolerance)
}

// domainPieces gives how many pieces of one stripe each failure domain stores, the largest number first.
func (g *Group) domainPieces(pr Protection) (out []int) {
	domains := map[string]int{}
	for i := range g.Members {
		domains[g.Members[i].Domain]++
	}
	if pr.Data < 0 { // a stripe as wide as there are members
		for _, n := range domains {
			out = append(out, n)
		}
		slices.SortFunc(out, func(a, b int) int { return b - a })
		return out
	}
	width, n := max(1, pr.Data)+pr.Tolerance, len(domains)
	for i := range n {
		w := width / n
		if i < width%n {
			w++
		}
		out = append(
			out,
			max(1, w),
		) // narrower stripes are on varying domains: a lost domain is a lost piece of some stripe
	}
	return out
}

// margin of a protection laid over one group: the size of the smallest set of further losses that breaks it, less one,
// and the log devices in that set. Losing a log device loses all members that depend on it.
func (p *Pool) margin(g *Group, pr Protection) (Margin, []string) {
	bears := g.Bears(pr)
	lost := p.units(g, pr, func(m *Member) bool { return p.gone(m) })
	all := p.units(g, pr, func(*Member) bool { return true })
	remaining, alone := 0, 0
	for i := range g.Members {
		if m := &g.Members[i]; !p.gone(m) {
			remaining++
			if m.Log == "" {
				alone++
			}
		}
	}
	if lost > bears || remaining == 0 {
		return min(-1, Margin(bears-lost)), nil
	}
	need := bears + 1 - lost
	if alone == remaining {
		if need > all-lost {
			need = remaining
		}
		return Margin(min(need, remaining) - 1), nil
	}
	logs := p.takenAlong(g, pr)
	everything := alone + len(logs) // this many losses lose all members under any protection
	var by []string
	if everything < need && everything < remaining {
		for _, t := range logs {
			by = append(by, t.log)
		}
	}
	if need > all-lost {
		return Margin(everything - 1), by
	}
	least := min(need, everything)
	// Devices whose loss costs one unit are no worse than the loss of that member.
	logs = slices.DeleteFunc(logs, func(t taken) bool { return len(t.units) < 2 })
	slices.SortFunc(
		logs,
		func(a, b taken) int { return cmp.Or(len(b.units)-len(a.units), strings.Compare(a.log, b.log)) },
	)
	try := func(sets []taken, covered int) {
		if further := len(sets) + max(0, need-covered); further < least {
			least, by = further, nil
			for _, t := range sets {
				by = append(by, t.log)
			}
		}
	}
	// Each member depends on at most one log device, so the losses by devices add up. Domains may have members on
	// several devices; then every set of devices is tried. With more than twelve devices the sum is used, which is
	// never too small.
	const most = 12
	if pr.Domains && len(logs) <= most {
		for set := uint(1); set < 1<<len(logs); set++ {
			if bits.OnesCount(set) < least {
				try(chosen(logs, set))
			}
		}
	} else {
		covered := 0
		for i, t := range logs {
			covered += len(t.units)
			try(logs[:i+1], covered)
		}
	}
	return Margin(least - 1), by
}

// chosen gives the devices of a set, given by its bits, and how many units are lost with them.
func chosen(logs []taken, set uint) (sets []taken, covered int) {
	units := map[string]bool{}
	for i, t := range logs {
		if set&(1<<i) != 0 {
			sets = append(sets, t)
			for u := range t.units {
				units[u] = true
			}
		}
	}
	return sets, len(units)
}

// taken gives the units, not lost yet, that are lost with a working log device.
type taken struct {
	log   string
	units map[string]bool
}

func (p *Pool) takenAlong(g *Group, pr Protection) (logs []taken) {
	counted := map[string]bool{}
	for i := range g.Members {
		if m := &g.Members[i]; p.gone(m) {
			counted[unit(m, pr)] = true
		}
	}
	for i := range g.Members {
		m := &g.Members[i]
		if m.Log == "" || p.gone(m) {
			continue
		}
		at := slices.IndexFunc(logs, func(t taken) bool { return t.log == m.Log })
		if at < 0 {
			at = len(logs)
			logs = append(logs, taken{m.Log, map[string]bool{}})
		}
		if !counted[unit(m, pr)] {
			logs[at].units[unit(m, pr)] = true
		}
	}
	return logs
}

// unit is the member or failure domain under which a protection counts a member.
func unit(m *Member, pr Protection) string {
	if pr.Domains {
		return m.Domain
	}
	return m.Slot
}

// units gives the lost units of the protection: members, or failure domains with at least one lost member.
func (p *Pool) units(g *Group, pr Protection, lost func(*Member) bool) int {
	n := 0
	var seen []string
	for i := range g.Members {
		m := &g.Members[i]
		if !lost(m) || pr.Domains && slices.Contains(seen, m.Domain) {
			continue
		}
		if pr.Domains {
			seen = append(seen, m.Domain)
		}
		n++
	}
	return n
}

// Without gives the pool's margin without the member at slot, and the volumes that are lost then.
func (p *Pool) Without(slot string) (poolMargin Margin, volumes []string, ok bool) {
	q := p.Losing(slot)
	poolMargin, ok = q.Margin()
	return poolMargin, q.LostVolumes(), ok
}

// Losing is the pool without the members at the given places, and without all members that depend on a lost log device.
func (p *Pool) Losing(slots ...string) Pool {
	all, _ := p.taking(slots)
	return p.With(Missing, all...)
}

// LostVolumes are the names of the volumes that have lost data.
func (p *Pool) LostVolumes() (names []string) {
	for _, v := range p.Volumes {
		if m, known := p.VolumeMargin(v); known && m < 0 {
			names = append(names, v.Name)
		}
	}
	return names
}
