package recovery

import (
	"fmt"
	"math"
	"time"

	"lantern/internal/core/drive"
)

// Bounds are a low and a high estimate of a probability, 0 to 1.
type Bounds struct{ Low, High float64 }

// Member holds the facts about a member whose loss would count.
type Member struct {
	Verdict string // verdict of its drive: sound, watch, replace, unknown
	Years   float64
}

// Risk is the risk of a further failure while a recovery runs.
type Risk struct {
	// Another is the probability that enough further members fail before the end to lose data.
	Another Bounds
	// Unreadable is the probability of an unreadable sector without another copy; zero where there is another copy.
	Unreadable Bounds
	// Assumes states the assumptions behind the figures.
	Assumes []string
}

// Annual failure rates of drives in the field, from the lowest to the highest that were found over several years of age
// (Schroeder, Gibson: Disk failures in the real world, FAST 2007; Pinheiro, Weber, Barroso: Failure trends in a large
// disk drive population, FAST 2007).
func annual(years float64) Bounds {
	switch {
	case years < 0.25:
		return Bounds{0.01, 0.06} // early failures
	case years < 2:
		return Bounds{0.01, 0.04}
	case years < 4:
		return Bounds{0.02, 0.08}
	}
	return Bounds{0.03, 0.13}
}

// worse is how many times more often drives with SMART evidence fail within weeks: after a first reallocation 14 times,
// after a first uncorrectable sector 39 times as often as others (Pinheiro et al., 3.5). The verdict does not say which
// of the two applies.
func worse(verdict string) Bounds {
	switch verdict {
	case "watch":
		return Bounds{2, 14}
	case "replace":
		return Bounds{14, 39}
	case "unknown":
		return Bounds{1, 14}
	}
	return Bounds{1, 1}
}

// hazard is the rate, per hour, at which a drive fails.
func hazard(m Member) Bounds {
	a, w := annual(m.Years), worse(m.Verdict)
	rate := func(afr, times float64) float64 { return -math.Log1p(-afr) / 8766 * times }
	return Bounds{rate(a.Low, w.Low), rate(a.High, w.High)}
}

// UnreadableRate is the unrecoverable read errors per bit read, as specified: 1 in 10^15 for drives of the better
// kind, 1 in 10^14 for others.
var UnreadableRate = Bounds{1e-15, 1e-14}

// RiskOf computes the risk of a further failure from now until the finish. margin is that of the data being recovered;
// others are the members whose loss would lower it; reads is the number of bytes still to be read from them.
func RiskOf(margin int, others []Member, finish Range, reads drive.Bytes, now time.Time) Risk {
	early, late := math.Max(0, finish.P10.Sub(now).Hours()), math.Max(0, finish.P90.Sub(now).Hours())
	var low, high float64
	for _, m := range others {
		h := hazard(m)
		low, high = low+h.Low*early, high+h.High*late
	}
	r := Risk{Another: Bounds{AtLeast(margin+1, low), AtLeast(margin+1, high)}}
	r.Assumes = []string{
		fmt.Sprintf(
			"%d drives count, each fails at the rate that its age and verdict give: 1 to 13 %% a year, up to 39 "+
				"times that after uncorrectable sectors (Schroeder 2007, Pinheiro 2007), and independently of "+
				"the others",
			len(others),
		),
		fmt.Sprintf("it takes between %s and %s more", hours(early), hours(late)),
	}
	if margin == 0 {
		r.Unreadable = Bounds{Unreadable(reads, UnreadableRate.Low), Unreadable(reads, UnreadableRate.High)}
		r.Assumes = append(
			r.Assumes,
			"one unreadable sector in 10^14 to 10^15 bits read, as makers specify; what a drive has shown so "+
				"far is in its verdict",
		)
	}
	return r
}

func hours(h float64) string {
	if h < 1 {
		return fmt.Sprintf("%.0f min", 60*h)
	}
	return fmt.Sprintf("%.1f h", h)
}

// AtLeast is the probability of n or more independent failures where mean are expected (Poisson).
func AtLeast(n int, mean float64) float64 {
	if n <= 0 {
		return 1
	}
	if n == 1 {
		return -math.Expm1(-mean)
	}
	// Sum the tail, which is accurate for small probabilities.
	term := math.Exp(-mean)
	for k := 1; k <= n; k++ {
		term *= mean / float64(k)
	}
	sum := 0.0
	for k := n; k < n+200 && term > sum*1e-16; k++ {
		sum += term
		term *= mean / float64(k+1)
	}
	return math.Min(1, sum)
}

// Unreadable is the probability of at least one unreadable sector in a number of bytes, at a rate per bit.
func Unreadable(bytes drive.Bytes, perBit float64) float64 {
	return -math.Expm1(8 * float64(bytes) * math.Log1p(-perBit))
}

// Words writes bounds for people.
func (b Bounds) Words() string {
	one := func(p float64) string {
		switch {
		case p <= 0:
			return "0"
		case p >= 0.095:
			return fmt.Sprintf("%.0f %%", 100*p)
		case p >= 0.00095:
			return fmt.Sprintf("%.1g %%", 100*p)
		}
		return fmt.Sprintf("1 in %s", round(1/p))
	}
	lo, hi := one(b.Low), one(b.High)
	if lo == hi {
		return lo
	}
	return lo + " to " + hi
}

// round writes a number with two significant digits, in groups of three.
func round(x float64) string {
	if x >= 1e9 {
		return "more than a thousand million"
	}
	scale := math.Pow(10, math.Max(0, math.Floor(math.Log10(x))-1))
	n := uint64(math.Round(x/scale) * scale)
	if n < 1000 {
		return fmt.Sprint(n)
	}
	if n < 1_000_000 {
		return fmt.Sprintf("%d,%03d", n/1000, n%1000)
	}
	return fmt.Sprintf("%d,%03d,%03d", n/1_000_000, n/1000%1000, n%1000)
}
