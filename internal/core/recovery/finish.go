package recovery

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"
	"time"
)

// The finish is told from simulated futures. The course so far is cut into pieces of equal working time; the logarithm of the pace of
// each is explained by a level, the shape of the medium (zoned recording, or how earlier recoveries of the pool went) and one of:
// nothing more, a lasting change at some moment, busy hours of the day; what is left is noise that may hang together. Every such
// explanation has a likelihood, integrated over its level, its change and the size of its noise (Bayesian linear regression: Bishop
// 2006, 3.3 to 3.5). Futures are drawn from the likely ones and run to their end; the range is their quantiles. Pauses are taken out of
// the pace, and come again in the futures as often as they came; so does the growth of the whole.

// parts is into how many shares of equal size a profile divides a recovery.
const parts = 40

// Profile is how a recovery's time was spread over its course: the share of it spent in each fortieth, 1 in all.
type Profile [parts]float64

// ProfileOf takes the profile of a recovery that was seen from its beginning to its end; ok is false for one that was not. Pauses
// are left out of it.
func ProfileOf(s []Sample) (p Profile, ok bool) {
	s = lastRun(s)
	if len(s) < 2*minSamples {
		return p, false
	}
	last := s[len(s)-1]
	if last.Todo == 0 || float64(s[0].Done) > 0.02*float64(last.Todo) || float64(last.Done) < 0.98*float64(last.Todo) {
		return p, false
	}
	c := working(s)
	total, whole := math.Max(1, float64(last.Done)), 0.0
	for _, w := range c.steps {
		if w.bytes <= 0 {
			p[min(parts-1, int(w.from/total*parts))] += w.seconds
			whole += w.seconds
			continue
		}
		a, b := w.from/total*parts, (w.from+w.bytes)/total*parts
		for j := int(a); j < parts && float64(j) < b; j++ {
			p[j] += w.seconds * (math.Min(b, float64(j+1)) - math.Max(a, float64(j))) / (b - a)
		}
		whole += w.seconds
	}
	if whole <= 0 {
		return p, false
	}
	for i := range p {
		p[i] = math.Max(p[i]/whole, 1e-4)
	}
	return p, true
}

// Scores are how far, in units of what the range allows for, the end of a recovery was from what was told at a quarter, half and three
// quarters of it: a standard normal deviate each, if the ranges are right. Empty for one that was not seen from beginning to end.
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
		told, spread := math.Log(f.P50.Sub(now).Seconds()), math.Log(f.P90.Sub(now).Seconds()/f.P10.Sub(now).Seconds())/(2*z90)
		z = append(z, (math.Log(left)-told)/math.Max(spread, 1e-3))
	}
	return z
}

// z90 is the 0.9 quantile of the standard normal distribution.
const z90 = 1.2816

// step is a time of work between two samples: pauses are none.
type step struct {
	at            float64 // seconds since the course began, at its middle
	seconds       float64
	from, bytes   float64
	active, until float64 // working time until its beginning, and its end
}

// seen is a course without its pauses.
type seen struct {
	steps   []step
	pauses  []float64 // seconds each
	working float64   // seconds
	growth  float64   // bytes that the whole grows in a second, of late
	grew    float64   // seconds for which it did
}

