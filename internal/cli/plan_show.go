package cli

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"lantern/internal/api"
)

func covers(all []api.PlanScope) string {
	var out []string
	for _, sc := range all {
		out = append(out, strings.TrimSpace(string(sc.Kind)+" "+sc.Name))
	}
	return strings.Join(out, ", ")
}

func (s *session) showPlan(p api.Plan) error {
	if done, err := s.out.value(p); done {
		return err
	}
	row := func(name, format string, args ...any) {
		s.out.line("%s %s", s.out.paint(fmt.Sprintf("%-10s", name), dim), fmt.Sprintf(format, args...))
	}
	s.out.line("%s", s.out.paint(p.Name, bold))
	row("for", "%s; %d drives follow it", covers(p.Covers), p.Drives)
	for _, t := range p.Tests {
		within := ""
		if t.WithinHours > 0 {
			within = ", within " + span(time.Duration(t.WithinHours*float64(time.Hour)))
		}
		row(string(t.Kind), "%s%s  %s", t.Every, within, s.out.paint(t.Rrule, dim))
		if t.Skips != "" {
			row("", "%s", s.out.paint("note: "+t.Skips, bold))
		}
	}
	if len(p.Tests) == 0 {
		row("tests", "none: its drives are not tested by plan")
	}
	row("zone", "%s", p.Zone)
	row("windows", "%s", cmp.Or(strings.Join(p.Windows, ", "), "at any time"))
	if len(p.Barred) > 0 {
		row("never", "%s", strings.Join(p.Barred, ", "))
	}
	limit := func(n int) string {
		if n == 0 {
			return "any"
		}
		return fmt.Sprint(n)
	}
	row(
		"at once",
		"%s of a group, %s of a pool, %s in an enclosure, %s on a host",
		limit(p.Limits.Group),
		limit(p.Limits.Pool),
		limit(p.Limits.Enclosure),
		limit(p.Limits.Host),
	)
	if p.LeastMargin > 0 {
		row("margin", "no test starts in a pool that can lose fewer than %d", p.LeastMargin)
	} else {
		row("margin", "no limit")
	}
	if p.BusyPercent > 0 {
		row("busy", "no test starts on drives that are busy for more than %g %% of the time", p.BusyPercent)
	}
	row(
		"overrun",
		"a test may overrun its window: %s",
		map[bool]string{true: "yes", false: "no"}[p.RunOver],
	)
	row(
		"asleep",
		"%s",
		map[bool]string{true: "sleeping drives are woken for their test", false: "sleeping drives are " +
			"left alone"}[p.Wake],
	)
	row("written", "by %s, %s", p.By, p.MadeAt.Local().Format("2006-01-02 15:04"))
	return nil
}

var loads = []rune("▁▂▃▄▅▆▇█")

// calendar draws a row for each day and a column for each hour.
func (s *session) calendar(c api.Calendar) error {
	if done, err := s.out.value(c); done {
		return err
	}
	loc, err := time.LoadLocation(c.Zone)
	if err != nil {
		loc = time.UTC
	}
	if s.out.format == "csv" {
		var rows [][]cell
		for _, h := range c.Hours {
			rows = append(
				rows,
				[]cell{
					{text: h.At.In(loc).Format(time.RFC3339)},
					countCell(h.Short),
					countCell(h.Extended),
				},
			)
		}
		return s.out.table(cols("hour", "short", "extended"), rows)
	}
	most := 1
	for _, h := range c.Hours {
		most = max(most, h.Short+h.Extended)
	}
	for _, k := range c.Crowds {
		s.out.line(
			"%s %s to %s: %s",
			s.out.paint("▲", quiet),
			k.From.In(loc).Format("2 Jan"),
			k.To.In(loc).Format("2 Jan"),
			k.Says,
		)
	}
	for _, u := range c.Unsettled {
		s.out.line("%s two plans apply to %s", s.out.paint("▲", quiet), u)
	}
	s.out.line("%s", s.out.paint("            00    03    06    09    12    15    18    21      tests begin", dim))
	open := map[int64]bool{}
	for _, t := range c.Times {
		for _, sp := range t.Allowed {
			for at := sp.From.Truncate(time.Hour); at.Before(sp.To); at = at.Add(time.Hour) {
				open[at.Unix()] = true
			}
		}
	}
	var b strings.Builder
	total, day := 0, ""
	flush := func() {
		if day != "" {
			s.out.line("%s  %s  %4d", day, b.String(), total)
		}
		b.Reset()
		total = 0
	}
	prev := 0
	for _, h := range c.Hours {
		if d := h.At.In(loc).Format("Mon 02 Jan"); d != day {
			flush()
			day, prev = d, 0
		}
		n := h.Short + h.Extended
		total += max(0, n-prev)
		prev = h.Extended
		switch {
		case n > 0:
			b.WriteString(
				s.out.paint(strings.Repeat(string(loads[min(len(loads)-1, (n*len(loads)-1)/most)]), 2), level),
			)
		case open[h.At.Truncate(time.Hour).Unix()]:
			b.WriteString(s.out.paint("··", dim))
		default:
			b.WriteString("  ")
		}
	}
	flush()
	s.out.line("")
	s.out.line(
		"%s hours of %s; the tallest is %d tests at once, · is a window without any, blank is no window. %d "+
			"tests begin in this time.",
		s.out.paint("▁█", level),
		c.Zone,
		most,
		c.Tests,
	)
	for _, list := range []struct {
		word  string
		tests []api.PlannedTest
	}{{"held back", c.Held}, {"missed", c.Missed}} {
		if len(list.tests) == 0 {
			continue
		}
		s.out.line("")
		s.out.line("%s", s.out.paint(fmt.Sprintf("%s: %d", list.word, len(list.tests)), bold))
		for i, t := range list.tests {
			if i == 10 {
				s.out.line("  and %d more", len(list.tests)-10)
				break
			}
			s.out.line("  %s %s, %s: %s", s.out.paint(t.Tail, bold), cmp.Or(t.Bay, t.Host), t.Kind, t.Why)
		}
	}
	return nil
}
