package cli

import (
	"errors"
	"os"
	"path/filepath"

	"cmp"
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func baysCommand() *cli.Command {
	return &cli.Command{
		Name:        "bays",
		Usage:       "a map of a host's bays, as seen from where you stand",
		ArgsUsage:   "<host>",
		Description: "Example: lantern bays skerry\n         lantern bays skerry -o csv",
		Flags:       tableFlags(),
		Action: listing(func(ctx context.Context, s *session, cmd *cli.Command) error {
			host, err := one(cmd, "a host's name")
			if err != nil {
				return err
			}
			m, err := ask[api.BayMap](s.client.GetBays(ctx, host))
			if err != nil {
				return err
			}
			if len(s.out.choice.columns) == 0 {
				if done, err := s.out.value(m); done {
					return err
				}
			}
			if s.out.format == "csv" || len(s.out.choice.columns) > 0 {
				var rows [][]cell
				for _, sec := range m.Sections {
					for _, b := range sec.Bays {
						rows = append(
							rows,
							[]cell{
								{text: b.Address},
								{text: b.Tail},
								verdictCell(b.Verdict),
								{text: b.Pool},
								{text: yesNo(b.Missing), raw: b.Missing},
								{text: yesNo(b.Lit), raw: b.Lit},
							},
						)
					}
				}
				return s.out.table(cols("bay", "tail", "verdict", "pool", "missing", "lit"), rows)
			}
			if len(m.Sections) == 0 {
				s.out.line(
					"%s reports no bays. Its drives are known by their labels only: lantern drives --host %s",
					host,
					host,
				)
			}
			for _, sec := range m.Sections {
				s.section(m.Host, sec)
			}
			for _, p := range m.Parts {
				if p.Says != "" {
					s.out.line("%s %s", s.out.paint("◆", loud), p.Says)
				}
			}
			s.out.line(
				"%s",
				s.out.paint(
					"· sound   ◉ watch   ◆ replace   ▨ dead   ◌ unknown   ✶ lit   ? a guess   seen "+
						m.SeenAt.Local().Format("15:04:05"),
					dim,
				),
			)
			return nil
		}),
	}
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
				number = b.Name // the label printed on the case
			}
			guess := " " // a guess is marked: it is not reliable enough for work at the rack
			if b.How == api.Guessed {
				guess = "?"
			}
			top.WriteString(
				"│" + o.paint(
					fmt.Sprintf("%3.5s", number),
					dim,
				) + guess + strings.Repeat(
					" ",
					3-min(2, max(0, len([]rune(number))-3)),
				) + lamp + " ",
			)
			bottom.WriteString(
				"│ " + o.paint(
					shape,
					st,
				) + " " + o.paint(
					fmt.Sprintf("%-5s", text),
					map[bool]style{true: st, false: dim}[b.Drive != "" && b.Verdict != api.Sound],
				) + " ",
			)
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
	list := listing(func(ctx context.Context, s *session, _ *cli.Command) error {
		all, err := ask[[]api.Light](s.client.ListLights(ctx))
		if err != nil {
			return err
		}
		return list(
			s,
			all,
			"No bay is lit.",
			[]column{
				col("bay"),
				col("tail"),
				col("state"),
				col("how").as("BY").fold(12),
				col("until"),
				col("asked_by").as("ASKED BY"),
			},
			func(l api.Light) []cell {
				how := l.How
				if l.AllBut != "" {
					how = strings.TrimSpace(how + " (all but " + l.AllBut + ")")
				}
				return []cell{
					{text: cmp.Or(l.Bay, "unknown"), style: bold},
					{text: l.Tail},
					{text: string(l.State)},
					{text: how},
					timeCell(l.Until, "15:04:05"),
					{text: l.By},
				}
			},
		)
	})
	return &cli.Command{
		Name:        "light",
		Usage:       "light a bay to find it",
		Description: "Example: lantern light on ZU006 --for 10m\n         lantern light list",
		Flags:       tableFlags(),
		Action:      list,
		Commands: []*cli.Command{
			{
				Name:        "list",
				Usage:       "list bays that are lit",
				Description: "Example: lantern light list\n         lantern light list --columns bay,until",
				Flags:       tableFlags(),
				Action:      list,
			},
			{
				Name:        "on",
				Usage:       "light a bay; the light goes out by itself",
				ArgsUsage:   "<drive or bay>",
				Description: "Example: lantern light on skerry/front/7 --for 10m\n         lantern light on ZU006 --all-but",
				Flags: []cli.Flag{
					&DurationFlag{Name: "for", Value: 10 * time.Minute, Usage: "how long, up to 24h"},
					&cli.BoolFlag{
						Name:  "all-but",
						Usage: "light all other bays of the section, for a drive that cannot be lit",
					},
				},
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
					l, err := ask[api.Light](s.client.LightOn(ctx, nil, req))
					if err != nil {
						return err
					}
					if done, err := s.out.value(l); done {
						return err
					}
					if req.AllBut {
						s.out.line(
							"lights of all other bays of its section are ordered until %s: look for the one "+
								"that is dark",
							l.Until.Local().Format("15:04:05"),
						)
						return nil
					}
					s.out.line(
						"%s: light ordered until %s",
						strings.TrimSpace("bay "+cmp.Or(l.Bay, "unknown")+" "+l.Tail),
						l.Until.Local().Format("15:04:05"),
					)
					return nil
				}),
			},
			{
				Name: "pulls",
				Usage: "set whether a swap lights the bay of the drive to pull by itself, for everybody who uses this " +
					"configuration",
				ArgsUsage:   "<always|never>",
				Description: "Example: lantern light pulls always\n         lantern light pulls never",
				Action:      lightPulls,
			},
			{
				Name:        "off",
				Usage:       "switch a bay's light off",
				ArgsUsage:   "<bay, tail or light>",
				Description: "Example: lantern light off skerry/front/7\n         lantern light off ZU006",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					what, err := one(cmd, "a bay")
					if err != nil {
						return err
					}
					all, err := ask[[]api.Light](s.client.ListLights(ctx))
					if err != nil {
						return err
					}
					tail := what
					if d, err := ask[api.Drive](s.client.GetDrive(ctx, what)); err == nil {
						tail = d.Tail
					}
					for _, l := range all {
						if l.Id != what && l.Bay != what && !strings.EqualFold(l.Tail, tail) {
							continue
						}
						if err := did(s.client.LightOff(ctx, l.Id)); err != nil {
							return err
						}
						s.out.line("bay %s: asked to switch off", l.Bay)
						return nil
					}
					return usage("%s is not lit. List lights with: lantern light list", what)
				}),
			},
		},
	}
}

