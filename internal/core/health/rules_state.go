package health

import (
	"fmt"
	"strings"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
)

// Rules about what the drive, its pool or its host reports directly.
var stateRules = []Rule{
	{
		ID:       "vanished",
		Title:    "Does not answer any more",
		Level:    Dead,
		Strength: drive.Strong,
		For:      "members of a pool, and drives that were in use",
		When:     "it was in its host's report before and is not in the newest",
		Why: "A member that is gone takes its share of the redundancy with it; what else used a drive has " +
			"lost it.",
		Do: "Check its bay: reseat it if it came loose, otherwise replace it.",
		holds: func(s *Subject, _ *Thresholds) *Hit {
			if s.Present || s.HostLate || s.Removed || s.Member == "" && !s.Used {
				return nil
			}
			return &Hit{Verdict: Dead, Since: s.GoneAt, At: s.GoneAt}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return "does not answer any more", "", []Evidence{
				{Says: "last answered", At: h.At, Source: "host report"},
			}
		},
	},
	{
		ID:       "faulted-by-pool",
		Title:    "Set aside by its pool",
		Level:    Dead,
		Strength: drive.Strong,
		For:      "members of a pool",
		When:     "its pool calls it faulty, or misses it while it answers",
		Why:      "The pool does not use it any more, whatever it says of itself.",
		Do:       "Replace it.",
		holds: func(s *Subject, _ *Thresholds) *Hit {
			if s.Member != pool.Faulty && !(s.Member == pool.Missing && s.Present) {
				return nil
			}
			return &Hit{Verdict: Dead, Since: s.LastAt, Text: []string{string(s.Member)}}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return "was set aside by its pool, which calls it " + h.Text[0], "", []Evidence{
				{Says: "member is " + h.Text[0], At: h.At, Source: "pool"},
			}
		},
	},
	{
		ID:       "critical-warning",
		Title:    "Raises a critical warning",
		Level:    Replace,
		Strength: drive.Strong,
		For:      "NVMe",
		Hold:     day,
		When:     "a critical warning other than the temperature's is raised",
		Why:      "The controller reports that it does not work correctly.",
		Do:       "Replace it.",
		holds: func(s *Subject, _ *Thresholds) *Hit {
			var raised []string
			for _, w := range s.Warnings {
				if w != "temperature" {
					raised = append(raised, w)
				}
			}
			if len(raised) == 0 || !s.Present {
				return nil
			}
			return &Hit{Verdict: Replace, Since: s.LastAt, Text: raised}
		},
		words: func(h Hit) (string, string, []Evidence) {
			what := strings.Join(h.Text, ", ")
			return "reports a warning: " + what, "", []Evidence{
				{Says: what, At: h.At, Source: "NVMe health log, critical warning"},
			}
		},
	},
	{
		ID:       "own-failing-status",
		Title:    "Predicts its own failure",
		Level:    Replace,
		Strength: drive.Strong,
		For:      all,
		Hold:     day,
		When:     "SMART RETURN STATUS or its informational exceptions say that a threshold was exceeded",
		Why:      "Its maker's own limit was crossed; makers set it late.",
		Do:       "Replace it.",
		holds: func(s *Subject, _ *Thresholds) *Hit {
			if !s.Failing || !s.Present || len(s.Warnings) > 0 {
				return nil
			}
			return &Hit{Verdict: Replace, Since: s.LastAt}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return "predicts its own failure", "", []Evidence{
				{Says: "threshold exceeded", At: h.At, Source: "SMART RETURN STATUS"},
			}
		},
	},
	{
		ID:       "self-test-failed",
		Title:    "Failed a self-test",
		Level:    Replace,
		Strength: drive.Strong,
		For:      all,
		When: "the newest self-test of a kind that ended says so, until one of that kind passes; replace: " +
			"for another reason than a place that could not be read, or twice in a row within 14 days, or with " +
			"burst_sectors that cannot be read; else watch",
		Why: "The drive's self-test found something it could not read. A single bad sector can be " +
			"rewritten; a second failure shows that it was not.",
		Do:    "Replace it, and test the drives of the same batch.",
		holds: selfTestFailed,
		words: func(h Hit) (says, do string, _ []Evidence) {
			where := ""
			if h.N[0] >= 0 {
				where = fmt.Sprintf(" at LBA %d", int64(h.N[0]))
			}
			says = fmt.Sprintf("failed its %s self-test%s", h.Text[0], where)
			if h.N[2] > 1 {
				says += fmt.Sprintf(
					", as it failed %s before",
					map[bool]string{true: "one", false: number(h.N[2] - 1)}[h.N[2] == 2],
				)
			}
			if len(h.Text) > 1 {
				says += "; the bad sector holds " + h.Text[1]
			}
			if h.Verdict == Watch {
				do = "Test it again: if it fails again, replace it. Let its pool be scrubbed, so that what lay " +
					"there is rewritten."
			}
			return says, do, []Evidence{
				{
					Says:   fmt.Sprintf("%s self-test failed%s, %d power-on hours", h.Text[0], where, int(h.N[1])),
					At:     h.At,
					Source: "self-test log",
				},
			}
		},
	},
}

// selfTestFailed. N: address, power-on hours, how many failed; Text: which test, and what is there.
func selfTestFailed(s *Subject, t *Thresholds) *Hit {
	var passed [8]drive.SelfTestKind
	n := 0
	var h *Hit
next:
	for _, one := range s.Tests {
		switch one.Result {
		case drive.SelfTestPassed:
			if n < len(passed) {
				passed[n] = one.Kind
				n++
			}
		case drive.SelfTestFailed:
			for _, k := range passed[:n] {
				if k == one.Kind {
					continue next
				}
			}
			at := testTime(s, one)
			if h == nil {
				h = &Hit{Verdict: Watch, Since: at, At: at, N: [4]float64{float64(one.LBA), float64(one.Hours)},
					Text: []string{string(one.Kind)}}
			}
			// The previous one of the same kind counts only if it is recent: months apart they may be two old defects.
			if string(one.Kind) == h.Text[0] && h.Since.Sub(at) < 14*day {
				h.N[2]++
			}
			if one.LBA < 0 {
				h.Verdict = Replace
			}
		}
	}
	if h == nil {
		return nil
	}
	unread := 0.0
	for _, m := range []drive.MetricName{"pending_sectors", "offline_uncorrectable_sectors"} {
		if p, ok := s.Record[m].Last(); ok {
			unread = max(unread, p.Value)
		}
	}
	if s.SectorHolds != "" && float64(s.FailedLBA) == h.N[0] {
		h.Text = append(h.Text, s.SectorHolds)
	}
	if h.N[2] > 1 || unread >= t.BurstSectors {
		h.Verdict = Replace
	}
	return h
}

// testTime computes the date of a test from its power-on hours in the log (16 bits) and those of the newest reading.
func testTime(s *Subject, t drive.SelfTest) time.Time {
	p, ok := s.Record["power_on_hours"].Last()
	if !ok {
		return s.LastAt
	}
	ago := (int64(p.Value) - int64(t.Hours)) & 0xFFFF
	return p.At().Add(-time.Duration(ago) * time.Hour)
}
