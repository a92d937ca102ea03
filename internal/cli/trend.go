package cli

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/guptarohit/asciigraph"
	"github.com/urfave/cli/v3"

	"lantern/internal/api"
	"lantern/internal/core/drive"
)

func trendCommand() *cli.Command {
	return &cli.Command{
		Name:      "trend",
		Usage:     "show metrics of a drive over time, or one metric of several drives",
		ArgsUsage: "<drive> <metric> …",
		Description: "Example: lantern trend ZU006 pending_sectors --since 90d\n" +
			"         lantern trend CN261 read_latency_seconds temperature_celsius -o csv\n" +
			"         lantern trend CN261 XE932 read_latency_seconds\n\n" +
			"Up to four drives are drawn in one chart, each with its own sign.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "since", Value: "30d", Usage: "how far back: 12h, 90d, 6w or 2y"},
		},
		Action: listing(func(ctx context.Context, s *session, cmd *cli.Command) error {
			if cmd.Args().Len() < 2 {
				return usage("lantern trend needs a drive and a metric\nExample: %s", example(cmd))
			}
			ago, err := back("--since", cmd.String("since"))
			if err != nil {
				return err
			}
			drives, metrics := sortedOut(cmd.Args().Slice())
			switch {
			case len(drives) == 1:
				return plotter{s}.trends(ctx, drives[0], metrics, ago)
			case len(metrics) == 1 && len(drives) <= len(signs):
				return plotter{s}.together(ctx, drives, metrics[0], ago)
			}
			return usage(
				"several drives are compared by one metric, up to %d at once\n"+
					"Example: lantern trend CN261 XE932 read_latency_seconds",
				len(signs),
			)
		}),
	}
}

// sortedOut separates drives from metrics; the first argument is always a drive.
func sortedOut(words []string) (drives, metrics []string) {
	for i, w := range words {
		if _, known := drive.MetricByName(drive.MetricName(w)); known && i > 0 || i == len(words)-1 || len(metrics) > 0 {
			metrics = append(metrics, w)
		} else {
			drives = append(drives, w)
		}
	}
	return drives, metrics
}

// signs are the characters for the courses of several drives: they differ without colour.
var signs = []string{"─", "•", "+", "x"}

// plotter draws the courses of metrics.
type plotter struct{ *session }

// together draws one metric of several drives in one chart.
func (s plotter) together(ctx context.Context, drives []string, metric string, back time.Duration) error {
	var all []api.Trend
	var first, last time.Time
	for _, d := range drives {
		t, err := ask[api.Trend](
			s.client.GetTrend(ctx, d, &api.GetTrendParams{Metric: metric, Hours: int(back / time.Hour)}),
		)
		if err != nil {
			return err
		}
		all = append(all, t)
		if n := len(t.Points); n > 0 {
			if at := t.Points[0].At; first.IsZero() || at.Before(first) {
				first = at
			}
			if at := t.Points[n-1].At; at.After(last) {
				last = at
			}
		}
	}
	if done, err := s.out.value(all); done {
		return err
	}
	if s.out.format == "csv" {
		for i := range all {
			all[i].Metric = all[i].Tail
		}
		return s.trendTable(all)
	}
	o := s.out
	o.line("%s, in %s", o.paint(metric, bold), all[0].Unit)
	o.line("%s", o.paint(all[0].Means+" "+all[0].MeansNot, dim))
	var lines [][]float64
	var chars []asciigraph.CharSet
	flat := []float64{}
	for i, t := range all {
		said := "too few readings to draw"
		if n := len(t.Points); n >= 2 {
			lines = append(lines, sampled(t, first, last, o.columns()))
			flat = append(flat, lines[len(lines)-1]...)
			set := asciigraph.DefaultCharSet
			if i > 0 {
				set = asciigraph.CreateCharSet(signs[i])
			}
			chars = append(chars, set)
			said = "now " + number(t.Points[n-1].Value)
		}
		o.line("  %s  %s  %s", signs[i], o.paint(t.Tail, bold), said)
	}
	if len(lines) == 0 {
		return nil
	}
	options := []asciigraph.Option{
		asciigraph.Height(12),
		asciigraph.Precision(precision(flat)),
		asciigraph.SeriesChars(chars...),
	}
	for _, row := range strings.Split(asciigraph.PlotMany(lines, options...), "\n") {
		o.line("%s", row)
	}
	o.line("%s", o.paint(fmt.Sprintf("from %s to %s", first.Local().Format(minutes), last.Local().Format(minutes)), dim))
	return nil
}

// columns is the width of a chart's plot: the output's width without the labels, within bounds.
func (p *printer) columns() int { return min(max(p.room()-12, 30), 150) }

