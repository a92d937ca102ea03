// Package recurrence reads when something comes again, as a person says it or as an RFC 5545 RRULE (3.3.10), and says
// it in words.
package recurrence

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/teambition/rrule-go"

	"lantern/internal/core/selftest"
)

// Rule comes again and again. It begins a new period each time.
type Rule struct {
	text  string
	words string
	rule  *rrule.RRule // in wall time, in UTC's clothes
	loc   *time.Location
	skips string
}

// Bounds of what a rule for tests may be.
const (
	leastGap     = time.Hour
	lookAhead    = 5 * 366 * 24 * time.Hour
	mostLooked   = 400 // occurrences
	mostInterval = 366
)

const help = `say "every day 02:00", "every Monday 02:00", "every 2 weeks on Sunday 03:30", ` +
	`"every month on the 1st 02:00", "every month on the first Sunday 02:00", ` +
	`or give an RRULE such as FREQ=WEEKLY;BYDAY=MO;BYHOUR=2`

// Parse reads a rule. Its times are wall times in loc; intervals of more than one are counted from the year before
// since.
func Parse(text string, loc *time.Location, since time.Time) (*Rule, error) {
	text = strings.Join(strings.Fields(text), " ")
	bad := func(format string, args ...any) (*Rule, error) {
		return nil, fmt.Errorf("%q: %s; %s", text, fmt.Sprintf(format, args...), help)
	}
	if len(text) > 400 {
		return nil, fmt.Errorf("a rule of %d characters is too long; %s", len(text), help)
	}
	var o *rrule.ROption
	var err error
	if raw := strings.TrimPrefix(strings.ToUpper(text), "RRULE:"); strings.Contains(raw, "FREQ=") {
		if strings.ContainsAny(raw, "\n\r") || strings.Contains(raw, "DTSTART") {
			return bad("give the rule alone")
		}
		if o, err = rrule.StrToROptionInLocation(raw, loc); err != nil {
			return bad("it is not an RRULE: %s", err)
		}
		if o.Interval == 0 && strings.Contains(raw, "INTERVAL=") {
			return bad("its interval is not between 1 and %d", mostInterval)
		}
	} else if o, err = fromWords(text); err != nil {
		return bad("%s", err)
	}
	switch {
	case o.Freq > rrule.DAILY:
		return bad(
			"it comes too often: tests are at least an hour apart, and are said by the day, the week, the month " +
				"or the year",
		)
	case o.Interval > mostInterval || o.Interval < 0:
		return bad("its interval is not between 1 and %d", mostInterval)
	case slices.ContainsFunc(o.Byweekday, func(d rrule.Weekday) bool { return !meant(o, d.N()) }):
		return bad("the nth day of the week is of a month, and there are five at most")
	case o.Count > 0:
		return bad("COUNT is not known here: end it with UNTIL")
	}
	complete(o)
	r := &Rule{text: o.RRuleString(), loc: loc, skips: skips(o)}
	// The rule runs on what the clock shows, in UTC's clothes; when that is in truth, the time zone says (WallTime).
	wall := *o
	wall.Dtstart = time.Date(since.In(loc).Year()-1, 1, 1, 0, 0, 0, 0, time.UTC)
	if !o.Until.IsZero() {
		wall.Until = clothes(o.Until, loc)
	}
	if r.rule, err = rrule.NewRRule(wall); err != nil {
		return bad("it is not an RRULE: %s", err)
	}
	switch n, gap := r.ahead(clothes(since, loc)); {
	case gap > 0:
		return bad("it comes again after %s; tests are at least an hour apart", gap)
	case n == 0:
		return bad("it never comes")
	}
	r.words = words(o, loc)
	return r, nil
}

