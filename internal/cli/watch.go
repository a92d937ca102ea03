package cli

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/urfave/cli/v3"

	"lantern/internal/api"
	"lantern/internal/practice"
)

func watchCommand() *cli.Command {
	return &cli.Command{
		Name:  "watch",
		Usage: "a full-screen view for the control room and the rack: the round, one drive, one swap led by keys",
		Description: "Example: lantern watch\n         lantern watch --pool soundscape\n\n" +
			"Keys: up and down choose, Enter opens, Esc goes back, l lights the bay, s is the swap, f follows what recovers,\n" +
			"? shows all keys, q ends. What must be put back at once stands above all else, and the terminal rings.",
		Flags: []cli.Flag{&cli.StringSliceFlag{Name: "pool", Usage: "only lines of this pool; may be repeated"}},
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			if err := s.knownNames(ctx, cmd); err != nil {
				return err
			}
			in, ok := s.in.(*os.File)
			if !s.out.terminal || !ok || !isTerminal(in) || os.Getenv("TERM") == "dumb" || s.out.format != "table" {
				return usage("lantern watch needs a terminal that can be written over; without one: lantern round --watch 10s")
			}
			ctx, cancel := context.WithCancel(ctx)
			defer cancel()
			m := &watching{
				ctx:    ctx,
				s:      s,
				pools:  cmd.StringSlice("pool"),
				width:  s.out.width,
				height: 24,
				rung:   map[string]bool{},
			}
			colors := colorprofile.ANSI256 // as everywhere here
			if !s.out.color {
				colors = colorprofile.NoTTY
			}
			p := tea.NewProgram(
				m,
				tea.WithContext(ctx),
				tea.WithInput(in),
				tea.WithOutput(os.Stdout),
				tea.WithoutSignalHandler(),
				tea.WithColorProfile(colors),
			)
			happened := make(chan struct{}, 1)
			go s.listen(ctx, happened)
			go func() {
				for {
					select {
					case <-ctx.Done():
						return
					case <-happened:
					case <-time.After(5 * time.Second): // in case the stream was lost, and for the time on the screen
					}
					p.Send(lookAgain{})
					select { // a burst of events is one look
					case <-ctx.Done():
						return
					case <-time.After(300 * time.Millisecond):
					}
				}
			}()
			_, err := p.Run()
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return err
		}),
	}
}

// pane is what fills the screen below the head.
type pane int

const (
	roundPage pane = iota
	drivePage
	swapPage
	followPage
	keysPage
)

// watching is the state of the view: what was heard last, and what is shown of it.
type watching struct {
	ctx           context.Context
	s             *session
	pools         []string // only lines of these; all without any
	width, height int

	round   api.Round
	fleet   []api.Pool
	heardAt time.Time
	trouble error // why nothing newer is known

	pane   pane
	cursor int
	drive  string // key of the drive that is open
	swap   api.Swap
	body   []string
	scroll int
	busy   bool
	// turn counts where the person went; what was asked for before they went on is not shown any more. going is true
	// from then until it is there.
	turn  int
	going bool

	question *question
	typed    string
	note     string
	rung     map[string]bool // alarms for which the terminal rang
}

// question is asked in the last line; then says what is done with the answer.
type question struct {
	text string
	then func(answer string) tea.Cmd
}

type (
	lookAgain struct{}
	heard     struct {
		round api.Round
		fleet []api.Pool
		err   error
	}
	opened struct {
		turn  int
		pane  pane
		drive string
		swap  api.Swap
		body  []string
		err   error
	}
	acted struct {
		says string
		swap api.Swap
		err  error
	}
)

// Init looks for the first time.
func (m *watching) Init() tea.Cmd { return m.look() }

func (m *watching) look() tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, 10*time.Second)
		defer cancel()
		r, err := ask[api.Round](m.s.client.GetRound(ctx))
		if err != nil {
			return heard{err: err}
		}
		fleet, err := ask[[]api.Pool](m.s.client.ListPools(ctx))
		return heard{r, fleet, err}
	}
}

