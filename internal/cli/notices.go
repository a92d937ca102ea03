package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func noticesCommand() *cli.Command {
	all := &cli.BoolFlag{Name: "all", Usage: "include closed notices", Local: true}
	listed := listing(func(ctx context.Context, s *session, cmd *cli.Command) error {
		notices, err := ask[[]api.Notice](s.client.ListNotices(ctx, &api.ListNoticesParams{All: cmd.Bool("all")}))
		if err != nil {
			return err
		}
		return list(
			s,
			notices,
			"No open notices.",
			[]column{col("severity").as("SIGN"), col("notice"), col("state").fold(12), col("since").spare(1),
				col("where").spare(2), col("says").fold(24), col("id").more(), col("muted_until").more()},
			func(n api.Notice) []cell {
				state := string(n.State)
				switch n.State {
				case api.NoticeStateAcknowledged:
					state = "seen by " + n.AcknowledgedBy
				case api.NoticeStateMuted:
					state = "muted to " + n.MutedUntil.Local().Format("01-02 15:04")
				}
				return []cell{
					noticeCell(n),
					{text: n.Id[len(n.Id)-6:], style: bold},
					{text: state},
					timeCell(n.OpenedAt, minutes),
					{text: cmp.Or(n.Bay, cmp.Or(n.Pool, n.Host))},
					{text: n.Says},
					{text: n.Id},
					timeCell(n.MutedUntil, minutes),
				}
			},
		)
	})
	return &cli.Command{
		Name:        "notices",
		Aliases:     []string{"notice"},
		Usage:       "notices: list, acknowledge and mute them",
		Description: "Example: lantern notices\n         lantern notices saw LM417 --note \"spare ordered\"",
		Flags:       append([]cli.Flag{all}, tableFlags()...),
		Action:      listed,
		Commands: []*cli.Command{
			{
				Name:        "list",
				Usage:       "list open notices, new ones first",
				Description: "Example: lantern notices list --all\n         lantern notices list --columns severity,where,says",
				Flags:       append([]cli.Flag{all}, tableFlags()...),
				Action:      listed,
			},
			{
				Name:      "saw",
				Usage:     "acknowledge a notice; it is sent again if it gets worse",
				ArgsUsage: "<drive, notice>",
				Description: "Example: lantern notices saw LM417 --note \"spare ordered\"\n" +
					"         lantern notices saw skerry/front/13",
				Flags: []cli.Flag{&cli.StringFlag{Name: "note", Usage: "note for the others"}},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					id, err := s.noticeID(ctx, cmd)
					if err != nil {
						return err
					}
					return s.noticed(
						ask[api.Notice](
							s.client.AcknowledgeNotice(
								ctx,
								id,
								api.AcknowledgeNoticeJSONRequestBody{Note: cmd.String("note")},
							),
						),
					)
				}),
			},
			{
				Name:      "mute",
				Usage:     "mute a notice for a while; it is sent again if it gets worse",
				ArgsUsage: "<drive, notice>",
				Description: "Example: lantern notices mute LM417 --for 3d --note \"spare ordered\"\n" +
					"         lantern notices mute LM417 --until \"tomorrow 08:00\"\n         lantern notices mute LM417 --for 0",
				Flags: []cli.Flag{
					&DurationFlag{Name: "for", Usage: "8h, 3d or 2w, up to 90d; 0 ends the mute"},
					&cli.StringFlag{Name: "until", Usage: "until this moment instead, such as \"tomorrow 08:00\""},
					&cli.StringFlag{Name: "note", Usage: "reason; others see it"},
				},
				Action: with(muteNotice),
			},
		},
	}
}

func muteNotice(ctx context.Context, s *session, cmd *cli.Command) error {
	if cmd.IsSet("for") == cmd.IsSet("until") {
		return usage("give a duration: --for or --until\nExample: %s", example(cmd))
	}
	d := cmd.Duration("for")
	if text := cmd.String("until"); text != "" {
		// The service's time counts: the lab's may run fast.
		me, err := ask[api.Me](s.client.GetMe(ctx))
		if err != nil {
			return err
		}
		at, err := moment("--until", text, me.Now.Local())
		if err != nil {
			return err
		}
		d = at.Sub(me.Now)
	}
	if d > 90*24*time.Hour {
		return usage("a notice can be muted for up to 90d")
	}
	id, err := s.noticeID(ctx, cmd)
	if err != nil {
		return err
	}
	return s.noticed(
		ask[api.Notice](
			s.client.MuteNotice(ctx, id, api.MuteNoticeJSONRequestBody{Hours: d.Hours(), Note: cmd.String("note")}),
		),
	)
}

