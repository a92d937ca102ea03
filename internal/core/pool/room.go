package pool

import (
	"fmt"
	"math"
	"slices"

	"lantern/internal/core/drive"
)

// Room is the answer to whether the data of a pool fits on the remaining members.
type Room struct {
	Fits bool
	Why  string      // where it does not, in words
	Need drive.Bytes // data that must move: all that is on the removed members
	Free drive.Bytes // free space of the others together; more than Need does not mean that it fits
	// Others is true when moving only the pieces of the removed members may not be enough: pieces on the others may
	// have to move as well, which not every pool system does by itself.
	Others bool
}

// Room determines whether the data on the members at slots fits on the others, when none of them is filled above limit
// (0 to 1; 0 uses the pool's own limit). The sum of free space is not enough: copies must be on different members, or
// in different failure domains, so a large drive among small ones cannot be filled completely.
//
// The pieces of a volume with stripes of width w, w·y bytes in all, can be laid so that no member, or domain, has two
// of one stripe, whenever no member holds more than y of them (McNaughton 1959, the wrap-around rule). Which amounts
// each member takes is then a flow from volumes to members, and they fit if the largest flow takes all of them.
func (p *Pool) Room(slots []string, limit float64) Room {
	limit = p.limitOf(limit)
	leaving := map[string]bool{}
	all, _ := p.taking(slots)
	for _, s := range all {
		leaving[s] = true
	}
	out := Room{Fits: true}
	for i := range p.Groups {
		g := &p.Groups[i]
		touched := false
		for j := range g.Members {
			if m := &g.Members[j]; leaving[m.Slot] && m.State != Out {
				touched = true
				out.Need += m.Used
			} else if !p.gone(m) && m.State != Out {
				out.Free += free(m, limit)
			}
		}
		switch {
		case !touched || !out.Fits:
		case !g.Spread:
			out.Fits, out.Why = false, fmt.Sprintf(
				"the stripes of %s are as wide as it has members: what is on one cannot move to the others",
				g.Name,
			)
		case p.unsure(g.Members):
			out.Fits, out.Why = false, fmt.Sprintf("the state of members of %s is not known", g.Name)
		default:
			out.Fits, out.Why = p.fits(g, leaving, limit)
			out.Others = out.Others || out.Fits && !p.straight(g, leaving, limit)
		}
	}
	return out
}

// limitOf is how full a member may become: the given limit, else that of the pool system, else its whole size.
func (p *Pool) limitOf(limit float64) float64 {
	if limit == 0 {
		limit = p.Limit
	}
	if limit <= 0 || limit > 1 {
		limit = 1
	}
	return limit
}

// straight reports whether the pieces of the removed members certainly fit on the others while every other piece stays
// where it is. Where it is known which members hold which pieces, it is a flow from extents to the members that may
// take them; else it holds when even those members that are the least free can take everything (Hall 1935): of the
// members, or domains, that are left, a stripe of width w is on w-1, and any other may take its piece.
func (p *Pool) straight(g *Group, leaving map[string]bool, limit float64) bool {
	var left []*Member
	moves := 0.0
	for i := range g.Members {
		switch m := &g.Members[i]; {
		case m.State == Out:
		case leaving[m.Slot]:
			moves += float64(m.Used)
		case !p.gone(m):
			left = append(left, m)
		}
	}
	if yes, known := p.straightByExtents(g, left, leaving, limit); known {
		return yes
	}
	for _, l := range p.loads(g, len(left)) {
		from := map[string]bool{}
		for i := range g.Members {
			if m := &g.Members[i]; leaving[m.Slot] && m.State != Out {
				from[unit(m, Protection{Domains: l.domains})] = true
			}
		}
		if l.width > 1 && (len(from) > 1 || l.each > 1) {
			return false // two pieces of one stripe may have to move, to different members
		}
		rooms := map[string]float64{}
		for _, m := range left {
			rooms[unit(m, Protection{Domains: l.domains})] += float64(free(m, limit))
		}
		var sorted []float64
		for _, n := range rooms {
			sorted = append(sorted, n)
		}
		slices.Sort(sorted)
		sum := 0.0
		for _, n := range sorted[:max(0, len(sorted)-(l.width-1))] {
			sum += n
		}
		if sum < moves {
			return false
		}
	}
	return true
}

