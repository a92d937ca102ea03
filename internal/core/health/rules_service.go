package health

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/history"
)

// Rules about the service of a drive: latency, resets on the bus, wear.
var serviceRules = []Rule{
	{
		ID:       "slower-than-peers",
		Title:    "Far slower than its group",
		Level:    Replace,
		Strength: drive.Strong,
		For:      "members of a group of at least three",
		Hold:     6 * time.Hour,
		When: "its reads took slow_factor times the median of its group's other members, and far more than " +
			"they differ among themselves, in two readings or more and for slow_minutes; not while a recovery " +
			"writes to it",
		Why:   "A group is as fast as its slowest member; a drive that retries internally shows it here first.",
		Do:    "Replace it: it holds its whole group back.",
		holds: slow,
		words: func(h Hit) (string, string, []Evidence) {
			return fmt.Sprintf(
					"takes %s for a read, %.0f times as long as its peers",
					Seconds(h.N[0]),
					h.N[0]/h.N[1],
				), "", []Evidence{
					{h.Metric, Seconds(h.N[0]) + " mean read latency", h.At, "host I/O statistics"},
					{h.Metric, Seconds(h.N[1]) + " median of its group's other members", h.At, "host I/O statistics"},
				}
		},
	},
	{
		ID:       "slower-than-before",
		Title:    "Far slower than it was",
		Level:    Watch,
		Strength: drive.Weak,
		For:      "drives watched for two weeks or more",
		Hold:     2 * day,
		When: "for 2 days nearly all of its reads took slow_past times as long as in the best quarter of " +
			"its readings before that, and half of slow_floor at least; not while a recovery writes to it",
		Why: "A drive that retries internally slows down before it reports errors. More work than before slows " +
			"it as well.",
		Do:    "Compare it with what its host does now; run an extended self-test.",
		holds: slowerThanBefore,
		words: func(h Hit) (string, string, []Evidence) {
			return fmt.Sprintf(
					"takes %s for a read, %.1f times as long as it took before",
					Seconds(h.N[0]),
					h.N[0]/h.N[1],
				), "", []Evidence{
					{
						h.Metric,
						Seconds(h.N[0]) + " median read latency of 2 days",
						h.At,
						"",
					},
					{h.Metric, Seconds(h.N[1]) + " in the best quarter of its readings before", h.At, ""},
				}
		},
	},
	{
		ID:       "count-fell",
		Title:    "Its lifetime counters were reset",
		Level:    Watch,
		Strength: drive.Weak,
		For:      all,
		Hold:     7 * day,
		When:     "in two readings a count that only grows was less than at the beginning of the last 100 days",
		Why: "Its memory was cleared or its electronics were replaced: its counters no longer include what " +
			"came before.",
		Do:    "Find out what was done to it. The earlier counts are kept here.",
		holds: countFell,
		words: func(h Hit) (string, string, []Evidence) {
			return fmt.Sprintf(
					"counts %s again, after %s",
					counted(h.N[0], h.Text[0]),
					number(h.N[1]),
				), "", []Evidence{
					{h.Metric, number(h.N[0]) + " " + h.Text[0], h.At, ""},
					{h.Metric, number(h.N[1]) + " before", h.Since, ""},
				}
		},
	},
	{
		ID:       "bus-drops",
		Title:    "Leaves the bus and comes back",
		Level:    Replace,
		Strength: drive.Strong,
		For:      all,
		Hold:     7 * day,
		When:     "it left the bus and came back by itself within 7 days; replace: drops times",
		Why:      "A drive that resets itself will one day not come back; a loose connector does the same.",
		Do:       "Reseat it and look at its connector; watch it, do not trust it.",
		holds: func(s *Subject, t *Thresholds) *Hit {
			series := s.Record["bus_drops"]
			last, ok := series.Last()
			if !ok || last.Value == 0 {
				return nil
			}
			grown, _ := series.Growth(s.LastAt.Add(-7 * day))
			if grown == 0 {
				return nil
			}
			h := Hit{
				Verdict: Watch,
				At:      last.At(),
				Since:   series.FirstAbove(last.Value - grown),
				Metric:  "bus_drops",
				Growth:  grown,
				N:       [4]float64{grown, last.Value},
			}
			if grown >= t.Drops {
				h.Verdict = Replace
			}
			return &h
		},
		words: func(h Hit) (says, do string, _ []Evidence) {
			if h.Verdict == Replace {
				do = "Replace it, and look at the connector of its bay."
			}
			times := map[bool]string{true: "once", false: number(h.N[0]) + " times"}[h.N[0] == 1]
			return "left the bus and came back " + times + " within 7 days", do, []Evidence{
				{h.Metric, amount(h.N[1], "drops") + " since first watched", h.At, "host reports"},
			}
		},
	},
	{
		ID:       "command-timeouts",
		Title:    "Does not finish commands in time",
		Level:    Watch,
		Strength: drive.Weak,
		For:      "ATA",
		Hold:     day,
		When:     "timeouts commands within 24 h",
		Why:      "Power and cabling cause time-outs as often as the drive does.",
		Do:       "Check power and cabling.",
		holds: func(s *Subject, t *Thresholds) *Hit {
			series := s.Record["command_timeouts"]
			last, ok := series.Last()
			if !ok || last.Value == 0 {
				return nil
			}
			grown, known := series.Growth(last.At().Add(-day))
			if !known || grown < t.Timeouts {
				return nil
			}
			return &Hit{
				Verdict: Watch,
				Since:   series.LastChange(),
				At:      last.At(),
				Metric:  "command_timeouts",
				Growth:  grown,
				N:       [4]float64{grown},
			}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return fmt.Sprintf(
					"did not finish %s commands in time since yesterday",
					number(h.N[0]),
				), "", []Evidence{
					{h.Metric, "+" + amount(h.N[0], "commands") + " in 24 h", h.At, ""},
				}
		},
	},
	{
		ID:       "spin-retries",
		Title:    "Needs several attempts to spin up",
		Level:    Watch,
		Strength: drive.Weak,
		For:      "rotating drives that report it",
		Hold:     7 * day,
		When:     "the count grew within 7 days",
		Why:      "A tired motor needs a push; a weak power supply looks the same.",
		Do:       "Check its power. Do not switch it off without need.",
		holds: func(s *Subject, _ *Thresholds) *Hit {
			series := s.Record["spin_retries"]
			last, ok := series.Last()
			if !ok || last.Value == 0 {
				return nil
			}
			grown, _ := series.Growth(last.At().Add(-7 * day))
			if grown == 0 {
				return nil
			}
			return &Hit{
				Verdict: Watch,
				Since:   series.LastChange(),
				At:      last.At(),
				Metric:  "spin_retries",
				N:       [4]float64{grown},
			}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return fmt.Sprintf(
					"needed %s more attempts to spin up within 7 days",
					number(h.N[0]),
				), "", []Evidence{
					{h.Metric, "+" + amount(h.N[0], "retries") + " in 7 days", h.At, ""},
				}
		},
	},
	{
		ID:       "service-life",
		Title:    "Older than its service life",
		Level:    Watch,
		Strength: drive.Weak,
		For:      all,
		When:     "it was powered for longer than service_years",
		Why:      "Age alone never condemns a drive, but spares should be at hand.",
		Do:       "Leave it; make sure that a spare that fits is available.",
		holds: func(s *Subject, t *Thresholds) *Hit {
			return beyond(s, "power_on_hours", t.ServiceYears*365*24)
		},
		words: func(h Hit) (string, string, []Evidence) {
			return fmt.Sprintf(
					"was powered for %.1f years",
					h.N[0]/24/365,
				), "", []Evidence{
					{h.Metric, amount(h.N[0], "h"), h.At, ""},
				}
		},
	},
	{
		ID:       "load-cycles",
		Title:    "More load cycles than it is rated for",
		Level:    Watch,
		Strength: drive.Weak,
		For:      "rotating drives that report it",
		When:     "load_cycles are reached",
		Why:      "Its maker rates the ramp for so many; most drives go on far beyond.",
		Do:       "Leave it; find out why its heads are parked so often.",
		holds:    func(s *Subject, t *Thresholds) *Hit { return beyond(s, "load_cycles", t.LoadCycles) },
		words: func(h Hit) (string, string, []Evidence) {
			return fmt.Sprintf(
					"parked its heads %s times",
					number(h.N[0]),
				), "", []Evidence{
					{h.Metric, amount(h.N[0], "cycles"), h.At, ""},
				}
		},
	},
	{
		ID:       "wear",
		Title:    "Its rated endurance is used up",
		Level:    Watch,
		Strength: drive.Weak,
		For:      "solid-state drives",
		When:     "wear_used_percent reaches wear",
		Why:      "It keeps working, but its maker no longer guarantees it.",
		Do:       "Plan to replace it.",
		holds: func(s *Subject, t *Thresholds) *Hit {
			series := s.Record["wear_used_percent"]
			last, ok := series.Last()
			if !ok {
				return nil
			}
			used := last.Value
			for i := 1; i < len(series); i++ { // wear does not decrease, even if the counter was reset
				used = max(used, min(series[i].Value, series[i-1].Value))
			}
			if used < t.Wear {
				return nil
			}
			h := &Hit{
				Verdict: Watch,
				At:      last.At(),
				Since:   series.FirstAbove(t.Wear - 1),
				Metric:  "wear_used_percent",
				N:       [4]float64{used},
			}
			if h.Since.IsZero() {
				h.Since = series.LastChange()
			}
			return h
		},
		words: func(h Hit) (string, string, []Evidence) {
			return fmt.Sprintf(
					"has used %s %% of the writes it is rated for",
					number(h.N[0]),
				), "", []Evidence{
					{h.Metric, number(h.N[0]) + " %", h.At, ""},
				}
		},
	},
}

