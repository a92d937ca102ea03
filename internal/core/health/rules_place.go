package health

import (
	"fmt"
	"strings"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
)

// Rules about the place of a drive: the link, the bay, the temperature.
var placeRules = []Rule{
	{
		ID:       "link-follows-drive",
		Title:    "Its bad link followed it to another bay",
		Level:    Replace,
		Strength: drive.Strong,
		For:      "ATA and SCSI",
		Hold:     7 * day,
		When:     "link_errors damaged transfers in an earlier bay, and again as many in the bay where it is now",
		Why:      "Another bay has another cable and another connector; what stayed the same is the drive.",
		Do:       "Replace it: its own connector or electronics are at fault.",
		holds: func(s *Subject, t *Thresholds) *Hit {
			here, before, elsewhere := linkStays(s)
			if here < t.LinkErrors || before < t.LinkErrors {
				return nil
			}
			return linkHit(s, Replace, here, before, elsewhere, s.Stays[len(s.Stays)-1].Bay)
		},
		words: func(h Hit) (string, string, []Evidence) {
			return fmt.Sprintf("has a bad link in %s as it had in %s", h.Text[1], h.Text[0]), "", []Evidence{
				{
					h.Metric,
					amount(h.N[1], "errors") + " in " + h.Text[0],
					h.Since,
					"SMART attribute 199",
				},
				{h.Metric, amount(h.N[0], "errors") + " in " + h.Text[1], h.At, ""},
			}
		},
	},
	{
		ID:       "bay-at-fault",
		Title:    "Its bay damages transfers of every drive",
		Level:    Watch,
		Strength: drive.Path,
		For:      "ATA and SCSI",
		Hold:     7 * day,
		When:     "link_errors damaged transfers within 7 days, in a bay where another drive had them as well",
		Why:      "The same fault on two drives in one bay points to the bay.",
		Do:       "Use another bay, and have backplane and cable of this one looked at. Do not replace the drive.",
		holds: func(s *Subject, t *Thresholds) *Hit {
			if len(s.BayMates) == 0 || len(s.Stays) == 0 {
				return nil
			}
			h := linkErrors(s, t)
			if h == nil || followed(s, t) {
				return nil
			}
			h.Text = append([]string{s.Stays[len(s.Stays)-1].Bay}, s.BayMates...)
			return h
		},
		words: func(h Hit) (string, string, []Evidence) {
			return fmt.Sprintf(
					"has a bad link, and so had %s in the same bay: %s is at fault",
					strings.Join(h.Text[1:], ", "),
					h.Text[0],
				), "",
				[]Evidence{
					{h.Metric, amount(h.N[1], "errors") + ", +" + number(h.N[0]) + " in 7 days", h.At, ""},
				}
		},
	},
	{
		ID:       "link-crc",
		Title:    "A bad link",
		Level:    Watch,
		Strength: drive.Path,
		For:      "ATA and SCSI",
		Hold:     day,
		When:     "link_errors damaged transfers within 7 days",
		Why: "Transfers were damaged on the way and sent again. That is the cable, the backplane or the " +
			"bay until it follows the drive elsewhere.",
		Do: "Reseat it and check cable and bay. Do not replace the drive for this.",
		holds: func(s *Subject, t *Thresholds) *Hit {
			if len(s.BayMates) > 0 || followed(s, t) {
				return nil
			}
			return linkErrors(s, t)
		},
		words: func(h Hit) (string, string, []Evidence) {
			return fmt.Sprintf(
					"has a bad link: %s damaged transfers in 7 days; the drive itself shows nothing",
					number(h.N[0]),
				), "",
				[]Evidence{
					{h.Metric, amount(h.N[1], "errors") + ", +" + number(h.N[0]) + " in 7 days", h.At, ""},
				}
		},
	},
	{
		ID:       "path-lost",
		Title:    "A path to it does not work",
		Level:    Watch,
		Strength: drive.Path,
		For:      "drives with several paths",
		When:     "a path to it that worked before has failed or is gone",
		Why:      "The drive is still reached another way; when that fails as well, it is gone.",
		Do:       "Look at the cable, the adapter and the expander of that path. Do not replace the drive for this.",
		holds: func(s *Subject, _ *Thresholds) *Hit {
			if !s.Present || s.HostLate {
				return nil
			}
			var lost []string
			var since time.Time
			for _, p := range s.Paths {
				if !p.Works {
					name := p.Name
					if p.Port != "" {
						name += " at " + p.Port
					}
					lost = append(lost, name)
					if since.IsZero() || p.SeenAt.Before(since) {
						since = p.SeenAt
					}
				}
			}
			if len(lost) == 0 {
				return nil
			}
			return &Hit{
				Verdict: Watch,
				Since:   since,
				At:      s.LastAt,
				N:       [4]float64{float64(len(lost)), float64(len(s.Paths))},
				Text:    lost,
			}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return fmt.Sprintf("has lost %d of %d paths: %s", int(h.N[0]), int(h.N[1]), strings.Join(h.Text, ", ")), "",
				[]Evidence{{Says: fmt.Sprintf("%d paths work", int(h.N[1]-h.N[0])), At: h.At, Source: "host report"}}
		},
	},
	shiftRule(
		enclosure.Moved,
		"moved-elsewhere",
		"Moved to another bay",
		"its bay is not the one where it was last, and no swap moved it",
		"A list from yesterday shows the wrong bay.",
	),
	shiftRule(
		enclosure.Exchanged,
		"changed-places",
		"Exchanged bays with another drive",
		"it is where another drive was, and that one is where this was",
		"Two drives that exchanged bays make it easy to pull the wrong one.",
	),
	shiftRule(
		enclosure.Claimed,
		"bay-claimed-twice",
		"Its bay is claimed by another drive as well",
		"two drives are said to be in the same bay",
		"One of the two is somewhere else; it is not known which.",
	),
	{
		ID:       "too-hot",
		Title:    "Above its temperature limit",
		Level:    Watch,
		Strength: drive.Weak,
		For:      all,
		Hold:     2 * time.Hour,
		When:     "its temperature reaches the limit it tells, or hot_limit",
		Why:      "Heat ages every part of a drive; beyond this its maker does not guarantee it.",
		Do:       "Check its cooling now.",
		holds: func(s *Subject, t *Thresholds) *Hit {
			last, ok := s.Record["temperature_celsius"].Last()
			if !ok || !s.Present {
				return nil
			}
			limit := t.HotLimit
			own := 0.0
			if p, ok := s.Record["temperature_limit_celsius"].Last(); ok && p.Value > 0 {
				limit, own = p.Value, 1
			}
			if last.Value < limit {
				return nil
			}
			return &Hit{
				Verdict: Watch,
				Since:   s.Record["temperature_celsius"].FirstAbove(limit - 1),
				At:      last.At(),
				Metric:  "temperature_celsius",
				N:       [4]float64{last.Value, limit, own},
			}
		},
		words: func(h Hit) (string, string, []Evidence) {
			whose := map[bool]string{true: "its own limit", false: "the limit set here"}[h.N[2] == 1]
			return fmt.Sprintf(
					"is at %s °C; %s is %s °C",
					number(h.N[0]),
					whose,
					number(h.N[1]),
				), "", []Evidence{
					{h.Metric, number(h.N[0]) + " °C", h.At, ""},
				}
		},
	},
	{
		ID:       "hotter-than-neighbours",
		Title:    "Far warmer than its neighbours",
		Level:    Watch,
		Strength: drive.Weak,
		For:      "drives in a section with at least four others",
		Hold:     2 * time.Hour,
		When: "its temperature is hot_apart above the median of its section, and far more than they differ " +
			"among themselves",
		Why: "A stopped fan, or a bay without air flow, shows as warm drives beside cool ones.",
		Do:  "Look at the fans and at what blocks the air there.",
		holds: func(s *Subject, t *Thresholds) *Hit {
			last, ok := s.Record["temperature_celsius"].Last()
			if !ok || !s.Present || s.Neighbours.N < 4 {
				return nil
			}
			apart := max(t.HotApart, 3*sigma*s.Neighbours.MAD)
			if last.Value-s.Neighbours.Median < apart {
				return nil
			}
			return &Hit{
				Verdict: Watch,
				Since:   s.Record["temperature_celsius"].FirstAbove(s.Neighbours.Median + apart - 1),
				At:      last.At(),
				Metric:  "temperature_celsius",
				N:       [4]float64{last.Value, s.Neighbours.Median},
			}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return fmt.Sprintf(
					"is at %s °C, %s °C warmer than its neighbours",
					number(h.N[0]),
					number(h.N[0]-h.N[1]),
				), "",
				[]Evidence{
					{h.Metric, number(h.N[0]) + " °C", h.At, ""},
					{h.Metric, number(h.N[1]) + " °C median of its section", h.At, ""},
				}
		},
	},
}

