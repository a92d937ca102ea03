package cli

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"unicode/utf8"

	"lantern/internal/api"
	"lantern/internal/harmless"
	"lantern/internal/practice"
)

// printer writes what a command has to say, in the form that was asked for.
type printer struct {
	w        io.Writer
	format   string
	color    bool
	terminal bool
	screen   io.Writer // w itself, for what moves on it
	copied   *noting   // knows whether what is printed is of a practice; nil where no service is asked
}

// practise makes every line that is printed as text carry the mark of a practice, should the service turn out to be
// one.
func (p *printer) practise(n *noting) {
	if p.copied = n; p.format == "table" {
		p.w = &practice.Writer{W: p.w, On: n.is}
	}
}

// practised is the pool that the service is a copy of; empty in truth.
func (p *printer) practised() string {
	if p.copied == nil || !p.copied.is() {
		return ""
	}
	return *p.copied.pool.Load()
}

// again goes up by some lines on a terminal, to write them anew.
func (p *printer) again(lines int) {
	if p.terminal && lines > 0 {
		fmt.Fprintf(p.screen, "\x1b[%dA\x1b[J", lines)
	}
}

func newPrinter(w io.Writer, format string) *printer {
	_, no := os.LookupEnv("NO_COLOR")
	return &printer{
		w:        w,
		screen:   w,
		format:   format,
		terminal: isTerminal(w),
		color:    !no && isTerminal(w) && os.Getenv("TERM") != "dumb",
	}
}

// value prints v as JSON if that was asked for.
func (p *printer) value(v any) (done bool, err error) {
	if p.format != "json" {
		return false, nil
	}
	if pool := p.practised(); pool != "" {
		if v, err = withPractice(v, pool); err != nil {
			return true, err
		}
	}
	e := json.NewEncoder(p.w)
	e.SetIndent("", "  ")
	return true, e.Encode(v)
}

// withPractice puts the mark of a practice first into an object, or into every object of a list.
func withPractice(v any, pool string) (any, error) {
	b, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	name, _ := json.Marshal(pool)
	mark := func(b json.RawMessage) json.RawMessage {
		var has struct{ Practice json.RawMessage }
		if inner, object := bytes.CutPrefix(
			b,
			[]byte("{"),
		); object && json.Unmarshal(b, &has) == nil &&
			has.Practice == nil {
			out := append([]byte(`{"practice":`), name...)
			if !bytes.HasPrefix(inner, []byte("}")) {
				out = append(out, ',')
			}
			return append(out, inner...)
		}
		return b
	}
	var all []json.RawMessage
	if bytes.HasPrefix(b, []byte("[")) {
		if err := json.Unmarshal(b, &all); err != nil {
			return nil, err
		}
		for i := range all {
			all[i] = mark(all[i])
		}
		return all, nil
	}
	return mark(b), nil
}

// cell is a text with a style that shows only on a terminal.
type cell struct {
	text  string
	style style
	right bool
}

type style string

// Styles, as SGR parameters. Hues are of the 256-colour cube, chosen so that each stays apart for the colour-blind; the
// shape and the word say the same without any.
const (
	plain  style = ""
	bold   style = "1"
	dim    style = "2"
	loud   style = "1;38;5;208" // vermilion side: replace
	dead   style = "1;38;5;175" // purple: dead
	quiet  style = "38;5;179"   // amber: watch
	good   style = "38;5;73"
	level  style = "38;5;110"
	invert style = "7"
)

func (p *printer) paint(text string, s style) string {
	if !p.color || s == plain {
		return text
	}
	return "\x1b[" + string(s) + "m" + text + "\x1b[0m"
}

func (p *printer) line(format string, args ...any) { fmt.Fprintf(p.w, format+"\n", args...) }

// table prints rows under a head; as CSV if that was asked for.
func (p *printer) table(head []string, rows [][]cell) error {
	if p.format == "csv" {
		w := csv.NewWriter(p.w)
		if pool := p.practised(); pool != "" {
			head = append([]string{"PRACTICE"}, head...)
			for i := range rows {
				rows[i] = append([]cell{{text: pool}}, rows[i]...)
			}
		}
		_ = w.Write(head)
		for _, r := range rows {
			record := make([]string, len(r))
			for i, c := range r {
				record[i] = harmless.Cell(c.text)
			}
			_ = w.Write(record)
		}
		w.Flush()
		return w.Error()
	}
	width := make([]int, len(head))
	for i, h := range head {
		width[i] = utf8.RuneCountInString(h)
		for _, r := range rows {
			width[i] = max(width[i], utf8.RuneCountInString(r[i].text))
		}
	}
	write := func(r []cell) {
		var b strings.Builder
		for i, c := range r {
			pad := strings.Repeat(" ", width[i]-utf8.RuneCountInString(c.text))
			text := p.paint(c.text, c.style)
			switch {
			case c.right:
				b.WriteString(pad + text)
			case i == len(r)-1:
				b.WriteString(text)
			default:
				b.WriteString(text + pad)
			}
			if i < len(r)-1 {
				b.WriteString("  ")
			}
		}
		fmt.Fprintln(p.w, strings.TrimRight(b.String(), " "))
	}
	top := make([]cell, len(head))
	for i, h := range head {
		top[i] = cell{text: h, style: dim}
		if len(rows) > 0 {
			top[i].right = rows[0][i].right
		}
	}
	write(top)
	for _, r := range rows {
		write(r)
	}
	return nil
}

// mark is a verdict's shape: it alone is enough to tell verdicts apart.
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
	return cell{text: m + " " + string(v), style: s}
}

// bar draws a share of 0 to 1.
func bar(share float64, width int) string {
	full := int(share*float64(width) + 0.5)
	full = min(max(full, 0), width)
	return strings.Repeat("━", full) + strings.Repeat("╌", width-full)
}

var sparks = []rune("▁▂▃▄▅▆▇█")

// spark draws values as small as a word.
func spark(v []float64) string {
	if len(v) == 0 {
		return ""
	}
	lo, hi := v[0], v[0]
	for _, x := range v {
		lo, hi = min(lo, x), max(hi, x)
	}
	var b strings.Builder
	for _, x := range v {
		i := 0
		if hi > lo {
			i = int((x - lo) / (hi - lo) * float64(len(sparks)-1))
		}
		b.WriteRune(sparks[i])
	}
	return b.String()
}
