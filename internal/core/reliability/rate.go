// Package reliability estimates failure rates, survival, and the number of drives to stock for failures until the next
// delivery: from observations, with confidence ranges.
package reliability

import (
	"cmp"
	"math"
	"slices"
	"time"
)

// Year is the length of a year in drive-years: 365.25 days.
const Year = 8766 * time.Hour

// Life is the observation of one drive: from Entered to Left, or until now.
type Life struct {
	Drive   string
	Entered time.Time
	Left    time.Time // when it failed or was last seen
	Failed  bool      // true if it ended with a failure
	// Age is its age at Entered, in power-on hours; negative when unknown.
	Age float64
}

// Exposure is the time of observation.
func (l Life) Exposure() time.Duration { return max(0, l.Left.Sub(l.Entered)) }

// Rate is the number of failures, the drive-years, and the failures per drive-year. Low and High enclose the true rate
// with the given confidence.
type Rate struct {
	Drives    int
	Years     float64 // drive-years
	Failures  int
	PerYear   float64 // failures per drive-year; 0 without exposure
	Low, High float64
}

// RateOf is the rate of failures of drives. Its range is exact for a constant rate (Garwood 1936, "Fiducial Limits for
// the Poisson Distribution", Biometrika 28): without failures Low is 0 and High is not.
func RateOf(lives []Life, confidence float64) Rate {
	var r Rate
	for _, l := range lives {
		r.Drives++
		r.Years += l.Exposure().Hours() / Year.Hours()
		if l.Failed {
			r.Failures++
		}
	}
	return r.within(confidence)
}

// Together is the rate of several sets of drives that have no drive in common.
func Together(sets []Rate, confidence float64) Rate {
	var r Rate
	for _, s := range sets {
		r.Drives, r.Years, r.Failures = r.Drives+s.Drives, r.Years+s.Years, r.Failures+s.Failures
	}
	return r.within(confidence)
}

// within computes the rate and its range from the failures and the drive-years.
func (r Rate) within(confidence float64) Rate {
	if r.Years <= 0 {
		return Rate{Drives: r.Drives, Failures: r.Failures, High: math.Inf(1)}
	}
	low, high := Garwood(r.Failures, confidence)
	r.PerYear, r.Low, r.High = float64(r.Failures)/r.Years, low/r.Years, high/r.Years
	return r
}

// Garwood gives the exact confidence range of the mean of a Poisson distribution with the observation n.
func Garwood(n int, confidence float64) (low, high float64) {
	tail := (1 - confidence) / 2
	if n > 0 {
		low = meanWhere(func(mean float64) bool { return 1-PoissonAtMost(n-1, mean) >= tail }, float64(n))
	}
	return low, meanWhere(func(mean float64) bool { return PoissonAtMost(n, mean) <= tail }, float64(n))
}

// meanWhere gives the least mean at which is holds; is must be monotonic.
func meanWhere(is func(mean float64) bool, near float64) float64 {
	low, high := 0.0, near+1
	for !is(high) {
		high *= 2
	}
	for range 100 {
		if mid := (low + high) / 2; is(mid) {
			high = mid
		} else {
			low = mid
		}
	}
	return high
}

// PoissonAtMost is the probability of at most n events in a Poisson distribution.
func PoissonAtMost(n int, mean float64) float64 {
	if n < 0 {
		return 0
	}
	if mean <= 0 {
		return 1
	}
	// The largest term first, so that no significant term underflows.
	sum, logMean := 0.0, math.Log(mean)
	term := func(k int) float64 {
		lg, _ := math.Lgamma(float64(k) + 1)
		return math.Exp(float64(k)*logMean - mean - lg)
	}
	for k := min(n, int(mean)); k >= 0; k-- {
		t := term(k)
		if sum += t; t < sum*1e-17 {
			break
		}
	}
	for k := min(n, int(mean)) + 1; k <= n; k++ {
		t := term(k)
		if sum += t; t < sum*1e-17 {
			break
		}
	}
	return min(1, sum)
}

// Point is one step of a survival curve: the share without a failure at an age, with its range.
type Point struct {
	Hours           float64 // age under power
	Well, Low, High float64
	AtRisk, Failed  int
}