// shiftRule remarks on the place of a drive. This is no evidence about its health, so it gives no verdict. One notice
// informs people about all drives that are part of it.
func shiftRule(kind enclosure.MoveKind, id, title, when, why string) Rule {
	return Rule{
		ID:       id,
		Title:    title,
		Level:    Sound,
		Strength: drive.Path,
		For:      "drives whose bay is known and was not guessed",
		When:     when,
		Why:      why,
		Do:       "Use the drive's label, not what is written on the bay.",
		holds: func(s *Subject, _ *Thresholds) *Hit {
			if s.Shift.Kind != kind {
				return nil
			}
			return &Hit{Verdict: Sound, Since: s.Shift.Since, Text: []string{s.Shift.Says, s.Shift.Do}}
		},
		words: func(h Hit) (string, string, []Evidence) {
			return h.Text[0], h.Text[1], []Evidence{
				{"", h.Text[0], h.At, "bays as enclosures told them or people saw them"},
			}
		},
	}
}

// linkErrors holds when enough transfers were damaged within 7 days. N: new ones in 7 days, total.
func linkErrors(s *Subject, t *Thresholds) *Hit {
	series := s.Record["link_crc_errors"]
	last, ok := series.Last()
	if !ok || last.Value == 0 {
		return nil
	}
	// For a drive observed for less than 7 days, the growth since the first reading counts.
	grown, _ := series.Growth(last.At().Add(-7 * day))
	if grown < t.LinkErrors {
		return nil // old errors that do not grow need no action
	}
	today, _ := series.Growth(last.At().Add(-day))
	return &Hit{
		Verdict: Watch,
		Since:   series.FirstAbove(last.Value - grown),
		At:      last.At(),
		Metric:  "link_crc_errors",
		Growth:  today,
		N:       [4]float64{grown, last.Value},
	}
}

