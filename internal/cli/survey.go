package cli

import (
	"bufio"
	"cmp"
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func surveyCommand() *cli.Command {
	act := func(name, use, args, example string, build func(cmd *cli.Command, req *api.SurveyAct) error) *cli.Command {
		return &cli.Command{
			Name:        name,
			Usage:       use,
			ArgsUsage:   args,
			Description: "Example: " + example,
			Flags: []cli.Flag{
				&cli.BoolFlag{Name: "all", Usage: "begin: also survey drives whose bay is known", Hidden: name != "begin"},
			},
			Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
				host := cmd.Args().First()
				if host == "" {
					return usage("name a host\nExample: %s", example)
				}
				req := api.SurveyAct{Act: api.SurveyActAct(name), All: cmd.Bool("all")}
				if build != nil {
					if err := build(cmd, &req); err != nil {
						return err
					}
				}
				return surveyor{s}.walk(ctx, host, req)
			}),
		}
	}
	return &cli.Command{
		Name:        "survey",
		Usage:       "find out which drive is in which bay of a host, one by one",
		Description: "Example: lantern survey begin guillemot\n         lantern survey show guillemot",
		Commands: []*cli.Command{
			act(
				"begin",
				"start, and light the first drive",
				"<host>",
				"lantern survey begin guillemot\n         lantern survey begin guillemot --all",
				nil,
			),
			{
				Name: "walk",
				Usage: "do the survey: type the number of the lit bay, p to pass, b to go back, " +
					"q to leave it for later",
				ArgsUsage:   "<host> [section]",
				Description: "Example: lantern survey walk guillemot\n         lantern survey walk guillemot front",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					host, section := cmd.Args().First(), cmp.Or(cmd.Args().Get(1), "front")
					if host == "" {
						return usage("name a host\nExample: %s", example(cmd))
					}
					return surveyor{s}.walkOn(ctx, host, section)
				}),
			},
			{
				Name:        "show",
				Usage:       "show its progress",
				ArgsUsage:   "<host>",
				Description: "Example: lantern survey show guillemot\n         lantern survey show guillemot -o json",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					host, err := one(cmd, "a host")
					if err != nil {
						return err
					}
					v, err := surveyor{s}.survey(ctx, host)
					if err != nil {
						return err
					}
					return surveyor{s}.showSurvey(v)
				}),
			},
			act(
				"tap",
				"record in which bay the light is",
				"<host> <bay>",
				"lantern survey tap guillemot front/7\n         lantern survey tap guillemot guillemot/front/7",
				func(cmd *cli.Command, req *api.SurveyAct) error {
					bay := cmd.Args().Get(1)
					if strings.Count(bay, "/") == 1 {
						bay = cmd.Args().First() + "/" + bay
					}
					if req.Bay = bay; bay == "" {
						return usage("name the bay that is lit\nExample: lantern survey tap guillemot front/7")
					}
					return nil
				},
			),
			act(
				"pass",
				"no light seen: leave this drive until later",
				"<host>",
				"lantern survey pass guillemot\n         lantern survey pass petrel",
				nil,
			),
			act(
				"back",
				"undo the last bay",
				"<host>",
				"lantern survey back guillemot\n         lantern survey back petrel",
				nil,
			),
			act(
				"read",
				"type label tails in the order of the bays; - for an empty bay",
				"<host> <first bay> <tail>...",
				"lantern survey read guillemot front/1 SU786 LG975 - NY898\n         lantern survey read guillemot front/9 -",
				func(cmd *cli.Command, req *api.SurveyAct) error {
					if cmd.Args().Len() < 3 {
						return usage(
							"give the first bay, and the tails from there on\nExample: lantern survey read " +
								"guillemot front/1 SU786 LG975 - NY898",
						)
					}
					req.Bay, req.Tails = cmd.Args().First()+"/"+strings.TrimPrefix(
						cmd.Args().Get(1),
						cmd.Args().First()+"/",
					), cmd.Args().Slice()[2:]
					return nil
				},
			),
			act(
				"end",
				"finish and save what was found",
				"<host>",
				"lantern survey end guillemot\n         lantern survey end petrel",
				nil,
			),
			act(
				"leave",
				"discard what this survey found",
				"<host>",
				"lantern survey leave guillemot\n         lantern survey leave petrel",
				nil,
			),
		},
	}
}