// trends prints charts of metrics one below the other, over the same period, and below them the drive's events.
func (s plotter) trends(ctx context.Context, name string, metrics []string, back time.Duration) error {
	var all []api.Trend
	for _, m := range metrics {
		t, err := ask[api.Trend](
			s.client.GetTrend(ctx, name, &api.GetTrendParams{Metric: m, Hours: int(back / time.Hour)}),
		)
		if err != nil {
			return err
		}
		all = append(all, t)
	}
	if done, err := s.out.value(all); done {
		return err
	}
	if s.out.format == "csv" {
		return s.trendTable(all)
	}
	var first, last time.Time
	for _, t := range all {
		if n := len(t.Points); n > 0 {
			if at := t.Points[0].At; first.IsZero() || at.Before(first) {
				first = at
			}
			if at := t.Points[n-1].At; at.After(last) {
				last = at
			}
		}
	}
	margin := 0
	for i, t := range all {
		if i > 0 {
			s.out.line("")
		}
		s.out.line("%s of %s, in %s (%s)", s.out.paint(t.Metric, bold), t.Tail, t.Unit, t.Source)
		s.out.line("%s", s.out.paint(t.Means+" "+t.MeansNot, dim))
		if len(t.Points) < 2 {
			s.out.line("Fewer than two readings in the last %s: nothing to draw.", span(back))
			continue
		}
		margin = s.chart(t, first, last)
	}
	if margin == 0 {
		return nil
	}
	return s.axis(ctx, name, first, last, margin)
}

func (s plotter) trendTable(all []api.Trend) error {
	values := map[time.Time][]string{}
	head := cols("at")
	for i, t := range all {
		head = append(head, col(t.Metric))
		for _, p := range t.Points {
			if values[p.At] == nil {
				values[p.At] = make([]string, len(all))
			}
			values[p.At][i] = number(p.Value)
		}
	}
	var times []time.Time
	for at := range values {
		times = append(times, at)
	}
	slices.SortFunc(times, time.Time.Compare)
	rows := make([][]cell, len(times))
	for i, at := range times {
		rows[i] = []cell{{text: at.Format(time.RFC3339)}}
		for _, v := range values[at] {
			rows[i] = append(rows[i], cell{text: v})
		}
	}
	return s.out.table(head, rows)
}

// sampled are the values of a metric at a number of moments in a period: each the newest at that moment.
func sampled(t api.Trend, first, last time.Time, columns int) []float64 {
	line := make([]float64, columns)
	j := 0
	for i := range line {
		at := first.Add(last.Sub(first) * time.Duration(i) / time.Duration(columns-1))
		for j+1 < len(t.Points) && !t.Points[j+1].At.After(at) {
			j++
		}
		line[i] = t.Points[j].Value
		if t.Points[j].At.After(at) {
			line[i] = math.NaN() // the drive was not known yet
		}
	}
	return line
}

// chart draws one metric over a period and returns the number of columns before its plot.
func (s plotter) chart(t api.Trend, first, last time.Time) (margin int) {
	line := sampled(t, first, last, s.out.columns())
	plot := asciigraph.Plot(line, asciigraph.Height(7), asciigraph.Precision(precision(line)))
	row, _, _ := strings.Cut(plot, "\n")
	for i, r := range []rune(row) {
		if r == '┤' || r == '┼' {
			margin = i + 1
			break
		}
	}
	before := ""
	for _, row := range strings.Split(plot, "\n") {
		// A label equal to the one above is left out: the values are closer than its precision.
		r := []rune(row)
		if at := min(margin, len(r)); at > 0 {
			label := strings.TrimRight(string(r[:at-1]), " ")
			if label == before && label != "" {
				row = strings.Repeat(" ", at-1) + string(r[at-1:])
			}
			before = label
		}
		s.out.line("%s", row)
	}
	return margin
}

// marks are the letters of events, below a chart.
var marks = map[api.HappeningKind]rune{
	api.HappeningKindTest:    't',
	api.HappeningKindPlace:   'e',
	api.HappeningKindReset:   'r',
	api.HappeningKindSwap:    's',
	api.HappeningKindFinding: 'f',
	api.HappeningKindNote:    'n',
}

// axis writes the drive's events below the charts, and the times at their ends.
func (s plotter) axis(ctx context.Context, name string, first, last time.Time, margin int) error {
	d, err := ask[api.Drive](s.client.GetDrive(ctx, name))
	if err != nil {
		return err
	}
	columns := s.out.columns()
	row := []rune(strings.Repeat(" ", columns))
	any := false
	for _, h := range d.Happened {
		if last.After(first) && !h.At.Before(first) && !h.At.After(last) {
			row[int(h.At.Sub(first)*time.Duration(columns-1)/last.Sub(first))] = marks[h.Kind]
			any = true
		}
	}
	pad := strings.Repeat(" ", margin)
	if any {
		s.out.line("%s%s", pad, s.out.paint(string(row), quiet))
	}
	s.out.line(
		"%s%s",
		pad,
		s.out.paint(
			fmt.Sprintf(
				"%-*s%*s",
				columns/2,
				first.Local().Format("2006-01-02 15:04"),
				columns/2,
				last.Local().Format("2006-01-02 15:04"),
			),
			dim,
		),
	)
	if any {
		s.out.line(
			"%s%s",
			pad,
			s.out.paint("t self-test  e event  r counter reset  s swap  f finding  n note", dim),
		)
	}
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
