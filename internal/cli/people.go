package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

// newToken shows a token, once.
func (s *session) newToken(p api.NewPerson, err error) error {
	return tell(s, func(p api.NewPerson) {
		s.out.verbatim(p.Token)
		fmt.Fprintf(
			s.errOut,
			"This token is shown only this once. %s signs in with it, or sets LANTERN_TOKEN.\n",
			p.Name,
		)
	}, p, err)
}

func listPeople(ctx context.Context, s *session, _ *cli.Command) error {
	all, err := ask[[]api.Person](s.client.ListPeople(ctx))
	if err != nil {
		return err
	}
	head := []column{
		col("name"),
		col("role"),
		col("only_on").as("ONLY ON").fold(12),
		col("since"),
		col("added_by").as("ADDED BY").spare(1),
		col("ends"),
		col("you"),
	}
	return list(s, all, "No person has a token.", head, func(p api.Person) []cell {
		return []cell{
			{text: p.Name, style: bold},
			{text: string(p.Role)},
			{text: strings.Join(append(p.Hosts, p.Pools...), ", ")},
			timeCell(p.AddedAt, minutes),
			{text: p.AddedBy},
			timeCell(p.EndsAt, minutes),
			{text: map[bool]string{true: "you"}[p.You], raw: p.You},
		}
	})
}

func addPerson(ctx context.Context, s *session, cmd *cli.Command) error {
	name, err := one(cmd, "the person's name")
	if err != nil {
		return err
	}
	req := api.AddPerson{Name: name, Role: api.Role(cmd.String("role")), Hosts: cmd.StringSlice("host"),
		Pools: cmd.StringSlice("pool")}
	if !req.Role.Valid() {
		return usage("--role is viewer, operator, keeper or admin, not %q", req.Role)
	}
	if cmd.String("for") != "" {
		d, err := back("--for", cmd.String("for"))
		if err != nil {
			return err
		}
		req.Hours = d.Hours()
	}
	return s.newToken(ask[api.NewPerson](s.client.AddPerson(ctx, req)))
}

// renew replaces the person's own token.
func renew(ctx context.Context, s *session, cmd *cli.Command) error {
	me, err := ask[api.Me](s.client.GetMe(ctx))
	if err != nil {
		return err
	}
	name := me.Name
	if cmd.Args().Len() > 0 {
		if name, err = one(cmd, "the person's name"); err != nil {
			return err
		}
	}
	return s.newToken(ask[api.NewPerson](s.client.AddPerson(ctx, api.AddPerson{Name: name, Renew: true})))
}

func listSessions(ctx context.Context, s *session, _ *cli.Command) error {
	all, err := ask[[]api.OpenSession](s.client.ListSessions(ctx))
	if err != nil {
		return err
	}
	head := []column{
		col("session"),
		col("name"),
		col("from"),
		col("opened").spare(2),
		col("last_asked").as("LAST ASKED"),
		col("ends").spare(3),
		col("program").spare(1),
	}
	return list(s, all, "No session is open.", head, func(x api.OpenSession) []cell {
		return []cell{
			{text: x.Id, style: bold},
			{text: x.Name},
			{text: x.From},
			timeCell(x.OpenedAt, minutes),
			timeCell(x.SeenAt, "15:04"),
			timeCell(x.EndsAt, "15:04"),
			{text: x.Program},
		}
	})
}

func personCommand() *cli.Command {
	show := listing(listPeople)
	return &cli.Command{
		Name:    "person",
		Aliases: []string{"people"},
		Usage:   "people who may use this service, each with a token",
		Description: "Example: lantern person list\n         lantern person add bo --role operator\n\n" +
			"A viewer sees everything. An operator also works on drives: lights, tests, swaps, notices. A keeper also\n" +
			"changes rules, plans, layouts, stock and channels. An admin also changes people and hosts.",
		Flags:  tableFlags(),
		Action: show,
		Commands: []*cli.Command{
			{
				Name:        "list",
				Usage:       "all of them",
				Description: "Example: lantern person list\n         lantern person list --columns name,role",
				Flags:       tableFlags(),
				Action:      show,
			},
			{
				Name:      "add",
				Usage:     "add a person and print their token, once",
				ArgsUsage: "<name>",
				Description: "Example: lantern person add bo\n         lantern person add night-shift --role operator --host " +
					"skerry --for 30d\n         lantern person add dashboard --role viewer --for 1y",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "role", Value: "operator", Usage: "viewer, operator, keeper or admin"},
					&cli.StringSliceFlag{Name: "host", Usage: "limit the person to this host; may be repeated"},
					&cli.StringSliceFlag{Name: "pool", Usage: "limit the person to this pool; may be repeated"},
					&cli.StringFlag{Name: "for", Usage: "how long the token is valid, such as 8h, 30d or 1y; default: no end"},
				},
				Action: with(addPerson),
			},
			{
				Name:        "renew",
				Usage:       "make a new token for yourself; the old token and its sessions end",
				ArgsUsage:   "[your name]",
				Description: "Example: lantern person renew\n         lantern person renew -o json",
				Action:      with(renew),
			},
			{
				Name:        "remove",
				Usage:       "remove a person's token; what they did stays on record",
				ArgsUsage:   "<name>",
				Description: "Example: lantern person remove bo\n         lantern person remove night-shift",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					name, err := one(cmd, "the person's name")
					if err != nil {
						return err
					}
					return s.done(name+" no longer has a token", did(s.client.RemovePerson(ctx, name)))
				}),
			},
			{
				Name:        "sessions",
				Usage:       "list sessions of the console: your own, or for an admin everybody's",
				Description: "Example: lantern person sessions\n         lantern person sessions -o json",
				Flags:       tableFlags(),
				Action:      listing(listSessions),
			},
			{
				Name:        "end-session",
				Usage:       "end a session of the console and its live updates",
				ArgsUsage:   "<session>",
				Description: "Example: lantern person sessions\n         lantern person end-session 01J9ZQ3V0K8T7M5N2P4R6S8W1X",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					id, err := one(cmd, "the session")
					if err != nil {
						return err
					}
					return s.done("the session has ended", did(s.client.EndSession(ctx, id)))
				}),
			},
		},
	}
}