// drawn runs something that prints, and gives back its lines.
func (m *watching) drawn(f func(s *session) error) ([]string, error) {
	var b bytes.Buffer
	p := *m.s.out
	p.w, p.screen, p.terminal, p.width = &b, &b, false, m.room()
	s := *m.s
	s.out = &p
	err := f(&s)
	return strings.Split(strings.TrimRight(b.String(), "\n"), "\n"), err
}

// open goes to a drive, a swap or what recovers.
func (m *watching) open(to pane, drive string) tea.Cmd {
	m.turn++
	m.going = true
	return m.fill(to, drive)
}

// fill gets what a pane shows.
func (m *watching) fill(to pane, drive string) tea.Cmd {
	turn := m.turn
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, 15*time.Second)
		defer cancel()
		v := opened{turn: turn, pane: to, drive: drive}
		v.body, v.err = m.drawn(func(s *session) error {
			switch to {
			case swapPage:
				id, err := s.swapID(ctx, drive)
				if err != nil {
					return err
				}
				if v.swap, err = s.getSwap(ctx, id); err == nil {
					s.swap(v.swap)
				}
				return err
			case followPage:
				return s.standings(ctx)
			case keysPage:
				s.out.line("%s", watchKeys)
				return nil
			}
			d, err := ask[api.Drive](s.client.GetDrive(ctx, drive))
			if err != nil {
				return err
			}
			return s.drive(ctx, d)
		})
		return v
	}
}

// standings draws everything that recovers.
func (s *session) standings(ctx context.Context) error {
	all, err := s.recoveries(ctx, "")
	if err != nil {
		return err
	}
	moving := 0
	for _, r := range all {
		if r.State != api.RecoveryStateRunning && r.State != api.RecoveryStatePaused {
			continue
		}
		p, err := s.getPool(ctx, r.Pool)
		if err != nil {
			return err
		}
		if p.Recovery, err = ask[api.Recovery](s.client.GetRecovery(ctx, r.Id)); err != nil {
			return err
		}
		if moving++; moving > 1 {
			s.out.line("")
		}
		s.standing(p)
	}
	if moving == 0 {
		s.out.line("Nothing moves.")
	}
	return nil
}

const watchKeys = `up, down, k, j     choose a line, or scroll
page up, page down scroll by a screen; home and end: to the ends
Enter              open the drive of the line
Esc, Backspace     go back
f                  everything that recovers
l                  light the bay of the drive for 10 min, or put it out
s                  the swap of the drive; where there is none, plan one
?                  these keys
q, Ctrl-C          end

In a swap:
b                  begin it; a reason and a backup are asked for where checks want them
n                  do what the step is about
c                  confirm the new drive by the tail on its label
h                  hold it; r goes on with it
a                  abandon it`

// Update takes what happened.
func (m *watching) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch v := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = max(20, v.Width), max(6, v.Height)
		return m, m.again()
	case lookAgain:
		return m, tea.Batch(m.look(), m.again())
	case heard:
		if m.trouble = v.err; v.err == nil {
			m.round, m.fleet, m.heardAt = v.round, v.fleet, time.Now()
		}
		m.cursor = max(0, min(m.cursor, len(m.lines())-1))
		return m, m.ring()
	case opened:
		if v.turn != m.turn {
			return m, nil // they went on
		}
		m.busy, m.going = false, false
		if v.err != nil {
			m.note = v.err.Error()
			return m, nil
		}
		if m.pane != v.pane || m.drive != v.drive {
			m.scroll = 0
		}
		m.pane, m.drive, m.swap, m.body = v.pane, v.drive, v.swap, v.body
	case acted:
		m.busy = false
		if m.note = v.says; v.err != nil {
			m.note = v.err.Error()
		}
		if v.swap.Id != "" {
			return m, tea.Batch(m.open(swapPage, v.swap.Id), m.look())
		}
		return m, tea.Batch(m.again(), m.look())
	case tea.KeyPressMsg:
		return m, m.key(v)
	case tea.PasteMsg:
		if m.question != nil {
			m.typed += strings.TrimSpace(v.Content)
		}
	}
	return m, nil
}

