package main

import (
	"cmp"
	"context"
	"fmt"
	"os"

	"github.com/urfave/cli/v3"

	client "lantern/internal/cli"
	"lantern/internal/daemon"
)

func dataFlag() cli.Flag {
	return &cli.StringFlag{
		Name:    "data",
		Value:   dataDir("service"),
		Usage:   "the service's folder",
		Sources: cli.EnvVars("LANTERN_DATA"),
	}
}

// file returns the single argument of a command.
func file(cmd *cli.Command) (string, error) {
	if cmd.Args().Len() != 1 {
		examples, _ := client.Examples(cmd)
		return "", &client.Failure{
			Code: client.ExitUsage,
			Says: cmd.FullName() + " needs one file\nExample: " + examples[0],
		}
	}
	return cmd.Args().First(), nil
}

func backup() *cli.Command {
	return &cli.Command{
		Name:      "backup",
		Usage:     "write a backup of the database to a file, while the service runs",
		ArgsUsage: "<file>",
		Description: "Example: lantern backup /backup/lantern-2026-11-29.db\n" +
			"         lantern backup --data .demo demo-backup.db\n\n" +
			"It is run on the service's machine. The copy is of one moment, and is looked through before it gets its name.",
		Flags: []cli.Flag{dataFlag()},
		Action: func(_ context.Context, cmd *cli.Command) error {
			to, err := file(cmd)
			if err != nil {
				return err
			}
			return daemon.Backup(cmd.String("data"), to, cmd.Root().Writer)
		},
	}
}

func restore() *cli.Command {
	return &cli.Command{
		Name:      "restore",
		Usage:     "replace the database by a backup; the service gives no orders until it takes over",
		ArgsUsage: "<file>",
		Description: "Example: lantern restore /backup/lantern-2026-11-29.db\n" +
			"         lantern restore demo-backup.db --data /tmp/restored\n\n" +
			"What was there is kept beside it. Two services must not both give orders, so the restored one gives none until\n" +
			"a person declares the earlier one gone: lantern take-over --reason \"...\"",
		Flags: []cli.Flag{dataFlag()},
		Action: func(_ context.Context, cmd *cli.Command) error {
			from, err := file(cmd)
			if err != nil {
				return err
			}
			return daemon.Restore(from, cmd.String("data"), cmd.Root().Writer)
		},
	}
}

func standby() *cli.Command {
	return &cli.Command{
		Name:  "standby",
		Usage: "a standby: a second service that follows the first",
		Description: "Example: lantern serve --standby file:///mnt/copy --data /var/lib/lantern/standby\n" +
			"         lantern standby take-over --reason \"x\"",
		Commands: []*cli.Command{{
			Name:  "take-over",
			Usage: "declare the first service gone: the standby on this machine then serves and gives orders",
			Description: "Example: lantern standby take-over --reason \"its machine is dead, and switched off\"\n" +
				"         lantern standby take-over --data /var/lib/lantern/standby --reason \"planned: the first was " +
				"stopped\"\n\n" +
				"Two services that both give orders would pull and fill drives against each other. Be sure that the first is " +
				"off.\n" +
				"Agents look for the service at the address they know; move that to the standby too (DNS, a floating address, a " +
				"proxy).",
			Flags: []cli.Flag{
				dataFlag(),
				&cli.StringFlag{Name: "reason", Usage: "reason: how you know that it is gone", Required: true},
			},
			Action: func(_ context.Context, cmd *cli.Command) error {
				who := cmp.Or(os.Getenv("SUDO_USER"), os.Getenv("USER"), "somebody")
				if err := daemon.TakeOver(cmd.String("data"), who+" on the standby's machine", cmd.String("reason")); err != nil {
					return err
				}
				fmt.Fprintln(cmd.Root().Writer, "the standby was told; it serves within a few seconds")
				return nil
			},
		}},
	}
}

