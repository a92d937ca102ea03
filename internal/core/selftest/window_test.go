package selftest

import (
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/require"
)

func zone(t testing.TB, name string) *time.Location {
	loc, err := time.LoadLocation(name)
	require.NoError(t, err)
	return loc
}

func window(t testing.TB, text string) Window {
	w, err := ParseWindow(text)
	require.NoError(t, err)
	return w
}

func TestWindowsAsWritten(t *testing.T) {
	for text, again := range map[string]string{
		"daily 22:00-06:00": "", "Mon-Fri 20:00-24:00": "", "Sat,Sun 0:00-24:00": "Sat,Sun 00:00-24:00",
		"fri-mon 1:30-2:00": "Mon,Fri-Sun 01:30-02:00", "Wednesday 23:00-00:00": "Wed 23:00-24:00",
		"2026-12-24 12:00 to 2026-12-27 08:00": "", "  Mon   01:00-02:00 ": "Mon 01:00-02:00",
	} {
		if again == "" {
			again = text
		}
		require.Equal(t, again, window(t, text).String())
		require.Equal(t, window(t, text), window(t, again))
	}
	for text, why := range map[string]string{
		"": "it has days and hours", "daily": "it has days and hours", "daily 22": "not hours",
		"Moo 10:00-11:00": `"Moo" is not a day`, "M 10:00-11:00": `"M" is not a day`,
		"daily 10:00-10:00": "a whole day is 00:00-24:00",
		"daily 25:00-26:00": `"25:00" is not a time`, "daily 10:60-11:00": `"10:60" is not a time`,
		"daily 24:00-01:00":                    "cannot begin at 24:00",
		"2026-12-24 12:00 to 2026-12-24 11:00": "ends before it begins",
		"tomorrow to 2026-12-24 11:00":         `"tomorrow" is not a date`,
	} {
		_, err := ParseWindow(text)
		require.ErrorContains(t, err, why)
		require.ErrorContains(t, err, "write it as")
	}
}

func FuzzParseWindow(f *testing.F) {
	f.Add("daily 22:00-06:00")
	f.Add("Fri-Mon,Wed 1:30-2:00")
	f.Add("2026-12-24 12:00 to 2026-12-27 08:00")
	f.Fuzz(func(t *testing.T, text string) {
		w, err := ParseWindow(text)
		if err != nil {
			return
		}
		again, err := ParseWindow(w.String())
		require.NoError(t, err, w.String())
		require.Equal(t, w, again)
	})
}

// TestClocksChange: windows in hours that a change of clocks skips or repeats. In Berlin both happen between 2 and 3
// o'clock, in Santiago at midnight, on Lord Howe by half an hour.
func TestClocksChange(t *testing.T) {
	for _, c := range []struct {
		zone, window, day string
		how               Reading
		want              string // in UTC
	}{
		{"Europe/Berlin", "daily 01:00-04:00", "2026-03-28", Open, "28 00:00-28 03:00"},
		{"Europe/Berlin", "daily 01:00-04:00", "2026-03-29", Open, "29 00:00-29 02:00"},   // an hour short
		{"Europe/Berlin", "daily 01:00-02:30", "2026-03-29", Open, "29 00:00-29 01:00"},   // ends in the gap
		{"Europe/Berlin", "daily 02:30-04:00", "2026-03-29", Open, "29 01:00-29 02:00"},   // begins in the gap
		{"Europe/Berlin", "daily 02:15-02:45", "2026-03-29", Open, ""},                    // is the gap
		{"Europe/Berlin", "daily 01:00-04:00", "2026-10-25", Open, "24 23:00-25 03:00"},   // an hour long
		{"Europe/Berlin", "daily 02:15-02:45", "2026-10-25", Open, "25 00:15-25 00:45"},   // the first time only
		{"Europe/Berlin", "daily 02:15-02:45", "2026-10-25", Closed, "25 00:15-25 01:45"}, // both times, and between
		{"Europe/Berlin", "daily 02:45-03:15", "2026-10-25", Open, "25 00:45-25 02:15"},
		{"Europe/Berlin", "Sat 22:00-06:00", "2026-10-24", Open, "24 20:00-25 05:00"},
		{"America/Santiago", "daily 00:00-24:00", "2026-09-06", Open, "06 04:00-07 03:00"}, // its midnight is left out
		{"Australia/Lord_Howe", "daily 01:30-02:30", "2026-10-04", Open, "03 15:00-03 15:30"},
		{"UTC", "daily 00:00-24:00", "2026-03-29", Open, "29 00:00-30 00:00"},
		{"Europe/Berlin", "2026-10-25 02:30 to 2026-10-25 02:40", "2026-10-25", Closed, "25 00:30-25 01:40"},
	} {
		loc := zone(t, c.zone)
		day, err := time.ParseInLocation(time.DateOnly, c.day, loc)
		require.NoError(t, err)
		got := ""
		for _, s := range window(t, c.window).expand(loc, Span{day, day.Add(12 * time.Hour)}, c.how) {
			if noon := s.From.In(loc); noon.Format(time.DateOnly) == c.day && s.From.Before(s.To) {
				got += s.From.UTC().Format("02 15:04") + "-" + s.To.UTC().Format("02 15:04")
			}
		}
		require.Equal(t, c.want, got, "%s in %s on %s", c.window, c.zone, c.day)
	}
	now := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	day, yes := window(t, "Sun 02:15-02:45").Vanishes(zone(t, "Europe/Berlin"), now)
	require.True(t, yes)
	require.Equal(t, "2027-03-28", day.Format(time.DateOnly))
	for _, fine := range []string{"Sat 02:15-02:45", "Sun 02:15-03:15", "Sun 01:45-02:15"} {
		_, yes = window(t, fine).Vanishes(zone(t, "Europe/Berlin"), now)
		require.False(t, yes, fine)
	}
	_, yes = window(t, "Sun 02:15-02:45").Vanishes(time.UTC, now)
	require.False(t, yes)
}

// TestSpans: merging, cutting and taking away, against minutes counted one by one.
func TestSpans(t *testing.T) {
	loc := zone(t, "Europe/Berlin")
	in := Span{time.Date(2026, 10, 20, 3, 7, 0, 0, time.UTC), time.Date(2026, 10, 30, 9, 0, 0, 0, time.UTC)}
	open := []Window{window(t, "Mon-Fri 20:00-06:00"), window(t, "Sat,Sun 00:00-24:00")}
	barred := []Window{window(t, "daily 01:00-03:00"), window(t, "2026-10-24 10:00 to 2026-10-25 02:00")}
	plan := Plan{Zone: loc, Windows: open, Barred: barred}
	got := plan.Allowed(in)
	for m := in.From; m.Before(in.To); m = m.Add(time.Minute) {
		l := m.In(loc)
		min, day := l.Hour()*60+l.Minute(), l.Weekday()
		yes := day == time.Saturday || day == time.Sunday || min >= 20*60 || min < 6*60 && day != time.Monday
		if min >= 60 && min < 180 {
			yes = false
		}
		if stamp := l.Format(wallFormat); stamp >= "2026-10-24 10:00" && stamp < "2026-10-25 02:00" {
			yes = false
		}
		n := 0
		for _, s := range got {
			if s.Holds(m) {
				n++
			}
		}
		require.Equal(t, yes, n == 1, l)
	}
}