// ahead looks at how often a rule comes after a moment, and returns a gap that is too short, or none.
func (r *Rule) ahead(since time.Time) (n int, short time.Duration) {
	next := r.rule.Iterator()
	var last time.Time
	for n < mostLooked {
		t, ok := next()
		if !ok || t.After(since.Add(lookAhead)) {
			break
		}
		if gap := t.Sub(last); !last.IsZero() && gap < leastGap {
			return n, gap
		}
		if last = t; t.After(since) {
			n++
		}
	}
	return n, 0
}

// meant reports whether an nth day of the week can be: RFC 5545 allows it in months and years; what has no sense makes
// the library walk out of its tables.
func meant(o *rrule.ROption, n int) bool {
	switch {
	case n == 0:
		return true
	case o.Freq == rrule.MONTHLY || o.Freq == rrule.YEARLY && len(o.Bymonth) > 0:
		return -5 <= n && n <= 5
	}
	return o.Freq == rrule.YEARLY && len(o.Byweekno) == 0 && -53 <= n && n <= 53
}

// complete fills in what a person who left it out would take for granted: midnight, Monday, the 1st, January.
func complete(o *rrule.ROption) {
	if len(o.Byhour) == 0 {
		o.Byhour = []int{0}
	}
	if len(o.Byminute) == 0 {
		o.Byminute = []int{0}
	}
	if len(o.Bysecond) == 0 {
		o.Bysecond = []int{0}
	}
	none := len(o.Byweekday)+len(o.Bymonthday)+len(o.Byyearday)+len(o.Byweekno)+len(o.Byeaster) == 0
	switch {
	case o.Freq == rrule.WEEKLY && len(o.Byweekday) == 0:
		o.Byweekday = []rrule.Weekday{rrule.MO}
	case o.Freq == rrule.MONTHLY && none:
		o.Bymonthday = []int{1}
	case o.Freq == rrule.YEARLY && none:
		if o.Bymonthday = []int{1}; len(o.Bymonth) == 0 {
			o.Bymonth = []int{1}
		}
	}
}

// String is the rule as RFC 5545 has it.
func (r *Rule) String() string { return strings.ReplaceAll(r.text, ";BYSECOND=0", "") }

// Words is the rule as a person says it, or the rule itself where there are no short words for it.
func (r *Rule) Words() string { return r.words }

// Skips says of a rule which months it leaves out, such as those without a 31st; empty when it leaves out none.
func (r *Rule) Skips() string { return r.skips }

// skips finds days of the month, and fifth days of the week, that not every month has.
func skips(o *rrule.ROption) string {
	if o.Freq != rrule.MONTHLY && !(o.Freq == rrule.YEARLY && len(o.Bymonth) > 0) || len(o.Bysetpos) > 0 {
		return ""
	}
	for _, d := range o.Bymonthday {
		if d < 0 {
			d = -d
		}
		for m := 1; m <= 12; m++ {
			if len(o.Bymonth) > 0 && !slices.Contains(o.Bymonth, m) {
				continue
			}
			if d > time.Date(2027, time.Month(m)+1, 0, 0, 0, 0, 0, time.UTC).Day() {
				return fmt.Sprintf(
					"months without a %s are left out; \"on the last day\" comes every month",
					ordinal(d),
				)
			}
		}
	}
	for _, d := range o.Byweekday {
		if n := d.N(); n == 5 || n == -5 {
			return fmt.Sprintf(
				"months without a fifth %s are left out; \"on the last %s\" comes every month",
				dayName(d),
				dayName(d),
			)
		}
	}
	return ""
}

// clothes is what a clock in loc shows at a time, as if it were UTC.
func clothes(t time.Time, loc *time.Location) time.Time {
	t = t.In(loc)
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), 0, time.UTC)
}

