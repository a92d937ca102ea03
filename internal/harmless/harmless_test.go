package harmless

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

// TestLine: what acts is shown by its code; everything else stays as it is.
func TestLine(t *testing.T) {
	for in, want := range map[string]string{
		"":                               "",
		"sound":                          "sound",
		"Häuschen 北 é ⚑":                 "Häuschen 北 é ⚑",
		"a\x1b]52;c;Zm9v\x07b":           "a⟦1B⟧]52;c;Zm9v⟦07⟧b",
		"one\r\nCRITICAL two":            "one⟦0D⟧⟦0A⟧CRITICAL two",
		"txt\u202Egnp.exe":               "txt⟦202E⟧gnp.exe",
		"bad\xff\xfebytes":               "bad⟦FF⟧⟦FE⟧bytes",
		"zero\u200Bwidth\uFEFF":          "zero⟦200B⟧width⟦FEFF⟧",
		"c1 \u009B31m":                   "c1 ⟦9B⟧31m",
		"line\u2028separator":            "line⟦2028⟧separator",
		strings.Repeat("x", mostRunes+9): strings.Repeat("x", mostRunes) + " … ⟦9 more bytes⟧",
	} {
		require.Equal(t, want, Line(in))
	}
	require.Equal(t, "two\nlines⟦09⟧", Text("two\nlines\t"))
}

func TestCell(t *testing.T) {
	for in, want := range map[string]string{"=1+1": "'=1+1", "-5": "-5", "-5.5e3": "-5.5e3", "+cmd": "'+cmd", "@x": "'@x",
		"-": "'-", "a=b": "a=b", "": ""} {
		require.Equal(t, want, Cell(in))
	}
}

// TestScrub: at any depth, and bytes stay.
func TestScrub(t *testing.T) {
	type inner struct {
		Says  string
		Bytes []byte
		Any   any
	}
	v := struct {
		In   *inner
		List []string
		Map  map[string]inner
		lost string
	}{&inner{"a\x1b", []byte{0x1b}, map[string]any{"k": "x\r"}}, []string{"\n"},
		map[string]inner{"ok": {Says: "\a"}, "bad\x1b": {}}, "\x1b"}
	Scrub(&v, false)
	require.Equal(t, "a⟦1B⟧", v.In.Says)
	require.Equal(t, []byte{0x1b}, v.In.Bytes)
	require.Equal(t, map[string]any{"k": "x⟦0D⟧"}, v.In.Any)
	require.Equal(t, []string{"⟦0A⟧"}, v.List)
	require.Equal(t, map[string]inner{"ok": {Says: "⟦07⟧"}}, v.Map)
	require.Equal(t, "\x1b", v.lost)
}

// FuzzLine: whatever comes in, one line of valid UTF-8 without anything that acts comes out, and doing it again changes
// nothing.
func FuzzLine(f *testing.F) {
	f.Add("a\x1b[31m\u202E\xff\r\n")
	f.Fuzz(func(t *testing.T, in string) {
		out := Line(in)
		require.True(t, utf8.ValidString(out))
		require.False(t, strings.ContainsFunc(out, hostile))
		if len(out) < mostRunes {
			require.Equal(t, out, Line(out))
		}
	})
}

// FuzzPlain: of a JSON text that is plain, nothing is scrubbed, whatever its values are read into.
func FuzzPlain(f *testing.F) {
	require.True(f, Plain([]byte(`{"host":"skerry","drives":[{"bay":7,"says":"a b"}]}`+"\n")))
	f.Add(`{"a":"b","c":["d\u001b",{"e\n":"f"}]}`)
	f.Add(`"` + strings.Repeat("x", mostRunes+1) + `"`)
	f.Add("[\"\u202e\"\t,\"\x7f\"]")
	f.Fuzz(func(t *testing.T, text string) {
		var v, was any
		if json.Unmarshal([]byte(text), &v) != nil {
			return
		}
		require.NoError(t, json.Unmarshal([]byte(text), &was))
		Scrub(&v, false)
		if Plain([]byte(text)) {
			require.Equal(t, was, v)
		}
		require.False(t, Plain([]byte(text+"\\")))
	})
}
