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

func baysCommand() *cli.Command {
	return &cli.Command{Name: "bays", Usage: "a host's bays, as one stands before them", ArgsUsage: "<host>", Description: "Example: lantern bays skerry",
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			host, err := one(cmd, "a host's name")
			if err != nil {
				return err
			}
			res, err := s.client.GetBaysWithResponse(ctx, host)
			if err != nil {
				return unreachable(err)
			}
			m, err := got(res.JSON200, res, res.Body)
			if err != nil {
				return err
			}
			if done, err := s.out.value(m); done {
				return err
			}
			if s.out.format == "csv" {
				var rows [][]cell
				for _, sec := range m.Sections {
					for _, b := range sec.Bays {
						rows = append(rows, []cell{{text: b.Address}, {text: b.Tail}, {text: string(b.Verdict)}, {text: b.Pool}, {text: fmt.Sprint(b.Missing)}, {text: fmt.Sprint(b.Lit)}})
					}
				}
				return s.out.table([]string{"bay", "tail", "verdict", "pool", "missing", "lit"}, rows)
			}
			if len(m.Sections) == 0 {
				s.out.line("%s has told of no bays. Its drives are known by their labels only: lantern drives --host %s", host, host)
			}
			for _, sec := range m.Sections {
				s.section(m.Host, sec)
			}
			for _, p := range m.Parts {
				if p.Says != "" {
					s.out.line("%s %s", s.out.paint("◆", loud), p.Says)
				}
			}
			s.out.line("%s", s.out.paint("· sound   ◉ watch   ◆ replace   ▨ dead   ◌ unknown   ✶ lit   ? a guess   seen "+m.SeenAt.Local().Format("15:04:05"), dim))
			return nil
		})}
}

// bayWidth is the inner width of a bay, in characters.
const bayWidth = 9

// section draws one grid of bays.
func (s *session) section(host string, sec api.Section) {
	o := s.out
	grid := make([][]*api.Bay, sec.Rows)
	for r := range grid {
		grid[r] = make([]*api.Bay, sec.Columns)
	}
	for i := range sec.Bays {
		b := &sec.Bays[i]
		grid[b.Row][b.Column] = b
	}
	o.line("%s", o.paint(host+"/"+sec.Name, bold))
	edge := func(l, m, r string) string {
		return l + strings.Repeat(strings.Repeat("─", bayWidth)+m, sec.Columns-1) + strings.Repeat("─", bayWidth) + r
	}
	o.line("%s", edge("┌", "┬", "┐"))
	for r, row := range grid {
		var top, bottom strings.Builder
		for _, b := range row {
			lamp := " "
			if b.Lit {
				lamp = o.paint("✶", loud)
			}
			shape, st := " ", plain
			text := map[bool]string{true: "  ?", false: "empty"}[b.Unknown]
			if b.Drive != "" {
				shape, st = mark(b.Verdict)
				text = b.Tail
			} else {
				st = dim
			}
			number := strconv.Itoa(b.Number)
			if b.Name != "" {
				number = b.Name // what hands find printed on the case
			}
			guess := " " // a guess is marked: it is not for hands
			if b.How == api.Guessed {
				guess = "?"
			}
			top.WriteString("│" + o.paint(fmt.Sprintf("%3.5s", number), dim) + guess + strings.Repeat(" ", 3-min(2, max(0, len([]rune(number))-3))) + lamp + " ")
			bottom.WriteString("│ " + o.paint(shape, st) + " " + o.paint(fmt.Sprintf("%-5s", text), map[bool]style{true: st, false: dim}[b.Drive != "" && b.Verdict != api.Sound]) + " ")
		}
		o.line("%s│", top.String())
		o.line("%s│", bottom.String())
		if r < len(grid)-1 {
			o.line("%s", edge("├", "┼", "┤"))
		}
	}
	o.line("%s", edge("└", "┴", "┘"))
}

