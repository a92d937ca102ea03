// Command proof goes through every state that a swap can reach, with small pools, under every order of what people do, right,
// wrong, twice and late; of drives that fail; of reports that are lost, late and doubled; of orders that are lost, and of
// agents that stop at any point. In every state the rules must hold, and from every one in which nothing has failed a healthy
// end must be in reach.
package main

import (
	"fmt"
	"os"
	"runtime/debug"
	"time"
)

func main() {
	debug.SetGCPercent(400) // there is much to keep, and little to throw away
	begun := time.Now()
	states, steps, deepest := 0, 0, 0
	for _, k := range kinds() {
		r, err := explore(k)
		if err != nil {
			fmt.Fprintf(os.Stderr, "%s: %v\n", k.name, err)
			os.Exit(1)
		}
		fmt.Printf("%-46s %9d states  %10d steps  depth %3d\n", k.name, r.states, r.steps, r.depth)
		states, steps, deepest = states+r.states, steps+r.steps, max(deepest, r.depth)
	}
	fmt.Printf("%-46s %9d states  %10d steps  depth %3d  %s\n", "all", states, steps, deepest, time.Since(begun).Round(time.Second))
}
