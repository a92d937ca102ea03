package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
	"lantern/internal/practice"
)

func labCommand() *cli.Command {
	return &cli.Command{
		Name:        "lab",
		Usage:       "simulate a person's hands in the demo: pull, insert, and the speed of time",
		Description: "Example: lantern lab pull skerry/front/7\n         lantern lab speed",
		Commands: []*cli.Command{
			{
				Name:        "pull",
				Usage:       "pull a drive out of a bay",
				ArgsUsage:   "<bay or label tail>",
				Description: "Example: lantern lab pull skerry/front/7\n         lantern lab pull ZU006",
				Action:      with(labPull),
			},
			{
				Name:      "insert",
				Usage:     "put a drive into a bay; by default one that fits",
				ArgsUsage: "<bay>",
				Description: "Example: lantern lab insert skerry/front/7\n         lantern lab insert " +
					"skerry/front/7 --bytes 2000398934016\n         lantern lab insert skerry/front/7 --drive 7F412",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "drive", Usage: "label tail of a drive that was pulled before"},
					&cli.Int64Flag{Name: "bytes", Usage: "size of the new drive"},
					&cli.StringFlag{Name: "like", Usage: "make it the same model as the drive with this label tail"},
					&cli.BoolFlag{Name: "weak", Usage: "a bad spot on its surface loses what is written to it"},
					&cli.FloatFlag{Name: "hours", Usage: "power-on hours of the new drive"},
					&cli.StringFlag{Name: "holds", Usage: "what is on it, such as \"member of another pool\""},
					&cli.BoolFlag{Name: "damaged", Usage: "its SMART data page has a wrong checksum"}},
				Action: with(labInsert),
			},
			{
				Name:        "join",
				Usage:       "change a watched pool by hand, as its administrator would",
				ArgsUsage:   "<pool> <slot> <label tail>",
				Description: "Example: lantern lab join scans 1 XH001\n         lantern lab join specimens 2 XH001",
				Action:      with(labJoin),
			},
			{
				Name:        "power",
				Usage:       "shut a host down, or start it",
				ArgsUsage:   "<host> on|off",
				Description: "Example: lantern lab power guillemot off\n         lantern lab power guillemot on",
				Action:      with(labPower),
			},
			{
				Name:      "mishap",
				Usage:     "make something fail in a pool at a chosen point",
				ArgsUsage: "<pool> <mishap>",
				Description: "Example: lantern lab mishap soundscape second-failure\n" +
					"         lantern lab mishap tidegauge power-cut\n\nThe mishaps:\n" + practice.List(),
				Action: with(labMishap),
			},
			{
				Name:        "stuck",
				Usage:       "pause the recoveries of a pool until they are resumed",
				ArgsUsage:   "<pool>",
				Description: "Example: lantern lab stuck soundscape\n         lantern lab stuck soundscape --over",
				Flags:       []cli.Flag{&cli.BoolFlag{Name: "over", Usage: "end the pause: recoveries start by themselves again"}},
				Action:      with(labStuck),
			},
			{
				Name:        "silence",
				Usage:       "make the enclosures of a host report nothing and have no lights",
				ArgsUsage:   "<host>",
				Description: "Example: lantern lab silence guillemot\n         lantern lab silence guillemot --over",
				Flags:       []cli.Flag{&cli.BoolFlag{Name: "over", Usage: "end the mute: the enclosures report again"}},
				Action:      with(labSilence),
			},
			{
				Name: "part",
				Usage: "make a part of a shelf fail, such as \"cooling 2\", \"power supply left\" or " +
					"\"temperature sensor rear\"",
				ArgsUsage: "<host> <part>",
				Description: "Example: lantern lab part skerry \"cooling 2\"\n         lantern lab part skerry " +
					"\"cooling 2\" --well",
				Flags:  []cli.Flag{&cli.BoolFlag{Name: "well", Usage: "make the part work again"}},
				Action: with(labPart),
			},
			{
				Name:        "eyes",
				Usage:       "list bays whose activity light blinks in a rhythm, as a person would see them",
				Description: "Example: lantern lab eyes\n         lantern lab eyes -o json",
				Action:      with(labEyes),
			},
			{
				Name:        "speed",
				Usage:       "set how many times faster than real time the lab runs; without a number, show it",
				ArgsUsage:   "[number]",
				Description: "Example: lantern lab speed 300\n         lantern lab speed 300 --waiting",
				Flags: []cli.Flag{
					&cli.BoolFlag{
						Name: "waiting",
						Usage: "this speed only while nothing but waiting is left; real time while " +
							"a person is needed",
					},
				},
				Action: with(labSpeed),
			},
			labLoadCommand(),
		},
	}
}

// labPull is the action of lantern lab pull.
func labPull(ctx context.Context, s *session, cmd *cli.Command) error {
	bay, err := one(cmd, "a bay")
	if err != nil {
		return err
	}
	m, err := ask[api.LabMoved](s.client.LabPull(ctx, api.LabPull{Bay: bay}))
	return s.moved("is out of", m, err)
}

// labInsert is the action of lantern lab insert.
func labInsert(ctx context.Context, s *session, cmd *cli.Command) error {
	bay, err := one(cmd, "a bay")
	if err != nil {
		return err
	}
	m, err := ask[api.LabMoved](
		s.client.LabInsert(
			ctx,
			api.LabInsert{
				Bay:           bay,
				Drive:         cmd.String("drive"),
				CapacityBytes: cmd.Int64("bytes"),
				Holds:         cmd.String("holds"),
				Damaged:       cmd.Bool("damaged"),
				Like:          cmd.String("like"),
				Weak:          cmd.Bool("weak"),
				UsedHours:     cmd.Float("hours"),
			},
		),
	)
	return s.moved("is in", m, err)
}

