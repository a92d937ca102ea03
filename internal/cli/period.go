package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
	"lantern/internal/paper"
)

func reportCommand() *cli.Command {
	return &cli.Command{
		Name:        "report",
		Usage:       "reports on a period",
		Description: "Example: lantern report month\n         lantern report month --from 2026-11-01 --to 2026-12-01",
		Commands: []*cli.Command{
			{
				Name:  "month",
				Usage: "print the report on the last 30 days, or on another period",
				Description: "Example: lantern report month\n" +
					"         lantern report month --from 2026-11-01 --pool soundscape --html report.html\n\n" +
					"What failed and was replaced, at which margin, recoveries, self-tests, notices and how fast they were seen, " +
					"capacity,\n" +
					"warranties, money, and what to buy. --html writes a page that prints on paper, or as PDF from a browser.",
				Flags: []cli.Flag{
					&cli.StringFlag{
						Name:        "from",
						Usage:       "start of the period, such as 2026-11-01",
						DefaultText: "30 days before its end",
					},
					&cli.StringFlag{Name: "to", Usage: "when it ends", DefaultText: "now"},
					&cli.StringFlag{Name: "pool", Usage: "only this pool"},
					&cli.StringFlag{Name: "room", Usage: "only hosts in this room"},
					&cli.StringFlag{Name: "html", Usage: "write it as a page into this file"},
				},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					p := api.GetReportParams{Pool: cmd.String("pool"), Room: cmd.String("room")}
					for option, to := range map[string]*time.Time{"from": &p.From, "to": &p.To} {
						text := cmd.String(option)
						if text == "" {
							continue
						}
						at, err := ParseMoment(text, time.Now())
						if err != nil {
							return usage("--%s: %v", option, err)
						}
						*to = at.UTC()
					}
					r, err := ask[api.PeriodReport](s.client.GetReport(ctx, &p))
					if err != nil {
						return err
					}
					if file := cmd.String("html"); file != "" {
						server, _, _, err := settings(cmd)
						if err != nil {
							return err
						}
						page, err := paper.Report(r, true, server, time.Local)
						if err != nil {
							return err
						}
						if err := os.WriteFile(file, []byte(page), 0o644); err != nil {
							return err
						}
						s.out.line("%s, %s", file, decimal(int64(len(page))))
						return nil
					}
					return tell(s, s.periodReport, r, nil)
				}),
			},
		},
	}
}

