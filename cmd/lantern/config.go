package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"go.yaml.in/yaml/v3"

	client "lantern/internal/cli"
	"lantern/internal/nearest"
)

// configurable are the commands whose options can also come from a file, by the name of the file.
var configurable = map[string]func() *cli.Command{"service": serve, "agent": agent}

// notInFile are options that are for one call only, and not in a file.
var notInFile = []string{"config", "print", "output", "help", "bash-completion"}

// fromFile are the names of the settings from the file.
const fromFile = "settings of the file"

// fileAndEnvironment lets the options of a command come from the environment (LANTERN_ and the option's name in
// capitals) and from the file that --config names: an option comes before the environment, and that before the file.
func fileAndEnvironment(c *cli.Command) *cli.Command {
	for _, f := range c.Flags {
		if slices.Contains(notInFile, f.Names()[0]) {
			continue
		}
		from := cli.NewValueSourceChain(environment(variable(f.Names()[0])))
		switch f := f.(type) {
		case *cli.StringFlag:
			f.Sources = from
		case *cli.BoolFlag:
			f.Sources = from
		case *cli.IntFlag:
			f.Sources = from
		case *cli.StringSliceFlag:
			f.Sources = from
		case *client.DurationFlag:
			f.Sources = from
		default:
			panic(fmt.Sprintf("--%s is of a kind that the environment cannot set", f.Names()[0]))
		}
	}
	c.Before = func(ctx context.Context, cmd *cli.Command) (context.Context, error) {
		if path := cmd.String("config"); path != "" {
			return ctx, takeFile(cmd, path)
		}
		return ctx, nil
	}
	return c
}

// environment is a variable that sets an option. An empty variable is not set.
type environment string

// Lookup gives its value.
func (e environment) Lookup() (string, bool) {
	v := os.Getenv(string(e))
	return v, v != ""
}

func (e environment) String() string   { return "environment variable " + string(e) }
func (e environment) GoString() string { return string(e) }

// IsFromEnv and Key are for help and manual.
func (e environment) IsFromEnv() bool { return true }

// Key is its name.
func (e environment) Key() string { return string(e) }

// variable is the environment's name for an option.
func variable(option string) string {
	return "LANTERN_" + strings.ToUpper(strings.ReplaceAll(option, "-", "_"))
}

// settable are the options that a file may set: the command's own, and those of the client that it uses.
func settable(cmd *cli.Command) (out []cli.Flag) {
	for _, c := range cmd.Lineage() {
		for _, f := range c.Flags {
			name := f.Names()[0]
			own := c == cmd || cmd.Name == "agent" && slices.Contains(ofLink, name)
			if own && !slices.Contains(notInFile, name) &&
				!slices.ContainsFunc(out, func(o cli.Flag) bool { return o.Names()[0] == name }) {
				out = append(out, f)
			}
		}
	}
	return out
}

// ofLink are the client's options that an agent has too; client.Link reads their variables.
var ofLink = []string{"server", "ca", "fingerprint", "cleartext"}

