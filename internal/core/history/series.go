// Package history holds the metrics of a drive over time: series, their resets and their rates.
package history

import (
	"encoding/json"
	"slices"
	"sort"
	"time"

	"lantern/internal/core/drive"
)

// Point is one value at one time, to the millisecond: 16 bytes, because a fleet has millions of them in memory.
type Point struct {
	ms    int64 // Unix milliseconds
	Value float64
}

// PointAt is a value at a time, truncated to a millisecond.
func PointAt(at time.Time, value float64) Point { return Point{at.UnixMilli(), value} }

// At is the time of the point, in UTC.
func (p Point) At() time.Time { return time.UnixMilli(p.ms).UTC() }

// A point as JSON: {"at": RFC 3339, "value": number}.
type jsonPoint struct {
	At    time.Time `json:"at"`
	Value float64   `json:"value"`
}

// MarshalJSON writes the time and the value.
func (p Point) MarshalJSON() ([]byte, error) { return json.Marshal(jsonPoint{p.At(), p.Value}) }

// UnmarshalJSON reads what MarshalJSON wrote.
func (p *Point) UnmarshalJSON(b []byte) error {
	var j jsonPoint
	if err := json.Unmarshal(b, &j); err != nil {
		return err
	}
	*p = PointAt(j.At, j.Value)
	return nil
}

// Series is one metric of one drive, in order of time, with no two points at one time. Add preserves this.
type Series []Point

// Add inserts a point at its time. A second point at one time is dropped, so that a report delivered twice or late
// gives the same series.
func (s Series) Add(p Point) Series {
	if n := len(s); n == 0 || s[n-1].ms < p.ms {
		return append(s, p) // the usual case
	}
	i := sort.Search(len(s), func(i int) bool { return s[i].ms >= p.ms })
	if i < len(s) && s[i].ms == p.ms {
		return s
	}
	s = append(s, Point{})
	copy(s[i+1:], s[i:])
	s[i] = p
	return s
}

// Last is the newest point.
func (s Series) Last() (Point, bool) {
	if len(s) == 0 {
		return Point{}, false
	}
	return s[len(s)-1], true
}

// At is the value known at t: the newest point not after t.
func (s Series) At(t time.Time) (Point, bool) {
	i := sort.Search(len(s), func(i int) bool { return s[i].ms > t.UnixMilli() })
	if i == 0 {
		return Point{}, false
	}
	return s[i-1], true
}

// Since is the part of the series at or after t.
func (s Series) Since(t time.Time) Series {
	return s[sort.Search(len(s), func(i int) bool { return s[i].ms >= t.UnixMilli() }):]
}

// Until is the part of the series at or before t.
func (s Series) Until(t time.Time) Series {
	return s[:sort.Search(len(s), func(i int) bool { return s[i].ms > t.UnixMilli() })]
}

// Until keeps the part of every series at or before t; changed is true if anything was after it.
func (r Record) Until(t time.Time) (changed bool) {
	for name, s := range r {
		if kept := s.Until(t); len(kept) < len(s) {
			r[name], changed = slices.Clone(kept), true
		}
	}
	return changed
}

// Risen is the sum of the rises of a level since a moment, without its falls. ok is false when no value is known at
// that moment.
func (s Series) Risen(since time.Time) (risen float64, ok bool) {
	from := sort.Search(len(s), func(i int) bool { return s[i].ms > since.UnixMilli() })
	if ok = from > 0; ok {
		from--
	}
	for i := from + 1; i < len(s); i++ {
		risen += max(0, s[i].Value-s[i-1].Value)
	}
	return risen, ok
}

// Growth is how much a counter grew from the value known at since to the newest one. A fall in between is a reset: the
// count after it is added to the count before, so that clearing a counter hides nothing. ok is false when no value is
// known at since; then growth is counted from the first point.
func (s Series) Growth(since time.Time) (grown float64, ok bool) {
	if len(s) == 0 {
		return 0, false
	}
	from := 0
	if p, known := s.At(since); known {
		ok = true
		from = sort.Search(len(s), func(i int) bool { return s[i].ms >= p.ms })
	}
	for i := from + 1; i < len(s); i++ {
		if d := s[i].Value - s[i-1].Value; d >= 0 {
			grown += d
		} else {
			grown += s[i].Value
		}
	}
	return grown, ok
}

