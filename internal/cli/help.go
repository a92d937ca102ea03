package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"lantern/internal/nearest"

	docs "github.com/urfave/cli-docs/v3"
	"github.com/urfave/cli/v3"
)

// topics are the further subjects of lantern help. Each line that begins with "$ " is an example that a test runs.
var topics = []struct{ name, about, text string }{
	{"exit-codes", "meaning of the exit codes of all commands", `Every command ends with one of these:

  0  done
  1  it was tried, and failed
  2  what was typed is wrong: no such command, option, column, drive, pool
     or host, a value that is out of bounds, or a name that fits several
  3  refused: by a check, not permitted, or no token
  4  the service cannot be reached
  5  something needs a hand: only of lantern round --exit-code

$ lantern round --exit-code
`},
	{
		"times",
		"how durations, moments and sizes are written",
		`Durations: 90s, 10m, 1h30m, 1d, 2w, 1y. A day has 24 hours.

Moments: 2026-11-30, 2026-11-30 22:00, 22:00 (the next), today 22:00,
tomorrow 22:00, monday 08:00 (the next), in 2h, or RFC 3339 such as
2026-11-30T22:00:00+01:00. Without a zone they are in that of this machine.

Sizes: 20TB (decimal), 4TiB (binary), or a number of bytes.

$ lantern trend ZU006 pending_sectors --since 90d
$ lantern light on ZU006 --for 10m
`,
	},
	{
		"names",
		"how drives, bays, pools and swaps are named",
		`A drive: by the tail of its label (the last five characters of its serial),
by its whole serial, by more of its end where the tail fits several, by its
WWN or the id that --columns id shows, or by the bay it is in.

A bay: host/section/number, such as skerry/front/7.

A swap: by its old drive, named in any of these ways, by its pool where that
has one open, or by its id. Without a name, the one that is open.

$ lantern drive ZU006
$ lantern drive skerry/front/7
`,
	},
	{
		"output",
		"tables, CSV and JSON; columns; width",
		`--output json gives what the service said, as it said it. --output csv gives a
line for each row: bytes, seconds and percent are numbers, moments are RFC 3339
in UTC, and heads carry the unit. Names of columns do not change.

A table is as wide as the terminal, COLUMNS says, or 80 columns. Texts are
folded, and then columns are left out; a line below says which.

  --columns a,b   these columns in this order; all for every one there is
  --wide          all columns, unfolded
  --no-header     without the line of heads
  --watch 5s      print it again and again

NO_COLOR turns colours off. Where the locale is not UTF-8, shapes are ASCII.
With TERM=dumb nothing is written over.

$ lantern drives --verdict watch --columns tail,bay,temperature_celsius
$ lantern pools -o csv
`,
	},
	{
		"settings",
		"sources of the service's address and the token",
		`An option comes before the environment, and that before the file.

  --server       LANTERN_SERVER       server:       address of the service
                 LANTERN_TOKEN        token:        your token
  --config       LANTERN_CONFIG                     the file itself
  --ca           LANTERN_CA           ca:           who vouches for it
  --fingerprint  LANTERN_FINGERPRINT  fingerprint:  its certificate's SHA-256
  --cleartext    LANTERN_CLEARTEXT    cleartext:    plain HTTP to another machine
                                      light:        always: light the bay of a
                                                    drive that is to be pulled

The file is lantern/client.yaml in your configuration folder.

$ lantern --server http://127.0.0.1:7411 round
`,
	},
	{
		"replacing",
		"from a flagged drive to a healthy pool",
		`  lantern round                  what needs a hand, first things first
  lantern drive <tail>           the evidence
  lantern swap plan <tail>       steps, reasons and checks; nothing is touched
  lantern swap begin             begin it
  lantern swap next              the step that is now; the light of a pull
  lantern swap confirm           the new drive, by the tail on its label
  lantern follow <pool>          the recovery, until the pool is healthy
  lantern swap fate <tail> ...   what becomes of the old one

$ lantern round
$ lantern swap plan ZU006
`,
	},
}

// Topics are the names of the help topics.
func Topics() (out []string) {
	for _, t := range topics {
		out = append(out, t.name)
	}
	return out
}

// helpCommand shows a topic, or the help of a command.
func helpCommand() *cli.Command {
	var about strings.Builder
	for _, t := range topics {
		fmt.Fprintf(&about, "  %-12s %s\n", t.name, t.about)
	}
	return &cli.Command{
		Name:      "help",
		Aliases:   []string{"h"},
		Usage:     "explain a topic or a command",
		ArgsUsage: "[topic or command...]",
		Description: "Example: lantern help exit-codes\n         lantern help swap begin\n\n" +
			"Topics:\n" + about.String(),
		HideHelp: true,
		ShellComplete: func(_ context.Context, cmd *cli.Command) {
			fmt.Fprintln(cmd.Root().Writer, strings.Join(Topics(), "\n"))
			for _, c := range cmd.Root().VisibleCommands() {
				fmt.Fprintln(cmd.Root().Writer, c.Name)
			}
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			words := cmd.Args().Slice()
			if len(words) == 0 {
				return cli.ShowRootCommandHelp(cmd.Root())
			}
			for _, t := range topics {
				if t.name == words[0] {
					p := newPrinter(cmd.Root().Writer, "table")
					_, err := io.WriteString(p.w, strings.ReplaceAll(t.text, "\n$ ", "\n  ")+"\n")
					return err
				}
			}
			at := cmd.Root()
			for _, w := range words {
				next := at.Command(w)
				if next == nil {
					names := Topics()
					for _, c := range at.VisibleCommands() {
						names = append(names, c.Names()...)
					}
					return usage("no topic or command %q%s", strings.Join(words, " "), nearest.Meant(w, names))
				}
				at = next
			}
			return cli.DefaultShowCommandHelp(ctx, parentOf(cmd.Root(), words), at.Name)
		},
	}
}

