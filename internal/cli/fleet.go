package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/guptarohit/asciigraph"
	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func roundCommand() *cli.Command {
	return &cli.Command{Name: "round", Usage: "what needs a person now, in order", Description: "Example: lantern round",
		Action: with(func(ctx context.Context, s *session, _ *cli.Command) error {
			res, err := s.client.GetRoundWithResponse(ctx)
			if err != nil {
				return unreachable(err)
			}
			r, err := got(res.JSON200, res, res.Body)
			if err != nil {
				return err
			}
			if done, err := s.out.value(r); done {
				return err
			}
			if s.out.format == "csv" {
				var rows [][]cell
				for i, l := range r.Lines {
					rows = append(rows, []cell{{text: strconv.Itoa(i + 1)}, {text: string(l.Verdict)}, {text: l.Tail}, {text: l.Bay}, {text: l.Pool}, {text: l.Says}, {text: l.Do}, {text: l.Since.Format(time.RFC3339)}})
				}
				return s.out.table([]string{"place", "verdict", "tail", "bay", "pool", "says", "do", "since"}, rows)
			}
			s.round(r)
			return nil
		})}
}

func (s *session) round(r api.Round) {
	o := s.out
	if len(r.Lines) == 0 {
		o.line("Nothing needs a hand. Last known to be so at %s.", r.At.Local().Format("15:04:05"))
	}
	for i, l := range r.Lines {
		m, st := mark(l.Verdict)
		place := l.Bay
		if place == "" {
			place = l.Host
		}
		o.line("%s %s  %s  %s", o.paint(fmt.Sprintf("%2d", i+1), dim), o.paint(m+" "+fmt.Sprintf("%-7s", l.Verdict), st), o.paint(fmt.Sprintf("%-18s", place), bold), o.paint(l.Tail, bold))
		o.line("     %s%s", l.Tail+" "+l.Says, more(l.Also))
		chart := ""
		if len(l.Spark) > 1 {
			chart = fmt.Sprintf("   %s %s, 14 days", o.paint(spark(l.Spark), st), l.Unit)
		}
		if l.Pool != "" {
			o.line("     %s: %s; without this drive: %s%s", l.Pool, l.Margin.Words, without(l), chart)
		}
		do := l.Do
		if l.Swap != "" {
			do = "A swap is open: lantern swap show " + l.Swap
		}
		o.line("     %s %s", o.paint("→", st), do+o.paint("  since "+ago(r.At, l.Since), dim))
	}
	if len(r.Underway) > 0 {
		o.line("%s", o.paint("─ under way "+strings.Repeat("─", 60), dim))
		for _, u := range r.Underway {
			if u.Alarm != "" {
				o.line("  %s", o.paint("STOP  "+u.Alarm, loud))
			}
			line := "  " + u.Says
			if u.Kind == api.UnderWayKindRecovery {
				line += fmt.Sprintf("  %s %.1f %%  %s", bar(u.Share, 20), 100*u.Share, finish(r.At, u.Finish))
			}
			o.line("%s", line)
		}
	}
	if len(r.Filling) > 0 {
		o.line("%s", o.paint("─ filling up "+strings.Repeat("─", 59), dim))
		for _, f := range r.Filling {
			o.line("  %s  %.0f %% full, %s of %s", o.paint("▥ "+f.Pool, level), 100*float64(f.UsedBytes)/float64(f.CapacityBytes), decimal(f.UsedBytes), decimal(f.CapacityBytes))
		}
	}
}

func more(n int) string {
	switch {
	case n == 1:
		return " (and one more finding)"
	case n > 1:
		return fmt.Sprintf(" (and %d more findings)", n)
	}
	return ""
}

func without(l api.RoundLine) string {
	if l.MarginAfter.Words == "" {
		return l.Margin.Words
	}
	return l.MarginAfter.Words
}

// finish writes a range as people read it.
func finish(now time.Time, r api.Range) string {
	if r.P50.IsZero() {
		return "no finish can be named yet"
	}
	return fmt.Sprintf("done in %s to %s, likely %s (%s)", span(r.P10.Sub(now)), span(r.P90.Sub(now)), span(r.P50.Sub(now)), r.P50.Local().Format("Mon 15:04"))
}

