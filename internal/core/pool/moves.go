package pool

import (
	"cmp"
	"fmt"
	"slices"

	"lantern/internal/core/drive"
)

// Change is one change of a group's drives: one is removed, added, or replaced by another.
type Change struct {
	Out string  // slot of the removed one; empty when none is removed
	In  *Member // the added one; nil when none is added
	// After is true when the new drive can be added only after the old one was removed, as when there is no free bay.
	After bool
}

// Words name a change.
func (c Change) Words() string {
	switch {
	case c.In == nil:
		return c.Out + " leaves"
	case c.Out == "":
		return c.In.Slot + " comes"
	}
	return c.In.Slot + " for " + c.Out
}

// Move is the number of bytes that move from one member to another.
type Move struct {
	From, To string
	Bytes    drive.Bytes
}

// MoveStep is one change of an order, with the data that it moves.
type MoveStep struct {
	Change int // its number among the given changes
	Words  string
	Bytes  drive.Bytes
	Moves  []Move
	// Margin is the pool's while the change is made; Known is false where that is not known.
	Margin Margin
	Known  bool
}

// MoveOrder is an order of changes.
type MoveOrder struct {
	Steps  []MoveStep
	Bytes  drive.Bytes // moved in all
	AsIs   drive.Bytes // bytes moved in the given order; 0 when that order is not possible
	Proven bool        // true: no other order moves less; false: the best of the orders examined
	Basis  string      // assumption behind the figures, a sentence
}

// exactStates is the number of states after which the search keeps only the best ones of each length; beam is how many
// it keeps.
const (
	exactStates = 60_000
	beam        = 600
)

// BestOrder finds the order of changes in a group that moves least data and loses none at any step: everything fits,
// and a member is removed only where it was drained before, the new drive is filled beside it, or the margin allows it.
// In a spread group, pieces are assumed to be spread in proportion to the members' sizes, with no two pieces of a
// stripe on one member or domain. The placement after some changes depends on which changes were made, not on their
// order, so the search goes over sets; equal changes count as one kind. The error says why there is no such order.
func (p *Pool) BestOrder(group string, changes []Change, limit float64) (MoveOrder, error) {
	g := p.group(group)
	if g.Name == "" && len(g.Members) == 0 {
		return MoveOrder{}, fmt.Errorf("%s has no group %q", p.Name, group)
	}
	if err := p.movable(&g, changes); err != nil {
		return MoveOrder{}, err
	}
	if !g.Spread {
		return p.eachForItself(&g, changes)
	}
	s := &search{p: p, g: g, changes: changes, limit: p.limitOf(limit), shares: map[string]*laid{}}
	s.sort()
	return s.run()
}

// movable reports a change that is impossible in any order.
func (p *Pool) movable(g *Group, changes []Change) error {
	if p.unsure(g.Members) {
		return fmt.Errorf(
			"the state of members of %s is not known, so taking one out may lose data",
			cmp.Or(g.Name, p.Name),
		)
	}
	leaves := map[string]bool{}
	for _, c := range changes {
		if c.In != nil && c.In.Size == 0 {
			return fmt.Errorf("the size of %s is not known", c.In.Slot)
		}
		if c.Out == "" {
			continue
		}
		m, in, ok := p.Slot(c.Out)
		switch {
		case !ok || in != g.Name:
			return fmt.Errorf("%s is not a member of %s", c.Out, g.Name)
		case leaves[c.Out]:
			return fmt.Errorf("%s is named in two changes: it can leave once", c.Out)
		}
		leaves[c.Out] = true
		// The data of a lost member is rebuilt from the others, or comes from itself when it is put back.
		if p.gone(&m) {
			if lost := p.lostWith(g, m.Slot); len(lost) > 0 {
				return fmt.Errorf(
					"%s is %s, and %s cannot be restored without it: put it back",
					c.Out,
					m.State,
					list(lost),
				)
			}
		}
	}
	return nil
}

