// Command lantern is the service, the agent, the demo and the client.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"
	_ "time/tzdata" // zones are named by people, on machines that may have none

	"github.com/urfave/cli/v3"

	client "lantern/internal/cli"
	"lantern/internal/daemon"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	err := app().Run(ctx, os.Args)
	stop()
	if err != nil && !errors.Is(err, context.Canceled) {
		fmt.Fprintln(os.Stderr, client.Says(err))
		os.Exit(client.Code(err))
	}
}

func app() *cli.Command {
	return client.Root(
		daemon.Version,
		serve(),
		agent(),
		backup(),
		restore(),
		check(),
		salvage(),
		standby(),
		migrate(),
		storeCommand(),
		config(),
		demo(),
		rehearse(),
		driver(),
	)
}

func logger(cmd *cli.Command) *slog.Logger {
	level := slog.LevelInfo
	if cmd.Bool("verbose") {
		level = slog.LevelDebug
	}
	options := &slog.HandlerOptions{Level: level}
	if cmd.String("log") == "json" {
		return slog.New(slog.NewJSONHandler(os.Stderr, options))
	}
	return slog.New(slog.NewTextHandler(os.Stderr, options))
}

func dataDir(name string) string {
	if dir, err := os.UserHomeDir(); err == nil && os.Getuid() != 0 {
		return filepath.Join(dir, ".local", "share", "lantern", name)
	}
	return filepath.Join("/var/lib/lantern", name)
}

func usage(format string, args ...any) error {
	return &client.Failure{Code: client.ExitUsage, Says: fmt.Sprintf(format, args...)}
}

func demo() *cli.Command {
	flags := append(
		slices.Concat(serveFlags(".demo"), siteFlags()),
		&cli.BoolFlag{Name: "fresh", Usage: "forget what happened before and begin again"},
		&cli.FloatFlag{Name: "speed", Value: 1, Usage: "how many times faster than real time a new lab runs"},
		&cli.IntFlag{Name: "drives", Usage: "add sound drives until there are this many"},
		&cli.BoolFlag{
			Name:  "tour",
			Usage: "the console begins with a walk-through: seven short scenes, from a flagged drive to its record",
		},
	)
	return &cli.Command{
		Name:        "demo",
		Usage:       "run the service with a lab fleet: nothing real is touched",
		Description: "Example: lantern demo\n         lantern demo --tour --fresh",
		Flags:       flags,
		Action: func(ctx context.Context, cmd *cli.Command) error {
			s, err := serveFrom(cmd)
			if err == nil {
				err = sitesFrom(cmd, &s)
			}
			if err != nil {
				return err
			}
			return daemon.Demo{
				Serve:  s,
				Fresh:  cmd.Bool("fresh"),
				Speed:  cmd.Float("speed"),
				Drives: cmd.Int("drives"),
				Tour:   cmd.Bool("tour"),
			}.Run(
				ctx,
			)
		},
	}
}

func rehearse() *cli.Command {
	flags := []cli.Flag{
		&cli.StringFlag{Name: "listen", Value: "127.0.0.1:7412", Usage: "address and port of the practice"},
		&cli.StringFlag{Name: "data", Usage: "its folder", DefaultText: "one of your cache, named after the pool"},
		&cli.BoolFlag{Name: "go-on", Usage: "go on with the practice that is there, instead of making a new copy"},
		&cli.FloatFlag{
			Name:  "speed",
			Value: 300,
			Usage: "how many times faster than real time it runs while only waiting is left; 0 for never",
		},
		&cli.StringSliceFlag{Name: "mishap", Usage: "what goes wrong, as often as you like; see below"},
		&cli.BoolFlag{
			Name:  "insecure",
			Usage: "listen on any address without TLS, as for a phone: tokens of the practice then travel in the clear",
		},
		&cli.BoolFlag{Name: "verbose", Usage: "log more"},
	}
	return &cli.Command{
		Name:      "rehearse",
		Usage:     "practise on a lab copy of a pool: nothing real is touched",
		ArgsUsage: "<pool>",
		Flags:     flags,
		Description: "Example: lantern rehearse soundscape\n         lantern rehearse soundscape --mishap " +
			"second-failure --mishap small-drive\n         lantern rehearse soundscape --go-on\n\n" +
			"The pool, its hosts with all drives in them, what is known and found of them, and what runs are " +
			"copied out of the service that is asked. " +
			"From then on the practice knows nothing of that service; no host but those of the lab can take " +
			"part in it.\n\nMishaps:\n" + daemon.Mishaps(),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			pool, err := client.One(cmd, "a pool's name")
			if err != nil {
				return err
			}
			s, err := serveFrom(cmd)
			if err != nil {
				return err
			}
			r := daemon.Rehearsal{
				Serve:   s,
				Pool:    pool,
				Speed:   cmd.Float("speed"),
				Mishaps: cmd.StringSlice("mishap"),
			}
			if err := r.Check(); err != nil {
				return &client.Failure{Code: client.ExitUsage, Says: err.Error()}
			}
			if !cmd.Bool("go-on") {
				if r.Copy, r.Person, err = client.CopyOf(ctx, cmd, pool); err != nil {
					return err
				}
			}
			return r.Run(ctx)
		},
	}
}

