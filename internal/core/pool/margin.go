package pool

import (
	"fmt"
	"math/bits"
	"slices"
)

// Margin is how many more members can be lost, whichever they are, before data is. Negative means data is lost.
type Margin int

// String is the margin in words, as every face shows it.
func (m Margin) String() string {
	switch {
	case m < 0:
		return "data is lost"
	case m == 0:
		return "no more may fail"
	case m == 1:
		return "one more may fail"
	}
	return Numeral(int(m)) + " more may fail"
}

// Numeral writes a small number in words.
func Numeral(n int) string {
	if n >= 0 && n < len(numerals) {
		return numerals[n]
	}
	return fmt.Sprint(n)
}

var numerals = []string{"no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine"}

// GroupMargin is the margin of one group, or the least of its volumes where those are what is protected. ok is false when
// nothing in the group says what it can bear, or when it is not known of a member whether it carries its share (R7).
func (p *Pool) GroupMargin(g Group) (least Margin, ok bool) {
	if g.unknown() {
		return 0, false
	}
	consider := func(m Margin) {
		if !ok || m < least {
			least, ok = m, true
		}
	}
	if !g.Protect.None {
		consider(p.margin(g, g.Protect))
	}
	for _, v := range p.Volumes {
		if v.Group == g.Name {
			consider(p.onGroup(g, v))
		}
	}
	return least, ok
}

// VolumeMargin is the margin of one volume: of its own protection on its group, or the least of all groups it is spread
// over.
func (p *Pool) VolumeMargin(v Volume) (least Margin, ok bool) {
	for _, g := range p.Groups {
		if v.Group != "" && v.Group != g.Name {
			continue
		}
		if g.unknown() {
			return 0, false
		}
		m := p.onGroup(g, v)
		if !ok || m < least {
			least, ok = m, true
		}
	}
	return least, ok
}

// onGroup is the margin of a volume on one group: that of its least extent, where it is known which members hold which;
// else that of its own protection laid over the group, or of the group's where it is spread over several.
func (p *Pool) onGroup(g Group, v Volume) (least Margin) {
	if len(v.Extents) == 0 {
		if v.Group == "" {
			return p.margin(g, g.Protect)
		}
		return p.margin(g, v.Protect)
	}
	least = Margin(len(g.Members))
	at := make(map[string]*Member, len(g.Members))
	for i := range g.Members {
		at[g.Members[i].Slot] = &g.Members[i]
	}
	var logs []string
	for _, e := range v.Extents {
		// Where no log device takes two of its pieces along, as nearly everywhere, its margin is soon told.
		left, shared := 0, false
		logs = logs[:0]
		for _, slot := range e.Slots {
			m := at[slot]
			if m == nil || m.Lost() {
				continue
			}
			left++
			if m.Log != "" {
				shared = shared || slices.Contains(logs, m.Log)
				logs = append(logs, m.Log)
			}
		}
		if shared {
			least = min(least, p.margin(g.holding(e), e.protection()))
		} else {
			least = min(least, Margin(left-e.Need))
		}
	}
	return least
}

// holding are the members of a group that hold an extent.
func (g Group) holding(e Extent) Group {
	on := Group{Name: g.Name}
	for _, m := range g.Members {
		if slices.Contains(e.Slots, m.Slot) {
			on.Members = append(on.Members, m)
		}
	}
	return on
}

func (e Extent) protection() Protection { return Protection{Tolerance: len(e.Slots) - e.Need} }

// unknown says whether nobody can tell of some member whether it is there.
func (g Group) unknown() bool {
	return slices.ContainsFunc(g.Members, func(m Member) bool { return m.State == StateUnkn })
}

// Margin is the least margin of the pool's groups. ok is false for a pool of which a group is not known: that is unknown,
// not healthy (R7).
func (p *Pool) Margin() (least Margin, ok bool) {
	for _, g := range p.Groups {
		if g.unknown() {
			return 0, false
		}
		if m, known := p.GroupMargin(g); known && (!ok || m < least) {
			least, ok = m, true
		}
	}
	return least, ok
}

// margin of a protection laid over one group: the size of the smallest set of further losses that breaks it, less one.
// Losing a log device loses all members that depend on it, so every set of log devices is tried (there are few), and
// the rest of the way is gone member by member, each taking one unit of tolerance.
func (p *Pool) margin(g Group, pr Protection) Margin {
	logs := p.logsOf(g)
	everything := units(g, pr, func(Member) bool { return true })
	least := Margin(len(g.Members))
	for set := range uint(1) << len(logs) {
		remaining := 0
		gone := func(m Member) bool {
			if m.Lost() {
				return true
			}
			i := slices.Index(logs, m.Log)
			return i >= 0 && set&(1<<i) != 0
		}
		for _, m := range g.Members {
			if !gone(m) {
				remaining++
			}
		}
		lost := units(g, pr, gone)
		if set == 0 && (lost > pr.Tolerance || remaining == 0) {
			return min(-1, Margin(pr.Tolerance-lost))
		}
		// Either as many units as it takes are lost one by one, if there are so many left, or everything is.
		further := remaining
		if more := max(0, pr.Tolerance+1-lost); more <= everything-lost {
			further = min(further, more)
		}
		least = min(least, Margin(bits.OnesCount(set)+further-1))
	}
	return least
}

// logsOf lists the log devices still working on which members of g depend. A lost one has already been counted by the
// pool system through the state of its members; should it not have been, they are counted here as lost with it.
func (p *Pool) logsOf(g Group) []string {
	var logs []string
	for _, m := range g.Members {
		if m.Log == "" || m.Lost() || slices.Contains(logs, m.Log) || len(logs) == 12 {
			continue
		}
		logs = append(logs, m.Log)
	}
	return logs
}

// units counts what the protection counts: members, or the failure domains with at least one lost member.
func units(g Group, pr Protection, lost func(Member) bool) int {
	n := 0
	seen := map[string]bool{}
	for _, m := range g.Members {
		if !lost(m) || pr.Domains && seen[m.Domain] {
			continue
		}
		seen[m.Domain] = true
		n++
	}
	return n
}

// Without is the pool's margin after the member at slot is gone as well, and the volumes that are lost then.
func (p *Pool) Without(slot string) (poolMargin Margin, volumes []string, ok bool) {
	q := p.Losing(slot)
	poolMargin, ok = q.Margin()
	return poolMargin, q.LostVolumes(), ok
}

// Losing is the pool after the members at the given places are gone, and with a log device all that depend on it.
func (p *Pool) Losing(slots ...string) Pool {
	q := p.With(Missing, slots...)
	var dependants []string
	for i := range q.Logs {
		if slices.Contains(slots, q.Logs[i].Slot) {
			q.Everyone(func(_ string, m *Member) {
				if m.Log == q.Logs[i].Slot {
					dependants = append(dependants, m.Slot)
				}
			})
		}
	}
	if len(dependants) > 0 {
		q = q.With(Missing, dependants...)
	}
	return q
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
