package cli

import (
	"cmp"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"
)

// How durations, moments and sizes are written, for every command alike (lantern help times).

var durationParts = regexp.MustCompile(`(\d+(?:\.\d+)?) ?(ms|s|min|m|h|d|w|y)`)

var durationUnits = map[string]time.Duration{
	"ms": time.Millisecond, "s": time.Second, "m": time.Minute, "min": time.Minute, "h": time.Hour,
	"d": 24 * time.Hour, "w": 7 * 24 * time.Hour, "y": 365 * 24 * time.Hour,
}

// ParseDuration reads 90s, 10m, 1h30m, 1d, 2w or 1y, and 0. A day has 24 hours, and a year 365 days.
func ParseDuration(text string) (time.Duration, error) {
	in := strings.TrimSpace(strings.ToLower(text))
	if in == "0" {
		return 0, nil
	}
	wrong := fmt.Errorf("%q is not a duration; write it as 90s, 10m, 1h30m, 1d or 2w", text)
	sum, rest := 0.0, in
	for rest != "" {
		m := durationParts.FindStringSubmatchIndex(rest)
		if m == nil || m[0] != 0 {
			return 0, wrong
		}
		n, err := strconv.ParseFloat(rest[m[2]:m[3]], 64)
		if err != nil {
			return 0, wrong
		}
		sum += n * float64(durationUnits[rest[m[4]:m[5]]])
		rest = strings.TrimSpace(rest[m[1]:])
	}
	if in == "" {
		return 0, wrong
	}
	if sum > 200*365*24*float64(time.Hour) {
		return 0, fmt.Errorf("%q is too long", text)
	}
	return time.Duration(sum), nil
}

// duration reads the value of an option, and checks its bounds.
func duration(option, text string, least, most time.Duration) (time.Duration, error) {
	d, err := ParseDuration(text)
	if err != nil {
		return 0, usage("%s: %v", option, err)
	}
	if d < least || d > most {
		return 0, usage("%s is %s to %s, not %s", option, DurationText(least), DurationText(most), text)
	}
	return d, nil
}

// DurationText writes a duration in the form in which it is read: 90s, 10m, 1d.
func DurationText(d time.Duration) string {
	for _, u := range []string{"y", "w", "d", "h", "m", "s"} {
		if n := durationUnits[u]; d >= n && d%n == 0 {
			return fmt.Sprintf("%d%s", d/n, u)
		}
	}
	return d.String()
}

// kept is how long readings are kept.
const kept = 5 * 366 * 24 * time.Hour

// back reads how far back or ahead something goes: an hour to the five years that readings are kept.
func back(option, text string) (time.Duration, error) {
	d, err := ParseDuration(text)
	switch {
	case err != nil:
		return 0, usage("%s: %v", option, err)
	case d > kept:
		return 0, usage("%s: %s is longer than readings are kept: five years", option, text)
	case d < time.Hour:
		return 0, usage("%s is 1h at least, not %s", option, text)
	}
	return d, nil
}

// DurationFlag is an option whose value is a duration; cmd.Duration returns it.
type DurationFlag = cli.FlagBase[time.Duration, cli.NoConfig, durationValue]

type durationValue struct{ to *time.Duration }

// Create makes the value of a flag.
func (durationValue) Create(d time.Duration, to *time.Duration, _ cli.NoConfig) cli.Value {
	*to = d
	return &durationValue{to}
}

// ToString writes a default.
func (durationValue) ToString(d time.Duration) string { return DurationText(d) }

// Set reads a value.
func (v *durationValue) Set(text string) (err error) {
	*v.to, err = ParseDuration(text)
	return err
}

// Get is the duration.
func (v *durationValue) Get() any { return *v.to }

func (v *durationValue) String() string {
	if v.to == nil {
		return ""
	}
	return DurationText(*v.to)
}

var clockTime = regexp.MustCompile(`^([01]?\d|2[0-3]):([0-5]\d)$`)