// working takes the pauses out of a course. A pause is a time without progress that is far longer than its steps usually are.
func working(s []Sample) (c seen) {
	begin := 0
	for begin+1 < len(s) && s[begin+1].Done == s[begin].Done {
		begin++ // what was spent before it first moves is looking, not moving
	}
	var gaps []float64
	since := begin
	for i := begin + 1; i < len(s); i++ {
		if s[i].Done > s[i-1].Done {
			gaps = append(gaps, s[i].At.Sub(s[since].At).Seconds())
			since = i
		}
	}
	if len(gaps) == 0 {
		return c
	}
	sorted := slices.Clone(gaps)
	slices.Sort(sorted)
	usual := sorted[len(sorted)/2]
	long := math.Max(4*usual, 3*sorted[len(sorted)*9/10])
	t0 := s[begin].At
	since = begin
	for i := begin + 1; i < len(s); i++ {
		if s[i].Done == s[i-1].Done {
			continue
		}
		gap := s[i].At.Sub(s[since].At).Seconds()
		bytes := float64(s[i].Done) - float64(s[since].Done)
		if gap > long && i-since > 1 { // it stood still for a while; when it moved again is known to one sample
			paused := s[i-1].At.Sub(s[since].At).Seconds()
			c.pauses = append(c.pauses, paused)
			gap -= paused
		}
		end := s[i].At.Sub(t0).Seconds()
		c.steps = append(c.steps, step{at: end - gap/2, seconds: gap, from: float64(s[since].Done), bytes: bytes, active: c.working, until: c.working + gap})
		c.working += gap
		since = i
	}
	// How the whole grew in the newer half of the course.
	last := s[len(s)-1]
	half := slices.IndexFunc(s, func(x Sample) bool { return x.At.After(t0.Add(last.At.Sub(t0) / 2)) })
	if half > 0 && c.working > 0 && last.Todo > s[half-1].Todo {
		if stillGrows(s[begin:]) {
			c.growth = float64(last.Todo-s[half-1].Todo) / math.Max(1, last.At.Sub(s[half-1].At).Seconds())
			first := begin
			for first+1 < half && s[first+1].Todo == s[begin].Todo {
				first++
			}
			c.grew = last.At.Sub(s[first].At).Seconds()
		}
	}
	return c
}

// stillGrows says whether the whole has not stopped growing: its last growth is no longer ago than three times the longest wait
// between two.
func stillGrows(s []Sample) bool {
	longest, since := time.Duration(0), s[0].At
	for i := 1; i < len(s); i++ {
		if s[i].Todo > s[i-1].Todo {
			longest = max(longest, s[i].At.Sub(since))
			since = s[i].At
		}
	}
	return s[len(s)-1].At.Sub(since) <= 3*longest
}

// mostBins is into how many pieces the working time is cut.
const mostBins = 72

// bin is one piece: the pace in it, where in the whole and at what time.
type bin struct {
	log     float64 // of bytes a second
	x       float64 // share of the whole at its middle
	at      float64 // seconds since the course began, at its middle
	seconds float64
}

func (c *seen) bins(total float64) (out []bin) {
	n := min(mostBins, len(c.steps))
	width := c.working / float64(n)
	var b struct{ bytes, seconds, x, at float64 }
	for i, w := range c.steps {
		b.bytes += w.bytes
		b.seconds += w.seconds
		b.x += w.seconds * (w.from + w.bytes/2)
		b.at += w.seconds * w.at
		// What is left over at the end is too little to tell a pace, unless there is hardly anything else: after one long step.
		last := i == len(c.steps)-1 && (b.seconds >= width/2 || len(out) < 2)
		if b.bytes > 0 && b.seconds > 0 && (b.seconds >= width*(1-1e-9) || last) {
			out = append(out, bin{math.Log(b.bytes / b.seconds), b.x / b.seconds / total, b.at / b.seconds, b.seconds})
			b = struct{ bytes, seconds, x, at float64 }{}
		}
	}
	return out
}

// shape is how the logarithm of the pace runs over the whole, up to a level, and how likely that was held to be beforehand.
type shape struct {
	at     func(x float64) float64
	weight float64 // in the end a logarithm
}

// zoned is the pace at share x of the whole where the data reach so far towards the innermost tracks: the pace goes with the radius,
// the bytes with the area, and the innermost radius is about half of the outermost (rate = sqrt(1 - 0.75·reach·x)).
func zoned(reach float64) func(float64) float64 {
	return func(x float64) float64 { return 0.5 * math.Log(1-0.75*reach*math.Min(1, x)) }
}

