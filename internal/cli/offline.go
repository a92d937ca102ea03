package cli

import (
	"context"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"lantern/internal/core/drive"
	"lantern/internal/core/drive/page"
)

// offline runs a command that needs no service.
func offline(f func(s *session, cmd *cli.Command) error) cli.ActionFunc {
	return func(_ context.Context, cmd *cli.Command) error {
		format, err := form(cmd, true)
		if err != nil {
			return err
		}
		s := &session{errOut: cmd.Root().ErrWriter, in: cmd.Root().Reader, out: newPrinter(cmd.Root().Writer, format)}
		s.out.choose(cmd)
		return f(s, cmd)
	}
}

// mostBytes is the largest page that is read.
const mostBytes = 16 << 20

func decodeCommand() *cli.Command {
	return &cli.Command{
		Name:      "decode",
		Usage:     "decode a captured page of a drive, without a service",
		ArgsUsage: "<kind> <file or ->",
		Description: "Example: lantern decode nvme-health page.bin\n         lantern decode ata-smart-data - < " +
			"dump.txt\n\nThe page is binary, or a hexadecimal dump with or without offsets. It is printed as " +
			"JSON. A page with any fault gives no metric, and the exit code is 1.",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "list", Usage: "the kinds of pages"}},
		Action: offline(func(s *session, cmd *cli.Command) error {
			if cmd.Bool("list") {
				return list(
					s,
					page.Kinds(),
					"",
					[]column{col("kind"), col("what").as("WHAT IT IS").fold(20), col("standard").fold(16)},
					func(k page.Kind) []cell {
						return []cell{{text: k.Name, style: bold}, {text: k.Says}, {text: k.Clause, style: dim}}
					},
				)
			}
			if cmd.Args().Len() != 2 {
				return usage(
					"lantern decode needs a kind and a file\nExample: %s\nThe kinds: lantern decode --list",
					example(cmd),
				)
			}
			in := s.in
			if name := cmd.Args().Get(1); name != "-" {
				f, err := os.Open(name)
				if err != nil {
					return &Failure{Code: ExitFailed, Says: err.Error()}
				}
				defer f.Close()
				in = f
			}
			raw, err := io.ReadAll(io.LimitReader(in, mostBytes))
			if err != nil {
				return err
			}
			b, err := page.Bytes(raw)
			if err != nil {
				return &Failure{Code: ExitFailed, Says: err.Error()}
			}
			p, err := page.Decode(cmd.Args().First(), b)
			if err != nil {
				return usage("%s\nThe kinds: lantern decode --list", err)
			}
			s.out.format = "json"
			if _, err = s.out.value(p); err == nil && len(p.Wrong) > 0 {
				err = &Failure{Code: ExitFailed, Says: "this page is not plausible: " + strings.Join(p.Wrong, "; ")}
			}
			return err
		}),
	}
}

func metricsCommand() *cli.Command {
	listed := offline(func(s *session, _ *cli.Command) error {
		return list(
			s,
			drive.Catalogue,
			"",
			[]column{col("metric"), col("unit").spare(2), col("kind").spare(1), col("sign").spare(3), col("means").fold(24)},
			func(m drive.Metric) []cell {
				return []cell{
					{text: string(m.Name), style: bold},
					{text: m.Unit},
					{text: string(m.Kind)},
					{text: string(m.Strength)},
					{text: m.Means},
				}
			},
		)
	})
	return &cli.Command{
		Name:        "metrics",
		Usage:       "metrics and their meanings",
		Description: "Example: lantern metrics explain pending_sectors\n         lantern metrics list",
		Flags:       tableFlags(),
		Action:      listed,
		Commands: []*cli.Command{
			{
				Name:        "list",
				Usage:       "list all metrics",
				Description: "Example: lantern metrics list\n         lantern metrics list -o csv",
				Flags:       tableFlags(),
				Action:      listed,
			},
			{
				Name:      "explain",
				Usage:     "explain one metric",
				ArgsUsage: "<metric>",
				Description: "Example: lantern metrics explain link_crc_errors\n" +
					"         lantern metrics explain pending_sectors -o json",
				Action: offline(func(s *session, cmd *cli.Command) error {
					name, err := one(cmd, "a metric's name")
					if err != nil {
						return err
					}
					m, ok := drive.MetricByName(drive.MetricName(name))
					if !ok {
						return usage(
							"no metric %q; did you mean %s? All of them: lantern metrics",
							name,
							drive.Nearest(name),
						)
					}
					if done, err := s.out.value(struct {
						drive.Metric
						Sources []string `json:"sources"`
					}{m, m.Sources()}); done {
						return err
					}
					s.out.line("%s, in %s, a %s", s.out.paint(string(m.Name), bold), m.Unit, m.Kind)
					s.out.line("  %s", m.Means)
					s.out.line("  %s", m.MeansNot)
					s.out.line("  as a sign: %s", strengths[m.Strength])
					s.out.line("  fed by: %s", strings.Join(m.Sources(), "; "))
					return nil
				}),
			},
		},
	}
}

var strengths = map[drive.Strength]string{
	drive.Strong:     "strong: can lead to replace",
	drive.Weak:       "weak, it can say watch and no more",
	drive.Path:       "it accuses the cable or the bay before the drive",
	drive.Background: "never automatically",
}