// lightPulls stores in the configuration file whether a pull step lights its bay.
func lightPulls(_ context.Context, cmd *cli.Command) error {
	word, err := one(cmd, "always or never")
	if err != nil {
		return err
	}
	if word != "always" && word != "never" {
		return usage("always or never, not %q\nExample: %s", word, example(cmd))
	}
	path, _ := configFile(cmd)
	settings := map[string]any{}
	switch b, err := os.ReadFile(path); {
	case err == nil:
		if err := yaml.Unmarshal(b, &settings); err != nil {
			return usage("the configuration %s cannot be read: %v", path, err)
		}
	case !errors.Is(err, os.ErrNotExist):
		return &Failure{Code: ExitFailed, Says: err.Error()}
	}
	settings["light"] = word
	b, err := yaml.Marshal(settings)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return &Failure{Code: ExitFailed, Says: err.Error()}
	}
	// It contains the token: only its owner may read it, and it is never half written.
	if err := os.WriteFile(path+".new", b, 0o600); err != nil {
		return &Failure{Code: ExitFailed, Says: err.Error()}
	}
	if err := os.Rename(path+".new", path); err != nil {
		return &Failure{Code: ExitFailed, Says: err.Error()}
	}
	fmt.Fprintf(cmd.Root().Writer, "the bay of a drive to pull is lit automatically: %s (in %s)\n", word, path)
	return nil
}