// shapes are all that are tried.
func shapes(k Known) (out []shape) {
	for i := range 9 {
		reach := float64(i) / 8
		weight := 1.0 / 9
		switch {
		case k.Reach == 0:
			weight = 0.01 // media without tracks
		case k.Reach > 0:
			d := (reach - k.Reach) / 0.12
			weight = 0.02 + math.Exp(-d*d/2)
		}
		if i == 0 { // what holds it up is not the medium
			weight += 0.6
		}
		out = append(out, shape{zoned(reach), weight})
	}
	sum := 0.0
	for _, s := range out {
		sum += s.weight
	}
	for i := range out {
		out[i].weight /= sum
	}
	// What went so before will likely go so again.
	with := func(past []Profile, weight float64) {
		n := min(len(past), 4)
		if n == 0 {
			return
		}
		var mean [parts]float64
		for _, p := range past[len(past)-n:] {
			for j := range p {
				mean[j] -= math.Log(p[j]*parts) / float64(n)
			}
		}
		out = append(out, shape{func(x float64) float64 {
			at := math.Max(0, math.Min(x*parts-0.5, parts-1))
			j := int(at)
			return mean[j] + (mean[min(parts-1, j+1)]-mean[j])*(at-float64(j))
		}, weight})
	}
	with(k.Past, 1.5)
	with(k.Kin, 0.4)
	for i := range out {
		out[i].weight = math.Log(out[i].weight)
	}
	return out
}

// model is one explanation of the pace beside level and shape.
type model struct {
	columns [][]float64 // one value for each bin
	// effect gives the same at a moment that is not seen yet.
	effect func(at float64) []float64
	prior  float64 // logarithm
}

// fitted is an explanation under one shape, with one kind and size of noise.
type fitted struct {
	*model
	shape  *shape
	rho    float64 // how much the noise of a bin hangs together with that of the one before
	sigma  float64 // of what is new in it
	mean   [3]float64
	spread [3][3]float64 // lower triangular factor of the posterior's precision
	weight float64
}

var (
	noises   = []float64{0.003, 0.008, 0.02, 0.045, 0.1, 0.2, 0.4}
	together = []float64{0, 0.5, 0.8, 0.95, 1}
)

// How large changes are beforehand, as standard deviations of the logarithm of the pace.
const (
	lasting = 0.6
	busy    = 0.6
	daily   = 0.3
)

const dayLong = 86400.0

// explanations are the additions to level and shape: what they are at each bin and later, and how likely beforehand. wall is how long
// all may take, clock the time of day in UTC at which the course began, in seconds: busy hours begin and end on the hour.
func explanations(b []bin, wall, clock float64) (out []model) {
	n := len(b)
	out = append(out, model{prior: math.Log(0.6)})
	// A lasting change at one of up to 36 moments, after at least two bins.
	if n >= 5 {
		every := max(1, (n-3)/36)
		count := 0
		for i := 2; i < n-1; i += every {
			count++
		}
		for i := 2; i < n-1; i += every {
			column := make([]float64, n)
			for j := i; j < n; j++ {
				column[j] = 1
			}
			out = append(out, model{columns: [][]float64{column}, effect: func(float64) []float64 { return []float64{1} }, prior: math.Log(0.2 / float64(count))})
		}
	}
	// Busy hours: a window of the day, each day, of some length.
	if n >= 6 && wall > 4*3600 {
		lengths := []float64{7, 8, 9, 10, 11, 12, 14}
		for _, hours := range lengths {
			for begin := range 24 {
				in := func(at float64) float64 {
					h := math.Mod((clock+at)/3600+24-float64(begin), 24)
					if h < hours {
						return 1
					}
					return 0
				}
				column := make([]float64, n)
				some := 0.0
				for j := range b {
					column[j] = in(b[j].at)
					some += column[j]
				}
				if some < 2 || some > float64(n)-2 {
					continue
				}
				out = append(out, model{columns: [][]float64{column}, effect: func(at float64) []float64 { return []float64{in(at)} }, prior: math.Log(0.15 / float64(24*len(lengths)))})
			}
		}
		turn := func(at float64) []float64 {
			return []float64{math.Sin(2 * math.Pi * at / dayLong), math.Cos(2 * math.Pi * at / dayLong)}
		}
		columns := [][]float64{make([]float64, n), make([]float64, n)}
		for j := range b {
			w := turn(b[j].at)
			columns[0][j], columns[1][j] = w[0], w[1]
		}
		out = append(out, model{columns: columns, effect: turn, prior: math.Log(0.05)})
	}
	return out
}

// sums are what a regression needs of its data.
type sums struct {
	xx [3][3]float64
	xy [3]float64
	yy float64
}

