package cli

import (
	"bufio"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/oapi-codegen/runtime/types"
	"github.com/urfave/cli/v3"

	"lantern/internal/api"
	"lantern/internal/nearest"
)

// act is an action on one swap.
type act func(ctx context.Context, s *session, cmd *cli.Command, id string) (api.Swap, error)

// swapAct makes a command that acts on one swap and then shows its state.
func swapAct(name, use, eg string, flags []cli.Flag, do act) *cli.Command {
	return &cli.Command{Name: name, Usage: use, ArgsUsage: "[swap]", Description: "Example: " + eg, Flags: flags,
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			if cmd.Args().Len() > 1 {
				return usage("%s takes one swap\nExample: %s", cmd.FullName(), eg)
			}
			id, err := s.swapID(ctx, cmd.Args().First())
			if err != nil {
				return err
			}
			w, err := do(ctx, s, cmd, id)
			if err != nil {
				return err
			}
			if name != "show" && w.Phase == api.SwapPhasePull && w.Hold == "" && w.Held == "" && len(w.Wrong) == 0 {
				if k, bad := loaded(cmd); bad == nil && k.String("light") == "always" {
					w = s.lightPull(ctx, w)
				}
			}
			if done, err := s.out.value(w); done {
				return err
			}
			s.swap(w)
			return nil
		})}
}

// lightPull turns on the light of the bay from which a drive must be pulled, if it is off.
func (s *session) lightPull(ctx context.Context, w api.Swap) api.Swap {
	if w.Light.Id != "" || w.Old.Bay == "" {
		return w
	}
	l, err := ask[api.Light](s.client.LightOn(ctx, nil, api.LightOn{Drive: w.Old.Key, Seconds: 30 * 60}))
	if err != nil {
		fmt.Fprintf(s.errOut, "the bay could not be lit: %v\n", err)
		return w
	}
	w.Light = l
	return w
}

