package cli

import (
	"context"
	"fmt"
	"os"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
	"lantern/internal/paper"
)

func storyCommand() *cli.Command {
	one := func(kind, about, first, second string) *cli.Command {
		return &cli.Command{
			Name:      kind,
			Usage:     "what happened to " + about + ", in order",
			ArgsUsage: "<" + kind + ">",
			Description: "Example: lantern story " + kind + " " + first + "\n" +
				"         lantern story " + kind + " " + second + "\n\n" +
				"In order of time: what hosts reported (observed), what was found (judged), what people were told and what they " +
				"saw, what\n" +
				"agents were ordered and what came of it, what people did, and when nothing was known. Out of the records made " +
				"then.",
			Flags: append([]cli.Flag{
				&cli.StringFlag{
					Name:        "from",
					Local:       true,
					Usage:       "start of the period, such as 2026-11-22",
					DefaultText: "7 days before its end",
				},
				&cli.StringFlag{Name: "to", Local: true, Usage: "when it ends", DefaultText: "now"},
				&cli.StringFlag{Name: "markdown", Local: true, Usage: "write it as Markdown into this file"},
				&cli.StringFlag{Name: "html", Local: true, Usage: "write it as a page into this file"},
			}, tableFlags()...),
			Action: listing(
				func(ctx context.Context, s *session, cmd *cli.Command) error { return tellStory(ctx, s, cmd, kind) },
			),
		}
	}
	return &cli.Command{
		Name:        "story",
		Usage:       "reports on a drive, a pool or a host",
		Description: "Example: lantern story drive ZU006\n         lantern story pool tidegauge",
		Commands: []*cli.Command{
			one("drive", "a drive", "ZU006", "XE932 --markdown story.md"),
			one("pool", "a pool and its drives", "tidegauge", "soundscape --html story.html"),
			one("host", "a host, its pools and its drives", "skerry", "guillemot --columns when,what,says"),
		},
	}
}

func tellStory(ctx context.Context, s *session, cmd *cli.Command, kind string) error {
	name, err := one(cmd, "a "+kind)
	if err != nil {
		return err
	}
	p := api.GetStoryParams{}
	for option, to := range map[string]*time.Time{"from": &p.From, "to": &p.To} {
		if text := cmd.String(option); text != "" {
			at, err := ParseMoment(text, time.Now())
			if err != nil {
				return usage("--%s: %v", option, err)
			}
			*to = at.UTC()
		}
	}
	v, err := ask[api.Story](s.client.GetStory(ctx, kind, name, &p))
	if err != nil {
		return err
	}
	for option, write := range map[string]func(api.Story) string{"markdown": paper.StoryMarkdown,
		"html": paper.StoryHTML} {
		if file := cmd.String(option); file != "" {
			text := write(v)
			if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
				return err
			}
			s.out.line("%s, %s, %s", file, plural(len(v.Entries), "entry"), decimal(int64(len(text))))
			return nil
		}
	}
	if s.out.format == "json" {
		_, err := s.out.value(v)
		return err
	}
	if s.out.format == "table" {
		s.out.line(
			"%s",
			s.out.paint(
				fmt.Sprintf("Report on %s, %s to %s", v.Title, v.From.Local().Format(minutes), v.To.Local().Format(minutes)),
				bold,
			),
		)
	}
	err = list(
		s,
		v.Entries,
		"No events in this period.",
		[]column{col("when"), col("what"), col("who").fold(8), col("says").fold(30), col("until").more()},
		func(e api.StoryEntry) []cell {
			what := cell{text: e.What}
			if e.What == "unknown" {
				what.style = loud
				e.Says += ", until " + e.Until.Local().Format(minutes)
			}
			return []cell{
				timeCell(e.At, "2006-01-02 15:04:05"),
				what,
				{text: e.Who},
				{text: e.Says},
				timeCell(e.Until, "2006-01-02 15:04:05"),
			}
		},
	)
	if v.More && s.out.format == "table" {
		s.out.line("There are earlier events; ask for a shorter period.")
	}
	return err
}
