package recovery

import (
	"math"
	"math/rand/v2"
	"slices"
	"time"
)

// The finish is estimated from simulated futures. The course so far is cut into bins of equal working time. The
// logarithm of the pace of each bin is explained by a level, the shape of the medium (zoned recording, or the profile
// of earlier recoveries of the pool) and one of: no addition, a lasting change at some moment, busy hours of the day.
// The rest is noise, which may be correlated. Each explanation has a likelihood, integrated over its level, its change
// and the size of its noise (Bayesian linear regression: Bishop 2006, 3.3 to 3.5). Futures are sampled from the likely
// explanations and simulated to their end; the range is their quantiles. Pauses are removed from the pace and occur in
// the futures at the same rate; the same applies to the growth of the whole.

// Scores are the errors of the estimates at a quarter, half and three quarters of a recovery, in units of the range:
// standard normal deviates, if the ranges are right. Empty for a recovery that was not seen from beginning to end.
func Scores(s []Sample, k Known) (z []float64) {
	if _, ok := ProfileOf(s); !ok {
		return nil
	}
	s = lastRun(s)
	end := s[len(s)-1]
	k.Scores = nil
	for _, share := range []float64{0.25, 0.5, 0.75} {
		n := slices.IndexFunc(s, func(x Sample) bool { return float64(x.Done) >= share*float64(x.Todo) })
		if n < minSamples || n >= len(s)-1 {
			continue
		}
		f := finish(s[:n+1], k)
		now := s[n].At
		left := end.At.Sub(now).Seconds()
		if f == nil || left <= 0 || !f.P10.After(now) {
			continue
		}
		told, spread := math.Log(
			f.P50.Sub(now).Seconds(),
		), math.Log(
			f.P90.Sub(now).Seconds()/f.P10.Sub(now).Seconds(),
		)/(2*z90)
		z = append(z, (math.Log(left)-told)/math.Max(spread, 1e-3))
	}
	return z
}

// z90 is the 0.9 quantile of the standard normal distribution.
const z90 = 1.2816

// futures is the number of simulated futures.
const futures = 600

// longest is the longest time to a finish that is still shown.
const longest = 365 * 24 * time.Hour

// finish simulates futures and gives the range of their ends; nil when too little was seen, or when it would take
// longer than longest.
func finish(s []Sample, k Known) *Range {
	last := s[len(s)-1]
	c := working(s)
	total := math.Max(1, float64(last.Todo))
	b := c.bins(total)
	if len(b) < 2 || c.working <= 0 {
		return nil
	}
	begun := s[0].At
	for i := range s {
		if s[i].Done > s[0].Done {
			begun = s[max(0, i-1)].At
			break
		}
	}
	wall := last.At.Sub(begun).Seconds()
	rest := total - float64(last.Done)
	if rest <= 0 {
		return &Range{last.At, last.At, last.At}
	}
	width := c.working / float64(len(b))
	all := shapes(k)
	clock := begun.UTC().Sub(begun.UTC().Truncate(24 * time.Hour)).Seconds()
	more := explanations(b, wall+rest/math.Max(1, float64(last.Done-s[0].Done))*wall, clock)
	kept, sum := weigh(b, all, more)
	r := rand.New(
		rand.NewPCG(uint64(begun.Unix()), 0),
	) // the same random numbers each time: the estimate changes only with the data
	ends := make([]float64, 0, futures)
	upto, at := 0.0, 0
	for n := range futures { // systematic sampling: each explanation in proportion to its weight
		for at+1 < len(kept) && upto+kept[at].weight < (float64(n)+0.5)/futures*sum {
			upto += kept[at].weight
			at++
		}
		ends = append(
			ends,
			kept[at].future(r, b, &c, rest, total, width, last.At.Sub(begun).Seconds(), len(k.Past) > 0),
		)
	}
	slices.Sort(ends)
	wider := widen(k.Scores)
	if ends[futures/2] > longest.Seconds() {
		return nil
	}
	quantile := func(q float64) time.Time {
		middle := ends[futures/2]
		seconds := ends[int(q*futures)]
		if middle > 0 {
			seconds = middle * math.Pow(seconds/middle, wider)
		}
		return last.At.Add(time.Duration(math.Min(seconds, 10*longest.Seconds()) * float64(time.Second)))
	}
	return &Range{P10: quantile(0.1), P50: quantile(0.5), P90: quantile(0.9)}
}

// widen is the factor by which ranges must be wider than those of earlier recoveries: the root mean square of their
// scores, shrunk towards 1 where there are few.
func widen(scores []float64) float64 {
	const few = 6
	sum := float64(few)
	for _, z := range scores {
		sum += math.Min(z*z, 25)
	}
	return math.Max(0.7, math.Min(3, math.Sqrt(sum/float64(few+len(scores)))))
}

// Possible events without data: a lasting change in one of five recoveries; busy hours in one of five, while less than
// a day was seen; and a slow tail of many small objects in one of four without earlier recoveries.
const (
	changeAhead = 0.3
	busyAhead   = 0.2
	tailAhead   = 0.25
	tailShare   = 0.06
)

