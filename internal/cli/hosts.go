package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func hostCommand() *cli.Command {
	list := listing(func(ctx context.Context, s *session, _ *cli.Command) error {
		all, err := ask[[]api.Host](s.client.ListHosts(ctx))
		if err != nil {
			return err
		}
		err = list(
			s,
			all,
			"No host is enrolled. Begin with: lantern host enrol <name>",
			[]column{
				col("host"),
				col("room").fold(10),
				col("state").fold(14),
				col("drives"),
				col("last_report").as("LAST REPORT"),
				col(
					"agent_version",
				).more(),
				col("agent_since").more(),
				col("waiting_reports").more(),
				col("clock_off_seconds").more(),
				col("refused_reports").more(),
				col("formerly").more(),
				col("certificate_ends").more(),
			},
			func(h api.Host) []cell {
				seen := timeCell(h.SeenAt, "2006-01-02 15:04:05")
				if h.SeenAt.IsZero() {
					seen.text = "never"
				}
				return []cell{
					{text: h.Name, style: bold},
					{text: h.Room},
					{text: string(h.State)},
					countCell(h.Drives),
					seen,
					{text: h.Agent.Version},
					timeCell(h.Agent.StartedAt, "2006-01-02 15:04"),
					countCell(h.Agent.Waiting),
					{text: number(h.ClockOffSeconds), right: true, raw: h.ClockOffSeconds},
					countCell(h.Refused.Count),
					{text: strings.Join(h.Formerly, ", ")},
					timeCell(h.CertificateEndsAt, "2006-01-02"),
				}
			},
		)
		for _, h := range all {
			s.hostTrouble(h)
			for _, n := range h.Nameless {
				if s.out.format == "table" {
					s.out.line(
						"%s also has %s, %s, not monitored: %s",
						h.Name,
						n.Path,
						decimal(n.CapacityBytes),
						n.Says,
					)
				}
			}
		}
		return err
	})
	return &cli.Command{
		Name:        "host",
		Aliases:     []string{"hosts"},
		Usage:       "list and enrol hosts, and set their rooms",
		Description: "Example: lantern host list\n         lantern host room skerry \"stone house\"",
		Flags:       tableFlags(),
		Action:      list,
		Commands: append([]*cli.Command{
			{
				Name:        "list",
				Usage:       "list hosts",
				Description: "Example: lantern host list\n         lantern host list --columns all",
				Flags:       tableFlags(),
				Action:      list,
			},
			{
				Name:      "room",
				Usage:     "set the room of a host, for maps and walking order",
				ArgsUsage: "<name> [room]",
				Description: "Example: lantern host room skerry \"stone house\"\n         lantern host room " +
					"skerry --none",
				Flags: []cli.Flag{&cli.BoolFlag{Name: "none", Usage: "remove the room"}},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					if n := cmd.Args().Len(); n != 2 && !(n == 1 && cmd.Bool("none")) {
						return usage("name a host and a room\nExample: %s", example(cmd))
					}
					h, err := ask[api.Host](
						s.client.SetRoom(ctx, cmd.Args().First(), api.Room{Room: cmd.Args().Get(1)}),
					)
					if err != nil {
						return err
					}
					if done, err := s.out.value(h); done {
						return err
					}
					s.out.line("%s is in %s", h.Name, cmp.Or(h.Room, "no room"))
					return nil
				}),
			},
			{
				Name:        "cold",
				Usage:       "mark a host as one whose drives are replaced only while it is down",
				ArgsUsage:   "<name>",
				Description: "Example: lantern host cold guillemot\n         lantern host cold guillemot --not",
				Flags: []cli.Flag{&cli.BoolFlag{Name: "not", Usage: "remove the mark: drives can be replaced while the " +
					"host runs"}},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					name, err := one(cmd, "the host's name")
					if err != nil {
						return err
					}
					h, err := ask[api.Host](s.client.SetCold(ctx, name, api.Cold{Cold: !cmd.Bool("not")}))
					if err != nil {
						return err
					}
					if done, err := s.out.value(h); done {
						return err
					}
					if h.Cold {
						s.out.line("drives of %s are changed only while it is down", h.Name)
					} else {
						s.out.line("drives of %s can be changed while it runs", h.Name)
					}
					return nil
				}),
			},
			{
				Name:        "enrol",
				Usage:       "enrol a host and print its token, once",
				ArgsUsage:   "<name>",
				Description: "Example: lantern host enrol gannet\n         lantern host enrol gannet -o json",
				Action:      with(enrol(false)),
			},
			{
				Name:        "renew",
				Usage:       "make a new token for a host; its agent cannot report until it has the new one",
				ArgsUsage:   "<name>",
				Description: "Example: lantern host renew skerry\n         lantern host renew petrel -o json",
				Action:      with(enrol(true)),
			},
			retireHost(),
			redfishCommand(),
			renameHost(),
			inviteHosts(),
			invitations(),
		}, askingCommands()...),
	}
}

