package pool

import (
	"fmt"
	"math"

	"lantern/internal/core/drive"
)

// Room says whether what a pool keeps fits on the members that are left.
type Room struct {
	Fits bool
	Why  string      // where it does not, in words
	Need drive.Bytes // what must move: all that lies on those that leave
	Free drive.Bytes // what the others could take together; that it is more than Need does not make it fit
}

// Room says whether what lies on the members at slots fits on the others, when none of them is filled above limit (a share,
// 0 to 1; 0 takes the pool's own). It is not the sum that counts: the copies of one thing lie on different members, or in
// different failure domains, so a large drive among small ones cannot be used to its end.
//
// The pieces of a volume with stripes of width w, w·y bytes in all, can be laid so that no member, or domain, has two of
// one stripe, whenever no member holds more than y of them (McNaughton 1959, the wrap-around rule). Which amounts each
// member takes is then a flow from volumes to members, and they fit if the largest flow takes all of them.
func (p *Pool) Room(slots []string, limit float64) Room {
	if limit == 0 {
		limit = p.Limit
	}
	if limit <= 0 || limit > 1 {
		limit = 1
	}
	leaving := map[string]bool{}
	all, _ := p.taking(slots)
	for _, s := range all {
		leaving[s] = true
	}
	out := Room{Fits: true}
	for _, g := range p.Groups {
		touched := false
		for _, m := range g.Members {
			if leaving[m.Slot] && m.State != Out {
				touched = true
				out.Need += m.Used
			} else if !m.Lost() && m.State != Out {
				out.Free += free(m, limit)
			}
		}
		switch {
		case !touched:
		case !g.Spread:
			out.Fits, out.Why = false, fmt.Sprintf("the stripes of %s are as wide as it has members: what lies on one cannot move to the others", g.Name)
		case out.Fits:
			out.Fits, out.Why = p.fits(g, leaving, limit)
		}
	}
	return out
}

func free(m Member, limit float64) drive.Bytes {
	most := drive.Bytes(limit * float64(m.Size))
	if m.Used >= most {
		return 0
	}
	return most - m.Used
}

// load is what a volume lays on a group: w pieces a stripe, y bytes a piece at the most on one member or domain.
type load struct {
	name    string
	width   int
	y       float64
	domains bool
}

// loads are what the volumes of a group, or the group itself, lay on it.
func (p *Pool) loads(g Group, left int) (out []load) {
	add := func(name string, pr Protection, bytes float64) {
		data := max(1, pr.Data)
		if pr.Data < 0 {
			data = max(1, left-pr.Tolerance)
		}
		out = append(out, load{name, data + pr.Tolerance, bytes / float64(data), pr.Domains})
	}
	for _, v := range p.Volumes {
		switch {
		case v.Group == g.Name:
			add(v.Name, v.Protect, float64(v.Used))
		case v.Group == "" && len(p.Groups) == 1:
			add(v.Name, g.Protect, float64(v.Used))
		}
	}
	if len(out) == 0 {
		var held float64
		for _, m := range g.Members {
			if !m.Lost() {
				held += float64(m.Used)
			}
		}
		width := max(1, g.Protect.Data) + g.Protect.Tolerance
		add(g.Name, g.Protect, held/float64(width)*float64(max(1, g.Protect.Data)))
	}
	return out
}

// fits asks the flow.
func (p *Pool) fits(g Group, leaving map[string]bool, limit float64) (bool, string) {
	var left []Member
	domains := map[string]int{}
	for _, m := range g.Members {
		if leaving[m.Slot] || m.Lost() || m.State == Out {
			continue
		}
		if _, ok := domains[m.Domain]; !ok {
			domains[m.Domain] = len(domains)
		}
		left = append(left, m)
	}
	loads := p.loads(g, len(left))
	for _, l := range loads {
		places, of := len(left), "members"
		if l.domains {
			places, of = len(domains), "failure domains"
		}
		if places < l.width {
			return false, fmt.Sprintf("%s needs %d %s, and %d are left", l.name, l.width, of, places)
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
				f.edge(domainNode(i, domains[m.Domain]), memberNode(j), math.Inf(1))
			} else {
				f.edge(loadNode(i), memberNode(j), l.y)
			}
		}
		if l.domains {
			for _, d := range domains {
				f.edge(loadNode(i), domainNode(i, d), l.y)
			}
		}
	}
	for j, m := range left {
		f.edge(memberNode(j), 1, limit*float64(m.Size))
	}
	got := f.most(0, 1)
	if missing := want - got; missing > want*1e-9+0.5 {
		return false, fmt.Sprintf("%s do not fit on the others within their failure domains and a fullness of %.0f %%", bytesOf(missing), 100*limit)
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
	at   [][]int // edges by node; an edge's way back is its number xor one
}

func newFlow(nodes int) *flow { return &flow{at: make([][]int, nodes)} }

func (f *flow) edge(from, to int, room float64) {
	f.at[from] = append(f.at[from], len(f.to))
	f.at[to] = append(f.at[to], len(f.to)+1)
	f.to = append(f.to, to, from)
	f.room = append(f.room, room, 0)
}

// least is what counts as room: less is what is left of rounding.
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
