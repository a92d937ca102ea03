package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"go.yaml.in/yaml/v3"

	"lantern/internal/api"
)

const layoutExample = `name: shelf
sections:
  - name: front
    rows: 3
    columns: 4
    first: bottom-left
    run: columns
    upright: false
    gaps: [[1, 1]]
    names: {1: "A1"}
`

func enclosureCommand() *cli.Command {
	return &cli.Command{
		Name:  "enclosure",
		Usage: "describe the bays of an enclosure that cannot report them",
		Description: "Example: lantern enclosure list guillemot\n" +
			"         lantern enclosure define guillemot --section side --rows 4 --columns 4",
		Commands: []*cli.Command{
			{
				Name:      "define",
				Usage:     "describe an enclosure: one section by options, or all of it by a file",
				ArgsUsage: "<host>",
				Description: "Example: lantern enclosure define guillemot --section side --rows 4 --columns 4 --first " +
					"bottom-left --run columns\n         lantern enclosure define guillemot --file " +
					"shelf.yaml\n\nA file is YAML or JSON, and can be shared; lantern enclosure export writes " +
					"one:\n\n" + layoutExample + "\ngaps are places without a bay (row, column, from the top " +
					"left); names are what is printed on the case;\nbays: {7: [2, 3]} says where each is when " +
					"the numbers follow no pattern.",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "file", Usage: "the description; - reads it from standard input"},
					&cli.StringFlag{Name: "name", Value: "chassis", Usage: "name of the enclosure"},
					&cli.StringFlag{Name: "section", Value: "front", Usage: "name of the section, part of every bay's address"},
					&cli.IntFlag{
						Name: "rows",
					},
					&cli.IntFlag{Name: "columns"},
					&cli.StringFlag{
						Name:  "first",
						Value: "top-left",
						Usage: "corner of bay 1: top-left, top-right, bottom-left or bottom-right",
					},
					&cli.StringFlag{
						Name:  "run",
						Value: "rows",
						Usage: "direction of bay numbers: rows or columns",
					},
					&cli.BoolFlag{Name: "upright", Usage: "drives stand upright"},
				},
				Action: with(enclosureDefine),
			},
			{
				Name:        "list",
				Usage:       "a host's enclosures",
				ArgsUsage:   "<host>",
				Description: "Example: lantern enclosure list skerry\n         lantern enclosure list guillemot -o json",
				Flags:       tableFlags(),
				Action:      listing(enclosureList),
			},
			{
				Name:      "export",
				Usage:     "print a description to share, as YAML or (-o json) JSON",
				ArgsUsage: "<host> [enclosure]",
				Description: "Example: lantern enclosure export guillemot chassis > shelf.yaml\n" +
					"         lantern enclosure export guillemot chassis -o json",
				Action: with(enclosureExport),
			},
			{
				Name:        "remove",
				Usage:       "remove a description, and what was found about its bays",
				ArgsUsage:   "<host> <enclosure>",
				Description: "Example: lantern enclosure remove guillemot chassis\n         lantern enclosure remove petrel shelf",
				Action:      with(enclosureRemove),
			},
			{
				Name:      "move",
				Usage:     "move a described enclosure to another host, after its cables were moved",
				ArgsUsage: "<host> <enclosure> <other host>",
				Description: "Example: lantern enclosure move petrel shelf fulmar\n" +
					"         lantern enclosure move fulmar shelf petrel\n\n" +
					"Where each drive was seen is a guess from then on, until a survey or lantern enclosure confirm. Drives keep " +
					"their history.",
				Action: with(enclosureMove),
			},
			{
				Name:      "confirm",
				Usage:     "record that you saw a drive in a bay",
				ArgsUsage: "<bay> <drive>",
				Description: "Example: lantern enclosure confirm guillemot/side/1 WR082\n" +
					"         lantern enclosure confirm --replace guillemot/side/1 LG975\n\nA bay in which another drive was seen " +
					"is not changed without --replace.",
				Flags:  []cli.Flag{&cli.BoolFlag{Name: "replace", Usage: "even if another drive was seen there"}},
				Action: with(enclosureConfirm),
			},
		},
	}
}

// enclosureDefine is the action of lantern enclosure define.
func enclosureDefine(ctx context.Context, s *session, cmd *cli.Command) error {
	host, err := one(cmd, "a host")
	if err != nil {
		return err
	}
	l := api.Layout{
		Name: cmd.String("name"),
		Sections: []api.LayoutSection{
			{
				Name:    cmd.String("section"),
				Rows:    cmd.Int("rows"),
				Columns: cmd.Int("columns"),
				First:   cmd.String("first"),
				Run:     cmd.String("run"),
				Upright: cmd.Bool("upright"),
			},
		},
	}
	if file := cmd.String("file"); file != "" {
		if l, err = readLayout(file, s.in); err != nil {
			return err
		}
	}
	if l, err = ask[api.Layout](s.client.SetLayout(ctx, host, l.Name, nil, l)); err != nil {
		return err
	}
	if done, err := s.out.value(l); done {
		return err
	}
	s.out.line(
		"%s of %s is described. See it with: lantern bays %s; find its drives with: lantern "+
			"survey begin %s",
		l.Name,
		host,
		host,
		host,
	)
	return nil
}

