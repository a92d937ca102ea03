package capacity

import (
	"cmp"
	"math"
	"slices"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
)

// Kind is a way to increase the capacity of a pool.
type Kind string

// A pool gets another group like its largest one; a spread group gets the drives of another host, or one more drive; or
// each drive of a group is replaced by a larger one.
const (
	AnotherGroup Kind = "new-group"
	AnotherHost  Kind = "new-host"
	AnotherDrive Kind = "new-drive"
	LargerDrives Kind = "larger-drives"
)

// Way is one way to increase the capacity, with the drives that it needs and the approximate gain.
type Way struct {
	Kind   Kind
	Like   string // the group or host that serves as a model, or the group whose drives are replaced or extended
	Drives int
	Size   drive.Bytes // of each drive; 0 where the drives to be copied have several sizes
	Adds   drive.Bytes
}

// Greatest difference between the capacity computed from the members' sizes and protection and the capacity that the
// pool system reports: some space is reserved for metadata. With a greater difference, the structure of the pool is not
// understood here.
const (
	leastShare = 0.80
	mostShare  = 1.05
)

// Ways gives the ways to increase the capacity of a pool, with the given size for larger drives; 0 means twice the
// largest present. ok is false, without any ways, where the sizes of members and the protection do not explain the
// capacity that the pool system reports: then the gain cannot be computed. The gain is scaled by that capacity. Whether
// the pool system accepts an order for it is not checked here.
func Ways(p *pool.Pool, size drive.Bytes) (ways []Way, ok bool) {
	protect, ok := protections(p)
	if !ok || len(p.Groups) == 0 {
		return nil, false
	}
	now := holds(p.Groups, protect)
	share := float64(p.Capacity) / now
	if now <= 0 || share < leastShare || share > mostShare {
		return nil, false
	}
	add := func(kind Kind, like string, drives int, size drive.Bytes, groups []pool.Group, protect []pool.Protection) {
		if more := (holds(groups, protect) - now) * share; more >= 1 && !math.IsInf(more, 0) {
			ways = append(ways, Way{kind, like, drives, size, drive.Bytes(more)})
		}
	}
	best := 0
	for i := range p.Groups {
		if holds(p.Groups[i:i+1], protect[i:i+1]) > holds(p.Groups[best:best+1], protect[best:best+1]) {
			best = i
		}
	}
	g := p.Groups[best]
	if g.Spread {
		more := like(g)
		kind, name := AnotherDrive, g.Name
		if g.Protect.Domains || protect[best].Domains {
			kind, name = AnotherHost, more[0].Domain
		} else {
			more = more[:1]
		}
		for i := range more {
			more[i].Slot, more[i].Domain = "another "+more[i].Slot, "another host"
		}
		groups := slices.Clone(p.Groups)
		groups[best].Members = slices.Concat(g.Members, more)
		add(kind, name, len(more), alike(more), groups, protect)
	} else {
		size := least(here(g))
		if slices.ContainsFunc(here(g), func(m pool.Member) bool { return m.Parity }) {
			size = alike(here(g))
		}
		add(AnotherGroup, g.Name, len(here(g)), size, append(slices.Clone(p.Groups), g),
			append(slices.Clone(protect), protect[best]))
	}
	groups, count, size := larger(p.Groups, size)
	add(LargerDrives, "", count, size, groups, protect)
	return ways, true
}

// larger gives the groups with drives of a size in place of smaller ones, and the number of replaced drives. Size 0
// means twice the largest present.
func larger(groups []pool.Group, size drive.Bytes) (out []pool.Group, count int, is drive.Bytes) {
	if size == 0 {
		for _, g := range groups {
			for _, m := range here(g) {
				size = max(size, 2*m.Size)
			}
		}
	}
	out = slices.Clone(groups)
	for i := range out {
		out[i].Members = here(out[i])
		for j := range out[i].Members {
			if m := &out[i].Members[j]; m.Size < size {
				m.Size, count = size, count+1
			}
		}
	}
	return out, count, size
}

