package recovery

import (
	"cmp"
	"math"
	"slices"
	"time"
)

// The finish is told from what the course so far makes of a set of shapes. A shape says how fast things go at each share of
// the whole, up to a factor: falling from the outer to the inner tracks (zoned recording), with a tail of many small things
// last, or as an earlier recovery of this pool, or of drives of this model, went. Each shape is as likely as it fits what was
// seen (Bayes), each gives a time for the rest, and the range is that of all of them, widened by how unsteady the course was.

// parts is into how many shares of equal size a profile divides a recovery.
const parts = 40

// Profile is how a recovery's time was spread over its course: the share of it spent in each fortieth, 1 in all.
type Profile [parts]float64

// ProfileOf takes the profile of a recovery that was seen from its beginning to its end; ok is false for one that was not.
func ProfileOf(s []Sample) (p Profile, ok bool) {
	s = lastRun(s)
	if len(s) < 2*minSamples {
		return p, false
	}
	last := s[len(s)-1]
	if last.Todo == 0 || float64(s[0].Done) > 0.02*float64(last.Todo) || float64(last.Done) < 0.98*float64(last.Todo) {
		return p, false
	}
	spans, seen := durations(s)
	whole := 0.0
	for _, d := range spans {
		whole += d
	}
	if whole <= 0 || seen[1] < parts-1 {
		return p, false
	}
	for i, d := range spans {
		p[i] = math.Max(d/whole, 1e-4)
	}
	return p, true
}

// durations is how many seconds were spent in each part; seen is the first part that was gone through whole, and the one
// after the last.
func durations(s []Sample) (spans [parts]float64, seen [2]int) {
	share := func(x Sample) float64 { return parts * math.Min(1, float64(x.Done)/math.Max(1, float64(x.Todo))) }
	// It begins where it first moves: what was spent before is looking, not moving.
	begin := 0
	for begin+1 < len(s) && s[begin+1].Done == s[begin].Done {
		begin++
	}
	for i := begin + 1; i < len(s); i++ {
		a, b, d := share(s[i-1]), share(s[i]), s[i].At.Sub(s[i-1].At).Seconds()
		if b <= a {
			spans[min(parts-1, int(a))] += d
			continue
		}
		for j := int(a); j < parts && float64(j) < b; j++ {
			overlap := math.Min(b, float64(j+1)) - math.Max(a, float64(j))
			spans[j] += d * overlap / (b - a)
		}
	}
	seen[0] = int(math.Ceil(share(s[begin]) - 1e-9))
	seen[1] = int(math.Floor(share(s[len(s)-1]) + 1e-9))
	return spans, seen
}

// shape is one way in which the time may be spread, and how likely that was held to be before anything was seen.
type shape struct {
	time   Profile // relative time in each part; its sum does not matter
	weight float64
}

// steepest is how much slower the innermost tracks are: they hold about half as many sectors as the outermost.
const steepest = 0.52

// shapes are all that are tried.
func shapes(k Known) (out []shape) {
	reach := k.Reach
	for i := range 7 {
		slope := float64(i) * 0.09
		likely := 1.0
		if reach >= 0 {
			d := (slope - steepest*reach) / 0.12
			likely = math.Exp(-d * d / 2)
		}
		for _, tail := range []struct{ share, slower, weight float64 }{{0, 1, 0.4}, {0.06, 1.6, 0.25}, {0.06, 3, 0.17}, {0.06, 6, 0.1}, {0.06, 12, 0.05}, {0.15, 2, 0.03}} {
			var p Profile
			for j := range p {
				at := (float64(j) + 0.5) / parts
				p[j] = 1 / (1 - slope*at)
				if at > 1-tail.share {
					p[j] *= tail.slower
				}
			}
			out = append(out, shape{p, likely * tail.weight})
		}
	}
	sum := 0.0
	for _, s := range out {
		sum += s.weight
	}
	// What went so before will likely go so again: earlier recoveries have more weight than what might be.
	with := func(past []Profile, all float64) {
		if n := min(len(past), 5); n > 0 {
			for _, p := range past[len(past)-n:] {
				out = append(out, shape{p, all * sum / float64(n)})
			}
		}
	}
	with(k.Past, 3)
	with(k.Kin, 1)
	return out
}

// unsteady is how much, relative, the pace of a part differs from what a shape gives, at least; parts near each other
// differ together, so they count for less than their number: alike parts for one.
const (
	unsteady = 0.08
	alike    = 2.5
)

// finish weighs the shapes. nil when too little was seen to compare them with.
func finish(s []Sample, k Known) *Range {
	spans, seen := durations(s)
	last := s[len(s)-1]
	at := parts * math.Min(1, float64(last.Done)/math.Max(1, float64(last.Todo)))
	from, to := seen[0], seen[1]
	if to-from < 1 {
		// Less than one part was gone through whole: what there is counts as one.
		from, to = int(at), int(at)+1
		begin := parts * float64(s[0].Done) / math.Max(1, float64(last.Todo))
		within := at - math.Max(begin, float64(from))
		if within < 0.02 {
			return nil
		}
		spans[from] /= within
	}
	type guess struct{ rest, weight, spread float64 }
	var all []guess
	best := math.Inf(-1)
	for _, sh := range shapes(k) {
		// The pace of each part against what the shape gives; newer parts say more of what comes.
		var mean, weights float64
		logs := make([]float64, 0, to-from)
		for j := from; j < to; j++ {
			l := math.Log(math.Max(spans[j], 1e-9) / sh.time[j])
			logs = append(logs, l)
			w := recent(j, to)
			mean += w * l
			weights += w
		}
		mean /= weights
		var plain, off float64
		for _, l := range logs {
			plain += l / float64(len(logs))
		}
		for _, l := range logs {
			off += (l - plain) * (l - plain)
		}
		n := float64(len(logs))
		scatter := math.Sqrt(off/n + unsteady*unsteady)
		fit := -n / alike * math.Log(scatter)
		best = math.Max(best, fit)
		rest := (math.Ceil(at) - at) * sh.time[min(parts-1, int(at))]
		for j := int(math.Ceil(at)); j < parts; j++ {
			rest += sh.time[j]
		}
		// A pace that was seen for a short time only may be any other for the rest.
		doubt := scatter*math.Sqrt(alike/n) + 0.16*math.Sqrt((parts-at)/parts)*math.Pow(1/(1+n), 0.35)
		all = append(all, guess{rest * math.Exp(mean), math.Log(sh.weight+1e-12) + fit, doubt})
	}
	type point struct{ rest, weight float64 }
	var points []point
	for _, g := range all {
		for _, z := range normal {
			points = append(points, point{g.rest * math.Exp(z*g.spread), math.Exp(g.weight - best)})
		}
	}
	slices.SortFunc(points, func(a, b point) int { return cmp.Compare(a.rest, b.rest) })
	sum := 0.0
	for _, p := range points {
		sum += p.weight
	}
	quantile := func(q float64) time.Time {
		n := 0.0
		for _, p := range points {
			if n += p.weight; n >= q*sum {
				return last.At.Add(time.Duration(p.rest * float64(time.Second)))
			}
		}
		return last.At
	}
	return &Range{P10: quantile(0.1), P50: quantile(0.5), P90: quantile(0.9)}
}

// recent is how much a part counts for the pace that is taken on from here.
func recent(j, to int) float64 { return math.Exp(-float64(to-1-j) / (2 + 0.3*float64(to))) }

// normal are the middles of ten equal parts of the standard normal distribution.
var normal = []float64{-1.645, -1.036, -0.674, -0.385, -0.126, 0.126, 0.385, 0.674, 1.036, 1.645}
