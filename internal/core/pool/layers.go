package pool

import "slices"

// Lookup gives a pool by its id; nil when it is unknown.
type Lookup func(id string) *Pool

// mostLayers is the greatest number of nested pools; no real stack has more than three.
const mostLayers = 8

// Unknown is the pool with every member in an unknown state: earlier states say nothing about the present (R7).
func (p *Pool) Unknown() Pool {
	var all []string
	p.Everyone(func(_ string, m *Member) { all = append(all, m.Slot) })
	return p.With(StateUnkn, all...)
}

// Through is the pool with the state of the pools below it: a member that is a pool is missing when that pool has lost
// data, and unknown when that pool is unknown.
func (p *Pool) Through(below Lookup) Pool { return p.WithoutDrives(below, nil) }

// WithoutDrives is the pool after further drives are gone, with all their places in it and in the pools below it.
func (p *Pool) WithoutDrives(below Lookup, drives []string) Pool {
	return p.withoutDrives(below, drives, 0)
}

func (p *Pool) withoutDrives(below Lookup, drives []string, deep int) Pool {
	var gone, unknown []string
	p.Everyone(func(_ string, m *Member) {
		switch {
		case slices.ContainsFunc(drives, m.On):
			gone = append(gone, m.Slot)
		case m.Under == "" || m.Lost() || m.State == StateUnkn:
		case deep > mostLayers || below == nil || below(m.Under) == nil:
			unknown = append(unknown, m.Slot)
		default:
			q := below(m.Under).withoutDrives(below, drives, deep+1)
			if margin, known := q.Margin(); !known {
				unknown = append(unknown, m.Slot)
			} else if margin < 0 {
				gone = append(gone, m.Slot)
			}
		}
	})
	q := p.Losing(gone...)
	if len(unknown) > 0 {
		q = q.With(StateUnkn, unknown...)
	}
	return q
}

// Layered reports whether members and drives do not correspond one to one: a member is a pool or is on several drives,
// or a drive has several places.
func (p *Pool) Layered() (yes bool) {
	seen := map[string]bool{}
	p.Everyone(func(_ string, m *Member) {
		yes = yes || m.Under != "" || len(m.Drives) > 0 || m.Drive != "" && seen[m.Drive]
		seen[m.Drive] = true
	})
	return yes
}

// Drives lists the drives of the pool and of the pools below it, in order of their keys.
func (p *Pool) Drives(below Lookup) (keys []string) {
	var walk func(p *Pool, deep int)
	walk = func(p *Pool, deep int) {
		p.Everyone(func(_ string, m *Member) {
			for _, key := range append([]string{m.Drive}, m.Drives...) {
				if key != "" && !slices.Contains(keys, key) {
					keys = append(keys, key)
				}
			}
			if m.Under != "" && below != nil && deep < mostLayers {
				if q := below(m.Under); q != nil {
					walk(q, deep+1)
				}
			}
		})
	}
	walk(p, 0)
	slices.Sort(keys)
	return keys
}

// mostTried is the greatest number of sets of drives that are tried for a margin. If more would be needed, the answer
// is what was proven so far, which is never too large.
const mostTried = 20_000

// DriveMargin is how many more drives, any of them, can be lost without losing data. Where every member is one drive it
// equals the pool's Margin; else every set of drives is tried, the smallest first.
func (p *Pool) DriveMargin(below Lookup) (Margin, bool) {
	if !p.Layered() {
		return p.Margin()
	}
	now := p.Through(below)
	margin, known := now.Margin()
	if !known || margin < 0 {
		return margin, known
	}
	if now.nameless(below, 0) {
		return 0, false // the loss of an unknown drive cannot be tried
	}
	drives := now.Drives(below)
	tried := 0
	var some func(chosen []string, from, left int) (lost, enough bool)
	some = func(chosen []string, from, left int) (lost, enough bool) {
		if left == 0 {
			if tried++; tried > mostTried {
				return false, true
			}
			q := now.WithoutDrives(below, chosen)
			m, known := q.Margin()
			return !known || m < 0, false
		}
		for i := from; i+left <= len(drives); i++ {
			if lost, enough := some(append(chosen, drives[i]), i+1, left-1); lost || enough {
				return lost, enough
			}
		}
		return false, false
	}
	for n := 1; n <= len(drives); n++ {
		if lost, enough := some(make([]string, 0, n), 0, n); lost || enough {
			return Margin(n - 1), true
		}
	}
	return Margin(len(drives)), true
}

// nameless reports whether a member that stores data, here or in a pool below, is on no known drive.
func (p *Pool) nameless(below Lookup, deep int) (yes bool) {
	for _, g := range p.Groups {
		for _, m := range g.Members {
			switch {
			case m.Lost() || m.State == Out:
			case m.Under == "":
				yes = yes || m.Drive == ""
			case below != nil && deep < mostLayers:
				if q := below(m.Under); q != nil {
					yes = yes || q.nameless(below, deep+1)
				}
			}
		}
	}
	return yes
}

// Testimony is what the metadata on one member say about it, read independently of the pool system's live view.
type Testimony struct {
	Slot string
	// Says is the content of the metadata in words. Agrees is true when it confirms that the member stores its share
	// now.
	Says   string
	Agrees bool
}

// Disagreements compares the live view with the members' metadata. The metadata must confirm every member that the
// margin counts on; a member without testimony is not confirmed.
func (p *Pool) Disagreements(by []Testimony) (out []string) {
	for _, g := range p.Groups {
		for _, m := range g.Members {
			if m.Lost() || m.State == Out || m.State == StateUnkn {
				continue
			}
			i := slices.IndexFunc(by, func(t Testimony) bool { return t.Slot == m.Slot })
			switch {
			case i < 0:
				out = append(
					out,
					"place "+m.Slot+": the pool shows it "+string(m.State)+", its own metadata could not be read",
				)
			case !by[i].Agrees:
				out = append(out, "place "+m.Slot+": the pool shows it "+string(m.State)+", "+by[i].Says)
			}
		}
	}
	return out
}