// enclosureList is the action of lantern enclosure list.
func enclosureList(ctx context.Context, s *session, cmd *cli.Command) error {
	host, all, err := s.layouts(ctx, cmd)
	if err != nil {
		return err
	}
	return list(
		s,
		all,
		host+" has no enclosures. Describe one with: lantern enclosure define "+host,
		[]column{col("enclosure"), col("sections").fold(20), col("known_by").as("KNOWN BY")},
		func(l api.Layout) []cell {
			var parts []string
			for _, sec := range l.Sections {
				parts = append(parts, fmt.Sprintf("%s %d×%d", sec.Name, sec.Rows, sec.Columns))
			}
			return []cell{
				{text: l.Name, style: bold},
				{text: strings.Join(parts, ", ")},
				{text: map[bool]string{true: "its own report", false: "description"}[l.Told]},
			}
		},
	)
}

// enclosureExport is the action of lantern enclosure export.
func enclosureExport(ctx context.Context, s *session, cmd *cli.Command) error {
	host, all, err := s.layouts(ctx, cmd)
	if err != nil {
		return err
	}
	for _, l := range all {
		if name := cmd.Args().Get(1); name != "" && l.Name != name || name == "" && len(all) > 1 {
			continue
		}
		l.Told = false
		if done, err := s.out.value(l); done {
			return err
		}
		b, err := json.Marshal(l)
		if err != nil {
			return err
		}
		var plain any
		if err := yaml.Unmarshal(b, &plain); err != nil {
			return err
		}
		text, err := yaml.Marshal(plain)
		if err != nil {
			return err
		}
		_, err = s.out.w.Write(text)
		return err
	}
	return &Failure{
		Code: ExitFailed,
		Says: fmt.Sprintf(
			"name one of the %d enclosures of %s: lantern enclosure list %s",
			len(all),
			host,
			host,
		),
	}
}

// enclosureRemove is the action of lantern enclosure remove.
func enclosureRemove(ctx context.Context, s *session, cmd *cli.Command) error {
	if cmd.Args().Len() != 2 {
		return usage("name a host and its enclosure\nExample: %s", example(cmd))
	}
	if err := did(s.client.RemoveLayout(ctx, cmd.Args().Get(0), cmd.Args().Get(1), nil)); err != nil {
		return err
	}
	s.out.line("the description of %s of %s is removed", cmd.Args().Get(1), cmd.Args().Get(0))
	return nil
}

// enclosureMove is the action of lantern enclosure move.
func enclosureMove(ctx context.Context, s *session, cmd *cli.Command) error {
	if cmd.Args().Len() != 3 {
		return usage("name a host, its enclosure, and the host that has it now\nExample: %s", example(cmd))
	}
	a := cmd.Args()
	return s.done(fmt.Sprintf("%s now belongs to %s", a.Get(1), a.Get(2)),
		did(s.client.MoveLayout(ctx, a.Get(0), a.Get(1), nil, api.HostName{Name: a.Get(2)})))
}

// enclosureConfirm is the action of lantern enclosure confirm.
func enclosureConfirm(ctx context.Context, s *session, cmd *cli.Command) error {
	if cmd.Args().Len() != 2 {
		return usage("name a bay and a drive\nExample: %s", example(cmd))
	}
	d, err := ask[api.Drive](
		s.client.ConfirmBay(
			ctx,
			nil,
			api.Spot{Bay: cmd.Args().Get(0), Drive: cmd.Args().Get(1), Replace: cmd.Bool("replace")},
		),
	)
	if err != nil {
		return err
	}
	s.out.line("%s is in bay %s, %s", d.Tail, d.Bay, d.BayHow)
	return nil
}

func (s *session) layouts(ctx context.Context, cmd *cli.Command) (string, []api.Layout, error) {
	host := cmd.Args().First()
	if host == "" {
		return "", nil, usage("name a host\nExample: %s", example(cmd))
	}
	all, err := ask[[]api.Layout](s.client.ListLayouts(ctx, host))
	return host, all, err
}

// readLayout reads a description, YAML or JSON.
func readLayout(file string, in io.Reader) (l api.Layout, err error) {
	var b []byte
	if file == "-" {
		b, err = io.ReadAll(io.LimitReader(in, 1<<20))
	} else {
		b, err = os.ReadFile(file)
	}
	if err != nil {
		return l, usage("the description cannot be read: %v", err)
	}
	var plain any
	if err := yaml.Unmarshal(b, &plain); err != nil {
		return l, usage("%s is neither YAML nor JSON: %v", file, err)
	}
	if b, err = json.Marshal(texts(plain)); err == nil {
		d := json.NewDecoder(strings.NewReader(string(b)))
		d.DisallowUnknownFields()
		err = d.Decode(&l)
	}
	if err != nil {
		return l, usage("%s is not a description of an enclosure: %v\nExample:\n%s", file, err, layoutExample)
	}
	return l, nil
}

// texts makes the keys of maps texts: YAML allows numbers there, JSON does not.
func texts(v any) any {
	switch x := v.(type) {
	case map[string]any:
		for k := range x {
			x[k] = texts(x[k])
		}
	case map[any]any:
		out := map[string]any{}
		for k := range x {
			out[fmt.Sprint(k)] = texts(x[k])
		}
		return out
	case []any:
		for i := range x {
			x[i] = texts(x[i])
		}
	}
	return v
}
