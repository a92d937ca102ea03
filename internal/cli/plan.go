package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

// planFlags are the properties of a plan. Those that are not given stay as they are.
func planFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{
			Name:  "pool",
			Usage: "apply to the members of this pool; may be repeated, like --host and --drive",
		},
		&cli.StringSliceFlag{Name: "host", Usage: "for the drives of this host"},
		&cli.StringSliceFlag{Name: "drive", Usage: "for this drive, by its label tail"},
		&cli.StringFlag{
			Name:  "short",
			Usage: `when short tests come: "every Monday 02:00", "every 2 days 23:00", an RRULE, or never`,
		},
		&cli.StringFlag{
			Name:  "extended",
			Usage: `when extended tests come: "every month on the first Sunday 02:00", or never`,
		},
		&cli.StringFlag{Name: "conveyance", Usage: "when conveyance tests come, or never"},
		&cli.StringFlag{
			Name:        "within",
			Usage:       "a due test is placed within this time; default: until it is due again",
			DefaultText: "until the next ones are due",
		},
		&cli.StringFlag{Name: "zone", Usage: "time zone of all times, such as Europe/Berlin"},
		&cli.StringSliceFlag{
			Name:  "window",
			Usage: `tests run only within "daily 22:00-06:00", "Mon-Fri 20:00-24:00"; may be repeated; any lifts all windows`,
		},
		&cli.StringSliceFlag{
			Name:  "bar",
			Usage: `and never within "Sun 00:00-24:00" or "2026-12-24 12:00 to 2026-12-27 08:00"; none lifts all`,
		},
		&cli.BoolFlag{Name: "run-over", Usage: "let a test run past the end of its window"},
		&cli.IntFlag{Name: "per-group", Usage: "most tests at once in a group; 0: no limit"},
		&cli.IntFlag{Name: "per-pool", Usage: "most tests at once in a pool"},
		&cli.IntFlag{Name: "per-enclosure", Usage: "most tests at once in an enclosure"},
		&cli.IntFlag{Name: "per-host", Usage: "most tests at once on a host"},
		&cli.IntFlag{Name: "least-margin", Usage: "start no test in a pool that can lose fewer members than this"},
		&cli.FloatFlag{
			Name:  "busy",
			Usage: "start no test on drives that are busy for more than this percentage of the time; 0: no limit",
		},
		&cli.BoolFlag{Name: "wake", Usage: "wake sleeping drives for their test"},
	}
}

