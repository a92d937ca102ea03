package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"lantern/internal/api"
	"lantern/internal/core/pool"
	"lantern/internal/wire"
)

// anywhere runs a command offline when it is given a pool's file, else with the service.
func anywhere(onFile, onService func(ctx context.Context, s *session, cmd *cli.Command) error) cli.ActionFunc {
	return func(ctx context.Context, cmd *cli.Command) error {
		if cmd.String("file") != "" {
			return offline(func(s *session, cmd *cli.Command) error { return onFile(ctx, s, cmd) })(ctx, cmd)
		}
		return listing(onService)(ctx, cmd)
	}
}

// poolFile reads the pool that --file names; - is the standard input.
func (s *session) poolFile(cmd *cli.Command) (pool.Pool, api.Pool, error) {
	if cmd.Args().Len() > 0 {
		return pool.Pool{}, api.Pool{}, usage(
			"--file and a pool exclude each other: leave out %q\nExample: %s",
			cmd.Args().First(),
			example(cmd),
		)
	}
	in, name := s.in, cmd.String("file")
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return pool.Pool{}, api.Pool{}, &Failure{Code: ExitFailed, Says: err.Error()}
		}
		defer f.Close()
		in = f
	}
	p, v, err := wire.ReadPool(in)
	if err != nil {
		return p, v, &Failure{
			Code: ExitFailed,
			Says: fmt.Sprintf(
				"%s: %v\nHow such a file looks: docs/pool-file.md; lantern pool <name> --output json writes one",
				name,
				err,
			),
		}
	}
	return p, v, nil
}

// byTail converts label tails of a pool's file into slots, and gives the properties of the drive at a slot.
func byTail(p *pool.Pool, v api.Pool, names []string) ([]string, func(string) api.LostMember) {
	all := map[string]api.LostMember{}
	note := func(in []api.Member) {
		for _, m := range in {
			all[m.Slot] = api.LostMember{Slot: m.Slot, Tail: m.Tail, Bay: m.Bay, Drive: m.Drive}
		}
	}
	for _, g := range v.Groups {
		note(g.Members)
	}
	note(v.Spares)
	note(v.Logs)
	out := append([]string{}, names...)
	for i, n := range out {
		if _, _, ok := p.Slot(n); ok {
			continue
		}
		var fits []string
		for slot, m := range all {
			if m.Tail != "" && strings.EqualFold(m.Tail, n) {
				fits = append(fits, slot)
			}
		}
		if len(fits) == 1 { // a tail of two drives is ambiguous
			out[i] = fits[0]
		}
	}
	return out, func(slot string) api.LostMember { return all[slot] }
}

func commas(in []string) (out []string) {
	for _, x := range in {
		for _, y := range strings.Split(x, ",") {
			if y = strings.TrimSpace(y); y != "" {
				out = append(out, y)
			}
		}
	}
	return out
}

var fileFlag = &cli.StringFlag{
	Name:  "file",
	Usage: "use a pool described in this file, without a service; - reads standard input",
}

func whatifCommand() *cli.Command {
	flags := []cli.Flag{
		&cli.StringSliceFlag{
			Name:  "lose",
			Usage: "members to lose: label tails, slots, or a host for all of its members, separated by commas",
		},
		&cli.IntFlag{Name: "survives", Usage: "try every set of this many members"},
		&cli.FloatFlag{
			Name:  "full",
			Usage: "how full a member may become, in percent; default: what the pool system says",
		},
		fileFlag,
	}
	flags = append(flags, tableFlags()...)
	asked := func(cmd *cli.Command) ([]string, int, float64, error) {
		lose, n, full := commas(cmd.StringSlice("lose")), cmd.Int("survives"), cmd.Float("full")
		switch {
		case len(lose) == 0 && n == 0:
			return nil, 0, 0, usage("name the members to lose, or how many\nExample: %s", example(cmd))
		case full < 0 || full > 100 || n < 0 || n > 12:
			return nil, 0, 0, usage("--full takes 0 to 100 percent, --survives 1 to 12 members")
		}
		return lose, n, full / 100, nil
	}
	return &cli.Command{
		Name:      "whatif",
		Usage:     "show what happens to a pool if members are lost; nothing is ordered",
		ArgsUsage: "<pool>",
		Description: "Example: lantern whatif soundscape --lose ZU006,XE932\n         lantern whatif driftnet " +
			"--survives 2\n         lantern whatif --file planned.json --lose 1.7,1.8",
		Flags: flags,
		Action: anywhere(func(_ context.Context, s *session, cmd *cli.Command) error {
			lose, n, full, err := asked(cmd)
			if err != nil {
				return err
			}
			p, v, err := s.poolFile(cmd)
			if err != nil {
				return err
			}
			names, label := byTail(&p, v, lose)
			w, err := wire.WhatIf(&p, names, n, full, label)
			if err != nil {
				return &Failure{Code: ExitFailed, Says: err.Error()}
			}
			return prospector{s}.prospect(w)
		}, func(ctx context.Context, s *session, cmd *cli.Command) error {
			name, err := one(cmd, "a pool's name")
			if err != nil {
				return err
			}
			lose, n, full, err := asked(cmd)
			if err != nil {
				return err
			}
			w, err := ask[api.Prospect](
				s.client.WhatIf(ctx, name, &api.WhatIfParams{Lose: lose, Survives: n, Limit: full}),
			)
			if err != nil {
				return err
			}
			return prospector{s}.prospect(w)
		}),
	}
}

