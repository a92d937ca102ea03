package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func acceptCommand() *cli.Command {
	list := with(func(ctx context.Context, s *session, _ *cli.Command) error {
		all, err := ask[[]api.Acceptance](s.client.ListAcceptances(ctx))
		if err != nil {
			return err
		}
		return list(s, all, "No new drive was tested yet. Begin with: lantern accept begin <drive>", []string{"DRIVE", "STATE", "AT", "PLACE", "BY", "BEGUN", "SAYS"}, func(a api.Acceptance) []cell {
			return []cell{{text: a.Tail, style: bold}, {text: string(a.State)}, {text: a.Stage}, {text: cmpOr(a.Bay, a.Host)}, {text: a.By}, {text: a.BegunAt.Local().Format("2006-01-02 15:04")}, {text: a.Says}}
		})
	})
	on := func(name, use, eg string, do func(ctx context.Context, s *session, name string) (api.Acceptance, error)) *cli.Command {
		return &cli.Command{Name: name, Usage: use, ArgsUsage: "<drive>", Description: "Example: " + eg,
			Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
				name, err := one(cmd, "the drive")
				if err != nil {
					return err
				}
				a, err := do(ctx, s, name)
				return tell(s, s.acceptance, a, err)
			})}
	}
	return &cli.Command{Name: "accept", Usage: "test a new drive before it is trusted with data", Description: "Example: lantern accept begin 7F412 --surface --extended", Action: list,
		Commands: []*cli.Command{
			{Name: "list", Usage: "all tests of new drives, the newest first", Description: "Example: lantern accept list", Action: list},
			{Name: "begin", Usage: "look at its past and run its short self-test; with --surface, write and read back all of it", ArgsUsage: "<drive>", Description: "Example: lantern accept begin 7F412\n         lantern accept begin 7F412 --surface --extended --rate 100MB --tail 7F412",
				Flags: []cli.Flag{
					&cli.BoolFlag{Name: "surface", Usage: "write the whole surface with patterns and read it back; whatever is on it is gone"},
					&cli.BoolFlag{Name: "extended", Usage: "run its extended self-test"},
					&cli.StringFlag{Name: "rate", Usage: "write and read this much a second at the most, such as 100MB"},
					&cli.StringFlag{Name: "tail", Usage: "as read on the label; asked for with --surface when not given"}},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					drive, err := one(cmd, "the drive")
					if err != nil {
						return err
					}
					req := api.AcceptDrive{Drive: drive, Surface: cmd.Bool("surface"), Extended: cmd.Bool("extended")}
					if rate := cmd.String("rate"); rate != "" {
						n, err := humanize.ParseBytes(strings.TrimSuffix(rate, "/s"))
						if err != nil || n == 0 || n > 1<<50 {
							return usage("--rate takes a size such as 100MB, not %q", rate)
						}
						req.RateBytes = int64(n)
					}
					if req.Surface {
						if req.Tail, err = s.typed(ctx, cmd.String("tail"), "its whole surface is written; type the label tail of the drive", "label tail", "--tail"); err != nil {
							return err
						}
					}
					a, err := ask[api.Acceptance](s.client.AcceptDrive(ctx, nil, req))
					return tell(s, s.acceptance, a, err)
				})},
			on("show", "how far it has come", "lantern accept show 7F412", func(ctx context.Context, s *session, name string) (api.Acceptance, error) {
				return ask[api.Acceptance](s.client.GetAcceptance(ctx, name))
			}),
			on("pause", "let the writing of its surface rest", "lantern accept pause 7F412", func(ctx context.Context, s *session, name string) (api.Acceptance, error) {
				return ask[api.Acceptance](s.client.PauseAcceptance(ctx, name, nil, api.Reason{}))
			}),
			on("resume", "go on from where it was", "lantern accept resume 7F412", func(ctx context.Context, s *session, name string) (api.Acceptance, error) {
				return ask[api.Acceptance](s.client.ResumeAcceptance(ctx, name, nil, api.Reason{}))
			}),
			on("stop", "end it", "lantern accept stop 7F412", func(ctx context.Context, s *session, name string) (api.Acceptance, error) {
				return ask[api.Acceptance](s.client.StopAcceptance(ctx, name, nil, api.Reason{}))
			}),
		}}
}

func (s *session) acceptance(a api.Acceptance) {
	o := s.out
	o.line("%s  %s  %s", o.paint("test of "+a.Tail, bold), a.Model, cmpOr(a.Bay, a.Host))
	style := bold
	if a.State == api.AcceptanceStateFailed {
		style = loud
	}
	o.line("%s  %s", o.paint(string(a.State), style), a.Says)
	o.line("")
	now := -1
	for i, st := range a.Stages {
		if st == a.Stage {
			now = i
		}
	}
	words := map[string]string{"fresh": "what it says of its past", "short": "short self-test", "surface": "write and read back its whole surface", "extended": "extended self-test", "compare": "what it counted meanwhile"}
	for i, st := range a.Stages {
		mark := " "
		switch {
		case i < now || a.State == api.AcceptanceStatePassed:
			mark = o.paint("✓", good)
		case i == now:
			mark = o.paint("▶", loud)
		}
		o.line("  %s %s", mark, words[st])
	}
	if u := a.Surface; u.SizeBytes > 0 {
		share := float64(u.DoneBytes) / float64(u.SizeBytes)
		rate := "no rate can be told yet"
		if u.RateBytes > 0 {
			rate = decimal(int64(u.RateBytes)) + "/s"
		}
		if !a.Soonest.IsZero() {
			rate += fmt.Sprintf("  both passes done in %s to %s (%s at the soonest)", span(a.Soonest.Sub(a.SeenAt)), span(a.Latest.Sub(a.SeenAt)), a.Soonest.Local().Format("Mon 15:04"))
		}
		o.line("      %s: %s %5.1f %%  %s  %s", map[api.SurfaceReportPass]string{"write": "written", "verify": "read back"}[u.Pass], bar(share, 30), 100*share, rate, u.Says)
	}
	o.line("")
	s.checks(a.Checks)
	if a.State == api.AcceptanceStatePaused {
		o.line("  next: lantern accept resume %s", a.Tail)
	}
}
