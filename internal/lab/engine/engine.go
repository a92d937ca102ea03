// Package engine simulates the content of a lab pool: extents with versions and checksums, in pieces on members, that
// are written, lost, rebuilt, drained, rebalanced, scrubbed and corrupted; and the time that each of these takes.
package engine

import (
	"cmp"
	"hash/crc32"
	"math/rand/v2"
	"slices"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
)

// Engine is the content of one pool.
type Engine struct {
	Seed    uint64   `json:"seed"`
	Extents []Extent `json:"extents"`
	Writes  uint64   `json:"writes"` // number of writes since it was filled
}

// Extent is one part of the data: a stripe of pieces of which Need restore it.
type Extent struct {
	Volume  string      `json:"volume"`
	Group   string      `json:"group"`
	Need    int         `json:"need"`
	Domains bool        `json:"domains,omitempty"` // no two pieces in one failure domain
	Bytes   drive.Bytes `json:"bytes"`             // of a piece
	Small   int         `json:"small,omitempty"`   // number of small objects in it, each of which costs additional time
	Version uint32      `json:"version"`
	Pieces  []Piece     `json:"pieces"`
}

// Piece is the part of an extent on one member. Its content represents all its bytes.
type Piece struct {
	Slot    string  `json:"slot"`
	At      float64 `json:"at"`      // how far from the outermost tracks, 0 to 1
	Version uint32  `json:"version"` // 0: nothing is there
	Data    uint64  `json:"data"`
	Sum     uint32  `json:"sum"`
}

func sum(data uint64, version uint32) uint32 {
	b := []byte{byte(version), byte(version >> 8), byte(version >> 16), byte(version >> 24)}
	for i := range 8 {
		b = append(b, byte(data>>(8*i)))
	}
	return crc32.ChecksumIEEE(b)
}

func (p *Piece) write(data uint64, version uint32) {
	p.Data, p.Version, p.Sum = data, version, sum(data, version)
}

// whole reports whether the content of a piece matches its checksum.
func (p *Piece) whole() bool { return p.Version > 0 && p.Sum == sum(p.Data, p.Version) }

// content is the expected content of data piece j of a version of an extent.
func (e *Engine) content(extent int, version uint32, j int) uint64 {
	x := e.Seed ^ uint64(extent)<<40 ^ uint64(version)<<8 ^ uint64(j)
	x += 0x9e3779b97f4a7c15 // splitmix64 (Steele, Lea, Flood 2014)
	x = (x ^ x>>30) * 0xbf58476d1ce4e5b9
	x = (x ^ x>>27) * 0x94d049bb133111eb
	return x ^ x>>31
}

func (e *Engine) data(extent int, version uint32) []uint64 {
	out := make([]uint64, e.Extents[extent].Need)
	for j := range out {
		out[j] = e.content(extent, version, j)
	}
	return out
}

// perGroup is the number of extents that represent the data of a group or volume.
const perGroup = 160

// Lay places the data of a pool on its members, as after years of use: large objects first, many small ones last.
func Lay(p *pool.Pool, seed uint64) *Engine {
	e := &Engine{Seed: seed}
	r := rand.New(rand.NewPCG(seed, 11))
	for _, g := range p.Groups {
		if g.Spread {
			e.spread(p, g, r)
		} else {
			e.stripes(p, g)
		}
	}
	for i := range e.Extents {
		x := &e.Extents[i]
		x.Version = 1
		data := e.data(i, 1)
		for j := range x.Pieces {
			x.Pieces[j].write(encode(j, data), 1)
		}
	}
	return e
}

// size is the share of extent i of n, and how many small things are in it: the last fifth is small.
func size(i, n int) (share float64, small int) {
	large := n * 4 / 5
	if i < large {
		return 0.94 / float64(large), 0
	}
	return 0.06 / float64(n-large), 1500
}

