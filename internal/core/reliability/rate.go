// Package reliability says how often drives fail, how long they live, and how many to hold for those that fail until
// more come: from what was observed, with the range in which the truth is to be expected.
package reliability

import (
	"cmp"
	"math"
	"slices"
	"time"
)

// Year is the length of a year in drive-years: 365.25 days.
const Year = 8766 * time.Hour

// Life is what was observed of one drive: it was watched from Entered to Left, or until now.
type Life struct {
	Drive   string
	Entered time.Time
	Left    time.Time // when it failed, or was seen last
	Failed  bool      // what ended it is a failure
	// Age is how old it was when it was first watched, in hours under power; negative when nobody knows.
	Age float64
}

// Exposure is for how long it was watched.
func (l Life) Exposure() time.Duration { return max(0, l.Left.Sub(l.Entered)) }

// Rate is how many failures there were in how many drive-years, and per drive-year. Low and High enclose the true rate
// with the confidence that was asked for.
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
	if r.Years <= 0 {
		return Rate{Drives: r.Drives, Failures: r.Failures, High: math.Inf(1)}
	}
	low, high := Garwood(r.Failures, confidence)
	r.PerYear, r.Low, r.High = float64(r.Failures)/r.Years, low/r.Years, high/r.Years
	return r
}

// Garwood gives the exact range of the mean of a Poisson distribution of which n was drawn.
func Garwood(n int, confidence float64) (low, high float64) {
	tail := (1 - confidence) / 2
	if n > 0 {
		low = meanWhere(func(mean float64) bool { return 1-PoissonAtMost(n-1, mean) >= tail }, float64(n))
	}
	return low, meanWhere(func(mean float64) bool { return PoissonAtMost(n, mean) <= tail }, float64(n))
}

// meanWhere gives the least mean at which is holds, which holds from there on.
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

// PoissonAtMost is the probability that at most n are drawn of a Poisson distribution.
func PoissonAtMost(n int, mean float64) float64 {
	if n < 0 {
		return 0
	}
	if mean <= 0 {
		return 1
	}
	// The largest term first, so that nothing underflows that counts.
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

// Point is one step of a survival curve: the share that is still well at an age, with its range.
type Point struct {
	Hours           float64 // age under power
	Well, Low, High float64
	AtRisk, Failed  int
}

// Survival is the share of drives that reach an age without a failure (Kaplan and Meier 1958). A drive counts from the
// age at which it was first watched to that at which it was seen last: those that came old say nothing of the young,
// and those that are still well end nothing. The range is Greenwood's (1926), for the confidence that z stands for,
// 1.96 for 95 %.
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
			continue // it failed at the moment at which it came
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

// A kind of which little was watched is taken to be like all others, and where all of them were watched for too short a
// time, to fail at a usual rate: what is believed beforehand counts as much as priorYears drive-years.
const (
	priorYears = 25
	usualRate  = 0.02
)

// Expect is the rate to reckon with for drives of a kind: what was seen of them, weighed with what was seen of all
// drives (the mean of a gamma distribution whose prior has that rate).
func Expect(kind, all Rate) float64 {
	base := (float64(all.Failures) + usualRate*priorYears) / (all.Years + priorYears)
	return (float64(kind.Failures) + base*priorYears) / (kind.Years + priorYears)
}

// Need is how many drives of a kind to hold: as many as are wanted now, and as many as will fail until a delivery comes
// with no more than the wished risk of one too few.
type Need struct {
	Now      int     // drives that are to be replaced now
	Mean     float64 // how many more are expected to fail until a delivery comes
	Hold     int     // how many to hold in all
	Risk     float64 // the probability that Hold is one too few
	Without  float64 // the probability that none beyond Now is needed
	Reserved float64 // the rate that was reckoned with, per drive-year
}

// mostSpares bounds what can be advised.
const mostSpares = 10000

// NeedOf reckons with a rate, a number of drives, the time until a delivery comes, and a confidence.
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

// By gives the rates of groups, the worst first by what is certain (Low), then by what is likely.
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

// Split cuts a life into what was spent in each band of age, so that a rate by age counts each year where it was lived.
// Bands are the ages at which one ends and the next begins, in hours, ascending.
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

// Quantile is how many standard deviations on either side of the mean hold so much of a normal distribution: 1.96 for
// 0.95.
func Quantile(confidence float64) float64 { return math.Sqrt2 * math.Erfinv(confidence) }
