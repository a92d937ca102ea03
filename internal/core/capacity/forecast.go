// Package capacity estimates when a pool will be full, as a range.
package capacity

import (
	"slices"
	"time"
)

// Use is the fill level of a pool at one time.
type Use struct {
	At   time.Time
	Used float64 // bytes
}

// Forecast is an estimate of when a pool will be full. Growth is in bytes a day: the median of the slopes between all
// pairs of days, with the quartiles of these slopes.
type Forecast struct {
	Growth, Slow, Fast float64
	// Soonest and Latest are when it is full with fast or slow growth; zero when it does not grow at that rate.
	Soonest, Likely, Latest time.Time
	Days                    int // number of days with data
}

// A forecast needs this many days with a value, over this time; an end later than farthest is not shown.
const (
	leastDays = 5
	leastSpan = 7 * 24 * time.Hour
	farthest  = 10 * 365 * 24 * time.Hour
)

// Of computes a forecast from the fill levels of a pool. The newest value of each day counts, so changes within a day
// do not; single jumps move a median of slopes little (Theil 1950, Sen 1968). Weekly patterns are removed by using
// pairs that are whole weeks apart where there are enough of them. ok is false when there is too little data.
func Of(uses []Use, capacity float64, now time.Time) (f Forecast, ok bool) {
	days := daily(uses)
	if len(days) < leastDays || days[len(days)-1].At.Sub(days[0].At) < leastSpan || capacity <= 0 {
		return f, false
	}
	slopes := slopesOf(days, true)
	if len(slopes) < leastDays {
		slopes = slopesOf(days, false)
	}
	slices.Sort(slopes)
	at := func(share float64) float64 { return slopes[int(share*float64(len(slopes)-1))] }
	f.Slow, f.Growth, f.Fast = at(0.25), at(0.5), at(0.75)
	f.Days = int(days[len(days)-1].At.Sub(days[0].At).Hours() / 24)
	free := capacity - days[len(days)-1].Used
	when := func(slope float64) time.Time {
		if slope <= 0 {
			return time.Time{}
		}
		ahead := max(0, free/slope) * 24 * float64(time.Hour)
		if ahead > float64(farthest) {
			return time.Time{}
		}
		return now.Add(time.Duration(ahead))
	}
	f.Soonest, f.Likely, f.Latest = when(f.Fast), when(f.Growth), when(f.Slow)
	return f, true
}

// daily are the newest values of each day, in order.
func daily(uses []Use) (out []Use) {
	uses = slices.Clone(uses)
	slices.SortStableFunc(uses, func(a, b Use) int { return a.At.Compare(b.At) })
	for _, u := range uses {
		if n := len(out); n > 0 && out[n-1].At.UTC().Truncate(24*time.Hour).Equal(u.At.UTC().Truncate(24*time.Hour)) {
			out[n-1] = u
			continue
		}
		out = append(out, u)
	}
	return out
}

// slopesOf gives the slopes between all pairs, in bytes a day; with whole weeks, only between days that are about whole
// weeks apart.
func slopesOf(days []Use, wholeWeeks bool) (out []float64) {
	for i := range days {
		for j := i + 1; j < len(days); j++ {
			d := days[j].At.Sub(days[i].At).Hours() / 24
			if n := int(d + 0.5); wholeWeeks && n%7 != 0 {
				continue
			}
			out = append(out, (days[j].Used-days[i].Used)/d)
		}
	}
	return out
}