// again draws what is open anew.
func (m *watching) again() tea.Cmd {
	switch {
	case m.going || m.pane == roundPage || m.pane == keysPage:
		return nil
	case m.pane == swapPage:
		return m.fill(swapPage, cmp.Or(m.swap.Id, m.drive))
	}
	return m.fill(m.pane, m.drive)
}

// ring rings once for each thing that must be put back.
func (m *watching) ring() tea.Cmd {
	now := map[string]bool{}
	fresh := false
	for _, u := range m.round.Underway {
		if u.Alarm != "" {
			now[u.Alarm] = true
			fresh = fresh || !m.rung[u.Alarm]
		}
	}
	m.rung = now
	if !fresh {
		return nil
	}
	return tea.Raw("\a")
}

// lines are those of the round that are shown.
func (m *watching) lines() []api.RoundLine {
	if len(m.pools) == 0 {
		return m.round.Lines
	}
	return slices.DeleteFunc(
		slices.Clone(m.round.Lines),
		func(l api.RoundLine) bool { return !slices.Contains(m.pools, l.Pool) },
	)
}

// chosen is the drive that keys are about; empty when there is none.
func (m *watching) chosen() string {
	switch {
	case m.pane == drivePage:
		return m.drive
	case m.pane == swapPage:
		return m.swap.Old.Key
	case m.pane == roundPage && m.cursor < len(m.lines()):
		return m.lines()[m.cursor].Drive
	}
	return ""
}

func (m *watching) key(k tea.KeyPressMsg) tea.Cmd {
	if m.question != nil {
		return m.answer(k)
	}
	switch k.String() {
	case "q", "ctrl+c":
		return tea.Quit
	case "up", "k":
		m.move(-1)
	case "down", "j":
		m.move(1)
	case "pgup":
		m.move(-m.space())
	case "pgdown", "space":
		m.move(m.space())
	case "home", "g":
		m.move(-1 << 20)
	case "end", "G":
		m.move(1 << 20)
	case "esc", "backspace", "left":
		m.note, m.scroll, m.going = "", 0, false
		m.turn++
		if m.pane == swapPage && m.swap.Old.Key != "" {
			return m.open(drivePage, m.swap.Old.Key)
		}
		m.pane = roundPage
	case "enter", "right":
		if m.pane == roundPage && m.chosen() != "" {
			return m.open(drivePage, m.chosen())
		}
	case "f":
		return m.open(followPage, "")
	case "?":
		return m.open(keysPage, "")
	case "l":
		return m.light()
	case "s":
		return m.toSwap()
	default:
		if m.pane == swapPage {
			return m.swapKey(k.String())
		}
	}
	return nil
}

func (m *watching) move(by int) {
	if m.pane == roundPage {
		m.cursor = max(0, min(m.cursor+by, len(m.lines())-1))
		return
	}
	m.scroll = max(0, min(m.scroll+by, len(m.body)-m.space()))
}

// do runs something that changes the world, and says what came of it.
func (m *watching) do(f func(ctx context.Context) (says string, w api.Swap, err error)) tea.Cmd {
	m.busy, m.note = true, ""
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, 30*time.Second)
		defer cancel()
		says, w, err := f(ctx)
		return acted{says, w, err}
	}
}

func (m *watching) light() tea.Cmd {
	key := m.chosen()
	if key == "" {
		return nil
	}
	return m.do(func(ctx context.Context) (string, api.Swap, error) {
		lights, err := ask[[]api.Light](m.s.client.ListLights(ctx))
		if err != nil {
			return "", api.Swap{}, err
		}
		d, err := ask[api.Drive](m.s.client.GetDrive(ctx, key))
		if err != nil {
			return "", api.Swap{}, err
		}
		for _, l := range lights {
			if l.Tail == d.Tail && (l.State == api.LightStateAsked || l.State == api.LightStateLit) {
				return "bay " + cmp.Or(l.Bay, "unknown") + ": asked to go dark", api.Swap{}, did(m.s.client.LightOff(ctx, l.Id))
			}
		}
		l, err := ask[api.Light](m.s.client.LightOn(ctx, nil, api.LightOn{Drive: key, Seconds: 600}))
		return fmt.Sprintf(
				"bay %s, %s: asked to be lit until %s",
				cmp.Or(l.Bay, "unknown"),
				d.Tail,
				l.Until.Local().Format("15:04"),
			),
			api.Swap{}, err
	})
}

