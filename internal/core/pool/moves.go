package pool

import (
	"cmp"
	"fmt"
	"slices"

	"lantern/internal/core/drive"
)

// Change is one change of a group's drives: one leaves, one comes, or one comes for another.
type Change struct {
	Out string  // slot of the one that leaves; empty when none does
	In  *Member // the one that comes; nil when none does
	// After is true when the new one can come only after the old one has left, as when there is no free bay.
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

// Move is how many bytes go from one member to another.
type Move struct {
	From, To string
	Bytes    drive.Bytes
}

// MoveStep is one change of an order, and what it moves.
type MoveStep struct {
	Change int // its number among the changes that were asked for
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
	AsIs   drive.Bytes // in the order in which they were given; 0 when that one does not hold
	Proven bool        // no other order moves less; else the best of those that were looked at
	Basis  string      // what the figures rest on, a sentence
}

// exactStates is how many states are looked at before the search keeps only the best of each length; beam is how many.
const (
	exactStates = 60_000
	beam        = 600
)

// BestOrder finds the order of changes in a group that moves least, and in which no data is lost at any step:
// everything fits, and a member is taken out only where it is drained before, filled beside, or can be missed. In a
// spread group pieces are taken to lie in proportion to the members' sizes, as a pool system that weighs them by size
// lays them, with no two pieces of a stripe on one member or domain. Where that is after some changes depends on which
// were made, not in which order, so the search goes over sets; changes that are alike count as one kind. It is an error
// when there is no such order; it says why.
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

// movable says which of the changes cannot be made in any order.
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
		// What a lost member held comes from the others, or from itself when it is put back.
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

// lostWith names what has lost data and has a piece on the member at slot.
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

// eachForItself is for groups in which nothing but the new member is filled: the order changes nothing about what
// moves. Members that are lost are replaced first, so that the margin is whole again for the others.
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

// bears says why a member of a group cannot be missed for a while.
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