func findCommand() *cli.Command {
	return &cli.Command{
		Name:        "find",
		Usage:       "find drives, pools, hosts and bays by any part of their names",
		ArgsUsage:   "<text>",
		Description: "Example: lantern find 006\n         lantern find \"stone house\"",
		Flags:       tableFlags(),
		Action: listing(func(ctx context.Context, s *session, cmd *cli.Command) error {
			q, err := one(cmd, "what to look for")
			if err != nil {
				return err
			}
			hits, err := ask[[]api.Hit](s.client.Search(ctx, &api.SearchParams{Q: q}))
			if err != nil {
				return err
			}
			return list(
				s,
				hits,
				fmt.Sprintf("Nothing has %q in its name.", q),
				[]column{col("kind"), col("name"), col("where").fold(20)},
				func(h api.Hit) []cell {
					return []cell{{text: string(h.Kind)}, {text: h.Title, style: bold}, {text: h.Detail}}
				},
			)
		}),
	}
}

// enrol prints a host's token, once.
func enrol(again bool) func(context.Context, *session, *cli.Command) error {
	return func(ctx context.Context, s *session, cmd *cli.Command) error {
		name, err := one(cmd, "the host's name")
		if err != nil {
			return err
		}
		e, err := ask[api.Enrolled](s.client.EnrolHost(ctx, api.Enrol{Name: name, Renew: again}))
		return tell(s, func(e api.Enrolled) {
			s.out.verbatim(e.Token)
			fmt.Fprintf(
				s.errOut,
				"This token is shown only this once. On %s: LANTERN_HOST_TOKEN=… lantern agent --host %s --server …\n",
				name,
				name,
			)
		}, e, err)
	}
}

// agentErrorFor is the time during which an agent's last error is shown.
const agentErrorFor = 24 * time.Hour

// hostTrouble describes problems with a host's reports: its clock, or refused reports.
func (s *session) hostTrouble(h api.Host) {
	if s.out.format != "table" {
		return
	}
	if off := time.Duration(h.ClockOffSeconds * float64(time.Second)); h.State == api.HostStateReporting &&
		off.Abs() > 30*time.Second {
		way := map[bool]string{true: "ahead", false: "behind"}[off > 0]
		s.out.line(
			"The clock of %s is %s %s; times in its reports are corrected.",
			h.Name,
			off.Abs().Round(time.Second),
			way,
		)
	}
	if n := h.Agent.Waiting; n > 0 {
		s.out.line("%s could not deliver %s yet.", h.Name, plural(n, "report"))
	}
	if h.Agent.Error != "" && time.Since(h.Agent.ErrorAt) < agentErrorFor {
		s.out.line(
			"The agent of %s failed at %s: %s",
			h.Name,
			h.Agent.ErrorAt.Local().Format("2006-01-02 15:04"),
			h.Agent.Error,
		)
	}
	if r := h.Refused; r.Count > 0 {
		were := "were"
		if r.Count == 1 {
			were = "was"
		}
		s.out.line("%s of %s %s refused, last at %s: %s", plural(r.Count, "report"), h.Name, were,
			r.At.Local().Format("2006-01-02 15:04"), r.Says)
	}
}

func takeOverCommand() *cli.Command {
	return &cli.Command{
		Name:  "take-over",
		Usage: "declare the original of a restored service gone: the restored one then gives orders",
		Description: "Example: lantern take-over --reason \"its disk is dead, and its machine is off\"\n" +
			"         lantern take-over --reason \"a rehearsal of the restore\"\n\n" +
			"Two services that both give orders would pull and fill drives against each other. Be sure that the other is off.",
		Flags: []cli.Flag{&cli.StringFlag{Name: "reason", Usage: "reason: how you know that it is gone", Required: true}},
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			return s.done("this service gives orders from now on",
				did(s.client.TakeOver(ctx, api.Reason{Reason: cmd.String("reason")})))
		}),
	}
}
