package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/guptarohit/asciigraph"
	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func drivesCommand() *cli.Command {
	return &cli.Command{Name: "drives", Usage: "list drives", Description: "Example: lantern drives --pool soundscape --verdict replace\n         lantern drives --where 'pending_sectors>0' --sort -pending_sectors",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "host", Usage: "only on this host"}, &cli.StringFlag{Name: "pool", Usage: "only in this pool"},
			&cli.StringFlag{Name: "verdict", Usage: "sound, unknown, watch, replace or dead"},
			&cli.StringFlag{Name: "where", Usage: "comparisons of metrics, such as 'pending_sectors>0, temperature_celsius>=45'"},
			&cli.StringFlag{Name: "sort", Usage: "place, verdict or a metric; a leading - turns the order"},
			&cli.StringFlag{Name: "find", Usage: "any part of serial, WWN, model, bay, pool or host"}},
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			p := api.ListDrivesParams{Host: cmd.String("host"), Pool: cmd.String("pool"), Verdict: api.Verdict(cmd.String("verdict")), Q: cmd.String("find"), Where: cmd.String("where"), Sort: cmd.String("sort")}
			if v := p.Verdict; v != "" && v != api.Sound && v != api.Unknown && v != api.Watch && v != api.Replace && v != api.Dead {
				return usage("--verdict is sound, unknown, watch, replace or dead, not %q", v)
			}
			all, err := s.drives(ctx, p)
			if err != nil {
				return err
			}
			return list(s, all, "No drive fits. Without options, all are listed.", []string{"VERDICT", "TAIL", "BAY", "POOL AND SLOT", "MODEL", "SIZE", "POWERED FOR", "SAYS"}, func(d api.Drive) []cell {
				place := d.Bay
				switch {
				case place == "":
					place = d.Host + " (no bay)"
				case !d.Present:
					place = "was in " + place
				}
				where := d.Pool
				if d.Slot != "" {
					where += " " + d.Slot
				}
				return []cell{verdictCell(d.Verdict), {text: d.Tail, style: bold}, {text: place}, {text: where}, {text: d.Identity.Model},
					{text: decimal(d.CapacityBytes), right: true}, {text: age(d.PowerOnHours), right: true}, {text: d.Says}}
			})
		})}
}

// drives gets all drives that fit, page by page.
func (s *session) drives(ctx context.Context, p api.ListDrivesParams) ([]api.Drive, error) {
	all := []api.Drive{}
	for p.Limit = 500; ; {
		res, err := s.client.ListDrivesWithResponse(ctx, &p)
		if err != nil {
			return nil, unreachable(err)
		}
		page, err := got(res.JSON200, res, res.Body)
		if err != nil {
			return nil, err
		}
		all = append(all, page.Drives...)
		if p.Cursor = page.Next; p.Cursor == "" {
			return all, nil
		}
	}
}

func driveCommand() *cli.Command {
	return &cli.Command{Name: "drive", Usage: "one drive: who it is, how it is and why", ArgsUsage: "<serial or its end>", Description: "Example: lantern drive 7F412",
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			name, err := one(cmd, "a serial, or its end")
			if err != nil {
				return err
			}
			res, err := s.client.GetDriveWithResponse(ctx, name)
			if err != nil {
				return unreachable(err)
			}
			d, err := got(res.JSON200, res, res.Body)
			if err != nil {
				return err
			}
			if done, err := s.out.value(d); done {
				return err
			}
			if s.out.format == "csv" {
				var rows [][]cell
				for _, m := range d.Metrics {
					rows = append(rows, []cell{{text: m.Name}, {text: number(m.Value)}, {text: m.Unit}, {text: m.At.Format(time.RFC3339)}, {text: m.Source}})
				}
				return s.out.table([]string{"metric", "value", "unit", "at", "source"}, rows)
			}
			return s.drive(ctx, d)
		})}
}

