package pool

import (
	"fmt"
	"slices"
	"strings"

	"lantern/internal/core/drive"
)

// Outcome is what becomes of a volume when members are lost.
type Outcome string

// In order of gravity. Unreachable means that nothing is lost, and that it is not served until something was restored.
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

// Effect is what becomes of one volume, or of a group of which no volume is told.
type Effect struct {
	Volume  string // empty when it speaks of a group as a whole
	Group   string
	Words   string // its protection
	Used    drive.Bytes
	Was, Is Margin
	Outcome Outcome
}

// Comeback is how one lost member's share is restored, if it is.
type Comeback struct {
	Slot  string
	By    string // slot of the spare that takes its place, "others" when its share moves to other members; empty: by nobody
	Needs drive.Bytes
	Has   drive.Bytes // of the spare, or room on the others together
	Fits  bool
	Says  string
}

// Prospect answers what happens when members are lost.
type Prospect struct {
	Lose      []string // slots, with those that depend on them
	Along     []string // those of them that were not named: they depend on a log device that was
	Was, Is   Margin
	Known     bool
	Effects   []Effect
	Comebacks []Comeback
	// Healed is the margin once all that comes back by itself has; equal to Is when nothing does.
	Healed Margin
}

// Worst is the gravest outcome of all.
func (w Prospect) Worst() Outcome {
	worst := Safe
	for _, e := range w.Effects {
		if e.Outcome.Gravity() > worst.Gravity() {
			worst = e.Outcome
		}
	}
	return worst
}

// Places turns what people name into slots: a slot, a drive's key, or a failure domain, which stands for all in it.
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
			return nil, fmt.Errorf("%s has no member %q; its members are %s", p.Name, name, strings.Join(p.slots(12), ", "))
		}
		for _, s := range found {
			if !slices.Contains(slots, s) {
				slots = append(slots, s)
			}
		}
	}
	return slots, nil
}

// slots names up to n of its members.
func (p *Pool) slots(n int) (out []string) {
	p.Everyone(func(_ string, m *Member) { out = append(out, m.Slot) })
	if len(out) > n {
		out = append(out[:n:n], "and others")
	}
	return out
}

// taking is slots with all members that depend on log devices among them.
func (p *Pool) taking(slots []string) (all, along []string) {
	all = slices.Clone(slots)
	p.Everyone(func(_ string, m *Member) {
		if m.Log != "" && slices.Contains(slots, m.Log) && !slices.Contains(all, m.Slot) {
			all, along = append(all, m.Slot), append(along, m.Slot)
		}
	})
	return all, along
}

// WhatIf says what happens when the members at slots are lost, all at once.
func (p *Pool) WhatIf(slots []string) Prospect {
	w := Prospect{}
	w.Lose, w.Along = p.taking(slots)
	after := p.With(Missing, w.Lose...)
	w.Was, w.Known = p.Margin()
	w.Is, _ = after.Margin()
	if !w.Known {
		w.Was, w.Is = 0, 0
	}
	w.Effects = p.effects(&after)
	healed := after.clone()
	w.Comebacks = p.comebacks(&healed, w)
	w.Healed, _ = healed.Margin()
	switch {
	case !w.Known:
		w.Healed = 0
	case w.Is < 0:
		w.Healed = w.Is // what is lost does not come back
	}
	return w
}

// effects compares every volume, and every group that no volume speaks for, before and after.
func (p *Pool) effects(after *Pool) (out []Effect) {
	spoken := map[string]bool{}
	for i, v := range p.Volumes {
		e := Effect{Volume: v.Name, Group: v.Group, Words: v.Protect.Words, Used: v.Used}
		var known bool
		if e.Was, known = p.VolumeMargin(v); known {
			e.Is, known = after.VolumeMargin(after.Volumes[i])
		}
		stops, lower := false, false
		for j, g := range after.Groups {
			if v.Group == "" || v.Group == g.Name {
				spoken[g.Name] = true
				stops = stops || after.stopped(g, v)
				lower = lower || known && p.lowers(p.Groups[j], g, v)
			}
		}
		e.judge(known, stops, lower)
		out = append(out, e)
	}
	for i, g := range p.Groups {
		if spoken[g.Name] || g.Protect.None {
			continue
		}
		e := Effect{Group: g.Name, Words: g.Protect.Words}
		var known bool
		if e.Was, known = p.GroupMargin(g); known {
			e.Is, known = after.GroupMargin(after.Groups[i])
		}
		e.judge(known, after.stopped(after.Groups[i], Volume{}), false)
		out = append(out, e)
	}
	return out
}

// lowers says whether some part of a volume has less margin than before, though the least of all may be what it was: where
// one group was weak already, another that becomes as weak is no less a loss.
func (p *Pool) lowers(before, after Group, v Volume) bool {
	for _, x := range v.Extents {
		for i, m := range after.Members {
			if m.Lost() && !before.Members[i].Lost() && slices.Contains(x.Slots, m.Slot) {
				return true
			}
		}
	}
	return p.onGroup(after, v) < p.onGroup(before, v)
}

func (e *Effect) judge(known, stops, lower bool) {
	switch {
	case !known:
		e.Outcome, e.Was, e.Is = Untold, 0, 0
	case e.Is < 0:
		e.Outcome = Lost
	case stops:
		e.Outcome = Unreachable
	case e.Is < e.Was || lower:
		e.Outcome = Reduced
	default:
		e.Outcome = Safe
	}
}