// stripes places extents as wide as the group; where members differ in size, the last ones are narrower, and all parity
// is on the parity members.
func (e *Engine) stripes(p *pool.Pool, g pool.Group) {
	volumes := volumesOf(p, g)
	var most drive.Bytes
	for _, m := range g.Members {
		most = max(most, m.Used)
	}
	done := 0.0
	for i := range perGroup {
		share, small := size(i, perGroup)
		x := Extent{
			Volume: volumes[i%len(volumes)].Name,
			Group:  g.Name,
			Bytes:  drive.Bytes(share * float64(most)),
			Small:  small,
		}
		var data, parity []Piece
		for _, m := range g.Members {
			at := Piece{Slot: m.Slot, At: done * float64(most) / float64(max(m.Size, 1))}
			switch {
			case m.Parity:
				parity = append(parity, at)
			case float64(m.Used) >= (done+share/2)*float64(most):
				data = append(data, at)
			}
		}
		done += share
		if len(data) == 0 {
			continue
		}
		tolerance := g.Protect.Tolerance
		if len(parity) > 0 {
			x.Pieces, x.Need = append(data, parity...), len(data)
		} else {
			// Parity rotates from stripe to stripe.
			turn := i % len(data)
			x.Pieces = append(append(x.Pieces, data[turn:]...), data[:turn]...)
			x.Need = max(1, len(data)-tolerance)
		}
		if g.Protect.Data == 1 || g.Protect.Data == 0 && tolerance == len(data)-1 {
			x.Need = 1
		}
		e.Extents = append(e.Extents, x)
	}
}

func volumesOf(p *pool.Pool, g pool.Group) (out []pool.Volume) {
	for _, v := range p.Volumes {
		if v.Group == g.Name || v.Group == "" {
			out = append(out, v)
		}
	}
	if len(out) == 0 {
		out = []pool.Volume{{Name: g.Name, Protect: g.Protect, Used: p.Used}}
	}
	return out
}

// spread places every stripe on the members with most free space, no two pieces on one member or in one domain.
func (e *Engine) spread(p *pool.Pool, g pool.Group, r *rand.Rand) {
	used := map[string]drive.Bytes{}
	for _, v := range volumesOf(p, g) {
		pr := v.Protect
		if v.Group == "" {
			pr = g.Protect
		}
		need := max(1, pr.Data)
		for i := range perGroup {
			share, small := size(i, perGroup)
			x := Extent{
				Volume:  v.Name,
				Group:   g.Name,
				Need:    need,
				Domains: pr.Domains,
				Bytes:   drive.Bytes(share * float64(v.Used) / float64(need)),
				Small:   small / 4,
			}
			for range need + pr.Tolerance {
				slot := place(g, x, used, nil, r)
				if slot == "" {
					break
				}
				m, _, _ := p.Slot(slot)
				x.Pieces = append(x.Pieces, Piece{Slot: slot, At: float64(used[slot]) / float64(max(m.Size, 1))})
				used[slot] += x.Bytes
			}
			if len(x.Pieces) >= need {
				e.Extents = append(e.Extents, x)
			}
		}
	}
}

// place finds the member for a further piece of an extent: the least full one for its size. not are excluded members.
func place(g pool.Group, x Extent, used map[string]drive.Bytes, not map[string]bool, r *rand.Rand) string {
	taken := map[string]bool{}
	for _, p := range x.Pieces {
		for _, m := range g.Members {
			if m.Slot == p.Slot {
				taken["slot "+m.Slot] = true
				if x.Domains {
					taken["domain "+m.Domain] = true
				}
			}
		}
	}
	best, least := "", 2.0
	for _, m := range g.Members {
		if m.State != pool.Online || not[m.Slot] || taken["slot "+m.Slot] || taken["domain "+m.Domain] || m.Size == 0 {
			continue
		}
		full := (float64(used[m.Slot]) + float64(x.Bytes)) / float64(m.Size)
		if r != nil {
			full += 0.01 * r.Float64()
		}
		if full <= 1.01 && full < least {
			best, least = m.Slot, full
		}
	}
	return best
}

// Used is the amount of data on each member.
func (e *Engine) Used() map[string]drive.Bytes {
	out := map[string]drive.Bytes{}
	for _, x := range e.Extents {
		for _, p := range x.Pieces {
			out[p.Slot] += x.Bytes
		}
	}
	return out
}

