package cli

import (
	"context"
	"fmt"
	"strings"

	"lantern/internal/api"
	"lantern/internal/wire"

	"github.com/urfave/cli/v3"
)

func movesCommand() *cli.Command {
	flags := []cli.Flag{
		&cli.StringSliceFlag{
			Name:  "replace",
			Usage: "<member>=<size>: replace this member by a drive of this size; may be repeated",
		},
		&cli.StringSliceFlag{Name: "remove", Usage: "<member>: remove it without a replacement"},
		&cli.StringSliceFlag{Name: "add", Usage: "<host>=<size>: add a drive of this size to this host"},
		&cli.BoolFlag{Name: "free-bay", Usage: "a new drive can come before the old one leaves"},
		&cli.StringFlag{Name: "group", Usage: "which group; not needed when the pool has one"},
		&cli.FloatFlag{Name: "full", Usage: "how full a member may become, in percent"},
		fileFlag,
	}
	flags = append(flags, tableFlags()...)
	asked := func(cmd *cli.Command) (api.MovesAsked, error) {
		out := api.MovesAsked{Group: cmd.String("group"), Limit: cmd.Float("full") / 100}
		size := func(flag, text string) (string, int64, error) {
			name, size, ok := strings.Cut(text, "=")
			n, err := ParseSize(size)
			if !ok || err != nil || n == 0 || name == "" {
				return "", 0, usage("--%s takes a name and a size, such as 7F412=8TB, not %q", flag, text)
			}
			return name, n, nil
		}
		for _, x := range commas(cmd.StringSlice("replace")) {
			name, n, err := size("replace", x)
			if err != nil {
				return out, err
			}
			out.Changes = append(out.Changes, api.MoveChange{Out: name, InBytes: n, After: !cmd.Bool("free-bay")})
		}
		for _, x := range commas(cmd.StringSlice("remove")) {
			out.Changes = append(out.Changes, api.MoveChange{Out: x})
		}
		for _, x := range commas(cmd.StringSlice("add")) {
			name, n, err := size("add", x)
			if err != nil {
				return out, err
			}
			out.Changes = append(out.Changes, api.MoveChange{Domain: name, InBytes: n})
		}
		if len(out.Changes) == 0 {
			return out, usage("give a change: --replace, --remove or --add\nExample: %s", example(cmd))
		}
		return out, nil
	}
	return &cli.Command{
		Name:      "moves",
		Usage:     "compare the orders of replacing drives: how much data each one moves",
		ArgsUsage: "<pool>",
		Description: "Example: lantern moves driftnet --replace skerry.1=8TB --replace fulmar.1=8TB --add " +
			"petrel=4TB\n         lantern moves --file planned.json --replace 1.7=8TB",
		Flags: flags,
		Action: anywhere(func(_ context.Context, s *session, cmd *cli.Command) error {
			req, err := asked(cmd)
			if err != nil {
				return err
			}
			p, v, err := s.poolFile(cmd)
			if err != nil {
				return err
			}
			for i, c := range req.Changes {
				if c.Out != "" {
					names, _ := byTail(&p, v, []string{c.Out})
					req.Changes[i].Out = names[0]
				}
			}
			m, err := wire.Moves(&p, req)
			if err != nil {
				return &Failure{Code: ExitFailed, Says: err.Error()}
			}
			return s.moveOrder(m)
		}, func(ctx context.Context, s *session, cmd *cli.Command) error {
			name, err := one(cmd, "a pool's name")
			if err != nil {
				return err
			}
			req, err := asked(cmd)
			if err != nil {
				return err
			}
			m, err := ask[api.MoveOrder](s.client.PlanMoves(ctx, name, req))
			if err != nil {
				return err
			}
			return s.moveOrder(m)
		}),
	}
}

func (s *session) moveOrder(m api.MoveOrder) error {
	if s.out.format == "csv" || len(s.out.choice.columns) > 0 {
		var rows [][]cell
		for i, st := range m.Steps {
			for _, v := range st.Moves {
				rows = append(
					rows,
					[]cell{
						countCell(i + 1),
						{text: st.Words},
						{text: v.From},
						{text: v.To},
						bytesCell(v.Bytes),
					},
				)
			}
		}
		return s.out.table([]column{col("step"), col("change").fold(20), col("from"), col("to"), col("bytes")}, rows)
	}
	if done, err := s.out.value(m); done {
		return err
	}
	for i, st := range m.Steps {
		s.out.line(
			"%2d  %s  moves %s; meanwhile: %s",
			i+1,
			s.out.paint(st.Words, bold),
			decimal(st.Bytes),
			st.Margin.Words,
		)
		for j, v := range st.Moves {
			if j == 6 {
				s.out.line("      and %s more: see them with --output json", plural(len(st.Moves)-j, "move"))
				break
			}
			s.out.line("      %-12s to %-12s %10s", v.From, v.To, decimal(v.Bytes))
		}
	}
	s.out.line("")
	against := ""
	if m.AsAskedBytes > 0 {
		against = fmt.Sprintf("; in the order of the requests: %s", decimal(m.AsAskedBytes))
	}
	s.out.line(
		"%s in all%s. %s",
		s.out.paint(decimal(m.Bytes), bold),
		against,
		map[bool]string{true: "No other order moves less.", false: "The best of those that were tried."}[m.Proven],
	)
	s.out.line("%s", s.out.paint(m.Basis, dim))
	return nil
}