// Resets are the times at which a counter went backwards.
func (s Series) Resets() []time.Time {
	var at []time.Time
	for i := 1; i < len(s); i++ {
		if s[i].Value < s[i-1].Value {
			at = append(at, s[i].At())
		}
	}
	return at
}

// LastChange is when the newest value was first seen: the series is constant since then. The zero time means that it
// never changed.
func (s Series) LastChange() time.Time {
	for i := len(s) - 1; i > 0; i-- {
		if s[i].Value != s[i-1].Value {
			return s[i].At()
		}
	}
	return time.Time{}
}

// LastRise is when the value last grew; the zero time means that it never did.
func (s Series) LastRise() time.Time {
	for i := len(s) - 1; i > 0; i-- {
		if s[i].Value > s[i-1].Value {
			return s[i].At()
		}
	}
	return time.Time{}
}

// FirstAbove is when the value rose above limit to stay above it until now; the zero time if it is not above.
func (s Series) FirstAbove(limit float64) time.Time {
	var at time.Time
	for i := len(s) - 1; i >= 0 && s[i].Value > limit; i-- {
		at = s[i].At()
	}
	return at
}

// Keep appends a newer point to a series in memory. Only the first and the last of a run of equal values are kept,
// which changes no result except the number of readings. For a point that is not newer ok is false: it must be added to
// the whole history first.
func (s Series) Keep(p Point) (kept Series, ok bool) {
	n := len(s)
	switch {
	case n > 0 && p.ms == s[n-1].ms:
		return s, true // a repeated point
	case n > 0 && p.ms < s[n-1].ms:
		return s, false
	case n > 1 && s[n-1].Value == p.Value && s[n-2].Value == p.Value:
		s[n-1].ms = p.ms
		return s, true
	}
	return append(s, p), true
}

// The density of points in memory: all points of the newest days; before these, one in three hours; before these, one a
// day. A day with few points keeps all of them.
const (
	dense    = 6
	wholeFor = 2 * 24 * time.Hour
	partFor  = 8 * 24 * time.Hour
	part     = int64(3 * time.Hour / time.Millisecond)
	day      = int64(24 * time.Hour / time.Millisecond) // length of a day in Unix time
)

// Thin reduces each past day with many points to the last point of every part of it, and later to the last point of the
// day, as of now. For a counter the points around each fall are kept as well, two after it, so that its growth over any
// number of days is unchanged; the very first point is kept too. The series may be changed in place.
func (s Series) Thin(now time.Time, counter bool) Series {
	from := func(over time.Duration) int64 { ms := now.Add(-over).UnixMilli(); return ms - ms%day }
	parts, days := from(wholeFor), from(partFor)
	if len(s) < 3 || s[0].ms >= parts {
		return s
	}
	out := s[:0]
	one, two := s[0].Value, s[0].Value // earlier values, which out may have overwritten
	for i := 0; i < len(s); {
		from := s[i].ms - s[i].ms%day
		of := s[i:].before(from + day)
		// A day is left unchanged where thinning would leave few points: its later reduction must not depend on when it
		// was thinned.
		whole := len(of) <= dense || from >= parts || from >= days && of.parts() <= dense
		for range of {
			v := s[i].Value
			fell := counter && (v < one || i+1 < len(s) && s[i+1].Value < v || one < two)
			one, two = v, one
			if whole || fell || i == 0 || s[i:].ends(from >= days) {
				out = append(out, s[i])
			}
			i++
		}
	}
	if cap(out)-len(out) > len(out)/8+16 { // otherwise the removed points would stay in memory with the rest
		return slices.Clone(out)
	}
	return out
}

// before is the beginning of the series, up to a time in milliseconds.
func (s Series) before(ms int64) Series {
	n := 0
	for n < len(s) && s[n].ms < ms {
		n++
	}
	return s[:n]
}