func listAudit(ctx context.Context, s *session, cmd *cli.Command) error {
	all, err := ask[[]api.AuditEntry](s.client.ListAudit(ctx, &api.ListAuditParams{Newest: cmd.Int("newest")}))
	if err != nil {
		return err
	}
	head := []column{
		col("number"),
		col("at"),
		col("who"),
		col("role").spare(1),
		col("from").spare(2),
		col("did").fold(16),
		col("to").fold(12),
		col("result").fold(14),
	}
	return list(s, all, "No entries yet.", head, func(e api.AuditEntry) []cell {
		return []cell{
			{text: fmt.Sprint(e.Number), right: true, raw: e.Number},
			timeCell(e.At, "2006-01-02 15:04:05"),
			{text: e.Who, style: bold},
			{text: e.Role},
			{text: e.From},
			{text: e.Action},
			{text: e.Target},
			{text: e.Result},
		}
	})
}

// exportAudit prints every entry, one a line, as JSON.
func exportAudit(ctx context.Context, s *session, _ *cli.Command) error {
	e := json.NewEncoder(s.out.w)
	for after := int64(0); ; {
		all, err := ask[[]api.AuditEntry](s.client.ListAudit(ctx, &api.ListAuditParams{After: after, Limit: 5000}))
		if err != nil || len(all) == 0 {
			return err
		}
		for _, x := range all {
			if err := e.Encode(x); err != nil {
				return err
			}
			after = x.Number
		}
	}
}

func verifyAudit(ctx context.Context, s *session, cmd *cli.Command) error {
	var p api.VerifyAuditParams
	if at := cmd.String("checkpoint"); at != "" {
		if _, err := fmt.Sscanf(strings.Replace(at, ":", " ", 1), "%d %s", &p.Number, &p.Hash); err != nil {
			return usage("--checkpoint is what an earlier verify printed, such as 812:9f2c…, not %q", at)
		}
	}
	v, err := ask[api.AuditVerdict](s.client.VerifyAudit(ctx, &p))
	err = tell(s, func(v api.AuditVerdict) {
		s.out.line("%d entries: %s.", v.Entries, v.Says)
		if v.Sound && v.Number > 0 {
			s.out.line("Keep this checkpoint elsewhere:")
			s.out.verbatim(fmt.Sprintf("%d:%s", v.Number, v.Hash))
		}
	}, v, err)
	if err == nil && !v.Sound {
		return &Failure{Code: ExitFailed, Says: "the audit was changed after it was written"}
	}
	return err
}

func auditCommand() *cli.Command {
	show := listing(listAudit)
	newest := append(
		[]cli.Flag{&cli.IntFlag{Name: "newest", Value: 50, Usage: "number of entries", Local: true}},
		tableFlags()...)
	return &cli.Command{
		Name:  "audit",
		Usage: "audit: who changed what, when and from where",
		Description: "Example: lantern audit list --newest 20\n         lantern audit verify\n\n" +
			"Each entry holds the hash of the one before it, so that none can be changed or left out unnoticed. A checkpoint\n" +
			"that is kept elsewhere shows as well when entries were removed from the end.",
		Flags:  newest,
		Action: show,
		Commands: []*cli.Command{
			{
				Name:        "list",
				Usage:       "list the newest entries",
				Description: "Example: lantern audit list --newest 200\n         lantern audit list --columns at,who,did,to",
				Flags:       newest,
				Action:      show,
			},
			{
				Name:        "verify",
				Usage:       "verify that no entry was changed; prints a checkpoint",
				Description: "Example: lantern audit verify\n         lantern audit verify -o json",
				Flags:       []cli.Flag{&cli.StringFlag{Name: "checkpoint", Usage: "checkpoint printed by an earlier verify"}},
				Action:      with(verifyAudit),
			},
			{
				Name:        "export",
				Usage:       "print all entries with their changes, as JSON Lines",
				Description: "Example: lantern audit export > audit.jsonl\n         lantern audit export",
				Action:      with(exportAudit),
			},
		},
	}
}
