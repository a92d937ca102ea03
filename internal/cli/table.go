package cli

import (
	"context"
	"encoding/csv"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"charm.land/lipgloss/v2/table"
	"github.com/charmbracelet/x/ansi"
	"github.com/urfave/cli/v3"

	"lantern/internal/api"
	"lantern/internal/harmless"
	"lantern/internal/nearest"
)

// column is one column of a table. Its name is used by --columns and as the header in CSV, and ends with the unit of
// its raw values.
type column struct {
	name   string
	head   string // the header for people; empty for the name in capitals
	left   int    // when it is left out if the width is short: 1 first; 0 never
	folds  int    // least width when it is folded; 0: it is not folded
	hidden bool   // shown only if asked for, and in CSV
}

// col is a column that is always shown, without folding.
func col(name string) column { return column{name: name} }

// as sets another header for people.
func (c column) as(head string) column { c.head = head; return c }

// fold allows folding of its texts, down to a width.
func (c column) fold(least int) column { c.folds = least; return c }

// spare makes it a column that is left out if the width is short, those with low numbers first.
func (c column) spare(order int) column { c.left = order; return c }

// more makes it a column that is shown only if asked for.
func (c column) more() column { c.hidden = true; return c }

func (c column) title() string {
	if c.head != "" {
		return c.head
	}
	return strings.ToUpper(strings.ReplaceAll(c.name, "_", " "))
}

// cols are columns that are always shown.
func cols(names ...string) []column {
	out := make([]column, len(names))
	for i, n := range names {
		out[i] = col(n)
	}
	return out
}

// cell is one value: a text with a style for terminals, and the raw value for programs of type string, bool, int,
// int64, float64 or time.Time; the text if it is nil.
type cell struct {
	text  string
	style style
	right bool
	raw   any
}

// Cells whose raw values carry units: bytes, seconds, and moments as RFC 3339.

func bytesCell(n int64) cell { return cell{text: decimal(n), right: true, raw: n} }

func rateCell(perSecond float64) cell {
	return cell{text: decimal(int64(perSecond)) + "/s", right: true, raw: int64(perSecond)}
}

func spanCell(d time.Duration) cell {
	return cell{text: span(d), right: true, raw: int64(d / time.Second)}
}

func countCell[N int | int64](n N) cell {
	return cell{text: strconv.FormatInt(int64(n), 10), right: true, raw: int64(n)}
}

func percentCell(share float64) cell {
	return cell{text: fmt.Sprintf("%.1f %%", 100*share), right: true, raw: percent(share)}
}

// percent is a share of 0 to 1 in percent, to three places.
func percent(share float64) float64 { return math.Round(100_000*share) / 1000 }

// timeCell is a moment in a layout, in the reader's time zone; empty if it is not known.
func timeCell(t time.Time, layout string) cell {
	if t.IsZero() {
		return cell{raw: ""}
	}
	return cell{text: t.Local().Format(layout), raw: t}
}

// plainRaw is a cell's value as a text for programs.
func (c cell) plainRaw() string {
	switch v := c.raw.(type) {
	case nil:
		return c.text
	case string:
		return v
	case time.Time:
		return v.UTC().Format(time.RFC3339)
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	}
	return fmt.Sprint(c.raw)
}

// jsonRaw is a cell's value for JSON.
func (c cell) jsonRaw() any {
	switch v := c.raw.(type) {
	case nil:
		return c.text
	case time.Time:
		return v.UTC().Format(time.RFC3339)
	}
	return c.raw
}

// choice has the options of a table.
type choice struct {
	columns []string // column names, in this order; empty for the usual columns
	wide    bool     // all columns, without a limit of the width
	bare    bool     // without the header
}

// tableFlags are the options of every command that prints a table.
func tableFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:  "columns",
			Local: true,
			Usage: "only these columns, in this order, with the names used in CSV; \"all\" for all",
		},
		&cli.BoolFlag{Name: "wide", Local: true, Usage: "show all columns unfolded, however wide"},
		&cli.BoolFlag{Name: "no-header", Local: true, Usage: "print no header line"},
		&cli.StringFlag{Name: "watch", Local: true, Usage: "print again at this interval, such as 5s, until interrupted"},
	}
}

