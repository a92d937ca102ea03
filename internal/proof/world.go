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
	free      bool  // a bay is free, and a drive can be filled beside the old one
	temporary bool  // the free bay is not one to stay in
	spread    bool  // pieces lie anywhere: what lies on the old one can move to the others
	bare      bool  // a volume without redundancy lies on it
	forgets   bool  // a place that was drained is taken off the map
	unit      bool  // it is a log device: what depends on it is drained and filled with it
	cold      bool  // its bay is changed only while the host is down
	moving    bool  // somebody may begin a recovery of another kind at any time
	calm      bool  // hands leave all others alone but the first
	steady    bool  // agents do not stop here: they do in all the others
	backs     bool  // who leads goes back, holds, resumes
	orders    int   // how often a person tries again, so that numbers do not grow for ever
	table     []int // drives beside the new one that lie at hand
}

func kinds() []kind {
	return []kind{
		{name: "two-way mirror, a bay free", others: 1, tolerance: 1, orders: 1, free: true},
		{name: "the same, through a temporary place", others: 1, tolerance: 0, orders: 1, free: true, temporary: true, calm: true},
		{name: "spread, a volume without redundancy", others: 1, tolerance: 1, orders: 2, spread: true, bare: true},
		{name: "spread over hosts, off the map", others: 1, tolerance: 1, orders: 3, spread: true, forgets: true},
		{name: "a log device that others depend on", others: 2, steady: true, calm: true, tolerance: 1, orders: 3, spread: true, unit: true},
		{name: "with the host down", others: 1, tolerance: 1, orders: 1, cold: true},
		{name: "the same, the old one gone", others: 1, tolerance: 1, dead: true, orders: 1, cold: true},
		{name: "two-way mirror, other recoveries, second thoughts", others: 1, tolerance: 1, orders: 1, moving: true, backs: true},
		{name: "two-way mirror, a drive may fail", others: 1, tolerance: 1, fails: 1, orders: 2},
		{name: "the same, the old one gone", others: 1, tolerance: 1, dead: true, fails: 1, orders: 2},
		{name: "two-way mirror, a small drive at hand", others: 1, tolerance: 1, orders: 1, table: []int{small}},
		{name: "the same with a taken drive, the old one gone", others: 1, tolerance: 1, dead: true, orders: 2, table: []int{taken}},
		{name: "three-way mirror, the old one gone", others: 2, tolerance: 2, dead: true, orders: 1, steady: true},
		{name: "single parity of three, the old one gone", others: 2, tolerance: 1, dead: true, orders: 1},
	}
}

type memberState int8

const (
	online memberState = iota
	missing
	recovering
	faulty
	emptied // nothing lies there any more, and nothing is missing
)

var states = []pool.MemberState{pool.Online, pool.Missing, pool.Recovering, pool.Faulty, pool.Out}

