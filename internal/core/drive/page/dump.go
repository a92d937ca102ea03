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
	// offset begins a line of a dump: hexadecimal digits and a colon, or four or more digits and two blanks.
	offset = regexp.MustCompile(`^\s*(?:(?:0x)?([0-9a-fA-F]+):(?:\s|$)|([0-9a-fA-F]{4,})(?:\s{2,}|$))`)
	// printed is what some dumps add behind the bytes: the characters, after two blanks or a bar.
	printed = regexp.MustCompile(`(?:\s\||\s{2,}\S*[^0-9a-fA-F\s]).*$`)
	// gap is wider than any between bytes.
	gap = regexp.MustCompile(`\S\s{3,}\S.*$`)
	// group is one run of digits.
	group = regexp.MustCompile(`^[\s,]*(?:0x)?((?:[0-9a-fA-F]{2})+)(?:[\s,]|$)`)
)

// line is one of a dump: its offset, if it tells one, and what stands behind it.
type line struct {
	nr     int
	at     int // -1 for none
	rest   string
	repeat bool // a star: as the line before, up to the next offset
}

// Bytes gives the bytes of a captured page: as they are when they are binary, or read from a hexadecimal dump, with or
// without offsets and printed characters. Offsets tell how many bytes a line has, so that characters behind them that
// look like digits are not taken for bytes. Lines that begin with # are left out.
func Bytes(in []byte) ([]byte, error) {
	if !utf8.Valid(in) ||
		strings.ContainsFunc(string(in), func(r rune) bool { return r < 0x20 && r != '\n' && r != '\r' && r != '\t' }) {
		return in, nil
	}
	var lines []line
	for n, text := range strings.Split(string(in), "\n") {
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
	var out, before []byte
	base, width, column := -1, 0, 0
	for i, l := range lines {
		if l.repeat {
			if i+1 == len(lines) || lines[i+1].at < 0 || base < 0 || len(before) == 0 || lines[i+1].at-base > 16<<20 {
				return nil, fmt.Errorf("line %d repeats lines, and no offset says how many", l.nr)
			}
			for len(out) < lines[i+1].at-base {
				out = append(out, before...)
			}
			continue
		}
		if l.at >= 0 && base < 0 {
			base = l.at
		}
		due := 0 // bytes of this line; 0 where nothing tells
		switch {
		case l.at < 0:
		case i+1 < len(lines) && lines[i+1].at > l.at:
			due = lines[i+1].at - l.at
		case i+1 < len(lines) && lines[i+1].repeat:
			due = width
		}
		if l.at >= 0 && strings.TrimSpace(l.rest) == "" {
			continue // the offset at which it ends
		}
		rest, most := l.rest, due
		switch {
		case due > 0:
		case l.at >= 0 && column > 0 && len(rest) > column:
			rest = rest[:column] // the last line, whose characters stand where those of the others do
		case l.at >= 0:
			rest, most = cutGap(printed.ReplaceAllString(rest, "")), 16 // the only line, as dumps are wide
		default:
			rest = printed.ReplaceAllString(rest, "")
		}
		b, used, err := digits(rest, most)
		if err != nil {
			return nil, fmt.Errorf("line %d is not a hexadecimal dump: %q", l.nr, l.rest)
		}
		if due > 0 && len(b) > width {
			width, column = len(b), used
		}
		if due > 0 && due != len(b) {
			// Offsets that count something else than bytes: what stands there is taken as it is.
			if b, _, err = digits(printed.ReplaceAllString(l.rest, ""), 0); err != nil {
				return nil, fmt.Errorf("line %d is not a hexadecimal dump: %q", l.nr, l.rest)
			}
			column = 0
		}
		before = b
		out = append(out, b...)
	}
	return out, nil
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
