package main

import (
	"errors"
	"fmt"
	"slices"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/swap"
)

// The drives: the old one, other members, a new one that fits, one that is too small, one that somebody's data lie on.
const (
	old = iota
	newDrive
	small
	taken
	firstOther
	most = firstOther + 3
)

// kind is a small pool and what may befall it.
type kind struct {
	name      string
	others    int // members beside the old one
	tolerance int
	dead      bool  // the old one has vanished already
	fails     int8  // how many further drives may fail
	orders    int   // how often a person tries again, so that numbers do not grow for ever
	table     []int // drives beside the new one that lie at hand
}

func kinds() []kind {
	return []kind{
		{name: "two-way mirror, a drive may fail", others: 1, tolerance: 1, fails: 1, orders: 2},
		{name: "the same, the old one gone", others: 1, tolerance: 1, dead: true, fails: 1, orders: 2},
		{name: "two-way mirror, a small drive at hand", others: 1, tolerance: 1, orders: 2, table: []int{small}},
		{name: "the same with a taken drive, the old one gone", others: 1, tolerance: 1, dead: true, orders: 2, table: []int{taken}},
		{name: "three-way mirror, the old one gone", others: 2, tolerance: 2, dead: true, orders: 1},
		{name: "single parity of three, the old one gone", others: 2, tolerance: 1, dead: true, orders: 1},
	}
}

type memberState int8

const (
	online memberState = iota
	missing
	recovering
	faulty
)

// world is how everything really is, and what is on its way.
type world struct {
	at      [most]int8 // bay of each drive; -1: on the table
	fills   [4]int8    // drive at each place
	st      [4]memberState
	done    int8 // how far the filling of place 0 is: 0, 1, 2 is all
	fails   int8
	lost    bool // data is not all there any more
	seen    [most]bool
	fresh   bool // what was reported last is how it is
	up      bool // the agent runs
	pending int8 // number of the order that waits for the agent
	begun   int8 // number of the newest that it began
	outcome int8 // number of an outcome on its way
	well    bool // and whether it says done
}

// node is a world and what the service makes of it.
type node struct {
	w world
	s swap.State
}

func (k kind) id(d int) drive.Identity {
	tails := [most]string{"OLD01", "NEW02", "SML03", "HLD04", "OTH05", "OTH06", "OTH07"}
	return drive.Identity{Model: "VELDRUN VR4-4000", Serial: "VR7" + tails[d]}
}

func (k kind) drive(d int, bay int8) swap.Drive {
	out := swap.Drive{Identity: k.id(d), Capacity: 4000, Bay: fmt.Sprintf("h/f/%d", bay+1)}
	switch d {
	case small:
		out.Capacity = 3999
	case taken:
		out.Holds = "somebody"
	}
	if d >= firstOther {
		out.Member = "p"
	}
	return out
}

// start is before the plan, everything seen as it is.
func (k kind) start() node {
	n := node{w: world{fails: k.fails, up: true, fresh: true}}
	for d := range n.w.at {
		n.w.at[d] = -1
	}
	for i := range n.w.fills {
		n.w.fills[i] = -1
	}
	for _, d := range []int{small, taken} {
		if !slices.Contains(k.table, d) {
			n.w.at[d] = -2 // not at hand
		}
	}
	n.w.fills[0] = old
	n.w.at[old] = 0
	for i := range k.others {
		n.w.fills[i+1] = int8(firstOther + i)
		n.w.at[firstOther+i] = int8(i + 1)
	}
	if k.dead {
		n.w.at[old], n.w.st[0] = -2, missing // gone for good
	}
	for d, at := range n.w.at {
		n.w.seen[d] = at >= 0
	}
	plan := swap.State{ID: "s", Pool: "p", PoolID: "p", Slot: "0", Host: "h", Old: k.drive(old, 0), OldGone: k.dead, Needs: 4000, Margin: k.margin(n.w)}
	if k.dead {
		plan.Margin = pool.Margin(k.tolerance) // what it was before
	}
	n.s, _, _ = swap.Apply(n.s, swap.Event{Kind: swap.PlanIt, By: "ida", Plan: &plan})
	return n
}

