package health

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"lantern/internal/core/drive"
)

// Rules about the drive itself: siblings, tests, and missing data.
var knowingRules = []Rule{
	{
		ID:         "sibling-failed",
		Title:      "A drive made together with it failed",
		Level:      Watch,
		Strength:   drive.Weak,
		For:        "drives in a pool",
		ofSiblings: true,
		When:       "a drive of the same model with a serial near its own failed",
		Why:        "A fault in one drive of a batch is more likely in the others.",
		Do:         "Run an extended self-test.",
		holds:      func(s *Subject, _ *Thresholds) *Hit { return siblings(s, false) },
		words: func(h Hit) (string, string, []Evidence) {
			tails, evidence := siblingWords(h)
			return "is of the same batch as " + tails + ", which failed", "", evidence
		},
	},
	{
		ID:         "same-hours",
		Title:      "A drive that ran just as long failed",
		Level:      Sound,
		Strength:   drive.Background,
		For:        "drives in a pool",
		ofSiblings: true,
		When:       "a drive of the same model with nearly equal power-on hours failed",
		Why:        "Drives bought together often wear out together; this alone is a weak sign.",
		Do:         "Nothing now; test it when convenient.",
		holds:      func(s *Subject, _ *Thresholds) *Hit { return siblings(s, true) },
		words: func(h Hit) (string, string, []Evidence) {
			tails, evidence := siblingWords(h)
			return "same age as " + tails + ", which failed", "", evidence
		},
	},
	{
		ID:       "never-tested",
		Title:    "No self-test on record",
		Level:    Sound,
		Strength: drive.Background,
		For:      "drives that have self-tests",
		When:     "it was watched for short_days and its log holds no test that ended",
		Why:      "Only self-tests and scrubs read most of a drive's surface.",
		Do:       "Test it.",
		holds: func(s *Subject, t *Thresholds) *Hit {
			if !tellsTests(s) || s.LastAt.Sub(s.FirstAt) < days(t.ShortDays) {
				return nil
			}
			for _, one := range s.Tests {
				if one.Result == drive.SelfTestPassed || one.Result == drive.SelfTestFailed {
					return nil
				}
			}
			return &Hit{Verdict: Sound, Since: s.FirstAt, Idle: true}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return "was never tested while it was watched", "", []Evidence{
				{Says: "no test that ended", At: h.At, Source: "self-test log"},
			}
		},
	},
	{
		ID:       "not-tested-lately",
		Title:    "Not tested for long",
		Level:    Sound,
		Strength: drive.Background,
		For:      "drives that have self-tests",
		When:     "its newest test that ended is older than short_days, or its newest extended one than extended_days",
		Why:      "The result of an old test may no longer hold.",
		Do:       "Test it.",
		holds: func(s *Subject, t *Thresholds) *Hit {
			if !tellsTests(s) {
				return nil
			}
			var any, extended time.Time
			for _, one := range s.Tests {
				if one.Result != drive.SelfTestPassed && one.Result != drive.SelfTestFailed {
					continue
				}
				if any.IsZero() {
					any = testTime(s, one)
				}
				if one.Kind == drive.SelfTestExtended {
					extended = testTime(s, one)
					break
				}
			}
			switch {
			case any.IsZero():
				return nil
			case s.LastAt.Sub(any) > days(t.ShortDays):
				return &Hit{Verdict: Sound, Since: any, Idle: true, Text: []string{"any"}}
			case extended.IsZero() && s.LastAt.Sub(s.FirstAt) > days(t.ExtendedDays):
				return &Hit{Verdict: Sound, Since: s.FirstAt, Idle: true, Text: []string{"extended, ever"}}
			case !extended.IsZero() && s.LastAt.Sub(extended) > days(t.ExtendedDays):
				return &Hit{Verdict: Sound, Since: extended, Idle: true, Text: []string{"extended"}}
			}
			return nil
		},
		words: func(h Hit) (says, _ string, _ []Evidence) {
			switch h.Text[0] {
			case "any":
				says = "was last tested " + strconv.Itoa(int(h.At.Sub(h.Since)/day)) + " days ago"
			case "extended":
				says = "had its last extended self-test " + strconv.Itoa(int(h.At.Sub(h.Since)/day)) + " days ago"
			default:
				says = "had no extended self-test while it was watched"
			}
			return says, "", []Evidence{{Says: says, At: h.At, Source: "self-test log"}}
		},
	},
	{
		ID:       "self-test-stalled",
		Title:    "Its self-test makes no progress",
		Level:    Watch,
		Strength: drive.Weak,
		For:      "drives whose self-test was started here",
		When: "what is left of it has not changed for a quarter of the time it should take, and for half an " +
			"hour at least",
		Why: "A busy drive tests itself slowly; one that is stuck at a place tries again and again to read it.",
		Do:  "Stop the test and start it again. If it stops at the same place, replace the drive.",
		holds: func(s *Subject, _ *Thresholds) *Hit {
			if s.Stalled.IsZero() {
				return nil
			}
			return &Hit{Verdict: Watch, Since: s.Stalled}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return "has a self-test that makes no progress", "", []Evidence{
				{Says: "the same is left as before", At: h.Since, Source: "drive"},
			}
		},
	},
	{
		ID:       "cannot-be-tested",
		Title:    "Has no self-tests",
		Level:    Sound,
		Strength: drive.Background,
		For:      all,
		When:     "it reports that it has no self-tests",
		Why:      "Only scrubs of its pool look at its surface.",
		Do:       "Scrub its pool often.",
		holds: func(s *Subject, _ *Thresholds) *Hit {
			if s.CanTest || !s.TestsTold || s.Blind != "" || !s.Present || s.HostLate {
				return nil
			}
			return &Hit{Verdict: Sound, Since: s.FirstAt, Idle: true}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return "has no self-tests", "", []Evidence{
				{Says: "self-tests are not implemented", At: h.At, Source: "drive"},
			}
		},
	},
	{
		ID:       "unreadable",
		Title:    "Returned a page that is not plausible",
		Level:    Unknown,
		Strength: drive.Background,
		For:      all,
		When:     "a page of its newest reading was unreadable",
		Why:      "A damaged page gives no information: neither healthy nor failed.",
		Do:       "The bytes are kept for a report. Check firmware and cable.",
		holds: func(s *Subject, _ *Thresholds) *Hit {
			if s.Bad == nil {
				return nil
			}
			return &Hit{
				Verdict: Unknown,
				Since:   s.LastAt,
				N:       [4]float64{float64(len(s.Bad.Bytes))},
				Text:    []string{s.Bad.Why, string(s.Bad.Kind)},
			}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return "answered with a page that is unreadable: " + h.Text[0], "", []Evidence{
				{Says: fmt.Sprintf("%d bytes kept", int(h.N[0])), At: h.At, Source: h.Text[1]},
			}
		},
	},
	{
		ID:       "unknown-since",
		Title:    "Not reported: its host is silent",
		Level:    Unknown,
		Strength: drive.Background,
		For:      all,
		When:     "two reports of its host were missed",
		Why:      "Unknown does not count as healthy.",
		Do:       "Look at the host and its agent.",
		holds: func(s *Subject, _ *Thresholds) *Hit {
			if !s.HostLate {
				return nil
			}
			return &Hit{Verdict: Unknown, Since: s.LastAt}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return "has not been reported since its host stopped reporting", "", []Evidence{
				{Says: "last report", At: h.At, Source: "host report"},
			}
		},
	},
	{
		ID:       "contested",
		Title:    "Two drives with one identity",
		Level:    Unknown,
		Strength: drive.Background,
		For:      all,
		When:     "two hosts report it at the same time, and what they say differs",
		Why:      "A finding about one of them may belong to the other.",
		Do:       "Pull nothing that has this label tail. Find both drives, or look at the agents of these hosts.",
		holds: func(s *Subject, _ *Thresholds) *Hit {
			if s.Contested == "" {
				return nil
			}
			return &Hit{Verdict: Unknown, Since: s.LastAt, Text: []string{s.Contested}}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return h.Text[0], "", []Evidence{{Says: "reported by two hosts", At: h.At, Source: "host reports"}}
		},
	},
	{
		ID:       "not-read",
		Title:    "Not read yet",
		Level:    Unknown,
		Strength: drive.Background,
		For:      all,
		When:     "no reading of it has come yet",
		Why:      "Without a reading, the health of a drive is unknown.",
		Do:       "Wait for its first reading.",
		holds: func(s *Subject, _ *Thresholds) *Hit {
			if !s.Present || s.HostLate || s.Blind != "" || s.TestsTold || ownValues(s) {
				return nil
			}
			return &Hit{Verdict: Unknown, Since: s.FirstAt}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return "has no reading yet", "", []Evidence{{Says: "no reading", At: h.Since, Source: "host report"}}
		},
	},
	{
		ID:       "gone-unused",
		Title:    "No longer there",
		Level:    Unknown,
		Strength: drive.Background,
		For:      "drives in no pool",
		When:     "it was in its host's report before and is not in the newest, and nothing was known to use it",
		Why:      "The state and the place of a drive that is gone are unknown.",
		Do:       "Nothing, if it was taken out on purpose.",
		holds: func(s *Subject, _ *Thresholds) *Hit {
			if s.Present || s.HostLate || s.Removed || s.Member != "" || s.Used {
				return nil
			}
			return &Hit{Verdict: Unknown, Since: s.GoneAt, At: s.GoneAt}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return "is gone; no use of it was known", "", []Evidence{
				{Says: "last answered", At: h.At, Source: "host report"},
			}
		},
	},
	{
		ID:       "taken-out",
		Title:    "Removed by a swap",
		Level:    Unknown,
		Strength: drive.Background,
		For:      all,
		When:     "it does not answer, and a swap asked for it to be taken out, or closed after it was",
		Why:      "The state of a drive that is out is unknown.",
		Do:       "Nothing.",
		holds: func(s *Subject, _ *Thresholds) *Hit {
			if s.Present || s.HostLate || !s.Removed {
				return nil
			}
			return &Hit{Verdict: Unknown, Since: s.GoneAt, At: s.GoneAt, Idle: true}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return "was removed by a swap", "", []Evidence{{Says: "last answered", At: h.At, Source: "host report"}}
		},
	},
	{
		ID:       "blind",
		Title:    "Reports no health data",
		Level:    Unknown,
		Strength: drive.Background,
		For:      all,
		When:     "its newest reading has no values",
		Why:      "What a drive does not report does not count as healthy.",
		Do:       "Use what its pool reports.",
		holds: func(s *Subject, _ *Thresholds) *Hit {
			why := s.Blind
			if why == "" && s.TestsTold && !ownValues(s) {
				why = "its readings have no values of its own"
			}
			if why == "" || s.HostLate || !s.Present {
				return nil
			}
			return &Hit{Verdict: Unknown, Since: s.FirstAt, Text: []string{why}}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return "is blind: " + h.Text[0], "", []Evidence{{Says: h.Text[0], At: h.At, Source: "host report"}}
		},
	},
}

