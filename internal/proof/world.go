package main

import (
	"fmt"
	"time"

	"lantern/internal/core/pool"
	"lantern/internal/core/swap"
)

type memberState int8

const (
	online memberState = iota
	missing
	recovering
	faulty
	emptied // nothing is there any more, and nothing is missing
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
	seat    int8 // which place the order that waits is about
	// The second pool: how its place is, who fills it, and how far.
	twin       memberState
	twinDone   int8
	twinNew    bool // the new drive has the place
	twinBeside bool // it is filled there while the old one helps
	laid       bool // the new drive has the partitions
	lying      bool // the other member is not what the kernel shows
	inUse      bool // something else uses the old drive
	cold       bool // its host is changed only while it is down, from now on
}

// node is a world and what the service makes of it.
type node struct {
	w world
	s swap.State
}

// needs is how many orders its recipe takes at the least.
func (k kind) needs() int {
	n := 1
	for _, more := range []bool{k.spread, k.forgets, k.unit, k.twin, k.twin} {
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
	p := &pool.Pool{
		ID:   "p",
		Name: "p",
		Groups: []pool.Group{
			{Name: "g", Spread: k.spread, Heals: k.forgets, Protect: pool.Protection{Tolerance: k.tolerance}},
		},
	}
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

// settle marks what is lost now, and that nobody has been told of it.
func (k kind) settle(w world) world {
	if k.unit && w.st[0] != online && w.drain < 2 {
		w.orphans, w.drain = true, 2
	}
	bare := k.bare && w.st[0] != emptied && w.st[0] != online && !(w.st[0] == recovering && w.drain == 2)
	gone := k.gone(w)
	if w.lying && w.st[1] == online {
		gone++
	}
	w.lost = w.lost || gone > k.tolerance || bare || k.twin && k.secondMargin(w) < 0
	w.fresh = false
	return w
}

// recovery is what moves in the pool; empty when nothing does.
func (k kind) recovery(w world) string {
	if w.st[0] == recovering || w.beside || w.twin == recovering || w.twinBeside || w.drain == 1 || w.refill == 1 ||
		w.moving {
		return "resilver"
	}
	return ""
}

// meant is the drive that the order which waits names; -1 for one that is about the pool.
func (w world) meant() int {
	switch w.kindOf {
	case swap.OrderJoin, swap.OrderAdmit, swap.OrderLayout:
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
	case swap.OrderLayout:
		if w.at[newDrive] >= 0 {
			w.laid, w.well = true, true
		}
	default:
		if k.twin && !w.laid {
			return w
		}
		if w.seat == 1 {
			return k.joinSecond(w)
		}
		var taken bool
		if w, taken = k.joinFirst(w); !taken {
			return w
		}
	}
	return k.settle(w)
}

// joinFirst puts the new drive in the place of the old one, or beside it while that works; taken is false where the
// pool refuses.
func (k kind) joinFirst(w world) (after world, taken bool) {
	helps := w.st[0] == online && w.fills[0] == old
	if w.at[newDrive] < 0 || w.beside || helps && !k.free || w.st[0] == online && !helps || w.st[0] == recovering {
		return w, false
	}
	w.done, w.well = 0, true
	if helps {
		w.beside = true
		return w, true
	}
	w.fills[0], w.st[0] = newDrive, recovering
	if k.unit { // there is nothing on it to be filled with
		w.st[0], w.done = online, 2
	}
	return w, true
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
	return append(out, swap.Event{Kind: swap.PoolSeen}) // what it shows is looked at when it is its turn
}

// joinSecond is what an agent does with an order to join the second pool.
func (k kind) joinSecond(w world) world {
	helps := w.twin == online && !w.twinNew
	if w.at[newDrive] < 0 || w.twinBeside || helps && !k.free || w.twin == online && !helps || w.twin == recovering {
		return w // refused
	}
	w.twinDone, w.well = 0, true
	if helps {
		w.twinBeside = true
	} else {
		w.twinNew, w.twin = true, recovering
	}
	return k.settle(w)
}

// second is the second pool, a mirror whose other member is never touched.
func (k kind) second(w world) *pool.Pool {
	return &pool.Pool{
		ID:   "q",
		Name: "q",
		Groups: []pool.Group{
			{
				Name:    "g",
				Protect: pool.Protection{Tolerance: k.twinTolerance},
				Members: []pool.Member{{Slot: "0", State: states[w.twin]}, {Slot: "1", State: pool.Online}},
			},
		},
	}
}

func (k kind) secondMargin(w world) pool.Margin {
	if w.twin != online {
		return pool.Margin(k.twinTolerance - 1)
	}
	return pool.Margin(k.twinTolerance)
}

// seen completes an event with what the pools show when it comes.
func (k kind) seen(w world, s *swap.State, e swap.Event) swap.Event {
	if e.Kind != swap.PoolSeen || e.Pool != nil {
		return e
	}
	e = k.poolSeen(w)
	if k.twin || k.hand {
		views := []swap.SeatView{{PoolView: *e.Pool, Margin: e.Margin}}
		if k.twin {
			v := swap.PoolView{
				Member:      states[w.twin],
				MarginKnown: true,
				Recovering:  w.twin == recovering || w.twinBeside,
				NewVerdict:  "sound",
				Moving:      k.secondMargin(w) - 1,
				Drive:       k.id(old).Key(),
				Filled:      true,
			}
			switch {
			case w.twinNew:
				v.Drive, v.New, v.Recovery = k.id(newDrive).Key(), states[w.twin], "t"
			case w.twinBeside:
				v.New, v.Recovery = pool.Recovering, "t"
			}
			v.Without, v.Lost, _ = k.second(w).Without("0")
			views = append(views, swap.SeatView{PoolView: v, Margin: k.secondMargin(w)})
		}
		view, margin := s.Combine(views)
		e.Pool, e.Margin = &view, margin
	}
	if (k.liar || k.used) && s.Gated() {
		e.Checks = swap.Gate(k.situation(w, s), s.Phase)
	}
	return e
}

// situation is what the checks look at.
func (k kind) situation(w world, s *swap.State) swap.Situation {
	x := swap.Situation{
		Plan:     *s,
		Pool:     k.pool(w),
		BayKnown: true,
		Now:      witnessed,
		Recovery: swap.Told(k.recovery(w)),
		Uses:     swap.Told([]swap.OtherUse(nil)),
		Host: swap.Told(
			swap.HostFacts{},
		),
		OtherSwap: swap.Told(""),
		OnHost:    swap.Told(""),
		Gravest:   swap.Told(swap.Grave{}),
		Scrub:     swap.Told(swap.ScrubFacts{At: witnessed, Clean: true}),
		Testing: swap.Told(
			[]string(nil),
		),
		Matters:    swap.Told([]string(nil)),
		Neighbours: swap.Told([]swap.Neighbour(nil)),
		Peers:      swap.Told([]string(nil)),
		Twin:       swap.Told(""),
		Above:      swap.Told([]*pool.Pool(nil)),
	}
	x.Seats = k.facts(w, x.Pool)
	if w.inUse {
		x.Uses = swap.Told([]swap.OtherUse{{Name: "sda9", Says: "a file system on sda9", Active: true}})
	}
	return x
}

func (k kind) poolSeen(w world) swap.Event {
	p := k.pool(w)
	v := &swap.PoolView{
		Member:      states[w.st[0]],
		MarginKnown: true,
		Recovering:  k.recovery(w) != "",
		NewVerdict:  "sound",
		Moving:      k.margin(w) - 1,
	}
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

// witnessed is when the second source was read; the time does not matter here.
var witnessed = time.Unix(1, 0)

// facts are what the checks know of the pool of the old drive.
func (k kind) facts(w world, p *pool.Pool) []swap.SeatFacts {
	out := []swap.SeatFacts{{Pool: p, Slot: "0", Witness: "marks on the members", WitnessAt: witnessed}}
	if w.lying {
		out[0].Differs = []string{"place 1: the kernel shows it online, its superblock is 40 events old"}
	}
	if k.twin {
		out = append(
			out,
			swap.SeatFacts{Pool: k.second(w), Slot: "0", Witness: "marks on the members", WitnessAt: witnessed},
		)
	}
	return out
}