// noticeID finds an open notice by its id, the end of the id, or its drive, named in any way.
func (s *session) noticeID(ctx context.Context, cmd *cli.Command) (string, error) {
	name, err := one(cmd, "a drive, or a notice")
	if err != nil {
		return "", err
	}
	all, err := ask[[]api.Notice](s.client.ListNotices(ctx, &api.ListNoticesParams{}))
	if err != nil {
		return "", err
	}
	for _, n := range all {
		if n.Id == name || len(name) >= 5 && strings.HasSuffix(n.Id, strings.ToUpper(name)) {
			return n.Id, nil
		}
	}
	d, err := ask[api.Drive](s.client.GetDrive(ctx, name))
	if err != nil {
		return "", usage("no open notice and no drive is %q. List notices with: lantern notices", name)
	}
	var about []api.Notice
	for _, n := range all {
		if slices.Contains(n.Drives, d.Key) {
			about = append(about, n)
		}
	}
	switch len(about) {
	case 0:
		return "", usage("no notice about %s is open. List them with: lantern notices", d.Tail)
	case 1:
		return about[0].Id, nil
	}
	// A notice about this drive alone has priority over one about a whole section.
	alone := slices.DeleteFunc(slices.Clone(about), func(n api.Notice) bool { return len(n.Drives) > 1 })
	if len(alone) == 1 {
		return alone[0].Id, nil
	}
	var ids []string
	for _, n := range about {
		ids = append(ids, n.Id[len(n.Id)-6:])
	}
	return "", usage("%d notices are about %s: %s", len(about), d.Tail, strings.Join(ids, ", "))
}

// noticeCell marks the severity of a notice; a pool that fills up has its own mark.
func noticeCell(n api.Notice) cell {
	if n.Kind == api.NoticeKindFilling {
		return cell{text: "▥ filling", style: level, raw: "filling"}
	}
	if n.Kind == api.NoticeKindAlarm {
		return cell{text: "▨ STOP", style: dead, raw: "stop"}
	}
	return verdictCell(n.Severity)
}

func (s *session) noticed(n api.Notice, err error) error {
	if err != nil {
		return err
	}
	if done, err := s.out.value(n); done {
		return err
	}
	switch n.State {
	case api.NoticeStateMuted:
		s.out.line(
			"muted until %s, unless it gets worse: %s",
			n.MutedUntil.Local().Format("2006-01-02 15:04"),
			n.Says,
		)
	case api.NoticeStateAcknowledged:
		s.out.line("seen by %s: %s", n.AcknowledgedBy, n.Says)
	default:
		s.out.line("no longer muted: %s", n.Says)
	}
	return nil
}

