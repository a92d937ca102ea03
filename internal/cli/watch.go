package cli

import (
	"bytes"
	"cmp"
	"context"
	"os"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func watchCommand() *cli.Command {
	return &cli.Command{
		Name:  "watch",
		Usage: "a full-screen view for the control room and the rack: the round, one drive, one swap led by keys",
		Description: "Example: lantern watch\n         lantern watch --pool soundscape\n\n" +
			"Keys: up and down choose, Enter opens, Esc goes back, l lights the bay, s is the swap, f follows what recovers,\n" +
			"? shows all keys, q ends. A drive that must be put back at once is shown at the top, and the terminal rings.",
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
			colors := colorprofile.ANSI256 // the same in all commands
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
					case <-time.After(5 * time.Second): // the stream may be lost, and the time on the screen must advance
					}
					p.Send(lookAgain{})
					select { // a burst of events causes one update
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

// pane is what the screen shows below the head.
type pane int

const (
	roundPage pane = iota
	drivePage
	swapPage
	followPage
	keysPage
)

// watching is the state of the view: the newest data of the service, and what is shown of it.
type watching struct {
	ctx           context.Context
	s             *session
	pools         []string // verdicts whose lines are shown; empty for all
	width, height int

	round      api.Round
	fleet      []api.Pool
	receivedAt time.Time
	trouble    error // why there is no newer data

	pane   pane
	cursor int
	drive  string // key of the drive that is shown
	swap   api.Swap
	body   []string
	scroll int
	busy   bool
	// turn counts the person's moves: answers to earlier requests are not shown. going is true until the answer is
	// there.
	turn  int
	going bool

	question *question
	typed    string
	note     string
	rung     map[string]bool // alarms for which the bell was rung
}

// question is asked in the last line; then handles the answer.
type question struct {
	text string
	then func(answer string) tea.Cmd
}

type (
	lookAgain struct{}
	received  struct {
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

// Init starts the first update.
func (m *watching) Init() tea.Cmd { return m.look() }

func (m *watching) look() tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, 10*time.Second)
		defer cancel()
		r, err := ask[api.Round](m.s.client.GetRound(ctx))
		if err != nil {
			return received{err: err}
		}
		fleet, err := ask[[]api.Pool](m.s.client.ListPools(ctx, &api.ListPoolsParams{Brief: true}))
		return received{r, fleet, err}
	}
}

// drawn runs a function that prints, and returns its lines.
func (m *watching) drawn(f func(s *session) error) ([]string, error) {
	var b bytes.Buffer
	p := *m.s.out
	p.w, p.screen, p.terminal, p.width = &b, &b, false, m.room()
	s := *m.s
	s.out = &p
	err := f(&s)
	return strings.Split(strings.TrimRight(b.String(), "\n"), "\n"), err
}

// open shows a drive, a swap or the recoveries.
func (m *watching) open(to pane, drive string) tea.Cmd {
	m.turn++
	m.going = true
	return m.fill(to, drive)
}

// fill gets the content of a pane.
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

// standings draws all recoveries.
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

// Update handles a message.
func (m *watching) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch v := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = max(20, v.Width), max(6, v.Height)
		return m, m.again()
	case lookAgain:
		return m, tea.Batch(m.look(), m.again())
	case received:
		if m.trouble = v.err; v.err == nil {
			m.round, m.fleet, m.receivedAt = v.round, v.fleet, time.Now()
		}
		m.cursor = max(0, min(m.cursor, len(m.lines())-1))
		return m, m.ring()
	case opened:
		if v.turn != m.turn {
			return m, nil // the person moved on
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

// again draws the present pane again.
func (m *watching) again() tea.Cmd {
	switch {
	case m.going || m.pane == roundPage || m.pane == keysPage:
		return nil
	case m.pane == swapPage:
		return m.fill(swapPage, cmp.Or(m.swap.Id, m.drive))
	}
	return m.fill(m.pane, m.drive)
}

// ring rings the bell once for each alarm.
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

// lines are the shown lines of the round.
func (m *watching) lines() []api.RoundLine {
	if len(m.pools) == 0 {
		return m.round.Lines
	}
	return slices.DeleteFunc(
		slices.Clone(m.round.Lines),
		func(l api.RoundLine) bool { return !slices.Contains(m.pools, l.Pool) },
	)
}

// chosen is the drive to which keys apply; empty if there is none.
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

// do runs an action and shows its result.
func (m *watching) do(f func(ctx context.Context) (says string, w api.Swap, err error)) tea.Cmd {
	m.busy, m.note = true, ""
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, 30*time.Second)
		defer cancel()
		says, w, err := f(ctx)
		return acted{says, w, err}
	}
}