// stakes is the style of an outcome by its severity.
var stakes = map[api.PoolOutcome]style{
	api.StaysLost:        loud,
	api.StaysUnreachable: loud,
	api.StaysReduced:     bold,
	api.StaysUnknown:     bold,
	api.StaysSafe:        plain,
}

var prospectColumns = []column{col("volume"), col("protection").spare(1), col("outcome").as("BECOMES"),
	col("was").as("MARGIN NOW").fold(14), col("is").as("MARGIN THEN").fold(14), col("used_bytes").as("USED")}

// prospector shows the state after a loss of drives.
type prospector struct{ *session }

func (s prospector) prospect(w api.Prospect) error {
	if s.out.format == "csv" || len(s.out.choice.columns) > 0 {
		return s.out.table(prospectColumns, effectRows(w, func(x api.PoolOutcome) string { return string(x) }))
	}
	if done, err := s.out.value(w); done {
		return err
	}
	o := s.out
	name := func(m api.LostMember) string {
		return strings.TrimSpace(
			cmp.Or(
				m.Tail,
				m.Slot,
			) + " " + map[bool]string{true: "(" + cmp.Or(m.Bay, "slot "+m.Slot) + ")"}[m.Tail != ""],
		)
	}
	if len(w.Lose) > 0 {
		var lost []string
		for _, m := range w.Lose {
			lost = append(lost, name(m))
		}
		o.line("%s without %s", o.paint(w.Pool, bold), strings.Join(lost, ", "))
		if len(w.Along) > 0 {
			o.line("  and without those that depend on it: %s", strings.Join(w.Along, ", "))
		}
		o.line("")
		rows := effectRows(w, func(x api.PoolOutcome) string { return strings.ToUpper(string(x[:1])) + string(x[1:]) })
		if err := o.table(prospectColumns, rows); err != nil {
			return err
		}
		o.line("")
		if w.Was.Known && w.Is.Known {
			o.line("  the pool: %s%s; then %s%s", w.Was.Words, limitedBy(w.Was), w.Is.Words, limitedBy(w.Is))
		}
		s.comebacks(w)
		if w.Healed != w.Is && w.Healed.Known {
			o.line("  once that has ended: %s", w.Healed.Words)
		}
		s.roomToDrain(w)
	}
	if e := w.Endurance; e.Sets > 0 {
		o.line("%s, every set of %d members that can be lost: %s", o.paint(w.Pool, bold), e.Lost, plural(e.Sets, "set"))
		for _, x := range e.Of {
			o.line(
				"  %6s  of 100   %s (%s)",
				fmt.Sprintf("%.2f", 100*float64(x.Sets)/float64(e.Sets)),
				o.paint(string(x.Outcome), stakes[x.Outcome]),
				plural(x.Sets, "set"),
			)
		}
		for _, x := range e.Worst {
			o.line(
				"  such as %s: %s %s",
				strings.Join(x.Lose, ", "),
				strings.Join(x.Volumes, ", "),
				o.paint(string(x.Outcome), stakes[x.Outcome]),
			)
		}
	}
	return nil
}