func planCommand() *cli.Command {
	listed := listing(func(ctx context.Context, s *session, _ *cli.Command) error {
		all, err := s.plans(ctx)
		if err != nil {
			return err
		}
		return list(
			s,
			all,
			"",
			[]column{col("plan"), col("for").fold(16), col("drives"), col("says").fold(24)},
			func(p api.Plan) []cell {
				return []cell{
					{text: p.Name, style: bold},
					{text: covers(p.Covers)},
					countCell(p.Drives),
					{text: p.Says},
				}
			},
		)
	})
	weeks := &cli.IntFlag{Name: "weeks", Value: 4, Usage: "how far it looks ahead, 1 to 8"}
	return &cli.Command{
		Name:  "plan",
		Usage: "test plans: when drives test themselves",
		Description: "Example: lantern plan list\n         lantern plan set nightly --pool soundscape --window " +
			"\"daily 22:00-06:00\"\n         lantern plan preview --weeks 4",
		Flags:  tableFlags(),
		Action: listed,
		Commands: []*cli.Command{
			{
				Name:        "list",
				Usage:       "list plans, most specific first",
				Description: "Example: lantern plan list\n         lantern plan list -o json",
				Flags:       tableFlags(),
				Action:      listed,
			},
			{
				Name:        "show",
				Usage:       "show one plan",
				ArgsUsage:   "<plan>",
				Description: "Example: lantern plan show fleet\n         lantern plan show fleet -o json",
				Action:      with(planShow),
			},
			{
				Name:                      "set",
				Usage:                     "add a plan, or change the given parts of it",
				ArgsUsage:                 "<plan>",
				Flags:                     planFlags(),
				DisableSliceFlagSeparator: true,
				Description: "Example: lantern plan set nightly --pool soundscape --short \"every " +
					"Monday 02:00\" --extended \"every month on the first Sunday 02:00\" --window \"daily " +
					"22:00-06:00\"\n         lantern plan set fleet --zone Europe/Berlin --bar \"daily " +
					"01:00-03:00\"\n\nA drive follows the most specific plan: its own, else its pool's, else " +
					"its host's, else the fleet's.\nA new plan begins as the fleet's is. See what it does " +
					"first: lantern plan preview nightly ... with the same options.",
				Action: with(planSet),
			},
			{
				Name:        "remove",
				Usage:       "remove a plan; its drives follow the next one that applies",
				ArgsUsage:   "<plan>",
				Description: "Example: lantern plan remove nightly\n         lantern plan preview nightly --removed",
				Action:      with(planRemove),
			},
			{
				Name: "preview",
				Usage: "show the calendar of tests, as it is or as a change would make it; " +
					"nothing is kept",
				ArgsUsage:                 "[plan]",
				DisableSliceFlagSeparator: true,
				Flags: append(
					[]cli.Flag{weeks, &cli.BoolFlag{Name: "removed", Usage: "as if the plan were removed"}},
					planFlags()...),
				Description: "Example: lantern plan preview --weeks 4\n         lantern plan preview fleet " +
					"--window \"daily 22:00-06:00\"",
				Action: listing(planPreview),
			},
			{
				Name:  "tests",
				Usage: "list tests by time",
				Flags: append([]cli.Flag{
					&cli.StringFlag{Name: "drive", Usage: "only this drive"},
					&cli.StringFlag{Name: "pool", Usage: "only this pool"},
					&cli.StringFlag{Name: "days", Value: "2d", Usage: "how far it looks ahead"},
				}, tableFlags()...),
				Description: "Example: lantern plan tests --pool soundscape --days 7d\n" +
					"         lantern plan tests --drive LM409 -o csv",
				Action: listing(planTests),
			},
			{
				Name: "feed",
				Usage: "make a new address from which calendar programs can read the calendar; the " +
					"address ends",
				Flags:       []cli.Flag{&cli.BoolFlag{Name: "end", Usage: "end the feed, and make no new one"}},
				Description: "Example: lantern plan feed\n         lantern plan feed --end",
				Action:      with(planFeed),
			},
		},
	}
}

// planShow is the action of lantern plan show.
func planShow(ctx context.Context, s *session, cmd *cli.Command) error {
	name, err := one(cmd, "a plan")
	if err != nil {
		return err
	}
	p, err := s.plan(ctx, name)
	if err != nil {
		return err
	}
	return s.showPlan(*p)
}

// planSet is the action of lantern plan set.
func planSet(ctx context.Context, s *session, cmd *cli.Command) error {
	name, err := one(cmd, "a name for the plan")
	if err != nil {
		return err
	}
	change, err := s.planChange(ctx, cmd, name)
	if err != nil {
		return err
	}
	p, err := ask[api.Plan](s.client.SetPlan(ctx, name, nil, change))
	if err != nil {
		return err
	}
	return s.showPlan(p)
}

// planRemove is the action of lantern plan remove.
func planRemove(ctx context.Context, s *session, cmd *cli.Command) error {
	name, err := one(cmd, "a plan")
	if err != nil {
		return err
	}
	if err := did(s.client.RemovePlan(ctx, name, nil)); err != nil {
		return err
	}
	s.out.line("%s is removed; its drives follow the next plan that applies", name)
	return nil
}

