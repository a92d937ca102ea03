package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

// reasonFlag is required by actions that cannot be undone at once.
func reasonFlag() cli.Flag {
	return &cli.StringFlag{Name: "reason", Usage: "reason, kept in the audit", Required: true}
}

func retireHost() *cli.Command {
	return &cli.Command{
		Name:      "retire",
		Usage:     "retire a host: it no longer reports",
		ArgsUsage: "<name>",
		Description: "Example: lantern host retire petrel --reason \"its drives went to skerry\"\n" +
			"         lantern host retire gannet --reason \"enrolled by mistake\"\n\n" +
			"Stop its agent first: a host that still reports is not retired. Its token ends, its drives are remembered, its " +
			"pools\n" +
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
		Usage:     "rename a host; its drives, bays and pools keep their history",
		ArgsUsage: "<name> <new name>",
		Description: "Example: lantern host rename gannet razorbill\n" +
			"         lantern host rename razorbill gannet\n\n" +
			"Its agent keeps its token and the name it was started with; nothing has to be changed there.\n" +
			"Refused while a swap, an order, a light, a survey, a plan, a person's scope or a channel names the host.",
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			if cmd.Args().Len() != 2 {
				return usage("name the host, and its new name\nExample: %s", example(cmd))
			}
			h, err := ask[api.Host](s.client.RenameHost(ctx, cmd.Args().First(), nil, api.HostName{Name: cmd.Args().Get(1)}))
			return tell(s, func(h api.Host) { s.out.line("it is now called %s", h.Name) }, h, err)
		}),
	}
}

func renameCommand() *cli.Command {
	return &cli.Command{
		Name:        "rename",
		Usage:       "rename a pool or a host",
		Description: "Example: lantern rename pool soundscape hydrophones\n         lantern host rename gannet razorbill",
		Commands: []*cli.Command{
			{
				Name:      "pool",
				Usage:     "rename a pool; its host may report another name",
				ArgsUsage: "<pool> <new name>",
				Description: "Example: lantern rename pool soundscape hydrophones\n" +
					"         lantern rename pool logbook station-log\n\n" +
					"Everything that is known of it is found under the new name. The pool system itself is not told. To take the " +
					"name\n" +
					"away, name the one that its host reports. Refused while a swap, an order, a campaign, a threshold, a rule, a " +
					"plan,\n" +
					"a person's scope or a channel names the pool.",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					if cmd.Args().Len() != 2 {
						return usage("name the pool, and its new name\nExample: %s", example(cmd))
					}
					name, to := cmd.Args().First(), cmd.Args().Get(1)
					p, err := ask[api.Pool](s.client.RenamePool(ctx, name, nil, api.HostName{Name: to}))
					return tell(s, func(p api.Pool) { s.out.line("%s is now called %s", name, p.Name) }, p, err)
				}),
			},
		},
	}
}

func mergeCommand() *cli.Command {
	return &cli.Command{
		Name:      "merge",
		Usage:     "join a drive with its record under an earlier identity",
		ArgsUsage: "<identity that is gone> <drive>",
		Description: "Example: lantern merge XE932 GA301 --reason \"new firmware, same label\"\n" +
			"         lantern merge LC700 fulmar/front/22 --reason \"behind a USB bridge now\"\n\n" +
			"Some firmware reports the serial in another form, and some bridges report their own. What was measured, " +
			"found and\n" +
			"written of the identity that is gone becomes part of the drive's past, and the drive is found by both serials. " +
			"It\n" +
			"cannot be undone. Refused where anything shows that these are two drives: both were reported at one time, their\n" +
			"sizes or WWNs differ, or the one that is there counts fewer hours.",
		Flags: []cli.Flag{reasonFlag()},
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			if cmd.Args().Len() != 2 {
				return usage("name the identity that is gone, then the drive\nExample: %s", example(cmd))
			}
			from := cmd.Args().First()
			d, err := ask[api.Drive](s.client.MergeDrives(ctx, cmd.Args().Get(1), nil,
				api.MergeDrives{From: from, Reason: cmd.String("reason")}))
			return tell(s, func(d api.Drive) {
				s.out.line("%s is now %s: first seen %s", from, d.Tail, d.FirstSeenAt.UTC().Format("2006-01-02"))
			}, d, err)
		}),
	}
}

func forgetCommand() *cli.Command {
	return &cli.Command{
		Name:  "forget",
		Usage: "remove a drive or a pool that is gone from the lists",
		Description: "Example: lantern forget drive XE932 --reason \"destroyed\"\n" +
			"         lantern forget pool plankton --reason \"taken apart\"",
		Commands: []*cli.Command{
			{
				Name:      "drive",
				Usage:     "remove a drive from the lists; no host reports it and no pool has a place for it",
				ArgsUsage: "<drive>",
				Description: "Example: lantern forget drive XE932 --reason \"destroyed\"\n" +
					"         lantern forget drive skerry/front/8 --reason \"sold\"\n\n" +
					"Its readings are kept until they expire. If it is reported again, it is listed again.",
				Flags: []cli.Flag{reasonFlag()},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					name, err := one(cmd, "a drive")
					if err != nil {
						return err
					}
					return s.done(
						name+" is forgotten",
						did(s.client.ForgetDrive(ctx, name, nil, api.Reason{Reason: cmd.String("reason")})),
					)
				}),
			},
			{
				Name:      "pool",
				Usage:     "remove a pool from the lists that its host no longer reports",
				ArgsUsage: "<pool>",
				Description: "Example: lantern forget pool plankton --reason \"taken apart\"\n" +
					"         lantern forget pool specimens --reason \"moved to the archive\"\n\n" +
					"If it is reported again, it is listed again.",
				Flags: []cli.Flag{reasonFlag()},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					name, err := one(cmd, "a pool")
					if err != nil {
						return err
					}
					return s.done(
						name+" is forgotten",
						did(s.client.ForgetPool(ctx, name, nil, api.Reason{Reason: cmd.String("reason")})),
					)
				}),
			},
		},
	}
}

