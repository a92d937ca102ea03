package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"lantern/internal/api"
)

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
				return "bay " + cmp.Or(l.Bay, "unknown") + ": asked to switch off", api.Swap{}, did(m.s.client.LightOff(ctx, l.Id))
			}
		}
		l, err := ask[api.Light](m.s.client.LightOn(ctx, nil, api.LightOn{Drive: key, Seconds: 600}))
		return fmt.Sprintf(
				"bay %s, %s: light ordered until %s",
				cmp.Or(l.Bay, "unknown"),
				d.Tail,
				l.Until.Local().Format("15:04"),
			),
			api.Swap{}, err
	})
}

// toSwap opens the swap of the chosen drive; if there is none, it asks whether to plan one.
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

// ask shows a question in the last line.
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
			return because("a check warns; give a reason to continue", next)
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
				return m.ask("a check of the new drive warns; give a reason to use it", sure)
			}
			return sure("")
		})
	case "h":
		return because("reason for the hold", func(ctx context.Context, why api.Reason) (api.Swap, error) {
			return ask[api.Swap](m.s.client.HoldSwap(ctx, w.Id, nil, why))
		})
	case "r":
		return put(func(ctx context.Context) (api.Swap, error) {
			return ask[api.Swap](m.s.client.ResumeSwap(ctx, w.Id, nil, api.Reason{}))
		})
	case "a":
		return because("reason to abandon it", func(ctx context.Context, why api.Reason) (api.Swap, error) {
			return ask[api.Swap](m.s.client.AbandonSwap(ctx, w.Id, nil, why))
		})
	}
	return nil
}

// begin asks for everything that the checks of a planned swap need, one after the other, and then begins it.
func (m *watching) begin(req api.BeginSwap) tea.Cmd {
	w := m.swap
	for _, c := range w.Checks {
		switch {
		case c.Result == api.Stops:
			m.note = "a check stops it: " + c.Title + ": " + c.Found
			return nil
		case c.Id == "backup" && c.Result == api.Warns && req.Backup.IsZero() && !req.NoBackup:
			return m.ask(
				"day of the newest backup that you are sure of, such as 2026-11-22, or none",
				func(text string) tea.Cmd {
					if text == "none" {
						req.NoBackup = true
						return m.begin(req)
					}
					day, err := time.Parse(time.DateOnly, text)
					if err != nil {
						m.note = fmt.Sprintf("%q is not a day, such as 2026-11-22", text)
						return nil
					}
					req.Backup.Time = day
					return m.begin(req)
				},
			)
		case len(c.Loses) > 0 && req.Pool == "":
			return m.ask(
				"volumes will be lost: "+strings.Join(c.Loses, ", ")+". Type the pool's name to confirm",
				func(text string) tea.Cmd {
					req.Pool = text
					return m.begin(req)
				},
			)
		case c.Result == api.Warns && req.Reason == "":
			return m.ask("a check warns; give a reason to begin", func(text string) tea.Cmd {
				if req.Reason = text; text == "" {
					m.note = "without a reason it does not begin"
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
