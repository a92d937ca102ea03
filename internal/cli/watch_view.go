package cli

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"lantern/internal/practice"
)

// room is the width of a line, without the mark of a rehearsal.
func (m *watching) room() int {
	if m.s.out.practised() != "" {
		return m.width - len([]rune(practice.Mark))
	}
	return m.width
}

// space is the number of lines between the head and the foot.
func (m *watching) space() int { return max(1, m.height-len(m.head())-2) }

// head is on every page: alarms, the age of the data, and the horizon.
func (m *watching) head() (out []string) {
	o := m.s.out
	for _, u := range m.round.Underway {
		if u.Alarm != "" {
			out = append(out, o.paint(" STOP  "+u.Alarm+" ", invert))
		}
	}
	switch {
	case m.receivedAt.IsZero() && m.trouble == nil:
		out = append(out, "asking the service")
	case m.trouble != nil:
		since := "never"
		if !m.receivedAt.IsZero() {
			since = "since " + m.receivedAt.Format("15:04:05")
		}
		first, _, _ := strings.Cut(m.trouble.Error(), "\n")
		out = append(out, o.paint(fmt.Sprintf("NO ANSWER %s, what is shown is old: %s", since, first), loud))
	default:
		what := plural(len(m.lines()), "line") + " in the round"
		if len(m.lines()) == 0 && !needsHand(m.round) {
			what = "nothing needs a hand"
		}
		out = append(
			out,
			fmt.Sprintf("%s  %s, as of %s", o.paint("Brave Lantern", bold), what, m.round.At.Local().Format("15:04:05")),
		)
	}
	return append(out, m.horizon())
}

// levels are the heights of a pool's margin: none, one, two and more members that it can lose.
var levels = []string{"▁", "▄", "█"}

// horizon shows every pool in one line, the least margin first: how many members it can lose, and its recovery.
func (m *watching) horizon() string {
	o := m.s.out
	var out []string
	for _, p := range m.fleet {
		text, st := p.Name+" ", plain
		if c := marginCell(p); c.raw == "" {
			text, st = text+"◌ unknown", loud
		} else {
			text += fmt.Sprintf("%s %d", levels[min(p.Margin.Members, len(levels)-1)], p.Margin.Members)
			if p.Margin.Members < p.FullMargin {
				st = loud
			}
		}
		if run := moving(p); run != "" {
			text += " " + run
		}
		out = append(out, o.paint(text, st))
	}
	return o.paint("can lose  ", dim) + strings.Join(out, o.paint(" · ", dim))
}

// View draws the screen.
func (m *watching) View() tea.View {
	o := m.s.out
	head := m.head()
	space := m.space()
	var body []string
	if m.pane == roundPage {
		body = m.roundBody(space)
	} else {
		to := min(len(m.body), m.scroll+space)
		body = slices.Clone(m.body[min(m.scroll, to):to])
	}
	for len(body) < space {
		body = append(body, "")
	}
	all := append(append(head, o.paint(strings.Repeat("─", m.room()), dim)), body...)
	all = append(all, m.foot())
	for i, l := range all {
		l = ansi.Truncate(l, m.room(), "…")
		if o.practised() != "" {
			l = practice.Lines(l)
		}
		all[i] = l
	}
	text := strings.Join(all, "\n")
	if !unicode(true) {
		var b bytes.Buffer
		_, _ = asciiWriter{&b}.Write([]byte(text))
		text = b.String()
	}
	v := tea.NewView(text)
	v.AltScreen = true
	v.WindowTitle = "Brave Lantern"
	return v
}

// roundBody is the round with the chosen line visible, and below it the recoveries and swaps.
func (m *watching) roundBody(space int) (out []string) {
	o := m.s.out
	at := 0
	for i, l := range m.lines() {
		mk, st := mark(l.Verdict)
		pointer := "  "
		if i == m.cursor {
			pointer, at = o.paint("▶ ", bold), len(out)
		}
		out = append(out, fmt.Sprintf("%s%s  %s  %s  %s", pointer, o.paint(mk+" "+fmt.Sprintf("%-7s", l.Verdict), st),
			o.paint(fmt.Sprintf("%-18s", cmp.Or(l.Bay, l.Host)), bold), o.paint(l.Tail, bold), l.Says))
		if i == m.cursor {
			if l.Pool != "" {
				out = append(out, fmt.Sprintf("      %s: %s; without this drive: %s", l.Pool, l.Margin.Words, without(l)))
			}
			do := l.Do
			if l.Swap != "" {
				do = "A swap is open: s shows it."
			}
			out = append(out, o.paint("      → "+do, st))
		}
	}
	if len(m.lines()) == 0 && !m.receivedAt.IsZero() {
		switch {
		case m.round.Hosts == 0:
			out = append(out, "No host is enrolled yet, so nothing is known. Begin with: lantern host enrol <name>")
		case m.round.Drives == 0:
			out = append(out, "No drive is known: the hosts report none.")
		case len(m.round.Awaited) > 0:
			out = append(out, "No data yet of "+strings.Join(m.round.Awaited, ", ")+": no report has come.")
		case !needsHand(m.round):
			out = append(out, "Nothing needs a hand.")
		}
	}
	rest, _ := m.drawn(func(s *session) error {
		r := m.round
		r.Lines, r.Awaited, r.Hosts = nil, nil, max(1, r.Hosts)
		s.silent(r)
		s.roundRest(r)
		return nil
	})
	if len(rest) > 1 || rest[0] != "" {
		out = append(append(out, ""), rest...)
	}
	from := 0
	if at+3 > space {
		from = at + 3 - space
	}
	return out[from:min(len(out), from+space)]
}

// foot is a question, the result of the last key, or the list of keys.
func (m *watching) foot() string {
	o := m.s.out
	switch {
	case m.question != nil:
		return o.paint(m.question.text+": ", bold) + m.typed + "▁"
	case m.busy:
		return o.paint("asking the service", dim)
	case m.note != "":
		first, _, _ := strings.Cut(m.note, "\n")
		return o.paint(first, bold)
	}
	keys := map[pane]string{
		roundPage: "↑↓ choose  Enter open  s swap  l light  f recoveries  ? keys  q end",
		drivePage: "↑↓ scroll  s swap  l light  Esc back  ? keys  q end",
		swapPage:  "b begin  n next  c confirm  h hold  r go on  a abandon  l light  Esc back  q end",
	}
	return o.paint(cmp.Or(keys[m.pane], "↑↓ scroll  Esc back  q end"), dim)
}
