package selftest

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Window is a time of the day on some days of the week, or one stretch of time. It is wall time: when it begins in
// truth, a time zone says.
type Window struct {
	Days     [7]bool // by time.Weekday: the days on which it begins
	From, To int     // minutes after midnight; To is at most 24*60, and when it is not after From it is of the day after
	// A window that comes once has these instead, as wall time in UTC's clothes.
	Begin, End time.Time
}

// Once reports whether the window comes only one time.
func (w Window) Once() bool { return !w.Begin.IsZero() }

const dayMinutes = 24 * 60

var dayNames = [7]string{"Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"}

const wallFormat = "2006-01-02 15:04"

// windowHelp is how a window is written.
const windowHelp = `write it as "daily 22:00-06:00", "Mon-Fri 20:00-24:00", "Sat,Sun 00:00-24:00", ` +
	`or "2026-12-24 12:00 to 2026-12-27 08:00"`

// ParseWindow reads a window as people write it.
func ParseWindow(text string) (w Window, err error) {
	bad := func(format string, args ...any) (Window, error) {
		return Window{}, fmt.Errorf("%q is not a window: %s; %s", text, fmt.Sprintf(format, args...), windowHelp)
	}
	text = strings.Join(strings.Fields(text), " ")
	if begin, end, ok := strings.Cut(text, " to "); ok {
		var err1, err2 error
		w.Begin, err1 = time.Parse(wallFormat, begin)
		w.End, err2 = time.Parse(wallFormat, end)
		switch {
		case err1 != nil:
			return bad("%q is not a date with a time", begin)
		case err2 != nil:
			return bad("%q is not a date with a time", end)
		case !w.End.After(w.Begin):
			return bad("it ends before it begins")
		}
		return w, nil
	}
	days, hours, ok := strings.Cut(text, " ")
	if !ok {
		return bad("it has days and hours")
	}
	if w.Days, err = parseDays(days); err != nil {
		return bad("%s", err)
	}
	from, to, ok := strings.Cut(hours, "-")
	if !ok {
		return bad("%q are not hours", hours)
	}
	if w.From, err = parseClock(from); err != nil {
		return bad("%s", err)
	}
	if w.To, err = parseClock(to); err != nil {
		return bad("%s", err)
	}
	switch {
	case w.From == dayMinutes:
		return bad("it cannot begin at 24:00")
	case w.From == w.To:
		return bad("it ends when it begins; a whole day is 00:00-24:00")
	case w.To == 0:
		w.To = dayMinutes
	}
	return w, nil
}

func parseDays(s string) (days [7]bool, err error) {
	if strings.EqualFold(s, "daily") {
		return [7]bool{true, true, true, true, true, true, true}, nil
	}
	for _, part := range strings.Split(s, ",") {
		first, last, isRange := strings.Cut(part, "-")
		a, err := parseDay(first)
		if err != nil {
			return days, err
		}
		b := a
		if isRange {
			if b, err = parseDay(last); err != nil {
				return days, err
			}
		}
		for d := a; ; d = (d + 1) % 7 {
			days[d] = true
			if d == b {
				break
			}
		}
	}
	return days, nil
}

func parseDay(s string) (int, error) {
	for i := range 7 {
		if name := time.Weekday(
			i,
		).String(); len(s) >= 2 && len(s) <= len(name) &&
			strings.EqualFold(name[:len(s)], s) {
			return i, nil
		}
	}
	return 0, fmt.Errorf("%q is not a day of the week", s)
}

func parseClock(s string) (int, error) {
	h, m, ok := strings.Cut(s, ":")
	hours, err1 := strconv.Atoi(h)
	minutes, err2 := strconv.Atoi(m)
	if !ok || len(h) > 2 || len(m) != 2 || err1 != nil || err2 != nil || hours < 0 || minutes < 0 || minutes > 59 ||
		hours*60+minutes > dayMinutes {
		return 0, fmt.Errorf("%q is not a time of day", s)
	}
	return hours*60 + minutes, nil
}

func clockWords(minutes int) string { return fmt.Sprintf("%02d:%02d", minutes/60, minutes%60) }

// String writes it as it is read.
func (w Window) String() string {
	if w.Once() {
		return w.Begin.Format(wallFormat) + " to " + w.End.Format(wallFormat)
	}
	return w.dayWords() + " " + clockWords(w.From) + "-" + clockWords(w.To)
}

func (w Window) dayWords() string {
	if w.Days == [7]bool{true, true, true, true, true, true, true} {
		return "daily"
	}
	var parts []string
	for i := 1; i <= 7; { // from Monday on
		if !w.Days[i%7] {
			i++
			continue
		}
		j := i
		for j < 7 && w.Days[(j+1)%7] {
			j++
		}
		switch j - i {
		case 0:
			parts = append(parts, dayNames[i%7])
		case 1:
			parts = append(parts, dayNames[i%7], dayNames[j%7])
		default:
			parts = append(parts, dayNames[i%7]+"-"+dayNames[j%7])
		}
		i = j + 1
	}
	return strings.Join(parts, ",")
}

