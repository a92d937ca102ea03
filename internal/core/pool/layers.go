package pool

import "slices"

// Lookup gives a pool by its id; nil when nothing is known of it.
type Lookup func(id string) *Pool

// mostLayers bounds how many pools lie one in the other; no real stack has more than three.
const mostLayers = 8

// Unknown is the pool with every member in an unknown state: what it was before says nothing of now (R7).
func (p *Pool) Unknown() Pool {
	var all []string
	p.Everyone(func(_ string, m *Member) { all = append(all, m.Slot) })
	return p.With(StateUnkn, all...)
}

// Through is the pool as it is with the pools below it: a member that is a pool itself is missing when that has lost
// data, and unknown when nothing is known of it.
func (p *Pool) Through(below Lookup) Pool { return p.WithoutDrives(below, nil) }

// WithoutDrives is the pool after drives are gone as well, wherever in it, or in the pools below it, they have places.
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

// Layered says whether members and drives are not one for one: a member is a pool or is on several drives, or a drive
// has several places.
func (p *Pool) Layered() (yes bool) {
	seen := map[string]bool{}
	p.Everyone(func(_ string, m *Member) {
		yes = yes || m.Under != "" || len(m.Drives) > 0 || m.Drive != "" && seen[m.Drive]
		seen[m.Drive] = true
	})
	return yes
}

// Drives lists the drives that the pool and the pools below it lie on, in order of their keys.
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

// mostTried is how many sets of drives are tried for a margin; when more would have to be, what was proven so far is
// the answer, which is never too much.
const mostTried = 20_000

// DriveMargin is how many more drives can be lost, whichever they are, before data is. Where every member is one drive
// of its own it is the pool's Margin; else every set of drives is tried, the smallest first.
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
		return 0, false // losing a drive that nobody can name cannot be tried
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

// nameless says whether a member that carries data, here or in a pool below, is on no drive that is known.
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

// Testimony is what the metadata on one member say of it, read apart from the pool system's live view.
type Testimony struct {
	Slot string
	// Says is what stands there, in words. Agrees is true when it bears out that the member carries its share now.
	Says   string
	Agrees bool
}

// Disagreements compares the live view with what the members' metadata say: of every member that is counted on, the
// metadata must bear it out. A member of which there is no testimony was not borne out either.
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
