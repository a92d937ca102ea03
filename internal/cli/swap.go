package cli

import (
	"bufio"
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func swapCommand() *cli.Command {
	list := with(func(ctx context.Context, s *session, cmd *cli.Command) error {
		res, err := s.client.ListSwapsWithResponse(ctx, &api.ListSwapsParams{})
		if err != nil {
			return unreachable(err)
		}
		all, err := got(res.JSON200, res, res.Body)
		if err != nil {
			return err
		}
		return list(s, all, "No swap was planned yet. Begin with: lantern swap plan <drive>", []string{"SWAP", "AT", "POOL", "OLD", "NEW", "LED BY", "PLANNED"}, func(w api.Swap) []cell {
			return []cell{{text: w.Id}, {text: string(w.Phase), style: bold}, {text: w.Pool}, {text: w.Old.Tail}, {text: w.New.Tail}, {text: w.Lead}, {text: w.PlannedAt.Local().Format("2006-01-02 15:04")}}
		})
	})
	reason := []cli.Flag{&cli.StringFlag{Name: "reason", Usage: "why; asked for when a check warns"}}
	act := func(name, use, eg string, flags []cli.Flag, do func(ctx context.Context, s *session, cmd *cli.Command, id string) (api.Swap, error)) *cli.Command {
		return &cli.Command{Name: name, Usage: use, ArgsUsage: "<swap>", Description: "Example: " + eg, Flags: flags,
			Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
				id := ""
				if cmd.Args().Len() > 1 {
					return usage("%s takes one swap\nExample: %s", cmd.FullName(), eg)
				}
				id, err := s.swapID(ctx, cmd.Args().First())
				if err != nil {
					return err
				}
				w, err := do(ctx, s, cmd, id)
				if err != nil {
					return err
				}
				if done, err := s.out.value(w); done {
					return err
				}
				s.swap(w)
				return nil
			})}
	}
	return &cli.Command{Name: "swap", Usage: "replace a drive, step by step", Description: "Example: lantern swap plan 7F412", Action: list,
		Commands: []*cli.Command{
			{Name: "list", Usage: "all swaps, the newest first", Description: "Example: lantern swap list", Action: list},
			{Name: "plan", Usage: "look before anything is touched", ArgsUsage: "<drive>", Description: "Example: lantern swap plan 7F412",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					drive, err := one(cmd, "the drive to replace")
					if err != nil {
						return err
					}
					res, err := s.client.PlanSwapWithResponse(ctx, nil, api.PlanSwap{Drive: drive})
					if err != nil {
						return unreachable(err)
					}
					w, err := got(res.JSON201, res, res.Body)
					if err != nil {
						return err
					}
					if done, err := s.out.value(w); done {
						return err
					}
					s.swap(w)
					return nil
				})},
			act("show", "where a swap stands", "lantern swap show", nil, func(ctx context.Context, s *session, _ *cli.Command, id string) (api.Swap, error) {
				return s.getSwap(ctx, id)
			}),
			act("begin", "start a planned swap", "lantern swap begin --reason \"backup of last night\"", reason, func(ctx context.Context, s *session, cmd *cli.Command, id string) (api.Swap, error) {
				res, err := s.client.BeginSwapWithResponse(ctx, id, nil, api.Reason{Reason: cmd.String("reason")})
				if err != nil {
					return api.Swap{}, unreachable(err)
				}
				return got(res.JSON200, res, res.Body)
			}),
			act("confirm", "confirm the new drive by its label tail", "lantern swap confirm --tail 7F412", []cli.Flag{&cli.StringFlag{Name: "tail", Usage: "as read on the label; asked for when not given"}},
				func(ctx context.Context, s *session, cmd *cli.Command, id string) (api.Swap, error) {
					tail := cmd.String("tail")
					if tail == "" {
						fmt.Fprint(s.errOut, "label tail of the drive you put in: ")
						end := s.guard(ctx)
						line, err := bufio.NewReader(s.in).ReadString('\n')
						end()
						if tail = strings.TrimSpace(line); tail == "" {
							if err != nil {
								return api.Swap{}, usage("no label tail was typed; give it with --tail")
							}
							return api.Swap{}, usage("no label tail was typed")
						}
					}
					res, err := s.client.ConfirmSwapWithResponse(ctx, id, nil, api.ConfirmTail{Tail: tail})
					if err != nil {
						return api.Swap{}, unreachable(err)
					}
					return got(res.JSON200, res, res.Body)
				}),
			act("abandon", "end a swap before its end, and be told what is owed", "lantern swap abandon --reason \"no spare at hand\"", reason, func(ctx context.Context, s *session, cmd *cli.Command, id string) (api.Swap, error) {
				res, err := s.client.AbandonSwapWithResponse(ctx, id, nil, api.Reason{Reason: cmd.String("reason")})
				if err != nil {
					return api.Swap{}, unreachable(err)
				}
				return got(res.JSON200, res, res.Body)
			}),
		}}
}

