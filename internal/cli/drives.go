package cli

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
	"lantern/internal/core/drive"
)

// columnsOf are what can be told of a drive in a list, beside any metric.
var columnsOf = map[string]func(api.Drive) cell{
	"verdict": func(d api.Drive) cell { return verdictCell(d.Verdict) },
	"tail":    func(d api.Drive) cell { return cell{text: d.Tail, style: bold} },
	"serial":  func(d api.Drive) cell { return cell{text: d.Identity.Serial, style: bold} },
	"wwn":     func(d api.Drive) cell { return cell{text: d.Identity.Wwn} },
	"bay":     func(d api.Drive) cell { return cell{text: placeOf(d)} },
	"host":    func(d api.Drive) cell { return cell{text: d.Host} },
	"pool":    func(d api.Drive) cell { return cell{text: strings.TrimSpace(d.Pool + " " + d.Slot)} },
	"state":   func(d api.Drive) cell { return cell{text: d.State} },
	"model":   func(d api.Drive) cell { return cell{text: d.Identity.Model} },
	"medium":  func(d api.Drive) cell { return cell{text: d.Medium} },
	"size":    func(d api.Drive) cell { return cell{text: decimal(d.CapacityBytes), right: true} },
	"bytes":   func(d api.Drive) cell { return cell{text: strconv.FormatInt(d.CapacityBytes, 10), right: true} },
	"age":     func(d api.Drive) cell { return cell{text: age(d.PowerOnHours), right: true} },
	"seen":    func(d api.Drive) cell { return cell{text: d.SeenAt.Local().Format("2006-01-02 15:04")} },
	"path":    func(d api.Drive) cell { return cell{text: d.Path} },
	"used":    func(d api.Drive) cell { return cell{text: usedBy(d)} },
	"says":    func(d api.Drive) cell { return cell{text: d.Says} },
}

// usedBy is what depends on a drive, in one line.
func usedBy(d api.Drive) string {
	var out []string
	for _, u := range d.Uses {
		out = append(out, useLine(u))
	}
	switch {
	case len(out) > 0:
		return strings.Join(out, "; ")
	case d.Pool != "":
		return d.Pool
	case d.Looked && len(d.Holds) == 0:
		return "nothing: both ends are blank"
	}
	return "unknown: not read"
}

func errorCount(n int64) string {
	if n == 1 {
		return "1 error"
	}
	return fmt.Sprintf("%d errors", n)
}

func useLine(u api.Use) string {
	says := cmp.Or(u.Says, u.Kind)
	switch {
	case u.PoolName != "":
		return says + ", pool " + u.PoolName
	case u.Active:
		return says + ", in use"
	}
	return says
}

var heads = map[string]string{"used": "USED BY", "pool": "POOL AND SLOT", "age": "POWERED FOR"}

const usualColumns = "verdict,tail,bay,pool,model,size,age,says"

func placeOf(d api.Drive) string {
	switch {
	case d.Bay == "":
		return d.Host + " (no bay)"
	case !d.Present:
		return "was in " + d.Bay
	}
	return d.Bay
}