func drivesCommand() *cli.Command {
	return &cli.Command{Name: "drives", Usage: "list drives", Description: "Example: lantern drives --pool soundscape --verdict replace",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "host", Usage: "only on this host"}, &cli.StringFlag{Name: "pool", Usage: "only in this pool"},
			&cli.StringFlag{Name: "verdict", Usage: "sound, unknown, watch, replace or dead"},
			&cli.StringFlag{Name: "find", Usage: "any part of serial, WWN, model, bay, pool or host"}},
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			all := []api.Drive{}
			p := api.ListDrivesParams{Host: cmd.String("host"), Pool: cmd.String("pool"), Verdict: api.Verdict(cmd.String("verdict")), Q: cmd.String("find"), Limit: 500}
			if v := p.Verdict; v != "" && v != api.Sound && v != api.Unknown && v != api.Watch && v != api.Replace && v != api.Dead {
				return usage("--verdict is sound, unknown, watch, replace or dead, not %q", v)
			}
			for {
				res, err := s.client.ListDrivesWithResponse(ctx, &p)
				if err != nil {
					return unreachable(err)
				}
				page, err := got(res.JSON200, res, res.Body)
				if err != nil {
					return err
				}
				all = append(all, page.Drives...)
				if p.Cursor = page.Next; p.Cursor == "" {
					break
				}
			}
			if done, err := s.out.value(all); done {
				return err
			}
			if len(all) == 0 && s.out.format == "table" {
				s.out.line("No drive fits. Without options, all are listed.")
				return nil
			}
			var rows [][]cell
			for _, d := range all {
				place := d.Bay
				if place == "" {
					place = d.Host + " (no bay)"
				}
				where := d.Pool
				if d.Slot != "" {
					where += " " + d.Slot
				}
				rows = append(rows, []cell{verdictCell(d.Verdict), {text: d.Tail, style: bold}, {text: place}, {text: where}, {text: d.Identity.Model},
					{text: decimal(d.CapacityBytes), right: true}, {text: age(d.PowerOnHours), right: true}, {text: d.Says}})
			}
			return s.out.table([]string{"VERDICT", "TAIL", "BAY", "POOL AND SLOT", "MODEL", "SIZE", "POWERED FOR", "SAYS"}, rows)
		})}
}

func driveCommand() *cli.Command {
	return &cli.Command{Name: "drive", Usage: "one drive: who it is, how it is and why", ArgsUsage: "<serial or its end>", Description: "Example: lantern drive 7F412",
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			name, err := one(cmd, "a serial, or its end")
			if err != nil {
				return err
			}
			res, err := s.client.GetDriveWithResponse(ctx, name)
			if err != nil {
				return unreachable(err)
			}
			d, err := got(res.JSON200, res, res.Body)
			if err != nil {
				return err
			}
			if done, err := s.out.value(d); done {
				return err
			}
			if s.out.format == "csv" {
				var rows [][]cell
				for _, m := range d.Metrics {
					rows = append(rows, []cell{{text: m.Name}, {text: number(m.Value)}, {text: m.Unit}, {text: m.At.Format(time.RFC3339)}, {text: m.Source}})
				}
				return s.out.table([]string{"metric", "value", "unit", "at", "source"}, rows)
			}
			return s.drive(ctx, d)
		})}
}

