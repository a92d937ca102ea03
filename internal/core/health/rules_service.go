package health

import (
	"fmt"
	"time"

	"lantern/internal/core/drive"
)

// What its work shows: how fast it answers, whether it stays on the bus, how worn it is.
var serviceRules = []Rule{
	{ID: "slower-than-peers", Title: "Far slower than its group", Level: Replace, Strength: drive.Strong, For: "members of a group of at least three", Hold: 6 * time.Hour,
		When: "its reads took slow_factor times the median of its group's other members, and far more than they differ among themselves, in two readings or more and for slow_minutes; not while a recovery writes to it",
		Why:  "A group is as fast as its slowest member; a drive that retries inside itself shows so first.", Do: "Replace it: it holds its whole group back.", holds: slow,
		words: func(h Hit) (string, string, []Evidence) {
			return fmt.Sprintf("takes %s for a read, %.0f times as long as its peers", Seconds(h.N[0]), h.N[0]/h.N[1]), "", []Evidence{
				{h.Metric, Seconds(h.N[0]) + " mean read latency", h.At, "host I/O statistics"},
				{h.Metric, Seconds(h.N[1]) + " median of its group's other members", h.At, "host I/O statistics"}}
		}},
	{ID: "bus-drops", Title: "Leaves the bus and comes back", Level: Replace, Strength: drive.Strong, For: all, Hold: 7 * day,
		When: "it left the bus and came back by itself within 7 days; replace: drops times", Why: "A drive that resets itself will one day not come back; a loose connector does the same.",
		Do: "Reseat it and look at its connector; watch it, do not trust it.",
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
			h := Hit{Verdict: Watch, At: last.At, Since: series.FirstAbove(last.Value - grown), Metric: "bus_drops", Growth: grown, N: [4]float64{grown, last.Value}}
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
			return "left the bus and came back " + times + " within 7 days", do, []Evidence{{h.Metric, amount(h.N[1], "drops") + " since first watched", h.At, "host reports"}}
		}},
	{ID: "command-timeouts", Title: "Does not finish commands in time", Level: Watch, Strength: drive.Weak, For: "ATA", Hold: day,
		When: "timeouts commands within 24 h", Why: "Power and cabling cause time-outs as often as the drive does.", Do: "Check power and cabling.",
		holds: func(s *Subject, t *Thresholds) *Hit {
			series := s.Record["command_timeouts"]
			last, ok := series.Last()
			if !ok || last.Value == 0 {
				return nil
			}
			grown, known := series.Growth(last.At.Add(-day))
			if !known || grown < t.Timeouts {
				return nil
			}
			return &Hit{Verdict: Watch, Since: series.LastChange(), At: last.At, Metric: "command_timeouts", Growth: grown, N: [4]float64{grown}}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return fmt.Sprintf("did not finish %s commands in time since yesterday", number(h.N[0])), "", []Evidence{{h.Metric, "+" + amount(h.N[0], "commands") + " in 24 h", h.At, ""}}
		}},
	{ID: "spin-retries", Title: "Needs several attempts to spin up", Level: Watch, Strength: drive.Weak, For: "rotating drives that tell it", Hold: 7 * day,
		When: "the count grew within 7 days", Why: "A tired motor needs a push; a weak power supply looks the same.", Do: "Check its power. Do not switch it off without need.",
		holds: func(s *Subject, _ *Thresholds) *Hit {
			series := s.Record["spin_retries"]
			last, ok := series.Last()
			if !ok || last.Value == 0 {
				return nil
			}
			grown, _ := series.Growth(last.At.Add(-7 * day))
			if grown == 0 {
				return nil
			}
			return &Hit{Verdict: Watch, Since: series.LastChange(), At: last.At, Metric: "spin_retries", N: [4]float64{grown}}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return fmt.Sprintf("needed %s more attempts to spin up within 7 days", number(h.N[0])), "", []Evidence{{h.Metric, "+" + amount(h.N[0], "retries") + " in 7 days", h.At, ""}}
		}},
	{ID: "service-life", Title: "Older than its service life", Level: Watch, Strength: drive.Weak, For: all,
		When: "it was powered for longer than service_years", Why: "Age alone never condemns a drive, but spares should be at hand.", Do: "Leave it; see that a spare that fits is at hand.",
		holds: func(s *Subject, t *Thresholds) *Hit {
			return beyond(s, "power_on_hours", t.ServiceYears*365*24)
		},
		words: func(h Hit) (string, string, []Evidence) {
			return fmt.Sprintf("was powered for %.1f years", h.N[0]/24/365), "", []Evidence{{h.Metric, amount(h.N[0], "h"), h.At, ""}}
		}},
	{ID: "load-cycles", Title: "More load cycles than it is rated for", Level: Watch, Strength: drive.Weak, For: "rotating drives that tell it",
		When: "load_cycles are reached", Why: "Its maker rates the ramp for so many; most drives go on far beyond.", Do: "Leave it; see why its heads are parked so often.",
		holds: func(s *Subject, t *Thresholds) *Hit { return beyond(s, "load_cycles", t.LoadCycles) },
		words: func(h Hit) (string, string, []Evidence) {
			return fmt.Sprintf("parked its heads %s times", number(h.N[0])), "", []Evidence{{h.Metric, amount(h.N[0], "cycles"), h.At, ""}}
		}},
	{ID: "wear", Title: "Its rated endurance is used up", Level: Watch, Strength: drive.Weak, For: "solid-state drives",
		When: "wear_used_percent reaches wear", Why: "It goes on working, without its maker's word for it.", Do: "Plan to replace it.",
		holds: func(s *Subject, t *Thresholds) *Hit {
			h := beyond(s, "wear_used_percent", t.Wear)
			if h != nil {
				h.Idle = false
			}
			return h
		},
		words: func(h Hit) (string, string, []Evidence) {
			return fmt.Sprintf("has used %s %% of the writes it is rated for", number(h.N[0])), "", []Evidence{{h.Metric, number(h.N[0]) + " %", h.At, ""}}
		}},
}

// beyond holds when a metric reached a limit; nothing is to be done about it.
func beyond(s *Subject, metric drive.MetricName, limit float64) *Hit {
	series := s.Record[metric]
	last, ok := series.Last()
	if !ok || last.Value < limit {
		return nil
	}
	return &Hit{Verdict: Watch, Idle: true, At: last.At, Since: series.FirstAbove(limit - 1), Metric: metric, N: [4]float64{last.Value}}
}

func slow(s *Subject, t *Thresholds) *Hit {
	series := s.Record["read_latency_seconds"]
	last, ok := series.Last()
	limit := t.SlowFactor * s.Peers.Median
	if !ok || s.Peers.N < 2 || limit <= 0 || s.Filling || last.Value < t.SlowFloor || last.Value < limit || last.Value-s.Peers.Median < 6*sigma*s.Peers.MAD {
		return nil
	}
	since := series.FirstAbove(limit)
	// A reading's latency is a mean since the reading before: it was slow from then on.
	began := since
	if before, ok := series.At(since.Add(-time.Nanosecond)); ok {
		began = before.At
	}
	// One reading can be anything; two in a row, over long enough, are a habit.
	if since.Equal(last.At) || last.At.Sub(began) < time.Duration(t.SlowMinutes*float64(time.Minute)) {
		return nil
	}
	return &Hit{Verdict: Replace, Since: since, At: last.At, Metric: "read_latency_seconds", N: [4]float64{last.Value, s.Peers.Median}}
}
