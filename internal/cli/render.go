package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"regexp"
	"strconv"
	"strings"

	"github.com/charmbracelet/x/ansi"
	"golang.org/x/term"

	"lantern/internal/practice"
)

// printer prints a command's output in the chosen form.
type printer struct {
	w        io.Writer
	format   string
	color    bool
	terminal bool
	width    int       // columns that there are
	screen   io.Writer // w itself, for what moves on it
	copied   *noting   // knows whether the output is of a rehearsal; nil if no service is asked
	choice   choice
	rows     int // that the frame before took
}

// usualWidth is the width of an output whose width is not known.
const usualWidth = 80

// newPrinter makes a printer for an output. Where the locale is not UTF-8, everything is written in ASCII.
func newPrinter(w io.Writer, format string) *printer {
	_, no := os.LookupEnv("NO_COLOR")
	p := &printer{
		format:   format,
		terminal: isTerminal(w),
		width:    usualWidth,
		color:    !no && isTerminal(w) && os.Getenv("TERM") != "dumb",
	}
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n >= 20 {
		p.width = n
	} else if f, ok := w.(*os.File); ok {
		if n, _, err := term.GetSize(int(f.Fd())); err == nil && n >= 20 {
			p.width = n
		}
	}
	if format == "table" && !unicode(p.terminal) {
		w = asciiWriter{w}
	}
	p.w, p.screen = w, w
	return p
}

// unicode reports whether the locale can show more than ASCII (POSIX.1-2017, clause 8.2). Where none is set the output
// of a terminal is kept to ASCII; a file or a program gets UTF-8.
func unicode(terminal bool) bool {
	for _, name := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if v := strings.ToLower(os.Getenv(name)); v != "" {
			return strings.Contains(v, "utf-8") || strings.Contains(v, "utf8")
		}
	}
	return !terminal
}

// asciiWriter writes our shapes in ASCII; what else is not ASCII becomes a question mark.
type asciiWriter struct{ w io.Writer }

var asciiShapes = strings.NewReplacer(
	"─",
	"-",
	"│",
	"|",
	"┌",
	"+",
	"┐",
	"+",
	"└",
	"+",
	"┘",
	"+",
	"├",
	"+",
	"┤",
	"+",
	"┬",
	"+",
	"┴",
	"+",
	"┼",
	"+",
	"╭",
	"+",
	"╮",
	"+",
	"╰",
	"+",
	"╯",
	"+",
	"━",
	"=",
	"╌",
	"-",
	"·",
	".",
	"◉",
	"o",
	"◆",
	"#",
	"▨",
	"X",
	"◌",
	"?",
	"▥",
	"%",
	"✶",
	"*",
	"✓",
	"v",
	"✗",
	"x",
	"▶",
	">",
	"→",
	"->",
	"↑↓",
	"up/down",
	"▁",
	"_",
	"▂",
	"_",
	"▃",
	".",
	"▄",
	"-",
	"▅",
	"-",
	"▆",
	"=",
	"▇",
	"^",
	"█",
	"#",
	"…",
	"...",
	"–",
	"-",
	"—",
	"-",
	"’",
	"'",
	"“",
	"\"",
	"”",
	"\"",
	"°",
	" deg ",
	"µ",
	"u",
	"×",
	"x",
	"≥",
	">=",
	"≤",
	"<=",
)

func (a asciiWriter) Write(b []byte) (int, error) {
	text := asciiShapes.Replace(string(b))
	out := make([]byte, 0, len(text))
	for _, r := range text {
		if r < 0x80 {
			out = append(out, byte(r))
		} else {
			out = append(out, '?')
		}
	}
	_, err := a.w.Write(out)
	return len(b), err
}

// practise adds the mark of a rehearsal to every printed line of text if the service is one.
func (p *printer) practise(n *noting) {
	if p.copied = n; p.format == "table" {
		p.w = &practice.Writer{W: p.w, On: n.is}
	}
}

// practised is the pool of which a rehearsal is a copy; empty if it is no rehearsal.
func (p *printer) practised() string {
	if p.copied == nil || !p.copied.is() {
		return ""
	}
	return *p.copied.pool.Load()
}

// moves reports whether written lines can be overwritten.
func (p *printer) moves() bool {
	return p.terminal && p.format == "table" && os.Getenv("TERM") != "dumb"
}

// frame collects output, and then shows it in place of the previous frame.
type frame struct {
	p    *printer
	to   io.Writer
	text bytes.Buffer
}

