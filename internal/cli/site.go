package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func siteCommand() *cli.Command {
	list := listing(func(ctx context.Context, s *session, _ *cli.Command) error {
		all, err := ask[[]api.Site](s.client.ListSites(ctx))
		if err != nil {
			return err
		}
		err = list(s, all, "No site was invited. Begin with: lantern site invite <name>",
			[]column{
				col("site"), col("state").fold(14), col("hosts"), col("drives"), col("pools"), col("in_round"),
				col("as_of").as("AS OF"), col("version").more(), col("invited_at").more(), col("by").more(),
			},
			func(x api.Site) []cell {
				state := "reachable"
				if !x.Reachable {
					state = "not reachable"
				}
				asOf := timeCell(x.AsOf, "2006-01-02 15:04:05")
				if x.AsOf.IsZero() {
					asOf.text = "never"
				}
				return []cell{
					{text: x.Name, style: bold}, {text: state}, countCell(x.Hosts), countCell(x.Drives), countCell(x.Pools),
					countCell(x.InRound), asOf, {text: x.Version}, timeCell(x.InvitedAt, "2006-01-02"), {text: x.By},
				}
			})
		if s.out.format == "table" {
			unreached(s.out, all)
		}
		return err
	})
	return &cli.Command{
		Name:    "site",
		Aliases: []string{"sites"},
		Usage:   "list, invite or remove the sites of a headquarters",
		Description: "Example: lantern site list\n         lantern site invite north --write north.secret\n\n" +
			"A headquarters shows many services as one: lantern serve --headquarters. Each of them works on its own, and " +
			"tells\n" +
			"it what it knows: lantern serve --site north --report-to … --site-secret-file north.secret",
		Flags:  tableFlags(),
		Action: list,
		Commands: []*cli.Command{
			{
				Name:        "list",
				Usage:       "list sites and whether each is reachable",
				Description: "Example: lantern site list\n         lantern site list --columns all",
				Flags:       tableFlags(),
				Action:      list,
			},
			{
				Name:      "invite",
				Usage:     "allow a site to connect; its secret is shown once, or written to a file",
				ArgsUsage: "<name>",
				Description: "Example: lantern site invite north --write north.secret\n         lantern site invite south\n\n" +
					"Inviting a site again gives it a new secret and ends the old one.",
				Flags: []cli.Flag{&cli.StringFlag{Name: "write", Usage: "file for the secret, readable by its owner only"}},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					name, err := one(cmd, "the site's name")
					if err != nil {
						return err
					}
					x, err := ask[api.InvitedSite](s.client.InviteSite(ctx, nil, api.InviteSite{Name: name}))
					if err != nil {
						return err
					}
					file := cmd.String("write")
					if file != "" {
						if err := os.WriteFile(file, []byte(x.Secret+"\n"), 0o600); err != nil {
							return fmt.Errorf("the secret could not be written, invite the site again: %w", err)
						}
						x.Secret = ""
					}
					return tell(s, func(x api.InvitedSite) {
						if file == "" {
							s.out.line("secret of %s, shown only once: %s", x.Name, x.Secret)
							file = "FILE"
						}
						s.out.line("At the site: lantern serve --site %s --report-to %s --site-secret-file %s", x.Name, x.Engine, file)
					}, x, nil)
				}),
			},
			{
				Name:        "remove",
				Usage:       "remove a site and what it sent; the site itself keeps working",
				ArgsUsage:   "<name>",
				Description: "Example: lantern site remove south\n         lantern site remove north",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					name, err := one(cmd, "the site's name")
					if err != nil {
						return err
					}
					return s.done(name+" is removed. Its own service keeps running.", did(s.client.RemoveSite(ctx, name)))
				}),
			},
		},
	}
}

// unreached lists the sites whose data is old, with its date.
func unreached(o *printer, all []api.Site) {
	for _, x := range all {
		if x.Says == "" {
			continue
		}
		m, st := mark(api.Unknown)
		o.line("%s  %s", o.paint(m+" site "+x.Name, st), x.Says)
		if x.Do != "" {
			o.line("     %s %s", o.paint("→", st), x.Do)
		}
	}
}

// at is a name with its site before it, at a headquarters.
func at(site, name string) string { return strings.TrimPrefix(site+": "+name, ": ") }

// dated gives the date of a site's data if the site is not reachable; else it is empty.
func dated(asOf time.Time) string {
	if asOf.IsZero() {
		return ""
	}
	return ", as of " + asOf.Local().Format("2006-01-02 15:04")
}