// ownValues reports whether the drive itself ever reported a value. Counters of its host and its pool do not show its
// health.
func ownValues(s *Subject) bool {
	for name, series := range s.Record {
		if m, known := drive.MetricByName(name); len(series) > 0 && known && m.Own() {
			return true
		}
	}
	return false
}

func days(n float64) time.Duration { return time.Duration(n * float64(day)) }

// tellsTests reports whether a drive is present, supports self-tests, and reported its tests.
func tellsTests(s *Subject) bool {
	_, told := s.Record["power_on_hours"].Last()
	return s.TestsTold && s.CanTest && s.Present && !s.HostLate && s.Blind == "" && told
}

// siblings holds when drives that share more than their hours failed, or, with hours, drives that share only their
// hours. Text: tails and reasons alternately.
func siblings(s *Subject, hours bool) *Hit {
	if len(s.Siblings) == 0 {
		return nil
	}
	h := &Hit{Verdict: Watch}
	if hours {
		h.Verdict, h.Idle = Sound, true
	}
	for _, b := range s.Siblings {
		if b.Hours != hours {
			continue
		}
		if h.Since.IsZero() || b.At.Before(h.Since) {
			h.Since = b.At
		}
		h.Text = append(h.Text, b.Tail, b.Why)
	}
	if len(h.Text) == 0 {
		return nil
	}
	return h
}