func channelCommand() *cli.Command {
	listed := listing(func(ctx context.Context, s *session, _ *cli.Command) error {
		all, err := ask[[]api.Channel](s.client.ListChannels(ctx))
		if err != nil {
			return err
		}
		return list(
			s,
			all,
			"No channel is set: notices stay in the console and the terminal. Set one with: lantern channel set --help",
			[]column{col("channel"), col("kind"), col("to").fold(16), col("least").as("FROM SEVERITY"), col("quiet").spare(3),
				col("digest").spare(2), col("waiting").spare(1), col("last_error").as("LAST ERROR").fold(16)},
			func(c api.Channel) []cell {
				return []cell{
					{text: c.Name, style: bold},
					{text: string(c.Kind)},
					{text: cmp.Or(c.Url, strings.Join(c.To, ", "))},
					{text: string(c.Least)},
					{text: c.Quiet},
					{text: c.Digest},
					countCell(c.Waiting),
					{text: c.Error},
				}
			},
		)
	})
	return &cli.Command{
		Name:   "channel",
		Usage:  "channels for notices: webhook, e-mail, syslog",
		Action: listed,
		Flags:  tableFlags(),
		Description: "Example: lantern channel list\n" +
			"         lantern channel set night-shift --webhook https://pager.example/hook " +
			"--secret-file key.txt --least replace --quiet 22:00-07:00 --zone Europe/Oslo",
		Commands: []*cli.Command{
			{
				Name:        "list",
				Usage:       "list channels, and how many messages wait",
				Description: "Example: lantern channel list\n         lantern channel list -o csv",
				Flags:       tableFlags(),
				Action:      listed,
			},
			{
				Name:      "set",
				Usage:     "add or change a channel",
				ArgsUsage: "<name>",
				Description: "Example: lantern channel set night-shift --webhook https://pager.example/hook " +
					"--secret-file key.txt\n         lantern channel set team --email mail.example:587 --from " +
					"lantern@example --to ida@example --digest 08:00 --least watch\n         lantern channel " +
					"set log --syslog tls://collector.example:6514 --least watch\n\n" +
					"A webhook gets CloudEvents 1.0; the header Lantern-Signature-256 is the HMAC-SHA-256 of " +
					"the body under the secret. The secret is\nread from a file or from LANTERN_CHANNEL_SECRET, " +
					"never from the command line, and is never shown again.",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "webhook", Usage: "address"},
					&cli.StringFlag{
						Name:  "email",
						Usage: "mail server, host:port; TLS is required, except for a relay on the same machine without a user",
					},
					&cli.StringFlag{
						Name: "syslog",
						Usage: "tls://host:port or tcp://host:port; ?enterprise=12345 adds your own number in the " +
							"structured data",
					},
					&cli.StringFlag{
						Name:  "from",
						Usage: "e-mail: sender",
					},
					&cli.StringSliceFlag{Name: "to", Usage: "e-mail: recipients"},
					&cli.StringFlag{Name: "user", Usage: "e-mail: user name"},
					&cli.StringFlag{
						Name:  "secret-file",
						Usage: "file with the secret",
					},
					&cli.StringFlag{Name: "ca-file", Usage: "file with the certificate of an authority to trust, PEM"},
					&cli.StringFlag{
						Name:  "least",
						Value: "replace",
						Usage: "watch, replace or dead",
					},
					&cli.StringSliceFlag{Name: "kind", Usage: "only this kind: drive, section, host, filling, recovery"},
					&cli.StringSliceFlag{
						Name:  "pool",
						Usage: "only these pools",
					},
					&cli.StringSliceFlag{Name: "host", Usage: "only these hosts"},
					&cli.StringFlag{
						Name:  "quiet",
						Usage: "quiet hours, such as 22:00-07:00: only urgent notices are sent",
					},
					&cli.StringFlag{Name: "zone", Value: "UTC", Usage: "time zone of these hours"},
					&cli.StringFlag{Name: "digest", Usage: "send all open notices once a day, for example at 08:00"},
					&cli.StringFlag{
						Name:  "report",
						Usage: "week or month: send a report on each, on Monday or on the first at 07:00; in e-mail as a page",
					},
				},
				Action: with(setChannel),
			},
			{
				Name:        "test",
				Usage:       "send a test message through a channel now",
				ArgsUsage:   "<name>",
				Description: "Example: lantern channel test night-shift\n         lantern channel test team",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					name, err := one(cmd, "a channel")
					if err != nil {
						return err
					}
					return s.done(name+" took the message", did(s.client.TestChannel(ctx, name)))
				}),
			},
			{
				Name:        "remove",
				Usage:       "remove a channel",
				ArgsUsage:   "<name>",
				Description: "Example: lantern channel remove night-shift\n         lantern channel remove team",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					name, err := one(cmd, "a channel")
					if err != nil {
						return err
					}
					return s.done(name+" is gone", did(s.client.RemoveChannel(ctx, name)))
				}),
			},
		},
	}
}

func setChannel(ctx context.Context, s *session, cmd *cli.Command) error {
	name, err := one(cmd, "a channel's name")
	if err != nil {
		return err
	}
	req := api.ChannelPut{
		Url:    cmp.Or(cmd.String("webhook"), cmd.String("syslog")),
		Server: cmd.String("email"),
		From:   cmd.String("from"),
		To:     cmd.StringSlice("to"),
		User:   cmd.String("user"),
		Secret: os.Getenv("LANTERN_CHANNEL_SECRET"),
		Least: api.Verdict(
			cmd.String("least"),
		),
		Kinds:  cmd.StringSlice("kind"),
		Pools:  cmd.StringSlice("pool"),
		Hosts:  cmd.StringSlice("host"),
		Quiet:  cmd.String("quiet"),
		Zone:   cmd.String("zone"),
		Digest: cmd.String("digest"),
		Report: api.ChannelPutReport(cmd.String("report")),
	}
	kinds := 0
	for k, set := range map[api.ChannelPutKind]bool{api.ChannelPutKindWebhook: cmd.IsSet("webhook"),
		api.ChannelPutKindEmail: cmd.IsSet("email"), api.ChannelPutKindSyslog: cmd.IsSet("syslog")} {
		if set {
			req.Kind = k
			kinds++
		}
	}
	if kinds != 1 {
		return usage("a channel is one of --webhook, --email and --syslog\nExample: %s", example(cmd))
	}
	for flag, to := range map[string]*string{"secret-file": &req.Secret, "ca-file": &req.Ca} {
		if path := cmd.String(flag); path != "" {
			b, err := os.ReadFile(path)
			if err != nil {
				return &Failure{Code: ExitFailed, Says: err.Error()}
			}
			*to = strings.TrimSpace(string(b))
		}
	}
	c, err := ask[api.Channel](s.client.PutChannel(ctx, name, req))
	if err != nil {
		return err
	}
	if done, err := s.out.value(c); done {
		return err
	}
	s.out.line("%s is saved: it sends notices from verdict %s on. Test it: lantern channel test "+
		"%s", c.Name, c.Least, fmt.Sprint(c.Name))
	return nil
}