// Known are the extents of every volume of a group, summed up by the members they lie on.
func (e *Engine) Known(volume, group string) (out []pool.Extent) {
	at := map[string]int{}
	for _, x := range e.Extents {
		if x.Volume != volume || x.Group != group {
			continue
		}
		var slots []string
		for _, p := range x.Pieces {
			slots = append(slots, p.Slot)
		}
		slices.Sort(slots)
		key := ""
		for _, s := range slots {
			key += s + " "
		}
		i, ok := at[key]
		if !ok {
			i = len(out)
			at[key] = i
			out = append(out, pool.Extent{Slots: slots, Need: x.Need})
		}
		out[i].Bytes += x.Bytes
	}
	slices.SortFunc(out, func(a, b pool.Extent) int { return slices.Compare(a.Slots, b.Slots) })
	return out
}

// good gives up to need readable pieces of the newest version of an extent; there reports which members answer.
func (e *Engine) good(extent int, there func(slot string) bool) (at []int, data []uint64) {
	x := &e.Extents[extent]
	for j := range x.Pieces {
		if p := &x.Pieces[j]; len(at) < x.Need && p.Version == x.Version && there(p.Slot) && p.whole() {
			at, data = append(at, j), append(data, p.Data)
		}
	}
	return at, data
}

// Write is the n-th write by a user: an extent gets a new version, on all present members. It is refused when too few
// are present to read it back.
func (e *Engine) Write(there func(slot string) bool) bool {
	e.Writes++
	i := int(e.Writes * 2654435761 % uint64(len(e.Extents)))
	x := &e.Extents[i]
	n := 0
	for _, p := range x.Pieces {
		if there(p.Slot) {
			n++
		}
	}
	if n < x.Need {
		return false
	}
	x.Version++
	data := e.data(i, x.Version)
	for j := range x.Pieces {
		if p := &x.Pieces[j]; there(p.Slot) {
			p.write(encode(j, data), x.Version)
		}
	}
	return true
}

// Blank removes all data of a member: another drive is in its place.
func (e *Engine) Blank(slot string) {
	for i := range e.Extents {
		for j := range e.Extents[i].Pieces {
			if p := &e.Extents[i].Pieces[j]; p.Slot == slot {
				p.Version, p.Data, p.Sum = 0, 0, 0
			}
		}
	}
}

// Rename moves the data of a member to the one that takes its place.
func (e *Engine) Rename(from, to string) {
	for i := range e.Extents {
		for j := range e.Extents[i].Pieces {
			if p := &e.Extents[i].Pieces[j]; p.Slot == from {
				p.Slot = to
			}
		}
	}
}

// Stale is the number of pieces of a member without the newest version of their extent.
func (e *Engine) Stale(slot string) (n int) {
	for i := range e.Extents {
		for _, p := range e.Extents[i].Pieces {
			if p.Slot == slot && p.Version != e.Extents[i].Version {
				n++
			}
		}
	}
	return n
}

// Corrupt silently corrupts up to n pieces of a member.
func (e *Engine) Corrupt(slot string, n int, r *rand.Rand) (spoilt int) {
	for _, i := range r.Perm(len(e.Extents)) {
		for j := range e.Extents[i].Pieces {
			if p := &e.Extents[i].Pieces[j]; p.Slot == slot && p.whole() && spoilt < n {
				p.Data ^= 1 << r.IntN(64)
				spoilt++
			}
		}
	}
	return spoilt
}

// Verdict is the result of reading everything back.
type Verdict struct {
	Right, Wrong int
	Lost         []int // extents that cannot be restored
}

// ReadBack reads everything and compares it with what was written. Wrong counts wrong data: it must never happen.
func (e *Engine) ReadBack(there func(slot string) bool) (v Verdict) {
	for i := range e.Extents {
		x := &e.Extents[i]
		at, pieces := e.good(i, there)
		if len(at) < x.Need {
			v.Lost = append(v.Lost, i)
			continue
		}
		if slices.Equal(decode(x.Need, at, pieces), e.data(i, x.Version)) {
			v.Right++
		} else {
			v.Wrong++
		}
	}
	return v
}

// byPlace puts items in the order in which they are on a member.
func byPlace(a, b Item) int { return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(a.Extent, b.Extent)) }
