package main

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"lantern/internal/core/pool"
	"lantern/internal/core/swap"
)

// apply gives an event to the swap and looks whether the rules hold.
func (k kind) apply(n *node, e swap.Event) error {
	before := n.s
	after, orders, refused := swap.Apply(before, e)
	after.Log, after.Margins, after.Gate, after.StartChecks, after.Closing = nil, nil, nil, nil, nil
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
		case k.hand && o.Kind.Writes():
			return errors.New("R6: an order was given to a pool that cannot be ordered")
		case o.Kind.Writes() && !(e.Kind == swap.ConfirmIt && o.Drive.TailMatches(e.Tail)) &&
			!(e.Kind == swap.NextIt && before.Phase == swap.Join && before.Laid == o.Drive.Key()):
			return errors.New("R3: a drive is to be written to whose label tail was not typed")
		case o.Kind.Writes() && o.Drive.Key() != k.id(newDrive).Key():
			return fmt.Errorf("R3: %s is to be written to", o.Drive.Tail())
		case o.Number <= int(n.w.begun):
			return errors.New("R6: an order has the number of one that was begun")
		case o.Kind == swap.OrderRelease && n.w.fresh && (n.w.st[0] != emptied || k.recovery(n.w) != ""):
			return errors.New("R1: a place is to be forgotten on which something lies")
		}
		n.w.pending, n.w.kindOf, n.w.seat = int8(o.Number), o.Kind, 0
		if o.Seat.PoolID == "q" {
			n.w.seat = 1
		}
	}
	if after.Phase != before.Phase {
		switch after.Phase {
		case swap.Verify, swap.Closed:
			if e.Kind != swap.PoolSeen &&
				(after.Phase == swap.Closed || e.Kind != swap.DriveGone && e.Kind != swap.DriveCame &&
					(e.Kind != swap.NextIt || before.Phase != swap.Rehouse)) {
				return fmt.Errorf("R6: it is at %s by %s, which nobody observed", after.Phase, e.Kind)
			}
			if n.w.st[0] != online || n.w.fills[0] != newDrive {
				if after.Phase == swap.Closed || n.w.st[0] == recovering {
					return fmt.Errorf("R6: it is at %s, and the pool is not", after.Phase)
				}
			}
			if k.twin && after.Phase == swap.Closed && n.w.fresh && (!n.w.twinNew || n.w.twin != online) {
				return errors.New("R6: it is closed, and the drive's other pool is not whole")
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
	if e.Kind == swap.DriveGone && e.Drive.Key() == k.id(old).Key() && before.Phase.Open() && !before.OldGone &&
		!before.Recipe.Lost &&
		!(before.Phase == swap.Pull && before.BlockedBy == "") &&
		before.Recipe.Rank(before.Phase) < before.Recipe.Rank(swap.Pull) &&
		!slices.ContainsFunc(after.Wrong, func(x swap.Wrong) bool { return x.Key() == e.Drive.Key() }) {
		return errors.New("R5: the old drive left before its turn, and nobody is told")
	}
	if e.Kind == swap.ReplanIt && before.Phase != swap.Planned && key(node{n.w, after}) != key(node{n.w, before}) {
		return errors.New("R6: what has begun was planned anew")
	}
	if err := k.alarms(before, after, e); err != nil {
		return err
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

// soon is within what any absence may last that a swap asked for, late after all but that of the old drive.
var soon, late = time.Time{}.Add(time.Minute), time.Time{}.Add(24 * time.Hour)

var keys = func() (out [most]string) {
	for d := range out {
		out[d] = drives[d][0].Key()
	}
	return out
}()

// alarms looks whether absences that were asked for raise none, and all others do.
func (k kind) alarms(before, after swap.State, e swap.Event) error {
	if err := k.oldLeft(before, after, e); err != nil {
		return err
	}
	for d, key := range keys {
		switch asked := after.AskedOut(key, soon); {
		case asked && !after.Phase.Open():
			return fmt.Errorf("R5: nothing waits for %s, and nobody would be told that it is gone", k.id(d).Tail())
		case asked && d != old && d != newDrive:
			return fmt.Errorf("R5: nobody would be told that %s is gone", k.id(d).Tail())
		case asked && d == old && !after.OldGone:
			return errors.New("R5: the old drive would be asked for that is still needed")
		}
	}
	if after.AskedOut(keys[newDrive], late) || after.AskedDown(late) {
		return errors.New("R5: what does not come back in time is never told of")
	}
	return nil
}

// oldLeft looks at what is made of the old drive's leaving: no alarm when it was asked for, and one when it was not.
func (k kind) oldLeft(before, after swap.State, e swap.Event) error {
	was := before.Recipe.Rank(before.Phase) >= before.Recipe.Rank(swap.Pull)
	if e.Kind == swap.DriveGone && e.Drive.Key() == keys[old] && before.Phase == swap.Pull &&
		before.BlockedBy == "" &&
		len(before.Wrong) == 0 &&
		!after.AskedOut(e.Drive.Key(), late) {
		return errors.New("a false alarm: the old drive was pulled when it was asked for, and is told of as lost")
	}
	if e.Kind == swap.DriveGone && e.Drive.Key() == keys[old] && before.Phase.Open() && !before.Recipe.Lost && !was &&
		after.AskedOut(e.Drive.Key(), soon) {
		return errors.New("R5: the old drive left before its turn, as if it had been asked for")
	}
	return nil
}

// owes looks whether what an abandoned swap left undone is told, and nothing else is.
func (k kind) owes(n node) error {
	if n.s.Phase != swap.Abandoned || !n.w.fresh || n.s.StartedAt.IsZero() {
		return nil
	}
	w := n.w
	d := n.s.Owed(func(id string) (*pool.Pool, bool) {
		if id == "q" {
			return k.second(w), true
		}
		p := k.pool(w)
		if k.forgets && w.st[0] == emptied && w.fills[0] < 0 {
			p.Groups[0].Members = p.Groups[0].Members[1:]
		}
		return p, true
	})
	carries := func(st memberState) bool { return st == online || st == recovering }
	open := !carries(w.st[0]) || k.twin && !carries(w.twin) || k.unit && w.drain == 2 && w.refill < 2
	switch {
	case open && d.Says == "":
		return errors.New("R6: a place is left open by a swap that was abandoned, and nobody is told")
	case !open && d.Says != "" && !(k.unit &&
		w.st[1] != online): // why a place that depends on the old drive is lost is not known
		return fmt.Errorf("a false alarm: all places are filled, and it says: %s", d.Says)
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
	b = append(b, byte(w.twin), byte(w.twinDone), byte(w.seat))
	bit(w.twinNew, w.twinBeside, w.laid, w.lying, w.inUse, s.Laid != "")
	for _, x := range s.Seats {
		bit(x.Asked, x.Joined)
	}
	bit(w.lost, w.fresh, w.up, w.well, s.OldGone, s.Ordered, s.New != nil, s.BlockedBy != "")
	bit(w.orphans, w.beside, w.moving, w.down, w.hush, s.InProgress, s.PausedBy != "", s.Recipe.Beside)
	b = append(b, byte(w.drain), byte(w.refill), byte(len(s.Recipe.Steps)), byte(s.Order), byte(s.Margin))
	if w.pending != 0 {
		b = append(b, w.kindOf...)
	}
	bit(w.cold, s.Recipe.Lost, s.Phase == swap.Abandoned && !s.StartedAt.IsZero())
	for _, text := range []string{s.Recipe.Name, s.Recipe.Into, string(s.Phase), s.BlockedBy, s.RefusedTail,
		s.Recovery, s.Refused} {
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