func (s *session) drive(ctx context.Context, d api.Drive) error {
	o := s.out
	m, st := mark(d.Verdict)
	o.line("┌──────────────────────────────────────────────┐")
	for _, l := range []string{d.Identity.Model + "   " + decimal(d.CapacityBytes), "serial " + d.Identity.Serial, "WWN " + d.Identity.Wwn, "tail   " + strings.Join(strings.Split(d.Tail, ""), " ")} {
		o.line("│ %-44s │", l)
	}
	o.line("└──────────────────────────────────────────────┘")
	o.line("%s  %s", o.paint(m+" "+string(d.Verdict), st), d.Tail+" "+d.Says+".")
	for _, f := range d.Findings {
		fm, fs := mark(f.Verdict)
		o.line("  %s %s, since %s (%s)", o.paint(fm, fs), f.Says, ago(d.SeenAt, f.Since), f.Since.Local().Format("2006-01-02 15:04"))
		for _, e := range f.Evidence {
			o.line("      %s  %s", e.Says, o.paint("("+e.Source+", "+e.At.Local().Format("2006-01-02 15:04")+")", dim))
		}
		o.line("      %s %s", o.paint("→", fs), f.Do)
	}
	place := d.Bay
	switch {
	case place == "":
		place = "unknown"
	case !d.Present:
		place += " when it was last seen"
	}
	o.line("")
	o.line("  bay       %s", place)
	if d.Pool != "" {
		o.line("  pool      %s, %s, slot %s, %s", d.Pool, cmpOr(d.Group, string(d.Role)), d.Slot, d.State)
		o.line("  margin    %s; without this drive: %s", d.Margin.Words, cmpOr(d.MarginAfter.Words, d.Margin.Words))
	} else {
		o.line("  pool      none%s", holds(d.Holds))
	}
	o.line("  size      %d bytes, %s", d.CapacityBytes, size(d.CapacityBytes))
	if d.PowerOnHours > 0 {
		o.line("  powered   for %s (%d h)", age(d.PowerOnHours), d.PowerOnHours)
	}
	o.line("  seen      %s", d.SeenAt.Local().Format("2006-01-02 15:04:05"))
	for i, t := range d.Tests {
		if i == 3 {
			break
		}
		o.line("  self-test %s: %s at %d h", t.Kind, t.Result, t.Hours)
	}
	for _, b := range d.Unreadable {
		o.line("  unreadable page %s: %s (%d bytes kept)", b.Kind, b.Why, len(b.Bytes))
	}
	if len(d.Findings) > 0 && d.Findings[0].Metric != "" {
		o.line("")
		if err := s.trend(ctx, d.Key, d.Findings[0].Metric, 14); err != nil {
			return err
		}
	}
	if len(d.Metrics) > 0 {
		o.line("")
		var rows [][]cell
		for _, v := range d.Metrics {
			grown := ""
			if v.Grown24h > 0 {
				grown = "+" + number(v.Grown24h)
			}
			rows = append(rows, []cell{{text: v.Name}, {text: number(v.Value), right: true}, {text: v.Unit}, {text: grown, right: true}, {text: v.Strength, style: dim}, {text: v.Means, style: dim}})
		}
		return o.table([]string{"METRIC", "VALUE", "UNIT", "IN 24 H", "SIGN", "MEANS"}, rows)
	}
	return nil
}

func holds(what []string) string {
	if len(what) == 0 {
		return ", and nothing was found on it"
	}
	return "; it holds: " + strings.Join(what, ", ")
}

func cmpOr(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

func number(v float64) string {
	if v != 0 && v < 1 {
		return strconv.FormatFloat(v, 'g', 3, 64)
	}
	return strconv.FormatFloat(v, 'f', -1, 64)
}

func trendCommand() *cli.Command {
	return &cli.Command{Name: "trend", Usage: "one metric of a drive over time", ArgsUsage: "<drive> <metric>", Description: "Example: lantern trend 7F412 pending_sectors --days 30",
		Flags: []cli.Flag{&cli.IntFlag{Name: "days", Value: 30, Usage: "how far back"}},
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			if cmd.Args().Len() != 2 {
				return usage("lantern trend needs a drive and a metric\nExample: %s", example(cmd))
			}
			return s.trend(ctx, cmd.Args().Get(0), cmd.Args().Get(1), cmd.Int("days"))
		})}
}

