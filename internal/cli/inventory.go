package cli

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
	"lantern/internal/core/inventory"
	"lantern/internal/harmless"
	"lantern/internal/nearest"
)

func inventoryCommand() *cli.Command {
	flags := append([]cli.Flag{
		&cli.StringFlag{
			Name:  "where",
			Local: true,
			Usage: "conditions, such as 'warranty_days<90, batch=B-17, state=sent-back'",
		},
		&cli.StringFlag{Name: "find", Local: true, Usage: "only entries that contain these words"},
	}, tableFlags()...)
	show := listing(listInventory)
	return &cli.Command{
		Name:  "inventory",
		Usage: "inventory of drives: purchase, warranty, batch, notes and fate",
		Description: "Example: lantern inventory --where 'warranty_days<90'\n" +
			"         lantern inventory list --columns serial,state,warranty,supplier\n\n" +
			"Conditions ask for any field (lantern inventory fields), for warranty_days (until the warranty ends) and " +
			"owned_days\n" +
			"(since the purchase). The same conditions work in lantern drives --where.",
		Flags:  flags,
		Action: show,
		Commands: []*cli.Command{
			{
				Name:  "list",
				Usage: "list drives with their inventory",
				Description: "Example: lantern inventory list --where 'owned_days>1095'\n" +
					"         lantern inventory list --find kelp",
				Flags:  flags,
				Action: show,
			},
			{
				Name:        "fields",
				Usage:       "list the fields that can be set, with their meanings",
				Description: "Example: lantern inventory fields\n         lantern inventory fields -o csv",
				Flags:       tableFlags(),
				Action: listing(func(ctx context.Context, s *session, _ *cli.Command) error {
					all, err := ask[[]api.InventoryField](s.client.ListInventoryFields(ctx))
					if err != nil {
						return err
					}
					return list(s, all, "", []column{col("field"), col("meaning").fold(30)}, func(f api.InventoryField) []cell {
						return []cell{{text: f.Name, style: bold}, {text: f.Meaning}}
					})
				}),
			},
			{
				Name:        "show",
				Usage:       "show everything known about one drive",
				ArgsUsage:   "<drive>",
				Description: "Example: lantern inventory show ZU006\n         lantern inventory show VR7ZU006",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					name, err := one(cmd, "a drive")
					if err != nil {
						return err
					}
					v, err := ask[api.InventoryItem](s.client.GetInventory(ctx, name))
					return tell(s, s.inventoryItem, v, err)
				}),
			},
			{
				Name:      "set",
				Usage:     "set fields of drives; an empty value removes the field",
				ArgsUsage: "<drive> [drive ...] <field=value> [field=value ...]",
				Description: "Example: lantern inventory set ZU006 supplier='Kelp & Sons' purchased=2023-11-20 warranty=5y\n" +
					"         lantern inventory set ZU006 LM417 batch=B-17 price=249.90 currency=EUR",
				Action: with(setInventory),
			},
			{
				Name:      "note",
				Usage:     "write a note about drives",
				ArgsUsage: "<drive> [drive ...] <text>",
				Description: "Example: lantern inventory note ZU006 \"the seller was told\"\n" +
					"         lantern inventory note ZU006 LM417 \"the rack was moved\" --happened \"yesterday 14:00\"\n\n" +
					"Charts of the drive mark the time of a note.",
				Flags: []cli.Flag{&cli.StringFlag{Name: "happened",
					Usage: "when it happened, such as \"3h ago\" or \"yesterday 14:00\"", DefaultText: "now"}},
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					words := cmd.Args().Slice()
					if len(words) < 2 {
						return usage("name drives and write the note as one text behind them\nExample: %s", example(cmd))
					}
					drives, note := words[:len(words)-1], words[len(words)-1]
					var happened time.Time
					if text := cmd.String("happened"); text != "" {
						var err error
						if happened, err = ParsePast(text, time.Now()); err != nil {
							return usage("--happened: %v", err)
						}
					}
					if len(drives) > 1 { // it is set for all of them, or for none
						req := api.InventoryImport{}
						for n, d := range drives {
							req.Rows = append(req.Rows, api.InventoryRow{Line: n + 1, Name: d, Fields: map[string]string{}, Note: note,
								HappenedAt: happened})
						}
						return s.imported(ctx, req, "drive")
					}
					v, err := ask[api.InventoryItem](s.client.SetInventory(ctx, drives[0], nil, api.InventorySet{Note: note,
						HappenedAt: happened}))
					return tell(s, func(v api.InventoryItem) { s.out.line("noted of %s", v.Serial) }, v, err)
				}),
			},
			{
				Name:      "import",
				Usage:     "set fields of many drives from a CSV file; nothing is written without --write",
				ArgsUsage: "<file, or - for standard input>",
				Description: "Example: lantern inventory import bought.csv\n" +
					"         lantern inventory import bought.csv --write\n\n" +
					"The first line names the columns: serial or drive (a serial, a tail, a bay), and any fields. A serial that " +
					"was never\n" +
					"seen counts as a drive that was ordered. If any line is refused, nothing is written.\n" +
					"What lantern inventory export prints can be imported again. Columns that only tell something are left out.",
				Flags: []cli.Flag{
					&cli.BoolFlag{Name: "write", Usage: "write the changes; without this they are only listed"},
				},
				Action: with(importInventory),
			},
			{
				Name:  "export",
				Usage: "print all drives with all fields as CSV, also for import",
				Description: "Example: lantern inventory export > inventory.csv\n" +
					"         lantern inventory export --where state=stock > stock.csv",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "where", Local: true, Usage: "conditions, such as 'warranty_days<90'"},
				},
				Action: with(exportInventory),
			},
			{
				Name:        "remove",
				Usage:       "remove the inventory of a drive; the drive stays",
				ArgsUsage:   "<drive>",
				Description: "Example: lantern inventory remove ZU006\n         lantern inventory remove skerry/front/7",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					name, err := one(cmd, "a drive")
					if err != nil {
						return err
					}
					return s.done("the inventory of "+name+" is removed", did(s.client.RemoveInventory(ctx, name)))
				}),
			},
		},
	}
}

