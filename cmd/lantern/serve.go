package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"
	_ "time/tzdata" // zones are named by people, on machines that may have none

	"github.com/urfave/cli/v3"

	client "lantern/internal/cli"
	"lantern/internal/daemon"
)

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
		&cli.StringFlag{Name: "key", Usage: "private key of the certificate, a PEM file"},
		&cli.BoolFlag{Name: "insecure", Usage: "listen on any address without TLS: tokens then travel in the clear"},
		&cli.StringFlag{
			Name:        "replicate-to",
			Usage:       "copy every change of the database here within about two seconds: file:///…, sftp://… or s3://…",
			DefaultText: "nothing is copied",
		},
		&cli.StringFlag{
			Name: "standby",
			Usage: "stand by for the service that copies its database there; serve only after: lantern standby take-over " +
				"(the same address as its --replicate-to)",
			DefaultText: "this is the first service",
		},
		&cli.BoolFlag{
			Name: "agent-certificates",
			Usage: "give each agent a certificate; from then on the host's token works only with it (mutual TLS, " +
				"with --cert and --key)",
		},
		&cli.StringFlag{
			Name: "base-url",
			Usage: "where people and agents reach the service, such as https://lantern.example or " +
				"https://example.com/lantern",
			DefaultText: "address it listens on",
		},
		&cli.StringSliceFlag{
			Name:  "trusted-proxy",
			Usage: "address or network of a trusted reverse proxy, which names the caller's address; may be repeated",
		},
		&cli.StringFlag{
			Name:  "metrics-listen",
			Usage: "serve /metrics on this address too, without a token, such as 127.0.0.1:7413",
		},
		&cli.StringFlag{
			Name:  "metrics-token-file",
			Usage: "file with the token for /metrics; without one, /metrics is off on this address",
		},
		&cli.StringFlag{
			Name:  "metrics-drives",
			Value: "flagged",
			Usage: "drives that get metrics of their own: flagged, all or none",
		},
		&cli.BoolFlag{Name: "verbose", Usage: "log more"},
		&cli.StringFlag{Name: "log", Value: "text", Usage: "how log lines are written: text or json"},
	}
}

// serveFrom reads the settings of a service from checked options.
func serveFrom(cmd *cli.Command) (s daemon.Serve, err error) {
	s = daemon.Serve{
		Listen:   cmd.String("listen"),
		Data:     cmd.String("data"),
		Cert:     cmd.String("cert"),
		Key:      cmd.String("key"),
		Insecure: cmd.Bool("insecure"),

		AgentCertificates: cmd.Bool("agent-certificates"),

		ReplicateTo: cmd.String("replicate-to"),
		StandbyOf:   cmd.String("standby"),

		Metrics: daemon.Metrics{Drives: cmd.String("metrics-drives")},

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

// wholeServeFrom also reads the options that only the command serve has.
func wholeServeFrom(cmd *cli.Command) (s daemon.Serve, err error) {
	if s, err = serveFrom(cmd); err == nil {
		s.Backups, err = backupsFrom(cmd)
	}
	if err == nil {
		err = sitesFrom(cmd, &s)
	}
	s.Retention = daemon.Retention{
		Events:     cmd.Duration("keep-events"),
		Orders:     cmd.Duration("keep-orders"),
		Deliveries: cmd.Duration("keep-messages"),
		Past:       cmd.Duration("keep-past"),
	}
	if err == nil && s.Retention.Past < 0 {
		err = usage("--keep-past is a time such as 30d, or 0 for none")
	}
	for option, d := range map[string]time.Duration{"keep-events": s.Retention.Events, "keep-orders": s.Retention.Orders,
		"keep-messages": s.Retention.Deliveries} {
		if err == nil && d < daemon.LeastRetention {
			err = usage("--%s is at least %s", option, client.DurationText(daemon.LeastRetention))
		}
	}
	return s, err
}

// siteFlags are the options of a site.
func siteFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:  "site",
			Usage: "name of this site at a headquarters; the site works without the headquarters too",
		},
		&cli.StringFlag{Name: "report-to", Usage: "address of the headquarters' engine, such as " +
			"tls://headquarters.example:7414"},
		&cli.StringFlag{Name: "site-secret-file", Usage: "file with the secret from lantern site invite"},
		&cli.StringFlag{Name: "engine-creds", Usage: "file with credentials for an outside engine"},
		&cli.StringFlag{
			Name:        "engine-ca",
			Usage:       "certificate of the authority that signed the engine's, a PEM file",
			DefaultText: "those of the system",
		},
	}
}

// headquartersFlags are the options of a headquarters.
func headquartersFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "headquarters", Usage: "show many sites as one; it watches no host of its own"},
		&cli.StringFlag{Name: "engine-listen", Value: "127.0.0.1:7414", Usage: "address and port for sites"},
		&cli.StringFlag{
			Name:        "engine",
			Usage:       "address of a NATS cluster with JetStream, such as nats://a:4222,nats://b:4222",
			DefaultText: "one within this service",
		},
		&cli.IntFlag{Name: "engine-copies", Value: 1, Usage: "number of copies of each stream in that cluster"},
	}
}

