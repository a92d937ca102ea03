package pool

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

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

// BestOrder finds the order of changes in a group that moves least, and in which no data is lost at any step: everything fits, and a
// member is taken out only where it is drained before, filled beside, or can be missed. In a spread group pieces are taken
// to lie in proportion to the members' sizes, as a pool system that weighs them by size lays them, with no two pieces of a
// stripe on one member or domain. Where that is after some changes depends on which were made, not in which order, so the
// search goes over sets; changes that are alike count as one kind. It is an error when there is no such order; it says why.
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
		return fmt.Errorf("the state of members of %s is not known, so taking one out may lose data", cmp.Or(g.Name, p.Name))
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
				return fmt.Errorf("%s is %s, and %s cannot be restored without it: put it back", c.Out, m.State, list(lost))
			}
		}
	}
	return nil
}

// lostWith names what has lost data and has a piece on the member at slot.
func (p *Pool) lostWith(g *Group, slot string) (names []string) {
	for _, x := range p.groupParts(g) {
		if x.known && x.margin < 0 {
			names = append(names, x.name)
		}
	}
	for i := range p.Volumes {
		v := &p.Volumes[i]
		holds := len(v.Extents) == 0 || slices.ContainsFunc(v.Extents, func(e Extent) bool { return slices.Contains(e.Slots, slot) })
		if !holds {
			names = slices.DeleteFunc(names, func(n string) bool { return n == "volume "+v.Name })
		}
	}
	return names
}

// eachForItself is for groups in which nothing but the new member is filled: the order changes nothing about what moves. Members that
// are lost are replaced first, so that the margin is whole again for the others.
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
			return MoveOrder{}, fmt.Errorf("the stripes of %s are as wide as it has members: a drive can only be replaced there, not added or removed", g.Name)
		}
		m, _, _ := now.Slot(c.Out)
		size, known := now.Fit(c.Out)
		if !known {
			return MoveOrder{}, fmt.Errorf("the size of %s is not known, so no drive is known to fit in its place", c.Out)
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
			name = "group " + e.Group
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
		return fmt.Errorf("%s cannot leave before %s is filled: without it, %s would be lost. Use a free bay and fill the new drive beside the old one", slot, in, list(lost))
	case len(stopped) > 0:
		return fmt.Errorf("%s cannot leave before %s is filled: without it, %s would stop", slot, in, list(stopped))
	}
	return nil
}

// laid is how much lies on each place, those that are and those that come, once some changes are made.
type laid struct {
	on    []float64
	whole bool // everything has found room
}

type search struct {
	p       *Pool
	g       Group
	changes []Change
	limit   float64
	kinds   [][]int  // changes that are alike, by their numbers
	slots   []string // of all members, those that come last
	all     []Member
	shares  map[string]*laid
}

// sort puts changes that are alike together.
func (s *search) sort() {
	for _, m := range s.g.Members {
		s.slots, s.all = append(s.slots, m.Slot), append(s.all, m)
	}
	at := map[string]int{}
	for i, c := range s.changes {
		if c.In != nil {
			s.slots, s.all = append(s.slots, c.In.Slot), append(s.all, *c.In)
		}
		key := fmt.Sprint(c.After)
		if m, _, ok := s.p.Slot(c.Out); ok {
			key += fmt.Sprintf(" out %s %d %s %v", m.Domain, m.Size, m.Log, m.Lost())
		}
		if c.In != nil {
			key += fmt.Sprintf(" in %s %d", c.In.Domain, c.In.Size)
		}
		k, ok := at[key]
		if !ok {
			k = len(s.kinds)
			at[key] = k
			s.kinds = append(s.kinds, nil)
		}
		s.kinds[k] = append(s.kinds[k], i)
	}
}