func (s *session) drive(ctx context.Context, d api.Drive) error {
	o := s.out
	m, st := mark(d.Verdict)
	o.line("┌──────────────────────────────────────────────┐")
	for _, l := range []string{d.Identity.Model + "   " + decimal(d.CapacityBytes), "serial " + d.Identity.Serial, "WWN " + d.Identity.Wwn, "tail   " + strings.Join(strings.Split(d.Tail, ""), " ")} {
		o.line("│ %-44s │", l)
	}
	o.line("└──────────────────────────────────────────────┘")
	o.line("%s  %s", o.paint(m+" "+string(d.Verdict), st), d.Tail+" "+d.Says+".")
	for _, f := range d.Findings {
		fm, fs := mark(f.Verdict)
		o.line("  %s %s, since %s (%s)", o.paint(fm, fs), f.Says, ago(d.SeenAt, f.Since), f.Since.Local().Format("2006-01-02 15:04"))
		for _, e := range f.Evidence {
			o.line("      %s  %s", e.Says, o.paint("("+e.Source+", "+e.At.Local().Format("2006-01-02 15:04")+")", dim))
		}
		o.line("      %s %s", o.paint("→", fs), f.Do)
	}
	place := d.Bay
	switch {
	case place == "":
		place = "unknown"
	case !d.Present:
		place += " when it was last seen"
	}
	o.line("")
	o.line("  bay       %s", place)
	if d.Pool != "" {
		o.line("  pool      %s, %s, slot %s, %s", d.Pool, cmpOr(d.Group, string(d.Role)), d.Slot, d.State)
		o.line("  margin    %s; without this drive: %s", d.Margin.Words, cmpOr(d.MarginAfter.Words, d.Margin.Words))
	} else {
		o.line("  pool      none%s", holds(d.Holds))
	}
	o.line("  size      %d bytes, %s", d.CapacityBytes, size(d.CapacityBytes))
	if d.PowerOnHours > 0 {
		o.line("  powered   for %s (%d h)", age(d.PowerOnHours), d.PowerOnHours)
	}
	o.line("  seen      %s", d.SeenAt.Local().Format("2006-01-02 15:04:05"))
	for i, t := range d.Tests {
		if i == 3 {
			break
		}
		o.line("  self-test %s: %s at %d h", t.Kind, t.Result, t.Hours)
	}
	for _, b := range d.Unreadable {
		o.line("  unreadable page %s: %s (%d bytes kept)", b.Kind, b.Why, len(b.Bytes))
	}
	if len(d.Findings) > 0 && d.Findings[0].Metric != "" {
		o.line("")
		if err := s.trend(ctx, d.Key, d.Findings[0].Metric, 14); err != nil {
			return err
		}
	}
	if len(d.Metrics) > 0 {
		o.line("")
		var rows [][]cell
		for _, v := range d.Metrics {
			grown := ""
			if v.Grown24h > 0 {
				grown = "+" + number(v.Grown24h)
			}
			rows = append(rows, []cell{{text: v.Name}, {text: number(v.Value), right: true}, {text: v.Unit}, {text: grown, right: true}, {text: v.Strength, style: dim}, {text: v.Means, style: dim}})
		}
		return o.table([]string{"METRIC", "VALUE", "UNIT", "IN 24 H", "SIGN", "MEANS"}, rows)
	}
	return nil
}

func holds(what []string) string {
	if len(what) == 0 {
		return ", and nothing was found on it"
	}
	return "; it holds: " + strings.Join(what, ", ")
}

func cmpOr(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

func number(v float64) string {
	if v != 0 && v < 1 {
		return strconv.FormatFloat(v, 'g', 3, 64)
	}
	return strconv.FormatFloat(v, 'f', -1, 64)
}

func trendCommand() *cli.Command {
	return &cli.Command{Name: "trend", Usage: "one metric of a drive over time", ArgsUsage: "<drive> <metric>", Description: "Example: lantern trend 7F412 pending_sectors --days 30",
		Flags: []cli.Flag{&cli.IntFlag{Name: "days", Value: 30, Usage: "how far back"}},
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			if cmd.Args().Len() != 2 {
				return usage("lantern trend needs a drive and a metric\nExample: %s", example(cmd))
			}
			return s.trend(ctx, cmd.Args().Get(0), cmd.Args().Get(1), cmd.Int("days"))
		})}
}

func (s *session) trend(ctx context.Context, drive, metric string, days int) error {
	res, err := s.client.GetTrendWithResponse(ctx, drive, &api.GetTrendParams{Metric: metric, Days: days})
	if err != nil {
		return unreachable(err)
	}
	t, err := got(res.JSON200, res, res.Body)
	if err != nil {
		return err
	}
	if done, err := s.out.value(t); done {
		return err
	}
	if s.out.format == "csv" {
		var rows [][]cell
		for _, p := range t.Points {
			rows = append(rows, []cell{{text: p.At.Format(time.RFC3339)}, {text: number(p.Value)}})
		}
		return s.out.table([]string{"at", t.Metric}, rows)
	}
	if len(t.Points) < 2 {
		s.out.line("%s of %s: too few readings within %d days to draw.", t.Metric, t.Tail, days)
		return nil
	}
	s.out.line("%s of %s, in %s (%s)", t.Metric, t.Tail, t.Unit, t.Source)
	s.out.line("%s", s.out.paint(t.Means+" "+t.MeansNot, dim))
	const columns = 68
	first, last := t.Points[0].At, t.Points[len(t.Points)-1].At
	line := make([]float64, columns)
	j := 0
	for i := range line {
		at := first.Add(last.Sub(first) * time.Duration(i) / (columns - 1))
		for j+1 < len(t.Points) && !t.Points[j+1].At.After(at) {
			j++
		}
		line[i] = t.Points[j].Value
	}
	s.out.line("%s", asciigraph.Plot(line, asciigraph.Height(8), asciigraph.Precision(precision(line))))
	s.out.line("%s", s.out.paint(fmt.Sprintf("         %-34s%34s", first.Local().Format("2006-01-02 15:04"), last.Local().Format("2006-01-02 15:04")), dim))
	return nil
}

func precision(v []float64) uint {
	for _, x := range v {
		if x != float64(int64(x)) {
			return 3
		}
	}
	return 0
}
