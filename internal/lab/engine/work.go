package engine

import (
	"math"
	"slices"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
)

// Bench is the environment of work.
type Bench struct {
	// There reports whether a member answers.
	There func(slot string) bool
	// Rate is the pace of the drive at a slot on its outermost tracks, in bytes a second; Seek is the time for a small
	// object.
	Rate func(slot string) float64
	Seek func(slot string) time.Duration
	// Load is the share of the members' time that users take, 0 to 1; Share is the part of the rest that the work gets.
	Load, Share float64
}

// Item is one task: fill a piece, check an extent (Piece is -1), or move a piece to another member.
type Item struct {
	Extent int    `json:"e"`
	Piece  int    `json:"p"`
	To     string `json:"to,omitempty"`
	at     float64
}

// Work is a recovery in progress.
type Work struct {
	Kind     recovery.Kind          `json:"kind"`
	Slot     string                 `json:"slot,omitempty"`
	Items    []Item                 `json:"items"`
	Next     int                    `json:"next"`
	Scan     float64                `json:"scan"`  // remaining seconds of scanning before any data moves
	Spent    float64                `json:"spent"` // seconds spent on the next item
	Lanes    float64                `json:"lanes"` // number of parallel tasks
	Moved    drive.Bytes            `json:"moved"` // by items that are done
	Part     drive.Bytes            `json:"part"`  // of the next item
	Todo     drive.Bytes            `json:"todo"`  //
	Reads    map[string]drive.Bytes `json:"reads"` // by member
	Wrote    map[string]drive.Bytes `json:"wrote"` // by member
	Slow     map[string]float64     `json:"slow"`  // seconds for which a member was the slowest
	Found    uint64                 `json:"found"` // errors
	Repaired uint64                 `json:"repaired"`
	Left     uint64                 `json:"left"`
}

// Done is the number of bytes done.
func (w *Work) Done() drive.Bytes { return min(w.Todo, w.Moved+w.Part) }

// track is the rate at a share of a drive's bytes, counted from its outermost tracks, against the rate there: the rate
// goes with the radius, the bytes with the area, and the innermost radius is half of the outermost.
func track(at float64) float64 { return math.Sqrt(1 - 0.75*min(1, at)) }

// Begin plans a recovery. Fill (resilver, rebuild) restores the missing data of a member; scrub checks everything;
// drain moves the data of slot away; rebalance evens out the fill levels, or, with a slot, restores the data of a
// missing member elsewhere.
func (e *Engine) Begin(kind recovery.Kind, slot string, p *pool.Pool) *Work {
	w := &Work{
		Kind:  kind,
		Slot:  slot,
		Lanes: 1,
		Reads: map[string]drive.Bytes{},
		Wrote: map[string]drive.Bytes{},
		Slow:  map[string]float64{},
	}
	switch kind {
	case recovery.Scrub:
		for i := range e.Extents {
			w.Items = append(w.Items, Item{Extent: i, Piece: -1, at: e.Extents[i].Pieces[0].At})
		}
		w.Lanes = lanes(p)
		slices.SortStableFunc(w.Items, byPlace)
	case recovery.Drain, recovery.Rebalance:
		var leaving []string
		if slot != "" {
			leaving = []string{slot}
		}
		w.Items, w.Left = e.planMoves(leaving, p)
		w.Lanes = max(1, lanes(p)/2)
	default:
		for i := range e.Extents {
			for j, x := range e.Extents[i].Pieces {
				if x.Slot == slot && x.Version != e.Extents[i].Version {
					w.Items = append(w.Items, Item{Extent: i, Piece: j, at: x.At})
				}
			}
		}
		slices.SortStableFunc(w.Items, byPlace)
		if kind == recovery.Resilver {
			w.Scan = 90 + 1.2*float64(len(e.Extents)) // it scans for missing data before it copies
		}
	}
	for _, it := range w.Items {
		w.Todo += e.bytes(it)
	}
	return w
}

