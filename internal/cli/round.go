package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func roundCommand() *cli.Command {
	return &cli.Command{
		Name:        "round",
		Usage:       "what needs a person now, in order",
		Description: "Example: lantern round\n         lantern round --exit-code",
		Flags: append(
			[]cli.Flag{&cli.BoolFlag{Name: "exit-code", Usage: "exit with 5 if something needs a hand, or is not known"}},
			tableFlags()...),
		Action: listing(func(ctx context.Context, s *session, cmd *cli.Command) error {
			r, err := ask[api.Round](s.client.GetRound(ctx))
			if err != nil {
				return err
			}
			needs := error(nil)
			if cmd.Bool("exit-code") && needsHand(r) {
				needs = &Failure{Code: ExitNeedsHand}
			}
			if len(s.out.choice.columns) == 0 {
				if done, err := s.out.value(r); done {
					return cmp.Or(err, needs)
				}
			}
			if s.out.format == "csv" || len(s.out.choice.columns) > 0 {
				var rows [][]cell
				for i, l := range r.Lines {
					rows = append(
						rows,
						[]cell{
							countCell(i + 1),
							verdictCell(l.Verdict),
							{text: l.Tail},
							{text: l.Bay},
							{text: l.Pool},
							{text: l.Says},
							{text: l.Do},
							timeCell(l.Since, minutes),
							{text: l.Site},
							timeCell(l.AsOf, minutes),
						},
					)
				}
				for _, h := range r.Silent {
					rows = append(rows, []cell{countCell(len(rows) + 1), verdictCell(api.Unknown), {}, {},
						{text: strings.Join(h.Pools, " ")},
						{text: h.Says}, {text: h.Do}, timeCell(h.Since, minutes), {text: h.Site}, timeCell(h.AsOf, minutes)})
				}
				return cmp.Or(
					needs,
					s.out.table(
						[]column{
							col("place"),
							col("verdict"),
							col("tail"),
							col("bay"),
							col("pool").spare(2),
							col("says").fold(20),
							col("do").fold(16),
							col("since").spare(1),
							col("site").more(),
							col("as_of").more(),
						},
						rows,
					),
				)
			}
			s.round(r)
			return needs
		}),
	}
}

// needsHand reports whether anything in a round needs a person, or whether something is unknown.
func needsHand(r api.Round) bool {
	if r.Hosts == 0 || r.Drives == 0 || len(r.Sites)+len(r.Awaited) > 0 || len(r.Lines)+len(r.Silent) > 0 ||
		len(r.Pools) > 0 ||
		len(r.Filling) > 0 ||
		r.Trouble.Says != "" {
		return true
	}
	for _, u := range r.Underway {
		if u.Alarm != "" {
			return true
		}
	}
	return false
}

func (s *session) round(r api.Round) {
	o := s.out
	if x := r.Trouble; x.Says != "" {
		m, st := mark(x.Severity)
		o.line("%s  %s", o.paint(m+" service", st), x.Says)
		o.line("     %s %s", o.paint("→", st), x.Do)
	}
	unreached(o, r.Sites)
	if says := nothingIn(r); says != "" {
		o.line("%s", says)
	}
	s.silent(r)
	for i, l := range r.Lines {
		m, st := mark(l.Verdict)
		place := l.Bay
		if place == "" {
			place = l.Host
		}
		place = at(l.Site, place)
		o.line(
			"%s %s  %s  %s",
			o.paint(fmt.Sprintf("%2d", i+1), dim),
			o.paint(m+" "+fmt.Sprintf("%-7s", l.Verdict), st),
			o.paint(fmt.Sprintf("%-18s", place), bold),
			o.paint(l.Tail, bold),
		)
		o.line("     %s%s", l.Tail+" "+l.Says, more(l.Also))
		facts, chart, wide := "", "", 0
		if l.Pool != "" {
			facts = fmt.Sprintf("%s: %s; without this drive: %s", l.Pool, l.Margin.Words, without(l))
		}
		if len(l.Spark) > 1 && facts != "" {
			drawn, label := spark(l.Spark), " "+l.Unit+", 14 days"
			chart, wide = o.paint(drawn, st)+label, utf8.RuneCountInString(drawn+label)
		}
		switch {
		case chart != "" && 5+utf8.RuneCountInString(facts)+3+wide > o.width: // it does not fit behind the facts
			o.line("     %s", chart)
			o.line("     %s", facts)
		case facts != "":
			o.line("     %s%s", facts, strings.TrimRight("   "+chart, " "))
		}
		do := l.Do
		if l.Swap != "" {
			do = "A swap is open: lantern swap show " + l.Swap
		}
		age := "  for " + span(r.At.Sub(l.Since)) + dated(l.AsOf)
		o.line("     %s %s", o.paint("→", st), do+o.paint(age, dim))
	}
	s.roundRest(r)
}