// world is how everything really is, and what is on its way.
type world struct {
	at      [most]int8 // bay of each drive; -1: on the table
	fills   [4]int8    // drive at each place
	st      [4]memberState
	done    int8 // how far the filling of place 0 is: 0, 1, 2 is all
	fails   int8
	lost    bool // data is not all there any more
	beside  bool // the new drive is filled while the old one helps
	drain   int8 // how far the old one is emptied: 0, 1, 2 is all
	orphans bool // it went without being emptied, and what depends on it went along
	refill  int8 // how far what was drained with it is filled again
	moving  bool // a recovery of another kind runs
	down    bool // the host has no power
	hush    bool // and the service has noticed
	kindOf  swap.OrderKind
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

// drives are the drives as they are seen in each bay: they are asked for in every step, so they are made once.
var drives = func() (out [most][most + 1]swap.Drive) {
	for d, tail := range [most]string{"OLD01", "NEW02", "SML03", "HLD04", "OTH05", "OTH06", "OTH07"} {
		for bay := range out[d] {
			x := swap.Drive{Identity: drive.Identity{WWN: fmt.Sprintf("502abe7%09d", d), Model: "VELDRUN VR4-4000", Serial: "VR7" + tail}, Capacity: 4000, Bay: fmt.Sprintf("h/f/%d", bay+1)}
			switch d {
			case small:
				x.Capacity = 3999
			case taken:
				x.Holds = "somebody"
			}
			if d >= firstOther {
				x.Member = "p"
			}
			out[d][bay] = x
		}
	}
	return out
}()

func (k kind) id(d int) drive.Identity { return drives[d][0].Identity }

func (k kind) drive(d int, bay int8) swap.Drive { return drives[d][bay] }

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
	g := swap.Ground{Pool: k.pool(n.w), Slot: "0", Gone: k.dead, Cold: k.cold, Clean: true}
	switch {
	case k.free:
		g.Offers = []string{"join", "beside"}
		if !k.temporary {
			g.Free = "h/f/" + fmt.Sprint(k.places()+1)
		}
	case k.spread:
		g.Offers = []string{"join", "drain", "refill"}
		if k.forgets {
			g.Offers = append(g.Offers, "release")
		}
	}
	plan := swap.State{Recipe: swap.Compose(g), ID: "s", Pool: "p", PoolID: "p", Slot: "0", Host: "h", Old: k.drive(old, 0), OldGone: k.dead, Needs: 4000, Margin: k.margin(n.w)}
	if k.dead {
		plan.Margin = pool.Margin(k.tolerance) // what it was before
	}
	n.s, _, _ = swap.Apply(n.s, swap.Event{Kind: swap.PlanIt, By: "ida", Plan: &plan})
	return n
}

// needs is how many orders its recipe takes at the least.
func (k kind) needs() int {
	n := 1
	for _, more := range []bool{k.spread, k.forgets, k.unit} {
		if more {
			n++
		}
	}
	return n
}

func (k kind) places() int { return k.others + 1 }

// gone counts the places that carry nothing.
func (k kind) gone(w world) (n int) {
	for i := range k.places() {
		away := w.st[i] != online && w.st[i] != emptied
		if k.unit && i == 0 {
			continue // it carries no share of its own
		}
		if k.unit && i == 1 && w.orphans && w.refill < 2 {
			away = true
		}
		if away {
			n++
		}
	}
	return n
}

func (k kind) margin(w world) pool.Margin { return pool.Margin(k.tolerance - k.gone(w)) }

