package main

import (
	"fmt"
	"io"
	"math/rand/v2"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/health"
)

// nuisance is something that readings do and that must not be taken for damage, or that is damage and must not be
// overlooked.
type nuisance struct {
	name   string
	metric drive.MetricName
	values func(r *rand.Rand, i int) float64 // by reading, one every four hours
	n      int
	worst  health.Verdict // that may be said on the way
	last   health.Verdict // that must stand at the end
}

const perDay = 6

// nuisances of a fleet, each with what is to be said of it.
var nuisances = []nuisance{
	{
		"one odd zero among 40",
		"reallocated_sectors",
		func(_ *rand.Rand, i int) float64 { return map[bool]float64{true: 0, false: 40}[i == 20] },
		60,
		health.Watch,
		health.Watch,
	},
	{
		"one reading of 655,360",
		"reallocated_sectors",
		func(_ *rand.Rand, i int) float64 { return map[bool]float64{true: 655360, false: 0}[i == 20] },
		60,
		health.Sound,
		health.Sound,
	},
	{
		"noise of one, up and down",
		"reallocated_sectors",
		func(r *rand.Rand, _ int) float64 { return 30 + float64(r.IntN(2)) },
		60 * perDay,
		health.Watch,
		health.Watch,
	},
	{
		"40 more after a gap, told once",
		"pending_sectors",
		func(_ *rand.Rand, i int) float64 { return map[bool]float64{true: 40, false: 0}[i == 59] },
		60,
		health.Sound,
		health.Sound,
	},
	{
		"a real jump of 40",
		"pending_sectors",
		func(_ *rand.Rand, i int) float64 { return map[bool]float64{true: 40, false: 0}[i >= 57] },
		60,
		health.Replace,
		health.Replace,
	},
	{"came and went ten times, ten days ago", "pending_sectors", func(_ *rand.Rand, i int) float64 {
		if i < 20*perDay && i/6%2 == 1 {
			return float64(1 + i/6%3)
		}
		return 0
	}, 60 * perDay, health.Replace, health.Watch},
	{
		"150 moved, then the count is reset",
		"reallocated_sectors",
		func(_ *rand.Rand, i int) float64 { return map[bool]float64{true: 150, false: 0}[i < 30] },
		30 * perDay,
		health.Replace,
		health.Replace,
	},
	{
		"spare falls 10 % a day, at 60 %",
		"spare_available_percent",
		func(_ *rand.Rand, i int) float64 { return 100 - 10*float64(i/perDay) },
		4*perDay + 1,
		health.Watch,
		health.Watch,
	},
	{
		"spare used up, then told as whole",
		"spare_available_percent",
		func(_ *rand.Rand, i int) float64 { return map[bool]float64{true: 5, false: 100}[i < 30] },
		30 * perDay,
		health.Replace,
		health.Replace,
	},
	{"power-on hours are reset", "power_on_hours", func(_ *rand.Rand, i int) float64 {
		return map[bool]float64{true: 21000, false: 0}[i < 30] + 4*float64(i)
	}, 12 * perDay, health.Watch, health.Watch},
	{"reads three times as slow, and they stay so", "read_latency_seconds", func(r *rand.Rand, i int) float64 {
		return 0.008 * (1 + 0.2*r.Float64()) * map[bool]float64{true: 3.2, false: 1}[i > 20*perDay]
	}, 25 * perDay, health.Watch, health.Watch},
	{"reads slow for an hour a day", "read_latency_seconds", func(r *rand.Rand, i int) float64 {
		return 0.008 * (1 + 0.2*r.Float64()) * map[bool]float64{true: 5, false: 1}[i%perDay == 0]
	}, 40 * perDay, health.Sound, health.Sound},
}

// quiet is a metric that the drive itself reports and that never changes. Without one, the drive would be unknown.
const quiet drive.MetricName = "start_stops"

// judgeNuisance gives the worst verdict on the way, and the one at the end.
func judgeNuisance(x nuisance, seed uint64) (worst, last health.Verdict) {
	limits := health.Usual()
	r := rand.New(rand.NewPCG(seed, 5))
	replay := health.NewReplay(&limits)
	at := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	worst, last = health.Sound, health.Sound
	for i := range x.n {
		at = at.Add(4 * time.Hour)
		if c, changed := replay.Read(at, map[drive.MetricName]float64{x.metric: x.values(r, i), quiet: 4}); changed {
			last = c.Verdict
			if last.Gravity() > worst.Gravity() {
				worst = last
			}
		}
	}
	return worst, last
}

// printNuisances says of each what was said of it; ok is false when one was taken for something else.
func printNuisances(w io.Writer) (ok bool) {
	ok = true
	fmt.Fprintf(w, "%-46s %-10s %-10s %s\n", "nuisance", "worst", "at the end", "correct")
	for _, x := range nuisances {
		right := 0
		var worst, last health.Verdict
		const seeds = 20
		for seed := range uint64(seeds) {
			if worst, last = judgeNuisance(x, seed); worst.Gravity() <= x.worst.Gravity() && last == x.last {
				right++
			}
		}
		fmt.Fprintf(w, "%-46s %-10s %-10s %d of %d\n", x.name, worst, last, right, seeds)
		ok = ok && right == seeds
	}
	return ok
}