// nothingIn says why a round has no lines; empty if it has lines, or if another text says it.
func nothingIn(r api.Round) string {
	switch {
	case r.Hosts == 0 && len(r.Sites) > 0: // which give the reason
	case r.Hosts == 0 && r.Headquarters:
		return "No site is connected, so there is no data. Begin with: lantern site invite <name>"
	case r.Hosts == 0:
		return "No host is enrolled yet, so nothing is known. Begin with: lantern host enrol <name>"
	case len(r.Awaited) > 0:
		return "No data yet of " + strings.Join(r.Awaited, ", ") + ": no report has come."
	case r.Drives == 0:
		return "No drive is known: the hosts report none. What an agent sees on its host: lantern agent --print"
	case len(r.Lines)+len(r.Silent) == 0 && len(r.Pools) == 0 && len(r.Sites) == 0 &&
		r.Trouble.Says == "":
		return "Nothing needs a hand. As of " + r.At.Local().Format("15:04:05") + "."
	}
	return ""
}

// silent prints the hosts that do not report, each as one line for its drives.
func (s *session) silent(r api.Round) {
	o := s.out
	for _, h := range r.Silent {
		m, st := mark(api.Unknown)
		o.line("%s %s  %s", o.paint(" -", dim), o.paint(m+" unknown", st), o.paint(at(h.Site, h.Host), bold))
		o.line("     %s", h.Says)
		if len(h.Pools) > 0 {
			o.line("     %s", strings.Join(h.Pools, ", "))
		}
		o.line("     %s %s", o.paint("→", st), h.Do+o.paint("  for "+span(r.At.Sub(h.Since))+dated(h.AsOf), dim))
	}
}

// roundRest prints what is below the lines of the round.
func (s *session) roundRest(r api.Round) {
	o := s.out
	if len(r.Underway) > 0 {
		o.line("%s", o.paint("─ under way "+strings.Repeat("─", 60), dim))
		for _, u := range r.Underway {
			if u.Alarm != "" {
				o.line("  %s", o.paint("STOP  "+u.Alarm, loud))
			}
			line := "  " + at(u.Site, u.Says)
			if u.Kind == api.UnderWayKindRecovery {
				line += fmt.Sprintf("  %s %.1f %%  %s", bar(u.Share, 20), 100*u.Share, finish(r.At, u.Finish))
			}
			o.line("%s", line+dated(u.AsOf))
		}
	}
	if len(r.Pools) > 0 {
		o.line("%s", o.paint("─ pools in an unknown state "+strings.Repeat("─", 33), dim))
		for _, p := range r.Pools {
			m, st := mark(api.Unknown)
			o.line("  %s  %s%s", o.paint(m+" "+at(p.Site, p.Pool), st), p.Says, dated(p.AsOf))
			o.line("     %s %s", o.paint("→", st), p.Do)
		}
	}
	if len(r.Filling) > 0 {
		o.line("%s", o.paint("─ filling up "+strings.Repeat("─", 59), dim))
		for _, f := range r.Filling {
			o.line(
				"  %s  %.0f %% full, %s of %s%s",
				o.paint("▥ "+at(f.Site, f.Pool), level),
				100*float64(f.UsedBytes)/float64(f.CapacityBytes),
				decimal(f.UsedBytes),
				decimal(f.CapacityBytes),
				dated(f.AsOf),
			)
		}
	}
}

func more(n int) string {
	switch {
	case n == 1:
		return " (and one more finding)"
	case n > 1:
		return fmt.Sprintf(" (and %d more findings)", n)
	}
	return ""
}

func without(l api.RoundLine) string {
	if l.MarginAfter.Words == "" {
		return l.Margin.Words
	}
	return l.MarginAfter.Words
}

// finish writes a range as people read it.
func finish(now time.Time, r api.Range) string {
	if r.P50.IsZero() {
		return "no finish can be estimated yet"
	}
	return fmt.Sprintf(
		"done in %s to %s, likely %s (%s)",
		span(r.P10.Sub(now)),
		span(r.P90.Sub(now)),
		span(r.P50.Sub(now)),
		r.P50.Local().Format("Mon 15:04"),
	)
}
