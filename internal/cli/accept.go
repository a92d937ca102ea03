package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func acceptCommand() *cli.Command {
	list := listing(func(ctx context.Context, s *session, _ *cli.Command) error {
		all, err := ask[[]api.Acceptance](s.client.ListAcceptances(ctx))
		if err != nil {
			return err
		}
		return list(
			s,
			all,
			"No new drive was tested yet. Begin with: lantern accept begin <drive>",
			[]column{col("drive"), col("state"), col("stage").as("AT"), col("place"), col("by").spare(1),
				col("begun").spare(2), col("says").fold(24)},
			func(a api.Acceptance) []cell {
				return []cell{
					{text: a.Tail, style: bold},
					{text: string(a.State)},
					{text: a.Stage},
					{text: cmp.Or(a.Bay, a.Host)},
					{text: a.By},
					timeCell(a.BegunAt, minutes),
					{text: a.Says},
				}
			},
		)
	})
	on := func(name, use, eg string, do func(ctx context.Context, s *session, name string) (api.Acceptance,
		error)) *cli.Command {
		return &cli.Command{Name: name, Usage: use, ArgsUsage: "<drive>", Description: "Example: " + eg,
			Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
				name, err := one(cmd, "the drive")
				if err != nil {
					return err
				}
				if strings.Contains(name, "/") { // a bay: the drive that is in it
					d, err := ask[api.Drive](s.client.GetDrive(ctx, name))
					if err != nil {
						return err
					}
					name = d.Key
				}
				a, err := do(ctx, s, name)
				return tell(s, s.acceptance, a, err)
			})}
	}
	return &cli.Command{
		Name:        "accept",
		Usage:       "acceptance test of a new drive",
		Description: "Example: lantern accept begin XH001 --short\n         lantern accept list",
		Flags:       tableFlags(),
		Action:      list,
		Commands: []*cli.Command{
			{
				Name:        "list",
				Usage:       "list acceptance tests, newest first",
				Description: "Example: lantern accept list\n         lantern accept list -o json",
				Flags:       tableFlags(),
				Action:      list,
			},
			{
				Name:      "begin",
				Usage:     "start an acceptance test, by the policy (lantern accept policy) or these options",
				ArgsUsage: "<drive>",
				Description: "Example: lantern accept begin XH001 --short\n         lantern accept begin XH001 " +
					"--surface --extended --rate 100MB --tail XH001",
				Flags: append(
					asked(),
					&cli.BoolFlag{
						Name:  "short",
						Usage: "only its past and the short self-test, whatever the policy says",
					},
					&cli.StringFlag{
						Name:  "tail",
						Usage: "label tail, as read on the label; asked for before the surface is written",
					},
				),
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					drive, err := one(cmd, "the drive")
					if err != nil {
						return err
					}
					p, said, err := policyOf(cmd)
					if err != nil {
						return err
					}
					req := api.AcceptDrive{
						Drive:     drive,
						Surface:   p.Surface,
						Extended:  p.Extended,
						RateBytes: p.RateBytes,
						ByPolicy:  !said && !cmd.Bool("short"),
					}
					if req.ByPolicy {
						// A test that writes the surface needs the label read by a person.
						if p, err = ask[api.AcceptPolicy](s.client.GetAcceptPolicy(ctx)); err != nil {
							return err
						}
					}
					if p.Surface {
						if req.Tail, err = s.typed(
							ctx,
							cmd.String("tail"),
							"its whole surface is written; type the label tail of the drive",
							"label tail",
							"--tail",
						); err != nil {
							return err
						}
					}
					a, err := ask[api.Acceptance](s.client.AcceptDrive(ctx, nil, req))
					return tell(s, s.acceptance, a, err)
				}),
			},
			{
				Name:  "policy",
				Usage: "show the default acceptance test of new drives; with options, set it",
				Description: "Example: lantern accept policy\n         lantern accept policy --surface " +
					"--extended --rate 100MB\n         lantern accept policy --short",
				Flags: append(
					asked(),
					&cli.BoolFlag{Name: "short", Usage: "only their past and the short self-test"},
				),
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					p, said, err := policyOf(cmd)
					switch {
					case err != nil:
						return err
					case said && cmd.Bool("short"):
						return usage("--short cannot be given with other tests\nExample: %s", example(cmd))
					case said || cmd.Bool("short"):
						p, err = ask[api.AcceptPolicy](s.client.SetAcceptPolicy(ctx, p))
					default:
						p, err = ask[api.AcceptPolicy](s.client.GetAcceptPolicy(ctx))
					}
					return tell(s, s.acceptPolicy, p, err)
				}),
			},
			on(
				"show",
				"progress",
				"lantern accept show XH001\n         lantern accept show XH001 -o json",
				func(ctx context.Context, s *session, name string) (api.Acceptance, error) {
					return ask[api.Acceptance](s.client.GetAcceptance(ctx, name))
				},
			),
			on(
				"pause",
				"pause the surface test",
				"lantern accept pause XH001\n         lantern accept pause fulmar/front/22",
				func(ctx context.Context, s *session, name string) (api.Acceptance, error) {
					return ask[api.Acceptance](s.client.PauseAcceptance(ctx, name, nil, api.Reason{}))
				},
			),
			on(
				"resume",
				"continue where it stopped",
				"lantern accept resume XH001\n         lantern accept resume fulmar/front/22",
				func(ctx context.Context, s *session, name string) (api.Acceptance, error) {
					return ask[api.Acceptance](s.client.ResumeAcceptance(ctx, name, nil, api.Reason{}))
				},
			),
			on(
				"stop",
				"end it",
				"lantern accept stop XH001\n         lantern accept stop fulmar/front/22",
				func(ctx context.Context, s *session, name string) (api.Acceptance, error) {
					return ask[api.Acceptance](s.client.StopAcceptance(ctx, name, nil, api.Reason{}))
				},
			),
		},
	}
}

