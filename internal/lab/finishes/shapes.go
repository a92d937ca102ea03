package main

import (
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/recovery"
)

// shapes are the ways in which a recovery's pace may run, each apart from the others: what a lab pool mixes is told
// apart here.
var shapes = []string{
	"constant",
	"zones",
	"busy hours",
	"load by day",
	"paused",
	"changed pace",
	"growing total",
	"zones and noise",
	"minor things last",
}

// held is where the seeds begin that nothing was adjusted on.
const held = 1000

// shaped makes one course of a shape, with what is known beside it.
func shaped(shape string, seed uint64) (course []recovery.Sample, begun time.Time, k recovery.Known) {
	r := rand.New(rand.NewPCG(seed, 101))
	k.Reach = -1
	total := (1 + 15*r.Float64()) * 1e12
	pace := (60 + 140*r.Float64()) * 1e6
	sigma, rho := 0.01+0.03*r.Float64(), 0.9*r.Float64()
	if shape == "zones and noise" {
		sigma = 0.1 + 0.15*r.Float64()
	}
	reach := 0.0
	if shape == "zones" || shape == "zones and noise" {
		if reach = 0.3 + 0.7*r.Float64(); r.IntN(2) == 0 {
			k.Reach = reach
		}
	}
	factor := math.Exp(-0.3 - 0.9*r.Float64())
	opens, closes := 6+float64(r.IntN(4)), 16+float64(r.IntN(5))
	at, faster := 0.15+0.7*r.Float64(), r.IntN(3) == 0
	hours := total / pace / 3600
	pauses, length := 1+r.IntN(4), hours*3600*(0.03+0.15*r.Float64())
	grows := 0.05 + 0.4*r.Float64()
	begun = time.Date(2026, 3, 1, r.IntN(24), r.IntN(60), 0, 0, time.UTC)
	now := begun
	every := max(30*time.Second, time.Duration(hours*3600/float64(200+r.IntN(400)))*time.Second)
	done, todo, noise, paused, was := 0.0, total, 0.0, 0.0, false
	hazard := float64(pauses) / (hours * 3600)
	course = append(course, recovery.Sample{At: now, Todo: drive.Bytes(todo)})
	for done < todo && len(course) < 20_000 {
		now = now.Add(every)
		seconds := every.Seconds()
		noise = rho*noise + math.Sqrt(1-rho*rho)*sigma*r.NormFloat64()
		p := pace * math.Exp(noise) * math.Sqrt(1-0.75*reach*done/todo)
		clock := float64(now.Hour()) + float64(now.Minute())/60
		switch shape {
		case "busy hours", "load by day", "minor things last":
			p *= slowed(shape, clock, opens, closes, factor, done/total)
		case "paused":
			if paused > 0 {
				paused -= seconds
				p = 0
			} else if pauses == 1 && !was && done > at*0.8*total || pauses > 1 && r.Float64() < hazard*seconds {
				paused, p, was = length*(0.7+0.6*r.Float64()), 0, true
			}
		case "changed pace":
			if done > at*total {
				if faster {
					p /= factor
				} else {
					p *= factor
				}
			}
		case "growing total":
			todo = total * (1 + grows*math.Min(1, done/(total*(1+grows)*at)))
		}
		done = math.Min(todo, done+p*seconds)
		course = append(course, recovery.Sample{At: now, Done: drive.Bytes(done), Todo: drive.Bytes(todo)})
	}
	return course, begun, k
}

// slowed is by what a pace is multiplied at an hour of the day, or at a share of the whole.
func slowed(shape string, clock, opens, closes, factor, share float64) float64 {
	switch {
	case shape == "load by day":
		return 1 - 0.5*(1-factor)*(1+math.Sin((clock-opens)/12*math.Pi))
	case shape == "busy hours" && clock >= opens && clock < closes, shape == "minor things last" && share > 0.94:
		return factor
	}
	return 1
}

// judgeShapes judges n courses of each shape.
func judgeShapes(n int, seed uint64) map[string]*card {
	out := map[string]*card{}
	for i, shape := range shapes {
		out[shape] = &card{}
		for j := range n {
			course, begun, k := shaped(shape, seed+uint64(i*n+j))
			out[shape].take(course, begun, k)
		}
	}
	return out
}

func printShapes(w *os.File, cards map[string]*card) {
	fmt.Fprintln(w, "median error of what is left, ours / rule of three, and how often the truth was within the range")
	fmt.Fprintf(w, "%-18s %26s %26s %26s\n", "course", "at 25 %", "at 50 %", "at 75 %")
	all := &card{}
	for _, shape := range shapes {
		c := cards[shape]
		fmt.Fprintf(w, "%-18s", shape)
		for i := 1; i < len(at); i++ {
			fmt.Fprintf(
				w,
				"   %5.1f %% / %5.1f %%, %3.0f %%",
				100*median(c.ours[i]),
				100*median(c.plain[i]),
				100*float64(c.inside[i])/float64(c.told[i]),
			)
		}
		fmt.Fprintln(w)
		for i := range at {
			all.ours[i], all.plain[i] = append(all.ours[i], c.ours[i]...), append(all.plain[i], c.plain[i]...)
			all.inside[i] += c.inside[i]
			all.told[i] += c.told[i]
		}
	}
	fmt.Fprintf(w, "%-18s", "all")
	for i := 1; i < len(at); i++ {
		fmt.Fprintf(
			w,
			"   %5.1f %% / %5.1f %%, %3.0f %%",
			100*median(all.ours[i]),
			100*median(all.plain[i]),
			100*float64(all.inside[i])/float64(all.told[i]),
		)
	}
	fmt.Fprintln(w)
}
