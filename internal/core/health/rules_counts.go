package health

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/history"
)

// standstill is how long a counter must not have moved to count as an old scar.
const standstill = 90 * day

// counts are the metrics that count damage, each a rule of its own; words follow a number.
var counts = []struct {
	id, title string
	metric    drive.MetricName
	words     string
	why       string
}{
	{"pending-sectors", "Sectors that cannot be read", "pending_sectors", "sectors that cannot be read", "What lay there can be read no more; where one spot went, its neighbours often follow."},
	{"offline-uncorrectable", "Sectors found unreadable by its own scan", "offline_uncorrectable_sectors", "sectors found unreadable by its own scan", "Nobody has missed what lay there yet; the next rebuild will."},
	{"reallocated-sectors", "Sectors moved to its reserve", "reallocated_sectors", "sectors moved to its reserve", "A few old ones mean little. New ones mean that its medium is wearing away."},
	{"reported-uncorrectable", "Errors it could not correct", "reported_uncorrectable_errors", "errors it could not correct", "Data was asked for and not given."},
	{"grown-defects", "Defects that have grown", "grown_defects", "defects that have grown", "A few old ones mean little. New ones mean that its medium is wearing away."},
	{"uncorrected-reads", "Reads it could not correct", "uncorrected_read_errors", "reads it could not correct", "Data was asked for and not given."},
	{"uncorrected-writes", "Writes it could not finish", "uncorrected_write_errors", "writes it could not bring to its medium", "Data was given and not kept."},
	{"uncorrected-verifies", "Places it could not verify", "uncorrected_verify_errors", "places it could not verify", "Nobody has missed what lay there yet; the next rebuild will."},
	{"background-scan", "Places its background scan found bad", "background_scan_findings", "places its background scan found bad", "Nobody has missed what lay there yet; the next rebuild will."},
	{"media-errors", "Data it could not give back", "media_errors", "times it could not give data back as it was written", "Data was asked for and not given."},
	{"internal-data-errors", "Data changed inside the drive", "internal_data_errors", "times data changed inside it", "What it hands out may not be what was written."},
}

func countRules() (out []Rule) {
	for _, c := range counts {
		m, _ := drive.MetricByName(c.metric)
		out = append(out, Rule{ID: c.id, Title: c.title, Level: Replace, Strength: drive.Strong, For: "drives that tell " + string(c.metric), Hold: 7 * day,
			When:  "replace: many_sectors in all, or burst_sectors new ones in 24 h, or spread_sectors new ones in 7 days with some of them today, or new ones on damage_days days of the last 30, or twice as many in the newer half of a week as in the older; else watch",
			Why:   c.why,
			Do:    "Replace it.",
			holds: counting(m),
			words: countWords(m, c.words)})
	}
	out = append(out, poolErrorRule, spareRule)
	return out
}

// How a count came to its verdict.
const (
	byAmount = iota
	byBurst
	bySpread
	bySpeedingUp
	byDays
	byMoving
	byStanding
)

// counting is the rule for counts of damaged places. N: the count, new ones in 24 h, new ones in 7 days, how it came to
// its verdict; Text: days unmoved.
func counting(m drive.Metric) func(*Subject, *Thresholds) *Hit {
	return func(s *Subject, t *Thresholds) *Hit {
		series := s.Record[m.Name]
		last, ok := series.Last()
		if !ok || last.Value <= 0 {
			return nil
		}
		h := Hit{Verdict: Watch, Since: series.FirstAbove(0), At: last.At, Metric: m.Name}
		today, lately, newer, week, onDays := rises(series, m.Kind == drive.Counter)
		older := week - newer
		h.Growth = today
		h.N = [4]float64{last.Value, today, week, byStanding}
		switch {
		case today >= t.BurstSectors:
			h.Verdict, h.N[3] = Replace, byBurst
		case today > 0 && week >= t.SpreadSectors:
			h.Verdict, h.N[3] = Replace, bySpread
		case lately > 0 && older > 0 && newer >= 2*older && newer >= t.BurstSectors:
			h.Verdict, h.N[3] = Replace, bySpeedingUp
		case onDays >= int(t.DamageDays):
			h.Verdict, h.N[3], h.Text = Replace, byDays, []string{strconv.Itoa(onDays)}
		case last.Value >= t.ManySectors:
			h.Verdict, h.N[3] = Replace, byAmount
		case week > 0:
			h.N[3] = byMoving
		default:
			h.Idle = true
			if changed := series.LastChange(); !changed.IsZero() && last.At.Sub(changed) > standstill {
				h.Text = []string{strconv.Itoa(int(last.At.Sub(changed) / day))}
			}
		}
		return &h
	}
}

// rises is how much a metric grew within a day, two days, three and a half, and seven, all before its newest value, and on
// how many days of the last 30; in one pass, since every reading of every drive comes through here. A counter that falls
// began anew; a level that falls just fell. What came between two readings counts from the later one.
func rises(s history.Series, counter bool) (one, two, half, seven float64, onDays int) {
	end := s[len(s)-1].At
	counted := -1
	for i := len(s) - 1; i > 0; i-- {
		age := end.Sub(s[i].At)
		if age >= 30*day {
			break
		}
		d := s[i].Value - s[i-1].Value
		if d < 0 {
			if d = 0; counter {
				d = s[i].Value
			}
		}
		if d == 0 {
			continue
		}
		if n := int(age / day); n != counted {
			counted = n
			onDays++
		}
		if age < 7*day {
			seven += d
		}
		if age < 7*day/2 {
			half += d
		}
		if age < 2*day {
			two += d
		}
		if age < day {
			one += d
		}
	}
	return one, two, half, seven, onDays
}