// parentOf is the group of the named command.
func parentOf(root *cli.Command, words []string) *cli.Command {
	for _, w := range words[:len(words)-1] {
		root = root.Command(w)
	}
	return root
}

// manualCommand writes man pages: one of all commands, and one for each topic.
func manualCommand() *cli.Command {
	return &cli.Command{
		Name:        "manual",
		Usage:       "write man pages into a folder",
		ArgsUsage:   "<folder>",
		Description: "Example: lantern manual .\n         lantern manual /usr/local/share/man/man1",
		Action: func(_ context.Context, cmd *cli.Command) error {
			dir, err := one(cmd, "a folder")
			if err != nil {
				return err
			}
			if err := os.MkdirAll(dir, 0o755); err != nil {
				return &Failure{Code: ExitFailed, Says: err.Error()}
			}
			pages, err := Manual(cmd.Root())
			if err != nil {
				return err
			}
			for _, name := range sortedKeys(pages) {
				if err := os.WriteFile(filepath.Join(dir, name), []byte(pages[name]), 0o644); err != nil {
					return &Failure{Code: ExitFailed, Says: err.Error()}
				}
				fmt.Fprintln(cmd.Root().Writer, filepath.Join(dir, name))
			}
			return nil
		},
	}
}

func sortedKeys(m map[string]string) (out []string) {
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// Manual gives the man pages by the names of their files.
func Manual(root *cli.Command) (map[string]string, error) {
	out := map[string]string{}
	page, err := docs.ToManWithSection(root, 1)
	if err != nil {
		return nil, err
	}
	out["lantern.1"] = page
	for _, t := range topics {
		var b strings.Builder
		fmt.Fprintf(&b, ".TH LANTERN-%s 7\n.SH NAME\nlantern-%s \\- %s\n.SH DESCRIPTION\n.nf\n",
			strings.ToUpper(t.name), t.name, t.about)
		for _, l := range strings.Split(strings.ReplaceAll(t.text, "\n$ ", "\n    "), "\n") {
			l = strings.ReplaceAll(strings.ReplaceAll(l, `\`, `\e`), "-", `\-`)
			if strings.HasPrefix(l, ".") || strings.HasPrefix(l, "'") {
				l = `\&` + l
			}
			b.WriteString(l + "\n")
		}
		b.WriteString(".fi\n")
		out["lantern-"+t.name+".7"] = b.String()
	}
	return out, nil
}

// printHelp writes the help of a command, no wider than the output.
func printHelp(w io.Writer, _ string, data any) {
	c, ok := data.(*cli.Command)
	if !ok {
		return
	}
	p := newPrinter(w, "table")
	examples, about := Examples(c)
	p.line("%s: %s", c.FullName(), c.Usage)
	p.line("")
	p.line("  %s", invocation(c))
	if len(examples) > 0 {
		p.line("")
		p.line("%s", map[bool]string{true: "Example", false: "Examples"}[len(examples) == 1])
		for _, e := range examples {
			fmt.Fprintf(p.w, "  %s\n", e) // to be copied: not folded
		}
	}
	if about != "" {
		p.line("")
		p.line("%s", about)
	}
	if len(c.Lineage()) == 1 {
		p.commandGroups(c)
	} else {
		p.pairs("Commands", commandRows(c, nil))
	}
	own, global := options(c)
	p.pairs("Options", own)
	p.pairs("Options of every command", global)
}

// groups are the commands in the order of the help, by purpose.
var groups = []struct {
	title string
	names []string
}{
	{"Watch", []string{"round", "watch", "drives", "drive", "trend", "bays", "notices", "find", "readings"}},
	{"Replace", []string{"light", "swap", "campaign", "stock", "accept", "fit", "moves", "whatif"}},
	{
		"Pools and recoveries",
		[]string{"pools", "pool", "follow", "recoveries", "scrub", "rebalance", "drain", "admit", "grow", "nudge", "capacity",
			"stop", "priority"},
	},
	{"Self-tests", []string{"selftest", "plan"}},
	{"Rules", []string{"rule", "metrics", "judge", "decode"}},
	{"Set up", []string{"host", "enclosure", "survey", "channel", "person", "audit"}},
	{
		"Run and keep",
		[]string{"serve", "agent", "backup", "restore", "check", "take-over", "demo", "rehearse", "lab", "driver"},
	},
	{"Help", []string{"help", "completion", "manual"}},
}

func (p *printer) commandGroups(root *cli.Command) {
	for _, g := range groups {
		p.pairs(g.title, commandRows(root, g.names))
	}
	var rest []string
	for _, c := range root.VisibleCommands() {
		if !slices.ContainsFunc(groups, func(g struct {
			title string
			names []string
		}) bool {
			return slices.Contains(g.names, c.Name)
		}) {
			rest = append(rest, c.Name)
		}
	}
	p.pairs("Others", commandRows(root, rest))
}

// commandRows are commands with their purpose, in the order of the given names; all except help if none are given.
func commandRows(c *cli.Command, names []string) (rows [][2]string) {
	if names == nil {
		for _, sub := range c.VisibleCommands() {
			if sub.Name != "help" {
				names = append(names, sub.Name)
			}
		}
	}
	for _, n := range names {
		if sub := c.Command(n); sub != nil && !sub.Hidden {
			rows = append(rows, [2]string{sub.Name, sub.Usage})
		}
	}
	return rows
}

// Examples splits a command's description into its examples and the rest.
func Examples(c *cli.Command) (examples []string, about string) {
	lines := strings.Split(c.Description, "\n")
	i := 0
	for ; i < len(lines); i++ {
		text := strings.TrimSpace(strings.TrimPrefix(lines[i], "Example:"))
		if !strings.HasPrefix(lines[i], "Example:") && !strings.HasPrefix(lines[i], "         ") || text == "" {
			break
		}
		examples = append(examples, text)
	}
	return examples, strings.TrimSpace(unwrapped(lines[i:]))
}

// wrappedFrom is the length from which on a line break is taken as one of the source code, not of the text.
const wrappedFrom = 70

// unwrapped joins the lines of each paragraph, so that it can be folded to any width. Lines that are indented, or
// short, stand by themselves.
func unwrapped(lines []string) string {
	var out strings.Builder
	for i, l := range lines {
		out.WriteString(l)
		switch {
		case i == len(lines)-1:
		case len(l) >= wrappedFrom && !strings.HasPrefix(l, " ") && lines[i+1] != "" && !strings.HasPrefix(lines[i+1], " "):
			out.WriteByte(' ')
		default:
			out.WriteByte('\n')
		}
	}
	return out.String()
}

// invocation is the usage line of a command.
func invocation(c *cli.Command) string {
	out := c.FullName()
	if len(c.VisibleFlags()) > 0 {
		out += " [options]"
	}
	if c.ArgsUsage != "" {
		out += " " + c.ArgsUsage
	}
	if len(c.VisibleCommands()) > 0 && c.ArgsUsage == "" {
		out += " <command>"
	}
	return out
}

// options are a command's own options, and the common ones.
func options(c *cli.Command) (own, global [][2]string) {
	chain := c.Lineage()
	for i, at := range chain {
		for _, f := range at.VisibleFlags() {
			local, _ := f.(cli.LocalFlag)
			if i > 0 && (local != nil && local.IsLocal() || f.Names()[0] == "help" || f.Names()[0] == "version") {
				continue
			}
			row := [2]string{optionName(f), optionText(f)}
			switch {
			case i == 0 && len(chain) > 1:
				own = append(own, row)
			case i == len(chain)-1:
				global = append(global, row)
			default:
				own = append(own, row)
			}
		}
	}
	return own, global
}

func optionName(f cli.Flag) string {
	var names []string
	for _, n := range f.Names() {
		names = append(names, strings.Repeat("-", min(2, len(n)))+n)
	}
	out := strings.Join(names, ", ")
	doc, ok := f.(cli.DocGenerationFlag)
	if !ok || !doc.TakesValue() {
		return out
	}
	switch doc.TypeName() {
	case "int", "float", "int64":
		return out + " <number>"
	}
	if _, ok := f.(*DurationFlag); ok {
		return out + " <time>"
	}
	return out + " <text>"
}

func optionText(f cli.Flag) string {
	doc, ok := f.(cli.DocGenerationFlag)
	if !ok {
		return ""
	}
	out := doc.GetUsage()
	if text := doc.GetDefaultText(); doc.TakesValue() && text != "" && text != `""` && text != "0" {
		out += " (default: " + strings.Trim(text, `"`) + ")"
	}
	return out
}

// pairs prints names with their meaning beside them.
func (p *printer) pairs(title string, rows [][2]string) {
	if len(rows) == 0 {
		return
	}
	width := 0
	for _, r := range rows {
		if n := len([]rune(r[0])); n <= 26 {
			width = max(width, n)
		}
	}
	p.line("")
	p.line("%s", title)
	pad := strings.Repeat(" ", width+4)
	for _, r := range rows {
		text := strings.ReplaceAll(wrap(r[1], max(20, p.width-width-4)), "\n", "\n"+pad)
		if len([]rune(r[0])) > width {
			fmt.Fprintf(p.w, "  %s\n%s%s\n", r[0], pad, text)
			continue
		}
		fmt.Fprintf(p.w, "  %-*s  %s\n", width, r[0], text)
	}
}