func (s *session) getSwap(ctx context.Context, id string) (api.Swap, error) {
	res, err := s.client.GetSwapWithResponse(ctx, id)
	if err != nil {
		return api.Swap{}, unreachable(err)
	}
	return got(res.JSON200, res, res.Body)
}

// swapID finds a swap by its id, the label tail of its old drive, or, with no name, the only one that is open.
func (s *session) swapID(ctx context.Context, name string) (string, error) {
	res, err := s.client.ListSwapsWithResponse(ctx, &api.ListSwapsParams{Open: name == ""})
	if err != nil {
		return "", unreachable(err)
	}
	all, err := got(res.JSON200, res, res.Body)
	if err != nil {
		return "", err
	}
	var fits []api.Swap
	for _, w := range all {
		if name == "" || w.Id == name || strings.EqualFold(w.Old.Tail, name) {
			fits = append(fits, w)
		}
	}
	switch {
	case len(fits) == 1 || len(fits) > 1 && name != "":
		return fits[0].Id, nil
	case len(fits) == 0 && name == "":
		return "", &Failure{ExitFailed, "No swap is open. Begin with: lantern swap plan <drive>"}
	case len(fits) == 0:
		return "", &Failure{ExitFailed, fmt.Sprintf("There is no swap %q. List them with: lantern swap list", name)}
	}
	return "", usage("%d swaps are open; say which: lantern swap list", len(fits))
}

var checkMarks = map[api.CheckResult]struct {
	mark  string
	style style
}{api.Passes: {"✓", good}, api.Warns: {"!", quiet}, api.Stops: {"✗", loud}}

func (s *session) checks(in []api.Check) {
	for _, c := range in {
		m := checkMarks[c.Result]
		do := ""
		if c.Do != "" {
			do = "  " + s.out.paint("→ "+c.Do, m.style)
		}
		s.out.line("  %s %-34s %s%s", s.out.paint(m.mark, m.style), c.Title, c.Found, do)
		s.out.line("    %s", s.out.paint("looked at: "+c.Looked, dim))
	}
}

// swap shows where a swap stands: an alarm before all else, then the step that is now.
func (s *session) swap(w api.Swap) {
	o := s.out
	o.line("%s  %s slot %s  %s", o.paint("swap "+w.Id, bold), w.Pool, w.Slot, o.paint("led by "+w.Lead, dim))
	from := cmpOr(w.Old.Bay, "no known bay")
	o.line("old  %s  %s  %s", o.paint(w.Old.Tail, bold), w.Old.Model, from)
	switch {
	case w.Phase == api.SwapPhaseConfirm:
		o.line("new  %s  %s  %s", o.paint("read its label", bold), w.New.Model, w.New.Bay)
	case w.New.Tail != "":
		o.line("new  %s  %s  %s", o.paint(w.New.Tail, bold), w.New.Model, w.New.Bay)
	}
	for _, x := range w.Wrong {
		o.line("")
		o.line("%s", o.paint(" STOP  "+x.Says+" ", loud))
	}
	if w.Refused != "" {
		o.line("%s", o.paint("refused: "+strings.TrimSpace(w.RefusedTail+" "+w.Refused), loud))
	}
	o.line("")
	if w.Phase == api.SwapPhasePlanned {
		s.checks(w.Checks)
		o.line("")
	}
	for _, st := range w.Steps {
		switch st.State {
		case api.Past:
			o.line("  %s %s", o.paint("✓", good), o.paint(st.Title, dim))
		case api.Now:
			o.line("  %s %s", o.paint("▶", loud), o.paint(st.Title, bold))
			o.line("      %s", st.What)
			o.line("      %s", o.paint("why: "+st.Why, dim))
			o.line("      %s", o.paint("you should see: "+st.Expect, dim))
		default:
			o.line("    %s", o.paint(st.Title, dim))
		}
	}
	if w.Recovery.Id != "" && w.Open {
		s.recoveryLine(w.Recovery, w.Recovery.SeenAt)
	}
	if len(w.Closing) > 0 {
		o.line("")
		s.checks(w.Closing)
	}
	if !w.Open {
		o.line("")
		o.line("  %s", w.Log[len(w.Log)-1].Says)
	}
	switch w.Phase {
	case api.SwapPhasePlanned:
		o.line("  next: lantern swap begin")
	case api.SwapPhaseConfirm:
		o.line("  next: lantern swap confirm --tail <label tail>")
	case api.SwapPhaseRecover, api.SwapPhaseJoin:
		o.line("  next: lantern follow %s", w.Pool)
	}
}

func (s *session) recoveryLine(r api.Recovery, now time.Time) {
	s.out.line("      %s %5.1f %%  %s/s  %s", bar(r.Share, 30), 100*r.Share, decimal(int64(r.RateNow)), finish(now, r.Finish))
}
