package cli

import (
	"cmp"
	"context"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func stockCommand() *cli.Command {
	list := listing(func(ctx context.Context, s *session, _ *cli.Command) error {
		all, err := ask[[]api.StockItem](s.client.ListStock(ctx))
		if err != nil {
			return err
		}
		return list(
			s,
			all,
			"No drive is in stock. Put one into a free bay, and test it: lantern accept begin <drive>",
			[]column{
				col("drive"),
				col("model").spare(1),
				col("bytes").as("SIZE").spare(2),
				col("place"),
				col("tested").fold(10),
				col("tested_at").more(),
				col("fits").fold(12),
				col("note").fold(12),
			},
			func(x api.StockItem) []cell {
				place := at(x.Site, cmp.Or(x.Place, "on the shelf")) + dated(x.AsOf)
				fits := cell{text: cmp.Or(strings.Join(x.Fits, ", "), "nowhere"), raw: strings.Join(x.Fits, ", ")}
				if !x.AsOf.IsZero() {
					fits.text = "not known"
				}
				tested := cell{text: string(x.Accepted), raw: string(x.Accepted)}
				if x.Accepted == api.StockItemAcceptedNone {
					tested.text = "not yet"
				} else if !x.AcceptedAt.IsZero() {
					tested.text += " " + x.AcceptedAt.Local().Format(time.DateOnly)
				}
				note := x.Note
				if x.Promised != "" {
					note = strings.TrimSpace("reserved by the swap of " + x.Promised + " " + note)
				}
				return []cell{
					{text: x.Tail, style: bold},
					{text: x.Model},
					bytesCell(x.CapacityBytes),
					{text: place},
					tested,
					timeCell(x.AcceptedAt, minutes),
					fits,
					{text: note},
				}
			},
		)
	})
	return &cli.Command{
		Name:        "stock",
		Usage:       "drives kept as replacements",
		Description: "Example: lantern stock\n         lantern stock keep XH001 --note \"cupboard, second shelf\"",
		Flags:       tableFlags(),
		Action:      list,
		Commands: []*cli.Command{
			stockAdvice(),
			{
				Name:        "list",
				Usage:       "list stock: where each drive is, its test, and where it fits",
				Description: "Example: lantern stock list\n         lantern stock list -o csv",
				Flags:       tableFlags(),
				Action:      list,
			},
			{
				Name:      "keep",
				Usage:     "add a drive to the stock",
				ArgsUsage: "<drive>",
				Description: "Example: lantern stock keep XH001 --note \"cupboard, second shelf\"\n" +
					"         lantern stock keep XH001",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "note", Usage: "where it is, or another note"},
				},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					drive, err := one(cmd, "the drive")
					if err != nil {
						return err
					}
					x, err := ask[api.StockItem](
						s.client.KeepInStock(ctx, drive, api.KeepStock{Note: cmd.String("note")}),
					)
					if err != nil {
						return err
					}
					if done, err := s.out.value(x); done {
						return err
					}
					s.out.line("%s is now in stock", x.Tail)
					return nil
				}),
			},
			{
				Name:        "drop",
				Usage:       "remove a drive from the stock",
				ArgsUsage:   "<drive>",
				Description: "Example: lantern stock drop XH001\n         lantern stock drop XH001 -o json",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					drive, err := one(cmd, "the drive")
					if err != nil {
						return err
					}
					if err := did(s.client.DropFromStock(ctx, drive)); err != nil {
						return err
					}
					s.out.line("%s was removed from stock", drive)
					return nil
				}),
			},
		},
	}
}
