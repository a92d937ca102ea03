package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/nearest"
)

// driveColumn is something that can be told of a drive in a list, beside any metric.
type driveColumn struct {
	column
	usual bool
	of    func(api.Drive) cell
}

var driveColumns = []driveColumn{
	{col("verdict"), true, func(d api.Drive) cell { return verdictCell(d.Verdict) }},
	{col("tail"), true, func(d api.Drive) cell { return cell{text: d.Tail, style: bold} }},
	{col("bay").fold(14), true, func(d api.Drive) cell { return cell{text: placeOf(d), raw: d.Bay} }},
	{col("pool"), true, func(d api.Drive) cell { return cell{text: d.Pool} }},
	{col("slot").spare(4), true, func(d api.Drive) cell { return cell{text: d.Slot} }},
	{col("model").spare(1), true, func(d api.Drive) cell { return cell{text: d.Identity.Model} }},
	{col("size_bytes").as("SIZE").spare(3), true, func(d api.Drive) cell { return bytesCell(d.CapacityBytes) }},
	{col("powered_hours").as("POWERED FOR").spare(2), true, func(d api.Drive) cell {
		return cell{text: age(d.PowerOnHours), right: true, raw: d.PowerOnHours}
	}},
	{col("says").fold(24), true, func(d api.Drive) cell { return cell{text: d.Says} }},
	{col("serial"), false, func(d api.Drive) cell { return cell{text: d.Identity.Serial, style: bold} }},
	{col("wwn"), false, func(d api.Drive) cell { return cell{text: d.Identity.Wwn} }},
	{col("host"), false, func(d api.Drive) cell { return cell{text: d.Host} }},
	{col("state"), false, func(d api.Drive) cell { return cell{text: d.State} }},
	{col("medium"), false, func(d api.Drive) cell { return cell{text: d.Medium} }},
	{col("firmware"), false, func(d api.Drive) cell { return cell{text: d.Firmware} }},
	{col("seen"), false, func(d api.Drive) cell { return timeCell(d.SeenAt, minutes) }},
	{col("present"), false, func(d api.Drive) cell { return cell{text: yesNo(d.Present), raw: d.Present} }},
	{col("path"), false, func(d api.Drive) cell { return cell{text: d.Path} }},
	{col("used_by").as("USED BY").fold(20), false, func(d api.Drive) cell { return cell{text: usedBy(d)} }},
	{col("warranty_days").as("WARRANTY"), false, func(d api.Drive) cell { return warrantyCell(d.Inventory) }},
	{col("batch"), false, func(d api.Drive) cell { return cell{text: d.Inventory.Fields["batch"]} }},
	{col("supplier"), false, func(d api.Drive) cell { return cell{text: d.Inventory.Fields["supplier"]} }},
	{col("purchased"), false, func(d api.Drive) cell { return cell{text: d.Inventory.Fields["purchased"]} }},
	{col("asset"), false, func(d api.Drive) cell { return cell{text: d.Inventory.Fields["asset"]} }},
	{col("id"), false, func(d api.Drive) cell { return cell{text: d.Key} }},
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
	var names []string
	for _, c := range driveColumns {
		names = append(names, c.name)
	}
	return &cli.Command{
		Name:  "drives",
		Usage: "list drives",
		Description: "Example: lantern drives --pool soundscape --verdict replace --verdict dead\n         lantern drives " +
			"--where 'pending_sectors>0' --sort -pending_sectors\n         lantern drives --columns " +
			"tail,bay,powered_hours,temperature_celsius --sort -temperature_celsius\n\n" +
			"A filter may be repeated: a drive is listed when one of its values fits.\n" +
			"Columns: " + strings.Join(names, ", ") + ", and any metric (lantern metrics).",
		Flags: append([]cli.Flag{
			&cli.StringSliceFlag{Name: "host", Usage: "only on this host; may be repeated"},
			&cli.StringSliceFlag{Name: "pool", Usage: "only in this pool; may be repeated"},
			&cli.StringSliceFlag{Name: "model", Usage: "only of this model; may be repeated"},
			&cli.StringSliceFlag{Name: "verdict", Usage: "sound, unknown, watch, replace or dead; may be repeated"},
			&cli.StringFlag{
				Name:  "where",
				Usage: "comparisons of metrics and of the inventory, such as 'pending_sectors>0, warranty_days<90, batch=B-17'",
			},
			&cli.StringFlag{Name: "sort", Usage: "place, verdict or a metric; a leading - turns the order"},
			&cli.StringFlag{Name: "find", Usage: "any part of serial, WWN, model, bay, pool or host"},
		}, tableFlags()...),
		Action: listing(listDrives),
	}
}

// verdicts are all verdicts, the gravest last.
var verdicts = []string{
	string(api.Sound),
	string(api.Unknown),
	string(api.Watch),
	string(api.Replace),
	string(api.Dead),
}