// at is how everything lies after so many changes of each kind; half is one of which only the first part, the leaving,
// was done: -1 for none.
func (s *search) at(done []int, half int) *laid {
	key := keyOf(done) + "/" + strconv.Itoa(half)
	if l := s.shares[key]; l != nil {
		return l
	}
	there := make([]bool, len(s.all))
	for i, m := range s.g.Members {
		there[i] = !s.p.gone(&m) && m.State != Out
	}
	leaves := func(c int) {
		for i, m := range s.g.Members {
			there[i] = there[i] && m.Slot != s.changes[c].Out
		}
	}
	for k, n := range done {
		for _, c := range s.kinds[k][:n] {
			leaves(c)
			if s.changes[c].In != nil {
				there[s.place(c)] = true
			}
		}
	}
	if half >= 0 {
		leaves(half)
	}
	l := &laid{}
	l.on, l.whole = s.p.lay(&s.g, s.all, there, s.limit)
	s.shares[key] = l
	return l
}

// place is where, among all, the one is that comes with a change.
func (s *search) place(change int) int {
	at := len(s.g.Members)
	for _, c := range s.changes[:change] {
		if c.In != nil {
			at++
		}
	}
	return at
}

// keyOf is a name for how many changes of each kind were made.
func keyOf(done []int) string {
	b := make([]byte, len(done))
	for i, n := range done {
		b[i] = byte(n)
	}
	return string(b)
}

// lay spreads what the volumes lay on a group over those of all members that are there, by their sizes.
func (p *Pool) lay(g *Group, all []Member, there []bool, limit float64) (on []float64, whole bool) {
	on, whole = make([]float64, len(all)), true
	left := 0
	for _, yes := range there {
		if yes {
			left++
		}
	}
	for _, l := range p.loads(g, left) {
		var names []string // of the places: domains, or members
		var sizes []float64
		at := make([]int, len(all))
		for i, m := range all {
			if !there[i] {
				continue
			}
			name := m.Domain
			if !l.domains {
				name = strconv.Itoa(i)
			}
			if at[i] = slices.Index(names, name); at[i] < 0 {
				at[i] = len(names)
				names, sizes = append(names, name), append(sizes, 0)
			}
			sizes[at[i]] += float64(m.Size)
		}
		most := l.y
		if l.domains {
			most *= float64(l.each)
		}
		amounts, every := pour(sizes, l.y*float64(l.width), most)
		whole = whole && every
		for i, m := range all {
			if there[i] && sizes[at[i]] > 0 {
				on[i] += amounts[at[i]] * float64(m.Size) / sizes[at[i]]
			}
		}
	}
	for i, m := range all {
		whole = whole && on[i] <= limit*float64(m.Size)+1
	}
	return on, whole
}

// pour spreads an amount over places in proportion to their sizes, with at most y in each.
func pour(sizes []float64, amount, y float64) (out []float64, all bool) {
	out = make([]float64, len(sizes))
	open := 0.0
	for _, s := range sizes {
		open += s
	}
	full := make([]bool, len(sizes))
	for amount > 1e-6 && open > 0 {
		level := amount / open
		over := false
		for i, s := range sizes {
			if !full[i] && s*level > y {
				full[i], out[i] = true, y
				amount -= y
				open -= s
				over = true
			}
		}
		if over {
			continue
		}
		for i, s := range sizes {
			if !full[i] {
				out[i] = s * level
			}
		}
		return out, true
	}
	return out, amount <= 1e-6
}

// cost is how many bytes a change moves, going from one state to the next; ok is false when something does not fit on
// the way.
func (s *search) cost(done []int, kind int) (bytes float64, next []int, ok bool) {
	c := s.kinds[kind][done[kind]]
	next = slices.Clone(done)
	next[kind]++
	from, to := s.at(done, -1), s.at(next, -1)
	if !to.whole {
		return 0, next, false
	}
	if s.changes[c].After && s.changes[c].Out != "" && s.changes[c].In != nil {
		between := s.at(done, c)
		return moved(from.on, between.on) + moved(between.on, to.on), next, between.whole
	}
	return moved(from.on, to.on), next, true
}

func moved(from, to []float64) (sum float64) {
	for i, n := range to {
		sum += max(0, n-from[i])
	}
	return sum
}

// reached is a state, how it was reached, and at what cost.
type reached struct {
	done  []int
	bytes float64
	way   []int // kinds, in order
}

