package cli

import (
	"cmp"
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"lantern/internal/api"
)

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

// findings are the findings of a drive, with the evidence and the action.
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

// placesOf are the bay of a drive, its places in pools, its other uses, and the other hosts that report it.
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

// facts are the other known properties of a drive.
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

// metrics are all metrics of a drive, with their growth.
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

// grown is the growth of a counter over one period.
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

// selfTests prints the newest entries of a drive's self-test log.
func (p *printer) selfTests(tests []api.SelfTest) {
	for _, t := range tests[:min(3, len(tests))] {
		at := ""
		if !t.At.IsZero() {
			at = ", " + map[bool]string{true: "about "}[t.About] + t.At.Local().Format(minutes)
		}
		p.line("  self-test %s: %s at %d h%s", t.Kind, t.Result, t.Hours, at)
	}
}
