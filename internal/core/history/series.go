// Package history holds what a drive's metrics were over time: series, their resets and their rates.
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

// PointAt is a value at a time; what is below a millisecond is cut off.
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

// Series is one metric of one drive, in order of time, no two points at one time. Add keeps that so.
type Series []Point

// Add puts a point in its place, wherever it belongs; a second point at one time replaces nothing and is dropped, so
// that a report delivered twice or late ends in the same series.
func (s Series) Add(p Point) Series {
	if n := len(s); n == 0 || s[n-1].ms < p.ms {
		return append(s, p) // as nearly all readings come
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

// At is the value as it was known at t: the newest point not after t.
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

// Until leaves of every series the part at or before t; changed says whether anything was after it.
func (r Record) Until(t time.Time) (changed bool) {
	for name, s := range r {
		if kept := s.Until(t); len(kept) < len(s) {
			r[name], changed = slices.Clone(kept), true
		}
	}
	return changed
}

// Risen is how much a level rose since a moment, its falls left out. ok is false when nothing is known as far back.
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

// Growth is how much a counter grew from the value known at since to the newest one. A fall in between is a reset: what
// was counted after it is added to what was counted before, so that clearing a counter hides nothing. ok is false when
// nothing is known as far back as since; then growth is counted from the first point.
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

// LastChange is when the newest value was first seen: the series has stood still since. The zero time means it never
// changed while it was watched.
func (s Series) LastChange() time.Time {
	for i := len(s) - 1; i > 0; i-- {
		if s[i].Value != s[i-1].Value {
			return s[i].At()
		}
	}
	return time.Time{}
}

// LastRise is when the value last grew; the zero time means that it never did while it was watched.
func (s Series) LastRise() time.Time {
	for i := len(s) - 1; i > 0; i-- {
		if s[i].Value > s[i-1].Value {
			return s[i].At()
		}
	}
	return time.Time{}
}

// FirstAbove is when the value first rose above limit and stayed there until now; the zero time if it is not above.
func (s Series) FirstAbove(limit float64) time.Time {
	var at time.Time
	for i := len(s) - 1; i >= 0 && s[i].Value > limit; i-- {
		at = s[i].At()
	}
	return at
}

// Keep puts a newer point at the end of a series that is held ready for judging: of a run of equal values only the
// first and the last are kept, which changes no answer but how often it was read. A point that is not newer belongs
// into the whole history first, and ok is false.
func (s Series) Keep(p Point) (kept Series, ok bool) {
	n := len(s)
	switch {
	case n > 0 && p.ms == s[n-1].ms:
		return s, true // it came twice
	case n > 0 && p.ms < s[n-1].ms:
		return s, false
	case n > 1 && s[n-1].Value == p.Value && s[n-2].Value == p.Value:
		s[n-1].ms = p.ms
		return s, true
	}
	return append(s, p), true
}

// How dense the points are that are held ready: all of the newest days; of earlier ones one in three hours; of those
// before them one a day. A day with few points keeps them all.
const (
	dense    = 6
	wholeFor = 2 * 24 * time.Hour
	partFor  = 8 * 24 * time.Hour
	part     = int64(3 * time.Hour / time.Millisecond)
	day      = int64(24 * time.Hour / time.Millisecond) // Unix time has days of this length
)

// Thin leaves of each day that is over and has many points the last of every part of it, and later on the last of the
// day, as of now. Of a counter the points around each fall stay as well, two after it, so that its growth over any days
// stays what it was; and the first point of all stays. The series may be changed in place.
func (s Series) Thin(now time.Time, counter bool) Series {
	from := func(over time.Duration) int64 { ms := now.Add(-over).UnixMilli(); return ms - ms%day }
	parts, days := from(wholeFor), from(partFor)
	if len(s) < 3 || s[0].ms >= parts {
		return s
	}
	out := s[:0]
	one, two := s[0].Value, s[0].Value // the values before, which out may have overwritten
	for i := 0; i < len(s); {
		from := s[i].ms - s[i].ms%day
		of := s[i:].before(from + day)
		// A day is left alone where thinning would make it look as one that had few points: what comes of it later must not
		// depend on when it was thinned.
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
	if cap(out)-len(out) > len(out)/8+16 { // what was left out would be held with the rest
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

// ends says whether the first point is the last of its part of a day, or of its day.
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

// Record is one drive's metrics by name, held ready for judging.
type Record map[drive.MetricName]Series

// Add puts one reading into its series; ok is false when a part of it was not newer than what is there.
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

// Whole is one drive's metrics by name with every point, in whatever order they come.
type Whole map[drive.MetricName]Series

// Add puts one reading in.
func (w Whole) Add(at time.Time, metrics map[drive.MetricName]float64) {
	for n, v := range metrics {
		w[n] = w[n].Add(PointAt(at, v))
	}
}

// Record is what is held ready of it.
func (w Whole) Record() Record {
	r := make(Record, len(w))
	for n, s := range w {
		for _, p := range s {
			r[n], _ = r[n].Keep(p)
		}
	}
	return r
}

// Spans are the times over which the growth of a counter is told.
var Spans = []time.Duration{time.Hour, 24 * time.Hour, 7 * 24 * time.Hour, 90 * 24 * time.Hour}

// Rate is how much a counter grew over a time; Whole is false when it is known for a shorter one.
type Rate struct {
	Over  time.Duration
	Grown float64
	Whole bool
}

// Rates are the growths over all Spans until the newest reading; of a level, how much it rose.
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

// Life is what a counter had counted when it began anew, over all resets: its life-long total is that and what it shows
// now.
type Life struct {
	Lost   float64 `json:"lost"`
	Resets int     `json:"resets"`
	// Fell is what it showed before it fell, while only one reading says so: a single odd reading is no reset.
	Fell float64 `json:"fell,omitempty"`
}

// After is the life after one more value.
func (l Life) After(before, next float64) Life {
	if l.Fell > 0 {
		if next < l.Fell { // a second reading says so
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

// Total is the life-long total of a counter that shows now.
func (l Life) Total(now float64) float64 { return l.Lost + max(now, l.Fell) }

// Life of a whole series.
func (s Series) Life() (l Life) {
	for i := 1; i < len(s); i++ {
		l = l.After(s[i-1].Value, s[i].Value)
	}
	return l
}

// Reached is when a series that grows with time, such as power-on hours, reached a value. Within the series that was
// seen; before it, and between points far apart, it is counted in hours of power from the nearest point, and about is
// true.
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