func (k kind) places() int { return k.others + 1 }

// gone counts the places that carry nothing.
func (k kind) gone(w world) (n int) {
	for i := range k.places() {
		if w.st[i] != online {
			n++
		}
	}
	return n
}

func (k kind) margin(w world) pool.Margin { return pool.Margin(k.tolerance - k.gone(w)) }

// pool is the pool as the checks look at it.
func (k kind) pool(w world) *pool.Pool {
	p := &pool.Pool{ID: "p", Name: "p", Groups: []pool.Group{{Name: "g", Protect: pool.Protection{Tolerance: k.tolerance}}}}
	for i := range k.places() {
		st := []pool.MemberState{pool.Online, pool.Missing, pool.Recovering, pool.Faulty}[w.st[i]]
		p.Groups[0].Members = append(p.Groups[0].Members, pool.Member{Slot: fmt.Sprint(i), State: st})
	}
	return p
}

// next is one step: what happened, and what came of it.
type next struct {
	name string
	node node
}

// settle marks what is lost now, and that nobody has been told of it.
func (k kind) settle(w world) world {
	w.lost = w.lost || k.gone(w) > k.tolerance
	w.fresh = false
	return w
}

// steps are all that can happen next. An error is a rule that does not hold.
func (k kind) steps(n node) (out []next, err error) {
	take := func(name string, w world, events ...swap.Event) {
		if err != nil {
			return
		}
		to := node{w, n.s}
		for _, e := range events {
			if err = k.apply(&to, e); err != nil {
				err = fmt.Errorf("%s: %w", name, err)
				return
			}
		}
		out = append(out, next{name, to})
	}
	w := n.w
	open := n.s.Phase.Open()

	// What persons do at a screen.
	if open {
		checks := swap.Checks(swap.Situation{Plan: n.s, Pool: k.pool(w), BayKnown: true, ScrubClean: true, Recovery: map[bool]string{true: "resilver"}[w.st[0] == recovering]})
		if n.s.Phase == swap.Planned && w.fresh {
			take("begin", w, swap.Event{Kind: swap.BeginIt, By: "ida", Reason: "so", Checks: checks})
		}
		take("abandon", w, swap.Event{Kind: swap.AbandonIt, By: "ida", Reason: "so"})
		for _, d := range append([]int{newDrive, old}, k.table...) {
			take("confirm "+k.id(d).Tail(), w, swap.Event{Kind: swap.ConfirmIt, By: "ida", Tail: k.id(d).Tail()})
		}
	}
	// What hands do.
	for d, at := range w.at {
		if at < 0 {
			continue
		}
		v := w
		v.at[d] = -1
		for i := range k.places() {
			if int(w.fills[i]) == d && w.st[i] != faulty {
				v.st[i] = missing
			}
		}
		v = k.settle(v)
		if d == old && n.s.Phase == swap.Pull && n.s.Hold == "" && len(n.s.Wrong) == 0 && w.fresh {
			if v.lost && !w.lost {
				return nil, errors.New("R1: the old drive was pulled as the screen said, and data is lost")
			}
			if w.st[0] == recovering {
				return nil, errors.New("R4: the old drive was to be pulled while the pool recovers")
			}
		}
		take("pull "+k.id(d).Tail(), v)
	}
	for d, at := range w.at {
		if at != -1 {
			continue
		}
		bay := int8(0)
		if d >= firstOther {
			if d-firstOther >= k.others {
				continue
			}
			bay = int8(d - firstOther + 1)
		}
		occupied := false
		for _, x := range w.at {
			occupied = occupied || x == bay
		}
		if occupied {
			continue
		}
		v := w
		v.at[d] = bay
		for i := range k.places() {
			if int(w.fills[i]) == d && w.st[i] == missing {
				v.st[i] = online
				if d == newDrive && w.done < 2 {
					v.st[i] = recovering
				}
			}
		}
		take("insert "+k.id(d).Tail(), k.settle(v))
	}
	// What befalls drives and pools.
	if w.st[0] == recovering && w.at[newDrive] >= 0 {
		v := w
		if v.done++; v.done == 2 {
			v.st[0] = online
		}
		take("the recovery goes on", k.settle(v))
	}
	for i := range k.places() {
		if w.fails > 0 && (w.st[i] == online || w.st[i] == recovering) && int(w.fills[i]) != old {
			v := w
			v.st[i] = faulty
			v.fails--
			take(fmt.Sprintf("the drive at place %d fails", i), k.settle(v))
		}
	}
	// The agent, and what is on its way.
	if !w.up {
		v := w
		v.up = true
		if v.pending != 0 && v.pending <= v.begun {
			v.pending, v.outcome, v.well = 0, v.begun, false // it does not know what came of it, and never begins it again
		}
		take("the agent is started", v)
	} else {
		v := w
		v.up = false
		take("the agent stops", v)
		events := k.report(w)
		v = w
		v.fresh = true
		for d, at := range w.at {
			v.seen[d] = at >= 0
		}
		take("a report", v, events...)
		take("a report, heard twice", v, append(events, events[len(events)-1])...)
		if w.pending > w.begun {
			v = k.join(w)
			take("the order is carried out", v)
			v.outcome, v.up = 0, false
			v.pending = w.pending
			take("the order is carried out, and the agent stops", v)
			v = w
			v.begun, v.up = w.pending, false
			take("the order is begun, and the agent stops", v)
		}
	}
	if w.outcome != 0 {
		done := swap.Event{Kind: swap.OrderDone, Order: int(w.outcome), Done: w.well, Outcome: "so"}
		v := w
		v.outcome = 0
		take("an outcome comes", v, done)
		take("an outcome comes, and comes again", w, done)
		take("an outcome is lost", v)
	}
	if n.s.Ordered {
		v := w
		v.pending = 0
		take("the order's time is over", v, swap.Event{Kind: swap.OrderDone, Order: n.s.Order, Outcome: "it did not answer"})
	}
	return out, err
}

