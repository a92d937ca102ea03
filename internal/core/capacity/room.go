package capacity

import (
	"cmp"
	"math"
	"slices"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
)

// Kind is a way in which a pool comes to hold more.
type Kind string

// A pool gets another group like the largest it has; a group whose pieces are on any of its members gets the drives of
// another host, or one more drive; or each of its drives is replaced by a larger one.
const (
	AnotherGroup Kind = "new-group"
	AnotherHost  Kind = "new-host"
	AnotherDrive Kind = "new-drive"
	LargerDrives Kind = "larger-drives"
)

// Way is one of them, with what it takes and about how much more the pool holds then.
type Way struct {
	Kind   Kind
	Like   string // the group or host that the new one is like, or the group whose drives are replaced or joined
	Drives int
	Size   drive.Bytes // of each drive; 0 where they are of several sizes, as those are that they are like
	Adds   drive.Bytes
}

// What a pool holds by its members' sizes and protection may differ by so much from what its pool system says: some is
// kept back for records and spare room. Where it differs by more, the pool is not built as it is understood here.
const (
	leastShare = 0.80
	mostShare  = 1.05
)

// Ways are those that are known for a pool, with the given size of drive for larger ones; 0 stands for twice the
// largest there is. ok is false, and there are none, where the sizes of members and the protection do not add up to
// what the pool system says that the pool holds: then nothing can be told of what more drives would add. How much a way
// adds is in proportion to that. Whether the pool system can be ordered to do it is not asked here.
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

// larger are groups with drives of a size in place of smaller ones, and how many these are. Size 0 stands for twice the
// largest there is.
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

// protections are what protects what is on each group; ok is false where that cannot be told, since the volumes on it
// have several, or a size is not known. What a volume holds beside nine tenths of the rest is left out of account.
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

// here are the members of a group that take part in it: those that were set aside do not.
func here(g pool.Group) []pool.Member {
	return slices.DeleteFunc(slices.Clone(g.Members), func(m pool.Member) bool { return m.State == pool.Out })
}

func least(members []pool.Member) drive.Bytes {
	return slices.MinFunc(members, func(a, b pool.Member) int { return cmp.Compare(a.Size, b.Size) }).Size
}

// alike is the size of members; 0 where they are of several.
func alike(members []pool.Member) drive.Bytes {
	if slices.ContainsFunc(members, func(m pool.Member) bool { return m.Size != members[0].Size }) {
		return 0
	}
	return members[0].Size
}

// like are the members of the domain with the least room: what one more of the kind would be.
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

// holds is how many bytes groups hold by the sizes of their members alone.
func holds(groups []pool.Group, protect []pool.Protection) (sum float64) {
	for i, g := range groups {
		sum += groupHolds(here(g), protect[i], g.Spread)
	}
	return sum
}

func groupHolds(members []pool.Member, protect pool.Protection, spread bool) float64 {
	t := protect.Tolerance
	var data float64 // of members that hold data where others hold nothing but parity
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

// rooms are the sizes of members, or of all members of a domain together, the smallest first.
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

// spreadHolds is how much fits where each stripe has its pieces in different places. Of pieces of one size, u bytes in
// each of w pieces fit exactly when the places, each counted with no more than u, have room for w times u.
func spreadHolds(rooms []float64, protect pool.Protection) float64 {
	w, data := protect.Tolerance+1, 1
	switch {
	case protect.Data > 1:
		w, data = protect.Data+protect.Tolerance, protect.Data
	case protect.Data < 0:
		// Each stripe is as wide as there are places with room left.
		var sum, filled float64
		for i, r := range rooms {
			if left := len(rooms) - i; left > protect.Tolerance {
				sum += (r - filled) * float64(left-protect.Tolerance)
				filled = r
			}
		}
		return sum
	}
	low, high := 0.0, 0.0
	for _, r := range rooms {
		high += r
	}
	high /= float64(w)
	for range 100 {
		u, sum := (low+high)/2, 0.0
		for _, r := range rooms {
			sum += min(r, u)
		}
		if sum >= float64(w)*u {
			low = u
		} else {
			high = u
		}
	}
	return low * float64(data)
}