// whiten takes from each value rho times the one before; the first is as it is, as its variance is that of the noise itself.
func whiten(v []float64, rho float64) []float64 {
	out := make([]float64, len(v))
	out[0] = v[0] * math.Sqrt(math.Max(1-rho*rho, 0.02))
	for i := 1; i < len(v); i++ {
		out[i] = v[i] - rho*v[i-1]
	}
	return out
}

func dot(a, b []float64) (sum float64) {
	for i, x := range a {
		sum += x * b[i]
	}
	return sum
}

// posterior is the regression of one explanation with noise of one size: how likely the data are under it (a logarithm), the
// coefficients and the factor of their precision.
func posterior(d *sums, p, n int, precision [3]float64, logPrior, innovation float64) (evidence float64, mean [3]float64, l [3][3]float64) {
	s2 := innovation * innovation
	logDet, quad := 1.0, 0.0
	var z [3]float64 // solves L z = X'y/s2
	for i := range p {
		for j := range i + 1 {
			a := d.xx[i][j] / s2
			if i == j {
				a += precision[i]
			}
			for q := range j {
				a -= l[i][q] * l[j][q]
			}
			if i == j {
				l[i][i] = math.Sqrt(math.Max(a, 1e-12))
				logDet *= l[i][i]
			} else {
				l[i][j] = a / l[j][j]
			}
		}
		a := d.xy[i] / s2
		for q := range i {
			a -= l[i][q] * z[q]
		}
		z[i] = a / l[i][i]
		quad += z[i] * z[i]
	}
	for i := p - 1; i >= 0; i-- { // solves L' mean = z
		a := z[i]
		for q := i + 1; q < p; q++ {
			a -= l[q][i] * mean[q]
		}
		mean[i] = a / l[i][i]
	}
	return -float64(n)*math.Log(innovation) + logPrior - math.Log(logDet) - 0.5*(d.yy/s2-quad), mean, l
}

// evidence is how likely the data are under an explanation, as posterior tells, without its coefficients.
func evidence(d *sums, p, n int, precision [3]float64, logPrior, innovation float64) float64 {
	s2 := 1 / (innovation * innovation)
	a := d.xx[0][0]*s2 + precision[0]
	det, q := a, d.xy[0]*d.xy[0]*s2*s2/a
	if p > 1 {
		l10 := d.xx[1][0] * s2 / a
		b := d.xx[1][1]*s2 + precision[1] - l10*l10*a
		v1 := d.xy[1]*s2 - l10*d.xy[0]*s2
		det *= b
		q += v1 * v1 / b
		if p > 2 {
			l20 := d.xx[2][0] * s2 / a
			l21 := (d.xx[2][1]*s2 - l20*l10*a) / b
			c := d.xx[2][2]*s2 + precision[2] - l20*l20*a - l21*l21*b
			v2 := d.xy[2]*s2 - l20*d.xy[0]*s2 - l21*v1
			det *= c
			q += v2 * v2 / c
		}
	}
	return -float64(n)*math.Log(innovation) + logPrior - 0.5*math.Log(det) - 0.5*(d.yy*s2-q)
}

