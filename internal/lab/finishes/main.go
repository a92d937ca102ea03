// Command finishes measures the estimates of recoveries' finishes: it runs different recoveries in lab pools, estimates
// the finish at four points of each from the data known then, and compares that, and simple proportion, with the real
// end.
package main

import (
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/recovery"
	"lantern/internal/lab/engine"
)

func main() {
	if os.Getenv("LANTERN_FINISHES_INSIDE") != "" {
		real()
		return
	}
	fmt.Printf("%d courses of %d shapes, made of seeds that nothing was adjusted on\n\n", 40*len(shapes), len(shapes))
	printShapes(os.Stdout, judgeShapes(40, held))
	fmt.Println()
	card := judge(67, 3)
	fmt.Printf(
		"%d recoveries of %d pools in the lab, three in each: the first without a past, the others with those "+
			"before them\n\n",
		card.runs,
		card.pools,
	)
	card.print(os.Stdout)
	real()
}

// real measures recoveries of a real file system, where one is available.
func real() {
	real, why := realCourses()
	if why != "" {
		fmt.Fprintf(os.Stderr, "\n*** SKIPPED: no real file system's recoveries were judged: %s ***\n", why)
		return
	}
	fmt.Printf("\n%d recoveries of a real btrfs on loop devices, %s\n\n", real.runs, real.note)
	real.print(os.Stdout)
}

// at are the shares at which the finish is asked for.
var at = []float64{0.10, 0.25, 0.50, 0.75}

// card is what came out: errors relative to the time that really was left.
type card struct {
	runs, pools  int
	note         string
	ours, plain  [4][]float64
	inside, told [4]int
}

func (c *card) print(w *os.File) {
	fmt.Fprintln(w, "done   median error   rule of three   ratio   truth within the range   asked")
	for i, s := range at {
		if len(c.ours[i]) == 0 {
			continue
		}
		o, p := median(c.ours[i]), median(c.plain[i])
		fmt.Fprintf(
			w,
			"%3.0f %%  %10.1f %%  %12.1f %%  %6.2f  %20.0f %%  %6d\n",
			100*s,
			100*o,
			100*p,
			o/p,
			100*float64(c.inside[i])/float64(c.told[i]),
			c.told[i],
		)
	}
}

func median(v []float64) float64 {
	v = slices.Clone(v)
	slices.Sort(v)
	return v[len(v)/2]
}

// take judges one recovery from its whole course. begun is when it began, before anything moved.
func (c *card) take(course []recovery.Sample, begun time.Time, k recovery.Known) {
	c.runs++
	end := course[len(course)-1].At
	for i, share := range at {
		n := slices.IndexFunc(
			course,
			func(s recovery.Sample) bool { return float64(s.Done) >= share*float64(s.Todo) },
		)
		if n < 0 || n >= len(course)-1 {
			continue
		}
		now := course[n].At
		left := end.Sub(now).Seconds()
		v := recovery.Look(course[:n+1], recovery.Running, k, now)
		if v.Finish == nil || left <= 0 {
			continue
		}
		done := float64(course[n].Done) / float64(course[n].Todo)
		three := now.Sub(begun).Seconds() * (1 - done) / done
		c.ours[i] = append(c.ours[i], math.Abs(v.Finish.P50.Sub(now).Seconds()-left)/left)
		c.plain[i] = append(c.plain[i], math.Abs(three-left)/left)
		c.told[i]++
		if !end.Before(v.Finish.P10) && !end.After(v.Finish.P90) {
			c.inside[i]++
		}
	}
}

// judge runs recoveries in lab pools, several in each, one after the other.
func judge(pools, each int) *card {
	c := &card{pools: pools}
	for seed := range uint64(pools) {
		r := rand.New(rand.NewPCG(seed, 77))
		w := anyPool(r)
		var past []recovery.Profile
		var scores []float64
		for range each {
			course, begun := w.run(r)
			k := recovery.Known{Reach: w.reach, Past: past, Scores: scores}
			c.take(course, begun, k)
			scores = append(scores, recovery.Scores(course, k)...)
			if p, ok := recovery.ProfileOf(course); ok {
				past = append(past, p)
			}
		}
	}
	return c
}