func (s *session) trend(ctx context.Context, drive, metric string, days int) error {
	res, err := s.client.GetTrendWithResponse(ctx, drive, &api.GetTrendParams{Metric: metric, Days: days})
	if err != nil {
		return unreachable(err)
	}
	t, err := got(res.JSON200, res, res.Body)
	if err != nil {
		return err
	}
	if done, err := s.out.value(t); done {
		return err
	}
	if s.out.format == "csv" {
		var rows [][]cell
		for _, p := range t.Points {
			rows = append(rows, []cell{{text: p.At.Format(time.RFC3339)}, {text: number(p.Value)}})
		}
		return s.out.table([]string{"at", t.Metric}, rows)
	}
	if len(t.Points) < 2 {
		s.out.line("%s of %s: too few readings within %d days to draw.", t.Metric, t.Tail, days)
		return nil
	}
	s.out.line("%s of %s, in %s (%s)", t.Metric, t.Tail, t.Unit, t.Source)
	s.out.line("%s", s.out.paint(t.Means+" "+t.MeansNot, dim))
	const columns = 68
	first, last := t.Points[0].At, t.Points[len(t.Points)-1].At
	line := make([]float64, columns)
	j := 0
	for i := range line {
		at := first.Add(last.Sub(first) * time.Duration(i) / (columns - 1))
		for j+1 < len(t.Points) && !t.Points[j+1].At.After(at) {
			j++
		}
		line[i] = t.Points[j].Value
	}
	s.out.line("%s", asciigraph.Plot(line, asciigraph.Height(8), asciigraph.Precision(precision(line))))
	s.out.line("%s", s.out.paint(fmt.Sprintf("         %-34s%34s", first.Local().Format("2006-01-02 15:04"), last.Local().Format("2006-01-02 15:04")), dim))
	return nil
}

func precision(v []float64) uint {
	for _, x := range v {
		if x != float64(int64(x)) {
			return 3
		}
	}
	return 0
}

func poolsCommand() *cli.Command {
	return &cli.Command{Name: "pools", Usage: "list pools, least margin first", Description: "Example: lantern pools",
		Action: with(func(ctx context.Context, s *session, _ *cli.Command) error {
			res, err := s.client.ListPoolsWithResponse(ctx)
			if err != nil {
				return unreachable(err)
			}
			all, err := got(res.JSON200, res, res.Body)
			if err != nil {
				return err
			}
			if done, err := s.out.value(all); done {
				return err
			}
			if len(all) == 0 && s.out.format == "table" {
				s.out.line("No pool was reported yet. Agents report those of their hosts: lantern host list")
				return nil
			}
			var rows [][]cell
			for _, p := range all {
				st := plain
				if p.Margin.Known && p.Margin.Members < p.FullMargin {
					st = loud
				}
				words := p.Margin.Words
				if p.Stale {
					words += ", as last heard"
				}
				rows = append(rows, []cell{{text: p.Name, style: bold}, {text: p.Kind}, {text: words, style: st}, {text: fmt.Sprintf("%.0f %%", 100*float64(p.UsedBytes)/float64(max(p.CapacityBytes, 1))), right: true},
					{text: decimal(p.CapacityBytes), right: true}, {text: strings.Join(p.Hosts, " ")}, {text: moving(p)}})
			}
			return s.out.table([]string{"POOL", "KIND", "MARGIN", "FULL", "CAPACITY", "HOSTS", "UNDER WAY"}, rows)
		})}
}

func moving(p api.Pool) string {
	if p.Recovery.State == api.RecoveryStateRunning || p.Recovery.State == api.RecoveryStatePaused {
		return fmt.Sprintf("%s %.1f %%", p.Recovery.Kind, 100*p.Recovery.Share)
	}
	return ""
}