func driver() *cli.Command {
	check := &cli.Command{
		Name:      "check",
		Usage:     "put a program that speaks for pools through all that an agent may ask of it",
		ArgsUsage: "<program> [arguments]",
		Description: "Example: lantern driver check node examples/pool-driver/mirror.mjs /tmp/toy\n         " +
			"lantern driver check --break \"rm /tmp/toy/b.file\" --slot b --with /tmp/toy/c.file node " +
			"mirror.mjs /tmp/toy\n         lantern driver check --break \"mv /tmp/toy/b.file /tmp/b\" --slot b " +
			"--mend \"mv /tmp/b /tmp/toy/b.file\" node watch.mjs /tmp/toy",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "break", Usage: "a shell command that makes a member fail"},
			&cli.StringFlag{Name: "slot", Usage: "the place of that member"},
			&cli.StringFlag{Name: "with", Usage: "path of what comes in its place"},
			&cli.StringFlag{
				Name:  "mend",
				Usage: "of a program that only watches: a shell command that does by hand what an order would do",
			},
			&client.DurationFlag{Name: "patience", Value: time.Minute, Usage: "how long a recovery may take"},
			&cli.BoolFlag{Name: "verbose", Usage: "log more"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if !cmd.Args().Present() {
				return &client.Failure{
					Code: client.ExitUsage,
					Says: "name the program and its arguments\nExample: lantern driver check node mirror.mjs /tmp/toy",
				}
			}
			if (cmd.String("break") == "") != (cmd.String("slot") == "") ||
				(cmd.String("break") == "") != (cmd.String("with")+cmd.String("mend") == "") {
				return &client.Failure{
					Code: client.ExitUsage,
					Says: "--break and --slot belong together, with --with, or with --mend for a program that " +
						"only watches",
				}
			}
			failed, err := daemon.DriverCheck{
				Command:  cmd.Args().Slice(),
				Break:    cmd.String("break"),
				Slot:     cmd.String("slot"),
				With:     cmd.String("with"),
				Mend:     cmd.String("mend"),
				Patience: cmd.Duration("patience"),
				JSON:     cmd.Root().String("output") == "json",
				Out:      cmd.Root().Writer,
				Log:      logger(cmd),
			}.Run(
				ctx,
			)
			if err == nil && failed > 0 {
				err = &client.Failure{
					Code: client.ExitFailed,
					Says: fmt.Sprintf("%d of its parts failed; the protocol: docs/pool-driver.md", failed),
				}
			}
			return err
		},
	}
	return &cli.Command{
		Name:  "driver",
		Usage: "programs that speak for pools of other kinds",
		Description: "Example: lantern driver check node examples/pool-driver/mirror.mjs /tmp/toy\n" +
			"         lantern driver check --help",
		Commands: []*cli.Command{check},
	}
}

