package main

import (
	"errors"
	"fmt"
	"slices"

	"lantern/internal/core/swap"
)

// next is one step: what happened, and what came of it.
type next struct {
	name string
	node node
}

// turn collects what can happen next. Once a rule does not hold, nothing is collected any more.
type turn struct {
	kind
	n   node
	out []next
	err error
}

// take lets something happen: the world is w then, and the service hears of events.
func (t *turn) take(name string, w world, events ...swap.Event) {
	if t.err != nil {
		return
	}
	to := node{w, t.n.s}
	for _, e := range events {
		if err := t.apply(&to, t.seen(w, &to.s, e)); err != nil {
			t.err = fmt.Errorf("%s: %w", name, err)
			return
		}
	}
	if err := t.owes(to); err != nil {
		t.err = fmt.Errorf("%s: %w", name, err)
		return
	}
	t.out = append(t.out, next{name, to})
}

// steps are all that can happen next. An error is a rule that does not hold.
func (k kind) steps(n node, out []next) ([]next, error) {
	t := &turn{kind: k, n: n, out: out}
	if n.s.Phase.Open() {
		t.people()
	}
	t.hands()
	// Power at any other moment is tried with the hosts that were cold from the beginning.
	if asked := n.w.down ||
		slices.Contains([]swap.Phase{swap.Down, swap.Change, swap.Up}, n.s.Phase); k.cold || k.temporary ||
		n.w.cold && asked {
		t.power()
	}
	if !n.w.down { // nothing else happens there
		t.fate()
		t.agent()
	}
	return t.out, t.err
}

// people is what persons do at a screen.
func (t *turn) people() {
	k, w := t.kind, t.n.w
	x := k.situation(w, &t.n.s)
	if k.hand && t.n.s.Phase == swap.Join && w.st[0] == missing && w.at[newDrive] >= 0 && !w.down {
		v := w
		v.fills[0], v.st[0], v.done = newDrive, recovering, 0
		t.take("by hand: the new drive is made a member", k.settle(v))
	}
	if t.n.s.Phase == swap.Planned && w.fresh {
		var first []swap.Event
		if k.anew {
			first = append(first, swap.Event{Kind: swap.ReplanIt, Plan: k.plan(w)})
			t.take("look at the plan", w, first...)
			if !w.cold {
				v := w
				v.cold = true
				t.take("the host is to be changed cold", v)
			}
		}
		t.take(
			"begin",
			w,
			append(
				first,
				swap.Event{
					Kind:     swap.BeginIt,
					At:       witnessed,
					By:       "ida",
					Reason:   "so",
					NoBackup: true,
					Checks:   swap.Checks(x),
				},
			)...)
	}
	if k.anew && w.fresh && t.n.s.Phase != swap.Planned {
		t.take("look at the plan", w, swap.Event{Kind: swap.ReplanIt, Plan: k.plan(w)})
	}
	if !t.n.s.Ordered && !t.n.s.InProgress && t.n.s.Phase != swap.Planned {
		// What a person may do blindly: the checks are of what was reported last.
		t.take("next", w, swap.Event{Kind: swap.NextIt, By: "ida"})
	}
	if slices.ContainsFunc(t.n.s.Wrong, func(x swap.Wrong) bool { return x.Key() == k.id(old).Key() }) {
		t.take("say that the old drive died", w, swap.Event{Kind: swap.NextIt, By: "ida", Reason: "it died"})
	}
	if k.backs {
		t.take("back", w, swap.Event{Kind: swap.BackIt, By: "ida"})
		t.take("hold", w, swap.Event{Kind: swap.HoldIt, By: "ida", Reason: "so"})
		t.take("resume", w, swap.Event{Kind: swap.ResumeIt, By: "ida"})
	}
	t.take("abandon", w, swap.Event{Kind: swap.AbandonIt, By: "ida", Reason: "so"})
	for _, d := range append([]int{newDrive, old}, k.table...) {
		t.take("confirm "+k.id(d).Tail(), w, swap.Event{Kind: swap.ConfirmIt, By: "ida", Tail: k.id(d).Tail()})
	}
}

// hands is what they do at the rack.
func (t *turn) hands() {
	k, w := t.kind, t.n.w
	for d, at := range w.at {
		if at < 0 {
			continue
		}
		if k.calm && d > firstOther || k.calm && (k.temporary || k.anew || k.twin && k.free) && d >= firstOther {
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
		if k.twin && (d == old && !w.twinNew || d == newDrive && w.twinNew) && !w.down {
			v.twin = missing
		}
		if d == newDrive {
			v.twinBeside = false
		}
		v = k.settle(v)
		asked := d == old && t.n.s.Phase == swap.Pull || d == newDrive && t.n.s.Phase == swap.Rehouse && !w.down
		if asked && t.n.s.BlockedBy == "" && len(t.n.s.Wrong) == 0 && w.fresh {
			if w.cold && !w.down && d == old {
				t.err = fmt.Errorf(
					"R1: %s was pulled as the screen said, and its host is not to be changed while it runs",
					k.id(d).Tail(),
				)
				return
			}
			if w.inUse && d == old {
				t.err = fmt.Errorf("R1: %s was pulled as the screen said, and something else used it", k.id(d).Tail())
				return
			}
			if v.lost && !w.lost {
				t.err = fmt.Errorf("R1: %s was pulled as the screen said, and data is lost", k.id(d).Tail())
				return
			}
			if (k.margin(v) < k.margin(w) || k.twin && k.secondMargin(v) < k.secondMargin(w)) && k.recovery(w) != "" {
				t.err = fmt.Errorf("R4: %s was to be pulled while the pool recovers", k.id(d).Tail())
				return
			}
		}
		t.take("pull "+k.id(d).Tail(), v)
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
			if k.twin && w.twin == missing && (d == old && !w.twinNew || d == newDrive && w.twinNew) {
				v.twin = online
				if d == newDrive && w.twinDone < 2 {
					v.twin = recovering
				}
			}
			t.take(fmt.Sprintf("insert %s into %d", k.id(d).Tail(), bay), k.settle(v))
		}
	}
}