func poolCommand() *cli.Command {
	return &cli.Command{Name: "pool", Usage: "one pool: groups, members, volumes", ArgsUsage: "<pool>", Description: "Example: lantern pool soundscape",
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			name, err := one(cmd, "a pool's name")
			if err != nil {
				return err
			}
			p, err := s.getPool(ctx, name)
			if err != nil {
				return err
			}
			if done, err := s.out.value(p); done {
				return err
			}
			var rows [][]cell
			add := func(group string, in []api.Member) {
				for _, m := range in {
					rows = append(rows, []cell{{text: group}, {text: m.Slot}, {text: m.State}, verdictCell(m.Verdict), {text: m.Tail, style: bold}, {text: m.Bay}, {text: decimal(m.SizeBytes), right: true},
						{text: fmt.Sprintf("%d/%d/%d", m.Errors.Read, m.Errors.Write, m.Errors.Checksum), right: true}})
				}
			}
			for _, g := range p.Groups {
				add(g.Name+", "+g.Protection, g.Members)
			}
			add("spare", p.Spares)
			add("log device", p.Logs)
			if s.out.format == "table" {
				s.out.line("%s  %s  %s%s", s.out.paint(p.Name, bold), p.Kind, s.out.paint(p.Margin.Words, bold), map[bool]string{true: ", as last heard " + p.SeenAt.Local().Format("2006-01-02 15:04:05")}[p.Stale])
				s.out.line("%s of %s used, seen %s", decimal(p.UsedBytes), decimal(p.CapacityBytes), p.SeenAt.Local().Format("2006-01-02 15:04:05"))
			}
			if err := s.out.table([]string{"GROUP", "SLOT", "STATE", "VERDICT", "TAIL", "BAY", "SIZE", "ERRORS R/W/CHECKSUM"}, rows); err != nil || s.out.format == "csv" {
				return err
			}
			rows = nil
			for _, v := range p.Volumes {
				rows = append(rows, []cell{{text: v.Name}, {text: v.Protection}, {text: v.Margin.Words}, {text: decimal(v.UsedBytes), right: true}})
			}
			s.out.line("")
			return s.out.table([]string{"VOLUME", "PROTECTION", "MARGIN", "USED"}, rows)
		})}
}

func (s *session) getPool(ctx context.Context, name string) (api.Pool, error) {
	res, err := s.client.GetPoolWithResponse(ctx, name)
	if err != nil {
		return api.Pool{}, unreachable(err)
	}
	return got(res.JSON200, res, res.Body)
}

// poolAction makes a command that orders something for a pool and waits for what came of it.
func poolAction(name, use, eg string, action api.PoolActionAction) *cli.Command {
	return &cli.Command{Name: name, Usage: use, ArgsUsage: "<pool>", Description: "Example: " + eg,
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			pool, err := one(cmd, "a pool's name")
			if err != nil {
				return err
			}
			return s.actOnPool(ctx, pool, api.PoolAction{Action: action})
		})}
}

func scrubCommand() *cli.Command {
	return poolAction("scrub", "read a pool through and repair what is damaged", "lantern scrub tidegauge", api.PoolActionActionScrub)
}
func rebalanceCommand() *cli.Command {
	return poolAction("rebalance", "spread a pool's data evenly over its members", "lantern rebalance tidegauge", api.PoolActionActionRebalance)
}
func stopCommand() *cli.Command {
	return poolAction("stop", "stop the scrub or rebalance that runs in a pool", "lantern stop tidegauge", api.PoolActionActionStop)
}

func admitCommand() *cli.Command {
	return &cli.Command{Name: "admit", Usage: "add an empty drive to a pool as a further member", ArgsUsage: "<pool> <drive>", Description: "Example: lantern admit tidegauge 7F412 --tail 7F412",
		Flags: []cli.Flag{&cli.StringFlag{Name: "tail", Required: true, Usage: "label tail, as read on the drive"}},
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			if cmd.Args().Len() != 2 {
				return usage("lantern admit needs a pool and a drive\nExample: %s", example(cmd))
			}
			return s.actOnPool(ctx, cmd.Args().Get(0), api.PoolAction{Action: api.PoolActionActionAdmit, Drive: cmd.Args().Get(1), Tail: cmd.String("tail")})
		})}
}

