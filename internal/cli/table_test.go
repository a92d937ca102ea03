package cli

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestTablesFit: whatever is in a table, no line is wider than there is room as long as something can be folded or left
// out; nothing that is shown loses a word; CSV has every row whole and raw.
func TestTablesFit(t *testing.T) {
	words := strings.Fields("a drive pending-sectors skerry/front/7 can lose 2 more 18,000,000 ◆ –")
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(2, 7).Draw(t, "columns")
		heads := make([]column, n)
		for i := range heads {
			heads[i] = col(fmt.Sprintf("c%d", i))
			switch rapid.IntRange(0, 3).Draw(t, "kind") {
			case 1:
				heads[i] = heads[i].fold(18)
			case 2:
				heads[i] = heads[i].spare(i + 1)
			case 3:
				heads[i] = heads[i].more()
			}
		}
		rows := make([][]cell, rapid.IntRange(0, 6).Draw(t, "rows"))
		for i := range rows {
			for range n {
				text := strings.Join(rapid.SliceOfN(rapid.SampledFrom(words), 0, 8).Draw(t, "text"), " ")
				rows[i] = append(rows[i], cell{text: text})
			}
		}
		var b bytes.Buffer
		p := newPrinter(&b, "table")
		p.width = rapid.IntRange(40, 160).Draw(t, "width")
		require.NoError(t, p.table(heads, rows))
		least, shown := -gap, 0
		for i, h := range heads {
			if h.hidden || h.left > 0 {
				continue
			}
			w := len(h.name)
			for _, r := range rows {
				w = max(w, ansi.StringWidth(r[i].text))
			}
			if h.folds > 0 {
				w = min(w, max(h.folds, len(h.name)))
			}
			least += w + gap
			shown++
		}
		if least <= p.width {
			for _, l := range strings.Split(b.String(), "\n") {
				require.LessOrEqual(t, ansi.StringWidth(l), p.width, "%s", b.String())
			}
		}
		for i, h := range heads {
			for _, r := range rows {
				for _, w := range strings.Fields(r[i].text) {
					if !h.hidden && h.left == 0 && len(w) < 18 {
						require.Contains(t, b.String(), w)
					}
				}
			}
		}
		b.Reset()
		p = newPrinter(&b, "csv")
		require.NoError(t, p.table(heads, rows))
		all, err := csv.NewReader(&b).ReadAll()
		require.NoError(t, err)
		require.Len(t, all, len(rows)+1)
		for i, r := range rows {
			for j := range r {
				require.Equal(t, r[j].text, all[i+1][j])
			}
		}
	})
}

// TestRawCells: values for programs have no marks or words, and columns are chosen by name.
func TestRawCells(t *testing.T) {
	at := time.Date(2026, 11, 29, 11, 0, 0, 0, time.FixedZone("", 7200))
	heads := []column{col("verdict"), col("bytes"), col("took_seconds"), col("at"), col("share").more(), col("never")}
	rows := [][]cell{
		{verdictCell("replace"), bytesCell(4000787030016), spanCell(90 * time.Minute), timeCell(at, minutes),
			percentCell(0.36276), timeCell(time.Time{}, minutes)},
	}
	out := func(format string, columns ...string) (string, error) {
		var b bytes.Buffer
		p := newPrinter(&b, format)
		p.choice.columns = columns
		err := p.table(heads, rows)
		return b.String(), err
	}
	got, err := out("csv")
	require.NoError(t, err)
	require.Equal(
		t,
		"verdict,bytes,took_seconds,at,share,never\nreplace,4000787030016,5400,2026-11-29T09:00:00Z,36.276,\n",
		got,
	)
	got, err = out("csv", "bytes", "verdict")
	require.NoError(t, err)
	require.Equal(t, "bytes,verdict\n4000787030016,replace\n", got)
	got, err = out("json", "bytes", "at")
	require.NoError(t, err)
	require.JSONEq(t, `[{"bytes":4000787030016,"at":"2026-11-29T09:00:00Z"}]`, got)
	got, err = out("table", "verdict", "share")
	require.NoError(t, err)
	require.Equal(t, "VERDICT     SHARE\n◆ replace  36.3 %\n", got)
	_, err = out("table", "byts")
	require.Equal(t, ExitUsage, Code(err))
	require.ErrorContains(t, err, `did you mean "bytes"`)
}

