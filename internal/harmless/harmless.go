// Package harmless makes texts of devices, agents and people harmless to show: on terminals, in tables, calendars,
// messages and lines of a log. Nothing is removed without a trace: a removed character leaves its code, as in ⟦1B⟧.
package harmless

import (
	"fmt"
	"reflect"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"
)

// mostRunes is the greatest length of a line; a longer one is cut, with a mark.
const mostRunes = 4096

// hostile reports whether a character controls a display, or is invisible: controls (C0, C1, DEL), line and paragraph
// separators, bidirectional marks and overrides (Unicode Standard Annex 9), and characters without width.
func hostile(r rune) bool {
	switch {
	case r < 0x20, r >= 0x7F && r <= 0x9F:
		return true
	case r == 0x00AD, r == 0x061C, r == 0x180E, r == 0xFEFF:
		return true
	case r >= 0x200B && r <= 0x200F, r >= 0x2028 && r <= 0x202E, r >= 0x2060 && r <= 0x206F:
		return true
	case r >= 0xFFF9 && r <= 0xFFFB, r >= 0xE0000 && r <= 0xE0FFF:
		return true
	}
	return unicode.Is(unicode.Co, r) || unicode.Is(unicode.Cs, r)
}

// Line makes a text one harmless line.
func Line(s string) string { return clean(s, false) }

// Text makes a text harmless and keeps its lines.
func Text(s string) string { return clean(s, true) }

func clean(s string, lines bool) string {
	if isHarmless(s, lines) {
		return s
	}
	var b strings.Builder
	n := 0
	for i := 0; i < len(s); {
		r, size := utf8.DecodeRuneInString(s[i:])
		if n++; n > mostRunes {
			fmt.Fprintf(&b, " … ⟦%d more bytes⟧", len(s)-i)
			break
		}
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, "⟦%02X⟧", s[i])
		case r == '\n' && lines:
			b.WriteRune(r)
		case hostile(r):
			fmt.Fprintf(&b, "⟦%02X⟧", r)
		default:
			b.WriteRune(r)
		}
		i += size
	}
	return b.String()
}

func isHarmless(s string, lines bool) bool {
	if len(s) > mostRunes {
		return false
	}
	for i := 0; i < len(s); i++ {
		if c := s[i]; c < 0x20 && !(c == '\n' && lines) || c >= 0x7F {
			return c >= 0x80 && utf8.ValidString(s) && !strings.ContainsFunc(s, func(r rune) bool {
				return hostile(r) && !(r == '\n' && lines)
			})
		}
	}
	return true
}

// Scrub makes every text in v harmless, at any depth; v is a pointer. Bytes are not changed. Entries of maps whose
// names would have to be changed are removed.
func Scrub(v any, lines bool) { scrub(reflect.ValueOf(v), lines) }

func scrub(v reflect.Value, lines bool) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			scrub(v.Elem(), lines)
		}
	case reflect.Interface:
		if s, ok := v.Interface().(string); ok {
			v.Set(reflect.ValueOf(clean(s, lines)))
		} else if !v.IsNil() {
			scrub(v.Elem(), lines)
		}
	case reflect.String:
		if s := v.String(); v.CanSet() && !isHarmless(s, lines) {
			v.SetString(clean(s, lines))
		}
	case reflect.Struct:
		for _, i := range exportedOf(v.Type()) {
			scrub(v.Field(i), lines)
		}
	case reflect.Slice, reflect.Array:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			return
		}
		for i := range v.Len() {
			scrub(v.Index(i), lines)
		}
	case reflect.Map:
		scrubMap(v, lines)
	}
}

// Plain reports whether Scrub would change nothing in a value that was read from a JSON text: the text has no character
// besides printable ASCII and spaces between values, no escape in a string, and no long string.
func Plain(json []byte) bool {
	last := 0 // the place of the last quotation mark
	for i, c := range json {
		if c >= 0x7F || c == '\\' || c < 0x20 && c != '\n' && c != '\r' && c != '\t' {
			return false
		}
		if c == '"' {
			if i-last > mostRunes {
				return false
			}
			last = i
		}
	}
	return true
}

// exported has the exported fields of each structure, by its reflect.Type.
var exported sync.Map

func exportedOf(t reflect.Type) []int {
	if f, ok := exported.Load(t); ok {
		return f.([]int)
	}
	var out []int
	for i := range t.NumField() {
		if t.Field(i).IsExported() {
			out = append(out, i)
		}
	}
	exported.Store(t, out)
	return out
}

var numbersType = reflect.TypeFor[map[string]float64]()

func scrubMap(v reflect.Value, lines bool) {
	if v.CanConvert(numbersType) { // the metrics of each reading
		numbers := v.Convert(numbersType).Interface().(map[string]float64)
		for name := range numbers {
			if !isHarmless(name, false) {
				delete(numbers, name)
			}
		}
		return
	}
	for it := v.MapRange(); it.Next(); {
		if it.Key().Kind() == reflect.String && !isHarmless(it.Key().String(), false) {
			v.SetMapIndex(it.Key(), reflect.Value{})
			continue
		}
		x := reflect.New(v.Type().Elem()).Elem()
		x.Set(it.Value())
		scrub(x, lines)
		v.SetMapIndex(it.Key(), x)
	}
}

// Cell makes a text harmless in a table that a spreadsheet opens: a text that looks like a formula gets an apostrophe
// before it, which marks texts in spreadsheets.
func Cell(s string) string {
	s = Line(s)
	if s == "" || !strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return s
	}
	if number(s) {
		return s
	}
	return "'" + s
}

// FromCell reverts Cell.
func FromCell(s string) string {
	if rest, ok := strings.CutPrefix(s, "'"); ok && Cell(rest) == s {
		return rest
	}
	return s
}

// number reports whether a text that begins with a sign is nothing but a number.
func number(s string) bool {
	digits := false
	for i, r := range s {
		switch {
		case r >= '0' && r <= '9':
			digits = true
		case i == 0 && (r == '-' || r == '+'), r == '.', r == 'e' && digits:
		default:
			return false
		}
	}
	return digits
}
