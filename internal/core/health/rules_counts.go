package health

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/history"
)

// standstill is how long a counter must have been constant for its damage to count as old.
const standstill = 90 * day

// counts are the metrics that count damage, each with a rule; the words follow a number.
var counts = []struct {
	id, title string
	metric    drive.MetricName
	words     string
	why       string
}{
	{
		"pending-sectors",
		"Sectors that cannot be read",
		"pending_sectors",
		"sectors that cannot be read",
		"The data there cannot be read any more; sectors near a bad one often fail next.",
	},
	{
		"offline-uncorrectable",
		"Sectors found unreadable by its own scan",
		"offline_uncorrectable_sectors",
		"sectors found unreadable by its own scan",
		"Data there may be lost and nobody has noticed yet; the next rebuild will find it.",
	},
	{
		"reallocated-sectors",
		"Sectors moved to its reserve",
		"reallocated_sectors",
		"sectors moved to its reserve",
		"A few old ones mean little. New ones mean that its medium wears out.",
	},
	{
		"reported-uncorrectable",
		"Errors it could not correct",
		"reported_uncorrectable_errors",
		"errors it could not correct",
		"Data was asked for and not given.",
	},
	{
		"grown-defects",
		"Grown defects",
		"grown_defects",
		"grown defects",
		"A few old ones mean little. New ones mean that its medium wears out.",
	},
	{
		"uncorrected-reads",
		"Reads it could not correct",
		"uncorrected_read_errors",
		"reads it could not correct",
		"Data was asked for and not given.",
	},
	{
		"uncorrected-writes",
		"Writes it could not finish",
		"uncorrected_write_errors",
		"writes it could not bring to its medium",
		"Data was given and not kept.",
	},
	{
		"uncorrected-verifies",
		"Verify errors it could not correct",
		"uncorrected_verify_errors",
		"verify errors it could not correct",
		"Data there may be lost and nobody has noticed yet; the next rebuild will find it.",
	},
	{
		"background-scan",
		"Bad sectors found by its background scan",
		"background_scan_findings",
		"bad sectors found by its background scan",
		"Data there may be lost and nobody has noticed yet; the next rebuild will find it.",
	},
	{
		"media-errors",
		"Data it could not return",
		"media_errors",
		"times it could not give data back as it was written",
		"Data was asked for and not given.",
	},
	{
		"internal-data-errors",
		"Data changed inside the drive",
		"internal_data_errors",
		"times data changed inside it",
		"It may return data that differ from what was written.",
	},
}

func countRules() (out []Rule) {
	for _, c := range counts {
		m, _ := drive.MetricByName(c.metric)
		out = append(
			out,
			Rule{
				ID:       c.id,
				Title:    c.title,
				Level:    Replace,
				Strength: drive.Strong,
				For:      "drives that report " + string(c.metric),
				Hold:     7 * day,
				When: "replace: many_sectors in all, or burst_sectors new ones in 24 h, or spread_sectors new " +
					"ones in 7 days with some of them today, or new ones on damage_days days of the last 30, or " +
					"twice as many in the newer half of a week as in the older; else watch. " +
					"A jump of burst_sectors waits for a second reading, unless the drive itself says that it " +
					"fails; a single reading that falls counts as odd. A count that was reset still counts " +
					"what it had counted; a level that came and went 3 times within 90 days stays on watch",
				Why:   c.why,
				Do:    "Replace it.",
				holds: counting(m),
				words: countWords(m, c.words),
			},
		)
	}
	out = append(out, poolErrorRule, spareRule)
	return out
}

// The reasons for the verdict of a count.
const (
	byAmount = iota
	byBurst
	bySpread
	bySpeedingUp
	byDays
	byMoving
	byStanding
	byComings
)

// comings is how often damage that vanished again must have appeared within comingDays to be watched although none is
// left.
const (
	comings    = 3
	comingDays = 90
)

// counting is the rule for counts of damaged places. N: the count, new ones in 24 h, new ones in 7 days, the reason for
// the verdict; Text: the time in which they appeared where that is not a day, or the days without change; then the
// count before the counter was reset.
func counting(m drive.Metric) func(*Subject, *Thresholds) *Hit {
	return func(s *Subject, t *Thresholds) *Hit {
		series := s.Record[m.Name]
		last, ok := series.Last()
		if !ok || last.Value <= 0 && len(series) <= 2 {
			return nil
		}
		c := countOf(series, m.Kind == drive.Counter, t.BurstSectors, agrees(s))
		total := c.now + c.lost
		if total <= 0 && c.comings < comings {
			return nil
		}
		h := Hit{Verdict: Watch, Since: series.FirstAbove(0), At: last.At(), Metric: m.Name, Growth: c.one}
		if h.Since.IsZero() {
			h.Since = series.LastChange()
		}
		h.N = [4]float64{c.now, c.today, c.week, byStanding}
		h.Text = []string{"", ""}
		if c.lost > 0 {
			h.Text[1] = number(c.lost)
		}
		c.judge(&h, t)
		if changed := series.LastChange(); h.Idle && !changed.IsZero() && last.At().Sub(changed) > standstill {
			h.Text[0] = strconv.Itoa(int(last.At().Sub(changed) / day))
		}
		if h.Text[0] == "" && h.Text[1] == "" {
			h.Text = nil
		}
		return &h
	}
}