// effectRows are the effects of a loss on each volume or group.
func effectRows(w api.Prospect, outcome func(api.PoolOutcome) string) (rows [][]cell) {
	for _, e := range w.Effects {
		rows = append(
			rows,
			[]cell{
				{text: cmp.Or(e.Volume, e.Group), style: bold},
				{text: e.Protection},
				{text: outcome(e.Outcome), style: stakes[e.Outcome]},
				{text: e.Was.Words},
				{text: e.Is.Words},
				bytesCell(e.UsedBytes),
			},
		)
	}
	return rows
}

// comebacks describe how lost places are filled again, by themselves or by hand; a text for several is printed once.
func (s prospector) comebacks(w api.Prospect) {
	o := s.out
	for i := 0; i < len(w.Comebacks); i++ {
		c := w.Comebacks[i]
		slots := []string{c.Slot}
		for ; i+1 < len(w.Comebacks) && w.Comebacks[i+1].Says == c.Says && w.Comebacks[i+1].NeedsBytes == c.NeedsBytes; i++ {
			slots = append(slots, w.Comebacks[i+1].Slot) // the same text is printed once
		}
		mark := map[bool]string{true: "by itself", false: "by hand  "}[c.ByItself]
		need := ""
		if !c.ByItself && c.NeedsBytes > 0 {
			need = fmt.Sprintf(
				"; a drive in %s place needs %s (%s bytes)",
				map[bool]string{true: "its", false: "each"}[len(slots) == 1],
				decimal(c.NeedsBytes),
				humanize.Comma(c.NeedsBytes),
			)
		}
		o.line("  %s  %s: %s%s", o.paint(mark, dim), strings.Join(slots, ", "), c.Says, need)
	}
}

// roomToDrain reports whether the data of the drives fits on the others.
func (s prospector) roomToDrain(w api.Prospect) {
	o := s.out
	if r := w.Room; r.NeedBytes > 0 {
		if r.Fits {
			others := ""
			if r.OthersMove {
				others = "; pieces on the others may have to move as well, so rebalance first if the pool " +
					"system does not do that by itself"
			}
			o.line("  room to drain: its data, %s, fits on the others%s", decimal(r.NeedBytes), others)
		} else {
			o.line("  no room to drain: %s", r.Why)
		}
	}
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return humanize.Comma(int64(n)) + " " + what + "s"
}

func fitCommand() *cli.Command {
	return &cli.Command{
		Name:        "fit",
		Usage:       "show the size needed to replace each member of a pool, and the free drives that fit",
		ArgsUsage:   "<pool>",
		Description: "Example: lantern fit logbook\n         lantern fit soundscape -o csv",
		Flags:       tableFlags(),
		Action: listing(func(ctx context.Context, s *session, cmd *cli.Command) error {
			name, err := one(cmd, "a pool's name")
			if err != nil {
				return err
			}
			all, err := ask[[]api.Fit](s.client.PoolFit(ctx, name))
			if err != nil {
				return err
			}
			err = list(
				s,
				all,
				"It has no member.",
				[]column{
					col("slot"),
					col("tail"),
					col("at_least_bytes").as("AT LEAST, BYTES"),
					col("at_most_bytes").as("AT MOST, BYTES"),
					col("fits").as("FREE DRIVES THAT FIT").fold(12),
				},
				func(f api.Fit) []cell {
					var fits []string
					for _, c := range f.Candidates {
						fits = append(fits, cmp.Or(c.Tail, c.Slot)+map[bool]string{true: " (spare)"}[c.Slot != ""])
					}
					most := cell{text: "any", right: true, raw: ""}
					if f.MostBytes > 0 {
						most = cell{text: humanize.Comma(f.MostBytes), right: true, raw: f.MostBytes}
					}
					return []cell{
						{text: f.Slot},
						{text: f.Tail, style: bold},
						{text: humanize.Comma(f.LeastBytes), right: true, raw: f.LeastBytes},
						most,
						{text: cmp.Or(strings.Join(fits, ", "), "none"), raw: strings.Join(fits, ", ")},
					}
				},
			)
			var bare []string
			for _, f := range all {
				if len(f.Candidates) == 0 && !f.Spare {
					bare = append(bare, f.Slot)
				}
			}
			if err == nil && len(bare) > 0 && s.out.format == "table" {
				s.out.line(
					"\nNot covered: no spare and no free drive on the same host fits %s.",
					strings.Join(bare, ", "),
				)
			}
			return err
		}),
	}
}