// listing makes an action for a command that prints a table: it reads the options, and repeats the command with
// --watch.
func listing(f func(ctx context.Context, s *session, cmd *cli.Command) error) cli.ActionFunc {
	return client(true, func(ctx context.Context, s *session, cmd *cli.Command) error {
		s.out.choose(cmd)
		if cmd.String("watch") == "" {
			return f(ctx, s, cmd)
		}
		every, err := duration("--watch", cmd.String("watch"), time.Second, 24*time.Hour)
		if err != nil {
			return err
		}
		return s.repeat(ctx, every, func() error { return f(ctx, s, cmd) })
	})
}

// choose reads a table's options.
func (p *printer) choose(cmd *cli.Command) {
	p.choice = choice{
		columns: strings.FieldsFunc(cmd.String("columns"), func(r rune) bool { return r == ',' || r == ' ' }),
		wide:    cmd.Bool("wide"),
		bare:    cmd.Bool("no-header"),
	}
}

// repeat does something again and again; on a terminal it writes over its earlier output if possible.
func (s *session) repeat(ctx context.Context, every time.Duration, f func() error) error {
	for first := true; ; first = false {
		frame := s.out.frame()
		if !first && !s.out.moves() && s.out.format == "table" {
			s.out.line("")
		}
		if s.out.format == "table" {
			s.out.line("%s", s.out.paint(time.Now().Format("2006-01-02 15:04:05"), dim))
		}
		err := f()
		frame.show()
		if err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(every):
		}
	}
}

// list prints a list as JSON, CSV or a table; a sentence says what an empty list means.
func list[T any](s *session, all []T, empty string, heads []column, row func(T) []cell) error {
	if len(s.out.choice.columns) == 0 {
		if done, err := s.out.value(all); done {
			return err
		}
	}
	rows := make([][]cell, len(all))
	for i, v := range all {
		rows[i] = row(v)
	}
	if len(all) == 0 && s.out.format == "table" {
		if _, err := s.out.chosen(heads); err != nil {
			return err
		}
		s.out.line("%s", empty)
		return nil
	}
	return s.out.table(heads, rows)
}

// chosen gives the indexes of the printed columns.
func (p *printer) chosen(heads []column) ([]int, error) {
	var out []int
	all := len(p.choice.columns) == 1 && p.choice.columns[0] == "all"
	if len(p.choice.columns) == 0 || all {
		for i, h := range heads {
			if !h.hidden || all || p.format != "table" {
				out = append(out, i)
			}
		}
		return out, nil
	}
	for _, name := range p.choice.columns {
		i := slices.IndexFunc(heads, func(h column) bool { return h.name == name })
		if i < 0 {
			names := make([]string, len(heads))
			for j, h := range heads {
				names[j] = h.name
			}
			return nil, usage(
				"no column %q%s The columns are: %s",
				name,
				nearest.Meant(name, names),
				strings.Join(names, ", "),
			)
		}
		out = append(out, i)
	}
	return out, nil
}

// table prints rows under a header: fitted to the width for people, raw for programs.
func (p *printer) table(heads []column, rows [][]cell) error {
	at, err := p.chosen(heads)
	if err != nil {
		return err
	}
	switch p.format {
	case "json":
		return p.objects(heads, at, rows)
	case "csv":
		return p.csv(heads, at, rows)
	}
	p.forPeople(heads, at, rows)
	return nil
}

// objects prints an object for each row, with raw values.
func (p *printer) objects(heads []column, at []int, rows [][]cell) error {
	out := make([]map[string]any, len(rows))
	for i, r := range rows {
		out[i] = map[string]any{}
		for _, j := range at {
			out[i][heads[j].name] = r[j].jsonRaw()
		}
	}
	_, err := p.value(out)
	return err
}

func (p *printer) csv(heads []column, at []int, rows [][]cell) error {
	w := csv.NewWriter(p.w)
	pool := p.practised()
	write := func(first string, of func(int) string) {
		var record []string
		if pool != "" {
			record = append(record, first)
		}
		for _, j := range at {
			record = append(record, harmless.Cell(of(j)))
		}
		_ = w.Write(record)
	}
	if !p.choice.bare {
		write("practice", func(j int) string { return heads[j].name })
	}
	for _, r := range rows {
		write(pool, func(j int) string { return r[j].plainRaw() })
	}
	w.Flush()
	return w.Error()
}

