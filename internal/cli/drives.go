package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/nearest"
)

// driveColumn is a column of the list of drives, besides the metrics.
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

// usedBy lists what uses a drive, in one line.
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
			"A filter may be repeated: drives are listed that match one of its values.\n" +
			"Columns: " + strings.Join(
			names,
			", ",
		) + ", and any metric (lantern metrics).",
		Flags: append([]cli.Flag{
			&cli.StringSliceFlag{Name: "host", Usage: "only on this host; may be repeated"},
			&cli.StringSliceFlag{Name: "pool", Usage: "only in this pool; may be repeated"},
			&cli.StringSliceFlag{Name: "model", Usage: "only this model; may be repeated"},
			&cli.StringSliceFlag{Name: "verdict", Usage: "sound, unknown, watch, replace or dead; may be repeated"},
			&cli.StringFlag{
				Name:  "where",
				Usage: "comparisons of metrics and of the inventory, such as 'pending_sectors>0, warranty_days<90, batch=B-17'",
			},
			&cli.StringFlag{Name: "sort", Usage: "place, verdict or a metric; a leading - reverses the order"},
			&cli.StringFlag{Name: "find", Usage: "any part of serial, WWN, model, bay, pool or host"},
		}, tableFlags()...),
		Action: listing(listDrives),
	}
}

// verdicts are all verdicts, the worst last.
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
	err = list(s, all, "No drive fits. Without options, all are listed.", heads, func(d api.Drive) []cell {
		row := make([]cell, len(of))
		for i, f := range of {
			row[i] = f(d)
		}
		return row
	})
	if err != nil || s.out.format != "table" || len(p.Verdict) == 0 || slices.Contains(p.Verdict, api.Unknown) {
		return err
	}
	// An empty list of bad drives must not suggest that unknown drives are good.
	p.Verdict, p.Limit, p.Cursor, p.With = []api.Verdict{api.Unknown}, 1, "", ""
	page, err := ask[api.DrivePage](s.client.ListDrives(ctx, &p))
	if err == nil && page.Total > 0 {
		s.out.line("Unknown, and not listed here: %s. See: lantern drives --verdict unknown", plural(page.Total, "drive"))
	}
	return err
}

// formerColumns are former names of columns, by the present ones.
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
			return usage("no column %q%s The columns are: %s, and any metric (lantern metrics)", name,
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

// metricCell is the newest value of a metric; empty if the drive never reported it.
func metricCell(d api.Drive, m drive.Metric) cell {
	for _, v := range d.Metrics {
		if v.Name == string(m.Name) {
			return cell{text: number(v.Value), right: true, raw: v.Value}
		}
	}
	return cell{text: "not told", style: dim, right: true, raw: ""}
}

// drives gets all matching drives, page by page.
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
		Name:      "drive",
		Usage:     "show one drive: identity, verdict and evidence",
		ArgsUsage: "<serial or its end>",
		Description: "Example: lantern drive ZU006\n         lantern drive skerry/front/7 -o json\n" +
			"         lantern drive ZU006 --evidence ZU006.zip",
		Flags: append(
			[]cli.Flag{
				&cli.StringFlag{
					Name:  "evidence",
					Local: true,
					Usage: "write the evidence for a warranty return to a ZIP file: findings, readings, tests, purchase",
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
