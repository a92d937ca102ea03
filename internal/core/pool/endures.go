package pool

import (
	"fmt"
	"slices"
	"strings"
)

// MostSets is the greatest number of sets of lost members that Survives examines; more would take too long.
const MostSets = 500_000

// Endurance is the outcome for a pool for all sets of n lost members.
type Endurance struct {
	N    int
	Sets int
	Of   map[Outcome]int // how many sets have this as their worst outcome
	// Worst are some of the worst sets, with the volumes that each loses or makes unavailable.
	Worst []WorstSet
}

// WorstSet is one of the worst sets of lost members.
type WorstSet struct {
	Lose    []string
	Outcome Outcome
	Volumes []string
}

// Survives examines every set of n of the present members, log devices included, spares not.
func (p *Pool) Survives(n int) (Endurance, error) {
	var there []string
	p.Everyone(func(group string, m *Member) {
		if (group != "" || p.isLog(m.Slot)) && !m.Lost() && m.State != Out {
			there = append(there, m.Slot)
		}
	})
	if n < 1 || n > len(there) {
		return Endurance{}, fmt.Errorf(
			"%s has %d members that can be lost: ask for 1 to %d",
			p.Name,
			len(there),
			len(there),
		)
	}
	sets := 1
	for i := range n {
		if sets = sets * (len(there) - i) / (i + 1); sets > MostSets {
			return Endurance{}, fmt.Errorf(
				"there are more than %d sets of %d among %d members: ask for fewer",
				MostSets,
				n,
				len(there),
			)
		}
	}
	out := Endurance{N: n, Of: map[Outcome]int{}}
	const shown = 5
	chosen := make([]string, 0, n)
	var try func(from int)
	try = func(from int) {
		if len(chosen) == n {
			all, _ := p.taking(chosen)
			after := p.With(Missing, all...)
			effects := p.effects(&after)
			w := Prospect{Effects: effects}.Worst()
			out.Sets++
			out.Of[w]++
			if w.Gravity() < Unreachable.Gravity() {
				return
			}
			if len(out.Worst) < shown || out.Worst[shown-1].Outcome.Gravity() < w.Gravity() {
				set := WorstSet{Lose: slices.Clone(chosen), Outcome: w}
				for _, e := range effects {
					if e.Outcome == w {
						set.Volumes = append(
							set.Volumes,
							strings.TrimSpace(e.Volume+" "+map[bool]string{true: e.Group}[e.Volume == ""]),
						)
					}
				}
				out.Worst = append(out.Worst, set)
				slices.SortStableFunc(
					out.Worst,
					func(a, b WorstSet) int { return b.Outcome.Gravity() - a.Outcome.Gravity() },
				)
				out.Worst = out.Worst[:min(shown, len(out.Worst))]
			}
			return
		}
		for i := from; i <= len(there)-(n-len(chosen)); i++ {
			chosen = append(chosen, there[i])
			try(i + 1)
			chosen = chosen[:len(chosen)-1]
		}
	}
	try(0)
	return out, nil
}