func salvage() *cli.Command {
	return &cli.Command{
		Name:      "salvage",
		Usage:     "copy what can be read from a damaged database to a new file, and list what was lost",
		ArgsUsage: "<damaged> <new file>",
		Description: "Example: lantern salvage /var/lib/lantern/service/lantern.db /backup/salvaged.db\n" +
			"         lantern salvage damaged-backup.db salvaged.db\n\n" +
			"The damaged file is only read; stop the service that has it open. Look for a backup first: what a backup holds " +
			"is whole.\n" +
			"Use the salvaged file with: lantern restore salvaged.db",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() != 2 {
				return &client.Failure{Code: client.ExitUsage, Says: "lantern salvage takes the damaged file and a new one"}
			}
			return daemon.Salvage(ctx, cmd.Args().Get(0), cmd.Args().Get(1), cmd.Root().Writer)
		},
	}
}

func check() *cli.Command {
	return &cli.Command{
		Name:      "check",
		Usage:     "check the database or a backup: everything is read, and loaded as at a start",
		ArgsUsage: "[backup]",
		Description: "Example: lantern check\n         lantern check /backup/lantern-2026-11-29.db\n\n" +
			"It checks the database itself, the checksum of every block of readings, the chain of the audit, and whether " +
			"the\n" +
			"service loads: every swap is replayed from its events. Nothing is changed, and a running service goes on.",
		Flags: []cli.Flag{dataFlag()},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() > 1 {
				return &client.Failure{Code: client.ExitUsage, Says: "lantern check takes one backup, or none"}
			}
			wrong, err := daemon.CheckRecords(ctx, cmd.String("data"), cmd.Args().First(), cmd.Root().Writer)
			if err != nil {
				return err
			}
			if wrong > 0 {
				return &client.Failure{Code: client.ExitFailed, Says: fmt.Sprintf("%d of the checks found a fault", wrong)}
			}
			return nil
		},
	}
}

func migrate() *cli.Command {
	return &cli.Command{
		Name:  "migrate",
		Usage: "list what this version changes in the database, tried on a copy",
		Description: "Example: lantern migrate\n         lantern migrate --data /var/lib/lantern/service\n\n" +
			"The records themselves are only read. The changes are made when the service of this version starts; make a " +
			"backup before,\n" +
			"since an older version refuses records that a newer one has changed.",
		Flags: []cli.Flag{
			dataFlag(),
			&cli.BoolFlag{Name: "plan", Value: true, Usage: "only print the plan (the default)", Hidden: true},
		},
		Action: func(_ context.Context, cmd *cli.Command) error {
			return daemon.PlanMigration(cmd.String("data"), cmd.Root().Writer)
		},
	}
}

func storeCommand() *cli.Command {
	return &cli.Command{
		Name:        "store",
		Usage:       "the service's records on disk",
		Description: "Example: lantern store size\n         lantern store size --data .demo",
		Commands: []*cli.Command{{
			Name:  "size",
			Usage: "list what uses space in the database, largest first",
			Description: "Example: lantern store size\n         lantern store size --data .demo\n\n" +
				"Readings are folded into blocks within hours; recoveries that ended are thinned out after a day; events, " +
				"orders and\n" +
				"messages go after --keep-events, --keep-orders and --keep-messages of lantern serve; \"past\" is what makes " +
				"--at possible,\n" +
				"and goes after --keep-past. The records are only read.",
			Flags: []cli.Flag{dataFlag()},
			Action: func(_ context.Context, cmd *cli.Command) error {
				return daemon.Sizes(cmd.String("data"), cmd.Root().Writer)
			},
		}, {
			Name:  "shrink",
			Usage: "compact the database file; the service must not run",
			Description: "Example: lantern store shrink\n         lantern store shrink --data /var/lib/lantern/service\n\n" +
				"It needs as much room again for a while. A running service gives room back by itself, a little at a time, " +
				"while more\n" +
				"than a quarter of its records is free; records that were made by a version of before can do that once they " +
				"were\n" +
				"written anew. Make a backup first.",
			Flags: []cli.Flag{dataFlag()},
			Action: func(_ context.Context, cmd *cli.Command) error {
				return daemon.Shrink(cmd.String("data"), cmd.Root().Writer)
			},
		}},
	}
}