func listDrives(ctx context.Context, s *session, cmd *cli.Command) error {
	p := api.ListDrivesParams{
		Host:  commas(cmd.StringSlice("host")),
		Pool:  commas(cmd.StringSlice("pool")),
		Model: cmd.StringSlice("model"),
		Q:     cmd.String("find"),
		Where: cmd.String("where"),
		Sort:  cmd.String("sort"),
	}
	for _, v := range commas(cmd.StringSlice("verdict")) {
		if !slices.Contains(verdicts, v) {
			return usage("--verdict is sound, unknown, watch, replace or dead, not %q", v)
		}
		p.Verdict = append(p.Verdict, api.Verdict(v))
	}
	for i, name := range s.out.choice.columns {
		s.out.choice.columns[i] = cmp.Or(formerColumns[name], name)
	}
	heads, of, metrics := columnsOfDrives(s.out.choice.columns)
	p.With = strings.Join(metrics, ",")
	if err := driveColumnsThere(s.out.choice.columns, heads); err != nil {
		return err
	}
	all, err := s.drives(ctx, p)
	if err != nil {
		return err
	}
	return list(s, all, "No drive fits. Without options, all are listed.", heads, func(d api.Drive) []cell {
		row := make([]cell, len(of))
		for i, f := range of {
			row[i] = f(d)
		}
		return row
	})
}

// formerColumns are names that columns had before, by what they are called now.
var formerColumns = map[string]string{
	"age":   "powered_hours",
	"size":  "size_bytes",
	"bytes": "size_bytes",
	"used":  "used_by",
}

// driveColumnsThere refuses a column that is neither of drives nor a metric.
func driveColumnsThere(asked []string, heads []column) error {
	var names []string
	for _, h := range heads {
		names = append(names, h.name)
	}
	for _, name := range asked {
		if name != "all" && !slices.Contains(names, name) {
			return usage("there is no column %q%s The columns are: %s, and any metric (lantern metrics)", name,
				nearest.Meant(name, append(drive.Names(), names...)), strings.Join(names, ", "))
		}
	}
	return nil
}

// columnsOfDrives are all columns of drives, and those metrics that are asked for by name.
func columnsOfDrives(asked []string) (heads []column, of []func(api.Drive) cell, metrics []string) {
	for _, c := range driveColumns {
		c.hidden = !c.usual
		heads, of = append(heads, c.column), append(of, c.of)
	}
	for _, name := range asked {
		if m, ok := drive.MetricByName(drive.MetricName(name)); ok {
			metrics = append(metrics, name)
			heads = append(heads, col(name))
			of = append(of, func(d api.Drive) cell { return metricCell(d, m) })
		}
	}
	return heads, of, metrics
}

