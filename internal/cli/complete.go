package cli

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/link"
	"lantern/internal/nearest"
)

// bashCompletion is the completion script for bash. It needs only bash itself, version 3.2 or newer.
const bashCompletion = `# Completion of lantern for bash: source <(lantern completion bash)
_lantern() {
  local cur="${COMP_WORDS[COMP_CWORD]}" line token
  local -a ask=("${COMP_WORDS[@]:0:COMP_CWORD}")
  [[ "$cur" == -* ]] && ask+=("$cur")
  COMPREPLY=()
  while IFS= read -r line; do
    token="${line%%:*}"
    [[ -n "$token" && "$token" == "$cur"* ]] && COMPREPLY+=("$token")
  done < <("${ask[@]}" --generate-shell-completion 2>/dev/null)
}
complete -o bashdefault -o default -F _lantern lantern
`

// configureCompletion shows the command in the help, and gives bash our own script.
func configureCompletion(c *cli.Command) {
	c.Hidden = false
	c.Usage = "print a shell script that completes commands, options and names"
	c.Description = "Example: lantern completion bash\n         lantern completion zsh\n\n" +
		"bash: source <(lantern completion bash) in .bashrc; zsh: source <(lantern completion zsh) in .zshrc;\n" +
		"fish: lantern completion fish > ~/.config/fish/completions/lantern.fish"
	for _, shell := range c.Commands {
		shell.Description = "Example: lantern completion " + shell.Name + "\n         lantern completion " + shell.Name +
			" > lantern." + shell.Name
		shell.Usage = "the script for " + shell.Name
		if shell.Name == "bash" {
			shell.Action = func(_ context.Context, cmd *cli.Command) error {
				_, err := fmt.Fprint(cmd.Root().Writer, bashCompletion)
				return err
			}
		}
	}
}

// named gives the kind of object of an argument or option value, by its placeholder.
var named = map[string]string{
	"pool": "pool", "--pool": "pool", "--lose": "drive", "host": "host", "--host": "host",
	"drive": "drive", "--drive": "drive", "drive or bay": "drive", "bay": "bay", "serial or its end": "drive",
	"member":            "drive",
	"bay or label tail": "bay", "swap": "swap", "metric": "metric", "rule": "rule", "plan": "plan",
	"drive, notice": "drive", "notice": "notice", "--sort": "metric", "--verdict": "verdict", "--output": "form",
	"-o":       "form",
	"drive...": "drive", "drive ...": "drive",
}

// complete prints the possible next words: commands and options, else names.
func complete(ctx context.Context, cmd *cli.Command) {
	words := cmd.Args().Slice()
	last := ""
	if n := len(os.Args); n > 1 {
		last = os.Args[n-2]
	}
	if kind := named[last]; strings.HasPrefix(last, "-") && kind != "" {
		printNames(ctx, cmd, kind)
		return
	}
	if strings.HasPrefix(last, "-") || len(cmd.VisibleCommands()) > 0 && len(words) == 0 {
		cli.DefaultCompleteWithFlags(ctx, cmd)
	}
	if strings.HasPrefix(last, "-") {
		return
	}
	args := argumentsOf(cmd.ArgsUsage)
	if len(args) == 0 {
		return
	}
	i := min(len(words), len(args)-1)
	if len(words) >= len(args) && !strings.Contains(args[i], "...") && !strings.HasSuffix(cmd.ArgsUsage, "…") {
		return
	}
	if kind := named[args[i]]; kind != "" {
		printNames(ctx, cmd, kind)
		return
	}
	if strings.Contains(args[i], "|") {
		fmt.Fprintln(cmd.Root().Writer, strings.ReplaceAll(args[i], "|", "\n"))
	}
}

// argumentsOf are the kinds of a command's arguments, from its usage text: "<pool> [drive...]".
func argumentsOf(usage string) (out []string) {
	for usage != "" {
		i := strings.IndexAny(usage, "<[")
		if i < 0 {
			return out
		}
		j := strings.IndexAny(usage[i:], ">]")
		if j < 0 {
			return out
		}
		out = append(out, usage[i+1:i+j])
		usage = usage[i+j+1:]
	}
	return out
}

// printNames prints all names of one kind; nothing if the service does not answer soon.
func printNames(ctx context.Context, cmd *cli.Command, kind string) {
	w := cmd.Root().Writer
	switch kind {
	case "metric":
		for _, m := range drive.Catalogue {
			fmt.Fprintln(w, m.Name)
		}
		return
	case "verdict":
		fmt.Fprintln(w, strings.Join(verdicts, "\n"))
		return
	case "form":
		fmt.Fprintln(w, "table\njson\ncsv")
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	server, token, trust, err := settings(cmd)
	if err != nil {
		return
	}
	transport, err := link.Transport(server, trust)
	if err != nil {
		return
	}
	c, err := api.NewClientWithResponses(server+"/api/v1", api.WithHTTPClient(&http.Client{Transport: transport}),
		api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			r.Header.Set("Authorization", "Bearer "+token)
			return nil
		}))
	if err != nil {
		return
	}
	for _, n := range namesOf(ctx, &session{client: c}, kind) {
		if n != "" && !strings.ContainsAny(n, " \t\n") {
			fmt.Fprintln(w, n)
		}
	}
}

func namesOf(ctx context.Context, s *session, kind string) (out []string) {
	switch kind {
	case "pool":
		all, _ := ask[[]api.Pool](s.client.ListPools(ctx, &api.ListPoolsParams{Brief: true}))
		for _, p := range all {
			out = append(out, p.Name)
		}
	case "host":
		all, _ := ask[[]api.Host](s.client.ListHosts(ctx))
		for _, h := range all {
			out = append(out, h.Name)
		}
	case "drive", "bay":
		all, _ := s.drives(ctx, api.ListDrivesParams{})
		for _, d := range all {
			out = append(out, d.Tail)
		}
		for _, d := range all {
			if d.Present && d.Bay != "" {
				out = append(out, d.Bay)
			}
		}
	case "swap":
		all, _ := ask[[]api.Swap](s.client.ListSwaps(ctx, &api.ListSwapsParams{}))
		for _, w := range all {
			out = append(out, w.Old.Tail)
		}
	case "rule":
		all, _ := s.rules(ctx)
		for _, r := range all.Rules {
			out = append(out, r.Id)
		}
		for _, r := range all.Own {
			out = append(out, r.Id)
		}
	case "plan":
		all, _ := s.plans(ctx)
		for _, p := range all {
			out = append(out, p.Name)
		}
	case "notice":
		all, _ := ask[[]api.Notice](s.client.ListNotices(ctx, &api.ListNoticesParams{}))
		for _, n := range all {
			out = append(out, n.Id[len(n.Id)-6:])
		}
	}
	return out
}

// knownNames refuses options with the name of an unknown pool or host.
func (s *session) knownNames(ctx context.Context, cmd *cli.Command) error {
	for _, kind := range []string{"pool", "host"} {
		var asked []string
		switch v := cmd.Value(kind).(type) {
		case string:
			asked = []string{v}
		case []string:
			asked = v
		}
		for _, name := range asked {
			if name == "" {
				continue
			}
			have := namesOf(ctx, s, kind)
			if !slices.Contains(have, name) {
				return usage("No %s %q%s", kind, name, nearest.Meant(name, have))
			}
		}
	}
	return nil
}
