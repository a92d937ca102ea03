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

// laid is the amount of data on each present and future place after some changes.
type laid struct {
	on    []float64
	whole bool // everything fits
}

type search struct {
	p       *Pool
	g       Group
	changes []Change
	limit   float64
	kinds   [][]int  // equal changes, by their numbers
	slots   []string // of all members, added ones last
	all     []Member
	shares  map[string]*laid
}

// sort groups equal changes.
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

// at gives the placement after a number of changes of each kind; half is a change of which only the removal was done,
// -1 for none.
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

// place is the index, among all members, of the one that a change adds.
func (s *search) place(change int) int {
	at := len(s.g.Members)
	for _, c := range s.changes[:change] {
		if c.In != nil {
			at++
		}
	}
	return at
}

// keyOf is a key for the number of changes of each kind.
func keyOf(done []int) string {
	b := make([]byte, len(done))
	for i, n := range done {
		b[i] = byte(n)
	}
	return string(b)
}

// lay spreads the data of the volumes of a group over the present members by their sizes.
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

// cost is the number of bytes that a change moves from one state to the next; ok is false when something does not fit
// meanwhile.
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

// reached is a state with the path to it and its cost.
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
			return MoveOrder{}, fmt.Errorf(
				"no order in which these changes can be made: at some step, what is on %s would not "+
					"fit within its failure domains and a fullness of %.0f %%",
				s.g.Name,
				100*s.limit,
			)
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
	out := MoveOrder{
		Proven: exact,
		Basis: "Estimate: pieces are placed in proportion to the members' sizes, what leaves is drained first, and " +
			"everything fits at every step.",
	}
	margin, known := s.p.Margin()
	done := make([]int, len(s.kinds))
	for _, k := range level[0].way {
		c := s.kinds[k][done[k]]
		bytes, next, _ := s.cost(done, k)
		step := MoveStep{
			Change: c,
			Words:  s.changes[c].Words(),
			Bytes:  drive.Bytes(bytes),
			Margin: margin,
			Known:  known,
		}
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

// asGiven is the number of bytes moved in the given order.
func (s *search) asGiven() drive.Bytes {
	total := 0.0
	done := make([]int, len(s.kinds))
	for i := range s.changes {
		// Equal changes are interchangeable, so only their kind counts.
		k := slices.IndexFunc(s.kinds, func(kind []int) bool { return slices.Contains(kind, i) })
		bytes, next, ok := s.cost(done, k)
		if !ok {
			return 0
		}
		total, done = total+bytes, next
	}
	return drive.Bytes(total)
}

// pairs gives the possible sources of the data that each member gains.
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
