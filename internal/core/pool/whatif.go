package pool

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"lantern/internal/core/drive"
)

// Outcome is the result for a volume when members are lost.
type Outcome string

// In order of severity. Unreachable means that nothing is lost, but that data is unavailable until something was
// restored.
const (
	Safe        Outcome = "safe"
	Reduced     Outcome = "reduced margin"
	Untold      Outcome = "unknown"
	Unreachable Outcome = "unreachable"
	Lost        Outcome = "lost"
)

// Gravity orders outcomes, safe first.
func (o Outcome) Gravity() int {
	return slices.Index([]Outcome{Safe, Reduced, Untold, Unreachable, Lost}, o)
}

// Effect is the effect on one volume, or on a group whose volumes are unknown.
type Effect struct {
	Volume  string // empty for a group as a whole
	Group   string
	Words   string // its protection
	Used    drive.Bytes
	Was, Is Margin
	// WasBy and IsBy name the log devices whose loss is what the margins count; empty where any member is.
	WasBy, IsBy string
	WasLost     bool // before this loss
	Outcome     Outcome
}

// Comeback is how the share of one lost member is restored, if at all.
type Comeback struct {
	Slot string
	// By is the slot of the spare that takes its place, "others" when its share moves to other members; empty: it is
	// not restored.
	By    string
	Needs drive.Bytes
	Has   drive.Bytes // of the spare, or room on the others together
	Fits  bool
	Says  string
}

// Prospect answers what happens when members are lost.
type Prospect struct {
	Lose    []string // slots, with the members that depend on them
	Along   []string // slots that were not named, but depend on a named log device
	Was, Is Margin
	Known   bool // of both
	// WasBy and IsBy name what limits the margins (Pool.LimitedBy).
	WasBy, IsBy string
	Effects     []Effect
	Comebacks   []Comeback
	// Healed is the margin after all automatic restores; equal to Is when there are none.
	Healed Margin
}

// Worst is the worst outcome of all.
func (w Prospect) Worst() Outcome {
	worst := Safe
	for _, e := range w.Effects {
		if e.Outcome.Gravity() > worst.Gravity() {
			worst = e.Outcome
		}
	}
	return worst
}

// Places resolves names to slots: a slot, a drive's key, or a failure domain, which stands for all its members.
func (p *Pool) Places(names []string) (slots []string, err error) {
	for _, name := range names {
		var found []string
		p.Everyone(func(_ string, m *Member) {
			if m.Slot == name {
				found = []string{m.Slot}
			}
		})
		if len(found) == 0 {
			found = p.SlotsOf(name) // a drive may have several
		}
		if len(found) == 0 {
			p.Everyone(func(_ string, m *Member) {
				if name != "" && m.Domain == name {
					found = append(found, m.Slot)
				}
			})
		}
		if len(found) == 0 {
			return nil, fmt.Errorf(
				"%s has no member %q; its members are %s",
				p.Name,
				name,
				strings.Join(p.slots(12), ", "),
			)
		}
		for _, s := range found {
			if !slices.Contains(slots, s) {
				slots = append(slots, s)
			}
		}
	}
	return slots, nil
}

// slots gives up to n of its members.
func (p *Pool) slots(n int) (out []string) {
	p.Everyone(func(_ string, m *Member) { out = append(out, m.Slot) })
	if len(out) > n {
		out = append(out[:n:n], "and others")
	}
	return out
}

// taking gives slots together with all members that depend on log devices among them.
func (p *Pool) taking(slots []string) (all, along []string) {
	all = slices.Clone(slots)
	p.Everyone(func(_ string, m *Member) {
		if m.Log != "" && slices.Contains(slots, m.Log) && !slices.Contains(all, m.Slot) {
			all, along = append(all, m.Slot), append(along, m.Slot)
		}
	})
	return all, along
}

// WhatIf answers what happens when the members at slots are lost at once.
func (p *Pool) WhatIf(slots []string) Prospect {
	w := Prospect{}
	w.Lose, w.Along = p.taking(slots)
	after := p.With(Missing, w.Lose...)
	w.Was, w.Known = p.Margin()
	is, isKnown := after.Margin()
	w.Is, w.Known = is, isKnown && (w.Known || is < 0)
	if !w.Known {
		w.Was, w.Is = 0, 0
	}
	w.WasBy, w.IsBy = p.LimitedBy(), after.LimitedBy()
	w.Effects = p.effects(&after)
	healed := after.clone()
	w.Comebacks = p.comebacks(&healed, w)
	w.Healed, _ = healed.Margin()
	switch {
	case !w.Known:
		w.Healed = 0
	case w.Is < 0:
		w.Healed = w.Is // lost data is not restored
	}
	return w
}

