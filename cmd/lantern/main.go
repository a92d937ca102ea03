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
		&cli.BoolFlag{Name: "fresh", Usage: "delete the earlier demo and start again"},
		&cli.FloatFlag{Name: "speed", Value: 1, Usage: "how many times faster than real time the lab runs at first"},
		&cli.IntFlag{Name: "drives", Usage: "add sound drives until there are this many"},
		&cli.BoolFlag{
			Name:  "tour",
			Usage: "start the console with a tour: seven short scenes, from a flagged drive to its record",
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
		&cli.StringFlag{Name: "listen", Value: "127.0.0.1:7412", Usage: "address and port of the rehearsal"},
		&cli.StringFlag{Name: "data", Usage: "folder of the rehearsal", DefaultText: "one of your cache, named after the " +
			"pool"},
		&cli.BoolFlag{Name: "go-on", Usage: "continue the existing rehearsal instead of making a new copy"},
		&cli.FloatFlag{
			Name:  "speed",
			Value: 300,
			Usage: "speed-up while nothing but waiting is left; 0 turns it off",
		},
		&cli.StringSliceFlag{Name: "mishap", Usage: "what goes wrong; may be repeated; see below"},
		&cli.BoolFlag{
			Name: "insecure",
			Usage: "listen on any address without TLS, for example for a phone; the rehearsal's tokens are then sent in " +
				"cleartext",
		},
		&cli.BoolFlag{Name: "verbose", Usage: "log more"},
	}
	return &cli.Command{
		Name:      "rehearse",
		Usage:     "rehearse on a lab copy of a pool; nothing real is touched",
		ArgsUsage: "<pool>",
		Flags:     flags,
		Description: "Example: lantern rehearse soundscape\n         lantern rehearse soundscape --mishap " +
			"second-failure --mishap small-drive\n         lantern rehearse soundscape --go-on\n\n" +
			"The pool, its hosts with all drives in them, what is known and found of them, and what runs are " +
			"copied out of the service that is asked. " +
			"From then on the rehearsal is separate from that service; only hosts of the lab can take " +
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
		Usage:     "test a pool program with every request that an agent may send",
		ArgsUsage: "<program> [arguments]",
		Description: "Example: lantern driver check node examples/pool-driver/mirror.mjs /tmp/toy\n         " +
			"lantern driver check --break \"rm /tmp/toy/b.file\" --slot b --with /tmp/toy/c.file node " +
			"mirror.mjs /tmp/toy\n         lantern driver check --break \"mv /tmp/toy/b.file /tmp/b\" --slot b " +
			"--mend \"mv /tmp/b /tmp/toy/b.file\" node watch.mjs /tmp/toy",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "break", Usage: "a shell command that makes a member fail"},
			&cli.StringFlag{Name: "slot", Usage: "slot of that member"},
			&cli.StringFlag{Name: "with", Usage: "path of the new device"},
			&cli.StringFlag{
				Name:  "mend",
				Usage: "for a program that only watches: a shell command that makes the change by hand",
			},
			&client.DurationFlag{Name: "patience", Value: time.Minute, Usage: "longest duration of a recovery"},
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
					Says: fmt.Sprintf("%d parts failed; the protocol: docs/pool-driver.md", failed),
				}
			}
			return err
		},
	}
	return &cli.Command{
		Name:  "driver",
		Usage: "pool programs: drivers for other kinds of pools",
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
		Usage: "report this host's drives and pools, and carry out orders",
		Description: "Example: lantern agent --print\n" +
			"         lantern agent --host skerry --server https://lantern.example --token-file /etc/lantern/token\n" +
			"         lantern agent --config /etc/lantern/agent.yaml\n\n" +
			"Every option can be given by the environment as well (LANTERN_EVERY for --every), and by the file that --config " +
			"names.\n" +
			"All settings of a file: lantern config show agent",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "host", Value: name, Usage: "name under which the host was enrolled"},
			&cli.StringFlag{
				Name:  "token-file",
				Usage: "file with the host's token, instead of LANTERN_HOST_TOKEN",
			},
			&cli.StringFlag{Name: "invite", Usage: "code of an invitation, with which the agent asks for its own token"},
			&cli.StringFlag{Name: "invite-file", Usage: "file with the code, instead of --invite"},
			&cli.StringFlag{Name: "data", Value: dataDir("agent"), Usage: "folder for reports that could not be sent yet"},
			&cli.StringFlag{Name: "devices", Usage: "only block devices whose names match, such as 'loop*'"},
			&cli.BoolFlag{
				Name:  "print",
				Usage: "read all drives once, print the report, and exit; nothing is sent",
			},
			&client.DurationFlag{Name: "every", Value: 30 * time.Second, Usage: "report at least this often"},
			&client.DurationFlag{Name: "read-every", Value: 5 * time.Minute, Usage: "read the drives this often"},
			&cli.StringSliceFlag{
				Name: "pool-program",
				Usage: "a program that speaks for pools of a kind that is not known here, with its arguments; " +
					"see docs/pool-driver.md",
			},
			&cli.BoolFlag{Name: "wake", Usage: "read sleeping drives too, which wakes them"},
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

// agentFrom reads the settings of an agent from checked options.
func agentFrom(cmd *cli.Command) (a daemon.Agent, err error) {
	for _, name := range []string{"every", "read-every"} {
		if cmd.Duration(name) < time.Second {
			return a, &client.Failure{Code: client.ExitUsage, Says: "--" + name + " is at least 1s, such as 30s or 5m"}
		}
	}
	if _, err := path.Match(cmd.String("devices"), ""); err != nil {
		return a, &client.Failure{Code: client.ExitUsage,
			Says: fmt.Sprintf(
				"--devices %q is not a pattern: a [ has no ]; write it such as 'sd*' or 'sd[a-f]'",
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
					"%s does not exist: it must hold the token or code that lantern host enrol or lantern host invite printed",
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
