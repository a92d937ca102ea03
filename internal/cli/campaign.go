package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func campaignCommand() *cli.Command {
	list := listing(func(ctx context.Context, s *session, _ *cli.Command) error {
		all, err := ask[[]api.Campaign](s.client.ListCampaigns(ctx))
		if err != nil {
			return err
		}
		return list(
			s,
			all,
			"No campaign was planned yet. Begin with: lantern campaign plan <pool>",
			[]column{
				col("campaign").spare(1),
				col("pool"),
				col("state"),
				col("done"),
				col("now").fold(20),
				col("led_by").as("LED BY"),
			},
			func(c api.Campaign) []cell {
				return []cell{
					{text: c.Id},
					{text: c.Pool, style: bold},
					{text: string(c.State)},
					{text: changed(c)},
					{text: c.Says},
					{text: c.Lead},
				}
			},
		)
	})
	on := func(name, use, eg string, flags []cli.Flag,
		do func(ctx context.Context, s *session, cmd *cli.Command, name string) (api.Campaign, error)) *cli.Command {
		return &cli.Command{Name: name, Usage: use, ArgsUsage: "<pool>", Description: "Example: " + eg, Flags: flags,
			Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
				name, err := one(cmd, "the pool, or the campaign's id")
				if err != nil {
					return err
				}
				c, err := do(ctx, s, cmd, name)
				return tell(s, s.campaign, c, err)
			})}
	}
	reason := []cli.Flag{&cli.StringFlag{Name: "reason", Usage: "reason (required)"}}
	return &cli.Command{
		Name:        "campaign",
		Usage:       "replace all drives of a pool, one after another",
		Description: "Example: lantern campaign plan soundscape LM417 LM422\n         lantern campaign list",
		Flags:       tableFlags(),
		Action:      list,
		Commands: []*cli.Command{
			{
				Name:        "list",
				Usage:       "list campaigns, newest first",
				Description: "Example: lantern campaign list\n         lantern campaign list -o json",
				Flags:       tableFlags(),
				Action:      list,
			},
			{
				Name:      "plan",
				Usage:     "plan the order of the swaps; nothing is changed",
				ArgsUsage: "<pool> [drive...]",
				Description: "Example: lantern campaign plan soundscape LM417 LM422\n         lantern " +
					"campaign plan logbook --size 8TB --grow",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "size", Usage: "smallest size of the new drives, such as 8TB"},
					&cli.BoolFlag{Name: "grow", Usage: "after the last swap, grow the pool to the full size of the new drives"},
				},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					if cmd.Args().Len() < 1 {
						return usage("name a pool\nExample: %s", example(cmd))
					}
					req := api.PlanCampaign{
						Pool:   cmd.Args().First(),
						Drives: cmd.Args().Slice()[1:],
						Grow:   cmd.Bool("grow"),
					}
					if size := cmd.String("size"); size != "" {
						n, err := ParseSize(size)
						if err != nil || n > 1<<60 {
							return usage("--size takes a size such as 8TB, not %q", size)
						}
						req.NeedsBytes = n
					}
					c, err := ask[api.Campaign](s.client.PlanCampaign(ctx, nil, req))
					return tell(s, s.campaign, c, err)
				}),
			},
			on(
				"show",
				"show a campaign",
				"lantern campaign show soundscape\n         lantern campaign show soundscape -o json",
				nil,
				func(ctx context.Context, s *session, _ *cli.Command, name string) (api.Campaign, error) {
					return ask[api.Campaign](s.client.GetCampaign(ctx, name))
				},
			),
			on(
				"next",
				"plan the next swap, or, after the last, grow the pool",
				"lantern campaign next soundscape\n         lantern campaign next soundscape -o json",
				nil,
				func(ctx context.Context, s *session, _ *cli.Command, name string) (api.Campaign, error) {
					return ask[api.Campaign](s.client.NextInCampaign(ctx, name, nil, api.Reason{}))
				},
			),
			on(
				"skip",
				"skip the next drive",
				"lantern campaign skip soundscape --reason \"replaced last week\"\n"+
					"         lantern campaign skip soundscape --reason \"its bay is blocked\"",
				reason,
				func(ctx context.Context, s *session, cmd *cli.Command, name string) (api.Campaign, error) {
					return ask[api.Campaign](
						s.client.SkipInCampaign(ctx, name, nil, api.Reason{Reason: cmd.String("reason")}),
					)
				},
			),
			on(
				"abandon",
				"end a campaign early",
				"lantern campaign abandon soundscape --reason \"no more drives\"\n"+
					"         lantern campaign abandon logbook --reason \"planned for another day\"",
				reason,
				func(ctx context.Context, s *session, cmd *cli.Command, name string) (api.Campaign, error) {
					return ask[api.Campaign](
						s.client.AbandonCampaign(ctx, name, nil, api.Reason{Reason: cmd.String("reason")}),
					)
				},
			),
		},
	}
}

// changed counts the places that are done.
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
	marks := map[api.CampaignItemState]string{
		api.CampaignItemStateDone:    "✓",
		api.CampaignItemStateNow:     "▶",
		api.CampaignItemStateSkipped: "–",
		api.CampaignItemStateWaiting: " ",
	}
	for _, it := range c.Items {
		to := ""
		if it.NewTail != "" {
			to = " → " + it.NewTail
		}
		o.line(
			"  %s %-10s %-8s %s%s  %s",
			marks[it.State],
			it.Group,
			it.Slot,
			o.paint(it.Tail, bold),
			to,
			o.paint(it.Bay, dim),
		)
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
