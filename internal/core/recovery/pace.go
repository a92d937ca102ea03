package recovery

import (
	"math"
	"slices"
	"time"
)

// parts is the number of equal shares into which a profile divides a recovery.
const parts = 40

// Profile is the distribution of a recovery's time over its work: the share of time spent in each fortieth; the sum is
// 1.
type Profile [parts]float64

// ProfileOf computes the profile of a recovery that was seen from beginning to end; ok is false for one that was not.
// It excludes pauses.
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

// step is a time of work between two samples. A pause is not a step.
type step struct {
	at            float64 // seconds since the course began, at its middle
	seconds       float64
	from, bytes   float64
	active, until float64 // working time at its beginning, and at its end
}

// seen is a course without its pauses.
type seen struct {
	steps   []step
	pauses  []float64 // seconds each
	working float64   // seconds
	growth  float64   // recent growth of the whole, in bytes a second
	grew    float64   // seconds for which it has grown
}

// working removes the pauses from a course. A pause is a time without progress that is far longer than the usual step.
func working(s []Sample) (c seen) {
	begin := 0
	for begin+1 < len(s) && s[begin+1].Done == s[begin].Done {
		begin++ // the time before the first progress is scanning, not moving data
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
		if gap > long && i-since > 1 { // a pause; its end is known to within one sample
			paused := s[i-1].At.Sub(s[since].At).Seconds()
			c.pauses = append(c.pauses, paused)
			gap -= paused
		}
		end := s[i].At.Sub(t0).Seconds()
		c.steps = append(
			c.steps,
			step{
				at:      end - gap/2,
				seconds: gap,
				from:    float64(s[since].Done),
				bytes:   bytes,
				active:  c.working,
				until:   c.working + gap,
			},
		)
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

// stillGrows reports whether the whole is still growing: its last growth is at most three times the longest interval
// between two growths ago.
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

// mostBins is the greatest number of bins of the working time.
const mostBins = 72

// bin is one part of the working time: its pace, its share of the whole, and its time.
type bin struct {
	log     float64 // logarithm of bytes a second
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
		// The remainder at the end is too short for a pace, unless there is hardly anything else, as after one long
		// step.
		last := i == len(c.steps)-1 && (b.seconds >= width/2 || len(out) < 2)
		if b.bytes > 0 && b.seconds > 0 && (b.seconds >= width*(1-1e-9) || last) {
			out = append(out, bin{math.Log(b.bytes / b.seconds), b.x / b.seconds / total, b.at / b.seconds, b.seconds})
			b = struct{ bytes, seconds, x, at float64 }{}
		}
	}
	return out
}