// weigh finds the explanations that are likely, the most likely first; their weights add up to sum.
func weigh(b []bin, all []shape, more []model) (kept []fitted, sum float64) {
	n := len(b)
	level := make([]float64, n)
	for i := range level {
		level[i] = 1
	}
	type entry struct {
		model, shape, rho, noise int16
		evidence                 float64
	}
	var entries []entry
	best := math.Inf(-1)
	ys := make([][]float64, len(all))
	for i := range all {
		ys[i] = make([]float64, n)
		for j := range b {
			ys[i][j] = b[j].log - all[i].at(b[j].x)
		}
	}
	// What does not depend on the explanation, for each kind of noise.
	type white struct {
		one []float64
		y   [][]float64
		yy  []float64
		y1  []float64
	}
	whites := make([]white, len(together))
	for ri, rho := range together {
		w := white{one: whiten(level, rho)}
		for i := range all {
			y := whiten(ys[i], rho)
			w.y, w.yy, w.y1 = append(w.y, y), append(w.yy, dot(y, y)), append(w.y1, dot(y, w.one))
		}
		whites[ri] = w
	}
	type prepared struct {
		sums
		p        int
		columns  [2][]float64
		prior    [3]float64 // precisions
		logPrior float64
	}
	prepare := func(m *model, ri int) (d prepared) {
		w := &whites[ri]
		d.p = 1 + len(m.columns)
		d.xx[0][0] = dot(w.one, w.one)
		d.prior, d.logPrior = [3]float64{1e-4}, 0.5*math.Log(1e-4)
		sd := lasting
		if d.p == 3 {
			sd = daily
		}
		for j, c := range m.columns {
			d.columns[j] = whiten(c, together[ri])
			d.xx[j+1][0] = dot(d.columns[j], w.one)
			for q := range j + 1 {
				d.xx[j+1][q+1] = dot(d.columns[j], d.columns[q])
			}
			d.prior[j+1] = 1 / (sd * sd)
			d.logPrior -= math.Log(sd)
		}
		return d
	}
	under := func(d *prepared, ri, sh int) {
		w := &whites[ri]
		d.yy, d.xy[0] = w.yy[sh], w.y1[sh]
		for j := range d.p - 1 {
			d.xy[j+1] = dot(d.columns[j], w.y[sh])
		}
	}
	innovation := func(sigma, rho float64) float64 { return sigma * math.Sqrt(math.Max(1-rho*rho, 0.04)) }
	// Most explanations are far off with any kind of noise: two kinds show which need not be tried with the others.
	first, promising := []int{0, 2}, make([]float64, len(more))
	try := func(i, ri int) (most float64) {
		d := prepare(&more[i], ri)
		most = math.Inf(-1)
		for sh := range all {
			under(&d, ri, sh)
			for si, sigma := range noises {
				e := evidence(&d.sums, d.p, n, d.prior, d.logPrior, innovation(sigma, together[ri])) + more[i].prior + all[sh].weight
				most = math.Max(most, e)
				if e > best-9 {
					entries = append(entries, entry{int16(i), int16(sh), int16(ri), int16(si), e})
				}
			}
		}
		best = math.Max(best, most)
		return most
	}
	for i := range more {
		promising[i] = math.Inf(-1)
		for _, ri := range first {
			promising[i] = math.Max(promising[i], try(i, ri))
		}
	}
	for i := range more {
		for ri := range together {
			if !slices.Contains(first, ri) && n >= 8 && promising[i] > best-16 {
				try(i, ri)
			}
		}
	}
	slices.SortFunc(entries, func(a, b entry) int {
		return cmp.Or(cmp.Compare(b.evidence, a.evidence), cmp.Compare(a.model, b.model), cmp.Compare(a.shape, b.shape), cmp.Compare(a.rho, b.rho), cmp.Compare(a.noise, b.noise))
	})
	for _, e := range entries {
		if e.evidence < best-9 || len(kept) == 400 {
			break
		}
		m, rho := &more[e.model], together[e.rho]
		f := fitted{model: m, shape: &all[e.shape], rho: rho, sigma: innovation(noises[e.noise], rho), weight: math.Exp(e.evidence - best)}
		d := prepare(m, int(e.rho))
		under(&d, int(e.rho), int(e.shape))
		_, f.mean, f.spread = posterior(&d.sums, d.p, n, d.prior, d.logPrior, f.sigma)
		sum += f.weight
		kept = append(kept, f)
	}
	return kept, sum
}

// draw takes one set of coefficients: mean + (L')^-1 normal.
func (f *fitted) draw(r *rand.Rand) (out [3]float64) {
	for i := len(f.columns); i >= 0; i-- {
		a := r.NormFloat64()
		for q := i + 1; q <= len(f.columns); q++ {
			a -= f.spread[q][i] * out[q]
		}
		out[i] = a / f.spread[i][i]
	}
	for i := range out {
		out[i] += f.mean[i]
	}
	return out
}

// futures is how many are simulated.
const futures = 600

// longest is how far off a finish may be to be told.
const longest = 365 * 24 * time.Hour