// BeginDrains plans to drain several members together, none onto another of them: one Work for each.
func (e *Engine) BeginDrains(slots []string, p *pool.Pool) (out []*Work) {
	items, left := e.planMoves(slots, p)
	for i, slot := range slots {
		w := &Work{
			Kind:  recovery.Drain,
			Slot:  slot,
			Lanes: 1,
			Reads: map[string]drive.Bytes{},
			Wrote: map[string]drive.Bytes{},
			Slow:  map[string]float64{},
		}
		if i == 0 {
			w.Left = left
		}
		for _, it := range items {
			if e.Extents[it.Extent].Pieces[it.Piece].Slot == slot {
				w.Items = append(w.Items, it)
				w.Todo += e.bytes(it)
			}
		}
		out = append(out, w)
	}
	return out
}

// BeginFill plans to restore the missing data of a member; a new member lacks nothing, and takes its share from fuller
// ones.
func (e *Engine) BeginFill(kind recovery.Kind, slot string, p *pool.Pool) (w *Work, lacks bool) {
	for i := range e.Extents {
		if slices.ContainsFunc(e.Extents[i].Pieces, func(x Piece) bool { return x.Slot == slot }) {
			w := e.Begin(recovery.Rebuild, slot, p)
			w.Kind = kind
			return w, true
		}
	}
	w = e.Begin(recovery.Rebalance, "", p)
	w.Kind, w.Slot = kind, slot
	return w, false
}

// BeginBack plans to move the data of a spare that stood in for a member to the drive in that member's place.
func (e *Engine) BeginBack(kind recovery.Kind, from, to string) *Work {
	w := &Work{
		Kind:  kind,
		Slot:  to,
		Lanes: 1,
		Reads: map[string]drive.Bytes{},
		Wrote: map[string]drive.Bytes{},
		Slow:  map[string]float64{},
	}
	for i := range e.Extents {
		for j, p := range e.Extents[i].Pieces {
			if p.Slot == from {
				w.Items = append(w.Items, Item{Extent: i, Piece: j, To: to, at: p.At})
				w.Todo += e.Extents[i].Bytes
			}
		}
	}
	slices.SortStableFunc(w.Items, byPlace)
	return w
}

// lanes is the number of stripes processed in parallel.
func lanes(p *pool.Pool) float64 {
	n := 0.0
	for _, g := range p.Groups {
		if g.Spread {
			n += float64(len(g.Members)) / 4
		} else {
			n++
		}
	}
	return max(1, n)
}

func (e *Engine) bytes(it Item) drive.Bytes {
	x := &e.Extents[it.Extent]
	if it.Piece < 0 {
		return x.Bytes * drive.Bytes(len(x.Pieces))
	}
	return x.Bytes
}

// planMoves decides the moves of pieces: all away from leaving members, or, without these, from fuller to emptier ones.
// left is the number of pieces without a place.
func (e *Engine) planMoves(leaving []string, p *pool.Pool) (items []Item, left uint64) {
	used := e.Used()
	for _, g := range p.Groups {
		if !g.Spread {
			continue
		}
		size := map[string]float64{}
		var whole, held float64
		for _, m := range g.Members {
			size[m.Slot] = float64(m.Size)
			if m.State == pool.Online && !slices.Contains(leaving, m.Slot) {
				whole += float64(m.Size)
			}
			if m.State == pool.Online || slices.Contains(leaving, m.Slot) {
				held += float64(used[m.Slot])
			}
		}
		level := held / max(1, whole)
		for i := range e.Extents {
			x := &e.Extents[i]
			if x.Group != g.Name {
				continue
			}
			will := slices.Clone(x.Pieces) // the places of its pieces after the moves planned so far
			for j := range will {
				from := will[j].Slot
				leaves := slices.Contains(leaving, from)
				over := len(leaving) == 0 && float64(used[from]) > (level+0.02)*size[from]
				if !leaves && !over {
					continue
				}
				others := *x
				others.Pieces = append(slices.Clone(will[:j]), will[j+1:]...)
				not := map[string]bool{from: true}
				for _, s := range leaving {
					not[s] = true
				}
				to := place(g, others, used, not, nil)
				if to == "" || over && float64(used[to]+x.Bytes) > level*size[to] {
					if leaves {
						left++
					}
					continue
				}
				used[from] -= x.Bytes
				used[to] += x.Bytes
				will[j].Slot = to
				items = append(items, Item{Extent: i, Piece: j, To: to})
			}
		}
	}
	return items, left
}

