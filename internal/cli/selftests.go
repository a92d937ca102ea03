package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func selftestCommand() *cli.Command {
	which := []cli.Flag{&cli.StringFlag{Name: "pool", Usage: "the members of this pool, one of a group at a time"}, &cli.StringFlag{Name: "host", Usage: "the drives of this host, one of a group at a time"}}
	kind := &cli.StringFlag{Name: "kind", Value: "short", Usage: "short, extended or conveyance"}
	return &cli.Command{Name: "selftest", Usage: "let drives test themselves, and see what came of it", Description: "Example: lantern selftest start LM409 --kind extended",
		Commands: []*cli.Command{
			{Name: "start", Usage: "start a self-test; the drive goes on serving", ArgsUsage: "[drive]", Description: "Example: lantern selftest start LM409 --kind extended\n         lantern selftest start --pool plankton", Flags: append([]cli.Flag{kind}, which...),
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					req, err := testOrder(cmd)
					if err != nil {
						return err
					}
					if req.Kind = api.TestOrderKind(cmd.String("kind")); !req.Kind.Valid() {
						return usage("--kind is short, extended or conveyance, not %q", req.Kind)
					}
					res, err := s.client.StartTestsWithResponse(ctx, nil, req)
					if err != nil {
						return unreachable(err)
					}
					all, err := got(res.JSON202, res, res.Body)
					if err != nil {
						return err
					}
					if err := s.testRuns(all, ""); err != nil {
						return err
					}
					for _, r := range all {
						if r.State != api.TestRunStateRefused {
							return nil
						}
					}
					return &Failure{ExitRefused, "no drive can be tested now"}
				})},
			{Name: "stop", Usage: "stop the self-tests that were started here", ArgsUsage: "[drive]", Description: "Example: lantern selftest stop LM409", Flags: which,
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					req, err := testOrder(cmd)
					if err != nil {
						return err
					}
					res, err := s.client.StopTestsWithResponse(ctx, nil, req)
					if err != nil {
						return unreachable(err)
					}
					all, err := got(res.JSON202, res, res.Body)
					if err != nil {
						return err
					}
					return s.testRuns(all, "Nothing that was started here runs there.")
				})},
			{Name: "show", Usage: "self-tests that were started, the newest first", ArgsUsage: "[drive]", Description: "Example: lantern selftest show\n         lantern selftest show LM409",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					res, err := s.client.ListTestRunsWithResponse(ctx, &api.ListTestRunsParams{Drive: cmd.Args().First()})
					if err != nil {
						return unreachable(err)
					}
					all, err := got(res.JSON200, res, res.Body)
					if err != nil {
						return err
					}
					return s.testRuns(all, "No self-test was started yet. Start one with: lantern selftest start <drive>")
				})},
		}}
}

func testOrder(cmd *cli.Command) (req api.TestOrder, err error) {
	req = api.TestOrder{Drive: cmd.Args().First(), Pool: cmd.String("pool"), Host: cmd.String("host")}
	n := 0
	for _, x := range []string{req.Drive, req.Pool, req.Host} {
		if x != "" {
			n++
		}
	}
	if n != 1 || cmd.Args().Len() > 1 {
		return req, usage("name one drive, or --pool, or --host\nExample: %s", example(cmd))
	}
	return req, nil
}

func (s *session) testRuns(all []api.TestRun, empty string) error {
	return list(s, all, empty, []string{"TAIL", "BAY", "POOL", "TEST", "STATE", "ORDERED", "SAYS"}, func(r api.TestRun) []cell {
		state := cell{text: string(r.State)}
		switch r.State {
		case api.TestRunStateFailed:
			state.style = loud
		case api.TestRunStateRunning:
			state.text = fmt.Sprintf("running, %d %% left", r.RemainingPercent)
		}
		return []cell{{text: r.Tail, style: bold}, {text: r.Bay}, {text: r.Pool}, {text: r.Kind}, state, {text: r.OrderedAt.Local().Format("2006-01-02 15:04")}, {text: r.Says}}
	})
}