// periodReport prints a report for people.
func (s *session) periodReport(r api.PeriodReport) {
	o := s.out
	head := func(text string) { o.line(""); o.line("%s", o.paint(text, bold)) }
	about := ""
	if r.Pool+r.Room != "" {
		about = ", " + strings.TrimSpace(r.Pool+" "+r.Room)
	}
	o.line(
		"%s",
		o.paint(fmt.Sprintf("%s to %s%s", r.From.Local().Format(minutes), r.To.Local().Format(minutes), about), bold),
	)
	for _, f := range r.First {
		o.line("  %s", f)
	}
	head("Flagged replace or dead")
	for _, f := range r.Flagged {
		o.line("  %s  %-7s %s  %s %s: %s", f.At.Local().Format(minutes), f.Verdict, f.Tail, at(f.Site, f.Place), f.Pool,
			f.Says)
	}
	none(o, len(r.Flagged))
	head("Swaps that ended")
	for _, w := range r.Swaps {
		fate := ""
		if w.Fate != "" {
			fate = ", old one: " + w.Fate
		}
		o.line("  %s  %s: %s out, %s in; %s, %s%s", w.EndedAt.Local().Format(minutes), at(w.Site, w.Pool), w.Old, w.New,
			w.Phase, span(time.Duration(w.Seconds*float64(time.Second))), fate)
		for _, m := range w.Margins {
			o.line("      %8s  %s", span(time.Duration(m.Seconds*float64(time.Second))), m.Margin.Words)
		}
	}
	none(o, len(r.Swaps))
	head("Recoveries that ended")
	for _, x := range r.Recoveries {
		o.line(
			"  %s  %s: %s %s, %s, %s",
			x.EndedAt.Local().Format(minutes),
			at(x.Site, x.Pool),
			x.Kind,
			x.State,
			span(time.Duration(x.Seconds*float64(time.Second))),
			decimal(x.DoneBytes),
		)
	}
	none(o, len(r.Recoveries))
	head("Self-tests and notices")
	o.line(
		"  self-tests: %d passed, %d failed, %d otherwise; overdue now: %s, never tested: %s",
		r.Tests.Passed,
		r.Tests.Failed,
		r.Tests.Other,
		plural(r.Tests.Overdue, "drive"),
		plural(r.Tests.Never, "drive"),
	)
	seen := "none acknowledged"
	if r.Notices.Seen > 0 {
		seen = fmt.Sprintf(
			"%d were seen, half of them within %s",
			r.Notices.Seen,
			span(time.Duration(r.Notices.MedianSeenSeconds*float64(time.Second))),
		)
	}
	o.line(
		"  notices: %d opened (%d dead, %d replace, %d watch); %s",
		r.Notices.Opened,
		r.Notices.Dead,
		r.Notices.Replace,
		r.Notices.Watch,
		seen,
	)
	head("Capacity")
	for _, c := range r.Capacity {
		o.line("  %-12s %s of %s%s%s", at(c.Site, c.Pool), usedWords(c), decimal(c.CapacityBytes), fullWords(c), oldWords(c))
		if c.Days > 0 && !c.Soonest.IsZero() {
			for _, w := range c.Ways {
				o.line("      %s: about %s more, %s", w.Says, decimal(w.AddsBytes), fullWhen(w.Soonest, w.Latest))
			}
		}
	}
	none(o, len(r.Capacity))
	head("Stock and warranty")
	for _, k := range r.Advice.Kinds {
		o.line("  %s %s: hold %d, buy %d; %s", at(k.Site, decimal(k.CapacityBytes)), k.Medium, k.Hold, k.Buy, k.Says)
	}
	for _, w := range r.Warranties {
		o.line("  warranty of %s ends in %s: %s %s", w.Serial, plural(w.WarrantyDays, "day"), at(w.Site, w.Place), w.Pool)
	}
	for _, m := range r.Money {
		o.line("  %s bought for %s %s", plural(m.Drives, "drive"), m.Sum, m.Currency)
	}
	a := r.Failures.All
	if a.DriveYears == 0 {
		o.line("  failures: no drive was observed yet")
		return
	}
	o.line("  failures: %.1f %% a year (%.1f to %.1f %%), %d in %.0f drive-years", 100*a.PerYear, 100*a.Low, 100*a.High,
		a.Failures, a.DriveYears)
}

func none(o *printer, n int) {
	if n == 0 {
		o.line("  none")
	}
}

// usedWords describe the use of a pool.
func usedWords(c api.PeriodCapacity) string {
	if c.UsedUnknown {
		return "an unknown part"
	}
	return decimal(c.UsedBytes)
}

// oldWords give the date of the facts about a pool that is not reported now (R7).
func oldWords(c api.PeriodCapacity) string {
	if !c.Stale {
		return ""
	}
	return "; not reported now, all of this as of " + c.SeenAt.Local().Format(minutes)
}

// fullWords say when a pool is full.
func fullWords(c api.PeriodCapacity) string {
	switch {
	case c.Days == 0:
		return "; known for too short a time to estimate when it is full"
	case c.Soonest.IsZero():
		return fmt.Sprintf("; no growth in %d days", c.Days)
	}
	return "; " + fullWhen(c.Soonest, c.Latest)
}

// fullWhen is the range of months in which a pool is full.
func fullWhen(soonest, latest time.Time) string {
	from, to := soonest.Local().Format("2006-01"), latest.Local().Format("2006-01")
	switch {
	case soonest.IsZero():
		return "not foreseen to be full"
	case latest.IsZero():
		return "full in " + from + " at the soonest"
	case from == to:
		return "full in " + from
	}
	return "full between " + from + " and " + to
}