// Survival is the share of drives that reach an age without a failure (Kaplan and Meier 1958). A drive counts from its
// age at the first observation to that at the last: data is left-truncated and right-censored. The range is Greenwood's
// (1926), for z standard deviations: 1.96 for 95 %.
func Survival(lives []Life, z float64) []Point {
	type span struct {
		from, to float64
		failed   bool
	}
	var spans []span
	var ends []float64
	for _, l := range lives {
		if l.Age < 0 {
			continue
		}
		s := span{l.Age, l.Age + l.Exposure().Hours(), l.Failed}
		spans = append(spans, s)
		if s.failed {
			ends = append(ends, s.to)
		}
	}
	slices.Sort(ends)
	ends = slices.Compact(ends)
	out := []Point{}
	well, sum := 1.0, 0.0
	for _, at := range ends {
		p := Point{Hours: at}
		for _, s := range spans {
			if s.from < at && at <= s.to {
				p.AtRisk++
				if s.failed && s.to == at {
					p.Failed++
				}
			}
		}
		if p.AtRisk == 0 {
			continue // it failed at the moment of its first observation
		}
		well *= 1 - float64(p.Failed)/float64(p.AtRisk)
		if left := p.AtRisk - p.Failed; left > 0 {
			sum += float64(p.Failed) / float64(p.AtRisk) / float64(left)
		}
		error := z * well * math.Sqrt(sum)
		p.Well, p.Low, p.High = well, max(0, well-error), min(1, well+error)
		out = append(out, p)
	}
	return out
}

// A kind with few observations is assumed to be like all others, and if all of them have few, to fail at a usual rate:
// the prior counts as much as priorYears drive-years.
const (
	priorYears = 25
	usualRate  = 0.02
)

// Expect is the estimated rate for drives of a kind: their observations, weighted with those of all drives (the mean of
// a gamma distribution whose prior has that rate).
func Expect(kind, all Rate) float64 {
	base := (float64(all.Failures) + usualRate*priorYears) / (all.Years + priorYears)
	return (float64(kind.Failures) + base*priorYears) / (kind.Years + priorYears)
}

// Need is the number of drives of a kind to stock: those needed now, and those for failures until a delivery, with at
// most the given risk of a shortage.
type Need struct {
	Now      int     // drives to be replaced now
	Mean     float64 // expected failures until a delivery
	Hold     int     // total number to stock
	Risk     float64 // probability that Hold is too small
	Without  float64 // probability that no more than Now are needed
	Reserved float64 // the assumed rate, per drive-year
}

// mostSpares is the largest number that is advised.
const mostSpares = 10000

// NeedOf computes the need from a rate, a number of drives, the time until a delivery, and a confidence.
func NeedOf(now, drives int, perYear float64, lead time.Duration, confidence float64) Need {
	n := Need{Now: now, Reserved: perYear, Mean: float64(drives) * perYear * lead.Hours() / Year.Hours()}
	more := 0
	for more < mostSpares && PoissonAtMost(more, n.Mean) < confidence {
		more++
	}
	n.Hold, n.Risk, n.Without = now+more, 1-PoissonAtMost(more, n.Mean), PoissonAtMost(0, n.Mean)
	return n
}

// Group is a rate of drives that have something in common.
type Group struct {
	Name string
	Rate Rate
}

// By gives the rates of groups, the worst first: by the lower bound (Low), then by the rate.
func By(lives []Life, of func(Life) string, confidence float64) []Group {
	groups := map[string][]Life{}
	for _, l := range lives {
		groups[of(l)] = append(groups[of(l)], l)
	}
	out := make([]Group, 0, len(groups))
	for name, g := range groups {
		out = append(out, Group{name, RateOf(g, confidence)})
	}
	slices.SortFunc(out, func(a, b Group) int {
		return cmp.Or(
			cmp.Compare(b.Rate.Low, a.Rate.Low),
			cmp.Compare(b.Rate.PerYear, a.Rate.PerYear),
			cmp.Compare(a.Name, b.Name),
		)
	})
	return out
}

// Split divides a life by bands of age, so that a rate by age counts each part in its band. Bands are the boundaries in
// hours, ascending.
func Split(l Life, bands []float64) map[int]Life {
	out := map[int]Life{}
	if l.Age < 0 {
		return out
	}
	from, to := l.Age, l.Age+l.Exposure().Hours()
	for i := 0; i <= len(bands); i++ {
		low, high := 0.0, math.Inf(1)
		if i > 0 {
			low = bands[i-1]
		}
		if i < len(bands) {
			high = bands[i]
		}
		a, b := max(from, low), min(to, high)
		last := to >= low && (to < high || i == len(bands))
		if a > b || a == b && !(last && l.Failed) {
			continue
		}
		part := l
		part.Entered = l.Entered.Add(time.Duration((a - from) * float64(time.Hour)))
		part.Left = l.Entered.Add(time.Duration((b - from) * float64(time.Hour)))
		part.Age, part.Failed = a, l.Failed && last
		out[i] = part
	}
	return out
}

// Quantile is the number of standard deviations around the mean that contain a share of a normal distribution: 1.96 for
// 0.95.
func Quantile(confidence float64) float64 { return math.Sqrt2 * math.Erfinv(confidence) }