func agent() *cli.Command {
	name, _ := os.Hostname()
	name, _, _ = strings.Cut(strings.ToLower(name), ".")
	return fileAndEnvironment(&cli.Command{
		Name:  "agent",
		Usage: "report this host's drives and pools, and obey orders",
		Description: "Example: lantern agent --print\n" +
			"         lantern agent --host skerry --server https://lantern.example --token-file /etc/lantern/token\n" +
			"         lantern agent --config /etc/lantern/agent.yaml\n\n" +
			"Every option can be given by the environment as well (LANTERN_EVERY for --every), and by the file that --config " +
			"names.\n" +
			"What a file may hold: lantern config show agent",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "host", Value: name, Usage: "the name it was enrolled by"},
			&cli.StringFlag{
				Name:  "token-file",
				Usage: "file that holds the host's token, instead of LANTERN_HOST_TOKEN",
			},
			&cli.StringFlag{Name: "invite", Usage: "the code of an invitation, with which it asks for a token of its own"},
			&cli.StringFlag{Name: "invite-file", Usage: "file that holds the code, instead of --invite"},
			&cli.StringFlag{Name: "data", Value: dataDir("agent"), Usage: "folder for what could not be delivered yet"},
			&cli.StringFlag{Name: "devices", Usage: "only block devices whose names match, such as 'loop*'"},
			&cli.BoolFlag{
				Name:  "print",
				Usage: "look and read once, print what would be reported, and end; nothing is sent",
			},
			&client.DurationFlag{Name: "every", Value: 30 * time.Second, Usage: "report at least this often"},
			&client.DurationFlag{Name: "read-every", Value: 5 * time.Minute, Usage: "read the drives this often"},
			&cli.StringSliceFlag{
				Name: "pool-program",
				Usage: "a program that speaks for pools of a kind that is not known here, with its arguments; " +
					"see docs/pool-driver.md",
			},
			&cli.BoolFlag{Name: "wake", Usage: "read drives that are asleep as well; without it they are left alone"},
			&cli.BoolFlag{Name: "verbose", Usage: "log more"},
			&cli.StringFlag{Name: "log", Value: "text", Usage: "how log lines are written: text or json"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			a, err := agentFrom(cmd)
			if err != nil {
				return err
			}
			return a.Run(ctx)
		},
	})
}

// agentFrom is what the options say, each of which was looked at.
func agentFrom(cmd *cli.Command) (a daemon.Agent, err error) {
	for _, name := range []string{"every", "read-every"} {
		if cmd.Duration(name) < time.Second {
			return a, &client.Failure{Code: client.ExitUsage, Says: "--" + name + " is at least 1s, such as 30s or 5m"}
		}
	}
	if _, err := path.Match(cmd.String("devices"), ""); err != nil {
		return a, &client.Failure{Code: client.ExitUsage,
			Says: fmt.Sprintf(
				"--devices %q is no pattern: a [ has no ]; write it such as 'sd*' or 'sd[a-f]'",
				cmd.String("devices"),
			)}
	}
	token, err := secretOf(os.Getenv("LANTERN_HOST_TOKEN"), cmd.String("token-file"))
	if err != nil {
		return a, err
	}
	invite, err := secretOf(cmd.String("invite"), cmd.String("invite-file"))
	if err != nil {
		return a, err
	}
	if token == "" && invite == "" && !cmd.Bool("print") {
		for _, file := range []string{cmd.String("token-file"), cmd.String("invite-file")} {
			if file != "" {
				return a, fmt.Errorf(
					"%s is not there: it is to hold what lantern host enrol, or lantern host invite, printed",
					file,
				)
			}
		}
	}
	server, trust, err := client.Link(cmd)
	if err != nil {
		return a, err
	}
	var out io.Writer
	if cmd.Bool("print") {
		out = cmd.Root().Writer
	}
	return daemon.Agent{
		Print:    out,
		Host:     cmd.String("host"),
		Server:   server,
		Link:     trust,
		Token:    token,
		Invite:   invite,
		Data:     cmd.String("data"),
		Devices:  cmd.String("devices"),
		Interval: cmd.Duration("every"),
		ReadEach: cmd.Duration("read-every"),
		Wake:     cmd.Bool("wake"),
		Programs: cmd.StringSlice("pool-program"),
		Log:      logger(cmd),
	}, nil
}
