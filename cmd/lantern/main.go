// Command lantern is the service, the agent, the demo and the client.
package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"net/url"
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

func serveFlags(data string) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:  "listen",
			Value: "127.0.0.1:7411",
			Usage: "address and port",
		},
		&cli.StringFlag{
			Name:  "data",
			Value: data,
			Usage: "folder of the database",
		},
		&cli.StringFlag{Name: "cert", Usage: "certificate, a PEM file"},
		&cli.StringFlag{Name: "key", Usage: "its key, a PEM file"},
		&cli.BoolFlag{Name: "insecure", Usage: "listen on any address without TLS: tokens then travel in the clear"},
		&cli.StringFlag{
			Name:        "base-url",
			Usage:       "where people and agents reach the service, such as https://lantern.example or https://example.com/lantern",
			DefaultText: "where it listens",
		},
		&cli.StringSliceFlag{
			Name:  "trusted-proxy",
			Usage: "address or network of a reverse proxy whose word is taken for who asks; as often as you like",
		},
		&cli.StringFlag{
			Name:  "metrics-listen",
			Usage: "an address of its own where metrics are told to anybody, such as 127.0.0.1:7413",
		},
		&cli.StringFlag{
			Name:  "metrics-token-file",
			Usage: "file that holds the token for /metrics; without one it is not told there",
		},
		&cli.StringFlag{
			Name:  "metrics-drives",
			Value: "flagged",
			Usage: "which drives have metrics of their own: flagged, all or none",
		},
		&cli.BoolFlag{Name: "verbose", Usage: "log more"},
		&cli.StringFlag{Name: "log", Value: "text", Usage: "how log lines are written: text or json"},
	}
}

// serveFrom is what the options say, each of which was looked at.
func serveFrom(cmd *cli.Command) (s daemon.Serve, err error) {
	s = daemon.Serve{
		Listen:   cmd.String("listen"),
		Data:     cmd.String("data"),
		Cert:     cmd.String("cert"),
		Key:      cmd.String("key"),
		Insecure: cmd.Bool("insecure"),
		Metrics:  daemon.Metrics{Drives: cmd.String("metrics-drives")},

		MetricsListen: cmd.String("metrics-listen"),
		Out:           cmd.Root().Writer,
		Log:           logger(cmd),
	}
	if s.Base, err = baseURL(cmd.String("base-url")); err != nil {
		return s, err
	}
	for _, text := range cmd.StringSlice("trusted-proxy") {
		p, err := network(text)
		if err != nil {
			return s, err
		}
		s.Proxies = append(s.Proxies, p)
	}
	if s.Provider, err = providerFrom(cmd); err != nil {
		return s, err
	}
	if path := cmd.String("metrics-token-file"); path != "" {
		if s.Metrics.Token, err = secretIn(path); err != nil {
			return s, err
		}
	}
	if form := cmd.String("log"); form != "" && form != "text" && form != "json" {
		return s, usage("--log is text or json, not %q", form)
	}
	return s, s.Check()
}

// wholeServeFrom is what the options of serve say, some of which others that serve do not have.
func wholeServeFrom(cmd *cli.Command) (s daemon.Serve, err error) {
	if s, err = serveFrom(cmd); err == nil {
		s.Backups, err = backupsFrom(cmd)
	}
	s.Retention = daemon.Retention{
		Events:     cmd.Duration("keep-events"),
		Orders:     cmd.Duration("keep-orders"),
		Deliveries: cmd.Duration("keep-messages"),
	}
	for option, d := range map[string]time.Duration{"keep-events": s.Retention.Events, "keep-orders": s.Retention.Orders, "keep-messages": s.Retention.Deliveries} {
		if err == nil && d < daemon.LeastRetention {
			err = usage("--%s is at least %s", option, client.DurationText(daemon.LeastRetention))
		}
	}
	return s, err
}

func backupFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:        "backup-folder",
			Usage:       "folder for backups that the service makes by itself",
			DefaultText: "none are made",
		},
		&client.DurationFlag{Name: "backup-every", Value: 24 * time.Hour, Usage: "how often they are made"},
		&cli.IntFlag{Name: "backup-keep", Value: 14, Usage: "how many of them are kept"},
		&client.DurationFlag{
			Name:  "keep-events",
			Value: daemon.UsualRetention.Events,
			Usage: "how long it is kept what happened, a line each",
		},
		&client.DurationFlag{
			Name:  "keep-orders",
			Value: daemon.UsualRetention.Orders,
			Usage: "how long orders that have an outcome are kept",
		},
		&client.DurationFlag{
			Name:  "keep-messages",
			Value: daemon.UsualRetention.Deliveries,
			Usage: "how long it is kept which messages went out",
		},
	}
}

// backupsFrom is the plan of the options.
func backupsFrom(cmd *cli.Command) (p daemon.BackupPlan, err error) {
	p = daemon.BackupPlan{
		Folder: cmd.String("backup-folder"),
		Every:  cmd.Duration("backup-every"),
		Keep:   cmd.Int("backup-keep"),
	}
	switch {
	case p.Every < time.Minute:
		return p, usage("--backup-every is at least 1m, such as 1h or 1d")
	case p.Keep < 1:
		return p, usage("--backup-keep is at least 1")
	}
	return p, nil
}