// join is what an agent does with an order: it finds the drive by its identity, and does nothing on any difference.
func (k kind) join(w world) world {
	w.begun, w.outcome, w.well = w.pending, w.pending, false
	w.pending = 0
	if w.at[newDrive] < 0 || w.st[0] == online || w.st[0] == recovering {
		return w // refused
	}
	w.fills[0], w.st[0], w.done, w.well = newDrive, recovering, 0, true
	return k.settle(w)
}

// report is what the service makes of one: who went, who came, how the pool is.
func (k kind) report(w world) (out []swap.Event) {
	for d, at := range w.at {
		dr := k.drive(d, max(at, 0))
		if d >= firstOther {
			dr.Bay = fmt.Sprintf("h/f/%d", d-firstOther+2)
		}
		switch {
		case w.seen[d] && at < 0:
			out = append(out, swap.Event{Kind: swap.DriveGone, Drive: &dr, Margin: k.margin(w)})
		case !w.seen[d] && at >= 0:
			out = append(out, swap.Event{Kind: swap.DriveCame, Drive: &dr})
		}
	}
	without := w
	without.st[0] = missing
	v := &swap.PoolView{Member: []pool.MemberState{pool.Online, pool.Missing, pool.Recovering, pool.Faulty}[w.st[0]], Drive: k.id(int(w.fills[0])).Key(), MarginKnown: true,
		Without: k.margin(without), Recovering: w.st[0] == recovering, Recovery: map[bool]string{true: "r"}[w.fills[0] == newDrive], NewVerdict: "sound"}
	return append(out, swap.Event{Kind: swap.PoolSeen, Pool: v, Margin: k.margin(w)})
}

