package cli

import (
	"cmp"
	"context"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func priorityCommand() *cli.Command {
	return &cli.Command{
		Name:      "priority",
		Usage:     "set the priority of a pool's recoveries: low, normal or high, at once or by the hour",
		ArgsUsage: "<pool> <low|normal|high>",
		Description: "Example: lantern priority tidegauge high\n         lantern priority tidegauge high --from " +
			"22:00 --to 06:00 --otherwise low --zone Europe/Berlin\n         lantern priority tidegauge --no-hours",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "from", Usage: "only from this time of day"},
			&cli.StringFlag{Name: "to", Usage: "until this time of day"},
			&cli.StringFlag{Name: "zone", Usage: "time zone of these times; default UTC"},
			&cli.StringFlag{
				Name:  "otherwise",
				Value: "normal",
				Usage: "priority outside these hours",
			},
			&cli.BoolFlag{Name: "no-hours", Usage: "remove the hours"},
		},
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			pool, to := cmd.Args().Get(0), cmd.Args().Get(1)
			show := func(v api.Pool) {
				if h := v.PriorityHours; h.From != "" {
					s.out.line(
						"%s: %s from %s to %s %s, %s otherwise",
						v.Name,
						h.Within,
						h.From,
						h.To,
						cmp.Or(h.Zone, "UTC"),
						h.Otherwise,
					)
				} else {
					s.out.line("%s has no priority hours", v.Name)
				}
			}
			switch {
			case cmd.Bool("no-hours") && cmd.Args().Len() == 1:
				v, err := ask[api.Pool](s.client.RemovePriorityHours(ctx, pool))
				return tell(s, show, v, err)
			case cmd.Args().Len() != 2 || to != "low" && to != "normal" && to != "high" ||
				(cmd.String("from") == "") != (cmd.String("to") == ""):
				return usage(
					"lantern priority needs a pool, and low, normal or high; --from and --to belong "+
						"together\nExample: %s",
					example(cmd),
				)
			case cmd.String("from") != "":
				v, err := ask[api.Pool](
					s.client.SetPriorityHours(
						ctx,
						pool,
						api.PriorityHours{
							From:      cmd.String("from"),
							To:        cmd.String("to"),
							Zone:      cmd.String("zone"),
							Within:    api.PriorityHoursWithin(to),
							Otherwise: api.PriorityHoursOtherwise(cmd.String("otherwise")),
						},
					),
				)
				return tell(s, show, v, err)
			}
			return s.actOnPool(
				ctx,
				pool,
				api.PoolAction{Action: api.PoolActionActionPriority, Priority: api.PoolActionPriority(to)},
			)
		}),
	}
}

func admitCommand() *cli.Command {
	return &cli.Command{
		Name:        "admit",
		Usage:       "add an empty drive to a pool as a new member",
		ArgsUsage:   "<pool> <drive>",
		Description: "Example: lantern admit specimens GA301 --tail GA301\n         lantern admit logbook LC700 --tail LC700",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "tail", Required: true, Usage: "label tail, as read on the drive"},
		},
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			if cmd.Args().Len() != 2 {
				return usage("lantern admit needs a pool and a drive\nExample: %s", example(cmd))
			}
			return s.actOnPool(
				ctx,
				cmd.Args().Get(0),
				api.PoolAction{Action: api.PoolActionActionAdmit, Drive: cmd.Args().Get(1), Tail: cmd.String("tail")},
			)
		}),
	}
}