// lostWith names the volumes that have lost data and have a piece on the member at slot.
func (p *Pool) lostWith(g *Group, slot string) (names []string) {
	for _, x := range (limits{p}).groupParts(g) {
		if x.known && x.margin < 0 {
			names = append(names, x.name)
		}
	}
	for i := range p.Volumes {
		v := &p.Volumes[i]
		holds := len(v.Extents) == 0 ||
			slices.ContainsFunc(v.Extents, func(e Extent) bool { return slices.Contains(e.Slots, slot) })
		if !holds {
			names = slices.DeleteFunc(names, func(n string) bool { return n == "volume "+v.Name })
		}
	}
	return names
}

// eachForItself is for groups in which only the new member is filled: the order does not change the amount of data.
// Lost members are replaced first, so that the margin is restored before the others.
func (p *Pool) eachForItself(g *Group, changes []Change) (out MoveOrder, err error) {
	out.Proven = true
	out.Basis = "Each new drive is filled before the next change begins, and no volume is lost or stopped at any step."
	order := make([]int, len(changes))
	for i := range order {
		order[i] = i
	}
	lostFirst := func(i int) int {
		if m, _, _ := p.Slot(changes[i].Out); p.gone(&m) {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(order, func(a, b int) int { return lostFirst(a) - lostFirst(b) })
	now := p.clone()
	for _, i := range order {
		c := changes[i]
		if c.In == nil || c.Out == "" {
			return MoveOrder{}, fmt.Errorf(
				"the stripes of %s are as wide as it has members: a drive can only be replaced there, not added "+
					"or removed",
				g.Name,
			)
		}
		m, _, _ := now.Slot(c.Out)
		size, known := now.Fit(c.Out)
		if !known {
			return MoveOrder{}, fmt.Errorf(
				"the size of %s is not known, so no drive is known to fit in its place",
				c.Out,
			)
		}
		size.Least = max(size.Least, m.Used)
		if why := size.Takes(c.In.Size); why != "" {
			return MoveOrder{}, fmt.Errorf("%s does not fit in the place of %s: %s", c.In.Slot, c.Out, why)
		}
		step := MoveStep{Change: i, Words: c.Words(), Bytes: m.Used}
		during := now
		from := c.Out
		switch lost := now.gone(&m); {
		case lost, c.After:
			if during = now.Losing(c.Out); !lost {
				if err := now.bears(&during, g, c.Out, c.In.Slot); err != nil {
					return MoveOrder{}, err
				}
			}
			from = "the others"
		case m.State == Out:
			from = "the others"
		}
		step.Margin, step.Known = during.Margin()
		step.Moves = []Move{{From: from, To: c.In.Slot, Bytes: m.Used}}
		out.Steps = append(out.Steps, step)
		out.Bytes += m.Used
		now.Everyone(func(_ string, x *Member) {
			if x.Slot == c.Out {
				x.State, x.Beside, x.Size = Online, "", c.In.Size
			}
		})
	}
	out.AsIs = out.Bytes
	return out, nil
}

// bears says why a member of a group cannot be absent for some time.
func (p *Pool) bears(without *Pool, g *Group, slot, in string) error {
	var lost, stopped []string
	for _, e := range p.effects(without) {
		if e.Group != "" && e.Group != g.Name || e.WasLost {
			continue
		}
		name := "volume " + e.Volume
		if e.Volume == "" {
			name = groupWords(e.Group)
		}
		switch e.Outcome {
		case Lost, Untold:
			lost = append(lost, name)
		case Unreachable:
			stopped = append(stopped, name)
		}
	}
	switch {
	case len(lost) > 0:
		return fmt.Errorf(
			"%s cannot leave before %s is filled: without it, %s would be lost. Use a free bay and fill the new "+
				"drive beside the old one",
			slot,
			in,
			list(lost),
		)
	case len(stopped) > 0:
		return fmt.Errorf("%s cannot leave before %s is filled: without it, %s would stop", slot, in, list(stopped))
	}
	return nil
}