// pool is the pool as the checks look at it.
func (k kind) pool(w world) *pool.Pool {
	p := &pool.Pool{ID: "p", Name: "p", Groups: []pool.Group{{Name: "g", Spread: k.spread, Heals: k.forgets, Protect: pool.Protection{Tolerance: k.tolerance}}}}
	if k.unit || k.forgets {
		p.Groups[0].Protect.Tolerance = 0 // what is left finds room on one
	}
	for i := range k.places() {
		m := pool.Member{Slot: fmt.Sprint(i), State: states[w.st[i]], Size: 4000, Domain: "h"}
		if k.unit {
			if i == 0 { // the log device itself is in no group
				p.Logs = append(p.Logs, m)
				continue
			}
			if i == 1 {
				m.Log = "0"
			}
		}
		p.Groups[0].Members = append(p.Groups[0].Members, m)
	}
	if k.unit && w.drain == 2 && w.refill < 2 {
		p.Groups[0].Members[0].State = pool.Out
		if w.orphans {
			p.Groups[0].Members[0].State = pool.Missing
		}
	}
	if k.bare && w.st[0] != emptied {
		p.Volumes = []pool.Volume{{Name: "v", Group: "g", Protect: pool.Protection{Data: 1}}}
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
	if k.unit && w.st[0] != online && w.drain < 2 {
		w.orphans, w.drain = true, 2
	}
	bare := k.bare && w.st[0] != emptied && w.st[0] != online && !(w.st[0] == recovering && w.drain == 2)
	w.lost = w.lost || k.gone(w) > k.tolerance || bare
	w.fresh = false
	return w
}

// steps are all that can happen next. An error is a rule that does not hold.
func (k kind) steps(n node, out []next) (_ []next, err error) {
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
		x := swap.Situation{Plan: n.s, Pool: k.pool(w), BayKnown: true, ScrubClean: true, Recovery: k.recovery(w)}
		if n.s.Phase == swap.Planned && w.fresh {
			take("begin", w, swap.Event{Kind: swap.BeginIt, By: "ida", Reason: "so", NoBackup: true, Checks: swap.Checks(x)})
		}
		if !n.s.Ordered && !n.s.Begun && n.s.Phase != swap.Planned {
			// What a person may do blindly: the checks are of what was reported last.
			take("next", w, swap.Event{Kind: swap.NextIt, By: "ida"})
		}
		if k.backs {
			take("back", w, swap.Event{Kind: swap.BackIt, By: "ida"})
			take("hold", w, swap.Event{Kind: swap.HoldIt, By: "ida", Reason: "so"})
			take("resume", w, swap.Event{Kind: swap.ResumeIt, By: "ida"})
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
		if k.calm && d > firstOther || k.calm && k.temporary && d >= firstOther {
			continue
		}
		v := w
		v.at[d] = -1
		if d == old && v.drain == 1 && !k.unit {
			v.drain = 0 // it ends there
		}
		for i := range k.places() {
			if int(w.fills[i]) == d && w.st[i] != faulty && w.st[i] != emptied && !w.down {
				v.st[i] = missing
			}
		}
		v = k.settle(v)
		asked := d == old && n.s.Phase == swap.Pull || d == newDrive && n.s.Phase == swap.Rehouse && !w.down
		if asked && n.s.Hold == "" && len(n.s.Wrong) == 0 && w.fresh {
			if v.lost && !w.lost {
				return nil, fmt.Errorf("R1: %s was pulled as the screen said, and data is lost", k.id(d).Tail())
			}
			if k.margin(v) < k.margin(w) && k.recovery(w) != "" {
				return nil, fmt.Errorf("R4: %s was to be pulled while the pool recovers", k.id(d).Tail())
			}
		}
		take("pull "+k.id(d).Tail(), v)
	}
	for d, at := range w.at {
		if at != -1 {
			continue
		}
		bays := []int8{0}
		if k.free && d == newDrive {
			bays = append(bays, int8(k.places()))
		}
		if d >= firstOther {
			if d-firstOther >= k.others {
				continue
			}
			bays = []int8{int8(d - firstOther + 1)}
		}
		for _, bay := range bays {
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
			take(fmt.Sprintf("insert %s into %d", k.id(d).Tail(), bay), k.settle(v))
		}
	}
	if k.cold || k.temporary {
		v := w
		if v.down = !w.down; !v.down {
			// What is not there when it comes up is missing.
			for i := range k.places() {
				if f := w.fills[i]; f >= 0 && w.at[f] < 0 && (w.st[i] == online || w.st[i] == recovering) {
					v.st[i] = missing
				}
			}
			v = k.settle(v)
		}
		v.fresh = false
		take(map[bool]string{true: "the host goes down", false: "the host comes up"}[v.down], v)
		if w.down && !w.hush {
			v := w
			v.hush = true
			take("the host is found silent", v, swap.Event{Kind: swap.HostSeen, Quiet: true})
		}
		if w.down {
			return out, err // nothing else happens there
		}
	}
	// What befalls drives and pools.
	if w.beside && w.at[newDrive] >= 0 {
		v := w
		if v.done++; v.done == 2 {
			v.beside, v.fills[0], v.st[0] = false, newDrive, online
		}
		take("it is filled beside the old one", k.settle(v))
	}
	if w.drain == 1 && (w.at[old] >= 0 || k.unit) {
		v := w
		if v.drain = 2; !k.unit {
			v.st[0] = emptied
		}
		take("the drain ends", k.settle(v))
	}
	if w.refill == 1 {
		v := w
		v.refill = 2
		take("the refilling ends", k.settle(v))
	}
	if k.moving {
		v := w
		if v.moving = !w.moving; w.moving || w.st[0] != recovering && !w.beside {
			v.fresh = false
			take("a scrub begins, or ends", v)
		}
	}
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
		if !k.steady {
			take("the agent stops", v)
		}
		events := k.report(w)
		v = w
		v.fresh, v.hush = true, false
		for d, at := range w.at {
			v.seen[d] = at >= 0
		}
		take("a report", v, events...)
		take("a report, heard twice", v, append(events, events[len(events)-1])...)
		if w.pending > w.begun {
			// Paths pass from drive to drive: where the one that is meant was, another may be by now. Which it is, is read back.
			meant := w.meant()
			for d, at := range w.at {
				if meant < 0 || d == meant || at < 0 {
					continue
				}
				if k.id(meant).Differs(k.id(d)) == "" && err == nil {
					return nil, fmt.Errorf("R2: an order for %s is carried out on %s", k.id(meant).Tail(), k.id(d).Tail())
				}
				take("the order meets another drive at the path", w.refuse())
				break // whichever it is
			}
			v = k.obey(w)
			take("the order is carried out", v)
			if !k.steady {
				v.outcome, v.up = 0, false
				v.pending = w.pending
				take("the order is carried out, and the agent stops", v)
				v = w
				v.begun, v.up = w.pending, false
				take("the order is begun, and the agent stops", v)
			}
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

// recovery is what moves in the pool; empty when nothing does.
func (k kind) recovery(w world) string {
	if w.st[0] == recovering || w.beside || w.drain == 1 || w.refill == 1 || w.moving {
		return "resilver"
	}
	return ""
}

// meant is the drive that the order which waits names; -1 for one that is about the pool.
func (w world) meant() int {
	switch w.kindOf {
	case swap.OrderJoin, swap.OrderAdmit:
		return newDrive
	case swap.OrderDrain, swap.OrderRelease:
		return old
	}
	return -1
}

// refuse is an order that the agent begins and does not carry out: nothing is touched.
func (w world) refuse() world {
	w.begun, w.outcome, w.well = w.pending, w.pending, false
	w.pending = 0
	return w
}

// obey is what an agent does with an order when the drive that it names is where it looks.
func (k kind) obey(w world) world {
	w = w.refuse()
	switch w.kindOf {
	case swap.OrderDrain:
		if w.st[0] != online || w.at[old] < 0 || w.moving {
			return w
		}
		w.drain, w.well = 1, true
	case swap.OrderRelease:
		if w.st[0] != emptied {
			return w
		}
		w.fills[0], w.well = -1, true
	case swap.OrderRefill:
		if w.drain == 2 {
			w.refill, w.well = 1, true
		}
	case swap.OrderStop:
		if w.drain == 1 {
			w.drain, w.well = 0, true
		}
	default:
		helps := w.st[0] == online && w.fills[0] == old
		if w.at[newDrive] < 0 || w.beside || helps && !k.free || w.st[0] == online && !helps || w.st[0] == recovering {
			return w // refused
		}
		w.done, w.well = 0, true
		if helps {
			w.beside = true
			break
		}
		w.fills[0], w.st[0] = newDrive, recovering
		if k.unit { // there is nothing on it to be filled with
			w.st[0], w.done = online, 2
		}
	}
	return k.settle(w)
}

// report is what the service makes of one: who went, who came, how the pool is.
func (k kind) report(w world) (out []swap.Event) {
	if w.hush {
		out = append(out, swap.Event{Kind: swap.HostSeen})
	}
	for d, at := range w.at {
		gone := w.seen[d] && at < 0
		if !gone && (w.seen[d] || at < 0) {
			continue
		}
		bay := max(at, 0)
		if d >= firstOther {
			bay = int8(d - firstOther + 1)
		}
		dr := k.drive(d, bay)
		if gone {
			out = append(out, swap.Event{Kind: swap.DriveGone, Drive: &dr, Margin: k.margin(w)})
		} else {
			out = append(out, swap.Event{Kind: swap.DriveCame, Drive: &dr})
		}
	}
	return append(out, k.poolSeen(w))
}

func (k kind) poolSeen(w world) swap.Event {
	p := k.pool(w)
	v := &swap.PoolView{Member: states[w.st[0]], MarginKnown: true, Recovering: k.recovery(w) != "", NewVerdict: "sound", Moving: k.margin(w) - 1}
	if w.fills[0] >= 0 {
		v.Drive = k.id(int(w.fills[0])).Key()
	}
	switch {
	case w.fills[0] == newDrive:
		v.New, v.Recovery = states[w.st[0]], "r"
	case w.beside:
		v.New, v.Recovery = pool.Recovering, "r"
	}
	v.Without, v.Lost, _ = p.Without("0")
	v.Drained = w.st[0] == emptied
	if k.unit {
		v.Drained, v.Filled = w.drain == 2 && !w.orphans, w.drain == 0 || w.refill == 2
	}
	return swap.Event{Kind: swap.PoolSeen, Pool: v, Margin: k.margin(w)}
}

// apply gives an event to the swap and looks whether the rules hold.
func (k kind) apply(n *node, e swap.Event) error {
	before := n.s
	after, orders, refused := swap.Apply(before, e)
	after.Log, after.Margins, after.Gate, after.Began, after.Closing = nil, nil, nil, nil, nil
	if n := len(after.Visited); n > 1 {
		after.Visited = after.Visited[n-1:]
	}
	if refused != nil && key(node{n.w, after}) != key(node{n.w, before}) {
		return errors.New("a refusal changed something")
	}
	for _, o := range orders {
		if o.Kind == swap.OrderDark {
			continue
		}
		switch {
		case len(before.Wrong) > 0:
			return errors.New("R5: an order was given while a wrong drive is out")
		case e.By == "":
			return errors.New("an order was given, and nobody asked for it")
		case o.Kind.Writes() && (e.Kind != swap.ConfirmIt || !o.Drive.TailMatches(e.Tail)):
			return errors.New("R3: a drive is to be written to whose label tail was not typed")
		case o.Kind.Writes() && o.Drive.Key() != k.id(newDrive).Key():
			return fmt.Errorf("R3: %s is to be written to", o.Drive.Tail())
		case o.Number <= int(n.w.begun):
			return errors.New("R6: an order has the number of one that was begun")
		case o.Kind == swap.OrderRelease && n.w.fresh && (n.w.st[0] != emptied || k.recovery(n.w) != ""):
			return errors.New("R1: a place is to be forgotten on which something lies")
		}
		n.w.pending, n.w.kindOf = int8(o.Number), o.Kind
	}
	if after.Phase != before.Phase {
		switch after.Phase {
		case swap.Verify, swap.Closed:
			if e.Kind != swap.PoolSeen && (after.Phase == swap.Closed || e.Kind != swap.DriveGone && e.Kind != swap.DriveCame && (e.Kind != swap.NextIt || before.Phase != swap.Rehouse)) {
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
	bit(w.orphans, w.beside, w.moving, w.down, w.hush, s.Begun, s.Held != "", s.Recipe.Beside)
	b = append(b, byte(w.drain), byte(w.refill), byte(len(s.Recipe.Steps)), byte(s.Order), byte(s.Margin))
	if w.pending != 0 {
		b = append(b, w.kindOf...)
	}
	for _, text := range []string{string(s.Phase), s.Hold, s.RefusedTail, s.Recovery, s.Refused} {
		b = append(append(b, text...), 0)
	}
	if s.New != nil {
		b = append(append(b, s.New.Serial...), s.New.Bay...)
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
