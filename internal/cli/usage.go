package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"lantern/internal/nearest"
)

// first makes a group of commands ignore options after an unknown command: the name was mistyped.
var first = 1

// otherWords are words of the trade that people may try as a command, with the command that does it.
var otherWords = map[string]string{
	"alert": "notices", "alerts": "notices", "blink": "light", "disk": "drive", "disks": "drives", "health": "round",
	"identify": "light", "list": "drives", "locate": "light", "rebuild": "recoveries", "repair": "swap",
	"replace": "swap", "resilver": "recoveries", "smart": "drive", "spare": "stock", "spares": "stock",
	"status": "round", "summary": "round", "test": "selftest", "tests": "selftest", "user": "person", "users": "person",
}

// noCommand is the error about an unknown command. It names the command for this word, else a command of this name in
// another group, else the nearest of the same group, else all of the group.
func noCommand(cmd *cli.Command) error {
	var names []string
	for _, c := range cmd.VisibleCommands() {
		names = append(names, c.Names()...)
	}
	name, root := cmd.Args().First(), cmd.Root()
	near := nearest.Among(name, names)
	found := root.Command(name)
	if cmd == root {
		found = cmp.Or(root.Command(otherWords[name]), below(root, name))
	}
	switch {
	case found != nil && !found.Hidden:
		return usage("no command %q in %s; did you mean %q? See: %[3]s --help", name, cmd.FullName(), found.FullName())
	case near != "":
		return usage("no command %q in %s; did you mean %q? See: %s --help", name, cmd.FullName(), near, cmd.FullName())
	case cmd != root:
		return usage("no command %q in %s. It has %s. See: %[2]s --help", name, cmd.FullName(), strings.Join(names, ", "))
	}
	return usage("no command %q. See: lantern --help", name)
}

// below gives the first command of this name at any depth of a group; nil if there is none.
func below(group *cli.Command, name string) *cli.Command {
	for _, c := range group.Commands {
		if c.HasName(name) {
			return c
		}
		if found := below(c, name); found != nil && !c.Hidden {
			return found
		}
	}
	return nil
}

// prepare adds to every command the errors for wrong usage, with their exit code, and the completion of names.
func prepare(commands []*cli.Command) {
	for _, c := range commands {
		c.OnUsageError = func(_ context.Context, cmd *cli.Command, err error, _ bool) error {
			return usage("%s See: %s --help", optionError(cmd, err), cmd.FullName())
		}
		switch {
		case len(c.Commands) > 0:
			group(c)
		case c.ArgsUsage == "" && c.Action != nil:
			noArguments(c)
		}
		if c.ShellComplete == nil {
			c.ShellComplete = complete
		}
		prepare(c.Commands)
	}
}

// noArguments makes a command without arguments refuse them: an ignored argument would mislead.
func noArguments(c *cli.Command) {
	own := c.Action
	c.Action = func(ctx context.Context, cmd *cli.Command) error {
		if cmd.Args().Present() {
			return usage("%s takes no arguments, only options; what is %q? See: %s --help",
				cmd.FullName(), cmd.Args().First(), cmd.FullName())
		}
		return own(ctx, cmd)
	}
}

// group makes a group of commands refuse unknown commands, unless it takes arguments itself.
func group(c *cli.Command) {
	own := c.Action
	if c.ArgsUsage == "" {
		c.StopOnNthArg = &first
	}
	c.Action = func(ctx context.Context, cmd *cli.Command) error {
		switch {
		case cmd.Args().Present() && c.ArgsUsage == "":
			return noCommand(cmd)
		case own != nil:
			return own(ctx, cmd)
		}
		return cli.ShowSubcommandHelp(cmd)
	}
}

// optionError adds the nearest option to an error about an unknown option.
func optionError(cmd *cli.Command, err error) string {
	const unknown = "flag provided but not defined: -"
	name, ok := strings.CutPrefix(err.Error(), unknown)
	if !ok {
		return strings.TrimSuffix(err.Error(), ".") + "."
	}
	name = strings.TrimLeft(name, "-")
	var names []string
	for _, c := range cmd.Lineage() {
		for _, f := range c.Flags {
			for _, n := range f.Names() {
				if len(n) > 1 {
					names = append(names, n)
				}
			}
		}
	}
	if near := nearest.Among(name, names); near != "" {
		return fmt.Sprintf("no option --%s; did you mean --%s?", name, near)
	}
	return fmt.Sprintf("no option --%s.", name)
}
