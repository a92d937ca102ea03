package main

import (
	"fmt"
	"hash/maphash"
	"lantern/internal/core/swap"
	"slices"
	"strings"
)

// result is how far the search came.
type result struct{ states, steps, depth int }

// mark stands for the key of a node: 128 bits of a hash, of which two in ten million are alike once in 10^24 searches.
type mark [2]uint64

var seeds = [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}

func sum(key string) mark { return mark{maphash.String(seeds[0], key), maphash.String(seeds[1], key)} }

// explore goes through everything, the nearest first, and then looks whether a healthy end is in reach from everywhere.
func explore(k kind) (result, error) {
	first := k.start()
	ids := map[mark]int32{sum(key(first)): 0}
	const chunk = 1 << 20
	var edges [][]edge // in chunks: what is there is never copied
	parent := []int32{-1}
	// How each was come to, by number: many millions of strings would keep the collector busy.
	names, numbered := []string{"plan"}, map[string]uint16{}
	how := []uint16{0}
	var good, unhurt []bool // closed; nothing has failed and nothing is lost
	note := func(n node) {
		good = append(good, n.s.Phase == swap.Closed)
		unhurt = append(
			unhurt,
			n.w.fails == k.fails && !n.w.lost && n.s.Phase.Open() &&
				max(n.s.Order, int(n.w.begun))+k.needs() <= k.orders,
		)
	}
	note(first)
	level := []*node{&first}
	number := []int32{0}
	var all []next
	r := result{states: 1}
	trace := func(at int32) string {
		var lines []string
		for ; at >= 0; at = parent[at] {
			lines = append(lines, names[how[at]])
		}
		for i, j := 0, len(lines)-1; i < j; i, j = i+1, j-1 {
			lines[i], lines[j] = lines[j], lines[i]
		}
		return strings.Join(lines, "\n  ")
	}
	for ; len(level) > 0; r.depth++ {
		var nodes []*node
		var numbers []int32
		for i, n := range level {
			if n.s.Order > k.orders {
				continue
			}
			var err error
			if all, err = k.steps(*n, all[:0]); err != nil {
				return r, fmt.Errorf("%w\nafter\n  %s", err, trace(number[i]))
			}
			for _, x := range all {
				r.steps++
				name := sum(key(x.node))
				id, known := ids[name]
				if !known {
					id = int32(len(parent))
					ids[name] = id
					word, known := numbered[x.name]
					if !known {
						word = uint16(len(names))
						names, numbered[x.name] = append(names, x.name), word
					}
					parent, how = append(parent, number[i]), append(how, word)
					note(x.node)
					fresh := x.node
					nodes, numbers = append(nodes, &fresh), append(numbers, id)
					r.states++
				}
				if n := len(edges); n == 0 || len(edges[n-1]) == chunk {
					edges = append(edges, make([]edge, 0, chunk))
				}
				last := &edges[len(edges)-1]
				*last = append(*last, edge{id, number[i]})
			}
		}
		level, number = nodes, numbers
	}
	if !slices.Contains(good, true) {
		return r, fmt.Errorf(
			"no healthy end is ever reached; %d states, the furthest\n  %s",
			r.states,
			trace(int32(len(parent)-1)),
		)
	}
	reach := reaching(edges, good, r.steps)
	for i := range parent {
		if unhurt[i] && !reach[i] {
			return r, fmt.Errorf("nothing has failed, and no healthy end is in reach\nafter\n  %s", trace(int32(i)))
		}
	}
	return r, nil
}

// edge is one step from a state to another, by their numbers.
type edge struct{ to, from int32 }

// reaching says of each state whether one of the good ones is in reach: it goes backwards from all of those. The edges
// come in chunks, so that what is there is never copied.
func reaching(edges [][]edge, good []bool, steps int) []bool {
	heads := make([]int32, len(good)+1)
	for _, es := range edges {
		for _, e := range es {
			heads[e.to+1]++
		}
	}
	for i := 1; i < len(heads); i++ {
		heads[i] += heads[i-1]
	}
	backs := make([]int32, steps)
	at := append([]int32{}, heads...)
	for _, es := range edges {
		for _, e := range es {
			backs[at[e.to]] = e.from
			at[e.to]++
		}
	}
	reach := slices.Clone(good)
	var queue []int32
	for i, g := range good {
		if g {
			queue = append(queue, int32(i))
		}
	}
	for ; len(queue) > 0; queue = queue[1:] {
		for _, from := range backs[heads[queue[0]]:heads[queue[0]+1]] {
			if !reach[from] {
				reach[from] = true
				queue = append(queue, from)
			}
		}
	}
	return reach
}