// apply gives an event to the swap and looks whether the rules hold.
func (k kind) apply(n *node, e swap.Event) error {
	before := n.s
	after, orders, refused := swap.Apply(before, e)
	after.Log = nil
	if refused != nil && key(node{n.w, after}) != key(node{n.w, before}) {
		return errors.New("a refusal changed something")
	}
	for _, o := range orders {
		if o.Kind != swap.OrderJoin {
			continue
		}
		switch {
		case len(before.Wrong) > 0:
			return errors.New("R5: an order was given while a wrong drive is out")
		case e.Kind != swap.ConfirmIt || !o.New.TailMatches(e.Tail):
			return errors.New("R3: a drive is to be written to whose label tail was not typed")
		case o.New.Key() != k.id(newDrive).Key():
			return fmt.Errorf("R3: %s is to be written to", o.New.Tail())
		case o.Number <= int(n.w.begun):
			return errors.New("R6: an order has the number of one that was begun")
		}
		n.w.pending = int8(o.Number)
	}
	if after.Phase != before.Phase {
		switch after.Phase {
		case swap.Verify, swap.Closed:
			if e.Kind != swap.PoolSeen {
				return fmt.Errorf("R6: it is at %s by %s, which nobody observed", after.Phase, e.Kind)
			}
			if n.w.st[0] != online || n.w.fills[0] != newDrive {
				if after.Phase == swap.Closed || n.w.st[0] == recovering {
					return fmt.Errorf("R6: it is at %s, and the pool is not", after.Phase)
				}
			}
			if after.Phase == swap.Closed && (k.margin(n.w) < before.Margin || len(after.Wrong) > 0) {
				return errors.New("R6: it is closed, and the margin is not what it was")
			}
		}
		if !before.Phase.Open() && before.Phase != "" {
			return errors.New("what has ended goes on")
		}
	}
	if e.Kind == swap.DriveGone && e.Drive.Member != "" && before.Phase.Open() && before.Phase != swap.Planned &&
		!slices.ContainsFunc(after.Wrong, func(x swap.Wrong) bool { return x.Key() == e.Drive.Key() }) {
		return fmt.Errorf("R5: %s left, and nobody is told", e.Drive.Tail())
	}
	n.s = after
	if n.w.fresh && e.Kind == swap.PoolSeen && after.Phase.Open() && after.Phase != swap.Planned {
		for d := firstOther; d < firstOther+k.others; d++ {
			out := false
			for _, x := range after.Wrong {
				out = out || x.Key() == k.id(d).Key()
			}
			if out && n.w.at[d] >= 0 {
				return fmt.Errorf("R5: %s is called missing, and is there", k.id(d).Tail())
			}
		}
	}
	return nil
}

// key names a node: equal keys behave alike.
func key(n node) string {
	w, s := &n.w, &n.s
	b := make([]byte, 0, 96)
	bit := func(yes ...bool) {
		var x byte
		for i, y := range yes {
			if y {
				x |= 1 << i
			}
		}
		b = append(b, x)
	}
	for _, x := range w.at {
		b = append(b, byte(x))
	}
	for i := range w.fills {
		b = append(b, byte(w.fills[i]), byte(w.st[i]))
	}
	bit(w.seen[:]...)
	b = append(b, byte(w.done), byte(w.fails), byte(w.pending), byte(w.begun), byte(w.outcome))
	bit(w.lost, w.fresh, w.up, w.well, s.OldGone, s.Ordered, s.New != nil, s.Hold != "")
	b = append(b, byte(s.Order), byte(s.Margin))
	for _, text := range []string{string(s.Phase), s.Hold, s.RefusedTail, s.Recovery, s.Refused} {
		b = append(append(b, text...), 0)
	}
	if s.New != nil {
		b = append(b, s.New.Serial...)
	}
	if b = append(b, 0); s.Early != nil {
		b = append(b, s.Early.Serial...)
	}
	b = append(b, 0)
	for _, x := range s.Came {
		b = append(b, x...)
	}
	b = append(b, 0)
	for _, x := range s.Wrong {
		b = append(append(b, ' '), x.Serial...)
	}
	return string(b)
}