// toSwap opens the swap of the chosen drive; where none is open, it asks whether one is to be planned.
func (m *watching) toSwap() tea.Cmd {
	key := m.chosen()
	if key == "" || m.pane == swapPage {
		return nil
	}
	return m.do(func(ctx context.Context) (string, api.Swap, error) {
		all, err := ask[[]api.Swap](m.s.client.ListSwaps(ctx, &api.ListSwapsParams{Open: true}))
		if err != nil {
			return "", api.Swap{}, err
		}
		for _, w := range all {
			if w.Old.Key == key || w.New.Key == key {
				return "", w, nil
			}
		}
		w, err := ask[api.Swap](m.s.client.PlanSwap(ctx, nil, api.PlanSwap{Drive: key}))
		return "planned: nothing is touched until b begins it", w, err
	})
}

// ask puts a question into the last line.
func (m *watching) ask(text string, then func(string) tea.Cmd) tea.Cmd {
	m.question, m.typed, m.note = &question{text, then}, "", ""
	return nil
}

func (m *watching) answer(k tea.KeyPressMsg) tea.Cmd {
	switch k.String() {
	case "esc", "ctrl+c":
		m.question, m.note = nil, "nothing was done"
	case "enter":
		q, text := m.question, strings.TrimSpace(m.typed)
		m.question = nil
		return q.then(text)
	case "backspace":
		if r := []rune(m.typed); len(r) > 0 {
			m.typed = string(r[:len(r)-1])
		}
	default:
		m.typed += k.Key().Text
	}
	return nil
}

func (m *watching) swapKey(key string) tea.Cmd {
	w := m.swap
	put := func(f func(ctx context.Context) (api.Swap, error)) tea.Cmd {
		return m.do(func(ctx context.Context) (string, api.Swap, error) {
			after, err := f(ctx)
			return "", after, err
		})
	}
	because := func(text string, f func(ctx context.Context, why api.Reason) (api.Swap, error)) tea.Cmd {
		return m.ask(text, func(answer string) tea.Cmd {
			return put(func(ctx context.Context) (api.Swap, error) { return f(ctx, api.Reason{Reason: answer}) })
		})
	}
	warns := func(checks []api.Check) bool {
		return slices.ContainsFunc(checks, func(c api.Check) bool { return c.Result == api.Warns })
	}
	switch key {
	case "b":
		if w.Phase == api.SwapPhasePlanned {
			return m.begin(api.BeginSwap{})
		}
	case "n":
		next := func(ctx context.Context, why api.Reason) (api.Swap, error) {
			return ask[api.Swap](m.s.client.NextInSwap(ctx, w.Id, nil, why))
		}
		if warns(w.Gate) {
			return because("a check warns; why it goes on", next)
		}
		return put(func(ctx context.Context) (api.Swap, error) { return next(ctx, api.Reason{}) })
	case "c":
		return m.ask("label tail of the drive you put in", func(tail string) tea.Cmd {
			sure := func(reason string) tea.Cmd {
				return put(func(ctx context.Context) (api.Swap, error) {
					return ask[api.Swap](m.s.client.ConfirmSwap(ctx, w.Id, nil, api.ConfirmTail{Tail: tail, Reason: reason}))
				})
			}
			if warns(w.Gate) {
				return m.ask("a check of the new drive warns; why it is used", sure)
			}
			return sure("")
		})
	case "h":
		return because("why it is held", func(ctx context.Context, why api.Reason) (api.Swap, error) {
			return ask[api.Swap](m.s.client.HoldSwap(ctx, w.Id, nil, why))
		})
	case "r":
		return put(func(ctx context.Context) (api.Swap, error) {
			return ask[api.Swap](m.s.client.ResumeSwap(ctx, w.Id, nil, api.Reason{}))
		})
	case "a":
		return because("why it is abandoned", func(ctx context.Context, why api.Reason) (api.Swap, error) {
			return ask[api.Swap](m.s.client.AbandonSwap(ctx, w.Id, nil, why))
		})
	}
	return nil
}