func swapCommand() *cli.Command {
	list := listing(func(ctx context.Context, s *session, cmd *cli.Command) error {
		all, err := ask[[]api.Swap](s.client.ListSwaps(ctx, &api.ListSwapsParams{}))
		if err != nil {
			return err
		}
		return list(
			s,
			all,
			"No swap was planned yet. Begin with: lantern swap plan <drive>",
			[]column{
				col("swap").spare(1),
				col("phase").as("AT"),
				col("pool"),
				col("old"),
				col("new"),
				col("led_by").as("LED BY"),
				col("planned"),
			},
			func(w api.Swap) []cell {
				return []cell{
					{text: w.Id},
					{text: string(w.Phase), style: bold},
					{text: w.Pool},
					{text: w.Old.Tail},
					{text: w.New.Tail},
					{text: w.Lead},
					timeCell(w.PlannedAt, minutes),
				}
			},
		)
	})
	reason := func(use string) []cli.Flag { return []cli.Flag{&cli.StringFlag{Name: "reason", Usage: use}} }
	why := func(cmd *cli.Command) api.Reason { return api.Reason{Reason: cmd.String("reason")} }
	begin := []cli.Flag{
		&cli.StringFlag{Name: "reason", Usage: "reason; required if a check warns"},
		&cli.StringFlag{
			Name: "backup",
			Usage: "date of the newest backup that you vouch for, such as 2026-11-22; needed where the pool " +
				"cannot lose another drive on the way",
		},
		&cli.BoolFlag{Name: "no-backup", Usage: "there is no backup"},
		&cli.StringFlag{
			Name:  "lose",
			Usage: "the pool's name, letter by letter: confirms that the volumes named by the checks will be lost",
		},
	}
	return &cli.Command{
		Name:        "swap",
		Usage:       "replace a drive, step by step",
		Description: "Example: lantern swap plan ZU006\n         lantern swap list",
		Flags:       tableFlags(),
		Action:      list,
		Commands: []*cli.Command{
			{
				Name:        "list",
				Usage:       "list swaps, newest first",
				Description: "Example: lantern swap list\n         lantern swap list --columns pool,old,phase",
				Flags:       tableFlags(),
				Action:      list,
			},
			{
				Name:        "plan",
				Usage:       "show steps, reasons and checks; nothing is changed",
				ArgsUsage:   "<drive>",
				Description: "Example: lantern swap plan ZU006\n         lantern swap plan skerry/front/7 --keep-spare",
				Flags: []cli.Flag{
					&cli.BoolFlag{
						Name:  "keep-spare",
						Usage: "do not use the pool's spare, even if it could be filled beside the drive",
					},
				},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					drive, err := one(cmd, "the drive to replace")
					if err != nil {
						return err
					}
					w, err := ask[api.Swap](
						s.client.PlanSwap(ctx, nil, api.PlanSwap{Drive: drive, KeepSpare: cmd.Bool("keep-spare")}),
					)
					return tell(s, s.swap, w, err)
				}),
			},
			swapAct(
				"show",
				"show a swap",
				"lantern swap show\n         lantern swap show ZU006",
				nil,
				func(ctx context.Context, s *session, _ *cli.Command, id string) (api.Swap, error) {
					return s.getSwap(ctx, id)
				},
			),
			swapAct(
				"begin",
				"start a planned swap",
				"lantern swap begin --reason \"LM417 comes next\" --backup 2026-11-22\n"+
					"         lantern swap begin ZU006 --no-backup --reason \"the data can be made again\"",
				begin,
				func(ctx context.Context, s *session, cmd *cli.Command, id string) (api.Swap, error) {
					req := api.BeginSwap{
						Reason:   cmd.String("reason"),
						NoBackup: cmd.Bool("no-backup"),
						Pool:     cmd.String("lose"),
					}
					if day := cmd.String("backup"); day != "" {
						at, err := time.Parse(time.DateOnly, day)
						if err != nil {
							return api.Swap{}, usage("--backup takes a day such as 2026-11-22, not %q", day)
						}
						req.Backup = types.Date{Time: at}
					}
					return ask[api.Swap](s.client.BeginSwap(ctx, id, nil, req))
				},
			),
			swapAct(
				"next",
				"do the current step: give its order, or record that it was done by hand",
				"lantern swap next\n         lantern swap next ZU006 --reason \"seen by two of us\"",
				reason("reason to continue despite a warning"),
				func(ctx context.Context, s *session, cmd *cli.Command, id string) (api.Swap, error) {
					return ask[api.Swap](s.client.NextInSwap(ctx, id, nil, why(cmd)))
				},
			),
			swapAct(
				"back",
				"go back one step, if it can be undone",
				"lantern swap back\n         lantern swap back ZU006",
				nil,
				func(ctx context.Context, s *session, cmd *cli.Command, id string) (api.Swap, error) {
					return ask[api.Swap](s.client.BackInSwap(ctx, id, nil, api.Reason{}))
				},
			),
			swapAct(
				"confirm",
				"confirm the new drive by its label tail",
				"lantern swap confirm --tail XH001\n         lantern swap confirm --tail XH001 --reason \"no "+
					"time to test it first\"",
				append(
					reason("reason, if a check of the new drive warns, for example: not tested"),
					&cli.StringFlag{Name: "tail", Usage: "label tail as read on the label; asked for if not given"},
				),
				func(ctx context.Context, s *session, cmd *cli.Command, id string) (api.Swap, error) {
					tail, err := s.typed(
						ctx,
						cmd.String("tail"),
						"label tail of the drive you put in",
						"label tail",
						"--tail",
					)
					if err != nil {
						return api.Swap{}, err
					}
					return ask[api.Swap](
						s.client.ConfirmSwap(ctx, id, nil, api.ConfirmTail{Tail: tail, Reason: cmd.String("reason")}),
					)
				},
			),
			swapAct(
				"hold",
				"put a swap on hold: nothing is ordered until it is resumed",
				"lantern swap hold --reason \"the new drive comes tomorrow\"\n         lantern swap hold ZU006 --reason lunch",
				reason("reason (required)"),
				func(ctx context.Context, s *session, cmd *cli.Command, id string) (api.Swap, error) {
					return ask[api.Swap](s.client.HoldSwap(ctx, id, nil, why(cmd)))
				},
			),
			swapAct(
				"resume",
				"resume a swap that is on hold",
				"lantern swap resume\n         lantern swap resume ZU006",
				nil,
				func(ctx context.Context, s *session, cmd *cli.Command, id string) (api.Swap, error) {
					return ask[api.Swap](s.client.ResumeSwap(ctx, id, nil, api.Reason{}))
				},
			),
			swapAct(
				"lead",
				"hand the lead to somebody else, or take it over",
				"lantern swap lead --to engineer\n         lantern swap lead --reason \"ida went home\"",
				append(
					reason("reason to take it over"),
					&cli.StringFlag{Name: "to", Usage: "the new leader; default: you"},
				),
				func(ctx context.Context, s *session, cmd *cli.Command, id string) (api.Swap, error) {
					return ask[api.Swap](
						s.client.LeadSwap(
							ctx,
							id,
							nil,
							api.LeadSwap{To: cmd.String("to"), Reason: cmd.String("reason")},
						),
					)
				},
			),
			swapAct(
				"abandon",
				"end a swap early, and list what remains to be done",
				"lantern swap abandon --reason \"no spare at hand\"\n"+
					"         lantern swap abandon ZU006 --reason \"it was the cable\"",
				reason("reason (required)"),
				func(ctx context.Context, s *session, cmd *cli.Command, id string) (api.Swap, error) {
					return ask[api.Swap](s.client.AbandonSwap(ctx, id, nil, why(cmd)))
				},
			),
			{
				Name:      "fate",
				Usage:     "record the fate of the replaced drive: return, stock or destroy",
				ArgsUsage: "<swap> <fate>",
				Description: "Example: lantern swap fate ZU006 return --note \"half a year of warranty left\"\n" +
					"         lantern swap fate skerry/front/7 destroy",
				Flags: []cli.Flag{&cli.StringFlag{Name: "note", Usage: "note about it"}},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					if cmd.Args().Len() != 2 {
						return usage("name a swap and the fate of its old drive\nExample: %s", example(cmd))
					}
					id, err := s.swapID(ctx, cmd.Args().First())
					if err != nil {
						return err
					}
					w, err := ask[api.Swap](
						s.client.FateOfOld(
							ctx,
							id,
							nil,
							api.OldFate{Fate: api.OldFateFate(cmd.Args().Get(1)), Note: cmd.String("note")},
						),
					)
					return tell(s, s.swap, w, err)
				}),
			},
			{
				Name:      "report",
				Usage:     "print the record of a swap: steps, people, checks, and the time at each margin",
				ArgsUsage: "[swap]",
				Description: "Example: lantern swap report ZU006\n         lantern --output json swap report " +
					"ZU006 > record.json\n         lantern swap report ZU006 --evidence return-ZU006.zip",
				Flags: []cli.Flag{
					&cli.StringFlag{
						Name:  "evidence",
						Usage: "write the evidence for a warranty return to this file",
					},
				},
				Action: with(swapReport),
			},
		},
	}
}