// planPreview is the action of lantern plan preview.
func planPreview(ctx context.Context, s *session, cmd *cli.Command) error {
	req := api.PlanPreview{Weeks: cmd.Int("weeks")}
	if req.Weeks < 1 || req.Weeks > 8 {
		return usage("--weeks is 1 to 8, not %d", req.Weeks)
	}
	if cmd.Args().Len() > 0 {
		name, err := one(cmd, "a plan, or none")
		if err != nil {
			return err
		}
		if req.Name, req.Remove = name, cmd.Bool("removed"); !req.Remove {
			if req.Change, err = s.planChange(ctx, cmd, name); err != nil {
				return err
			}
		}
	}
	c, err := ask[api.Calendar](s.client.PreviewPlans(ctx, req))
	if err != nil {
		return err
	}
	if req.Name != "" && s.out.format == "table" {
		e := c.Effect
		s.out.line(
			"%s",
			s.out.paint(
				fmt.Sprintf(
					"This would move %d tests, add %d and remove %d; %d would have no place, now %d.",
					e.Moved,
					e.Begun,
					e.Ended,
					e.UntestedThen,
					e.UntestedNow,
				),
				bold,
			),
		)
	}
	return s.calendar(c)
}

// planTests is the action of lantern plan tests.
func planTests(ctx context.Context, s *session, cmd *cli.Command) error {
	ahead, err := back("--days", cmd.String("days"))
	if err != nil {
		return err
	}
	who, err := ask[api.Me](s.client.GetMe(ctx))
	if err != nil {
		return err
	}
	var all []api.PlannedTest
	for cursor := ""; ; {
		page, err := ask[api.PlannedTestPage](
			s.client.ListPlannedTests(
				ctx,
				&api.ListPlannedTestsParams{
					From:   who.Now,
					To:     who.Now.Add(ahead),
					Drive:  cmd.String("drive"),
					Pool:   cmd.String("pool"),
					Limit:  1000,
					Cursor: cursor,
				},
			),
		)
		if err != nil {
			return err
		}
		all = append(all, page.Tests...)
		if cursor = page.Next; cursor == "" {
			break
		}
	}
	return list(
		s,
		all,
		"No test is planned in this time.",
		[]column{col("at"), col("tail"), col("bay").spare(3), col("pool").spare(2), col("test"),
			col("takes_seconds").as("TAKES"), col("plan").spare(1), col("state"), col("why").fold(14)},
		func(t api.PlannedTest) []cell {
			return []cell{
				timeCell(t.At, "Mon 2006-01-02 15:04"),
				{text: t.Tail, style: bold},
				{text: t.Bay},
				{text: t.Pool},
				{text: t.Kind},
				spanCell(time.Duration(t.TakesMinutes) * time.Minute),
				{text: t.Plan},
				{text: string(t.State)},
				{text: t.Why},
			}
		},
	)
}

// planFeed is the action of lantern plan feed.
func planFeed(ctx context.Context, s *session, cmd *cli.Command) error {
	if cmd.Bool("end") {
		if err := did(s.client.EndFeed(ctx)); err != nil {
			return err
		}
		s.out.line("the calendar has no address any more")
		return nil
	}
	f, err := ask[api.Feed](s.client.MakeFeed(ctx, nil))
	if err != nil {
		return err
	}
	server, _, err := Link(cmd)
	if err != nil {
		return err
	}
	if done, err := s.out.value(f); done {
		return err
	}
	s.out.verbatim(server + f.Path)
	s.out.line(
		"Anybody who knows this address can read the calendar. It is shown only once; an earlier " +
			"one has ended.",
	)
	return nil
}

func (s *session) plans(ctx context.Context) ([]api.Plan, error) {
	return ask[[]api.Plan](s.client.ListPlans(ctx))
}

func (s *session) plan(ctx context.Context, name string) (*api.Plan, error) {
	all, err := s.plans(ctx)
	if err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].Name == name {
			return &all[i], nil
		}
	}
	return nil, &Failure{
		Code: ExitFailed,
		Says: fmt.Sprintf("No plan %q. List them with: lantern plan list", name),
	}
}