// beyond holds when a metric reached a limit that calls for no action.
func beyond(s *Subject, metric drive.MetricName, limit float64) *Hit {
	series := s.Record[metric]
	last, ok := series.Last()
	if !ok || last.Value < limit {
		return nil
	}
	return &Hit{
		Verdict: Watch,
		Idle:    true,
		At:      last.At(),
		Since:   series.FirstAbove(limit - 1),
		Metric:  metric,
		N:       [4]float64{last.Value},
	}
}

func slow(s *Subject, t *Thresholds) *Hit {
	series := s.Record["read_latency_seconds"]
	last, ok := series.Last()
	limit := t.SlowFactor * s.Peers.Median
	if !ok || s.Peers.N < 2 || limit <= 0 || s.Filling || last.Value < t.SlowFloor || last.Value < limit ||
		last.Value-s.Peers.Median < 6*sigma*s.Peers.MAD {
		return nil
	}
	since := series.FirstAbove(limit)
	// The latency of a reading is the mean since the reading before: the drive was slow from then on.
	began := since
	if before, ok := series.At(since.Add(-time.Nanosecond)); ok {
		began = before.At()
	}
	// One reading may be an exception; two consecutive ones over enough time are not.
	if since.Equal(last.At()) || last.At().Sub(began) < time.Duration(t.SlowMinutes*float64(time.Minute)) {
		return nil
	}
	return &Hit{
		Verdict: Replace,
		Since:   since,
		At:      last.At(),
		Metric:  "read_latency_seconds",
		N:       [4]float64{last.Value, s.Peers.Median},
	}
}