// metricCell is the newest value of a metric; a drive that never told it has none.
func metricCell(d api.Drive, m drive.Metric) cell {
	for _, v := range d.Metrics {
		if v.Name == string(m.Name) {
			return cell{text: number(v.Value), right: true, raw: v.Value}
		}
	}
	return cell{text: "not told", style: dim, right: true, raw: ""}
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
		Description: "Example: lantern drive ZU006\n         lantern drive skerry/front/7 -o json\n         lantern drive ZU006 --evidence ZU006.zip",
		Flags: append(
			[]cli.Flag{
				&cli.StringFlag{
					Name:  "evidence",
					Local: true,
					Usage: "write what its return is argued with into a ZIP file: findings, readings, tests, purchase",
				},
			},
			tableFlags()...),
		Action: listing(func(ctx context.Context, s *session, cmd *cli.Command) error {
			name, err := one(cmd, "a serial, or its end")
			if err != nil {
				return err
			}
			if file := cmd.String("evidence"); file != "" {
				zip, err := answered(s.client.EvidenceOfDrive(ctx, name))
				return s.evidence(file, zip, err)
			}
			d, err := ask[api.Drive](s.client.GetDrive(ctx, name))
			if err != nil {
				return err
			}
			if len(s.out.choice.columns) == 0 {
				if done, err := s.out.value(d); done {
					return err
				}
			}
			if s.out.format == "csv" || len(s.out.choice.columns) > 0 {
				var rows [][]cell
				for _, m := range d.Metrics {
					rows = append(
						rows,
						[]cell{
							{text: m.Name},
							{text: number(m.Value), right: true, raw: m.Value},
							{text: m.Unit},
							timeCell(m.At, minutes),
							{text: m.Source},
						},
					)
				}
				return s.out.table([]column{col("metric"), col("value"), col("unit"), col("at"), col("source").fold(16)}, rows)
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
	for _, i := range d.Before {
		o.line("known before as serial %s", i.Serial)
	}
	o.line("%s  %s", o.paint(m+" "+string(d.Verdict), st), d.Tail+" "+d.Says+".")
	o.findings(d)
	o.line("")
	o.placesOf(d)
	o.facts(d)
	o.selfTests(d.Tests)
	for _, b := range d.Unreadable {
		o.line("  unreadable page %s: %s (%d bytes kept)", b.Kind, b.Why, len(b.Bytes))
	}
	if len(d.Findings) > 0 && d.Findings[0].Metric != "" {
		o.line("")
		if err := (plotter{s}).trends(ctx, d.Key, []string{d.Findings[0].Metric}, 14*24*time.Hour); err != nil {
			return err
		}
	}
	return o.metrics(d)
}

// findings are what was found on a drive, with the evidence and what to do.
func (p *printer) findings(d api.Drive) {
	for _, f := range d.Findings {
		fm, fs := mark(f.Verdict)
		p.line(
			"  %s %s, for %s (since %s)",
			p.paint(fm, fs),
			f.Says,
			span(d.SeenAt.Sub(f.Since)),
			f.Since.Local().Format("2006-01-02 15:04"),
		)
		for _, e := range f.Evidence {
			p.line(
				"      %s  %s",
				e.Says,
				p.paint("("+e.Source+", "+e.At.Local().Format("2006-01-02 15:04")+")", dim),
			)
		}
		p.line("      %s %s", p.paint("→", fs), f.Do)
	}
}

// placesOf are the bay of a drive, its places in pools, what else uses it, and who else reports it.
func (p *printer) placesOf(d api.Drive) {
	place := cmp.Or(d.Bay, "unknown")
	if d.Bay != "" && !d.Present {
		place += " when it was last seen"
	}
	p.line("  bay       %s", place)
	if d.Pool != "" {
		for i, x := range d.Places {
			at := ""
			if x.Partition > 0 {
				at = fmt.Sprintf(" on partition %d", x.Partition)
			}
			p.line(
				"  %-9s %s, %s, slot %s%s, %s",
				map[bool]string{true: "pool", false: "also in"}[i == 0],
				x.Pool,
				cmp.Or(x.Group, string(x.Role)),
				x.Slot,
				at,
				x.State,
			)
		}
		p.line("  margin    %s; without this drive: %s", d.Margin.Words, cmp.Or(d.MarginAfter.Words, d.Margin.Words))
	} else {
		p.line("  pool      none known%s", holds(d.Holds))
	}
	for i, u := range d.Uses {
		p.line("  %-9s %s", map[bool]string{true: "used by", false: ""}[i == 0], useLine(u))
	}
	if len(d.Uses) == 0 && d.Pool == "" {
		p.line("  used by   %s", usedBy(d))
	}
	for i, c := range d.Claims {
		says := "no difference seen"
		if c.Differs != "" {
			says = "DIFFERS in " + c.Differs
		}
		p.line("  %-9s %s %s: %s", map[bool]string{true: "also by", false: ""}[i == 0], c.Host, cmp.Or(c.Bay, c.Path), says)
	}
	for i, x := range d.Paths {
		p.line(
			"  %-9s %s %s: %s, %s",
			map[bool]string{true: "paths", false: ""}[i == 0],
			x.Path,
			x.Port,
			x.State,
			errorCount(x.Errors),
		)
	}
}

// facts are what else is known of a drive.
func (p *printer) facts(d api.Drive) {
	p.line("  size      %d bytes, %s", d.CapacityBytes, size(d.CapacityBytes))
	if d.PowerOnHours > 0 {
		p.line("  powered   for %s (%d h)", age(d.PowerOnHours), d.PowerOnHours)
	}
	if len(d.Names) > 0 {
		p.line("  names     %s", strings.Join(d.Names, ", "))
	}
	if d.Blind != "" {
		p.line("  blind     %s", d.Blind)
	}
	p.line("  seen      %s", d.SeenAt.Local().Format("2006-01-02 15:04:05"))
}

// metrics are all counts of a drive, and how they grew.
func (p *printer) metrics(d api.Drive) error {
	if len(d.Metrics) > 0 {
		p.line("")
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
		if err := p.table(
			[]column{col("metric"), col("value"), col("unit"), col("1h").as("1 H").spare(3), col("24h").as("24 H").spare(4),
				col("7d").as("7 D").spare(6), col("90d").as("90 D").spare(7), col("life").spare(5), col("sign").spare(2),
				col("means").fold(24).spare(1)},
			rows,
		); err != nil {
			return err
		}
		p.line(
			"%s",
			p.paint(
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

// selfTests prints the newest self-tests of a drive's own log.
func (p *printer) selfTests(tests []api.SelfTest) {
	for _, t := range tests[:min(3, len(tests))] {
		at := ""
		if !t.At.IsZero() {
			at = ", " + map[bool]string{true: "about "}[t.About] + t.At.Local().Format(minutes)
		}
		p.line("  self-test %s: %s at %d h%s", t.Kind, t.Result, t.Hours, at)
	}
}