func countWords(m drive.Metric, words string) func(Hit) (string, string, []Evidence) {
	return func(h Hit) (says, do string, evidence []Evidence) {
		says = "has " + counted(h.N[0], words)
		evidence = []Evidence{{m.Name, amount(h.N[0], m.Unit), h.At, ""}}
		switch int(h.N[3]) {
		case byBurst, bySpread:
			says += fmt.Sprintf(", %s more than a day before", number(h.N[1]))
			do = "Replace it today: the number is growing."
		case bySpeedingUp:
			says += fmt.Sprintf(", %s of them new within 7 days, most of those in the newer half", number(h.N[2]))
			do = "Replace it: the number grows faster and faster."
		case byDays:
			says += fmt.Sprintf(", new ones on %s days of the last 30", h.Text[0])
			do = "Replace it: the number keeps growing."
		case byAmount:
			do = "Replace it: there are many."
		case byMoving:
			says += fmt.Sprintf(", %s of them new within 7 days", number(h.N[2]))
			do = "Keep an eye on it: if more come, it is to be replaced."
		default:
			do = "Leave it; it will be called out if the number moves."
			if len(h.Text) > 0 {
				says += ", unmoved for " + h.Text[0] + " days"
			}
		}
		if h.N[1] > 0 {
			evidence = append(evidence, Evidence{m.Name, "+" + amount(h.N[1], m.Unit) + " in 24 h", h.At, ""})
		}
		if h.N[2] > h.N[1] {
			evidence = append(evidence, Evidence{m.Name, "+" + amount(h.N[2], m.Unit) + " in 7 days", h.At, ""})
		}
		return says, do, evidence
	}
}

// counted writes a number of things; words begin with their plural.
func counted(n float64, words string) string {
	if n == 1 {
		things, rest, _ := strings.Cut(words, " ")
		words = strings.TrimSuffix(things, "s") + " " + strings.Replace(rest, "that have", "that has", 1)
	}
	return number(n) + " " + words
}

var poolErrorNames = []struct {
	metric drive.MetricName
	words  string
}{{"pool_read_errors", "reads that failed"}, {"pool_write_errors", "writes that failed"}, {"pool_checksum_errors", "wrong checksums"}}

// poolErrorRule. N: total, by the pool's own count, new in 24 h, which counter; Text: the day of a clean scrub since.
var poolErrorRule = Rule{ID: "pool-errors", Title: "Its pool counts errors", Level: Replace, Strength: drive.Strong, For: "members of a pool", Hold: 7 * day,
	When: "the pool ever counted an error against it; replace: a write that failed within 24 h, or many_pool_errors within 24 h",
	Why:  "The pool sees what reaches it, whatever the drive says. A count that was cleared is remembered here.",
	Do:   "Scrub the pool; replace the drive if they come back.",
	holds: func(s *Subject, t *Thresholds) (worst *Hit) {
		for i, c := range poolErrorNames {
			series := s.Record[c.metric]
			last, ok := series.Last()
			if !ok {
				continue
			}
			// The total is ours, not the pool's: a counter that was cleared does not take the memory with it.
			total, _ := series.Growth(time.Time{})
			if total += series[0].Value; total == 0 {
				continue
			}
			grown, known := series.Growth(last.At.Add(-day))
			if !known {
				grown = total // counted since it was first looked at
			}
			h := Hit{Verdict: Watch, Since: series.FirstAbove(0), At: last.At, Metric: c.metric, Growth: grown, N: [4]float64{total, last.Value, grown, float64(i)}}
			if h.Since.IsZero() {
				h.Since = series.LastChange()
			}
			// Lost writes cannot be explained by a single bad sector, and damage that keeps coming is not an old scar.
			if grown > 0 && (c.metric == "pool_write_errors" || grown >= t.ManyPoolErrors) {
				h.Verdict = Replace
			} else if grown == 0 && s.CleanScrub.After(series.LastRise()) {
				h.Idle, h.Text = true, []string{s.CleanScrub.UTC().Format("2006-01-02")}
			}
			if worst == nil || h.Verdict.Gravity() > worst.Verdict.Gravity() {
				worst = &h
			}
		}
		return worst
	},
	words: func(h Hit) (says, do string, _ []Evidence) {
		says = fmt.Sprintf("gave its pool %s (%s)", amount(h.N[0], "errors"), poolErrorNames[int(h.N[3])].words)
		if h.Verdict == Replace {
			do = "Replace it; check its cable when you are there."
		}
		if len(h.Text) > 0 {
			says += ", none since the clean scrub of " + h.Text[0]
			do = "Leave it; it will be called out if they come back."
		}
		return says, do, []Evidence{{h.Metric, amount(h.N[0], "errors") + " since first watched, " + number(h.N[1]) + " by the pool's own count", h.At, "pool"}}
	}}

var spareRule = Rule{ID: "spare-low", Title: "Hardly any spare left", Level: Replace, Strength: drive.Strong, For: "solid-state drives that tell it", Hold: day,
	When: "spare_available_percent is at or below spare", Why: "When the spare is used up, the next worn cell cannot be replaced.", Do: "Replace it.",
	holds: func(s *Subject, t *Thresholds) *Hit {
		last, ok := s.Record["spare_available_percent"].Last()
		if !ok || last.Value > t.Spare {
			return nil
		}
		return &Hit{Verdict: Replace, At: last.At, Since: last.At, Metric: "spare_available_percent", N: [4]float64{last.Value}}
	},
	words: func(h Hit) (string, string, []Evidence) {
		return fmt.Sprintf("has %s %% of its spare left", number(h.N[0])), "", []Evidence{{h.Metric, number(h.N[0]) + " %", h.At, ""}}
	}}