// finish simulates. nil when too little was seen, or when it would take longer than longest.
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
	r := rand.New(rand.NewPCG(uint64(begun.Unix()), 0)) // the same futures from look to look: what is told changes with what is seen only
	ends := make([]float64, 0, futures)
	upto, at := 0.0, 0
	for n := range futures { // systematic sampling: each explanation as often as it is likely
		for at+1 < len(kept) && upto+kept[at].weight < (float64(n)+0.5)/futures*sum {
			upto += kept[at].weight
			at++
		}
		ends = append(ends, kept[at].future(r, b, &c, rest, total, width, last.At.Sub(begun).Seconds(), len(k.Past) > 0))
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

// widen is how much wider, or narrower, ranges have to be than those of earlier recoveries were: the root mean square of their
// scores, drawn towards 1 where there are few.
func widen(scores []float64) float64 {
	const few = 6
	sum := float64(few)
	for _, z := range scores {
		sum += math.Min(z*z, 25)
	}
	return math.Max(0.7, math.Min(3, math.Sqrt(sum/float64(few+len(scores)))))
}

// What may come that was not seen: a lasting change in one of five recoveries; busy hours in one of five, while less than a day
// was seen; and a tail of many small things in one of four of which no earlier one told.
const (
	changeAhead = 0.3
	busyAhead   = 0.2
	tailAhead   = 0.25
	tailShare   = 0.06
)

// future runs one future to its end, in seconds from now.
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
	change, changed := math.Inf(1), 0.0
	if r.Float64() < changeAhead*rest/total {
		change, changed = rest*r.Float64(), 0.5*r.NormFloat64()
	}
	// Hours of the day that were not seen yet may be busier, or quieter, than those that were.
	lull, opens, closes := 0.0, 0.0, 0.0
	if f.effect == nil && now < dayLong && r.Float64() < busyAhead {
		lull, opens = 0.5*r.NormFloat64(), now+r.Float64()*(dayLong-now)
		closes = opens + (6+6*r.Float64())*3600
	}
	tail := 0.0
	if !known && r.Float64() < tailAhead {
		tail = math.Exp(0.2+0.6*r.Float64()) - 1
	}
	// Pauses come as often as they came; one in a few recoveries has one though there was none so far.
	worked := c.working * total / math.Max(1, total-rest)
	rate := gamma(r, float64(len(c.pauses))+0.2) / (c.working + 0.3*worked)
	next := r.ExpFloat64() / math.Max(rate, 1e-12)
	// What grew for some time goes on for as long again, give or take: whether it has just ended nobody can say.
	grows := 0.0
	if c.growth > 0 {
		grows = c.grew * (math.Pow(math.Max(1e-3, r.Float64()), -1/1.5) - 1)
	}
	seconds, active, left := 0.0, 0.0, rest
	expected := left / math.Exp(at(1-left/total/2, now))
	slice := math.Max(math.Min(width, expected/16), expected/48)
	bins := slice / width
	rho := math.Pow(f.rho, bins)
	// What the noise of a slice varies by: that of its bins together.
	own := f.sigma
	switch {
	case f.rho >= 1:
		own = f.sigma * math.Sqrt(bins)
	case f.rho > 0:
		own = f.sigma / math.Sqrt(1-f.rho*f.rho) * math.Sqrt(1-rho*rho)
	case bins > 1:
		own = f.sigma / math.Sqrt(bins)
	}
	for range 4000 {
		noise = rho*noise + own*r.NormFloat64()
		x := 1 - left/total
		v := at(x, now+seconds+slice/2) + math.Max(-1.5, math.Min(1.5, noise))
		if left <= rest-change {
			v += changed
		}
		if when := math.Mod(now+seconds, dayLong); lull != 0 && when >= opens && when < closes {
			v += lull
		}
		pace := math.Exp(v)
		if tail > 0 && x > 1-tailShare {
			pace /= 1 + tail
		}
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
		for n := 0; active > next; n++ {
			if n == 30 { // so many that their sum is known
				seconds += (active - next) * rate * mean(c.pauses, 0.08*worked)
				next = active + r.ExpFloat64()/rate
				break
			}
			length := 0.08 * worked
			if n := len(c.pauses); n > 0 {
				length = c.pauses[r.IntN(n)]
			}
			seconds += length * math.Exp(0.3*r.NormFloat64())
			next += r.ExpFloat64() / math.Max(rate, 1e-12)
		}
		if left <= 0 {
			return seconds
		}
	}
	return math.Inf(1)
}

// mean is the mean of v, or otherwise when there are none.
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

// gamma draws from the gamma distribution of a shape and scale 1 (Marsaglia and Tsang 2000).
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
