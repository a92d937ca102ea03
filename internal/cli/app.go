// Package cli has the client commands: each calls the API and prints the answer.
package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"github.com/knadh/koanf/parsers/yaml"
	"github.com/knadh/koanf/providers/env/v2"
	"github.com/knadh/koanf/providers/file"
	"github.com/knadh/koanf/v2"
	"github.com/oklog/ulid/v2"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"lantern/internal/api"
	"lantern/internal/harmless"
	"lantern/internal/link"
	"lantern/internal/practice"
)

// session is one run of a client command.
type session struct {
	client *api.ClientWithResponses
	out    *printer
	errOut io.Writer
	rings  bool // errOut is a terminal
	in     io.Reader
}

// Root is the program with all its commands; more are the commands that are not clients.
func Root(version string, more ...*cli.Command) *cli.Command {
	root := &cli.Command{
		Name:    "lantern",
		Usage:   "watches drives in pools on many hosts, and leads through replacing them",
		Version: version,
		Description: "Example: lantern round\n         lantern drives --verdict replace --verdict dead\n\n" +
			"Exit codes: 0 done, 1 failed, 2 what was typed is wrong, 3 refused, 4 the service cannot be reached.\n" +
			"More on a topic: lantern help " + strings.Join(Topics(), ", ") + ".",
		EnableShellCompletion:           true,
		ConfigureShellCompletionCommand: configureCompletion,
		ShellComplete:                   complete,
		Flags:                           Flags(),
		Commands:                        append(more, Commands()...),
		// Errors are printed once, by main, with their exit code.
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		OnUsageError: func(_ context.Context, cmd *cli.Command, err error, _ bool) error {
			return usage("%s See: lantern --help", optionError(cmd, err))
		},
		StopOnNthArg: &first,
		Action: func(_ context.Context, cmd *cli.Command) error {
			if cmd.Args().Present() {
				return noCommand(cmd)
			}
			return cli.ShowRootCommandHelp(cmd)
		},
	}
	cli.HelpPrinter = printHelp
	root.Commands = append(root.Commands, helpCommand(), manualCommand())
	prepare(root.Commands)
	return root
}

// Flags are the options of every client command.
func Flags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "server", Usage: "address of the service", DefaultText: "http://127.0.0.1:7411"},
		&cli.StringFlag{
			Name:        "config",
			Usage:       "file with server and token",
			DefaultText: "lantern/client.yaml in your configuration folder",
		},
		&cli.StringFlag{
			Name:        "ca",
			Usage:       "file with the certificate of the authority that signed the service's",
			DefaultText: "the system's",
		},
		&cli.StringFlag{Name: "fingerprint", Usage: "SHA-256 of the service's certificate, which alone is trusted then"},
		&cli.BoolFlag{Name: "cleartext", Usage: "send the token over plain HTTP to another machine as well"},
		&cli.StringFlag{
			Name: "at",
			Usage: "what was known then, such as \"3h ago\", \"yesterday 03:12\", \"tuesday 03:12\" or \"2026-11-24 03:12\"; " +
				"nothing can be changed",
		},
		&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Value: "table", Usage: "table, json or csv"},
	}
}

// configFile is the path of the client's configuration file, and whether it was given explicitly.
func configFile(cmd *cli.Command) (path string, named bool) {
	path = cmp.Or(cmd.String("config"), os.Getenv("LANTERN_CONFIG"))
	if path != "" {
		return path, true
	}
	if dir, err := os.UserConfigDir(); err == nil {
		path = filepath.Join(dir, "lantern", "client.yaml")
	}
	return path, false
}

// loaded applies the environment over the configuration file.
func loaded(cmd *cli.Command) (*koanf.Koanf, error) {
	k := koanf.New(".")
	path, named := configFile(cmd)
	if path != "" {
		if err := k.Load(file.Provider(path), yaml.Parser()); err != nil && (named || !errors.Is(err, os.ErrNotExist)) {
			return nil, usage("the configuration %s cannot be read: %v", path, err)
		}
	}
	_ = k.Load(env.Provider(".", env.Opt{Prefix: "LANTERN_", TransformFunc: func(name, value string) (string, any) {
		if value == "" {
			return "", nil // empty means not set
		}
		return strings.ToLower(strings.TrimPrefix(name, "LANTERN_")), value
	}}), nil)
	return k, nil
}