// TestFolded: a folded line has the same words, each line fits, and further lines are indented.
func TestFolded(t *testing.T) {
	p := newPrinter(&bytes.Buffer{}, "table")
	p.width = 40
	require.Equal(
		t,
		"  margin    can lose 2 more drives;\n            without this drive: can lose\n            1 more drive",
		p.folded("  margin    can lose 2 more drives; without this drive: can lose 1 more drive"),
	)
	r := rand.New(rand.NewPCG(1, 2))
	for range 2000 {
		line := strings.Repeat(" ", r.IntN(8))
		for range r.IntN(30) {
			line += strings.Repeat("x", 1+r.IntN(12)) + strings.Repeat(" ", 1+r.IntN(12)/11)
		}
		got := p.folded(line)
		require.Equal(t, strings.Fields(line), strings.Fields(got))
		for _, l := range strings.Split(got, "\n") {
			require.LessOrEqual(t, len(strings.TrimRight(l, " ")), p.width, "%q", got)
		}
	}
	p.color = true
	painted := p.folded("  ! Other issues  " + p.paint(strings.Repeat("some words ", 9), loud))
	for _, l := range strings.Split(painted, "\n") {
		require.Equal(t, strings.Count(l, "\x1b[1;"), strings.Count(l, "\x1b[0m"), "each line ends what it begins: %q", l)
	}
	p.copied = &noting{}
	pool := "soundscape"
	p.copied.pool.Store(&pool)
	for _, l := range strings.Split(p.folded(strings.Repeat("some words ", 9)), "\n") {
		require.LessOrEqual(t, len("REHEARSAL | ")+len(l), 40, "the mark of a rehearsal takes space")
	}
	box := "┌" + strings.Repeat("─", 60) + "┐"
	require.Equal(t, box, p.folded(box), "a drawing is not folded")
	require.Equal(t, 1+3+1, rowsOf("a\n"+strings.Repeat("x", 100)+"\nb\n", 40), "a line of 100 takes three rows of 40")
}

// TestTimes: every form of a duration, a moment and a size, and invalid ones.
func TestTimes(t *testing.T) {
	for text, want := range map[string]time.Duration{"90s": 90 * time.Second, "10m": 10 * time.Minute,
		"10min": 10 * time.Minute,
		"1h30m": 90 * time.Minute, "1d": 24 * time.Hour, "2w": 14 * 24 * time.Hour, "1y": 365 * 24 * time.Hour, "0": 0,
		" 1.5h ":   90 * time.Minute,
		"1 d 12 h": 36 * time.Hour, "250ms": 250 * time.Millisecond, "2W": 14 * 24 * time.Hour} {
		d, err := ParseDuration(text)
		require.NoError(t, err, text)
		require.Equal(t, want, d, text)
	}
	for _, text := range []string{"", "soon", "10", "-5m", "5m!", "m", "1e9y", "999999999y", "1d-2h"} {
		_, err := ParseDuration(text)
		require.Error(t, err, text)
	}
	rapid.Check(t, func(t *rapid.T) {
		d := time.Duration(rapid.Int64Range(0, 1e9).Draw(t, "seconds")) * time.Second
		back, err := ParseDuration(DurationText(d))
		require.NoError(t, err)
		require.Equal(t, d, back, "what was written is read back unchanged")
	})
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	now := time.Date(2026, 11, 29, 23, 30, 0, 0, oslo) // a Sunday
	for text, want := range map[string]string{
		"now": "2026-11-29T23:30:00+01:00", "22:00": "2026-11-30T22:00:00+01:00", "23:45": "2026-11-29T23:45:00+01:00",
		"tomorrow 22:00": "2026-11-30T22:00:00+01:00", "Tomorrow": "2026-11-30T00:00:00+01:00",
		"today 08:00":  "2026-11-29T08:00:00+01:00",
		"monday 08:00": "2026-11-30T08:00:00+01:00", "sun 22:00": "2026-12-06T22:00:00+01:00",
		"sunday 23:31": "2026-11-29T23:31:00+01:00",
		"in 2h":        "2026-11-30T01:30:00+01:00", "2026-12-24": "2026-12-24T00:00:00+01:00",
		"2026-12-24 18:00":     "2026-12-24T18:00:00+01:00",
		"2026-12-24T18:00:00Z": "2026-12-24T18:00:00Z",
	} {
		at, err := ParseMoment(text, now)
		require.NoError(t, err, text)
		require.Equal(t, want, at.Format(time.RFC3339), text)
	}
	for _, text := range []string{"", "25:00", "someday", "tomorrow noon", "in a while", "2026-13-01", "mo 08:00"} {
		_, err := ParseMoment(text, now)
		require.Error(t, err, text)
	}
	// Over the change of the clocks a day is not 24 hours.
	spring := time.Date(2026, 3, 28, 12, 0, 0, 0, oslo)
	at, err := ParseMoment("tomorrow 12:00", spring)
	require.NoError(t, err)
	require.Equal(t, 23*time.Hour, at.Sub(spring))
	for text, want := range map[string]int64{"20TB": 20e12, "4TiB": 4 << 40, "4 GB": 4e9, "512": 512} {
		n, err := ParseSize(text)
		require.NoError(t, err)
		require.Equal(t, want, n)
	}
	_, err = ParseSize("large")
	require.Error(t, err)
}

// TestUnwrapped: lines broken by the width of the source are one paragraph again; lists and indented lines stay.
func TestUnwrapped(t *testing.T) {
	long := strings.Repeat("word ", 16)
	for text, want := range map[string]string{
		long + "\nand on.\n\nNew.":       long + " and on.\n\nNew.",
		"The mishaps:\n  one: " + long:   "The mishaps:\n  one: " + long,
		"  " + long + "\nstays":          "  " + long + "\nstays",
		long + "\n  - a list\n  - of it": long + "\n  - a list\n  - of it",
	} {
		require.Equal(t, want, unwrapped(strings.Split(text, "\n")))
	}
}
