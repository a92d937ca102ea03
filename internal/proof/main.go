// Command proof goes through every state that a swap can reach, with small pools of each kind and the recipes for them,
// under every order of what people do, right, wrong, twice and late; of drives that fail; of reports that are lost,
// late and doubled; of orders that are lost, and of agents that stop at any point. In every state the rules must hold,
// and from every one in which nothing has failed a healthy end must be in reach.
package main

import (
	"fmt"
	"os"
	"runtime"
	"runtime/debug"
	"strings"
	"time"
)

func main() {
	debug.SetGCPercent(400) // there is much to keep, and little to throw away
	begun := time.Now()
	var all []kind
	for _, k := range kinds() {
		if len(os.Args) < 2 || strings.Contains(k.name, os.Args[1]) {
			all = append(all, k)
		}
	}
	type answer struct {
		result
		err error
	}
	answers := make([]chan answer, len(all))
	room := make(chan struct{}, max(1, min(4, runtime.NumCPU())))
	for i := range all {
		answers[i] = make(chan answer, 1)
	}
	go func() {
		for i := len(all) - 1; i >= 0; i-- { // the largest, which stand last, begin first
			room <- struct{}{}
			go func() {
				r, err := explore(all[i])
				<-room
				answers[i] <- answer{r, err}
			}()
		}
	}()
	states, steps, deepest := 0, 0, 0
	for i, k := range all {
		a := <-answers[i]
		if a.err != nil {
			fmt.Fprintf(os.Stderr, "%s: %v\n", k.name, a.err)
			os.Exit(1)
		}
		fmt.Printf("%-52s %9d states  %10d steps  depth %3d\n", k.name, a.states, a.steps, a.depth)
		states, steps, deepest = states+a.states, steps+a.steps, max(deepest, a.depth)
	}
	fmt.Printf(
		"%-52s %9d states  %10d steps  depth %3d  %s\n",
		"all",
		states,
		steps,
		deepest,
		time.Since(begun).Round(time.Second),
	)
}