// judge gives the verdict of a count and its reason.
func (c *count) judge(h *Hit, t *Thresholds) {
	total, older := c.now+c.lost, c.seven-c.half
	switch {
	case c.one >= t.BurstSectors:
		h.Verdict, h.N[3], h.Text[0] = Replace, byBurst, c.todayOver
	case c.one > 0 && c.seven >= t.SpreadSectors:
		h.Verdict, h.N[3], h.Text[0] = Replace, bySpread, c.todayOver
	case c.two > 0 && older > 0 && c.half >= 2*older && c.half >= t.BurstSectors:
		h.Verdict, h.N[3] = Replace, bySpeedingUp
	case c.days >= int(t.DamageDays):
		h.Verdict, h.N[3], h.Text[0] = Replace, byDays, strconv.Itoa(c.days)
	case total >= t.ManySectors:
		h.Verdict, h.N[3] = Replace, byAmount
	case c.seven > 0:
		h.N[3], h.Text[0] = byMoving, c.weekOver
	case total <= 0:
		h.N[3], h.Text[0] = byComings, strconv.Itoa(c.comings)
	default:
		h.Idle = true
	}
}

// agrees reports whether other data of the drive confirm the damage, so that a sudden jump need not wait for a second
// reading.
func agrees(s *Subject) bool {
	return s.Failing || len(s.Tests) > 0 && s.Tests[0].Result == drive.SelfTestFailed
}

// count summarises a series of counts of damaged places.
type count struct {
	now                   float64 // how many there are
	lost                  float64 // of a counter: its value before it was reset
	one, two, half, seven float64 // new ones within a day, two days, three and a half, and seven
	days                  int     // days with new ones among the last 30
	comings               int     // how often new ones appeared after a fall to half or zero, within comingDays
	// today and week are the whole growth of which a part is counted for one day and for seven; todayOver and weekOver
	// are the times of that growth, where they differ from one day and seven.
	today, week         float64
	todayOver, weekOver string
}

// apart is the greatest time between two readings at which the growth between them is counted for the day of the later
// one.
const apart = 36 * time.Hour

// countOf goes once through a series. A value above the previous maximum is growth. A jump of at least sudden must be
// confirmed by a second reading, unless sure. A fall to half or less must be confirmed by a second reading: the counter
// was reset, or the level fell, and later growth counts as new. So neither a single wrong reading nor an alternating
// value adds growth. Growth between two readings far apart is spread over the time between them.
func countOf(s history.Series, counter bool, sudden float64, sure bool) (c count) {
	end := s[len(s)-1].At()
	from := within100Days(s)
	most, fell, counted := s[from].Value, s[from].Value <= 0, -1
	for i := from + 1; i < len(s); i++ {
		x, d, start := s[i].Value, 0.0, s[i-1].At()
		again := func(v float64) bool { return i+1 < len(s) && s[i+1].Value <= v } // the next reading is not larger
		switch {
		case x > most:
			if x-most >= sudden && !(sure && i == len(s)-1) {
				if i+1 == len(s) || again(most) {
					continue
				}
				x = min(x, s[i+1].Value)
			}
			d, most = x-most, x
			if fell && end.Sub(s[i].At()) < comingDays*day {
				c.comings++
			}
			fell = false
		case x <= most/2 && most > 0 && again(most/2):
			if counter {
				c.lost += most
				d = x
			}
			most, fell = x, true
		}
		if d <= 0 {
			continue
		}
		age := end.Sub(s[i].At())
		c.add(d, age, s[i].At().Sub(start), end.Sub(start))
		if n := int(age / day); age < 30*day && n != counted {
			counted = n
			c.days++
		}
	}
	c.ended(s, most)
	return c
}

// ended completes a count at the end of its series; most is its last maximum.
func (c *count) ended(s history.Series, most float64) {
	c.now = most
	if n := len(s); n > 1 && s[n-1].Value < most {
		c.now = min(most, max(s[n-1].Value, s[n-2].Value))
	}
	if seen := s[len(s)-1].At().Sub(s[0].At()); seen < day {
		c.todayOver, c.weekOver = span(seen), span(seen)
	}
}