// Periods are those that meet a span, in order. Each lasts until the next begins, or for within if that is not zero and
// shorter. The last of a rule that ends lasts as long as the one before.
func (r *Rule) Periods(in selftest.Span, within time.Duration) (out []selftest.Span) {
	const slack = 26 * time.Hour // the clothes are off by the offset, and by what the clocks are changed by
	from := r.rule.Before(clothes(in.From, r.loc).Add(-slack), true)
	if from.IsZero() {
		from = clothes(in.From, r.loc).Add(-slack)
	}
	all := r.rule.Between(from, clothes(in.To, r.loc).Add(slack), true)
	real := func(t time.Time) time.Time { return selftest.WallTime(r.loc, t) }
	for i, t := range all {
		var end time.Time
		switch {
		case i+1 < len(all):
			end = all[i+1]
		default:
			if end = r.rule.After(t, false); end.IsZero() {
				end = t.Add(t.Sub(r.rule.Before(t, false)))
			}
		}
		s := selftest.Span{From: real(t).UTC(), To: real(end).UTC()}
		if within > 0 && s.From.Add(within).Before(s.To) {
			s.To = s.From.Add(within)
		}
		if s.From.Before(in.To) && s.To.After(in.From) && s.From.Before(s.To) {
			out = append(out, s)
		}
	}
	return out
}

var (
	days     = []string{"monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"}
	weekdays = []rrule.Weekday{rrule.MO, rrule.TU, rrule.WE, rrule.TH, rrule.FR, rrule.SA, rrule.SU}
	nths     = map[string]int{"first": 1, "second": 2, "third": 3, "fourth": 4, "last": -1}
	units    = map[string]rrule.Frequency{
		"day":     rrule.DAILY,
		"days":    rrule.DAILY,
		"daily":   rrule.DAILY,
		"week":    rrule.WEEKLY,
		"weeks":   rrule.WEEKLY,
		"weekly":  rrule.WEEKLY,
		"month":   rrule.MONTHLY,
		"months":  rrule.MONTHLY,
		"monthly": rrule.MONTHLY,
	}
)

// fromWords reads what words gives.
func fromWords(text string) (*rrule.ROption, error) {
	o := &rrule.ROption{Interval: 1}
	w := strings.Fields(
		strings.NewReplacer(
			",",
			" ",
			" and ",
			" ",
			" at ",
			" ",
			" the ",
			" ",
		).Replace(
			" " + strings.ToLower(text) + " ",
		),
	)
	if len(w) > 0 && strings.Contains(w[len(w)-1], ":") {
		t, err := time.Parse("15:04", w[len(w)-1])
		if err != nil {
			return nil, fmt.Errorf("%q is not a time of day", w[len(w)-1])
		}
		o.Byhour, o.Byminute = []int{t.Hour()}, []int{t.Minute()}
		w = w[:len(w)-1]
	}
	if len(w) > 0 && w[0] == "every" {
		w = w[1:]
	}
	if len(w) > 0 {
		if n, err := strconv.Atoi(w[0]); err == nil && n > 0 {
			o.Interval, w = n, w[1:]
		}
	}
	if len(w) == 0 {
		return nil, fmt.Errorf("it does not say how often")
	}
	unit, known := units[w[0]]
	switch {
	case known:
		o.Freq, w = unit, w[1:]
	case dayOf(w[0]) >= 0 && o.Interval == 1:
		o.Freq = rrule.WEEKLY
	default:
		return nil, fmt.Errorf("%q is neither day, week, month nor a day of the week", w[0])
	}
	if len(w) > 0 && w[0] == "on" {
		w = w[1:]
	}
	return o, onDays(o, w)
}

// onDays reads the days on which a rule comes.
func onDays(o *rrule.ROption, w []string) error {
	for len(w) > 0 {
		nth, isNth := nths[w[0]]
		switch {
		case dayOf(w[0]) >= 0 && o.Freq == rrule.WEEKLY:
			o.Byweekday = append(o.Byweekday, weekdays[dayOf(w[0])])
		case isNth && o.Freq == rrule.MONTHLY && len(w) > 1 && w[1] == "day" && nth == -1:
			o.Bymonthday = append(o.Bymonthday, -1)
			w = w[1:]
		case isNth && o.Freq == rrule.MONTHLY && len(w) > 1 && dayOf(w[1]) >= 0:
			o.Byweekday = append(o.Byweekday, weekdays[dayOf(w[1])].Nth(nth))
			w = w[1:]
		case o.Freq == rrule.MONTHLY && len(w[0]) >= 3 && ordinalOf(w[0]) > 0:
			o.Bymonthday = append(o.Bymonthday, ordinalOf(w[0]))
		default:
			return fmt.Errorf("%q is not understood", w[0])
		}
		w = w[1:]
	}
	return nil
}

