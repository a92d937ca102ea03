package health

import (
	"fmt"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/history"
)

var poolErrorNames = []struct {
	metric drive.MetricName
	words  string
}{{"pool_read_errors", "reads that failed"}, {"pool_write_errors", "writes that failed"},
	{"pool_checksum_errors", "wrong checksums"}}

// poolErrorRule. N: total, by the pool's own count, new in 24 h, which counter; Text: the day of a clean scrub since.
var poolErrorRule = Rule{
	ID:       "pool-errors",
	Title:    "Its pool counts errors",
	Level:    Replace,
	Strength: drive.Strong,
	For:      "members of a pool",
	Hold:     7 * day,
	When: "the pool ever counted an error against it; replace: a write that failed within 24 h, or " +
		"many_pool_errors within 24 h",
	Why: "The pool sees what reaches it, whatever the drive says. A count that was cleared is remembered here.",
	Do:  "Scrub the pool; replace the drive if they come back.",
	holds: func(s *Subject, t *Thresholds) (worst *Hit) {
		for i, c := range poolErrorNames {
			series := s.Record[c.metric]
			last, ok := series.Last()
			if !ok {
				continue
			}
			// The total is kept here: clearing the pool's counter does not reset it.
			total, _ := series.Growth(time.Time{})
			if total += series[0].Value; total == 0 {
				continue
			}
			grown, known := series.Growth(last.At().Add(-day))
			if !known {
				grown = total // counted since it was first seen
			}
			h := Hit{
				Verdict: Watch,
				Since:   series.FirstAbove(0),
				At:      last.At(),
				Metric:  c.metric,
				Growth:  grown,
				N:       [4]float64{total, last.Value, grown, float64(i)},
			}
			if h.Since.IsZero() {
				h.Since = series.LastChange()
			}
			// Lost writes cannot be explained by a single bad sector, and damage that keeps growing is not old damage.
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
			do = "Leave it; it is flagged again if they come back."
		}
		return says, do, []Evidence{
			{
				h.Metric,
				amount(h.N[0], "errors") + " since first watched, " + number(h.N[1]) + " by the pool's own count",
				h.At,
				"pool",
			},
		}
	},
}

// spareRule. N: what is left, how much went within 7 days, days until the limit at that pace, the limit.
var spareRule = Rule{
	ID:       "spare-low",
	Title:    "Little spare capacity left",
	Level:    Replace,
	Strength: drive.Strong,
	For:      "solid-state drives that report it",
	Hold:     day,
	When: "replace: spare_available_percent is, or was in two readings, at or below spare: it does not grow " +
		"back, whatever a reset count says; watch: at the pace of the last 7 days it will be within 90 days",
	Why: "When the spare is used up, the next worn cell cannot be replaced.",
	Do:  "Replace it.",
	holds: func(s *Subject, t *Thresholds) *Hit {
		series := s.Record["spare_available_percent"]
		last, ok := series.Last()
		if !ok {
			return nil
		}
		least, since := lowest(series)
		left := min(last.Value, least)
		h := Hit{
			Verdict: Replace,
			At:      last.At(),
			Since:   last.At(),
			Metric:  "spare_available_percent",
			N:       [4]float64{left, 0, 0, t.Spare},
		}
		if left <= t.Spare {
			if least <= t.Spare {
				h.Since = since
			}
			return &h
		}
		before, known := series.At(last.At().Add(-7 * day))
		if !known {
			before = series[0]
		}
		over := last.At().Sub(before.At())
		gone := before.Value - left
		if gone < spareMoves || over < 12*time.Hour {
			return nil
		}
		until := time.Duration((left - t.Spare) / gone * float64(over))
		if until > spareSoon {
			return nil
		}
		h.Verdict, h.N[1], h.N[2] = Watch, gone, until.Hours()/24
		h.Text = []string{span(over)}
		return &h
	},
	words: func(h Hit) (says, do string, _ []Evidence) {
		says = fmt.Sprintf("has %s %% of its spare left", number(h.N[0]))
		if len(h.Text) > 0 {
			says += fmt.Sprintf(
				", %s %% less than %s ago: at this pace %s %% is left in %.0f days",
				number(h.N[1]),
				h.Text[0],
				number(h.N[3]),
				h.N[2],
			)
			do = "Order a drive that fits, and replace it before that."
		}
		return says, do, []Evidence{{h.Metric, number(h.N[0]) + " %", h.At, ""}}
	},
}

// lowest is the least value confirmed by two consecutive readings, and since when the series was at or below it.
func lowest(s history.Series) (least float64, since time.Time) {
	least = s[0].Value
	since = s[0].At()
	for i := 1; i < len(s); i++ {
		if v := max(s[i].Value, s[i-1].Value); v < least {
			least, since = v, s[i].At()
		}
	}
	return least, since
}
