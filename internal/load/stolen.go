package load

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"
)

// Stolen is the share of the processors' time that other virtual machines took, from 0 to 1: the steal time of proc(5).
// It is 0 where the kernel does not report it.
type Stolen struct {
	Mean float64 `json:"mean"`
	Most float64 `json:"most"` // in the worst stolenEach
}

const stolenEach = 10 * time.Second

// ticks are the times of all processors since the start of the machine, in clock ticks.
type ticks struct{ all, stolen float64 }

// parseTicks reads the first line of /proc/stat (proc(5)): user, nice, system, idle, iowait, irq, softirq, steal. What
// follows is part of user and nice.
func parseTicks(text string) (t ticks, ok bool) {
	var of [8]float64
	line, _, _ := strings.Cut(text, "\n")
	n, _ := fmt.Sscanf(line, "cpu %f %f %f %f %f %f %f %f", &of[0], &of[1], &of[2], &of[3], &of[4], &of[5], &of[6],
		&of[7])
	for _, x := range of {
		t.all += x
	}
	t.stolen = of[7]
	return t, n == len(of)
}

func ticksNow() (ticks, bool) {
	text, err := os.ReadFile("/proc/stat")
	if err != nil {
		return ticks{}, false
	}
	return parseTicks(string(text))
}

// since is the share of the time since an earlier moment that others took.
func (t ticks) since(before ticks) float64 {
	if t.all <= before.all {
		return 0
	}
	return min(1, max(0, (t.stolen-before.stolen)/(t.all-before.all)))
}

// watchStolen measures until ctx ends, and then sends the result.
func watchStolen(ctx context.Context, now func() (ticks, bool), each time.Duration) <-chan Stolen {
	out := make(chan Stolen, 1)
	first, ok := now()
	if !ok {
		out <- Stolen{}
		return out
	}
	go func() {
		var s Stolen
		last, full := first, false
		look := time.NewTicker(each)
		defer look.Stop()
		for {
			select {
			case <-look.C:
			case <-ctx.Done():
			}
			over := ctx.Err() != nil
			if t, ok := now(); ok {
				if s.Mean = t.since(first); !over || !full { // the last interval is shorter than the others
					s.Most, last, full = max(s.Most, t.since(last)), t, true
				}
			}
			if over {
				out <- s
				return
			}
		}
	}()
	return out
}
