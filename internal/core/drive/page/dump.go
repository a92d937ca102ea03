package page

import (
	"encoding/hex"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

var (
	// offset is the beginning of a line of a dump: hexadecimal digits and a colon, or four or more digits and two
	// blanks.
	offset = regexp.MustCompile(`^\s*(?:(?:0x)?([0-9a-fA-F]+):(?:\s|$)|([0-9a-fA-F]{4,})(?:\s{2,}|$))`)
	// printed matches the characters that some dumps print after the bytes, behind two blanks or a bar.
	printed = regexp.MustCompile(`(?:\s\||\s{2,}\S*[^0-9a-fA-F\s]).*$`)
	// gap is wider than the space between two bytes.
	gap = regexp.MustCompile(`\S\s{3,}\S.*$`)
	// group is one run of digits.
	group = regexp.MustCompile(`^[\s,]*(?:0x)?((?:[0-9a-fA-F]{2})+)(?:[\s,]|$)`)
)

// line is one line of a dump: its offset, if it has one, and the text after it.
type line struct {
	nr     int
	at     int // -1 for none
	rest   string
	repeat bool // a star: the line before is repeated up to the next offset
}

// Bytes gives the bytes of a captured page: as they are when they are binary, or read from a hexadecimal dump, with or
// without offsets and printed characters. Offsets tell how many bytes a line has, so that characters behind them that
// look like digits are not taken for bytes. Lines that begin with # are left out.
func Bytes(in []byte) ([]byte, error) {
	if !utf8.Valid(in) ||
		strings.ContainsFunc(string(in), func(r rune) bool { return r < 0x20 && r != '\n' && r != '\r' && r != '\t' }) {
		return in, nil
	}
	lines := dumpLines(string(in))
	d := dump{lines: lines, base: -1}
	for i := range lines {
		if err := d.take(i); err != nil {
			return nil, err
		}
	}
	return d.out, nil
}

// dumpLines are the lines with their offsets, without comments and empty lines.
func dumpLines(in string) (lines []line) {
	for n, text := range strings.Split(in, "\n") {
		text = strings.TrimRight(text, "\r ")
		if trimmed := strings.TrimSpace(text); trimmed == "" || strings.HasPrefix(trimmed, "#") {
			continue
		}
		l := line{nr: n + 1, at: -1, rest: text, repeat: strings.TrimSpace(text) == "*"}
		plain := slices.ContainsFunc(lines, func(x line) bool { return x.at < 0 && !x.repeat })
		if m := offset.FindStringSubmatch(text); m != nil && !(m[2] != "" && plain) {
			at, err := strconv.ParseInt(m[1]+m[2], 16, 32)
			if err == nil {
				l.at, l.rest = int(at), text[len(m[0]):]
			}
		}
		lines = append(lines, l)
	}
	return lines
}

// dump is the state of reading a hexadecimal dump.
type dump struct {
	lines  []line
	out    []byte
	before []byte // of the line before
	base   int    // the first offset; -1 before it is known
	width  int    // bytes of the widest line so far
	column int    // column at which the printed characters of such a line begin; 0 when not known
}

// due is the number of bytes of a line according to the offsets; 0 when unknown.
func (d *dump) due(i int) int {
	l := d.lines[i]
	switch {
	case l.at < 0 || i+1 == len(d.lines):
	case d.lines[i+1].at > l.at:
		return d.lines[i+1].at - l.at
	case d.lines[i+1].repeat:
		return d.width
	}
	return 0
}

// repeat fills up to the next offset with the line before.
func (d *dump) repeat(i int) error {
	if i+1 == len(d.lines) || d.lines[i+1].at < 0 || d.base < 0 || len(d.before) == 0 ||
		d.lines[i+1].at-d.base > 16<<20 {
		return fmt.Errorf("line %d repeats lines, and no offset says how many", d.lines[i].nr)
	}
	for len(d.out) < d.lines[i+1].at-d.base {
		d.out = append(d.out, d.before...)
	}
	return nil
}

// part is the part of a line that may hold bytes, and their greatest number; 0 for any number.
func (d *dump) part(l line, due int) (rest string, most int) {
	switch {
	case due > 0:
		return l.rest, due
	case l.at >= 0 && d.column > 0 && len(l.rest) > d.column:
		return l.rest[:d.column], 0 // the last line: its characters begin at the column of the other lines
	case l.at >= 0:
		return cutGap(printed.ReplaceAllString(l.rest, "")), 16 // the only line: take the usual width of dumps
	}
	return printed.ReplaceAllString(l.rest, ""), 0
}

// take reads a line.
func (d *dump) take(i int) error {
	l := d.lines[i]
	if l.repeat {
		return d.repeat(i)
	}
	if l.at >= 0 && d.base < 0 {
		d.base = l.at
	}
	if l.at >= 0 && strings.TrimSpace(l.rest) == "" {
		return nil // the offset of its end
	}
	due := d.due(i)
	b, used, err := digits(d.part(l, due))
	if err != nil {
		return fmt.Errorf("line %d is not a hexadecimal dump: %q", l.nr, l.rest)
	}
	if due > 0 && len(b) > d.width {
		d.width, d.column = len(b), used
	}
	if due > 0 && due != len(b) {
		// The offsets do not count bytes: the text is read as it is.
		if b, _, err = digits(printed.ReplaceAllString(l.rest, ""), 0); err != nil {
			return fmt.Errorf("line %d is not a hexadecimal dump: %q", l.nr, l.rest)
		}
		d.column = 0
	}
	d.before = b
	d.out = append(d.out, b...)
	return nil
}

func cutGap(s string) string {
	if m := gap.FindStringIndex(s); m != nil {
		return s[:m[0]+1]
	}
	return s
}

// digits reads up to most bytes (0: all) from groups of digits; used is how far they reach.
func digits(text string, most int) (out []byte, used int, err error) {
	for used < len(text) && (most == 0 || len(out) < most) {
		m := group.FindStringSubmatchIndex(text[used:])
		if m == nil {
			if strings.Trim(text[used:], " \t,") == "" || most > 0 {
				return out, used, nil
			}
			return nil, 0, fmt.Errorf("no digits")
		}
		b, err := hex.DecodeString(text[used+m[2] : used+m[3]])
		if err != nil || most > 0 && len(out)+len(b) > most {
			return out, used, err
		}
		out = append(out, b...)
		used += m[3]
	}
	return out, used, nil
}
