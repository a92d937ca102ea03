package main

import (
	"fmt"
	"slices"

	"lantern/internal/core/drive"
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
	fails     int8  // how many further drives can be lost
	free      bool  // a bay is free, and a drive can be filled beside the old one
	temporary bool  // the free bay is not one to stay in
	spare     bool  // the new drive is a spare of the pool and in the host already
	spread    bool  // pieces lie anywhere: what is on the old one can move to the others
	bare      bool  // a volume without redundancy is on it
	forgets   bool  // a place that was drained is removed
	unit      bool  // it is a log device: what depends on it is drained and filled with it
	cold      bool  // its bay is changed only while the host is down
	moving    bool  // somebody may begin a recovery of another kind at any time
	calm      bool  // hands leave all others alone but the first
	steady    bool  // agents do not stop here: they do in all the others
	backs     bool  // who leads goes back, holds, resumes
	orders    int   // how often a person tries again, so that numbers do not grow for ever
	table     []int // drives beside the new one that lie at hand
	// twin is true where the old drive has a place in a second pool, which can lose twinTolerance; members lie on
	// partitions then.
	twin          bool
	twinTolerance int
	hand          bool // the pool cannot be ordered: a person makes the new drive a member
	liar          bool // the kernel calls the other member well, and its own metadata say otherwise
	used          bool // something else uses the old drive, and may begin and end to do so
	// the plan is composed again at every look, and the host may come to be one that is changed only while it is down
	anew bool
}

func kinds() []kind {
	return []kind{
		{name: "two-way mirror, a bay free", others: 1, tolerance: 1, orders: 1, free: true},
		{
			name:      "two-way mirror, a spare stands by",
			others:    1,
			tolerance: 1,
			orders:    1,
			free:      true,
			spare:     true,
			calm:      true,
			steady:    true,
		},
		{
			name:      "the same, through a temporary place",
			others:    1,
			tolerance: 0,
			orders:    1,
			free:      true,
			temporary: true,
			calm:      true,
		},
		{name: "spread, a volume without redundancy", others: 1, tolerance: 1, orders: 2, spread: true, bare: true},
		{name: "spread over hosts, place removed", others: 1, tolerance: 1, orders: 3, spread: true, forgets: true},
		{
			name:      "a log device that others depend on",
			others:    2,
			steady:    true,
			calm:      true,
			tolerance: 1,
			orders:    3,
			spread:    true,
			unit:      true,
		},
		{name: "a drive in two pools", others: 1, tolerance: 1, orders: 3, twin: true, twinTolerance: 1, calm: true},
		{
			name:      "a drive in two pools, one without margin, a bay free",
			others:    1,
			tolerance: 1,
			orders:    3,
			twin:      true,
			free:      true,
			calm:      true,
			steady:    true,
		},
		{name: "a pool that can only be read", others: 1, tolerance: 1, orders: 1, hand: true},
		{name: "two accounts that differ", others: 1, tolerance: 1, orders: 1, liar: true},
		{name: "something else uses the drive", others: 1, tolerance: 1, orders: 1, used: true, calm: true},
		{
			name:      "a plan composed again until it begins",
			others:    1,
			tolerance: 1,
			orders:    1,
			free:      true,
			anew:      true,
			calm:      true,
			steady:    true,
		},
		{name: "with the host down", others: 1, tolerance: 1, orders: 1, cold: true},
		{name: "the same, the old one gone", others: 1, tolerance: 1, dead: true, orders: 1, cold: true},
		{
			name:      "two-way mirror, other recoveries, second thoughts",
			others:    1,
			tolerance: 1,
			orders:    1,
			moving:    true,
			backs:     true,
		},
		{name: "two-way mirror, a drive fails", others: 1, tolerance: 1, fails: 1, orders: 2},
		{name: "the same, the old one gone", others: 1, tolerance: 1, dead: true, fails: 1, orders: 2},
		{name: "two-way mirror, a small drive at hand", others: 1, tolerance: 1, orders: 1, table: []int{small}},
		{
			name:      "the same with a taken drive, the old one gone",
			others:    1,
			tolerance: 1,
			dead:      true,
			orders:    2,
			table:     []int{taken},
		},
		{name: "three-way mirror, the old one gone", others: 2, tolerance: 2, dead: true, orders: 1, steady: true},
		{name: "single parity of three, the old one gone", others: 2, tolerance: 1, dead: true, orders: 1},
	}
}