// Advance works for some time and reports whether all is done.
func (e *Engine) Advance(w *Work, d time.Duration, b Bench) (done bool) {
	left := d.Seconds()
	if w.Scan > 0 {
		n := min(w.Scan, left*b.Share)
		w.Scan -= n
		left -= n / max(b.Share, 1e-9)
	}
	for left > 1e-9 && w.Next < len(w.Items) && b.Share > 0 {
		it := w.Items[w.Next]
		takes, slowest, ok := e.takes(w, it, b)
		if !ok {
			return false // it waits for a member
		}
		rest := takes - w.Spent
		if rest > left {
			w.Spent += left
			w.Slow[slowest] += left
			w.Part = drive.Bytes(float64(e.bytes(it)) * min(1, w.Spent/takes))
			return false
		}
		left -= max(0, rest)
		w.Slow[slowest] += max(0, rest)
		e.do(w, it, b)
		w.Moved += e.bytes(it)
		w.Next, w.Spent, w.Part = w.Next+1, 0, 0
	}
	return w.Scan <= 0 && w.Next == len(w.Items)
}

// takes is the time for an item in seconds, and the member that limits it. It is impossible while the target member is
// missing.
func (e *Engine) takes(w *Work, it Item, b Bench) (seconds float64, slowest string, ok bool) {
	x := &e.Extents[it.Extent]
	consider := func(slot string, at float64) {
		rate := b.Rate(slot) * track(at) * max(0.05, 1-b.Load) * b.Share
		n := float64(x.Bytes)/max(rate, 1) + float64(x.Small)*b.Seek(slot).Seconds()/max(0.05, 1-b.Load)/b.Share
		if n > seconds {
			seconds, slowest = n, slot
		}
	}
	if it.Piece >= 0 {
		to := x.Pieces[it.Piece].Slot
		if it.To != "" {
			to = it.To
		}
		if !b.There(to) {
			return 0, to, false
		}
		consider(to, x.Pieces[it.Piece].At)
	}
	n := 0
	for j, p := range x.Pieces {
		if j != it.Piece && b.There(p.Slot) && (it.Piece < 0 || n < x.Need) {
			consider(p.Slot, p.At)
			n++
		}
	}
	if seconds == 0 {
		return 1, slowest, true // no member answers: this fails quickly
	}
	return seconds / w.Lanes, slowest, true
}

// do performs an item.
func (e *Engine) do(w *Work, it Item, b Bench) {
	x := &e.Extents[it.Extent]
	at, pieces := e.good(it.Extent, b.There)
	for _, j := range at {
		w.Reads[x.Pieces[j].Slot] += x.Bytes
	}
	if it.Piece < 0 {
		e.look(w, it.Extent, at, pieces, b)
		return
	}
	p := &x.Pieces[it.Piece]
	if it.To == "" && p.Version == x.Version && p.whole() {
		return // it was written by a user meanwhile
	}
	if len(at) < x.Need {
		w.Found, w.Left = w.Found+1, w.Left+1
		return
	}
	if it.To != "" {
		p.Slot = it.To
	}
	p.write(encode(it.Piece, decode(x.Need, at, pieces)), x.Version)
	w.Wrote[p.Slot] += x.Bytes
}

// look reads a whole extent, and repairs what is possible.
func (e *Engine) look(w *Work, i int, at []int, pieces []uint64, b Bench) {
	x := &e.Extents[i]
	before := w.Left
	for j := range x.Pieces {
		p := &x.Pieces[j]
		if !b.There(p.Slot) || p.Version == x.Version && p.whole() {
			continue
		}
		w.Found++
		if len(at) < x.Need {
			w.Left++
			continue
		}
		p.write(encode(j, decode(x.Need, at, pieces)), x.Version)
		w.Wrote[p.Slot] += x.Bytes
		w.Repaired++
	}
	if len(at) < x.Need && w.Left == before {
		w.Left++ // permanently lost data counts too
	}
}

// Slowest is the member that limited the work longest, with its share of the time.
func (w *Work) Slowest() (slot string, share float64) {
	all, most := 0.0, 0.0
	for s, n := range w.Slow {
		all += n
		if n > most || n == most && s < slot {
			slot, most = s, n
		}
	}
	return slot, most / math.Max(all, 1e-9)
}
