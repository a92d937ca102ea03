package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func campaignCommand() *cli.Command {
	list := with(func(ctx context.Context, s *session, _ *cli.Command) error {
		res, err := s.client.ListCampaignsWithResponse(ctx)
		if err != nil {
			return unreachable(err)
		}
		all, err := got(res.JSON200, res, res.Body)
		if err != nil {
			return err
		}
		return list(s, all, "No campaign was planned yet. Begin with: lantern campaign plan <pool>", []string{"CAMPAIGN", "POOL", "STATE", "DONE", "NOW", "LED BY"}, func(c api.Campaign) []cell {
			return []cell{{text: c.Id}, {text: c.Pool, style: bold}, {text: string(c.State)}, {text: changed(c)}, {text: c.Says}, {text: c.Lead}}
		})
	})
	on := func(name, use, eg string, flags []cli.Flag, do func(ctx context.Context, s *session, cmd *cli.Command, name string) (*api.Campaign, worded, []byte, error)) *cli.Command {
		return &cli.Command{Name: name, Usage: use, ArgsUsage: "<pool>", Description: "Example: " + eg, Flags: flags,
			Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
				name, err := one(cmd, "the pool, or the campaign's id")
				if err != nil {
					return err
				}
				v, res, body, err := do(ctx, s, cmd, name)
				if err != nil {
					return unreachable(err)
				}
				c, err := got(v, res, body)
				if err != nil {
					return err
				}
				if done, err := s.out.value(c); done {
					return err
				}
				s.campaign(c)
				return nil
			})}
	}
	reason := []cli.Flag{&cli.StringFlag{Name: "reason", Usage: "why; always asked for"}}
	return &cli.Command{Name: "campaign", Usage: "change a whole pool, drive by drive", Description: "Example: lantern campaign plan tidegauge --size 8TB --grow", Action: list,
		Commands: []*cli.Command{
			{Name: "list", Usage: "all campaigns, the newest first", Description: "Example: lantern campaign list", Action: list},
			{Name: "plan", Usage: "order the swaps; nothing is touched", ArgsUsage: "<pool> [drive...]", Description: "Example: lantern campaign plan tidegauge --size 8TB --grow\n         lantern campaign plan soundscape LM417 LM422",
				Flags: []cli.Flag{&cli.StringFlag{Name: "size", Usage: "the least size of every new drive, such as 8TB"}, &cli.BoolFlag{Name: "grow", Usage: "let the pool use all of the new drives, after the last"}},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					if cmd.Args().Len() < 1 {
						return usage("name a pool\nExample: %s", example(cmd))
					}
					req := api.PlanCampaign{Pool: cmd.Args().First(), Drives: cmd.Args().Slice()[1:], Grow: cmd.Bool("grow")}
					if size := cmd.String("size"); size != "" {
						n, err := humanize.ParseBytes(size)
						if err != nil || n > 1<<60 {
							return usage("--size takes a size such as 8TB, not %q", size)
						}
						req.NeedsBytes = int64(n)
					}
					res, err := s.client.PlanCampaignWithResponse(ctx, nil, req)
					if err != nil {
						return unreachable(err)
					}
					c, err := got(res.JSON201, res, res.Body)
					if err != nil {
						return err
					}
					if done, err := s.out.value(c); done {
						return err
					}
					s.campaign(c)
					return nil
				})},
			on("show", "where a campaign stands", "lantern campaign show tidegauge", nil, func(ctx context.Context, s *session, _ *cli.Command, name string) (*api.Campaign, worded, []byte, error) {
				r, err := s.client.GetCampaignWithResponse(ctx, name)
				if err != nil {
					return nil, nil, nil, err
				}
				return r.JSON200, r, r.Body, nil
			}),
			on("next", "plan the next swap, or, after the last, let the pool grow", "lantern campaign next tidegauge", nil, func(ctx context.Context, s *session, _ *cli.Command, name string) (*api.Campaign, worded, []byte, error) {
				r, err := s.client.NextInCampaignWithResponse(ctx, name, nil, api.Reason{})
				if err != nil {
					return nil, nil, nil, err
				}
				return r.JSON200, r, r.Body, nil
			}),
			on("skip", "leave the next drive out", "lantern campaign skip tidegauge --reason \"it is new\"", reason, func(ctx context.Context, s *session, cmd *cli.Command, name string) (*api.Campaign, worded, []byte, error) {
				r, err := s.client.SkipInCampaignWithResponse(ctx, name, nil, api.Reason{Reason: cmd.String("reason")})
				if err != nil {
					return nil, nil, nil, err
				}
				return r.JSON200, r, r.Body, nil
			}),
			on("abandon", "end a campaign before its end", "lantern campaign abandon tidegauge --reason \"no more drives\"", reason, func(ctx context.Context, s *session, cmd *cli.Command, name string) (*api.Campaign, worded, []byte, error) {
				r, err := s.client.AbandonCampaignWithResponse(ctx, name, nil, api.Reason{Reason: cmd.String("reason")})
				if err != nil {
					return nil, nil, nil, err
				}
				return r.JSON200, r, r.Body, nil
			}),
		}}
}