func inviteHosts() *cli.Command {
	return &cli.Command{
		Name:  "invite",
		Usage: "make a code with which many agents can ask to be enrolled",
		Description: "Example: lantern host invite --count 50 --for 2h\n" +
			"         lantern host invite --count 12 --for 1d --approve 'rack2-*'\n\n" +
			"Agents are started with it (--invite, or invite: in agent.yaml), each asks under its own host's name and makes " +
			"a token of\n" +
			"its own. They wait until somebody approves them, or are enrolled at once where their names fit --approve.",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "count", Value: 1, Usage: "for how many hosts"},
			&DurationFlag{Name: "for", Value: 2 * time.Hour, Usage: "how long the code can be used"},
			&cli.StringFlag{Name: "approve", Usage: "names that need no approval, such as 'rack2-*'"},
		},
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			v, err := ask[api.Invitation](
				s.client.Invite(ctx, api.InviteHosts{Count: cmd.Int("count"), Hours: cmd.Duration("for").Hours(),
					Pattern: cmd.String("approve")}),
			)
			return tell(s, func(v api.Invitation) {
				s.out.verbatim(v.Code)
				fmt.Fprintf(
					s.errOut,
					"This code is shown only this once. On each host: lantern agent --invite … --server …\n"+
						"Hosts that wait: lantern host invitations\n",
				)
			}, v, err)
		}),
	}
}

func invitations() *cli.Command {
	return &cli.Command{
		Name:        "invitations",
		Usage:       "list hosts that wait for approval, and open invitations",
		Description: "Example: lantern host invitations\n         lantern host invitations -o json",
		Flags:       tableFlags(),
		Action: listing(func(ctx context.Context, s *session, _ *cli.Command) error {
			v, err := ask[api.Invitations](s.client.ListInvitations(ctx))
			if err != nil {
				return err
			}
			if err := list(s, v.Asking, "No host waits for approval.",
				[]column{col("host"), col("from"), col("since")},
				func(a api.AskingHost) []cell {
					return []cell{{text: a.Name, style: bold}, {text: a.From}, timeCell(a.At, "2006-01-02 15:04:05")}
				}); err != nil || s.out.format != "table" {
				return err
			}
			for _, i := range v.Open {
				names := ""
				if i.Pattern != "" {
					names = ", without approval for " + i.Pattern
				}
				s.out.line(
					"%s invited %s until %s, %d asked%s; withdraw it: lantern host withdraw %s",
					i.By,
					plural(i.Count, "host"),
					i.EndsAt.Local().Format("2006-01-02 15:04"),
					i.Used,
					names,
					i.Id,
				)
			}
			return nil
		}),
	}
}

// onAsking makes a command for hosts that wait for approval; several can be named.
func onAsking(
	name, about, example string,
	do func(ctx context.Context, s *session, host string) error,
	says string,
) *cli.Command {
	return &cli.Command{
		Name:        name,
		Usage:       about,
		ArgsUsage:   "<name> [name ...]",
		Description: example,
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			if !cmd.Args().Present() {
				return usage("name a host that waits\nExample: %s", strings.TrimSpace(strings.TrimPrefix(example, "Example: ")))
			}
			for _, host := range cmd.Args().Slice() {
				if err := s.done(host+" "+says, do(ctx, s, host)); err != nil {
					return err
				}
			}
			return nil
		}),
	}
}

func askingCommands() []*cli.Command {
	return []*cli.Command{
		onAsking(
			"approve",
			"enrol hosts that wait",
			"Example: lantern host approve gannet\n         lantern host approve gannet fulmar-2",
			func(ctx context.Context, s *session, host string) error { return did(s.client.ApproveHost(ctx, host)) },
			"is enrolled",
		),
		onAsking(
			"refuse",
			"refuse hosts that wait",
			"Example: lantern host refuse gannet\n         lantern host refuse gannet fulmar-2",
			func(ctx context.Context, s *session, host string) error { return did(s.client.DeclineHost(ctx, host)) },
			"is refused",
		),
		onAsking(
			"withdraw",
			"end an invitation; hosts that already asked keep waiting",
			"Example: lantern host withdraw 01K2ABCDEF\n         lantern host invitations",
			func(ctx context.Context, s *session, id string) error {
				return did(s.client.WithdrawInvitation(ctx, id))
			},
			"is withdrawn",
		),
	}
}