// labJoin is the action of lantern lab join.
func labJoin(ctx context.Context, s *session, cmd *cli.Command) error {
	if cmd.Args().Len() != 3 {
		return usage("name a pool, a place in it and a drive\nExample: %s", example(cmd))
	}
	m, err := ask[api.LabMoved](
		s.client.LabJoin(
			ctx,
			api.LabJoin{Pool: cmd.Args().Get(0), Slot: cmd.Args().Get(1), Drive: cmd.Args().Get(2)},
		),
	)
	return s.moved("is now a member, in", m, err)
}

// labPower is the action of lantern lab power.
func labPower(ctx context.Context, s *session, cmd *cli.Command) error {
	to := cmd.Args().Get(1)
	if cmd.Args().Len() != 2 || to != "on" && to != "off" {
		return usage("name a host, and on or off\nExample: %s", example(cmd))
	}
	if err := did(
		s.client.LabPower(ctx, api.LabPower{Host: cmd.Args().First(), On: to == "on"}),
	); err != nil {
		return err
	}
	s.out.line("%s has %s", cmd.Args().First(), map[string]string{"on": "power", "off": "no power"}[to])
	return nil
}

// labMishap is the action of lantern lab mishap.
func labMishap(ctx context.Context, s *session, cmd *cli.Command) error {
	pool, what := cmd.Args().Get(0), cmd.Args().Get(1)
	if cmd.Args().Len() != 2 || !practice.Mishap(what).Known() {
		return usage("name a pool and a mishap:\n%sExample: %s", practice.List(), example(cmd))
	}
	if err := did(s.client.LabMishap(ctx, api.LabMishap{Pool: pool, Mishap: what})); err != nil {
		return err
	}
	s.out.line("it will happen at its point")
	return nil
}

// labStuck is the action of lantern lab stuck.
func labStuck(ctx context.Context, s *session, cmd *cli.Command) error {
	pool, err := one(cmd, "a pool's name")
	if err != nil {
		return err
	}
	if err := did(
		s.client.LabStuck(ctx, api.LabStuck{Pool: pool, Stuck: !cmd.Bool("over")}),
	); err != nil {
		return err
	}
	s.out.line("done")
	return nil
}

// labSilence is the action of lantern lab silence.
func labSilence(ctx context.Context, s *session, cmd *cli.Command) error {
	host, err := one(cmd, "a host")
	if err != nil {
		return err
	}
	if err := did(
		s.client.LabSilence(ctx, api.LabSilence{Host: host, Over: cmd.Bool("over")}),
	); err != nil {
		return err
	}
	s.out.line(
		"the enclosures of %s %s",
		host,
		map[bool]string{true: "speak again", false: "report nothing"}[cmd.Bool("over")],
	)
	return nil
}

// labPart is the action of lantern lab part.
func labPart(ctx context.Context, s *session, cmd *cli.Command) error {
	if cmd.Args().Len() != 2 {
		return usage("name a host and a part\nExample: %s", example(cmd))
	}
	if err := did(
		s.client.LabPart(
			ctx,
			api.LabPart{Host: cmd.Args().Get(0), Part: cmd.Args().Get(1), Well: cmd.Bool("well")},
		),
	); err != nil {
		return err
	}
	s.out.line(
		"%s of %s %s",
		cmd.Args().Get(1),
		cmd.Args().Get(0),
		map[bool]string{true: "works again", false: "has failed"}[cmd.Bool("well")],
	)
	return nil
}

// labEyes is the action of lantern lab eyes.
func labEyes(ctx context.Context, s *session, cmd *cli.Command) error {
	bays, err := ask[[]string](s.client.LabEyes(ctx))
	if err != nil {
		return err
	}
	if done, err := s.out.value(bays); done {
		return err
	}
	s.out.line("%s", cmp.Or(strings.Join(bays, "\n"), "nothing blinks"))
	return nil
}

// labSpeed is the action of lantern lab speed.
func labSpeed(ctx context.Context, s *session, cmd *cli.Command) error {
	var l api.Lab
	var err error
	if cmd.Args().Len() == 0 {
		if l, err = ask[api.Lab](s.client.GetLab(ctx)); err != nil {
			return err
		}
	} else {
		var speed float64
		if _, err := fmt.Sscanf(cmd.Args().First(), "%g", &speed); err != nil {
			return usage("a speed is a number, such as 300")
		}
		if l, err = ask[api.Lab](
			s.client.SetLabSpeed(ctx, api.LabSpeed{Speed: speed, Hurry: cmd.Bool("waiting")}),
		); err != nil {
			return err
		}
	}
	if done, err := s.out.value(l); done {
		return err
	}
	s.out.line(
		"lab time is %s, running %g times as fast as real time",
		l.Now.Local().Format("2006-01-02 15:04:05"),
		l.Speed,
	)
	if l.Hurry > 0 {
		s.out.line("while nothing but waiting is left it runs %g times as fast", l.Hurry)
	}
	return nil
}

func (s *session) moved(words string, m api.LabMoved, err error) error {
	return tell(
		s,
		func(m api.LabMoved) { s.out.line("%s (serial %s) %s bay %s", m.Tail, m.Serial, words, m.Bay) },
		m,
		err,
	)
}