// Reading says how a window is to be taken where the clock shows a time twice: as the time that is surely allowed, or
// as the time that is perhaps forbidden.
type Reading int

// Open is for windows in which tests may run, Closed for those in which none may.
const (
	Open Reading = iota
	Closed
)

// WallTime is when a clock in loc shows the date and time of wall, which is given in UTC's clothes. A time that the
// clock leaves out is the end of the gap, one that it shows twice the first of the two: as for windows.
func WallTime(loc *time.Location, wall time.Time) time.Time {
	y, m, d := wall.Date()
	return at(loc, y, m, d, wall.Hour()*60+wall.Minute(), false).Add(time.Duration(wall.Second()) * time.Second)
}

// at is when a clock in loc shows so many minutes after midnight of a day. Where that time is left out it is the end of
// the gap; where it comes twice it is the first of the two, or the last.
func at(loc *time.Location, y int, m time.Month, day, minutes int, last bool) time.Time {
	t := time.Date(y, m, day, 0, minutes, 0, 0, loc)
	want := time.Date(y, m, day, 0, minutes, 0, 0, time.UTC) // the wall time, as a number
	wall := func(x time.Time) time.Time {
		return time.Date(x.Year(), x.Month(), x.Day(), x.Hour(), x.Minute(), x.Second(), 0, time.UTC)
	}
	if !wall(t).Equal(want) {
		// In a gap: time.Date gave a time before it or after it. The gap ends where the offset changes between them.
		return change(t.Add(-3*time.Hour), t.Add(3*time.Hour))
	}
	// Shown twice: the other is as far off as the offset changes by.
	for _, side := range []time.Duration{-3 * time.Hour, 3 * time.Hour} {
		_, here := t.Zone()
		_, there := t.Add(side).Zone()
		other := t.Add(time.Duration(here-there) * time.Second)
		if here == there || !wall(other).Equal(want) {
			continue
		}
		if other.After(t) == last {
			return other
		}
	}
	return t
}

// change is the moment between a and b at which the offset from UTC changes; b when it does not.
func change(a, b time.Time) time.Time {
	_, from := a.Zone()
	for b.Sub(a) > time.Second {
		mid := a.Add(b.Sub(a) / 2).Truncate(time.Second)
		if _, o := mid.Zone(); o == from {
			a = mid
		} else {
			b = mid
		}
	}
	return b
}

// Expand gives the spans of windows in a time zone that reach into one, merged.
func Expand(windows []Window, loc *time.Location, in Span, how Reading) []Span {
	var out []Span
	for _, w := range windows {
		out = append(out, w.expand(loc, in, how)...)
	}
	return Within(Merge(out), in)
}

func (w Window) expand(loc *time.Location, in Span, how Reading) (out []Span) {
	if w.Once() {
		y, m, d := w.Begin.Date()
		y2, m2, d2 := w.End.Date()
		return []Span{
			{
				at(loc, y, m, d, w.Begin.Hour()*60+w.Begin.Minute(), false),
				at(loc, y2, m2, d2, w.End.Hour()*60+w.End.Minute(), how == Closed),
			},
		}
	}
	from := in.From.In(loc)
	for day := -1; ; day++ {
		y, m, d := from.Date()
		noon := time.Date(y, m, d+day, 12, 0, 0, 0, loc)
		y, m, d = noon.Date()
		if !time.Date(y, m, d, 0, 0, 0, 0, loc).Before(in.To) {
			return out
		}
		if w.Days[noon.Weekday()] {
			out = append(out, w.on(loc, y, m, d, how))
		}
	}
}

// on is the window that begins on a day.
func (w Window) on(loc *time.Location, y int, m time.Month, d int, how Reading) Span {
	end := w.To
	if end <= w.From {
		end += dayMinutes
	}
	s := Span{
		From: at(loc, y, m, d, w.From, false),
		To:   at(loc, y, m, d+end/dayMinutes, end%dayMinutes, how == Closed),
	}
	if how == Open && !s.From.Before(s.To) {
		// It begins at the first showing of a time and would end before: it ends at the next showing.
		s.To = at(loc, y, m, d+end/dayMinutes, end%dayMinutes, true)
	}
	return s
}

// Vanishes gives the first day, within two years of now, on which the window is empty because the clocks are put
// forward over it.
func (w Window) Vanishes(loc *time.Location, now time.Time) (day time.Time, yes bool) {
	if w.Once() {
		s := w.expand(loc, Span{}, Open)[0]
		return s.From, !s.From.Before(s.To)
	}
	y, m, d := now.In(loc).Date()
	for n := range 731 {
		noon := time.Date(y, m, d+n, 12, 0, 0, 0, loc)
		yy, mm, dd := noon.Date()
		if s := w.on(loc, yy, mm, dd, Open); w.Days[noon.Weekday()] && !s.From.Before(s.To) {
			return time.Date(yy, mm, dd, 0, 0, 0, 0, loc), true
		}
	}
	return day, false
}

// Longest is the length of the longest span.
func Longest(spans []Span) time.Duration {
	if len(spans) == 0 {
		return 0
	}
	return slices.MaxFunc(spans, func(a, b Span) int { return int(a.Len() - b.Len()) }).Len()
}