// frame begins a frame. If lines cannot be overwritten, output is printed directly.
func (p *printer) frame() *frame {
	f := &frame{p: p, to: p.w}
	if p.moves() {
		p.w = &f.text
	}
	return f
}

// show writes a frame over the previous one. Lines that are wider than the terminal take several of its rows.
func (f *frame) show() {
	f.p.w = f.to
	if !f.p.moves() {
		return
	}
	if f.p.rows > 0 {
		fmt.Fprintf(f.p.screen, "\x1b[%dA\r\x1b[J", f.p.rows)
	}
	_, _ = f.to.Write(f.text.Bytes())
	f.p.rows = rowsOf(f.text.String(), f.p.room())
}

// rowsOf counts the rows of a text on a terminal of a width, if each line ends with a line feed.
func rowsOf(text string, width int) (rows int) {
	for _, l := range strings.Split(strings.TrimSuffix(text, "\n"), "\n") {
		rows += 1 + max(0, ansi.StringWidth(l)-1)/max(1, width)
	}
	return rows
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

// withPractice adds the mark of a rehearsal to an object, or to every object of a list.
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
	if !p.color || s == plain || text == "" {
		return text
	}
	return "\x1b[" + string(s) + "m" + text + "\x1b[0m"
}

// line prints a line of text for people, folded to the width; nothing if the output is for programs.
func (p *printer) line(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if p.format == "csv" {
		return
	}
	for _, l := range strings.Split(text, "\n") {
		fmt.Fprintln(p.w, p.folded(l))
	}
}

// verbatim prints a text for copying: it is not folded.
func (p *printer) verbatim(text string) {
	if p.format == "table" {
		fmt.Fprintln(p.w, text)
	}
}

// lead is a label or a mark before the text of a line; further lines are indented by its width.
var lead = regexp.MustCompile(`^ *(?:[^ ]+(?: [^ ]+){0,6}:?  +|[→✓✗!▶◆◉▨◌·] +)?`)

// folded breaks a line that is too wide between words, and indents the rest. Drawings are not changed.
func (p *printer) folded(l string) string {
	if p.choice.wide || ansi.StringWidth(l) <= p.room() || strings.ContainsAny(l, "│┌├└┤┼╭") {
		return l
	}
	hang := len([]rune(lead.FindString(ansi.Strip(l))))
	if hang > (p.room()+1)/2 || hang > 44 {
		hang = len(l) - len(strings.TrimLeft(l, " ")) + 2
	}
	pad := strings.Repeat(" ", hang)
	// The first line gets the same width as the others if its lead is removed for the folding.
	body := wrap(ansi.Cut(l, hang, ansi.StringWidth(l)), p.room()-hang)
	return ansi.Cut(l, 0, hang) + strings.ReplaceAll(body, "\n", "\n"+pad)
}

// hyphen stands for a hyphen at which a line must not be broken.
const hyphen = "\u2011"

// wrap breaks a text at spaces, and within a word that is longer than a line. A style that continues over a break is
// ended before it and started again after it, so that the indentation has no style.
func wrap(text string, width int) string {
	lines := strings.Split(ansi.Wrap(strings.ReplaceAll(text, "-", hyphen), width, ""), "\n")
	open := ""
	for i, l := range lines {
		l = open + l
		for _, s := range styles.FindAllString(l, -1) {
			if open = s; s == endStyle {
				open = ""
			}
		}
		if open != "" && i < len(lines)-1 {
			l += endStyle
		}
		lines[i] = l
	}
	return strings.ReplaceAll(strings.Join(lines, "\n"), hyphen, "-")
}

// endStyle ends a style (ECMA-48, 8.3.117 SGR).
const endStyle = "\x1b[0m"

var styles = regexp.MustCompile("\x1b\\[[0-9;]*m")

// room is the width of a line in columns, without the mark of a rehearsal.
func (p *printer) room() int {
	if p.practised() != "" {
		return max(20, p.width-len([]rune(practice.Mark)))
	}
	return p.width
}

// bar draws a share of 0 to 1.
func bar(share float64, width int) string {
	full := int(share*float64(width) + 0.5)
	full = min(max(full, 0), width)
	return strings.Repeat("━", full) + strings.Repeat("╌", width-full)
}

var sparks = []rune("▁▂▃▄▅▆▇█")

// spark draws values as a chart of the size of a word.
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
