package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func ruleCommand() *cli.Command {
	listed := listing(func(ctx context.Context, s *session, _ *cli.Command) error {
		r, err := s.rules(ctx)
		if err != nil {
			return err
		}
		if len(s.out.choice.columns) == 0 {
			if done, err := s.out.value(r); done {
				return err
			}
		}
		var rows [][]cell
		for _, x := range r.Rules {
			on := "on"
			if !x.On {
				on = "off"
			}
			rows = append(
				rows,
				[]cell{
					{text: x.Id, style: bold},
					{text: string(x.Level)},
					{text: x.Strength},
					{text: on},
					countCell(x.HoldsFor),
					{text: x.Title},
				},
			)
		}
		for _, x := range r.Own {
			rows = append(
				rows,
				[]cell{
					{text: x.Id, style: bold},
					{text: string(x.Verdict)},
					{text: "own"},
					{text: "on"},
					countCell(x.HoldsFor),
					{text: x.Expression},
				},
			)
		}
		return s.out.table(
			[]column{
				col("rule"),
				col("up_to").as("UP TO"),
				col("sign").spare(1),
				col("state"),
				col("holds_for").as("HOLDS FOR"),
				col("what").fold(20),
			},
			rows,
		)
	})
	where := []cli.Flag{
		&cli.StringFlag{Name: "model", Usage: "only for drives of this model"},
		&cli.StringFlag{Name: "pool", Usage: "only for drives of this pool; has priority over --model"},
	}
	return &cli.Command{
		Name:  "rule",
		Usage: "rules that flag drives: built-in, thresholds, and your own",
		Description: "Example: lantern rule explain pending-sectors\n         lantern rule try " +
			"'pending_sectors_24h > 2 && temperature_celsius > 45'",
		Flags:  tableFlags(),
		Action: listed,
		Commands: []*cli.Command{
			{
				Name:        "list",
				Usage:       "list rules, and how many drives each one flags",
				Description: "Example: lantern rule list\n         lantern rule list --columns rule,holds_for",
				Flags:       tableFlags(),
				Action:      listed,
			},
			{
				Name:        "explain",
				Usage:       "explain one rule",
				ArgsUsage:   "<rule>",
				Description: "Example: lantern rule explain link-crc\n         lantern rule explain pending-sectors",
				Action:      with(explainRule),
			},
			{
				Name:        "settings",
				Usage:       "list the thresholds of rules",
				Description: "Example: lantern rule settings\n         lantern rule settings -o csv",
				Flags:       tableFlags(),
				Action:      listing(ruleSettings),
			},
			{
				Name:      "set",
				Usage:     "change a threshold",
				ArgsUsage: "<threshold> <value>",
				Description: "Example: lantern rule set burst_sectors 20 --model \"VELDRUN VR4-4000\"\n" +
					"         lantern rule set slow_factor 8 --pool driftnet --preview",
				Flags: append(append([]cli.Flag{
					&cli.BoolFlag{Name: "preview", Usage: "change nothing: list the drives that it would have flagged over 90 days"},
				}, where...), tableFlags()...),
				Action: listing(func(ctx context.Context, s *session, cmd *cli.Command) error {
					if cmd.Args().Len() != 2 {
						return usage("lantern rule set needs a threshold and a value\nExample: %s", example(cmd))
					}
					v, err := strconv.ParseFloat(cmd.Args().Get(1), 64)
					if err != nil {
						return usage("%q is not a number", cmd.Args().Get(1))
					}
					req := api.ThresholdSet{Name: cmd.Args().First(), Value: v, Model: cmd.String("model"), Pool: cmd.String("pool")}
					if cmd.Bool("preview") {
						return ruler{s}.previewThreshold(ctx, req)
					}
					return ruler{s}.setThreshold(ctx, req)
				}),
			},
			{
				Name:        "unset",
				Usage:       "use the default value again",
				ArgsUsage:   "<threshold>",
				Description: "Example: lantern rule unset burst_sectors\n         lantern rule unset slow_factor --pool driftnet",
				Flags:       where,
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					name, err := one(cmd, "a threshold")
					if err != nil {
						return err
					}
					return ruler{s}.setThreshold(
						ctx,
						api.ThresholdSet{
							Name:  name,
							Usual: true,
							Model: cmd.String("model"),
							Pool:  cmd.String("pool"),
						},
					)
				}),
			},
			{
				Name:        "off",
				Usage:       "switch a built-in rule off",
				ArgsUsage:   "<rule>",
				Description: "Example: lantern rule off service-life\n         lantern rule off link-crc",
				Action:      with(switchRule(false)),
			},
			{
				Name:        "on",
				Usage:       "switch a built-in rule on again",
				ArgsUsage:   "<rule>",
				Description: "Example: lantern rule on service-life\n         lantern rule on link-crc",
				Action:      with(switchRule(true)),
			},
			{
				Name:      "try",
				Usage:     "list the drives that an expression would have flagged, and when; nothing is saved",
				ArgsUsage: "<expression>",
				Description: "Example: lantern rule try 'pending_sectors_24h > 2 && temperature_celsius > 45' " +
					"--since 90d\n         lantern rule try 'link_crc_errors_7d > 50'\n\n" +
					"Expressions are CEL. Metrics stand by their names (lantern metrics); _1h, " +
					"_24h, _7d or _90d behind one asks how much it grew.\nmodel, medium, host and pool are texts.",
				Flags: append([]cli.Flag{
					&cli.StringFlag{Name: "since", Value: "90d", Usage: "how far back: 12h, 90d, 6w or 2y"},
				}, tableFlags()...),
				Action: listing(func(ctx context.Context, s *session, cmd *cli.Command) error {
					expression, err := one(cmd, "an expression")
					if err != nil {
						return err
					}
					ago, err := back("--since", cmd.String("since"))
					if err != nil {
						return err
					}
					v, err := ask[api.RuleTried](
						s.client.TryRule(ctx, api.RuleTry{Expression: expression, Hours: int(ago / time.Hour)}),
					)
					if err != nil {
						return err
					}
					return ruler{s}.tried(v)
				}),
			},
			{
				Name:      "add",
				Usage:     "save a rule of your own, after trying it on the last 90 days",
				ArgsUsage: "<name> <expression>",
				Description: "Example: lantern rule add warm-and-growing 'pending_sectors_7d > 0 && " +
					"temperature_celsius > 45' --says \"is warm, and has new bad sectors\" --verdict watch\n" +
					"         lantern rule add bad-cable 'link_crc_errors_7d > 50' --says \"has a bad link\"",
				Flags: []cli.Flag{
					&cli.StringFlag{
						Name:  "says",
						Usage: "its text when it holds, such as \"is warm and growing\"",
					},
					&cli.StringFlag{Name: "do", Usage: "what to do then"},
					&cli.StringFlag{Name: "verdict", Value: "watch", Usage: "watch or replace"},
				},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					if cmd.Args().Len() != 2 {
						return usage("lantern rule add needs a name and an expression\nExample: %s", example(cmd))
					}
					return ruler{s}.putRule(
						ctx,
						cmd.Args().First(),
						api.RulePut{
							Expression: cmd.Args().Get(1),
							Says:       cmd.String("says"),
							Do:         cmd.String("do"),
							Verdict:    api.Verdict(cmd.String("verdict")),
						},
					)
				}),
			},
			{
				Name:        "remove",
				Usage:       "remove a rule of your own",
				ArgsUsage:   "<name>",
				Description: "Example: lantern rule remove warm-and-growing\n         lantern rule remove bad-cable",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					name, err := one(cmd, "a rule")
					if err != nil {
						return err
					}
					return s.done(name+" is gone", did(s.client.RemoveRule(ctx, name)))
				}),
			},
		},
	}
}