// seenWords say whether a host reports a drive.
var seenWords = map[api.InventoryItemSeen]string{
	api.InventoryItemSeenNow: "", api.InventoryItemSeenBefore: "gone", api.InventoryItemSeenNever: "never seen",
}

func listInventory(ctx context.Context, s *session, cmd *cli.Command) error {
	all, err := ask[[]api.InventoryItem](
		s.client.ListInventory(ctx, &api.ListInventoryParams{Where: cmd.String("where"), Q: cmd.String("find")}),
	)
	if err != nil {
		return err
	}
	heads := []column{
		col("serial"),
		col("model").fold(10).spare(2),
		col("state").fold(9),
		col("seen").fold(10),
		col("place").fold(12),
		col("pool").fold(10).spare(3),
		col("warranty_days").as("WARRANTY"),
		col("batch").fold(8),
		col("supplier").fold(10).spare(1),
	}
	shown := []string{"serial", "model", "state", "batch", "supplier"}
	var rest []string
	for _, f := range inventory.Names() {
		if !slices.Contains(shown, f) {
			rest = append(rest, f)
			heads = append(heads, col(f).more())
		}
	}
	return list(s, all, "No drive fits. Without options, all are listed.", heads, func(v api.InventoryItem) []cell {
		row := []cell{
			{text: v.Serial, style: bold},
			{text: v.Model},
			{text: v.State},
			{text: seenWords[v.Seen], raw: string(v.Seen)},
			{text: v.Place},
			{text: v.Pool},
			warrantyCell(v),
			{text: v.Fields["batch"]},
			{text: v.Fields["supplier"]},
		}
		for _, f := range rest {
			row = append(row, cell{text: v.Fields[f]})
		}
		return row
	})
}