// straightByExtents is exact; known is false unless the extents of all volumes of the group are known.
func (p *Pool) straightByExtents(g *Group, left []*Member, leaving map[string]bool, limit float64) (yes, known bool) {
	type stripe struct {
		bytes   float64
		targets []int
	}
	var moving []stripe
	told := map[string]drive.Bytes{} // by the extents, for each member
	for i := range p.Volumes {
		v := &p.Volumes[i]
		if !v.on(g) {
			continue
		}
		if len(v.Extents) == 0 {
			return false, false
		}
		pr := v.Protect
		if v.Group == "" {
			pr = g.Protect
		}
		for _, e := range v.Extents {
			domains := map[string]bool{}
			goes := 0
			for _, slot := range e.Slots {
				m, _, _ := p.Slot(slot)
				told[slot] += e.Bytes
				if leaving[slot] {
					goes++
				} else {
					domains[m.Domain] = true
				}
			}
			if goes == 0 {
				continue
			}
			s := stripe{bytes: float64(e.Bytes) * float64(goes)}
			for j, m := range left {
				if !slices.Contains(e.Slots, m.Slot) && !(pr.Domains && domains[m.Domain]) {
					s.targets = append(s.targets, j)
				}
			}
			if goes > 1 {
				return false, false // two pieces of one stripe may not go to one member: not a flow
			}
			moving = append(moving, s)
		}
	}
	for i := range g.Members {
		if m := &g.Members[i]; leaving[m.Slot] && told[m.Slot] < m.Used {
			return false, false
		}
	}
	f := newFlow(2 + len(moving) + len(left))
	want := 0.0
	for i, s := range moving {
		want += s.bytes
		f.edge(0, 2+i, s.bytes)
		for _, j := range s.targets {
			f.edge(2+i, 2+len(moving)+j, s.bytes)
		}
	}
	for j, m := range left {
		f.edge(2+len(moving)+j, 1, float64(free(m, limit)))
	}
	return want-f.most(0, 1) <= want*1e-9+0.5, true
}

func free(m *Member, limit float64) drive.Bytes {
	most := drive.Bytes(limit * float64(m.Size))
	if m.Used >= most {
		return 0
	}
	return most - m.Used
}

// load is the data of a volume on a group: w pieces per stripe, at most y bytes of one piece on one member.
type load struct {
	name    string
	width   int
	y       float64
	domains bool
	each    int // pieces of a stripe that one domain may store; 1 unless there are more pieces than domains
}

// loads are the loads of the volumes of a group, or of the group itself. Data on its members beyond that of the volumes
// is one more load, as wide as the widest.
func (p *Pool) loads(g *Group, left int) (out []load) {
	domains := map[string]bool{}
	held := 0.0
	for i := range g.Members {
		m := &g.Members[i]
		domains[m.Domain] = true
		if !m.Lost() && m.State != Out {
			held += float64(m.Used)
		}
	}
	add := func(name string, pr Protection, bytes float64) {
		data := max(1, pr.Data)
		if pr.Data < 0 {
			data = max(1, left-pr.Tolerance)
		}
		width := data + pr.Tolerance
		out = append(
			out,
			load{name, width, bytes / float64(data), pr.Domains, max(1, (width+len(domains)-1)/max(1, len(domains)))},
		)
	}
	widest := g.Protect
	told := 0.0
	for _, v := range p.Volumes {
		pr := v.Protect
		switch {
		case v.Group == g.Name:
		case v.Group == "" && len(p.Groups) == 1:
			pr = g.Protect
		default:
			continue
		}
		add(v.Name, pr, float64(v.Used))
		l := out[len(out)-1]
		told += l.y * float64(l.width)
		if g.Protect.None && max(1, pr.Data)+pr.Tolerance > max(1, widest.Data)+widest.Tolerance || widest.None {
			widest = pr
		}
	}
	if rest := held - told; rest > held*1e-9 {
		width := max(1, widest.Data) + widest.Tolerance
		if widest.Data < 0 {
			width = max(1, left)
		}
		add(g.Name, widest, rest/float64(width)*float64(max(1, width-widest.Tolerance)))
	}
	return out
}