// typed is a text that a person read from a label and typed: from a flag, or asked for. It has no default.
func (s *session) typed(ctx context.Context, given, ask, what, flag string) (string, error) {
	if given != "" {
		return given, nil
	}
	fmt.Fprintf(s.errOut, "%s: ", ask)
	end := s.guard(ctx)
	line, err := bufio.NewReader(s.in).ReadString('\n')
	end()
	if line = strings.TrimSpace(line); line != "" {
		return line, nil
	}
	if err != nil {
		return "", usage("no %s was typed; give it with %s", what, flag)
	}
	return "", usage("no %s was typed", what)
}

func (s *session) getSwap(ctx context.Context, id string) (api.Swap, error) {
	return ask[api.Swap](s.client.GetSwap(ctx, id))
}

// swapID finds a swap by its id, its pool, or its old drive, named by tail, serial, bay or id; or, with no name, the
// only one that is open.
func (s *session) swapID(ctx context.Context, name string) (string, error) {
	all, err := ask[[]api.Swap](s.client.ListSwaps(ctx, &api.ListSwapsParams{Open: name == ""}))
	if err != nil {
		return "", err
	}
	fits := s.swapsNamed(ctx, all, name)
	open := slices.DeleteFunc(slices.Clone(fits), func(w api.Swap) bool { return !w.Open })
	if len(open) > 0 {
		fits = open
	}
	switch {
	case len(open) > 1 && name != "":
		return "", usage("%d open swaps match %q; name one. List them with: lantern swap list", len(open), name)
	case len(fits) == 1 || len(fits) > 1 && name != "":
		return fits[0].Id, nil
	case len(fits) == 0 && name == "":
		return "", &Failure{Code: ExitFailed, Says: "No swap is open. Begin with: lantern swap plan <drive>"}
	case len(fits) == 0:
		tails := make([]string, len(all))
		for i, w := range all {
			tails[i] = w.Old.Tail
		}
		return "", usage("no swap %q%s List them with: lantern swap list", name, nearest.Meant(name, tails))
	}
	return "", usage("%d swaps are open; name one. List them with: lantern swap list", len(fits))
}

// swapsNamed are the swaps with a name: their id, the old drive's tail, key or serial, and for open ones a bay or a
// pool.
func (s *session) swapsNamed(ctx context.Context, all []api.Swap, name string) []api.Swap {
	fits := slices.DeleteFunc(slices.Clone(all), func(w api.Swap) bool {
		is := name == "" || w.Id == name || strings.EqualFold(w.Old.Tail, name) || w.Old.Key == name ||
			strings.EqualFold(w.Old.Serial, name) || w.Open && (w.Old.Bay == name || w.Into == name || w.Pool == name)
		return !is
	})
	if len(fits) > 0 || name == "" {
		return fits
	}
	d, err := ask[api.Drive](s.client.GetDrive(ctx, name)) // any other name of a drive
	if err != nil {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(all), func(w api.Swap) bool { return w.Old.Key != d.Key })
}
