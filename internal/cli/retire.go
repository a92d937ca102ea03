package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

// reasonFlag is asked for by what is done without a way back in the same moment.
func reasonFlag() cli.Flag {
	return &cli.StringFlag{Name: "reason", Usage: "why; it is kept in the audit", Required: true}
}

func retireHost() *cli.Command {
	return &cli.Command{
		Name:      "retire",
		Usage:     "take a host out of the fleet that is not to report any more",
		ArgsUsage: "<name>",
		Description: "Example: lantern host retire petrel --reason \"its drives went to skerry\"\n" +
			"         lantern host retire gannet --reason \"enrolled by mistake\"\n\n" +
			"Stop its agent first: a host that still reports is not retired. Its token ends, its drives are remembered, its pools\n" +
			"are listed no more, its notices close. What is known of it stays: enrolled again under its name, it is as before.",
		Flags: []cli.Flag{reasonFlag()},
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			name, err := one(cmd, "the host's name")
			if err != nil {
				return err
			}
			return s.done(name+" is retired; back again: lantern host enrol "+name,
				did(s.client.RetireHost(ctx, name, nil, api.Reason{Reason: cmd.String("reason")})))
		}),
	}
}

func renameHost() *cli.Command {
	return &cli.Command{
		Name:      "rename",
		Usage:     "give a host another name; its drives, bays and pools keep their history",
		ArgsUsage: "<name> <new name>",
		Description: "Example: lantern host rename gannet razorbill\n" +
			"         lantern host rename razorbill gannet\n\n" +
			"Its agent goes on with its token and under the name that it was started with; nothing has to be changed there.\n" +
			"Refused while a swap, an order, a light, a survey, a plan, a person's scope or a channel names the host.",
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			if cmd.Args().Len() != 2 {
				return usage("name the host, and what it is to be called\nExample: %s", example(cmd))
			}
			h, err := ask[api.Host](s.client.RenameHost(ctx, cmd.Args().First(), nil, api.HostName{Name: cmd.Args().Get(1)}))
			return tell(s, func(h api.Host) { s.out.line("it is called %s from now on", h.Name) }, h, err)
		}),
	}
}

func forgetCommand() *cli.Command {
	return &cli.Command{
		Name:        "forget",
		Usage:       "list a drive or a pool no more that is gone",
		Description: "Example: lantern forget drive XE932 --reason \"destroyed\"\n         lantern forget pool plankton --reason \"taken apart\"",
		Commands: []*cli.Command{
			{
				Name:      "drive",
				Usage:     "list a drive no more that no host reports and no pool has a place for",
				ArgsUsage: "<drive>",
				Description: "Example: lantern forget drive XE932 --reason \"destroyed\"\n         lantern forget drive skerry/front/8 --reason \"sold\"\n\n" +
					"What was measured of it stays until its time is over. Reported again, it is there again.",
				Flags: []cli.Flag{reasonFlag()},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					name, err := one(cmd, "a drive")
					if err != nil {
						return err
					}
					return s.done(name+" is forgotten", did(s.client.ForgetDrive(ctx, name, nil, api.Reason{Reason: cmd.String("reason")})))
				}),
			},
			{
				Name:      "pool",
				Usage:     "list a pool no more that its host does not show any more",
				ArgsUsage: "<pool>",
				Description: "Example: lantern forget pool plankton --reason \"taken apart\"\n         lantern forget pool specimens --reason \"moved to the archive\"\n\n" +
					"Reported again, it is there again.",
				Flags: []cli.Flag{reasonFlag()},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					name, err := one(cmd, "a pool")
					if err != nil {
						return err
					}
					return s.done(name+" is forgotten", did(s.client.ForgetPool(ctx, name, nil, api.Reason{Reason: cmd.String("reason")})))
				}),
			},
		},
	}
}