// power is what becomes of the host itself.
func (t *turn) power() {
	k, w := t.kind, t.n.w
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
	if v.down && t.n.s.Phase == swap.Down && !t.n.s.AskedDown(soon) {
		t.err = errors.New("a false alarm: the host was to be powered down, and is told of as lost")
		return
	}
	t.take(map[bool]string{true: "the host goes down", false: "the host comes up"}[v.down], v)
	if w.down && !w.hush {
		v := w
		v.hush = true
		t.take("the host is found silent", v, swap.Event{Kind: swap.HostSeen, Quiet: true})
	}
}

// fate is what befalls drives and pools.
func (t *turn) fate() {
	k, w := t.kind, t.n.w
	if w.twinBeside && w.at[newDrive] >= 0 || w.twin == recovering && w.at[newDrive] >= 0 {
		v := w
		if v.twinDone++; v.twinDone == 2 {
			v.twinBeside, v.twinNew, v.twin = false, true, online
		}
		t.take("the second pool fills it", k.settle(v))
	}
	if w.lying {
		v := w
		v.lying, v.fresh = false, false
		t.take("the other member is mended", v)
	}
	if k.used && w.at[old] >= 0 {
		v := w
		v.inUse, v.fresh = !w.inUse, false
		t.take(map[bool]string{true: "something else begins to use the drive", false: "its other use ends"}[v.inUse], v)
	}
	t.recoveries()
	if k.moving {
		v := w
		if v.moving = !w.moving; w.moving || w.st[0] != recovering && !w.beside {
			v.fresh = false
			t.take("a scrub begins, or ends", v)
		}
	}
	for i := range k.places() {
		if w.fails > 0 && (w.st[i] == online || w.st[i] == recovering) && int(w.fills[i]) != old {
			v := w
			v.st[i] = faulty
			v.fails--
			t.take(fmt.Sprintf("the drive at place %d fails", i), k.settle(v))
		}
	}
}

// recoveries go on, and end.
func (t *turn) recoveries() {
	k, w := t.kind, t.n.w
	if w.beside && w.at[newDrive] >= 0 {
		v := w
		if v.done++; v.done == 2 {
			v.beside, v.fills[0], v.st[0] = false, newDrive, online
		}
		t.take("it is filled beside the old one", k.settle(v))
	}
	if w.drain == 1 && (w.at[old] >= 0 || k.unit) {
		v := w
		if v.drain = 2; !k.unit {
			v.st[0] = emptied
		}
		t.take("the drain ends", k.settle(v))
	}
	if w.refill == 1 {
		v := w
		v.refill = 2
		t.take("the refilling ends", k.settle(v))
	}
	if w.st[0] == recovering && w.at[newDrive] >= 0 {
		v := w
		if v.done++; v.done == 2 {
			v.st[0] = online
		}
		t.take("the recovery goes on", k.settle(v))
	}
}

// agent is what the agent does, and what is on its way from it.
func (t *turn) agent() {
	k, w := t.kind, t.n.w
	if !w.up {
		v := w
		v.up = true
		if v.pending != 0 && v.pending <= v.begun {
			v.pending, v.outcome, v.well = 0, v.begun, false // it does not know what came of it, and never begins it again
		}
		t.take("the agent is started", v)
	} else {
		v := w
		v.up = false
		if !k.steady {
			t.take("the agent stops", v)
		}
		events := k.report(w)
		v = w
		v.fresh, v.hush = true, false
		for d, at := range w.at {
			v.seen[d] = at >= 0
		}
		t.take("a report", v, events...)
		t.take("a report that came twice", v, append(events, events[len(events)-1])...)
		if w.pending > w.begun {
			// Paths pass from drive to drive: where the one that is meant was, another may be by now. Which it is, is
			// read back.
			meant := w.meant()
			for d, at := range w.at {
				if meant < 0 || d == meant || at < 0 {
					continue
				}
				if k.id(meant).Differs(k.id(d)) == "" && t.err == nil {
					t.err = fmt.Errorf("R2: an order for %s is carried out on %s", k.id(meant).Tail(), k.id(d).Tail())
					return
				}
				t.take("the order meets another drive at the path", w.refuse())
				break // whichever it is
			}
			v = k.obey(w)
			t.take("the order is carried out", v)
			if !k.steady {
				v.outcome, v.up = 0, false
				v.pending = w.pending
				t.take("the order is carried out, and the agent stops", v)
				v = w
				v.begun, v.up = w.pending, false
				t.take("the order is begun, and the agent stops", v)
			}
		}
	}
	if w.outcome != 0 {
		done := swap.Event{Kind: swap.OrderDone, Order: int(w.outcome), Done: w.well, Outcome: "so"}
		v := w
		v.outcome = 0
		t.take("an outcome comes", v, done)
		t.take("an outcome comes, and comes again", w, done)
		t.take("an outcome is lost", v)
	}
	if t.n.s.Ordered {
		v := w
		v.pending = 0
		t.take(
			"the order's time is over",
			v,
			swap.Event{Kind: swap.OrderDone, Order: t.n.s.Order, Outcome: "it did not answer"},
		)
	}
}