// effects compares every volume, and every group that no volume covers, before and after.
func (p *Pool) effects(after *Pool) (out []Effect) {
	for i := range p.Volumes {
		v := &p.Volumes[i]
		e := Effect{Volume: v.Name, Group: v.Group, Words: v.Protect.Words, Used: v.Used}
		was, _ := limits{p}.volumePart(v)
		is, ok := limits{after}.volumePart(&after.Volumes[i])
		is.known = is.known && ok
		stops, lower := false, false
		for j := range after.Groups {
			if g := &after.Groups[j]; v.on(g) {
				stops = stops || after.stopped(g, v)
				lower = lower || p.lowers(after, j, v)
			}
		}
		e.judge(was, is, stops, lower)
		out = append(out, e)
	}
	for j := range p.Groups {
		g := &p.Groups[j]
		if (limits{p}).spokenFor(g) {
			continue
		}
		was := limits{p}.bare(g)
		if len(was) == 0 {
			continue
		}
		e := Effect{Group: g.Name, Words: g.Protect.Words}
		bare := &Volume{Protect: g.Protect}
		e.judge(
			was[0],
			limits{after}.bare(&after.Groups[j])[0],
			after.stopped(&after.Groups[j], bare),
			p.lowers(after, j, bare),
		)
		out = append(out, e)
	}
	return out
}

// lowers reports whether a member of the group has lost pieces of the volume. Its redundancy is then lower, even where
// a log device or another group limits the margin to the same number before and after.
func (p *Pool) lowers(after *Pool, group int, v *Volume) bool {
	for i := range after.Groups[group].Members {
		m := &after.Groups[group].Members[i]
		before := &p.Groups[group].Members[i]
		if before.State == Out || p.gone(before) || !after.gone(m) {
			continue
		}
		if len(v.Extents) == 0 ||
			slices.ContainsFunc(v.Extents, func(x Extent) bool { return slices.Contains(x.Slots, m.Slot) }) {
			return true
		}
	}
	return false
}

func (e *Effect) judge(was, is part, stops, lower bool) {
	e.WasLost = was.known && was.margin < 0
	certain := is.known && is.margin < 0
	e.Was, e.Is, e.WasBy, e.IsBy = was.margin, is.margin, list(was.logs), list(is.logs)
	switch {
	case !certain && !(was.known && is.known):
		e.Outcome, e.Was, e.Is = Untold, 0, 0
	case certain:
		e.Outcome = Lost
	case stops:
		e.Outcome = Unreachable
	case e.Is < e.Was || lower:
		e.Outcome = Reduced
	default:
		e.Outcome = Safe
	}
}

// stopped reports whether a volume on a group has lost so much that it is unavailable.
func (p *Pool) stopped(g *Group, v *Volume) bool {
	pr := v.Protect
	if v.Group == "" {
		pr = g.Protect
	}
	if pr.StopsAt <= 0 {
		return false
	}
	if len(v.Extents) == 0 {
		return p.lostPieces(g, pr) >= pr.StopsAt
	}
	return slices.ContainsFunc(v.Extents, func(e Extent) bool {
		n := 0
		for _, slot := range e.Slots {
			if m, _, ok := p.Slot(slot); !ok || p.gone(&m) {
				n++
			}
		}
		return n >= pr.StopsAt
	})
}

// lostPieces is the greatest number of lost pieces of one stripe.
func (p *Pool) lostPieces(g *Group, pr Protection) (n int) {
	units := p.units(g, pr, func(m *Member) bool { return p.gone(m) })
	if !pr.Domains {
		return units
	}
	for _, w := range g.domainPieces(pr)[:units] {
		n += w
	}
	return n
}