// world is one pool, its drives, and how much it is used.
type world struct {
	pool        pool.Pool
	kind        recovery.Kind
	rate, reach float64
	seek        time.Duration
	load, swing float64 // what users take on average, and how much that swings over the day
	scale       float64 // how many small things there are
}

func anyPool(r *rand.Rand) *world {
	w := &world{
		rate:  1.2e8 + 1.6e8*r.Float64(),
		seek:  time.Duration(4+10*r.Float64()) * time.Millisecond,
		load:  0.5 * r.Float64() * r.Float64(),
		swing: r.Float64(),
		scale: 4 * r.Float64() * r.Float64(),
	}
	size := drive.Bytes(1+r.IntN(18)) * 1e12
	w.reach = 0.2 + 0.75*r.Float64()
	used := drive.Bytes(w.reach * float64(size))
	if r.IntN(5) == 0 { // solid state
		w.rate, w.seek, w.reach = 4e8+4e8*r.Float64(), 150*time.Microsecond, 0
	}
	g := pool.Group{Name: "g"}
	for i := range 3 + r.IntN(9) {
		g.Members = append(
			g.Members,
			pool.Member{
				Slot:   fmt.Sprint(i),
				State:  pool.Online,
				Domain: fmt.Sprint("h", i%4),
				Size:   size,
				Used:   used,
			},
		)
	}
	w.kind = []recovery.Kind{recovery.Resilver, recovery.Rebuild, recovery.Scrub, recovery.Drain,
		recovery.Rebuild}[r.IntN(5)]
	n := len(g.Members)
	switch {
	case w.kind == recovery.Drain:
		g.Spread = true
		g.Protect = pool.Protection{Data: 1, Tolerance: 1}
		if n < 4 {
			w.kind, g.Spread = recovery.Rebuild, false
		}
	case r.IntN(3) == 0:
		g.Protect = pool.Protection{Data: 1, Tolerance: n - 1}
	default:
		g.Protect = pool.Protection{Data: -1, Tolerance: 1 + r.IntN(min(3, n-1))}
	}
	w.pool = pool.Pool{
		Name:    "p",
		Groups:  []pool.Group{g},
		Volumes: []pool.Volume{{Name: "v", Used: drive.Bytes(float64(used) * float64(n) / 3)}},
	}
	return w
}

// run lets one recovery take its course, as an agent would see it.
func (w *world) run(r *rand.Rand) (course []recovery.Sample, begun time.Time) {
	e := engine.Lay(&w.pool, r.Uint64())
	for i := range e.Extents {
		e.Extents[i].Small = int(w.scale * float64(e.Extents[i].Small))
	}
	if w.kind != recovery.Drain && w.kind != recovery.Scrub {
		e.Blank("0")
	}
	slot := "0"
	if w.kind == recovery.Scrub {
		slot = ""
	}
	work := e.Begin(w.kind, slot, &w.pool)
	now := time.Date(2026, 3, 1, r.IntN(24), 0, 0, 0, time.UTC)
	begun = now
	// A member may fall ill on the way; users come and go, more by day, and never quite alike.
	ill, from, slow := "", math.Inf(1), 1.0
	if r.IntN(7) == 0 {
		ill, from, slow = fmt.Sprint(1+r.IntN(len(w.pool.Groups[0].Members)-1)), r.Float64(), 2+6*r.Float64()
	}
	noise := 0.0
	step := max(30*time.Second, time.Duration(float64(work.Todo)/w.rate/400)*time.Second)
	course = append(course, recovery.Sample{At: now, Todo: work.Todo})
	for range 20_000 {
		noise = 0.97*noise + 0.06*r.NormFloat64()
		day := math.Sin((float64(now.Hour()) + float64(now.Minute())/60 - 7) / 12 * math.Pi)
		share := float64(work.Done()) / float64(max(1, work.Todo))
		b := engine.Bench{There: func(string) bool { return true }, Share: 1,
			Load: min(0.9, max(0, w.load*(1+w.swing*day)+0.15*noise)),
			Rate: func(s string) float64 {
				if s == ill && share > from {
					return w.rate / slow
				}
				return w.rate
			},
			Seek: func(string) time.Duration { return w.seek }}
		now = now.Add(step)
		done := e.Advance(work, step, b)
		course = append(course, recovery.Sample{At: now, Done: work.Done(), Todo: work.Todo})
		if done {
			break
		}
	}
	return course, begun
}