// stopped says whether a volume's protection on a group has lost so much that it is not served.
func (p *Pool) stopped(g Group, v Volume) bool {
	pr := v.Protect
	if v.Group == "" {
		pr = g.Protect
	}
	if len(v.Extents) > 0 {
		return pr.StopsAt > 0 && slices.ContainsFunc(v.Extents, func(e Extent) bool {
			return units(g.holding(e), Protection{}, Member.Lost) >= pr.StopsAt
		})
	}
	return pr.StopsAt > 0 && units(g, pr, Member.Lost) >= pr.StopsAt
}

// comebacks says how each of the lost comes back by itself, and makes it so in q: spares first, each for one; then where
// the pool system restores shares on others, those, if there is room for all of them.
func (p *Pool) comebacks(q *Pool, w Prospect) (out []Comeback) {
	lost := w.Lose
	taken := map[string]bool{}
	for _, slot := range lost {
		m, group, ok := p.Slot(slot)
		if !ok || group == "" && !p.isLog(slot) || m.Lost() || m.State == Out {
			continue // a spare, or one that was lost before: nothing more is asked for it
		}
		c := Comeback{Slot: slot, Needs: max(m.Needs, m.Used)}
		if group == "" {
			c.Says = "a log device does not come back by itself; the members that depend on it do not either"
			out = append(out, c)
			continue
		}
		if w.nothingLeft(group) {
			c.Says = "what was on it is lost: it comes back from a backup only"
			out = append(out, c)
			continue
		}
		for _, s := range p.Spares {
			if s.State != Standby || taken[s.Slot] || slices.Contains(lost, s.Slot) {
				continue
			}
			if s.Size < m.Needs {
				c.Has, c.Says = max(c.Has, s.Size), fmt.Sprintf("the spare %s is too small for it", s.Slot)
				continue
			}
			taken[s.Slot] = true
			c.By, c.Has, c.Fits, c.Says = s.Slot, s.Size, true, fmt.Sprintf("the spare %s takes its place", s.Slot)
			break
		}
		g := p.group(group)
		switch {
		case c.By != "":
			q.Everyone(func(_ string, x *Member) {
				if x.Slot == slot {
					x.State = Online
				}
				if x.Slot == c.By {
					x.State = Out
				}
			})
		case g.Heals:
			room := p.Room(lost, 0)
			c.Needs, c.By, c.Has, c.Fits = m.Used, "others", room.Free, room.Fits
			c.Says = "its share is restored on the others"
			if !room.Fits {
				c.By, c.Says = "", "its share would be restored on the others, but "+room.Why
				break
			}
			q.Everyone(func(_ string, x *Member) {
				if x.Slot == slot {
					x.State = Out
				}
			})
		case c.Says == "":
			c.Says = "nothing takes its place until a drive is put in"
		}
		out = append(out, c)
	}
	return out
}

// nothingLeft says whether everything that lies on a group is lost.
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

// MostSets is how many sets of lost members Survives looks at; more would take too long.
const MostSets = 500_000

// Endurance says what becomes of a pool for every set of n lost members.
type Endurance struct {
	N    int
	Sets int
	Of   map[Outcome]int // how many sets have this for their worst outcome
	// Worst are some of the gravest sets, and which volumes each loses or makes unreachable.
	Worst []WorstSet
}

// WorstSet is one of the gravest sets of lost members.
type WorstSet struct {
	Lose    []string
	Outcome Outcome
	Volumes []string
}

// Survives looks at every set of n of the members that are there now, log devices among them, spares not.
func (p *Pool) Survives(n int) (Endurance, error) {
	var there []string
	p.Everyone(func(group string, m *Member) {
		if (group != "" || p.isLog(m.Slot)) && !m.Lost() && m.State != Out {
			there = append(there, m.Slot)
		}
	})
	if n < 1 || n > len(there) {
		return Endurance{}, fmt.Errorf("%s has %d members that can be lost: ask for 1 to %d", p.Name, len(there), len(there))
	}
	sets := 1
	for i := range n {
		if sets = sets * (len(there) - i) / (i + 1); sets > MostSets {
			return Endurance{}, fmt.Errorf("there are more than %d sets of %d among %d members: ask for fewer", MostSets, n, len(there))
		}
	}
	out := Endurance{N: n, Of: map[Outcome]int{}}
	const shown = 5
	chosen := make([]string, 0, n)
	var try func(from int)
	try = func(from int) {
		if len(chosen) == n {
			all, _ := p.taking(chosen)
			after := p.With(Missing, all...)
			effects := p.effects(&after)
			w := Prospect{Effects: effects}.Worst()
			out.Sets++
			out.Of[w]++
			if w.Gravity() < Unreachable.Gravity() {
				return
			}
			if len(out.Worst) < shown || out.Worst[shown-1].Outcome.Gravity() < w.Gravity() {
				set := WorstSet{Lose: slices.Clone(chosen), Outcome: w}
				for _, e := range effects {
					if e.Outcome == w {
						set.Volumes = append(set.Volumes, strings.TrimSpace(e.Volume+" "+map[bool]string{true: e.Group}[e.Volume == ""]))
					}
				}
				out.Worst = append(out.Worst, set)
				slices.SortStableFunc(out.Worst, func(a, b WorstSet) int { return b.Outcome.Gravity() - a.Outcome.Gravity() })
				out.Worst = out.Worst[:min(shown, len(out.Worst))]
			}
			return
		}
		for i := from; i <= len(there)-(n-len(chosen)); i++ {
			chosen = append(chosen, there[i])
			try(i + 1)
			chosen = chosen[:len(chosen)-1]
		}
	}
	try(0)
	return out, nil
}