// asked are the flags that select the tests of a new drive.
func asked() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{
			Name:  "surface",
			Usage: "write the whole surface with patterns and read it back; everything on it is lost",
		},
		&cli.BoolFlag{Name: "extended", Usage: "run the extended self-test"},
		&cli.StringFlag{
			Name: "rate",
			Usage: "limit of writing and reading per second, such as 1GB; default 150MB, so that users on the same " +
				"cables are not kept waiting",
		},
	}
}

// policyOf reads these flags; said is false if none was given.
func policyOf(cmd *cli.Command) (p api.AcceptPolicy, said bool, err error) {
	p.Surface, p.Extended = cmd.Bool("surface"), cmd.Bool("extended")
	if rate := cmd.String("rate"); rate != "" {
		n, err := ParseSize(strings.TrimSuffix(rate, "/s"))
		if err != nil || n == 0 || n > 1<<50 {
			return p, true, usage("--rate takes a size such as 100MB, not %q", rate)
		}
		p.RateBytes = n
	}
	return p, p.Surface || p.Extended || p.RateBytes > 0, nil
}

func (s *session) acceptPolicy(p api.AcceptPolicy) {
	o := s.out
	o.line("%s", o.paint("By default, new drives are tested for", bold))
	o.line("  their past, as they report it, and the short self-test")
	if p.Surface {
		o.line(
			"  the whole surface: written and read back, at most %s/s",
			decimal(cmp.Or(p.RateBytes, int64(150e6))),
		)
	}
	if p.Extended {
		o.line("  the extended self-test")
	}
	o.line("  error counters during the tests")
	if p.SetBy != "" {
		o.line("%s", o.paint(fmt.Sprintf("set by %s %s", p.SetBy, p.SetAt.Local().Format("2006-01-02 15:04")), dim))
	}
}

func (s *session) acceptance(a api.Acceptance) {
	o := s.out
	o.line("%s  %s  %s", o.paint("test of "+a.Tail, bold), a.Model, cmp.Or(a.Bay, a.Host))
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
	words := map[string]string{
		"fresh":    "its past, as it reports it",
		"short":    "short self-test",
		"surface":  "write and read back the whole surface",
		"extended": "extended self-test",
		"compare":  "error counters during the tests",
	}
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
		rate := "no rate known yet"
		if u.RateBytes > 0 {
			rate = decimal(int64(u.RateBytes)) + "/s"
		}
		if !a.Soonest.IsZero() {
			rate += fmt.Sprintf(
				"  both passes done in %s to %s (%s at the soonest)",
				span(a.Soonest.Sub(a.SeenAt)),
				span(a.Latest.Sub(a.SeenAt)),
				a.Soonest.Local().Format("Mon 15:04"),
			)
		}
		o.line(
			"      %s: %s %5.1f %%  %s  %s",
			map[api.SurfaceReportPass]string{"write": "written", "verify": "read back"}[u.Pass],
			bar(share, 30),
			100*share,
			rate,
			u.Says,
		)
		for _, x := range u.Faults {
			o.line("      %-12s bytes %s to %s", x.What, humanize.Comma(x.At), humanize.Comma(x.At+x.Bytes-1))
		}
	}
	o.line("")
	s.checks(a.Checks)
	if a.State == api.AcceptanceStatePaused {
		o.line("  next: lantern accept resume %s", a.Tail)
	}
}