// done prints what was done, if there was no error.
func (s *session) done(says string, err error) error {
	if err == nil {
		s.out.line("%s", says)
	}
	return err
}

func (s *session) rules(ctx context.Context) (r api.Rules, err error) {
	return ask[api.Rules](s.client.ListRules(ctx))
}

func explainRule(ctx context.Context, s *session, cmd *cli.Command) error {
	id, err := one(cmd, "a rule")
	if err != nil {
		return err
	}
	all, err := s.rules(ctx)
	if err != nil {
		return err
	}
	for _, r := range all.Rules {
		if r.Id != id {
			continue
		}
		if done, err := s.out.value(r); done {
			return err
		}
		state := ""
		if !r.On {
			state = " (switched off)"
		}
		s.out.line("%s: %s%s", s.out.paint(r.Id, bold), r.Title, state)
		for _, l := range [][2]string{{"for", r.For}, {"holds when", r.When},
			{"says", "up to " + string(r.Level) + ", evidence " + r.Strength}, {"why", r.Why}, {"do", r.Do},
			{"stays", span(time.Duration(r.HoldSeconds*float64(time.Second))) + " after it was last true"},
			{"now", fmt.Sprintf("it flags %d of the drives", r.HoldsFor)}} {
			s.out.line("  %-10s  %s", l[0], l[1])
		}
		for _, t := range all.Thresholds {
			if strings.Contains(r.When, t.Name) {
				s.out.line("  %-10s  %s is %s %s", "", t.Name, number(t.Value), t.Unit)
			}
		}
		return nil
	}
	for _, r := range all.Own {
		if r.Id == id {
			if done, err := s.out.value(r); done {
				return err
			}
			s.out.line(
				"%s: %s\n  written by %s on %s\n  %s when  %s\n  do  %s",
				s.out.paint(r.Id, bold),
				r.Says,
				r.By,
				r.Made.Local().Format("2006-01-02"),
				r.Verdict,
				r.Expression,
				r.Do,
			)
			return nil
		}
	}
	return &Failure{Code: ExitFailed, Says: fmt.Sprintf("no rule %q. List them with: lantern rule list", id)}
}