// fits decides by the largest flow.
func (p *Pool) fits(g *Group, leaving map[string]bool, limit float64) (bool, string) {
	var left []*Member
	domains := map[string]int{}
	for i := range g.Members {
		m := &g.Members[i]
		if leaving[m.Slot] || p.gone(m) || m.State == Out {
			continue
		}
		if _, ok := domains[m.Domain]; !ok {
			domains[m.Domain] = len(domains)
		}
		left = append(left, m)
	}
	loads := p.loads(g, len(left))
	for _, l := range loads {
		if len(left) < l.width {
			return false, fmt.Sprintf("%s needs %d members, and %d are left", l.name, l.width, len(left))
		}
		if l.domains && len(domains)*l.each < l.width {
			return false, fmt.Sprintf(
				"%s needs %d failure domains, and %d are left",
				l.name,
				(l.width+l.each-1)/l.each,
				len(domains),
			)
		}
	}
	// Nodes: source, sink, a node a load, a node a load and domain, a node a member.
	nodes := 2 + len(loads) + len(loads)*len(domains) + len(left)
	f := newFlow(nodes)
	loadNode := func(i int) int { return 2 + i }
	domainNode := func(i, d int) int { return 2 + len(loads) + i*len(domains) + d }
	memberNode := func(i int) int { return 2 + len(loads) + len(loads)*len(domains) + i }
	want := 0.0
	for i, l := range loads {
		whole := l.y * float64(l.width)
		want += whole
		f.edge(0, loadNode(i), whole)
		for j, m := range left {
			if l.domains {
				f.edge(domainNode(i, domains[m.Domain]), memberNode(j), l.y)
			} else {
				f.edge(loadNode(i), memberNode(j), l.y)
			}
		}
		if l.domains {
			for _, d := range domains {
				f.edge(loadNode(i), domainNode(i, d), l.y*float64(l.each))
			}
		}
	}
	for j, m := range left {
		f.edge(memberNode(j), 1, limit*float64(m.Size))
	}
	got := f.most(0, 1)
	if missing := want - got; missing > want*1e-9+0.5 {
		return false, fmt.Sprintf(
			"%s do not fit on the others within their failure domains and a fullness of %.0f %%",
			bytesOf(missing),
			100*limit,
		)
	}
	return true, ""
}

func bytesOf(n float64) string {
	for _, u := range []struct {
		name string
		size float64
	}{{"TB", 1e12}, {"GB", 1e9}, {"MB", 1e6}, {"kB", 1e3}} {
		if n >= u.size {
			return fmt.Sprintf("%.3g %s", n/u.size, u.name)
		}
	}
	return fmt.Sprintf("%.0f bytes", n)
}

// flow finds the largest flow through a network (Dinic 1970).
type flow struct {
	to   []int
	room []float64
	at   [][]int // edges by node; the reverse of an edge has its number xor one
}

func newFlow(nodes int) *flow { return &flow{at: make([][]int, nodes)} }

func (f *flow) edge(from, to int, room float64) {
	f.at[from] = append(f.at[from], len(f.to))
	f.at[to] = append(f.at[to], len(f.to)+1)
	f.to = append(f.to, to, from)
	f.room = append(f.room, room, 0)
}

// least is the least amount that counts as room: less is a rounding error.
const least = 1e-6

func (f *flow) most(source, sink int) (total float64) {
	for {
		level := make([]int, len(f.at))
		level[source] = 1
		for queue := []int{source}; len(queue) > 0; queue = queue[1:] {
			for _, e := range f.at[queue[0]] {
				if f.room[e] > least && level[f.to[e]] == 0 {
					level[f.to[e]] = level[queue[0]] + 1
					queue = append(queue, f.to[e])
				}
			}
		}
		if level[sink] == 0 {
			return total
		}
		next := make([]int, len(f.at))
		var push func(node int, most float64) float64
		push = func(node int, most float64) float64 {
			if node == sink {
				return most
			}
			for ; next[node] < len(f.at[node]); next[node]++ {
				e := f.at[node][next[node]]
				if f.room[e] <= least || level[f.to[e]] != level[node]+1 {
					continue
				}
				if got := push(f.to[e], min(most, f.room[e])); got > 0 {
					f.room[e] -= got
					f.room[e^1] += got
					return got
				}
			}
			return 0
		}
		for got := push(source, math.Inf(1)); got > 0; got = push(source, math.Inf(1)) {
			total += got
		}
	}
}