// changed says how many places are past.
func changed(c api.Campaign) string {
	n := 0
	for _, it := range c.Items {
		if it.State == api.CampaignItemStateDone {
			n++
		}
	}
	return fmt.Sprintf("%d of %d", n, len(c.Items))
}

func (s *session) campaign(c api.Campaign) {
	o := s.out
	o.line("%s  %s  %s", o.paint("campaign in "+c.Pool, bold), changed(c), o.paint("led by "+c.Lead, dim))
	o.line("%s", o.paint(c.Says, bold))
	o.line("")
	marks := map[api.CampaignItemState]string{api.CampaignItemStateDone: "✓", api.CampaignItemStateNow: "▶", api.CampaignItemStateSkipped: "–", api.CampaignItemStateWaiting: " "}
	for _, it := range c.Items {
		to := ""
		if it.NewTail != "" {
			to = " → " + it.NewTail
		}
		o.line("  %s %-10s %-8s %s%s  %s", marks[it.State], it.Group, it.Slot, o.paint(it.Tail, bold), to, o.paint(it.Bay, dim))
	}
	if c.Grow {
		mark := map[bool]string{true: "▶", false: " "}[c.State == api.CampaignStateGrowing]
		if c.State == api.CampaignStateDone {
			mark = "✓"
		}
		o.line("  %s then %s grows", mark, c.Pool)
	}
	switch c.State {
	case api.CampaignStateWaiting:
		o.line("  next: lantern campaign next %s", c.Pool)
	case api.CampaignStateSwapping:
		o.line("  next: lantern swap show")
	case api.CampaignStateGrowing:
		o.line("  next: lantern follow %s", c.Pool)
	}
}

func acceptCommand() *cli.Command {
	list := with(func(ctx context.Context, s *session, _ *cli.Command) error {
		res, err := s.client.ListAcceptancesWithResponse(ctx)
		if err != nil {
			return unreachable(err)
		}
		all, err := got(res.JSON200, res, res.Body)
		if err != nil {
			return err
		}
		return list(s, all, "No new drive was tested yet. Begin with: lantern accept begin <drive>", []string{"DRIVE", "STATE", "AT", "PLACE", "BY", "BEGUN", "SAYS"}, func(a api.Acceptance) []cell {
			return []cell{{text: a.Tail, style: bold}, {text: string(a.State)}, {text: a.Stage}, {text: cmpOr(a.Bay, a.Host)}, {text: a.By}, {text: a.BegunAt.Local().Format("2006-01-02 15:04")}, {text: a.Says}}
		})
	})
	on := func(name, use, eg string, do func(ctx context.Context, s *session, name string) (*api.Acceptance, worded, []byte, error)) *cli.Command {
		return &cli.Command{Name: name, Usage: use, ArgsUsage: "<drive>", Description: "Example: " + eg,
			Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
				name, err := one(cmd, "the drive")
				if err != nil {
					return err
				}
				v, res, body, err := do(ctx, s, name)
				if err != nil {
					return unreachable(err)
				}
				a, err := got(v, res, body)
				if err != nil {
					return err
				}
				if done, err := s.out.value(a); done {
					return err
				}
				s.acceptance(a)
				return nil
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
					res, err := s.client.AcceptDriveWithResponse(ctx, nil, req)
					if err != nil {
						return unreachable(err)
					}
					a, err := got(res.JSON201, res, res.Body)
					if err != nil {
						return err
					}
					if done, err := s.out.value(a); done {
						return err
					}
					s.acceptance(a)
					return nil
				})},
			on("show", "how far it has come", "lantern accept show 7F412", func(ctx context.Context, s *session, name string) (*api.Acceptance, worded, []byte, error) {
				r, err := s.client.GetAcceptanceWithResponse(ctx, name)
				if err != nil {
					return nil, nil, nil, err
				}
				return r.JSON200, r, r.Body, nil
			}),
			on("pause", "let the writing of its surface rest", "lantern accept pause 7F412", func(ctx context.Context, s *session, name string) (*api.Acceptance, worded, []byte, error) {
				r, err := s.client.PauseAcceptanceWithResponse(ctx, name, nil, api.Reason{})
				if err != nil {
					return nil, nil, nil, err
				}
				return r.JSON200, r, r.Body, nil
			}),
			on("resume", "go on from where it was", "lantern accept resume 7F412", func(ctx context.Context, s *session, name string) (*api.Acceptance, worded, []byte, error) {
				r, err := s.client.ResumeAcceptanceWithResponse(ctx, name, nil, api.Reason{})
				if err != nil {
					return nil, nil, nil, err
				}
				return r.JSON200, r, r.Body, nil
			}),
			on("stop", "end it", "lantern accept stop 7F412", func(ctx context.Context, s *session, name string) (*api.Acceptance, worded, []byte, error) {
				r, err := s.client.StopAcceptanceWithResponse(ctx, name, nil, api.Reason{})
				if err != nil {
					return nil, nil, nil, err
				}
				return r.JSON200, r, r.Body, nil
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
		o.line("      %s: %s %5.1f %%  %s/s  %s", map[api.SurfaceReportPass]string{"write": "written", "verify": "read back"}[u.Pass], bar(share, 30), 100*share, decimal(int64(u.RateBytes)), u.Says)
	}
	o.line("")
	s.checks(a.Checks)
	if a.State == api.AcceptanceStatePaused {
		o.line("  next: lantern accept resume %s", a.Tail)
	}
}