// comebacks gives how each lost share is restored automatically, and applies it to q: first by spares, each for one
// member; then, where the pool system restores shares on other members, those, if there is room for all of them.
func (p *Pool) comebacks(q *Pool, w Prospect) (out []Comeback) {
	var wanted []string // places that a spare may take
	for _, slot := range w.Lose {
		m, group, ok := p.Slot(slot)
		if !ok || group == "" && !p.isLog(slot) || m.Lost() || m.State == Out {
			continue // a spare, or a member lost before: nothing to restore
		}
		c := Comeback{Slot: slot, Needs: max(m.Needs, m.Used)}
		if size, ok := p.Fit(slot); ok {
			c.Needs = max(c.Needs, size.Least)
		}
		switch {
		case group == "":
			c.Says = "a log device does not come back by itself; the members that depend on it are lost with it"
		case w.nothingLeft(group):
			c.Says = "what was on it is lost: it comes back from a backup only"
		default:
			wanted = append(wanted, slot)
		}
		out = append(out, c)
	}
	takes := p.spares(wanted, w.Lose)
	for i := range out {
		c := &out[i]
		if c.Says != "" {
			continue
		}
		m, group, _ := p.Slot(c.Slot)
		spare, tooSmall := takes[c.Slot], p.nearest(c.Slot, w.Lose)
		g := p.group(group)
		switch {
		case spare != nil:
			c.By, c.Has, c.Fits, c.Says = spare.Slot, spare.Size, true, fmt.Sprintf(
				"the spare %s takes its place",
				spare.Slot,
			)
			q.Everyone(func(_ string, x *Member) {
				if x.Slot == c.Slot {
					x.State = Online
				}
				if x.Slot == c.By {
					x.State = Out
				}
			})
		case g.Heals:
			room := p.Room(w.Lose, 0)
			c.Needs, c.By, c.Has, c.Fits = m.Used, "others", room.Free, room.Fits
			c.Says = "its share is restored on the others"
			if !room.Fits {
				c.By, c.Says = "", "its share would be restored on the others, but "+room.Why
				break
			}
			q.Everyone(func(_ string, x *Member) {
				if x.Slot == c.Slot {
					x.State = Out
				}
			})
		case tooSmall != nil:
			c.Has, c.Says = tooSmall.Size, tooSmall.why
		default:
			c.Says = "nothing takes its place until a drive is put in"
		}
	}
	return out
}

// SpareFits says why a spare cannot take the place of the member at slot, according to the pool; empty when it can.
// Facts about the drives, such as sector size and medium, are not checked here.
func (p *Pool) SpareFits(slot string, spare *Member) string {
	m, _, ok := p.Slot(slot)
	size, sized := p.Fit(slot)
	switch {
	case !ok:
		return fmt.Sprintf("no member %s", slot)
	case !sized:
		return fmt.Sprintf("the size of %s is not known, so nothing is known to fit", slot)
	case spare.State != Standby:
		return fmt.Sprintf("the spare %s is %s", spare.Slot, spare.State)
	case spare.Domain != "" && m.Domain != "" && spare.Domain != m.Domain:
		return fmt.Sprintf("the spare %s is on another host, %s", spare.Slot, spare.Domain)
	}
	if why := size.Takes(spare.Size); why != "" {
		return fmt.Sprintf("the spare %s does not fit: %s", spare.Slot, why)
	}
	return ""
}

// spares assigns fitting spares to as many places as possible, the smallest that fits to each, so that a large one is
// left for a place that needs it (augmenting paths: Kuhn 1955).
func (p *Pool) spares(places, lost []string) map[string]*Member {
	var free []*Member
	for i := range p.Spares {
		if !slices.Contains(lost, p.Spares[i].Slot) {
			free = append(free, &p.Spares[i])
		}
	}
	slices.SortStableFunc(free, func(a, b *Member) int { return cmp.Compare(a.Size, b.Size) })
	by := make([]string, len(free)) // the place of each
	var give func(slot string, seen []bool) bool
	give = func(slot string, seen []bool) bool {
		for i, s := range free {
			if !seen[i] && p.SpareFits(slot, s) == "" {
				seen[i] = true
				if by[i] == "" || give(by[i], seen) {
					by[i] = slot
					return true
				}
			}
		}
		return false
	}
	for _, slot := range places {
		give(slot, make([]bool, len(free)))
	}
	out := map[string]*Member{}
	for i, slot := range by {
		if slot != "" {
			out[slot] = free[i]
		}
	}
	return out
}

// misfit is a spare that does not fit, and why.
type misfit struct {
	*Member
	why string
}

// nearest is the largest spare that does not fit a place, and why; nil when there is none.
func (p *Pool) nearest(slot string, lost []string) (best *misfit) {
	for i := range p.Spares {
		s := &p.Spares[i]
		if slices.Contains(lost, s.Slot) || s.State != Standby {
			continue
		}
		if why := p.SpareFits(slot, s); why != "" && (best == nil || s.Size > best.Size) {
			best = &misfit{s, why}
		}
	}
	return best
}

// nothingLeft reports whether everything on a group is lost.
func (w Prospect) nothingLeft(group string) bool {
	some := false
	for _, e := range w.Effects {
		if e.Group == group || e.Group == "" {
			if some = true; e.Outcome != Lost {
				return false
			}
		}
	}
	return some
}

func (p *Pool) isLog(slot string) bool {
	return slices.ContainsFunc(p.Logs, func(m Member) bool { return m.Slot == slot })
}

func (p *Pool) group(name string) Group {
	for _, g := range p.Groups {
		if g.Name == name {
			return g
		}
	}
	return Group{}
}