// drives are the drives as they are seen in each bay: they are asked for in every step, so they are made once.
var drives = func() (out [most][most + 1]swap.Drive) {
	for d, tail := range [most]string{"OLD01", "NEW02", "SML03", "HLD04", "OTH05", "OTH06", "OTH07"} {
		for bay := range out[d] {
			x := swap.Drive{
				Identity: drive.Identity{
					WWN:    fmt.Sprintf("502abe7%09d", d),
					Model:  "VELDRUN VR4-4000",
					Serial: "VR7" + tail,
				},
				Capacity: 4000,
				Sector:   512,
				Medium:   drive.MediumRotating,
				Bay:      fmt.Sprintf("h/f/%d", bay+1),
				Blank:    d != taken,
			}
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

func (k kind) drive(d int, bay int8) swap.Drive {
	x := drives[d][bay]
	if k.spare && d == newDrive {
		x.Member, x.Spare = "p", true
	}
	return x
}

// start is before the plan, everything seen as it is.
func (k kind) start() node {
	n := node{w: world{fails: k.fails, up: true, fresh: true, lying: k.liar, inUse: k.used}}
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
	if k.spare {
		n.w.at[newDrive] = int8(k.places())
	}
	for d, at := range n.w.at {
		n.w.seen[d] = at >= 0
	}
	n.s, _, _ = swap.Apply(n.s, swap.Event{Kind: swap.PlanIt, By: "ida", Plan: k.plan(n.w)})
	return n
}

// plan is the swap as the service composes it from what is seen.
func (k kind) plan(w world) *swap.State {
	gone := w.at[old] < 0
	g := swap.Ground{Pool: k.pool(w), Slot: "0", Gone: gone, Cold: k.cold || w.cold, Clean: true}
	switch {
	case k.free:
		g.Offers = []string{"join", "beside"}
		switch {
		case k.spare:
			g.Spare, g.Offers = "s", append(g.Offers, "spare")
		case !k.temporary:
			g.Free = "h/f/" + fmt.Sprint(k.places()+1)
		}
	case k.spread:
		g.Offers = []string{"join", "drain", "refill"}
		if k.forgets {
			g.Offers = append(g.Offers, "release")
		}
	}
	var seats []swap.Seat
	if k.hand {
		g.Pool.Watched, g.Offers = true, nil
		seats = []swap.Seat{{Pool: "p", PoolID: "p", Slot: "0", Hand: true, Margin: k.margin(w)}}
	}
	if k.twin {
		g.Others, g.Layout = []swap.OtherPlace{{Pool: k.second(w), Slot: "0", Offers: g.Offers}}, true
		seats = []swap.Seat{
			{Pool: "p", PoolID: "p", Slot: "0", Partition: 1, Margin: k.margin(w)},
			{Pool: "q", PoolID: "q", Slot: "0", Partition: 2, Margin: k.secondMargin(w)},
		}
	}
	var early *swap.Drive
	if at := w.at[newDrive]; at >= 0 {
		x := k.drive(newDrive, at)
		early, g.Waits = &x, !k.spare
	}
	plan := swap.State{
		Recipe:  swap.Compose(g),
		Seats:   seats,
		Members: swap.Carrying(g.Pool),
		ID:      "s",
		Pool:    "p",
		PoolID:  "p",
		Slot:    "0",
		Host:    "h",
		Old:     k.drive(old, 0),
		OldGone: gone,
		Early:   early,
		Needs:   4000,
		Margin:  k.margin(w),
	}
	if k.twin {
		plan.Margin = min(plan.Margin, k.secondMargin(w))
	}
	if gone {
		plan.Margin++ // what it was before
	}
	return &plan
}