// ends reports whether the first point is the last of its part of a day, or of its day.
func (s Series) ends(parts bool) bool {
	of := day
	if parts {
		of = part
	}
	return len(s) == 1 || s[0].ms/of != s[1].ms/of
}

// parts counts the parts of a day that have points.
func (s Series) parts() (n int) {
	for i, p := range s {
		if i == 0 || p.ms/part != s[i-1].ms/part {
			n++
		}
	}
	return n
}

// Record holds one drive's metrics by name in memory, thinned, for judging.
type Record map[drive.MetricName]Series

// Add adds one reading to its series; ok is false when a part of it was not newer than the series.
func (r Record) Add(at time.Time, metrics map[drive.MetricName]float64) (ok bool) {
	ok = true
	for n, v := range metrics {
		kept, newer := r[n].Keep(PointAt(at, v))
		r[n], ok = kept, ok && newer
	}
	return ok
}

// Thin thins all series.
func (r Record) Thin(now time.Time) {
	for n, s := range r {
		m, _ := drive.MetricByName(n)
		r[n] = s.Thin(now, m.Kind == drive.Counter)
	}
}

// Whole holds one drive's metrics by name with every point; readings may be added in any order.
type Whole map[drive.MetricName]Series

// Add adds one reading.
func (w Whole) Add(at time.Time, metrics map[drive.MetricName]float64) {
	for n, v := range metrics {
		w[n] = w[n].Add(PointAt(at, v))
	}
}

// Record is the thinned record of it.
func (w Whole) Record() Record {
	r := make(Record, len(w))
	for n, s := range w {
		for _, p := range s {
			r[n], _ = r[n].Keep(p)
		}
	}
	return r
}

// Spans are the times over which the growth of a counter is reported.
var Spans = []time.Duration{time.Hour, 24 * time.Hour, 7 * 24 * time.Hour, 90 * 24 * time.Hour}

// Rate is the growth of a counter over a time; Whole is false when only a shorter time is known.
type Rate struct {
	Over  time.Duration
	Grown float64
	Whole bool
}

// Rates gives the growth over all Spans until the newest reading; for a level, the sum of its rises.
func (s Series) Rates(now time.Time, counter bool) []Rate {
	out := make([]Rate, len(Spans))
	for i, over := range Spans {
		out[i].Over = over
		if counter {
			out[i].Grown, out[i].Whole = s.Growth(now.Add(-over))
		} else {
			out[i].Grown, out[i].Whole = s.Risen(now.Add(-over))
		}
	}
	return out
}

// Life is the sum of a counter's values before all its resets: its lifetime total is that plus its present value.
type Life struct {
	Lost   float64 `json:"lost"`
	Resets int     `json:"resets"`
	// Fell is its value before a fall that only one reading shows: a single wrong reading is no reset.
	Fell float64 `json:"fell,omitempty"`
}

// After gives the Life after one more value.
func (l Life) After(before, next float64) Life {
	if l.Fell > 0 {
		if next < l.Fell { // confirmed by a second reading
			l.Lost += l.Fell
			l.Resets++
		}
		l.Fell = 0
		if next >= before {
			return l
		}
	}
	if next < before {
		l.Fell = before
	}
	return l
}

// Total is the lifetime total of a counter with the present value now.
func (l Life) Total(now float64) float64 { return l.Lost + max(now, l.Fell) }

// Life gives the Life of a whole series.
func (s Series) Life() (l Life) {
	for i := 1; i < len(s); i++ {
		l = l.After(s[i-1].Value, s[i].Value)
	}
	return l
}

// Reached is when a series that grows with time, such as power-on hours, reached a value. Outside the series, and
// between points far apart, it is computed in power-on hours from the nearest point, and about is true.
func (s Series) Reached(hours float64) (at time.Time, about bool) {
	if len(s) == 0 {
		return time.Time{}, true
	}
	i := sort.Search(len(s), func(i int) bool { return s[i].Value >= hours })
	if i == len(s) {
		i--
	}
	return s[i].At().Add(-time.Duration((s[i].Value - hours) * float64(time.Hour))), s[i].Value-hours >= 2
}