func followed(s *Subject, t *Thresholds) bool {
	here, before, _ := linkStays(s)
	return here >= t.LinkErrors && before >= t.LinkErrors
}

// linkStays counts damaged transfers in the present bay of a drive, and in the earlier bay with most of them.
func linkStays(s *Subject) (here, before float64, elsewhere string) {
	n := len(s.Stays)
	if n < 2 {
		return 0, 0, ""
	}
	series := s.Record["link_crc_errors"]
	last, ok := series.Last()
	if !ok || last.Value == 0 {
		return 0, 0, ""
	}
	within := func(st Stay) float64 {
		end := st.To
		if end.IsZero() {
			end = last.At()
		}
		v, _ := series.Until(end).Growth(st.From)
		return v
	}
	now := s.Stays[n-1]
	here = within(now)
	for _, st := range s.Stays[:n-1] {
		if v := within(st); st.Bay != now.Bay && v > before {
			before, elsewhere = v, st.Bay
		}
	}
	return here, before, elsewhere
}

func linkHit(s *Subject, v Verdict, here, before float64, elsewhere, bay string) *Hit {
	last, _ := s.Record["link_crc_errors"].Last()
	return &Hit{
		Verdict: v,
		At:      last.At(),
		Since:   s.Stays[len(s.Stays)-1].From,
		Metric:  "link_crc_errors",
		N:       [4]float64{here, before},
		Text:    []string{elsewhere, bay},
	}
}