// begin asks for what the checks of a planned swap want, one thing after the other, and then begins it.
func (m *watching) begin(req api.BeginSwap) tea.Cmd {
	w := m.swap
	for _, c := range w.Checks {
		switch {
		case c.Result == api.Stops:
			m.note = "a check stops it: " + c.Title + ": " + c.Found
			return nil
		case c.Id == "backup" && c.Result == api.Warns && req.Backup.IsZero() && !req.NoBackup:
			return m.ask("day of the newest backup that you vouch for, such as 2026-11-22, or none", func(text string) tea.Cmd {
				if text == "none" {
					req.NoBackup = true
					return m.begin(req)
				}
				day, err := time.Parse(time.DateOnly, text)
				if err != nil {
					m.note = fmt.Sprintf("%q is no day, such as 2026-11-22", text)
					return nil
				}
				req.Backup.Time = day
				return m.begin(req)
			})
		case len(c.Loses) > 0 && req.Pool == "":
			return m.ask(
				"volumes will be lost: "+strings.Join(c.Loses, ", ")+". Type the pool's name to agree",
				func(text string) tea.Cmd {
					req.Pool = text
					return m.begin(req)
				},
			)
		case c.Result == api.Warns && req.Reason == "":
			return m.ask("a check warns; why it is begun", func(text string) tea.Cmd {
				if req.Reason = text; text == "" {
					m.note = "without a reason it is not begun"
					return nil
				}
				return m.begin(req)
			})
		}
	}
	return m.do(func(ctx context.Context) (string, api.Swap, error) {
		after, err := ask[api.Swap](m.s.client.BeginSwap(ctx, w.Id, nil, req))
		return "", after, err
	})
}

// room is how wide a line may be: the mark of a practice takes some.
func (m *watching) room() int {
	if m.s.out.practised() != "" {
		return m.width - len([]rune(practice.Mark))
	}
	return m.width
}

// space is how many lines there are between the head and the foot.
func (m *watching) space() int { return max(1, m.height-len(m.head())-2) }

// head is what stands on every page: alarms, how old it all is, and the horizon.
func (m *watching) head() (out []string) {
	o := m.s.out
	for _, u := range m.round.Underway {
		if u.Alarm != "" {
			out = append(out, o.paint(" STOP  "+u.Alarm+" ", invert))
		}
	}
	switch {
	case m.heardAt.IsZero() && m.trouble == nil:
		out = append(out, "asking the service")
	case m.trouble != nil:
		since := "never"
		if !m.heardAt.IsZero() {
			since = "since " + m.heardAt.Format("15:04:05")
		}
		first, _, _ := strings.Cut(m.trouble.Error(), "\n")
		out = append(out, o.paint(fmt.Sprintf("NOT HEARD %s, what is shown is old: %s", since, first), loud))
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

// horizon is every pool in one line, the least margin first: how many members it can lose, and what runs.
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

// View draws it all.
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

// roundBody is the round with the chosen line in sight, and below it what is under way.
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
	if len(m.lines()) == 0 && !m.heardAt.IsZero() {
		switch {
		case m.round.Hosts == 0:
			out = append(out, "No host is enrolled yet, so nothing is known. Begin with: lantern host enrol <name>")
		case m.round.Drives == 0:
			out = append(out, "No drive is known: the hosts report none.")
		case len(m.round.Awaited) > 0:
			out = append(out, "Nothing is known yet of "+strings.Join(m.round.Awaited, ", ")+": no report has come.")
		case !needsHand(m.round):
			out = append(out, "Nothing needs a hand.")
		}
	}
	rest, _ := m.drawn(func(s *session) error {
		r := m.round
		r.Lines, r.Awaited, r.Hosts = nil, nil, max(1, r.Hosts)
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

// foot is the question that is asked, what came of the last key, or the keys.
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