// sitesFrom reads the options of headquarters and sites.
func sitesFrom(cmd *cli.Command, s *daemon.Serve) (err error) {
	link := daemon.EngineLink{Creds: cmd.String("engine-creds"), CA: cmd.String("engine-ca")}
	s.Headquarters = daemon.Headquarters{On: cmd.Bool("headquarters"), Listen: cmd.String("engine-listen"),
		Copies: cmd.Int("engine-copies"), Link: link}
	s.Headquarters.Link.URL = cmd.String("engine")
	s.Site = daemon.SiteLink{Name: cmd.String("site"), Link: link}
	s.Site.Link.URL = cmd.String("report-to")
	if path := cmd.String("site-secret-file"); path != "" {
		if s.Site.Link.Secret, err = secretIn(path); err != nil {
			return fmt.Errorf("--site-secret-file: %w", err)
		}
	}
	switch {
	case s.Site.Name == "" && (s.Site.Link.URL != "" || s.Site.Link.Secret != ""):
		return usage("--report-to and --site-secret-file need --site, the name of this site")
	case !s.Headquarters.On && s.Headquarters.Link.URL != "":
		return usage("--engine is an option of a headquarters: give --headquarters as well, or --report-to for a site")
	}
	return s.Check()
}

func backupFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{
			Name:        "backup-folder",
			Usage:       "folder for automatic backups",
			DefaultText: "no backups are made",
		},
		&client.DurationFlag{Name: "backup-every", Value: 24 * time.Hour, Usage: "how often backups are made"},
		&cli.IntFlag{Name: "backup-keep", Value: 14, Usage: "how many backups are kept"},
		&client.DurationFlag{
			Name:  "keep-past",
			Value: daemon.UsualRetention.Past,
			Usage: "how far back earlier states can be shown (--at); 0 turns it off",
		},
		&client.DurationFlag{
			Name:  "keep-events",
			Value: daemon.UsualRetention.Events,
			Usage: "how long events are kept",
		},
		&client.DurationFlag{
			Name:  "keep-orders",
			Value: daemon.UsualRetention.Orders,
			Usage: "how long finished orders are kept",
		},
		&client.DurationFlag{
			Name:  "keep-messages",
			Value: daemon.UsualRetention.Deliveries,
			Usage: "how long sent messages are kept",
		},
	}
}

// backupsFrom reads the plan of backups from the options.
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

// baseURL reads the address at which the service is reached; nil for the address it listens on.
func baseURL(text string) (*url.URL, error) {
	if text == "" {
		return nil, nil // not given
	}
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.RawQuery != "" || u.Fragment != "" ||
		u.User != nil {
		return nil, usage(
			"--base-url %q is not an address such as https://lantern.example or https://example.com/lantern",
			text,
		)
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
		return p, usage("--trusted-proxy %q is not an address such as 192.0.2.7, and no network such as 192.0.2.0/24", text)
	}
	return p, nil
}

func serve() *cli.Command {
	return fileAndEnvironment(&cli.Command{
		Name:  "serve",
		Usage: "run the service",
		Description: "Example: lantern serve\n         lantern serve --listen 0.0.0.0:7411 --cert cert.pem --key key.pem " +
			"--data /var/lib/lantern/service\n" +
			"         lantern serve --config /etc/lantern/service.yaml\n\n" +
			"Every option can be given by the environment as well (LANTERN_LISTEN for --listen), and by the file that " +
			"--config names.\n" +
			"All settings of a file: lantern config show service",
		Flags: slices.Concat(serveFlags(dataDir("service")), backupFlags(), headquartersFlags(), siteFlags(),
			providerFlags()),
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
			Usage: "address of an identity provider (OpenID Connect) through which people can also sign in",
		},
		&cli.StringFlag{Name: "oidc-client", Usage: "client id of this service at the provider"},
		&cli.StringFlag{Name: "oidc-secret-file", Usage: "file with the client's secret"},
		&cli.StringFlag{Name: "oidc-url", Usage: "address at which people reach this service", DefaultText: "--base-url"},
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
		return nil, nil // not given
	}
	if p.ClientID == "" || p.URL == "" {
		return nil, &client.Failure{
			Code: client.ExitUsage,
			Says: "--oidc-issuer needs --oidc-client and --base-url as well",
		}
	}
	if path := cmd.String("oidc-secret-file"); path != "" {
		var err error
		if p.Secret, err = secretIn(path); err != nil {
			return nil, err
		}
	}
	return p, nil
}

// secretOf is a given secret, or the content of a file; empty if the file does not exist.
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
