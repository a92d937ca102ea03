// Command judge simulates fleets with known fates for a year and measures the rules: make judge.
package main

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"slices"
	"sync"
	"time"

	"lantern/internal/core/health"
	"lantern/internal/lab/pasts"
)

// Aims: what is good enough.
const (
	aimInTime = 0.90 // of gradual failures, so many in time
	aimFalse  = 2.0  // per 1,000 healthy drive-years
)

func main() {
	drives := flag.Int("drives", 10_000, "how many drives live for a year")
	seed := flag.Uint64("seed", 1, "another seed makes another fleet")
	every := flag.Duration("every", 4*time.Hour, "how often each is read")
	flag.Parse()
	begun := time.Now()
	sum, n := judge(pasts.Fleet(*seed, *drives, time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)), *every)
	var whole, gradual health.Tally
	for _, f := range pasts.Fates {
		whole.Merge(*sum[f.Fate])
		if f.Gradual {
			gradual.Merge(*sum[f.Fate])
		}
	}
	took := time.Since(begun)
	fmt.Printf(
		"%d drives, a year, a reading every %s, seed %d: %d readings in %.0f s, %.1f µs a reading with making "+
			"it up\n\n",
		*drives,
		*every,
		*seed,
		n,
		took.Seconds(),
		took.Seconds()*workers/float64(n)*1e6,
	)
	fmt.Printf(
		"%-20s %7s %7s %9s %9s %12s %12s %7s\n",
		"fate",
		"drives",
		"failed",
		"flagged",
		"48 h ago",
		"median lead",
		"10 % under",
		"false",
	)
	for _, f := range pasts.Fates {
		t := sum[f.Fate]
		fmt.Printf(
			"%-20s %7d %7d %9s %9s %12s %12s %7d\n",
			f.Fate,
			t.Drives,
			t.Failures,
			share(t.Flagged, t.Failures),
			share(t.InTime, t.Failures),
			lead(t, 0.5),
			lead(t, 0.1),
			t.False,
		)
	}
	fmt.Printf(
		"\ngradual failures flagged replace: %s, at least 48 h before: %s (aim %.0f %%)\n",
		share(gradual.Flagged, gradual.Failures),
		share(gradual.InTime, gradual.Failures),
		100*aimInTime,
	)
	fmt.Printf("lead of those: median %s, 10 %% under %s\n", lead(&gradual, 0.5), lead(&gradual, 0.1))
	fmt.Printf("false replace: %.2f per 1,000 healthy drive-years (aim under %.0f)\n\n", whole.FalsePer1000(), aimFalse)
	fmt.Printf("%-26s %10s %8s\n", "rule that spoke first", "rightly", "falsely")
	names := slices.Sorted(maps.Keys(whole.ByRule))
	for r := range whole.FalseRule {
		if _, ok := whole.ByRule[r]; !ok {
			names = append(names, r)
		}
	}
	for _, r := range names {
		fmt.Printf("%-26s %10d %8d\n", r, whole.ByRule[r], whole.FalseRule[r])
	}
	fmt.Println()
	good := printNuisances(os.Stdout)
	if !good || float64(gradual.InTime) < aimInTime*float64(gradual.Failures) || whole.FalsePer1000() >= aimFalse {
		fmt.Println("\nthe aim is missed")
		os.Exit(1)
	}
}

// workers is how many drives live side by side.
const workers = 2

// judge simulates a fleet, and measures the rules, by fate; n is the number of readings judged.
func judge(fleet []*pasts.Past, every time.Duration) (sum map[pasts.Fate]*health.Tally, n int) {
	limits := health.Usual()
	var tallies [workers]map[pasts.Fate]*health.Tally
	var readings [workers]int
	var all sync.WaitGroup
	for w := range workers {
		tallies[w] = map[pasts.Fate]*health.Tally{}
		for _, f := range pasts.Fates {
			tallies[w][f.Fate] = &health.Tally{}
		}
		all.Add(1)
		go func() {
			defer all.Done()
			for i := w; i < len(fleet); i += workers {
				readings[w] += live(fleet[i], every, &limits, tallies[w][fleet[i].Fate])
			}
		}()
	}
	all.Wait()
	sum = tallies[0]
	for w := 1; w < workers; w++ {
		for f, t := range tallies[w] {
			sum[f].Merge(*t)
		}
	}
	for _, r := range readings {
		n += r
	}
	return sum, n
}

// live simulates one drive, and counts its result.
func live(p *pasts.Past, every time.Duration, limits *health.Thresholds, t *health.Tally) (readings int) {
	r := health.NewReplay(limits)
	r.TestsTold, r.CanTest = true, true
	var flagged time.Time
	rule := ""
	for at := p.Begins; at.Before(p.Ends()); at = at.Add(every) {
		metrics, tests, peers := p.Read(at)
		r.Tests = tests
		r.Peers = health.Group{N: 8, Median: peers, MAD: peers / 20}
		c, changed := r.Read(at, metrics)
		readings++
		if changed && flagged.IsZero() && c.Verdict.Gravity() >= health.Replace.Gravity() {
			flagged, rule = at, c.Findings[0].Rule
		}
	}
	t.Add(p.Begins, p.Ends(), p.Fails, flagged, rule)
	return readings
}

func share(n, of int) string {
	if of == 0 {
		return "-"
	}
	return fmt.Sprintf("%.1f %%", 100*float64(n)/float64(of))
}

func lead(t *health.Tally, q float64) string {
	if len(t.Leads) == 0 {
		return "-"
	}
	return fmt.Sprintf("%.1f days", t.Lead(q).Hours()/24)
}