func siblingWords(h Hit) (tails string, evidence []Evidence) {
	var names []string
	for i := 0; i+1 < len(h.Text); i += 2 {
		names = append(names, h.Text[i])
		evidence = append(evidence, Evidence{Says: h.Text[i+1], At: h.Since, Source: "identity"})
	}
	return strings.Join(names, ", "), evidence
}

// SameBatch reports whether two drives were made together: the same model, and serials that differ only in their last
// three characters, by at most near. Only drives with a world wide name count.
func SameBatch(a, b drive.Identity) bool {
	const near = 40
	if a.WWN == "" || b.WWN == "" || a.Model != b.Model || len(a.Serial) != len(b.Serial) || len(a.Serial) < 6 ||
		a.Serial == b.Serial {
		return false
	}
	cut := len(a.Serial) - 3
	if a.Serial[:cut] != b.Serial[:cut] {
		return false
	}
	x, err1 := strconv.ParseInt(a.Serial[cut:], 36, 64)
	y, err2 := strconv.ParseInt(b.Serial[cut:], 36, 64)
	return err1 == nil && err2 == nil && max(x-y, y-x) <= near
}

// SameHours reports whether two drives have nearly the same power-on hours: within two days, and more than half a year.
func SameHours(a, b float64) bool { return a > 183*24 && max(a-b, b-a) <= 48 }

// Failed reports whether a finding counts as a failure for the siblings of a drive: strong evidence to replace it,
// except that it is gone, or that its electronics cause link errors.
func Failed(h Hit) bool {
	r := ruleOf(h.Rule)
	return r != nil && h.Verdict.Gravity() >= Replace.Gravity() && r.Strength == drive.Strong && h.Rule != "vanished" &&
		h.Rule != "link-follows-drive"
}