// settings applies flags over environment over file.
func settings(cmd *cli.Command) (server, token string, o link.Options, err error) {
	k, err := loaded(cmd)
	if err != nil {
		return "", "", o, err
	}
	server, token = k.String("server"), k.String("token")
	if s := cmd.String("server"); s != "" {
		server = s
	}
	if server == "" {
		server = "http://127.0.0.1:7411"
	}
	o = link.Options{
		CA:          cmp.Or(cmd.String("ca"), k.String("ca")),
		Fingerprint: cmp.Or(cmd.String("fingerprint"), k.String("fingerprint")),
		Clear:       cmd.Bool("cleartext") || k.Bool("cleartext"),
	}
	return strings.TrimRight(server, "/"), token, o, nil
}

// Link is the address of the service and how its certificate is checked: from flags, the environment or the file.
func Link(cmd *cli.Command) (server string, o link.Options, err error) {
	server, _, o, err = settings(cmd)
	return server, o, err
}

// with runs f with a client of the service, for commands without a table.
func with(f func(ctx context.Context, s *session, cmd *cli.Command) error) cli.ActionFunc {
	return client(false, f)
}

// form is the value of --output.
func form(cmd *cli.Command, tabular bool) (string, error) {
	format := cmd.String("output")
	switch {
	case format != "table" && format != "json" && format != "csv":
		return "", usage("--output is table, json or csv, not %q", format)
	case format == "csv" && !tabular:
		return "", usage("%s prints no table, so it has no CSV: --output is table or json", cmd.FullName())
	}
	return format, nil
}

// client runs f with a client of the service.
func client(tabular bool, f func(ctx context.Context, s *session, cmd *cli.Command) error) cli.ActionFunc {
	return func(ctx context.Context, cmd *cli.Command) error {
		format, err := form(cmd, tabular)
		if err != nil {
			return err
		}
		server, token, trust, err := settings(cmd)
		if err != nil {
			return err
		}
		transport, err := link.Transport(server, trust)
		if err != nil {
			return usage("%v", err)
		}
		copied := &noting{RoundTripper: transport}
		asOf := ""
		client, err := api.NewClientWithResponses(
			server+"/api/v1",
			api.WithHTTPClient(&http.Client{Transport: copied}),
			api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
				if token != "" {
					r.Header.Set("Authorization", "Bearer "+token)
				}
				if r.Method == http.MethodPost {
					r.Header.Set("Idempotency-Key", ulid.Make().String())
				}
				return inPast(r, asOf)
			}),
		)
		if err != nil {
			return usage("%q is not the address of a service: %v", server, err)
		}
		s := &session{
			client: client,
			errOut: &practice.Writer{W: cmd.Root().ErrWriter, On: copied.is},
			in:     cmd.Root().Reader,
			out:    newPrinter(cmd.Root().Writer, format),
		}
		s.out.practise(copied)
		if asOf, err = s.asOf(ctx, cmd.String("at")); err != nil {
			return err
		}
		s.rings = isTerminal(cmd.Root().ErrWriter)
		err = f(ctx, s, cmd)
		if copied.is() {
			err = marked(err)
			if format != "table" {
				fmt.Fprintln(s.errOut, "nothing here is real")
			}
		}
		if name := cmd.Name; s.rings && s.out.format == "table" && name != "round" && name != "follow" {
			// A person at a terminal is warned by every command (R5).
			short, cancel := context.WithTimeout(ctx, time.Second)
			defer cancel()
			s.warn(short, map[string]bool{})
		}
		return err
	}
}

// asOf parses a past moment, by the clock of the service, in the form for a request; empty where none is given.
func (s *session) asOf(ctx context.Context, text string) (string, error) {
	if text == "" {
		return "", nil
	}
	me, err := ask[api.Me](s.client.GetMe(ctx))
	if err != nil {
		return "", err
	}
	at, err := ParsePast(text, me.Now.Local())
	if err != nil {
		return "", usage("--at: %v", err)
	}
	fmt.Fprintf(s.errOut, "as it was known at %s\n", at.Local().Format("2006-01-02 15:04:05"))
	return at.UTC().Format(time.RFC3339Nano), nil
}