func ruleSettings(ctx context.Context, s *session, _ *cli.Command) error {
	all, err := s.rules(ctx)
	if err != nil {
		return err
	}
	if len(s.out.choice.columns) == 0 {
		if done, err := s.out.value(all.Thresholds); done {
			return err
		}
	}
	var rows [][]cell
	for _, t := range all.Thresholds {
		value := cell{text: number(t.Value), right: true, raw: t.Value}
		if t.Value != t.Usual {
			value.style = bold
		}
		rows = append(
			rows,
			[]cell{
				{text: t.Name, style: bold},
				{text: ""},
				value,
				{text: number(t.Usual), right: true, style: dim, raw: t.Usual},
				{text: t.Unit},
				{text: t.Means},
			},
		)
		for _, o := range t.Others {
			rows = append(
				rows,
				[]cell{
					{text: "", raw: t.Name},
					{text: strings.TrimSpace(o.Model + " " + o.Pool)},
					{text: number(o.Value), right: true, style: bold, raw: o.Value},
					{text: "", right: true, raw: t.Usual},
					{text: t.Unit},
					{text: ""},
				},
			)
		}
	}
	return s.out.table(
		[]column{
			col("threshold"),
			col("for").fold(10),
			col("value"),
			col("usual"),
			col("unit").spare(1),
			col("means").as("WHAT").fold(20),
		},
		rows,
	)
}

// ruler changes rules, and shows the effect of a change first.
type ruler struct{ *session }

func (s ruler) setThreshold(ctx context.Context, req api.ThresholdSet) error {
	r, err := ask[api.Rules](s.client.SetThreshold(ctx, req))
	if err != nil {
		return err
	}
	if done, err := s.out.value(r.Thresholds); done {
		return err
	}
	for _, t := range r.Thresholds {
		if t.Name == req.Name {
			v := t.Value
			for _, o := range t.Others {
				if o.Model == req.Model && o.Pool == req.Pool {
					v = o.Value
				}
			}
			s.out.line(
				"%s is %s %s%s; verdicts follow at once",
				t.Name,
				number(v),
				t.Unit,
				map[bool]string{true: " for " + strings.TrimSpace(req.Model+" "+req.Pool)}[req.Model+req.Pool != ""],
			)
		}
	}
	return nil
}

// previewThreshold lists what a threshold would flag.
func (s ruler) previewThreshold(ctx context.Context, req api.ThresholdSet) error {
	v, err := ask[api.ThresholdTried](s.client.TryThreshold(ctx, req))
	if err != nil {
		return err
	}
	if s.out.format == "table" {
		s.out.line(
			"With %s at %s, %d of %d drives would have been flagged in the last %s by: %s. Nothing was changed.",
			req.Name,
			number(req.Value),
			len(v.Flagged),
			v.Drives,
			span(time.Duration(v.Hours)*time.Hour),
			strings.Join(v.Rules, ", "),
		)
		if len(v.Flagged) == 0 {
			return nil
		}
	}
	return list(
		s.session,
		v.Flagged,
		"",
		[]column{
			col("would"),
			col("verdict").as("IS NOW"),
			col("tail"),
			col("bay"),
			col("pool").spare(1),
			col("first").spare(2),
			col("last"),
			col("now").as("HOLDS NOW"),
		},
		func(f api.RuleFlag) []cell {
			return []cell{
				verdictCell(f.Would),
				verdictCell(f.Verdict),
				{text: f.Tail, style: bold},
				{text: f.Bay},
				{text: f.Pool},
				timeCell(f.First, minutes),
				timeCell(f.Last, minutes),
				{text: yesNo(f.Now), raw: f.Now},
			}
		},
	)
}

func switchRule(on bool) func(context.Context, *session, *cli.Command) error {
	return func(ctx context.Context, s *session, cmd *cli.Command) error {
		id, err := one(cmd, "a rule")
		if err != nil {
			return err
		}
		if err := did(s.client.PutRule(ctx, id, api.RulePut{On: on})); err != nil {
			return err
		}
		s.out.line("%s is %s", id, map[bool]string{true: "on", false: "off"}[on])
		return nil
	}
}

func (s ruler) putRule(ctx context.Context, id string, req api.RulePut) error {
	v, err := ask[api.RuleTried](s.client.PutRule(ctx, id, req))
	if err != nil {
		return err
	}
	s.out.choice.columns = nil
	if s.out.format == "table" {
		s.out.line("%s is kept.", id)
	}
	return s.tried(v)
}

func (s ruler) tried(v api.RuleTried) error {
	if s.out.format == "table" {
		s.out.line(
			"Over %s it would have flagged %d of %d drives (%d readings).",
			span(time.Duration(v.Hours)*time.Hour),
			len(v.Flagged),
			v.Drives,
			v.Readings,
		)
		if len(v.Flagged) == 0 {
			return nil
		}
	}
	return list(
		s.session,
		v.Flagged,
		"",
		[]column{col("tail"), col("bay"), col("pool").spare(1), col("first"), col("last"), col("readings"), col("now")},
		func(f api.RuleFlag) []cell {
			return []cell{
				{text: f.Tail, style: bold},
				{text: f.Bay},
				{text: f.Pool},
				timeCell(f.First, minutes),
				timeCell(f.Last, minutes),
				countCell(f.Times),
				{text: yesNo(f.Now), raw: f.Now},
			}
		},
	)
}