// warrantyCell is the end of a warranty; empty if it is not known.
func warrantyCell(v api.InventoryItem) cell {
	if v.Fields["warranty"] == "" {
		return cell{raw: "", right: true}
	}
	c := cell{text: plural(v.WarrantyDays, "day"), right: true, raw: v.WarrantyDays}
	if v.WarrantyDays < 0 {
		c.text, c.style = "ended", dim
	}
	return c
}

func (s *session) inventoryItem(v api.InventoryItem) {
	s.out.line("%s  %s", v.Serial, v.Model)
	if where := strings.TrimSpace(v.Place + " " + v.Pool); where != "" {
		s.out.line("  %-14s %s", "place", where)
	}
	if v.Says != "" {
		s.out.line("  %-14s %s", "contradiction", v.Says)
	}
	if v.State != v.Fields["state"] {
		s.out.line("  %-14s %s, as it is seen", "state", v.State)
	}
	for _, name := range inventory.Names() {
		text := v.Fields[name]
		if text == "" {
			continue
		}
		if name == "warranty" {
			text += map[bool]string{true: ", ended", false: fmt.Sprintf(", %s left",
				plural(v.WarrantyDays, "day"))}[v.WarrantyDays < 0]
		}
		if name == "price" {
			text += " " + v.Fields["currency"]
		}
		if name != "currency" {
			s.out.line("  %-14s %s", name, text)
		}
	}
	if len(v.Fields) == 0 {
		s.out.line("  nothing is written of it; set fields: lantern inventory set %s field=value", v.Serial)
	}
	for _, n := range v.Notes {
		about := ""
		if !n.HappenedAt.IsZero() {
			about = " about " + n.HappenedAt.Local().Format("2006-01-02 15:04")
		}
		s.out.line("  %s %s%s: %s", n.At.Local().Format("2006-01-02 15:04"), n.By, about, n.Text)
	}
}

func setInventory(ctx context.Context, s *session, cmd *cli.Command) error {
	fields := map[string]string{}
	var drives []string
	for _, word := range cmd.Args().Slice() {
		name, value, ok := strings.Cut(word, "=")
		switch {
		case !ok && len(fields) > 0:
			return usage("%q is not field=value; name the drives first\nExample: %s", word, example(cmd))
		case !ok:
			drives = append(drives, word)
		default:
			if _, known := inventory.FieldNamed(name); !known {
				return usage(
					"no field %q%s All of them: lantern inventory fields",
					name,
					nearest.Meant(name, inventory.Names()),
				)
			}
			if _, twice := fields[name]; twice {
				return usage("%s is set twice", name)
			}
			fields[name] = value
		}
	}
	if len(drives) == 0 || len(fields) == 0 {
		return usage("name drives, and then fields with their values\nExample: %s", example(cmd))
	}
	if len(drives) == 1 {
		v, err := ask[api.InventoryItem](s.client.SetInventory(ctx, drives[0], nil, api.InventorySet{Fields: fields}))
		return tell(s, s.inventoryItem, v, err)
	}
	// Several are all set, or none is.
	req := api.InventoryImport{}
	for n, d := range drives {
		req.Rows = append(req.Rows, api.InventoryRow{Line: n + 1, Name: d, Fields: fields})
	}
	return s.imported(ctx, req, "drive")
}

// imported sends rows, and prints the changes and the rows with errors.
func (s *session) imported(ctx context.Context, req api.InventoryImport, unit string) error {
	v, err := ask[api.InventoryImported](s.client.ImportInventory(ctx, req))
	if err != nil {
		return err
	}
	if done, err := s.out.value(v); done {
		return err
	}
	for _, c := range v.Changes {
		from := c.From
		if from == "" {
			from = "nothing"
		}
		to := c.To
		if to == "" {
			to = "nothing"
		}
		s.out.line("%s %d  %s  %s: %s, was %s", unit, c.Line, c.Serial, c.Field, to, from)
	}
	for _, r := range v.Refused {
		s.out.line("REFUSED  %s %d  %s: %s", unit, r.Line, r.Name, r.Says)
	}
	switch {
	case len(v.Refused) > 0:
		return &Failure{
			Code: ExitRefused,
			Says: fmt.Sprintf("%s of %d cannot be accepted, so nothing was written", plural(len(v.Refused), unit), v.Rows),
		}
	case v.Written:
		s.out.line("%s written", plural(len(v.Changes), "change"))
	case len(v.Changes) == 0:
		s.out.line("nothing would change")
	default:
		s.out.line("%s; nothing is written yet: add --write", plural(len(v.Changes), "change"))
	}
	return nil
}

