package recovery

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"
)

// shape is the logarithm of the pace over the whole, without its level, and its prior probability.
type shape struct {
	at     func(x float64) float64
	weight float64 // in the end a logarithm
}

// zoned is the pace at share x of the whole, where reach is how far the data extends towards the innermost tracks: the
// pace is proportional to the radius, the bytes to the area, and the innermost radius is about half of the outermost
// (rate = sqrt(1 - 0.75·reach·x)).
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
		if i == 0 { // the medium is not what limits it
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
	// Earlier recoveries predict this one.
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
	// effect gives the same for a future moment.
	effect func(at float64) []float64
	prior  float64 // logarithm
}

// fitted is an explanation under one shape, with one kind and size of noise.
type fitted struct {
	*model
	shape  *shape
	rho    float64 // correlation of the noise of consecutive bins
	sigma  float64 // standard deviation of its innovation
	mean   [3]float64
	spread [3][3]float64 // lower triangular factor of the posterior's precision
	weight float64
}

var (
	noises   = []float64{0.003, 0.008, 0.02, 0.045, 0.1, 0.2, 0.4}
	together = []float64{0, 0.5, 0.8, 0.95, 1}
)

// Prior standard deviations of changes, in the logarithm of the pace.
const (
	lasting = 0.6
	busy    = 0.6
	daily   = 0.3
)

const dayLong = 86400.0

// explanations are the additions to level and shape: their values at each bin and later, and their prior probabilities.
// wall is the whole time that it may take, clock the time of day in UTC at which the course began, both in seconds:
// busy hours begin and end on the hour.
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
			out = append(
				out,
				model{
					columns: [][]float64{column},
					effect:  func(float64) []float64 { return []float64{1} },
					prior:   math.Log(0.2 / float64(count)),
				},
			)
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
				out = append(
					out,
					model{
						columns: [][]float64{column},
						effect:  func(at float64) []float64 { return []float64{in(at)} },
						prior:   math.Log(0.15 / float64(24*len(lengths))),
					},
				)
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

// sums are the sums over the data that a regression needs.
type sums struct {
	xx [3][3]float64
	xy [3]float64
	yy float64
}

// whiten subtracts from each value rho times the one before; the first is unchanged, as its variance is that of the
// noise itself.
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

// posterior is the regression of one explanation with one size of noise: the log likelihood of the data, the
// coefficients and the factor of their precision.
func posterior(
	d *sums,
	p, n int,
	precision [3]float64,
	logPrior, innovation float64,
) (evidence float64, mean [3]float64, l [3][3]float64) {
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

// evidence is the log likelihood of the data under an explanation, as in posterior, without the coefficients.
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

// weigh gives the likely explanations, the most likely first; their weights add up to sum.
func weigh(b []bin, all []shape, more []model) (kept []fitted, sum float64) {
	n := len(b)
	type entry struct {
		model, shape, rho, noise int16
		evidence                 float64
	}
	var entries []entry
	best := math.Inf(-1)
	whites := whitened(b, all)
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
	// Most explanations are unlikely with any kind of noise: two kinds show which need not be tried with the others.
	first, promising := []int{0, 2}, make([]float64, len(more))
	try := func(i, ri int) (most float64) {
		d := prepare(&more[i], ri)
		most = math.Inf(-1)
		for sh := range all {
			under(&d, ri, sh)
			for si, sigma := range noises {
				e := evidence(
					&d.sums,
					d.p,
					n,
					d.prior,
					d.logPrior,
					innovation(sigma, together[ri]),
				) + more[i].prior + all[sh].weight
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
		return cmp.Or(
			cmp.Compare(b.evidence, a.evidence),
			cmp.Compare(a.model, b.model),
			cmp.Compare(a.shape, b.shape),
			cmp.Compare(a.rho, b.rho),
			cmp.Compare(a.noise, b.noise),
		)
	})
	for _, e := range entries {
		if e.evidence < best-9 || len(kept) == 400 {
			break
		}
		m, rho := &more[e.model], together[e.rho]
		f := fitted{
			model:  m,
			shape:  &all[e.shape],
			rho:    rho,
			sigma:  innovation(noises[e.noise], rho),
			weight: math.Exp(e.evidence - best),
		}
		d := prepare(m, int(e.rho))
		under(&d, int(e.rho), int(e.shape))
		_, f.mean, f.spread = posterior(&d.sums, d.p, n, d.prior, d.logPrior, f.sigma)
		sum += f.weight
		kept = append(kept, f)
	}
	return kept, sum
}

// white holds, for one kind of noise, what does not depend on an explanation: the level, and the residual of each
// shape.
type white struct {
	one []float64
	y   [][]float64
	yy  []float64
	y1  []float64
}

// whitened is white for each kind of noise.
func whitened(b []bin, all []shape) (out []white) {
	level := make([]float64, len(b))
	for i := range level {
		level[i] = 1
	}
	ys := make([][]float64, len(all))
	for i := range all {
		ys[i] = make([]float64, len(b))
		for j := range b {
			ys[i][j] = b[j].log - all[i].at(b[j].x)
		}
	}
	for _, rho := range together {
		w := white{one: whiten(level, rho)}
		for i := range all {
			y := whiten(ys[i], rho)
			w.y, w.yy, w.y1 = append(w.y, y), append(w.yy, dot(y, y)), append(w.y1, dot(y, w.one))
		}
		out = append(out, w)
	}
	return out
}

// draw samples one set of coefficients: mean + (L')^-1 normal.
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