func usage(format string, args ...any) error {
	return &client.Failure{Code: client.ExitUsage, Says: fmt.Sprintf(format, args...)}
}

// baseURL reads where the service is reached; nil for where it listens.
func baseURL(text string) (*url.URL, error) {
	if text == "" {
		return nil, nil // none was said
	}
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.RawQuery != "" || u.Fragment != "" ||
		u.User != nil {
		return nil, usage("--base-url %q is no address such as https://lantern.example or https://example.com/lantern", text)
	}
	return u, nil
}

// network reads an address, or a network in CIDR notation (RFC 4632).
func network(text string) (netip.Prefix, error) {
	if at, err := netip.ParseAddr(text); err == nil {
		return netip.PrefixFrom(at, at.BitLen()), nil
	}
	p, err := netip.ParsePrefix(text)
	if err != nil {
		return p, usage("--trusted-proxy %q is no address such as 192.0.2.7, and no network such as 192.0.2.0/24", text)
	}
	return p, nil
}

func serve() *cli.Command {
	return fileAndEnvironment(&cli.Command{
		Name:  "serve",
		Usage: "run the service",
		Description: "Example: lantern serve\n         lantern serve --listen 0.0.0.0:7411 --cert cert.pem --key key.pem --data /var/lib/lantern/service\n" +
			"         lantern serve --config /etc/lantern/service.yaml\n\n" +
			"Every option can be given by the environment as well (LANTERN_LISTEN for --listen), and by the file that --config names.\n" +
			"What a file may hold: lantern config show service",
		Flags: slices.Concat(serveFlags(dataDir("service")), backupFlags(), providerFlags()),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			s, err := wholeServeFrom(cmd)
			if err != nil {
				return err
			}
			return s.Run(ctx)
		},
	})
}

func providerFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:  "oidc-issuer",
			Usage: "address of an identity provider (OpenID Connect) that signs people in as well",
		},
		&cli.StringFlag{Name: "oidc-client", Usage: "the client id by which it knows this service"},
		&cli.StringFlag{Name: "oidc-secret-file", Usage: "file that holds the client's secret"},
		&cli.StringFlag{Name: "oidc-url", Usage: "where people reach this service", DefaultText: "--base-url"},
		&cli.StringFlag{
			Name:  "oidc-role-claim",
			Value: "lantern_role",
			Usage: "the claim that holds somebody's role: viewer, operator, keeper or admin",
		},
	}
}

// providerFrom is the identity provider of the flags; nil without one.
func providerFrom(cmd *cli.Command) (*daemon.Provider, error) {
	p := &daemon.Provider{
		Issuer:    cmd.String("oidc-issuer"),
		ClientID:  cmd.String("oidc-client"),
		URL:       cmp.Or(cmd.String("oidc-url"), cmd.String("base-url")),
		RoleClaim: cmd.String("oidc-role-claim"),
	}
	if p.Issuer == "" {
		return nil, nil // none was asked for
	}
	if p.ClientID == "" || p.URL == "" {
		return nil, &client.Failure{Code: client.ExitUsage, Says: "--oidc-issuer needs --oidc-client and --base-url as well"}
	}
	if path := cmd.String("oidc-secret-file"); path != "" {
		var err error
		if p.Secret, err = secretIn(path); err != nil {
			return nil, err
		}
	}
	return p, nil
}

// secretOf is a secret that was given, or that a file holds; a file that is not there holds none.
func secretOf(given, file string) (string, error) {
	if given != "" || file == "" {
		return given, nil
	}
	text, err := secretIn(file)
	if errors.Is(err, os.ErrNotExist) {
		return "", nil
	}
	return text, err
}

// secretIn reads a secret from a file of its own.
func secretIn(path string) (string, error) {
	b, err := os.ReadFile(path)
	if err == nil && len(strings.TrimSpace(string(b))) == 0 {
		err = fmt.Errorf("%s holds nothing", path)
	}
	return strings.TrimSpace(string(b)), err
}

func demo() *cli.Command {
	flags := append(
		serveFlags(".demo"),
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
		Name:        "driver",
		Usage:       "programs that speak for pools of other kinds",
		Description: "Example: lantern driver check node examples/pool-driver/mirror.mjs /tmp/toy\n         lantern driver check --help",
		Commands:    []*cli.Command{check},
	}
}

func agent() *cli.Command {
	name, _ := os.Hostname()
	name, _, _ = strings.Cut(strings.ToLower(name), ".")
	return fileAndEnvironment(&cli.Command{
		Name:  "agent",
		Usage: "report this host's drives and pools, and obey orders",
		Description: "Example: lantern agent --print\n         lantern agent --host skerry --server https://lantern.example --token-file /etc/lantern/token\n" +
			"         lantern agent --config /etc/lantern/agent.yaml\n\n" +
			"Every option can be given by the environment as well (LANTERN_EVERY for --every), and by the file that --config names.\n" +
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