func (s *search) run() (MoveOrder, error) {
	states := 1
	for _, k := range s.kinds {
		states = min(states*(len(k)+1), exactStates+1)
	}
	exact := states <= exactStates
	level := []reached{{done: make([]int, len(s.kinds))}}
	for range s.changes {
		best := map[string]reached{}
		for _, r := range level {
			for k := range s.kinds {
				if r.done[k] == len(s.kinds[k]) {
					continue
				}
				bytes, next, ok := s.cost(r.done, k)
				if !ok {
					continue
				}
				key := keyOf(next)
				if was, ok := best[key]; !ok || r.bytes+bytes < was.bytes-1 {
					best[key] = reached{next, r.bytes + bytes, append(slices.Clip(r.way), k)}
				}
			}
		}
		if len(best) == 0 {
			return MoveOrder{}, fmt.Errorf("there is no order in which these changes can be made: at some step, what lies on %s would not fit within its failure domains and a fullness of %.0f %%", s.g.Name, 100*s.limit)
		}
		level = level[:0]
		for _, r := range best {
			level = append(level, r)
		}
		slices.SortFunc(level, func(a, b reached) int {
			return cmp.Or(cmp.Compare(a.bytes, b.bytes), slices.Compare(a.way, b.way))
		})
		if !exact && len(level) > beam {
			level = level[:beam]
		}
	}
	out := MoveOrder{Proven: exact, Basis: "Reckoned: pieces lie in proportion to the members' sizes, what leaves is drained first, and everything fits at every step."}
	margin, known := s.p.Margin()
	done := make([]int, len(s.kinds))
	for _, k := range level[0].way {
		c := s.kinds[k][done[k]]
		bytes, next, _ := s.cost(done, k)
		step := MoveStep{Change: c, Words: s.changes[c].Words(), Bytes: drive.Bytes(bytes), Margin: margin, Known: known}
		from, to := s.at(done, -1), s.at(next, -1)
		if between := s.at(done, c); s.changes[c].After && s.changes[c].Out != "" && s.changes[c].In != nil {
			step.Moves = append(s.pairs(from.on, between.on), s.pairs(between.on, to.on)...)
		} else {
			step.Moves = s.pairs(from.on, to.on)
		}
		out.Steps = append(out.Steps, step)
		out.Bytes += step.Bytes
		done = next
	}
	out.AsIs = s.asGiven()
	return out, nil
}

// asGiven is what the order moves in which the changes were asked for.
func (s *search) asGiven() drive.Bytes {
	total := 0.0
	done := make([]int, len(s.kinds))
	for i := range s.changes {
		// Those that are alike are interchangeable, so it is their kind that counts.
		k := slices.IndexFunc(s.kinds, func(kind []int) bool { return slices.Contains(kind, i) })
		bytes, next, ok := s.cost(done, k)
		if !ok {
			return 0
		}
		total, done = total+bytes, next
	}
	return drive.Bytes(total)
}

// pairs tells from where what each member gains may come.
func (s *search) pairs(from, to []float64) (out []Move) {
	type change struct {
		slot  string
		bytes float64
	}
	var give, take []change
	for i, slot := range s.slots {
		if d := to[i] - from[i]; d > 0.5 {
			take = append(take, change{slot, d})
		} else if d < -0.5 {
			give = append(give, change{slot, -d})
		}
	}
	order := func(a, b change) int { return cmp.Or(-cmp.Compare(a.bytes, b.bytes), strings.Compare(a.slot, b.slot)) }
	slices.SortFunc(give, order)
	slices.SortFunc(take, order)
	for i, j := 0, 0; i < len(give) && j < len(take); {
		n := math.Min(give[i].bytes, take[j].bytes)
		if n >= 0.5 {
			out = append(out, Move{give[i].slot, take[j].slot, drive.Bytes(n)})
		}
		if give[i].bytes -= n; give[i].bytes < 0.5 {
			i++
		}
		if take[j].bytes -= n; take[j].bytes < 0.5 {
			j++
		}
	}
	return out
}