func lightCommand() *cli.Command {
	list := with(func(ctx context.Context, s *session, _ *cli.Command) error {
		res, err := s.client.ListLightsWithResponse(ctx)
		if err != nil {
			return unreachable(err)
		}
		all, err := got(res.JSON200, res, res.Body)
		if err != nil {
			return err
		}
		return list(s, all, "No bay is lit.", []string{"BAY", "TAIL", "STATE", "BY", "UNTIL", "ASKED BY"}, func(l api.Light) []cell {
			how := l.How
			if l.AllBut != "" {
				how = strings.TrimSpace(how + " (all but " + l.AllBut + ")")
			}
			return []cell{{text: cmpOr(l.Bay, "unknown"), style: bold}, {text: l.Tail}, {text: string(l.State)}, {text: how}, {text: l.Until.Local().Format("15:04:05")}, {text: l.By}}
		})
	})
	return &cli.Command{Name: "light", Usage: "light a bay so that it can be found", Description: "Example: lantern light on 7F412 --for 10m", Action: list,
		Commands: []*cli.Command{
			{Name: "list", Usage: "bays that are lit", Description: "Example: lantern light list", Action: list},
			{Name: "on", Usage: "light a bay; it goes out by itself", ArgsUsage: "<drive or bay>", Description: "Example: lantern light on skerry/front/7 --for 10m",
				Flags: []cli.Flag{&cli.DurationFlag{Name: "for", Value: 10 * time.Minute, Usage: "how long, up to 24h"}, &cli.BoolFlag{Name: "all-but", Usage: "light every other drive of its section: for one that cannot be lit"}},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					what, err := one(cmd, "a drive or a bay")
					if err != nil {
						return err
					}
					d := cmd.Duration("for")
					if d < time.Second || d > 24*time.Hour {
						return usage("a light needs an end: --for takes 1s to 24h")
					}
					req := api.LightOn{Drive: what, Seconds: int(d.Seconds()), AllBut: cmd.Bool("all-but")}
					if strings.Contains(what, "/") {
						req.Bay, req.Drive = what, ""
					}
					res, err := s.client.LightOnWithResponse(ctx, nil, req)
					if err != nil {
						return unreachable(err)
					}
					l, err := got(res.JSON202, res, res.Body)
					if err != nil {
						return err
					}
					if done, err := s.out.value(l); done {
						return err
					}
					if req.AllBut {
						s.out.line("every other drive of its section is asked to be lit until %s: look for the one that is dark", l.Until.Local().Format("15:04:05"))
						return nil
					}
					s.out.line("%s: asked to be lit until %s", strings.TrimSpace("bay "+cmpOr(l.Bay, "unknown")+" "+l.Tail), l.Until.Local().Format("15:04:05"))
					return nil
				})},
			{Name: "off", Usage: "put a bay's light out", ArgsUsage: "<bay, tail or light>", Description: "Example: lantern light off skerry/front/7",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					what, err := one(cmd, "a bay")
					if err != nil {
						return err
					}
					list, err := s.client.ListLightsWithResponse(ctx)
					if err != nil {
						return unreachable(err)
					}
					all, err := got(list.JSON200, list, list.Body)
					if err != nil {
						return err
					}
					for _, l := range all {
						if l.Id != what && l.Bay != what && !strings.EqualFold(l.Tail, what) {
							continue
						}
						res, err := s.client.LightOffWithResponse(ctx, l.Id)
						if err != nil {
							return unreachable(err)
						}
						if _, err := got(res.JSON202, res, res.Body); err != nil {
							return err
						}
						s.out.line("bay %s: asked to go dark", l.Bay)
						return nil
					}
					return &Failure{ExitFailed, fmt.Sprintf("%s is not lit. List lights with: lantern light list", what)}
				})},
		}}
}