// future simulates one future and gives its end, in seconds from now.
func (f *fitted) future(r *rand.Rand, b []bin, c *seen, rest, total, width, now float64, known bool) float64 {
	beta := f.draw(r)
	at := func(x, when float64) float64 {
		v := beta[0] + f.shape.at(x)
		if f.effect != nil {
			for j, e := range f.effect(when) {
				v += beta[j+1] * e
			}
		}
		return v
	}
	end := b[len(b)-1]
	noise := end.log - at(end.x, end.at)
	if f.rho == 0 {
		noise = 0
	}
	e := f.events(r, rest, total, now, known)
	// Pauses occur at the rate seen so far; some recoveries have one although there was none so far.
	worked := c.working * total / math.Max(1, total-rest)
	rate := gamma(r, float64(len(c.pauses))+0.2) / (c.working + 0.3*worked)
	next := r.ExpFloat64() / math.Max(rate, 1e-12)
	// Growth that lasted for some time is assumed to last about as long again: whether it has just ended is not known.
	grows := 0.0
	if c.growth > 0 {
		grows = c.grew * (math.Pow(math.Max(1e-3, r.Float64()), -1/1.5) - 1)
	}
	seconds, active, left := 0.0, 0.0, rest
	expected := left / math.Exp(at(1-left/total/2, now))
	slice := math.Max(math.Min(width, expected/16), expected/48)
	bins := slice / width
	rho := math.Pow(f.rho, bins)
	own := f.slice(bins, rho)
	for range 4000 {
		noise = rho*noise + own*r.NormFloat64()
		x := 1 - left/total
		v := at(x, now+seconds+slice/2) + math.Max(-1.5, math.Min(1.5, noise))
		pace := e.pace(v, x, rest-left, now+seconds)
		net := pace
		if seconds < grows {
			net = math.Max(pace-c.growth, pace/5)
		}
		if did := net * slice; did >= left {
			active += left / net
			seconds += left / net
			left = 0
		} else {
			left -= did
			seconds += slice
			active += slice
		}
		paused, again := c.rest(r, active, next, rate, 0.08*worked)
		seconds, next = seconds+paused, again
		if left <= 0 {
			return seconds
		}
	}
	return math.Inf(1)
}

// ahead holds the events of one future.
type ahead struct {
	change, changed     float64 // after this many further bytes the logarithm of the pace changes by this much
	lull, opens, closes float64 // hours of the day, not seen yet, that are busier or quieter
	tail                float64 // how much slower the last bytes are
}

// events samples the events of one future.
func (f *fitted) events(r *rand.Rand, rest, total, now float64, known bool) ahead {
	e := ahead{change: math.Inf(1)}
	if r.Float64() < changeAhead*rest/total {
		e.change, e.changed = rest*r.Float64(), 0.5*r.NormFloat64()
	}
	if f.effect == nil && now < dayLong && r.Float64() < busyAhead {
		e.lull, e.opens = 0.5*r.NormFloat64(), now+r.Float64()*(dayLong-now)
		e.closes = e.opens + (6+6*r.Float64())*3600
	}
	if !known && r.Float64() < tailAhead {
		e.tail = math.Exp(0.2+0.6*r.Float64()) - 1
	}
	return e
}

// pace computes the pace from its logarithm at a share x of the whole, after did bytes, at a time of the day in
// seconds.
func (e *ahead) pace(v, x, did, when float64) float64 {
	if did >= e.change {
		v += e.changed
	}
	if when := math.Mod(when, dayLong); e.lull != 0 && when >= e.opens && when < e.closes {
		v += e.lull
	}
	pace := math.Exp(v)
	if e.tail > 0 && x > 1-tailShare {
		pace /= 1 + e.tail
	}
	return pace
}

// slice is the standard deviation of the noise of a slice, that of its bins together; rho is its correlation from slice
// to slice.
func (f *fitted) slice(bins, rho float64) float64 {
	switch {
	case f.rho >= 1:
		return f.sigma * math.Sqrt(bins)
	case f.rho > 0:
		return f.sigma / math.Sqrt(1-f.rho*f.rho) * math.Sqrt(1-rho*rho)
	case bins > 1:
		return f.sigma / math.Sqrt(bins)
	}
	return f.sigma
}

// rest samples the pauses until a number of seconds of work: their total length, and when the next is due. They occur
// at a rate; usual is the length of one where none was seen.
func (c *seen) rest(r *rand.Rand, active, next, rate, usual float64) (seconds, again float64) {
	for n := 0; active > next; n++ {
		if n == 30 { // so many that their sum is nearly certain
			return seconds + (active-next)*rate*mean(c.pauses, usual), active + r.ExpFloat64()/rate
		}
		length := usual
		if n := len(c.pauses); n > 0 {
			length = c.pauses[r.IntN(n)]
		}
		seconds += length * math.Exp(0.3*r.NormFloat64())
		next += r.ExpFloat64() / math.Max(rate, 1e-12)
	}
	return seconds, next
}

// mean is the mean of v, or the value of otherwise when v is empty.
func mean(v []float64, otherwise float64) float64 {
	if len(v) == 0 {
		return otherwise
	}
	sum := 0.0
	for _, x := range v {
		sum += x
	}
	return sum / float64(len(v))
}

// gamma samples the gamma distribution of a shape and scale 1 (Marsaglia and Tsang 2000).
func gamma(r *rand.Rand, shape float64) float64 {
	if shape < 1 {
		return gamma(r, shape+1) * math.Pow(r.Float64(), 1/shape)
	}
	d := shape - 1.0/3
	c := 1 / math.Sqrt(9*d)
	for {
		x := r.NormFloat64()
		v := 1 + c*x
		if v = v * v * v; v > 0 && math.Log(r.Float64()) < 0.5*x*x+d-d*v+d*math.Log(v) {
			return d * v
		}
	}
}