// slowerThanBefore compares the last two days of a drive's latency with its own past. N: now, before.
func slowerThanBefore(s *Subject, t *Thresholds) *Hit {
	series := s.Record["read_latency_seconds"]
	last, ok := series.Last()
	if !ok || s.Filling || last.Value < t.SlowFloor/2 || last.At().Sub(series[0].At()) < 14*day {
		return nil
	}
	// The latency of a reading is the mean since the reading before, so each is weighted by that time.
	from := last.At().Add(-2 * day)
	var now weighed
	for i := len(series) - 1; i > 0 && series[i].At().After(from); i-- {
		now = append(now, weight{series[i].Value, series[i].At().Sub(maxTime(series[i-1].At(), from))})
	}
	middle, most := now.quantile(0.5), now.quantile(0.15)
	if middle < t.SlowFloor/2 || !fasterBefore(series, from, most/t.SlowPast) {
		return nil
	}
	var before weighed
	for i := 1; i < len(series) && series[i-1].At().Before(from); i++ {
		before = append(before, weight{series[i].Value, minTime(series[i].At(), from).Sub(series[i-1].At())})
	}
	best := before.quantile(0.25)
	if best <= 0 || most < t.SlowPast*best {
		return nil
	}
	return &Hit{Verdict: Watch, Since: from, At: last.At(), Metric: "read_latency_seconds", N: [4]float64{middle, best}}
}

// fasterBefore reports whether the latency was at most this high for a quarter of the time before from: only then is
// sorting all values worthwhile.
func fasterBefore(series history.Series, from time.Time, limit float64) bool {
	var low, sum time.Duration
	for i := 1; i < len(series) && series[i-1].At().Before(from); i++ {
		over := minTime(series[i].At(), from).Sub(series[i-1].At())
		if sum += over; series[i].Value <= limit*(1+1e-9) {
			low += over
		}
	}
	return low > 0 && float64(low) >= 0.25*float64(sum)
}

type weight struct {
	value float64
	over  time.Duration
}

type weighed []weight

// quantile is the value below which a share of the time lies.
func (w weighed) quantile(q float64) float64 {
	slices.SortFunc(w, func(a, b weight) int { return cmp.Compare(a.value, b.value) })
	var sum, upto time.Duration
	for _, x := range w {
		sum += x.over
	}
	for _, x := range w {
		if upto += x.over; float64(upto) >= q*float64(sum) {
			return x.value
		}
	}
	return 0
}

func minTime(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

func maxTime(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// lifetime are counts that only grow during the life of a drive, except those of damage, which have their own rules.
var lifetime = []struct {
	metric drive.MetricName
	words  string
}{{"power_on_hours", "hours of power"}, {"power_cycles", "power cycles"}, {"bytes_written", "bytes written"},
	{"bytes_read", "bytes read"}, {"start_stops", "starts and stops"}, {"load_cycles", "load cycles"}}

// countFell. N: now, before; Text: of what.
func countFell(s *Subject, _ *Thresholds) *Hit {
	for _, c := range lifetime {
		series := s.Record[c.metric]
		n := len(series)
		if n < 3 || series[n-1].Value >= series[0].Value || series[n-2].Value >= series[0].Value {
			continue
		}
		for i := n - 1; i > 0; i-- {
			if series[i].Value < series[i-1].Value {
				return &Hit{
					Verdict: Watch,
					Since:   series[i].At(),
					At:      series[n-1].At(),
					Metric:  c.metric,
					N:       [4]float64{series[n-1].Value, series[i-1].Value},
					Text:    []string{c.words},
				}
			}
		}
	}
	return nil
}