func drivesCommand() *cli.Command {
	return &cli.Command{
		Name:  "drives",
		Usage: "list drives",
		Description: "Example: lantern drives --pool soundscape --verdict replace\n         lantern drives " +
			"--where 'pending_sectors>0' --sort -pending_sectors\n         lantern drives --columns " +
			"tail,bay,age,temperature_celsius --sort -temperature_celsius\n\nColumns: " + strings.Join(
			slices.Sorted(maps.Keys(columnsOf)),
			", ",
		) + ", and any metric (lantern metrics).",
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:  "host",
				Usage: "only on this host",
			},
			&cli.StringFlag{Name: "pool", Usage: "only in this pool"},
			&cli.StringFlag{Name: "verdict", Usage: "sound, unknown, watch, replace or dead"},
			&cli.StringFlag{
				Name:  "where",
				Usage: "comparisons of metrics, such as 'pending_sectors>0, temperature_celsius>=45'",
			},
			&cli.StringFlag{Name: "sort", Usage: "place, verdict or a metric; a leading - turns the order"},
			&cli.StringFlag{Name: "columns", Value: usualColumns, Usage: "what to tell of each, in this order"},
			&cli.StringFlag{Name: "find", Usage: "any part of serial, WWN, model, bay, pool or host"},
		},
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			p := api.ListDrivesParams{
				Host:    cmd.String("host"),
				Pool:    cmd.String("pool"),
				Verdict: api.Verdict(cmd.String("verdict")),
				Q:       cmd.String("find"),
				Where:   cmd.String("where"),
				Sort:    cmd.String("sort"),
			}
			if v := p.Verdict; v != "" && v != api.Sound && v != api.Unknown && v != api.Watch && v != api.Replace &&
				v != api.Dead {
				return usage("--verdict is sound, unknown, watch, replace or dead, not %q", v)
			}
			var head, metrics []string
			var tell []func(api.Drive) cell
			for _, name := range strings.FieldsFunc(cmd.String("columns"), func(r rune) bool { return r == ',' || r == ' ' }) {
				one := columnsOf[name]
				if m, ok := drive.MetricByName(drive.MetricName(name)); ok {
					metrics = append(metrics, name)
					one = func(d api.Drive) cell { return metricCell(d, m) }
				} else if one == nil {
					return usage(
						"there is no column %q; those there are: %s, and any metric, such as %s",
						name,
						strings.Join(slices.Sorted(maps.Keys(columnsOf)), ", "),
						drive.Nearest(name),
					)
				}
				tell = append(tell, one)
				head = append(head, cmp.Or(heads[name], strings.ToUpper(strings.ReplaceAll(name, "_", " "))))
			}
			if len(tell) == 0 {
				return usage("--columns names none")
			}
			p.With = strings.Join(metrics, ",")
			all, err := s.drives(ctx, p)
			if err != nil {
				return err
			}
			return list(s, all, "No drive fits. Without options, all are listed.", head, func(d api.Drive) []cell {
				row := make([]cell, len(tell))
				for i, f := range tell {
					row[i] = f(d)
				}
				return row
			})
		}),
	}
}

// metricCell is the newest value of a metric; a drive that never told it has none.
func metricCell(d api.Drive, m drive.Metric) cell {
	for _, v := range d.Metrics {
		if v.Name == string(m.Name) {
			return cell{text: number(v.Value), right: true}
		}
	}
	return cell{text: "not told", style: dim, right: true}
}

// drives gets all drives that fit, page by page.
func (s *session) drives(ctx context.Context, p api.ListDrivesParams) ([]api.Drive, error) {
	all := []api.Drive{}
	for p.Limit = 500; ; {
		page, err := ask[api.DrivePage](s.client.ListDrives(ctx, &p))
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
	return &cli.Command{
		Name:        "drive",
		Usage:       "one drive: who it is, how it is and why",
		ArgsUsage:   "<serial or its end>",
		Description: "Example: lantern drive 7F412",
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			name, err := one(cmd, "a serial, or its end")
			if err != nil {
				return err
			}
			d, err := ask[api.Drive](s.client.GetDrive(ctx, name))
			if err != nil {
				return err
			}
			if done, err := s.out.value(d); done {
				return err
			}
			if s.out.format == "csv" {
				var rows [][]cell
				for _, m := range d.Metrics {
					rows = append(
						rows,
						[]cell{
							{text: m.Name},
							{text: number(m.Value)},
							{text: m.Unit},
							{text: m.At.Format(time.RFC3339)},
							{text: m.Source},
						},
					)
				}
				return s.out.table([]string{"metric", "value", "unit", "at", "source"}, rows)
			}
			return s.drive(ctx, d)
		}),
	}
}