// gap is the space between two columns.
const gap = 2

// forPeople prints a table that fits the width. Columns are folded first; then columns are left out in their order,
// which a line below says.
func (p *printer) forPeople(heads []column, at []int, rows [][]cell) {
	width := map[int]int{}
	for _, j := range at {
		width[j] = ansi.StringWidth(heads[j].title())
		for _, r := range rows {
			width[j] = max(width[j], ansi.StringWidth(r[j].text))
		}
	}
	var out []string
	if p.choice.wide {
		p.render(heads, at, width, rows)
		return
	}
	asked := len(p.choice.columns) > 0
	for !fit(heads, at, width, p.room()) {
		go_ := -1 // the index in at of the column to leave out
		for i, j := range at {
			if heads[j].left > 0 && !asked && (go_ < 0 || heads[j].left < heads[at[go_]].left) {
				go_ = i
			}
		}
		if go_ < 0 {
			break // nothing else can be left out: the table is wider than the screen
		}
		out = append(out, heads[at[go_]].name)
		at = slices.Delete(slices.Clone(at), go_, go_+1)
	}
	p.render(heads, at, width, rows)
	if len(out) > 0 {
		slices.Reverse(out)
		p.line("%s", p.paint("left out to fit the width: "+strings.Join(out, ", ")+"; --wide shows all", dim))
	}
}

// fit folds columns, the widest first, until all fit into a width, and reports whether they do.
func fit(heads []column, at []int, natural map[int]int, most int) bool {
	width := map[int]int{}
	sum := -gap
	for _, j := range at {
		width[j] = natural[j]
		sum += natural[j] + gap
	}
	for sum > most {
		widest := -1
		for _, j := range at {
			if f := heads[j].folds; f > 0 && width[j] > max(f, ansi.StringWidth(heads[j].title())) &&
				(widest < 0 || width[j] > width[widest]) {
				widest = j
			}
		}
		if widest < 0 {
			return false
		}
		width[widest]--
		sum--
	}
	for j, w := range width {
		natural[j] = w
	}
	return true
}

func (p *printer) render(heads []column, at []int, width map[int]int, rows [][]cell) {
	right := func(i int) bool { return len(rows) > 0 && rows[0][at[i]].right }
	t := table.New().Wrap(true).
		BorderTop(false).BorderBottom(false).BorderLeft(false).BorderRight(false).BorderColumn(false).BorderHeader(false).
		StyleFunc(func(row, i int) lipgloss.Style {
			s := lipgloss.NewStyle()
			w := width[at[i]]
			if i < len(at)-1 {
				s, w = s.PaddingRight(gap), w+gap
			}
			if right(i) {
				s = s.Align(lipgloss.Right)
			}
			return s.Width(w)
		})
	if !p.choice.bare {
		titles := make([]string, len(at))
		for i, j := range at {
			titles[i] = p.paint(heads[j].title(), dim)
		}
		t.Headers(titles...)
	}
	total := -gap
	for _, j := range at {
		total += width[j] + gap
	}
	t.Width(total)
	for _, r := range rows {
		texts := make([]string, len(at))
		for i, j := range at {
			texts[i] = p.paint(strings.ReplaceAll(r[j].text, "-", hyphen), r[j].style)
		}
		t.Row(texts...)
	}
	if len(rows) == 0 && p.choice.bare {
		return
	}
	for _, l := range strings.Split(t.String(), "\n") {
		fmt.Fprintln(p.w, strings.TrimRight(strings.ReplaceAll(l, hyphen, "-"), " "))
	}
}

// mark is a verdict's shape; verdicts differ in it without colour.
func mark(v api.Verdict) (string, style) {
	switch v {
	case api.Sound:
		return "·", dim
	case api.Watch:
		return "◉", quiet
	case api.Replace:
		return "◆", loud
	case api.Dead:
		return "▨", dead
	}
	return "◌", plain
}

func verdictCell(v api.Verdict) cell {
	m, s := mark(v)
	return cell{text: m + " " + string(v), style: s, raw: string(v)}
}

// minutes is the layout of moments for people.
const minutes = "2006-01-02 15:04"

func yesNo(b bool) string { return map[bool]string{true: "yes", false: "no"}[b] }