func labCommand() *cli.Command {
	return &cli.Command{Name: "lab", Usage: "what hands do in the demo: pull, insert, and the pace of time", Description: "Example: lantern lab pull skerry/front/7",
		Commands: []*cli.Command{
			{Name: "pull", Usage: "take a drive out of a bay", ArgsUsage: "<bay>", Description: "Example: lantern lab pull skerry/front/7",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					bay, err := one(cmd, "a bay")
					if err != nil {
						return err
					}
					res, err := s.client.LabPullWithResponse(ctx, api.LabPull{Bay: bay})
					if err != nil {
						return unreachable(err)
					}
					return s.moved(res.JSON200, res, res.Body, "is out of")
				})},
			{Name: "insert", Usage: "put a drive into a bay: one that fits, unless said otherwise", ArgsUsage: "<bay>",
				Description: "Example: lantern lab insert skerry/front/7\n         lantern lab insert skerry/front/7 --bytes 2000398934016\n         lantern lab insert skerry/front/7 --drive 7F412",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "drive", Usage: "label tail of a drive that was pulled before"},
					&cli.Int64Flag{Name: "bytes", Usage: "size of the new drive"},
					&cli.StringFlag{Name: "like", Usage: "label tail of a drive of whose make it is"},
					&cli.BoolFlag{Name: "weak", Usage: "a place of its surface does not keep what is written to it"},
					&cli.FloatFlag{Name: "hours", Usage: "for how many hours it has run before"},
					&cli.StringFlag{Name: "holds", Usage: "what lies on it, such as \"member of another pool\""},
					&cli.BoolFlag{Name: "damaged", Usage: "its SMART data page has a wrong checksum"}},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					bay, err := one(cmd, "a bay")
					if err != nil {
						return err
					}
					res, err := s.client.LabInsertWithResponse(ctx, api.LabInsert{Bay: bay, Drive: cmd.String("drive"), CapacityBytes: cmd.Int64("bytes"), Holds: cmd.String("holds"), Damaged: cmd.Bool("damaged"), Like: cmd.String("like"), Weak: cmd.Bool("weak"), UsedHours: cmd.Float("hours")})
					if err != nil {
						return unreachable(err)
					}
					return s.moved(res.JSON200, res, res.Body, "is in")
				})},
			{Name: "power", Usage: "take a host down, or bring it up", ArgsUsage: "<host> on|off", Description: "Example: lantern lab power guillemot off",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					to := cmd.Args().Get(1)
					if cmd.Args().Len() != 2 || to != "on" && to != "off" {
						return usage("name a host, and on or off\nExample: %s", example(cmd))
					}
					res, err := s.client.LabPowerWithResponse(ctx, api.LabPower{Host: cmd.Args().First(), On: to == "on"})
					if err != nil {
						return unreachable(err)
					}
					if res.StatusCode() != 204 {
						return told(res.StatusCode(), res.Body)
					}
					s.out.line("%s has %s", cmd.Args().First(), map[string]string{"on": "power", "off": "no power"}[to])
					return nil
				})},
			{Name: "stuck", Usage: "make the recoveries of a pool wait for a word", ArgsUsage: "<pool>", Description: "Example: lantern lab stuck soundscape\n         lantern lab stuck soundscape --over",
				Flags: []cli.Flag{&cli.BoolFlag{Name: "over", Usage: "they begin by themselves again"}},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					pool, err := one(cmd, "a pool's name")
					if err != nil {
						return err
					}
					res, err := s.client.LabStuckWithResponse(ctx, api.LabStuck{Pool: pool, Stuck: !cmd.Bool("over")})
					if err != nil {
						return unreachable(err)
					}
					if res.StatusCode() != 204 {
						return told(res.StatusCode(), res.Body)
					}
					s.out.line("done")
					return nil
				})},
			{Name: "silence", Usage: "the enclosures of a host tell nothing of themselves any more, and have no lights", ArgsUsage: "<host>", Description: "Example: lantern lab silence guillemot\n         lantern lab silence guillemot --over",
				Flags: []cli.Flag{&cli.BoolFlag{Name: "over", Usage: "they speak again"}},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					host, err := one(cmd, "a host")
					if err != nil {
						return err
					}
					res, err := s.client.LabSilenceWithResponse(ctx, api.LabSilence{Host: host, Over: cmd.Bool("over")})
					if err != nil {
						return unreachable(err)
					}
					if res.StatusCode() != 204 {
						return told(res.StatusCode(), res.Body)
					}
					s.out.line("the enclosures of %s %s", host, map[bool]string{true: "speak again", false: "tell nothing of themselves"}[cmd.Bool("over")])
					return nil
				})},
			{Name: "part", Usage: "make a part of a shelf fail, such as \"cooling 2\", \"power supply left\" or \"temperature sensor rear\"", ArgsUsage: "<host> <part>", Description: "Example: lantern lab part skerry \"cooling 2\"\n         lantern lab part skerry \"cooling 2\" --well",
				Flags: []cli.Flag{&cli.BoolFlag{Name: "well", Usage: "it is well again"}},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					if cmd.Args().Len() != 2 {
						return usage("name a host and a part\nExample: %s", example(cmd))
					}
					res, err := s.client.LabPartWithResponse(ctx, api.LabPart{Host: cmd.Args().Get(0), Part: cmd.Args().Get(1), Well: cmd.Bool("well")})
					if err != nil {
						return unreachable(err)
					}
					if res.StatusCode() != 204 {
						return told(res.StatusCode(), res.Body)
					}
					s.out.line("%s of %s %s", cmd.Args().Get(1), cmd.Args().Get(0), map[bool]string{true: "is well again", false: "has failed"}[cmd.Bool("well")])
					return nil
				})},
			{Name: "eyes", Usage: "what eyes would see: bays whose activity light blinks in a rhythm", Description: "Example: lantern lab eyes",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					res, err := s.client.LabEyesWithResponse(ctx)
					if err != nil {
						return unreachable(err)
					}
					bays, err := got(res.JSON200, res, res.Body)
					if err != nil {
						return err
					}
					if done, err := s.out.value(bays); done {
						return err
					}
					s.out.line("%s", cmpOr(strings.Join(bays, "\n"), "nothing blinks"))
					return nil
				})},
			{Name: "speed", Usage: "how many times faster than real time the lab runs; without a number, tell", ArgsUsage: "[number]", Description: "Example: lantern lab speed 300",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					var l api.Lab
					if cmd.Args().Len() == 0 {
						res, err := s.client.GetLabWithResponse(ctx)
						if err != nil {
							return unreachable(err)
						}
						if l, err = got(res.JSON200, res, res.Body); err != nil {
							return err
						}
					} else {
						var speed float64
						if _, err := fmt.Sscanf(cmd.Args().First(), "%g", &speed); err != nil {
							return usage("a speed is a number, such as 300")
						}
						res, err := s.client.SetLabSpeedWithResponse(ctx, api.LabSpeed{Speed: speed})
						if err != nil {
							return unreachable(err)
						}
						if l, err = got(res.JSON200, res, res.Body); err != nil {
							return err
						}
					}
					if done, err := s.out.value(l); done {
						return err
					}
					s.out.line("lab time is %s, running %g times as fast as real time", l.Now.Local().Format("2006-01-02 15:04:05"), l.Speed)
					return nil
				})},
		}}
}

func (s *session) moved(m *api.LabMoved, res interface{ StatusCode() int }, body []byte, words string) error {
	v, err := got(m, res, body)
	if err != nil {
		return err
	}
	if done, err := s.out.value(v); done {
		return err
	}
	s.out.line("%s (serial %s) %s bay %s", v.Tail, v.Serial, words, v.Bay)
	return nil
}