// surveyor guides a person through the bays of a host, one after the other.
type surveyor struct{ *session }

func (s surveyor) survey(ctx context.Context, host string) (api.Survey, error) {
	return ask[api.Survey](s.client.GetSurvey(ctx, host))
}

func (s surveyor) step(ctx context.Context, host string, req api.SurveyAct) (api.Survey, error) {
	return ask[api.Survey](s.client.ActOnSurvey(ctx, host, nil, req))
}

func (s surveyor) walk(ctx context.Context, host string, req api.SurveyAct) error {
	var before api.Survey
	if req.Act == api.End || req.Act == api.Leave {
		before, _ = s.survey(ctx, host)
	}
	v, err := s.step(ctx, host, req)
	if err != nil {
		return err
	}
	if before.Open && s.out.format == "table" {
		s.surveyEnded(before, req.Act == api.End)
		return nil
	}
	return s.showSurvey(v)
}

// surveyEnded prints the result of a survey.
func (s surveyor) surveyEnded(v api.Survey, kept bool) {
	s.out.line("The survey of %s has ended; %s %s.", v.Host, plural(len(v.Done), "bay"),
		map[bool]string{true: "kept", false: "forgotten"}[kept])
	for _, d := range v.Done {
		s.out.line("  %s  %s", d.Bay, d.Tail)
	}
	if len(v.Skipped) > 0 {
		s.out.line("  nobody saw the light of: %s", strings.Join(v.Skipped, ", "))
	}
	if rest := v.Left - len(v.Skipped); rest > 0 {
		s.out.line("  not asked about yet: %s. Go on with: lantern survey begin %s", plural(rest, "drive"), v.Host)
	}
}

func (s surveyor) showSurvey(v api.Survey) error {
	if done, err := s.out.value(v); done {
		return err
	}
	switch {
	case !v.Open:
		s.out.line("No survey is running on %s. Start one: lantern survey begin %s", v.Host, v.Host)
	case v.Now.Drive == "":
		s.out.line("Every drive of %s has a bay. Save with: lantern survey end %s", v.Host, v.Host)
	default:
		shown := "is asked to light"
		if v.Now.Lit {
			shown = map[bool]string{true: "blinks: three flashes, and a pause", false: "is lit"}[v.Now.How == "rhythm"]
		}
		s.out.line("%s %s  %s %s  (%d left)", s.out.paint(v.Now.Tail, bold), shown, v.Now.Model, v.Now.Pool, v.Left)
		if v.Now.Says != "" {
			s.out.line("  %s", v.Now.Says)
		}
	}
	for _, d := range v.Done {
		s.out.line("  %s  %s", d.Bay, d.Tail)
	}
	if len(v.Skipped) > 0 {
		s.out.line("  nobody saw: %s", strings.Join(v.Skipped, ", "))
	}
	return nil
}

// walkOn runs a survey line by line.
func (s surveyor) walkOn(ctx context.Context, host, section string) error {
	v, err := s.survey(ctx, host)
	if err == nil && !v.Open {
		v, err = s.step(ctx, host, api.SurveyAct{Act: api.Begin})
	}
	if err != nil {
		return err
	}
	defer s.guard(ctx)()
	lines := bufio.NewScanner(s.in)
	for v.Now.Drive != "" {
		s.out.line("%s lights (%d left). Bay of %s/%s?", s.out.paint(v.Now.Tail, bold), v.Left, host, section)
		if !lines.Scan() {
			break
		}
		req := api.SurveyAct{Act: api.Tap, Bay: host + "/" + section + "/" + strings.TrimSpace(lines.Text())}
		switch strings.TrimSpace(lines.Text()) {
		case "":
			continue
		case "p":
			req = api.SurveyAct{Act: api.Pass}
		case "b":
			req = api.SurveyAct{Act: api.Back}
		case "q":
			s.out.line("left for later; go on with: lantern survey walk %s %s", host, section)
			return nil
		}
		next, err := s.step(ctx, host, req)
		if err != nil {
			s.out.line("%s", err)
			continue
		}
		v = next
	}
	return s.showSurvey(v)
}