// within100Days is the index of the last reading that is older than 100 days: growth starts from its value.
func within100Days(s history.Series) int {
	end, from := s[len(s)-1].At(), len(s)-1
	for from > 0 && end.Sub(s[from-1].At()) < 100*day {
		from--
	}
	return max(0, from-1)
}

// add counts growth that was seen age ago and occurred in the gap before that; over is the age of the beginning of the
// gap. Growth in a long gap is spread over it.
func (c *count) add(d float64, age, gap, over time.Duration) {
	if gap <= apart {
		gap = 0
	}
	within := func(w time.Duration) float64 {
		switch {
		case gap == 0 && age < w:
			return d
		case gap == 0 || age >= w:
			return 0
		}
		return d * min(1, float64(w-age)/float64(gap))
	}
	if within(day) > 0 {
		c.today += d
		if gap > 0 {
			c.todayOver = span(over)
		}
	}
	if within(7*day) > 0 {
		c.week += d
		if gap > 0 && over > 7*day {
			c.weekOver = span(over)
		}
	}
	c.one += within(day)
	c.two += within(2 * day)
	c.half += within(7 * day / 2)
	c.seven += within(7 * day)
}

func countWords(m drive.Metric, words string) func(Hit) (string, string, []Evidence) {
	return func(h Hit) (says, do string, evidence []Evidence) {
		note := func(i int) string {
			if i < len(h.Text) {
				return h.Text[i]
			}
			return ""
		}
		says = "has " + counted(h.N[0], words)
		if h.N[0] == 0 && note(1) == "" {
			says = "had " + words + ", none of them left now"
		}
		evidence = []Evidence{{m.Name, amount(h.N[0], m.Unit), h.At, ""}}
		if before := note(1); before != "" {
			says += ", after its count fell from " + before
			evidence = append(
				evidence,
				Evidence{m.Name, before + " " + m.Unit + " before the count was reset", h.At, ""},
			)
		}
		how := int(h.N[3])
		switch how {
		case byBurst, bySpread:
			if over := note(0); over != "" {
				says += fmt.Sprintf(", %s of them new within %s", number(h.N[1]), over)
			} else {
				says += fmt.Sprintf(", %s more than a day before", number(h.N[1]))
			}
			do = "Replace it today: the number is growing."
		case bySpeedingUp:
			says += fmt.Sprintf(", %s of them new within 7 days, most of those in the newer half", number(h.N[2]))
			do = "Replace it: the number grows faster and faster."
		case byDays:
			says += fmt.Sprintf(", new ones on %s days of the last 30", note(0))
			do = "Replace it: the number keeps growing."
		case byAmount:
			do = "Replace it: there are many."
		case byMoving:
			says += fmt.Sprintf(", %s of them new within %s", number(h.N[2]), cmp.Or(note(0), "7 days"))
			do = "Watch it: if more appear, replace it."
		case byComings:
			says = fmt.Sprintf(
				"had %s that came and went %s times within %d days; none now",
				words,
				note(0),
				comingDays,
			)
			do = "Watch it and run an extended self-test: a fault that came back so often comes back again."
		default:
			do = "Leave it; it is flagged again if the number changes."
			if unmoved := note(0); unmoved != "" {
				says += ", unmoved for " + unmoved + " days"
			}
		}
		today, week := "24 h", "7 days"
		switch how {
		case byBurst, bySpread:
			today = cmp.Or(note(0), today)
		case byMoving:
			week = cmp.Or(note(0), week)
		}
		if h.N[1] > 0 && how != byMoving {
			evidence = append(evidence, Evidence{m.Name, "+" + amount(h.N[1], m.Unit) + " in " + today, h.At, ""})
		}
		if h.N[2] > h.N[1] || how == byMoving {
			evidence = append(evidence, Evidence{m.Name, "+" + amount(h.N[2], m.Unit) + " in " + week, h.At, ""})
		}
		return says, do, evidence
	}
}

// counted writes a number of things, such as "1 bad sector found by its scan"; words are in the plural.
func counted(n float64, words string) string {
	if n == 1 {
		list := strings.Fields(words)
		for i, w := range list { // the first plural is the noun that is counted
			if one, plural := strings.CutSuffix(w, "s"); plural {
				list[i] = one
				break
			}
		}
		words = strings.Join(list, " ")
	}
	return number(n) + " " + words
}

// spareSoon is how soon the spare must run out, at the pace of the last week, to be watched; spareMoves is the least
// decrease within that week that gives a pace.
const (
	spareSoon  = 90 * day
	spareMoves = 2 // percent
)