// ParseMoment reads a moment in the zone of now: RFC 3339, 2026-11-30, 2026-11-30 22:00, 22:00 (the next), today,
// tomorrow or a day of the week with or without a time, in 2h, or now. A day without a time begins at midnight.
func ParseMoment(text string, now time.Time) (time.Time, error) {
	in := strings.Join(strings.Fields(strings.ToLower(text)), " ")
	if t, err := time.Parse(time.RFC3339, strings.TrimSpace(strings.ToUpper(text))); err == nil {
		return t, nil
	}
	for _, layout := range []string{"2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02t15:04", "2006-01-02"} {
		if t, err := time.ParseInLocation(layout, in, now.Location()); err == nil {
			return t, nil
		}
	}
	wrong := fmt.Errorf(
		"%q is not a time; write it as 2026-11-30 22:00, tomorrow 22:00, monday, 22:00, in 2h or RFC 3339", text)
	if in == "now" {
		return now, nil
	}
	if rest, ok := strings.CutPrefix(in, "in "); ok {
		d, err := ParseDuration(rest)
		if err != nil {
			return time.Time{}, wrong
		}
		return now.Add(d), nil
	}
	day, at, _ := strings.Cut(in, " ")
	if clockTime.MatchString(day) && at == "" {
		t := onDay(now, 0, day)
		if !t.After(now) {
			t = onDay(now, 1, day)
		}
		return t, nil
	}
	if at == "" {
		at = "00:00"
	}
	if !clockTime.MatchString(at) {
		return time.Time{}, wrong
	}
	switch day {
	case "today":
		return onDay(now, 0, at), nil
	case "tomorrow":
		return onDay(now, 1, at), nil
	}
	for d := time.Sunday; d <= time.Saturday; d++ {
		name := strings.ToLower(d.String())
		if len(day) >= 3 && strings.HasPrefix(name, day) {
			ahead := (int(d-now.Weekday()) + 7) % 7
			t := onDay(now, ahead, at)
			if !t.After(now) {
				t = onDay(now, ahead+7, at)
			}
			return t, nil
		}
	}
	return time.Time{}, wrong
}

// onDay is a time of day some days ahead.
func onDay(now time.Time, days int, at string) time.Time {
	m := clockTime.FindStringSubmatch(at)
	hour, _ := strconv.Atoi(m[1])
	minute, _ := strconv.Atoi(m[2])
	return time.Date(now.Year(), now.Month(), now.Day()+days, hour, minute, 0, 0, now.Location())
}

// moment reads the value of an option that must lie ahead.
func moment(option, text string, now time.Time) (time.Time, error) {
	t, err := ParseMoment(text, now)
	if err != nil {
		return t, usage("%s: %v", option, err)
	}
	if !t.After(now) {
		return t, usage("%s: %s is past", option, text)
	}
	return t, nil
}

// ParseSize reads 20TB, 4 TiB, or a number of bytes.
func ParseSize(text string) (int64, error) {
	n, err := humanize.ParseBytes(strings.TrimSpace(text))
	if err != nil || n > 1<<62 {
		return 0, fmt.Errorf("%q is not a size; write it as 20TB, 4TiB or a number of bytes", text)
	}
	return int64(n), nil
}

// ParsePast reads a moment that has passed: one of those that ParseMoment reads, "3h ago", or a day of the week, by
// which the last one is meant.
func ParsePast(text string, now time.Time) (time.Time, error) {
	in := strings.Join(strings.Fields(strings.ToLower(text)), " ")
	if d, ok := strings.CutSuffix(in, " ago"); ok {
		back, err := ParseDuration(d)
		if err != nil {
			return time.Time{}, err
		}
		return now.Add(-back), nil
	}
	day, at, _ := strings.Cut(strings.TrimPrefix(in, "last "), " ")
	if clockTime.MatchString(day) && at == "" { // a time of day: the last time that it was
		day, at = "", day
	}
	if at = cmp.Or(at, "00:00"); clockTime.MatchString(at) {
		for i := range 8 {
			is := strings.ToLower(now.AddDate(0, 0, -i).Weekday().String())
			t := onDay(now, -i, at)
			named := day == "" || i == 1 && day == "yesterday" || len(day) >= 3 && strings.HasPrefix(is, day)
			if named && !t.After(now) {
				return t, nil
			}
		}
	}
	t, err := ParseMoment(text, now)
	if err != nil {
		return t, fmt.Errorf("%q is not a time in the past; write it as 3h ago, yesterday 03:12, tuesday 03:12, "+
			"2026-11-24 03:12 "+
			"or RFC 3339", text)
	}
	return past(text, t, now)
}

func past(text string, t, now time.Time) (time.Time, error) {
	if t.After(now) {
		return t, fmt.Errorf("%s is in the future: %s", text, t.Format("2006-01-02 15:04:05"))
	}
	return t, nil
}