func (s *session) drive(ctx context.Context, d api.Drive) error {
	o := s.out
	m, st := mark(d.Verdict)
	o.line("┌──────────────────────────────────────────────┐")
	for _, l := range []string{d.Identity.Model + "   " + decimal(d.CapacityBytes), "serial " + d.Identity.Serial,
		"WWN " + d.Identity.Wwn, "tail   " + strings.Join(strings.Split(d.Tail, ""), " ")} {
		o.line("│ %-44s │", l)
	}
	o.line("└──────────────────────────────────────────────┘")
	o.line("%s  %s", o.paint(m+" "+string(d.Verdict), st), d.Tail+" "+d.Says+".")
	for _, f := range d.Findings {
		fm, fs := mark(f.Verdict)
		o.line(
			"  %s %s, for %s (since %s)",
			o.paint(fm, fs),
			f.Says,
			span(d.SeenAt.Sub(f.Since)),
			f.Since.Local().Format("2006-01-02 15:04"),
		)
		for _, e := range f.Evidence {
			o.line(
				"      %s  %s",
				e.Says,
				o.paint("("+e.Source+", "+e.At.Local().Format("2006-01-02 15:04")+")", dim),
			)
		}
		o.line("      %s %s", o.paint("→", fs), f.Do)
	}
	place := cmp.Or(d.Bay, "unknown")
	if d.Bay != "" && !d.Present {
		place += " when it was last seen"
	}
	o.line("")
	o.line("  bay       %s", place)
	if d.Pool != "" {
		for i, p := range d.Places {
			at := ""
			if p.Partition > 0 {
				at = fmt.Sprintf(" on partition %d", p.Partition)
			}
			o.line(
				"  %-9s %s, %s, slot %s%s, %s",
				map[bool]string{true: "pool", false: "also in"}[i == 0],
				p.Pool,
				cmp.Or(p.Group, string(p.Role)),
				p.Slot,
				at,
				p.State,
			)
		}
		o.line("  margin    %s; without this drive: %s", d.Margin.Words, cmp.Or(d.MarginAfter.Words, d.Margin.Words))
	} else {
		o.line("  pool      none known%s", holds(d.Holds))
	}
	for i, u := range d.Uses {
		o.line("  %-9s %s", map[bool]string{true: "used by", false: ""}[i == 0], useLine(u))
	}
	if len(d.Uses) == 0 && d.Pool == "" {
		o.line("  used by   %s", usedBy(d))
	}
	for i, c := range d.Claims {
		says := "no difference seen"
		if c.Differs != "" {
			says = "DIFFERS in " + c.Differs
		}
		o.line("  %-9s %s %s: %s", map[bool]string{true: "also by", false: ""}[i == 0], c.Host, cmp.Or(c.Bay, c.Path), says)
	}
	for i, p := range d.Paths {
		o.line(
			"  %-9s %s %s: %s, %s",
			map[bool]string{true: "paths", false: ""}[i == 0],
			p.Path,
			p.Port,
			p.State,
			errorCount(p.Errors),
		)
	}
	o.line("  size      %d bytes, %s", d.CapacityBytes, size(d.CapacityBytes))
	if d.PowerOnHours > 0 {
		o.line("  powered   for %s (%d h)", age(d.PowerOnHours), d.PowerOnHours)
	}
	if len(d.Names) > 0 {
		o.line("  names     %s", strings.Join(d.Names, ", "))
	}
	if d.Blind != "" {
		o.line("  blind     %s", d.Blind)
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
		if err := s.trends(ctx, d.Key, []string{d.Findings[0].Metric}, 14*24*time.Hour); err != nil {
			return err
		}
	}
	if len(d.Metrics) > 0 {
		o.line("")
		var rows [][]cell
		for _, v := range d.Metrics {
			row := []cell{{text: v.Name}, {text: amount(v, v.Value), right: true}, {text: v.Unit}}
			for i := range 4 {
				row = append(row, cell{text: grown(v, i), right: true})
			}
			total := ""
			if v.Resets > 0 {
				total = amount(v, v.Total)
			}
			rows = append(
				rows,
				append(
					row,
					cell{text: total, right: true},
					cell{text: v.Strength, style: dim},
					cell{text: v.Means, style: dim},
				),
			)
		}
		if err := o.table(
			[]string{"METRIC", "VALUE", "UNIT", "1 H", "24 H", "7 D", "90 D", "LIFE", "SIGN", "MEANS"},
			rows,
		); err != nil {
			return err
		}
		o.line(
			"%s",
			o.paint(
				"1 h to 90 d: how much a counter grew; ~ when it is known for a shorter time. Life: the total "+
					"over all resets, where there were any.",
				dim,
			),
		)
	}
	return nil
}

// amount writes a value of a metric; bytes in the unit that people read.
func amount(v api.MetricValue, x float64) string {
	if v.Unit == "B" {
		return decimal(int64(x))
	}
	return number(x)
}

// grown is how much a counter grew over one of its spans.
func grown(v api.MetricValue, i int) string {
	if i >= len(v.Growth) {
		return ""
	}
	g := v.Growth[i]
	text := "0"
	if g.Grown > 0 {
		text = "+" + amount(v, g.Grown)
	}
	if !g.Whole {
		text = "~" + text
	}
	return text
}

func holds(what []string) string {
	if len(what) == 0 {
		return ", and nothing was found on it"
	}
	return "; it holds: " + strings.Join(what, ", ")
}

func number(v float64) string {
	if v != 0 && v < 1 {
		return strconv.FormatFloat(v, 'g', 3, 64)
	}
	return strconv.FormatFloat(v, 'f', -1, 64)
}