// inPast makes a request one for an earlier moment.
func inPast(r *http.Request, asOf string) error {
	switch {
	case asOf == "":
		return nil
	case r.Method != http.MethodGet:
		return usage("nothing can be changed as of an earlier moment. Leave out --at")
	}
	q := r.URL.Query()
	q.Set("at", asOf)
	r.URL.RawQuery = q.Encode()
	return nil
}

// noting records whether an answer comes from a rehearsal.
type noting struct {
	http.RoundTripper
	pool atomic.Pointer[string] // of which the rehearsal is a copy
}

func (n *noting) RoundTrip(r *http.Request) (*http.Response, error) {
	res, err := n.RoundTripper.RoundTrip(r)
	if err == nil {
		if pool, bad := url.QueryUnescape(res.Header.Get(practice.Header)); bad == nil && pool != "" {
			n.pool.Store(&pool)
		}
	}
	return res, err
}

func (n *noting) is() bool { return n.pool.Load() != nil }

// marked is an error with the mark of a rehearsal.
func marked(err error) error {
	var f *Failure
	if errors.As(err, &f) {
		return &Failure{f.Code, f.Says, true}
	}
	return err
}

// answered returns the value of an answer, or its error.
func answered(res *http.Response, err error) ([]byte, error) {
	if err != nil {
		return nil, unreachable(err)
	}
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	if err != nil {
		return nil, unreachable(err)
	}
	if res.StatusCode >= 300 {
		return nil, told(res.StatusCode, body)
	}
	return body, nil
}

// ask returns the value of an answer: ask[api.Swap](s.client.GetSwap(ctx, id)).
func ask[T any](res *http.Response, err error) (v T, _ error) {
	body, err := answered(res, err)
	if err != nil {
		return v, err
	}
	if json.Unmarshal(body, &v) != nil {
		return v, &Failure{
			Code: ExitFailed,
			Says: "the answer is not from a service of this program. Its address is given by --server, " +
				"LANTERN_SERVER or the configuration file.",
		}
	}
	harmless.Scrub(&v, true)
	return v, nil
}

// did reports whether an action without an answer succeeded.
func did(res *http.Response, err error) error {
	_, err = answered(res, err)
	return err
}

// tell prints a value in the chosen form: for people or for programs.
func tell[T any](s *session, show func(T), v T, err error) error {
	if err != nil {
		return err
	}
	if done, err := s.out.value(v); done {
		return err
	}
	show(v)
	return nil
}

// one returns the single argument of a command.
func one(cmd *cli.Command, what string) (string, error) {
	if cmd.Args().Len() != 1 {
		return "", usage("%s needs one argument: %s\nExample: %s", cmd.FullName(), what, example(cmd))
	}
	return cmd.Args().First(), nil
}

// example is the first line of a command's examples.
func example(cmd *cli.Command) string {
	line, _, _ := strings.Cut(strings.TrimSpace(strings.TrimPrefix(cmd.Description, "Example:")), "\n")
	return strings.TrimSpace(line)
}

func isTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// Commands are the client's.
func Commands() []*cli.Command {
	return []*cli.Command{
		roundCommand(),
		watchCommand(),
		drivesCommand(),
		driveCommand(),
		trendCommand(),
		readingsCommand(),
		baysCommand(),
		lightCommand(),
		swapCommand(),
		campaignCommand(),
		acceptCommand(),
		stockCommand(),
		followCommand(),
		poolsCommand(),
		poolCommand(),
		whatifCommand(),
		fitCommand(),
		movesCommand(),
		scrubCommand(),
		rebalanceCommand(),
		drainCommand(),
		priorityCommand(),
		admitCommand(),
		nudgeCommand(),
		growCommand(),
		stopCommand(),
		recoveriesCommand(),
		hostCommand(),
		siteCommand(),
		takeOverCommand(), renameCommand(), mergeCommand(), forgetCommand(), inventoryCommand(), failuresCommand(),
		capacityCommand(), reportCommand(), storyCommand(),
		personCommand(),
		auditCommand(),
		findCommand(),
		decodeCommand(),
		metricsCommand(),
		judgeCommand(),
		ruleCommand(),
		noticesCommand(),
		channelCommand(),
		selftestCommand(),
		planCommand(),
		enclosureCommand(),
		surveyCommand(),
		labCommand(),
	}
}