// takeFile sets options from a file that are set neither on the command line nor by the environment. Errors name the
// line.
func takeFile(cmd *cli.Command, path string) error {
	b, err := os.ReadFile(path)
	if err != nil {
		return &client.Failure{Code: client.ExitUsage, Says: fmt.Sprintf("the settings cannot be read: %v", err)}
	}
	at := func(n *yaml.Node, format string, args ...any) error {
		return &client.Failure{Code: client.ExitUsage,
			Says: fmt.Sprintf("%s:%d:%d: %s", path, n.Line, n.Column, fmt.Sprintf(format, args...))}
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(b, &doc); err != nil {
		return &client.Failure{
			Code: client.ExitUsage,
			Says: fmt.Sprintf("%s: %s", path, strings.TrimPrefix(err.Error(), "yaml: ")),
		}
	}
	if len(doc.Content) == 0 {
		return nil // nothing is set
	}
	top := doc.Content[0]
	if top.Kind != yaml.MappingNode {
		return at(top, "settings are lines such as \"listen: 127.0.0.1:7411\"")
	}
	options := settable(cmd)
	var names []string
	for _, f := range options {
		names = append(names, f.Names()[0])
	}
	taken := map[string]string{}
	for i := 0; i < len(top.Content); i += 2 {
		key, value := top.Content[i], top.Content[i+1]
		k := slices.Index(names, key.Value)
		if k < 0 {
			return at(key, "no setting %q%s All of them: lantern config show %s",
				key.Value, nearest.Meant(key.Value, names), fileOf(cmd))
		}
		if _, twice := taken[key.Value]; twice {
			return at(key, "%s is set twice", key.Value)
		}
		taken[key.Value] = path
		values, err := valuesOf(options[k], value)
		if err != nil {
			return at(value, "%s: %v", key.Value, err)
		}
		if options[k].IsSet() || slices.Contains(ofLink, key.Value) && os.Getenv(variable(key.Value)) != "" {
			delete(taken, key.Value)
			continue
		}
		for _, v := range values {
			if err := cmd.Set(key.Value, v); err != nil {
				return at(value, "%s: %v", key.Value, err)
			}
		}
	}
	if cmd.Metadata == nil {
		cmd.Metadata = map[string]any{}
	}
	cmd.Metadata[fromFile] = taken
	return nil
}

// valuesOf are the texts of a setting: several for a list.
func valuesOf(f cli.Flag, n *yaml.Node) ([]string, error) {
	several, _ := f.(*cli.StringSliceFlag)
	switch {
	case n.Kind == yaml.SequenceNode && several != nil:
		var out []string
		for _, e := range n.Content {
			if e.Kind != yaml.ScalarNode {
				return nil, errors.New("each entry of the list must be a text")
			}
			out = append(out, e.Value)
		}
		return out, nil
	case n.Kind != yaml.ScalarNode:
		return nil, errors.New("it is one value")
	case n.Tag == "!!null":
		return nil, errors.New("it has no value; leave the line out, or put # before it")
	}
	return []string{n.Value}, nil
}

func fileOf(cmd *cli.Command) string {
	if cmd.Name == "agent" {
		return "agent"
	}
	return "service"
}

// looked runs a command until its settings are read, and returns it.
func looked(ctx context.Context, kind, path string) (*cli.Command, error) {
	var got *cli.Command
	c := configurable[kind]()
	c.Action = func(_ context.Context, cmd *cli.Command) error {
		got = cmd
		if kind == "agent" {
			_, err := agentFrom(cmd)
			return err
		}
		_, err := wholeServeFrom(cmd)
		return err
	}
	c.ExitErrHandler = func(context.Context, *cli.Command, error) {}
	root := &cli.Command{
		Name:      "lantern",
		Flags:     client.Flags(),
		Commands:  []*cli.Command{c},
		Writer:    io.Discard,
		ErrWriter: io.Discard,
	}
	args := []string{"lantern", c.Name}
	if path != "" {
		args = append(args, "--config", path)
	}
	return got, errors.Join(root.Run(ctx, args))
}

// printSettings prints all settings in the form of a settings file, with their meanings and origins.
func printSettings(w io.Writer, cmd *cli.Command, kind string) {
	fmt.Fprintf(w, "# Settings of the %s: lantern %s --config <this file>\n"+
		"# An option comes before the environment, and that before this file.\n", kind, cmd.Name)
	taken, _ := cmd.Metadata[fromFile].(map[string]string)
	for _, f := range settable(cmd) {
		name := f.Names()[0]
		d, _ := f.(cli.DocGenerationFlag)
		origin := ""
		switch {
		case taken[name] != "":
			origin = "from " + taken[name]
		case f.IsSet():
			origin = "from the environment, " + variable(name)
		}
		fmt.Fprintf(w, "\n# %s\n", d.GetUsage())
		is := valueOf(f)
		if v := os.Getenv(variable(name)); v != "" && slices.Contains(ofLink, name) {
			is, origin = v, "from the environment, "+variable(name)
		}
		value, _ := yaml.Marshal(is)
		line := name + ": " + strings.TrimRight(string(value), "\n")
		if list, ok := is.([]string); ok {
			line = name + ":"
			for _, v := range list {
				one, _ := yaml.Marshal(v)
				line += "\n  - " + strings.TrimRight(string(one), "\n")
			}
		}
		switch {
		case origin != "":
			fmt.Fprintf(w, "%s  # %s\n", line, origin)
		case isEmpty(is):
			fmt.Fprintf(w, "# %s:\n", name)
		default:
			fmt.Fprintf(w, "# %s\n", line)
		}
	}
}

func isEmpty(v any) bool {
	list, ok := v.([]string)
	return v == "" || ok && len(list) == 0
}

func valueOf(f cli.Flag) any {
	if d, ok := f.Get().(time.Duration); ok {
		return client.DurationText(d)
	}
	return f.Get()
}

func config() *cli.Command {
	kind := func(cmd *cli.Command, most int) (string, string, error) {
		name := cmd.Args().First()
		if configurable[name] == nil || cmd.Args().Len() > most {
			examples, _ := client.Examples(cmd)
			return "", "", &client.Failure{Code: client.ExitUsage,
				Says: cmd.FullName() + " needs the word service or agent, and then a file\nExample: " + examples[0]}
		}
		return name, cmd.Args().Get(1), nil
	}
	return &cli.Command{
		Name:        "config",
		Usage:       "settings of the service and of agents, in files",
		Description: "Example: lantern config show service\n         lantern config show agent",
		Commands: []*cli.Command{
			{
				Name:      "check",
				Usage:     "check the settings in a file; nothing is started",
				ArgsUsage: "service|agent <file>",
				Description: "Example: lantern config check service /etc/lantern/service.yaml\n         " +
					"lantern config check agent /etc/lantern/agent.yaml",
				Action: func(ctx context.Context, cmd *cli.Command) error {
					name, path, err := kind(cmd, 2)
					if err != nil {
						return err
					}
					if path == "" {
						return &client.Failure{
							Code: client.ExitUsage,
							Says: "name the file as well: lantern config check " + name + " /etc/lantern/" + name + ".yaml",
						}
					}
					c, err := looked(ctx, name, path)
					if err != nil {
						return err
					}
					taken, _ := c.Metadata[fromFile].(map[string]string)
					fmt.Fprintf(cmd.Root().Writer, "%s can be used: it sets %d of %d settings\n", path, len(taken), len(settable(c)))
					return nil
				},
			},
			{
				Name:      "show",
				Usage:     "print all settings in force, with meaning and origin, as a file",
				ArgsUsage: "service|agent [file]",
				Description: "Example: lantern config show service\n         " +
					"lantern config show agent",
				Action: func(ctx context.Context, cmd *cli.Command) error {
					name, path, err := kind(cmd, 2)
					if err != nil {
						return err
					}
					c, err := looked(ctx, name, path)
					if err != nil {
						return err
					}
					printSettings(cmd.Root().Writer, c, name)
					return nil
				},
			},
		},
	}
}