// planChange is a plan with the changes of the options: other properties of an existing plan stay, and a new plan
// starts with those of the fleet's plan.
func (s *session) planChange(ctx context.Context, cmd *cli.Command, name string) (c api.PlanChange, err error) {
	all, err := s.plans(ctx)
	if err != nil {
		return c, err
	}
	at := slices.IndexFunc(all, func(p api.Plan) bool { return p.Name == name })
	fresh := at < 0
	if fresh {
		at = slices.IndexFunc(all, func(p api.Plan) bool { return p.Name == "fleet" })
	}
	was := all[at]
	c = api.PlanChange{
		Covers:      was.Covers,
		Tests:       was.Tests,
		Zone:        was.Zone,
		Windows:     was.Windows,
		Barred:      was.Barred,
		RunOver:     was.RunOver,
		Limits:      was.Limits,
		LeastMargin: was.LeastMargin,
		BusyPercent: was.BusyPercent,
		Wake:        was.Wake,
	}
	if fresh {
		c.Covers = nil
	}
	if scopes := planScopes(cmd); len(scopes) > 0 {
		c.Covers = scopes
	}
	if len(c.Covers) == 0 {
		return c, usage("give what plan %s applies to: --pool, --host or --drive\nExample: %s", name, example(cmd))
	}
	if err := changeTests(cmd, &c); err != nil {
		return c, err
	}
	planOptions(cmd, &c)
	return c, nil
}

// planScopes are the scopes of a plan in the options.
func planScopes(cmd *cli.Command) (out []api.PlanScope) {
	for _, kind := range []api.PlanScopeKind{api.PlanScopeKindPool, api.PlanScopeKindHost, api.PlanScopeKindDrive} {
		for _, n := range cmd.StringSlice(string(kind)) {
			out = append(out, api.PlanScope{Kind: kind, Name: n})
		}
	}
	return out
}

// changeTests changes the tests of a plan as the options say.
func changeTests(cmd *cli.Command, c *api.PlanChange) error {
	within := -1.0
	if w := cmd.String("within"); w != "" {
		d, err := back("--within", w)
		if err != nil {
			return err
		}
		within = d.Hours()
	}
	for _, kind := range []api.PlanTestKind{api.PlanTestKindShort, api.PlanTestKindExtended, api.PlanTestKindConveyance} {
		every := strings.TrimSpace(cmd.String(string(kind)))
		i := slices.IndexFunc(c.Tests, func(t api.PlanTest) bool { return t.Kind == kind })
		switch {
		case every == "never" && i >= 0:
			c.Tests = slices.Delete(slices.Clone(c.Tests), i, i+1)
			continue
		case every == "never" || every == "" && i < 0:
			continue
		case every != "" && i >= 0:
			c.Tests[i].Every = every
		case every != "":
			c.Tests = append(c.Tests, api.PlanTest{Kind: kind, Every: every})
			i = len(c.Tests) - 1
		}
		if within >= 0 {
			c.Tests[i].WithinHours = within
		}
	}
	return nil
}

// planOptions changes the other properties of a plan.
func planOptions(cmd *cli.Command, c *api.PlanChange) {
	if cmd.IsSet("zone") {
		c.Zone = cmd.String("zone")
	}
	for _, l := range []struct {
		flag, none string
		to         *[]string
	}{{"window", "any", &c.Windows}, {"bar", "none", &c.Barred}} {
		if all := cmd.StringSlice(l.flag); len(all) == 1 && all[0] == l.none {
			*l.to = []string{}
		} else if len(all) > 0 {
			*l.to = all
		}
	}
	for flag, to := range map[string]*int{"per-group": &c.Limits.Group, "per-pool": &c.Limits.Pool,
		"per-enclosure": &c.Limits.Enclosure, "per-host": &c.Limits.Host, "least-margin": &c.LeastMargin} {
		if cmd.IsSet(flag) {
			*to = cmd.Int(flag)
		}
	}
	for flag, to := range map[string]*bool{"run-over": &c.RunOver, "wake": &c.Wake} {
		if cmd.IsSet(flag) {
			*to = cmd.Bool(flag)
		}
	}
	if cmd.IsSet("busy") {
		c.BusyPercent = cmd.Float("busy")
	}
}
