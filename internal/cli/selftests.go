package cli

import (
	"context"
	"fmt"
	"strconv"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func selftestCommand() *cli.Command {
	which := []cli.Flag{
		&cli.StringFlag{Name: "pool", Usage: "the members of this pool, one of a group at a time"},
		&cli.StringFlag{Name: "host", Usage: "the drives of this host, one of a group at a time"},
		&cli.StringFlag{
			Name: "where",
			Usage: "drives for which this holds, such as temperature_celsius<40,power_on_hours>40000; of the " +
				"pool or host, or of all",
		},
	}
	kind := &cli.StringFlag{Name: "kind", Value: "short", Usage: "short, extended, conveyance or selective"}
	return &cli.Command{
		Name:  "selftest",
		Usage: "start self-tests of drives, and see the results",
		Description: "Example: lantern selftest start LM409 --kind extended\n" +
			"         lantern selftest standing --which overdue",
		Commands: []*cli.Command{
			{
				Name:      "start",
				Usage:     "start a self-test; the drive stays in use",
				ArgsUsage: "[drive]",
				Description: "Example: lantern selftest start LM409 --kind extended\n         lantern selftest " +
					"start --pool plankton\n         lantern selftest start LM409 --kind selective --span " +
					"7813000000-7814037167",
				Flags: append(
					[]cli.Flag{
						kind,
						&cli.StringFlag{Name: "span", Usage: "selective: first and last address, such as 0-1000000"},
						&cli.BoolFlag{Name: "wake", Usage: "sleeping drives may be woken"},
					},
					which...),
				Action: with(selftestStart),
			},
			{
				Name:        "stop",
				Usage:       "stop running self-tests",
				ArgsUsage:   "[drive]",
				Description: "Example: lantern selftest stop LM409\n         lantern selftest stop --pool plankton",
				Flags:       which,
				Action:      with(selftestStop),
			},
			{
				Name:        "where",
				Usage:       "show what is stored at an address of a drive, such as where its test failed",
				ArgsUsage:   "<drive> [address]",
				Description: "Example: lantern selftest where LM417\n         lantern selftest where LM417 3118442904",
				Action:      with(selftestWhere),
			},
			{
				Name:  "standing",
				Usage: "list drives by their last self-tests",
				Flags: append([]cli.Flag{
					&cli.StringFlag{
						Name:        "which",
						Usage:       "all, failed, never, overdue, held or cannot",
						DefaultText: "all",
					},
					&cli.StringFlag{Name: "pool", Usage: "only this pool"},
				}, tableFlags()...),
				Description: "Example: lantern selftest standing --which overdue\n" +
					"         lantern selftest standing --pool soundscape",
				Action: listing(standing),
			},
			{
				Name:        "show",
				Usage:       "list self-tests, newest first",
				ArgsUsage:   "[drive]",
				Description: "Example: lantern selftest show\n         lantern selftest show LM409",
				Flags:       tableFlags(),
				Action:      listing(selftestShow),
			},
		},
	}
}

// selftestStart is the action of lantern selftest start.
func selftestStart(ctx context.Context, s *session, cmd *cli.Command) error {
	req, err := testOrder(cmd)
	if err != nil {
		return err
	}
	if req.Kind = api.TestOrderKind(cmd.String("kind")); !req.Kind.Valid() {
		return usage("--kind is short, extended, conveyance or selective, not %q", req.Kind)
	}
	req.Wake = cmd.Bool("wake")
	if cmd.IsSet("span") != (req.Kind == api.TestOrderKindSelective) {
		return usage("a selective test needs --span, and no other has one")
	}
	if _, err := fmt.Sscanf(
		cmd.String("span"),
		"%d-%d",
		&req.FirstLba,
		&req.LastLba,
	); err != nil &&
		cmd.IsSet("span") {
		return usage("--span is two addresses, such as 0-1000000, not %q", cmd.String("span"))
	}
	all, err := ask[[]api.TestRun](s.client.StartTests(ctx, nil, req))
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
	return &Failure{Code: ExitRefused, Says: "no drive can be tested now"}
}

// selftestStop is the action of lantern selftest stop.
func selftestStop(ctx context.Context, s *session, cmd *cli.Command) error {
	req, err := testOrder(cmd)
	if err != nil {
		return err
	}
	all, err := ask[[]api.TestRun](s.client.StopTests(ctx, nil, req))
	if err != nil {
		return err
	}
	return s.testRuns(all, "No test that was started here is running there.")
}

// selftestWhere is the action of lantern selftest where.
func selftestWhere(ctx context.Context, s *session, cmd *cli.Command) error {
	name := cmd.Args().First()
	if name == "" || cmd.Args().Len() > 2 {
		return usage(
			"name a drive, and an address if it is not the one at which its test failed\nExample: %s",
			example(cmd),
		)
	}
	var req api.Address
	if cmd.Args().Len() == 2 {
		n, err := strconv.ParseInt(cmd.Args().Get(1), 10, 64)
		if err != nil || n < 0 {
			return usage("%q is not an address", cmd.Args().Get(1))
		}
		req.Lba = n
	} else {
		d, err := ask[api.Drive](s.client.GetDrive(ctx, name))
		if err != nil {
			return err
		}
		if d.FailedAt.Lba == 0 && d.FailedAt.Says == "" {
			return &Failure{
				Code: ExitFailed,
				Says: "no test of " + d.Tail + " failed at an address; name one",
			}
		}
		req.Lba = d.FailedAt.Lba
	}
	o, err := ask[api.Order](s.client.AskAddress(ctx, name, nil, req))
	if err != nil {
		return err
	}
	return s.ordered(ctx, o, fmt.Sprintf("LBA %d", req.Lba))
}

// selftestShow is the action of lantern selftest show.
func selftestShow(ctx context.Context, s *session, cmd *cli.Command) error {
	all, err := ask[[]api.TestRun](
		s.client.ListTestRuns(ctx, &api.ListTestRunsParams{Drive: cmd.Args().First()}),
	)
	if err != nil {
		return err
	}
	return s.testRuns(
		all,
		"No self-test was started yet. Start one with: lantern selftest start <drive>",
	)
}

func testOrder(cmd *cli.Command) (req api.TestOrder, err error) {
	req = api.TestOrder{
		Drive: cmd.Args().First(),
		Pool:  cmd.String("pool"),
		Host:  cmd.String("host"),
		Where: cmd.String("where"),
	}
	n := 0
	for _, x := range []string{req.Drive, req.Pool, req.Host} {
		if x != "" {
			n++
		}
	}
	if n > 1 || n == 0 && req.Where == "" || req.Drive != "" && req.Where != "" || cmd.Args().Len() > 1 {
		return req, usage("name one drive, or give --pool, --host or --where\nExample: %s", example(cmd))
	}
	return req, nil
}

func (s *session) testRuns(all []api.TestRun, empty string) error {
	return list(
		s,
		all,
		empty,
		[]column{
			col("tail"),
			col("bay"),
			col("pool").spare(1),
			col("test"),
			col("state"),
			col("left_percent").more(),
			col("ordered").spare(2),
			col("says").fold(20),
		},
		func(r api.TestRun) []cell {
			state := cell{text: string(r.State), raw: string(r.State)}
			switch r.State {
			case api.TestRunStateFailed:
				state.style = loud
			case api.TestRunStateRunning:
				state.text = fmt.Sprintf("running, %d %% left", r.RemainingPercent)
			}
			return []cell{
				{text: r.Tail, style: bold},
				{text: r.Bay},
				{text: r.Pool},
				{text: r.Kind},
				state,
				countCell(int(r.RemainingPercent)),
				timeCell(r.OrderedAt, minutes),
				{text: r.Says},
			}
		},
	)
}

// standing lists drives by the state of their tests.
func standing(ctx context.Context, s *session, cmd *cli.Command) error {
	which := api.GetTestStandingParamsWhich(cmd.String("which"))
	if which != "" && !which.Valid() {
		return usage("--which is all, failed, never, overdue, held or cannot, not %q", which)
	}
	var whole api.TestStanding
	for cursor := ""; ; {
		page, err := ask[api.TestStanding](
			s.client.GetTestStanding(
				ctx,
				&api.GetTestStandingParams{Which: which, Pool: cmd.String("pool"), Limit: 1000, Cursor: cursor},
			),
		)
		if err != nil {
			return err
		}
		page.Drives = append(whole.Drives, page.Drives...)
		if whole, cursor = page, page.Next; cursor == "" {
			break
		}
	}
	if len(s.out.choice.columns) == 0 {
		if done, err := s.out.value(whole); done {
			return err
		}
	}
	if s.out.format == "table" {
		n := whole.Counts
		s.out.line(
			"%d drives: %d failed, %d never tested, %d overdue, %d held back, %d cannot be tested",
			n["all"],
			n["failed"],
			n["never"],
			n["overdue"],
			n["held"],
			n["cannot"],
		)
		if len(whole.Drives) == 0 {
			return nil
		}
		s.out.line("")
	}
	var rows [][]cell
	for _, d := range whole.Drives {
		next, at := "", cell{raw: ""}
		for _, t := range d.Next {
			if !t.At.IsZero() && next == "" {
				next, at = t.Kind, timeCell(t.At, "Mon 01-02 15:04")
			}
		}
		rows = append(
			rows,
			[]cell{
				{text: d.Tail, style: bold},
				{text: d.Bay},
				{text: d.Pool},
				lastCell(d.Short),
				timeCell(d.Short.At, minutes),
				lastCell(d.Extended),
				timeCell(d.Extended.At, minutes),
				{text: d.Plan},
				{text: next},
				at,
				{text: d.Says},
			},
		)
	}
	return s.out.table(
		[]column{col("tail"), col("bay").spare(3), col("pool").spare(2), col("short").fold(10), col("short_at").more(),
			col("extended").fold(10), col("extended_at").more(), col("plan").spare(1), col("next"), col("next_at").as("AT"),
			col("says").fold(16)},
		rows,
	)
}

func lastCell(t api.LastTest) cell {
	if t.At.IsZero() {
		return cell{text: t.Result}
	}
	c := cell{text: t.At.Local().Format("2006-01-02") + " " + t.Result, raw: t.Result}
	if t.Result == "failed" {
		c.style = loud
	}
	return c
}