// onlyTold are columns of an export that an import does not set.
var onlyTold = []string{"seen", "place", "pool", "capacity_bytes", "verdict", "warranty_days", "tail", "notes"}

func importInventory(ctx context.Context, s *session, cmd *cli.Command) error {
	path, err := one(cmd, "a CSV file, or - for standard input")
	if err != nil {
		return err
	}
	in := cmd.Root().Reader
	if path != "-" {
		f, err := os.Open(path)
		if err != nil {
			return usage("%v", err)
		}
		defer f.Close()
		in = f
	}
	rows, err := readInventory(in)
	if err != nil {
		return usage("%s: %v", path, err)
	}
	return s.imported(ctx, api.InventoryImport{Rows: rows, Dry: !cmd.Bool("write")}, "line")
}

// readInventory reads a table of drives and fields.
func readInventory(in io.Reader) (rows []api.InventoryRow, err error) {
	r := csv.NewReader(in)
	heads, err := r.Read()
	if err != nil {
		return nil, errors.Join(errors.New("the first line names the columns, such as serial,supplier,purchased"), err)
	}
	names := append([]string{"serial", "drive"}, inventory.Names()...)
	key := -1
	for i, h := range heads {
		h = strings.ToLower(strings.TrimSpace(strings.TrimPrefix(h, "\ufeff")))
		heads[i] = h
		switch {
		case h == "serial" || h == "drive" && key < 0:
			key = i
		case !slices.Contains(names, h) && !slices.Contains(onlyTold, h):
			return nil, fmt.Errorf("no field %q%s All of them: lantern inventory fields", h, nearest.Meant(h, names))
		case slices.Contains(heads[:i], h):
			return nil, fmt.Errorf("column %s appears twice", h)
		}
	}
	if key < 0 {
		return nil, errors.New("no column says which drive it is: name one serial, or drive")
	}
	for {
		cells, err := r.Read()
		if errors.Is(err, io.EOF) {
			return rows, nil
		}
		if err != nil {
			return nil, err
		}
		line, _ := r.FieldPos(0)
		row := api.InventoryRow{
			Line:   line,
			Name:   harmless.FromCell(strings.TrimSpace(cells[key])),
			Whole:  heads[key] == "serial",
			Fields: map[string]string{},
		}
		for i, h := range heads {
			if i != key && h != "serial" && h != "drive" && !slices.Contains(onlyTold, h) {
				row.Fields[h] = harmless.FromCell(cells[i])
			}
		}
		if row.Name == "" {
			return nil, fmt.Errorf("line %d names no drive", line)
		}
		rows = append(rows, row)
	}
}

func exportInventory(ctx context.Context, s *session, cmd *cli.Command) error {
	all, err := ask[[]api.InventoryItem](
		s.client.ListInventory(ctx, &api.ListInventoryParams{Where: cmd.String("where")}),
	)
	if err != nil {
		return err
	}
	w := csv.NewWriter(cmd.Root().Writer)
	_ = w.Write(append(append([]string{"serial"}, inventory.Names()...), "seen", "place", "pool"))
	for _, v := range all {
		row := []string{harmless.Cell(v.Serial)}
		for _, f := range inventory.Names() {
			text := v.Fields[f]
			row = append(row, harmless.Cell(text))
		}
		_ = w.Write(append(row, string(v.Seen), harmless.Cell(v.Place), harmless.Cell(v.Pool)))
	}
	w.Flush()
	return w.Error()
}