// dayOf finds a day of the week by its name or at least two letters of it; -1 when it is none.
func dayOf(s string) int {
	return slices.IndexFunc(days, func(d string) bool { return len(s) >= 2 && strings.HasPrefix(d, s) })
}

func ordinalOf(s string) int {
	n, err := strconv.Atoi(s[:len(s)-2])
	if err != nil || n < 1 || n > 31 || ordinal(n) != s {
		return 0
	}
	return n
}

func ordinal(n int) string {
	switch {
	case n%10 == 1 && n != 11:
		return fmt.Sprintf("%dst", n)
	case n%10 == 2 && n != 12:
		return fmt.Sprintf("%dnd", n)
	case n%10 == 3 && n != 13:
		return fmt.Sprintf("%drd", n)
	}
	return fmt.Sprintf("%dth", n)
}

// words says a rule as people do. What it has no words for stays as it is.
func words(o *rrule.ROption, loc *time.Location) string {
	raw := strings.ReplaceAll(o.RRuleString(), ";BYSECOND=0", "")
	plain := len(o.Bysetpos)+len(o.Bymonth)+len(o.Byyearday)+len(o.Byweekno)+len(o.Byeaster) == 0 &&
		len(o.Byhour) == 1 &&
		len(o.Byminute) == 1 &&
		slices.Equal(o.Bysecond, []int{0})
	if !plain {
		return raw
	}
	n := max(1, o.Interval)
	every := func(unit string) string {
		if n == 1 {
			return "every " + unit
		}
		return fmt.Sprintf("every %d %ss", n, unit)
	}
	var out string
	switch {
	case o.Freq == rrule.DAILY && len(o.Byweekday)+len(o.Bymonthday) == 0:
		out = every("day")
	case o.Freq == rrule.WEEKLY && len(o.Bymonthday) == 0:
		var names []string
		for _, d := range o.Byweekday {
			names = append(names, dayName(d))
		}
		if out = "every "; n > 1 {
			out = every("week") + " on "
		}
		out += list(names)
	case o.Freq == rrule.MONTHLY:
		names, ok := monthDays(o)
		if !ok {
			return raw
		}
		out = every("month") + " on the " + list(names)
	default:
		return raw
	}
	out += fmt.Sprintf(" %02d:%02d", o.Byhour[0], o.Byminute[0])
	if !o.Until.IsZero() {
		out += " until " + o.Until.In(loc).Format(time.DateOnly)
	}
	return out
}

// monthDays names the days of a monthly rule, by number or by weekday; ok is false where there are no words for them.
func monthDays(o *rrule.ROption) (names []string, ok bool) {
	if len(o.Byweekday) > 0 && len(o.Bymonthday) > 0 {
		return nil, false
	}
	for _, d := range o.Bymonthday {
		switch {
		case d > 0:
			names = append(names, ordinal(d))
		case d == -1:
			names = append(names, "last day")
		default:
			return nil, false
		}
	}
	for _, d := range o.Byweekday {
		nth := ""
		for name, k := range nths {
			if k == d.N() {
				nth = name
			}
		}
		if nth == "" {
			return nil, false
		}
		names = append(names, nth+" "+dayName(d))
	}
	return names, true
}

func dayName(d rrule.Weekday) string { return time.Weekday((d.Day() + 1) % 7).String() }

func list(names []string) string {
	if len(names) == 1 {
		return names[0]
	}
	return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
}