// protections gives the protection of the data on each group; ok is false where it is ambiguous, since its volumes have
// several, or where a size is unknown. Where nine tenths of the data have one protection, the rest is ignored.
func protections(p *pool.Pool) (out []pool.Protection, ok bool) {
	for _, g := range p.Groups {
		in := here(g)
		if len(in) == 0 || slices.ContainsFunc(in, func(m pool.Member) bool { return m.Size == 0 }) {
			return nil, false
		}
		protect := g.Protect
		if g.Protect.None {
			of, all, most := map[pool.Protection]float64{}, 0.0, -1.0
			for _, v := range p.Volumes {
				if v.Group == "" || v.Group == g.Name {
					q := v.Protect
					q.Words, q.StopsAt = "", 0
					of[q] += float64(v.Used)
					all += float64(v.Used)
				}
			}
			for q, used := range of {
				if used > most {
					protect, most = q, used
				}
			}
			if len(of) == 0 || len(of) > 1 && most < 0.9*all || len(of) > 1 && all == 0 {
				return nil, false
			}
		}
		out = append(out, protect)
	}
	return out, true
}

// here are the members of a group that store data: those that were set aside do not.
func here(g pool.Group) []pool.Member {
	return slices.DeleteFunc(slices.Clone(g.Members), func(m pool.Member) bool { return m.State == pool.Out })
}

func least(members []pool.Member) drive.Bytes {
	return slices.MinFunc(members, func(a, b pool.Member) int { return cmp.Compare(a.Size, b.Size) }).Size
}

// alike is the common size of members; 0 where they have several.
func alike(members []pool.Member) drive.Bytes {
	if slices.ContainsFunc(members, func(m pool.Member) bool { return m.Size != members[0].Size }) {
		return 0
	}
	return members[0].Size
}

// like are the members of the smallest domain, as a model for one more domain.
func like(g pool.Group) []pool.Member {
	of := map[string][]pool.Member{}
	var names []string
	for _, m := range here(g) {
		if of[m.Domain] == nil {
			names = append(names, m.Domain)
		}
		of[m.Domain] = append(of[m.Domain], m)
	}
	slices.Sort(names)
	sum := func(name string) (n drive.Bytes) {
		for _, m := range of[name] {
			n += m.Size
		}
		return n
	}
	best := slices.MinFunc(names, func(a, b string) int { return cmp.Compare(sum(a), sum(b)) })
	return slices.Clone(of[best])
}

// holds is the capacity of groups in bytes, computed from the sizes of their members.
func holds(groups []pool.Group, protect []pool.Protection) (sum float64) {
	for i, g := range groups {
		sum += groupHolds(here(g), protect[i], g.Spread)
	}
	return sum
}

func groupHolds(members []pool.Member, protect pool.Protection, spread bool) float64 {
	t := protect.Tolerance
	var data float64 // of data members where others store only parity
	parity := false
	for _, m := range members {
		if parity = parity || m.Parity; !m.Parity {
			data += float64(m.Size)
		}
	}
	n, small := len(members), float64(least(members))
	switch {
	case parity:
		return data
	case spread:
		return spreadHolds(rooms(members, protect.Domains), protect)
	case protect.Data < 0:
		return small * float64(max(0, n-t))
	case protect.Data <= 1:
		return small * float64(n) / float64(t+1)
	}
	return small * float64(n) * float64(protect.Data) / float64(protect.Data+t)
}

// rooms are the sizes of members, or of domains, the smallest first.
func rooms(members []pool.Member, domains bool) (out []float64) {
	of := map[string]float64{}
	for _, m := range members {
		if name := m.Slot; domains {
			of[m.Domain] += float64(m.Size)
		} else {
			of[name] += float64(m.Size)
		}
	}
	for _, r := range of {
		out = append(out, r)
	}
	slices.Sort(out)
	return out
}

// spreadHolds is the capacity where the pieces of each stripe are on different places. w pieces of u bytes each fit
// exactly when the places, each counted with at most u, have room for w times u.
func spreadHolds(rooms []float64, protect pool.Protection) float64 {
	w, data := protect.Tolerance+1, 1
	switch {
	case protect.Data > 1:
		w, data = protect.Data+protect.Tolerance, protect.Data
	case protect.Data < 0:
		// Each stripe is as wide as the number of places with room left.
		var sum, filled float64
		for i, r := range rooms {
			if left := len(rooms) - i; left > protect.Tolerance {
				sum += (r - filled) * float64(left-protect.Tolerance)
				filled = r
			}
		}
		return sum
	}
	// What the places have for pieces of u bytes, less w times u, is concave in u. So there is one greatest u, and it is
	// in the first interval between rooms that contains its solution. It is computed, not searched for: sums of many u
	// are not exact, and a search would end at the first u whose sum is rounded down.
	var below float64 // sum of the rooms that are smaller than u
	for i := range rooms {
		if above := len(rooms) - i; above < w {
			if u := below / float64(w-above); u <= rooms[i] {
				return u * float64(data)
			}
		}
		below += rooms[i]
	}
	return below / float64(w) * float64(data)
}