func stockCommand() *cli.Command {
	list := with(func(ctx context.Context, s *session, _ *cli.Command) error {
		res, err := s.client.ListStockWithResponse(ctx)
		if err != nil {
			return unreachable(err)
		}
		all, err := got(res.JSON200, res, res.Body)
		if err != nil {
			return err
		}
		return list(s, all, "No drive is kept in stock. Put one into a free bay, and test it: lantern accept begin <drive>", []string{"DRIVE", "MODEL", "SIZE", "PLACE", "TESTED", "FITS", "NOTE"}, func(x api.StockItem) []cell {
			place := cmpOr(x.Place, "on the shelf")
			tested := string(x.Accepted)
			if x.Accepted == api.StockItemAcceptedNone {
				tested = "not yet"
			} else if !x.AcceptedAt.IsZero() {
				tested += " " + x.AcceptedAt.Local().Format(time.DateOnly)
			}
			note := x.Note
			if x.Promised != "" {
				note = strings.TrimSpace("promised to the swap of " + x.Promised + " " + note)
			}
			return []cell{{text: x.Tail, style: bold}, {text: x.Model}, {text: decimal(x.CapacityBytes)}, {text: place}, {text: tested}, {text: cmpOr(strings.Join(x.Fits, ", "), "nowhere")}, {text: note}}
		})
	})
	return &cli.Command{Name: "stock", Usage: "the drives that are kept to replace others", Description: "Example: lantern stock", Action: list,
		Commands: []*cli.Command{
			{Name: "list", Usage: "all of them, where each is, how it was tested, where it fits", Description: "Example: lantern stock list", Action: list},
			{Name: "keep", Usage: "keep a drive in stock", ArgsUsage: "<drive>", Description: "Example: lantern stock keep 7F412 --note \"cupboard, second shelf\"", Flags: []cli.Flag{&cli.StringFlag{Name: "note", Usage: "where it lies, or whatever is to be known of it"}},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					drive, err := one(cmd, "the drive")
					if err != nil {
						return err
					}
					res, err := s.client.KeepInStockWithResponse(ctx, drive, api.KeepStock{Note: cmd.String("note")})
					if err != nil {
						return unreachable(err)
					}
					x, err := got(res.JSON200, res, res.Body)
					if err != nil {
						return err
					}
					if done, err := s.out.value(x); done {
						return err
					}
					s.out.line("%s is kept in stock", x.Tail)
					return nil
				})},
			{Name: "drop", Usage: "take a drive out of the stock", ArgsUsage: "<drive>", Description: "Example: lantern stock drop 7F412",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					drive, err := one(cmd, "the drive")
					if err != nil {
						return err
					}
					res, err := s.client.DropFromStockWithResponse(ctx, drive)
					if err != nil {
						return unreachable(err)
					}
					if res.StatusCode() != 204 {
						return told(res.StatusCode(), res.Body)
					}
					s.out.line("%s is no stock any more", drive)
					return nil
				})},
		}}
}