func (s *session) actOnPool(ctx context.Context, pool string, a api.PoolAction) error {
	res, err := s.client.ActOnPoolWithResponse(ctx, pool, nil, a)
	if err != nil {
		return unreachable(err)
	}
	o, err := got(res.JSON202, res, res.Body)
	if err != nil {
		return err
	}
	fmt.Fprintf(s.errOut, "ordered; waiting for what %s observes\n", o.Host)
	for o.State == api.OrderStateWaiting {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(150 * time.Millisecond):
		}
		res, err := s.client.GetOrderWithResponse(ctx, o.Id)
		if err != nil {
			return unreachable(err)
		}
		if o, err = got(res.JSON200, res, res.Body); err != nil {
			return err
		}
	}
	if done, err := s.out.value(o); done && o.State == api.OrderStateDone {
		return err
	}
	switch o.State {
	case api.OrderStateDone:
		s.out.line("%s: %s", pool, o.Says)
		return nil
	case api.OrderStateRefused:
		return &Failure{ExitRefused, fmt.Sprintf("%s refused: %s", o.Host, o.Says)}
	}
	return &Failure{ExitFailed, fmt.Sprintf("%s on %s %s: %s", a.Action, o.Host, o.State, o.Says)}
}

func hostCommand() *cli.Command {
	list := with(func(ctx context.Context, s *session, _ *cli.Command) error {
		res, err := s.client.ListHostsWithResponse(ctx)
		if err != nil {
			return unreachable(err)
		}
		all, err := got(res.JSON200, res, res.Body)
		if err != nil {
			return err
		}
		if done, err := s.out.value(all); done {
			return err
		}
		if len(all) == 0 && s.out.format == "table" {
			s.out.line("No host is enrolled. Begin with: lantern host enrol <name>")
			return nil
		}
		var rows [][]cell
		for _, h := range all {
			seen := "never"
			if !h.SeenAt.IsZero() {
				seen = h.SeenAt.Local().Format("2006-01-02 15:04:05")
			}
			rows = append(rows, []cell{{text: h.Name, style: bold}, {text: string(h.State)}, {text: strconv.Itoa(h.Drives), right: true}, {text: seen}})
		}
		return s.out.table([]string{"HOST", "STATE", "DRIVES", "LAST REPORT"}, rows)
	})
	return &cli.Command{Name: "host", Aliases: []string{"hosts"}, Usage: "list hosts, or enrol one", Description: "Example: lantern host enrol skerry", Action: list,
		Commands: []*cli.Command{
			{Name: "list", Usage: "list hosts", Description: "Example: lantern host list", Action: list},
			{Name: "enrol", Usage: "make a host known and print its token, once", ArgsUsage: "<name>", Description: "Example: lantern host enrol skerry",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					name, err := one(cmd, "the host's name")
					if err != nil {
						return err
					}
					res, err := s.client.EnrolHostWithResponse(ctx, api.Enrol{Name: name})
					if err != nil {
						return unreachable(err)
					}
					e, err := got(res.JSON201, res, res.Body)
					if err != nil {
						return err
					}
					if done, err := s.out.value(e); done {
						return err
					}
					s.out.line("%s", e.Token)
					fmt.Fprintf(s.errOut, "This token is shown only this once. On %s: LANTERN_HOST_TOKEN=… lantern agent --host %s --server …\n", name, name)
					return nil
				})},
		}}
}

func findCommand() *cli.Command {
	return &cli.Command{Name: "find", Usage: "find drives, pools, hosts and bays by any part of their names", ArgsUsage: "<text>", Description: "Example: lantern find 412",
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			q, err := one(cmd, "what to look for")
			if err != nil {
				return err
			}
			res, err := s.client.SearchWithResponse(ctx, &api.SearchParams{Q: q})
			if err != nil {
				return unreachable(err)
			}
			hits, err := got(res.JSON200, res, res.Body)
			if err != nil {
				return err
			}
			if done, err := s.out.value(hits); done {
				return err
			}
			if len(hits) == 0 && s.out.format == "table" {
				s.out.line("Nothing has %q in its name.", q)
				return nil
			}
			var rows [][]cell
			for _, h := range hits {
				rows = append(rows, []cell{{text: string(h.Kind)}, {text: h.Title, style: bold}, {text: h.Detail}})
			}
			return s.out.table([]string{"KIND", "NAME", "WHERE"}, rows)
		})}
}
