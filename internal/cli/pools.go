package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func poolsCommand() *cli.Command {
	return &cli.Command{
		Name:        "pools",
		Usage:       "list pools, least margin first",
		Description: "Example: lantern pools\n         lantern pools --columns pool,margin",
		Flags:       tableFlags(),
		Action: listing(func(ctx context.Context, s *session, _ *cli.Command) error {
			all, err := ask[[]api.Pool](s.client.ListPools(ctx, &api.ListPoolsParams{Brief: s.out.format != "json"}))
			if err != nil {
				return err
			}
			return list(
				s,
				all,
				"No pool was reported yet. Agents report those of their hosts: lantern host list",
				[]column{col("pool"), col("kind").spare(1), col("margin").fold(20), col("margin_members").more(),
					col("used_percent").as("FULL"), col("used_bytes").more(), col("capacity_bytes").as("CAPACITY").spare(2),
					col("hosts").fold(10).spare(3), col("under_way").as("UNDER WAY").fold(12),
					col("under_way_percent").more()},
				func(p api.Pool) []cell {
					st := plain
					if p.Margin.Known && p.Margin.Members < p.FullMargin {
						st = loud
					}
					words := p.Margin.Words + limitedBy(p.Margin)
					switch {
					case !p.NotSeenSince.IsZero():
						words, st = "unknown: not reported for "+span(time.Since(p.NotSeenSince)), loud
					case p.Wrong != "":
						words, st = "unknown: inconsistent report", loud
					case p.Stale:
						words += ", as last reported"
					}
					return []cell{
						{text: p.Name, style: bold},
						{text: p.Kind},
						{text: words, style: st},
						marginCell(p),
						fullCell(p),
						usedCell(p),
						bytesCell(p.CapacityBytes),
						{text: strings.Join(p.Hosts, " ")},
						{text: moving(p), raw: movingKind(p)},
						movingShare(p),
					}
				},
			)
		}),
	}
}

// limitedBy says what limits a margin, after its words.
func limitedBy(m api.Margin) string {
	if m.LimitedBy == "" {
		return ""
	}
	return ", limited by " + m.LimitedBy
}

// marginCell is how many members more a pool can lose, for programs: empty where that is not known.
func marginCell(p api.Pool) cell {
	if !p.Margin.Known || p.Stale || p.Wrong != "" || !p.NotSeenSince.IsZero() {
		return cell{raw: ""}
	}
	return countCell(p.Margin.Members)
}

// fullCell is the share of a pool that is in use.
func fullCell(p api.Pool) cell {
	if p.UsedUnknown || p.CapacityBytes == 0 {
		return cell{text: "unknown", right: true, raw: ""}
	}
	share := float64(p.UsedBytes) / float64(p.CapacityBytes)
	return cell{text: fmt.Sprintf("%.0f %%", 100*share), right: true, raw: percent(share)}
}

func usedCell(p api.Pool) cell {
	if p.UsedUnknown {
		return cell{text: "unknown", right: true, raw: ""}
	}
	return bytesCell(p.UsedBytes)
}

func moving(p api.Pool) string {
	if kind := movingKind(p); kind != "" {
		return fmt.Sprintf("%s %.1f %%", kind, 100*p.Recovery.Share)
	}
	return ""
}

// movingKind is the kind of a pool's running recovery; empty if none runs.
func movingKind(p api.Pool) string {
	if p.Recovery.State == api.RecoveryStateRunning || p.Recovery.State == api.RecoveryStatePaused {
		return string(p.Recovery.Kind)
	}
	return ""
}

func movingShare(p api.Pool) cell {
	if movingKind(p) == "" {
		return cell{raw: ""}
	}
	return percentCell(p.Recovery.Share)
}

func poolCommand() *cli.Command {
	return &cli.Command{
		Name:        "pool",
		Usage:       "show one pool: groups, members, volumes",
		ArgsUsage:   "<pool>",
		Description: "Example: lantern pool soundscape\n         lantern pool soundscape -o csv",
		Commands: []*cli.Command{
			poolAction(
				"forget",
				"forget a pool that no longer exists and that its host does not report",
				"lantern pool forget soundscape\n         lantern pool forget logbook",
				api.PoolActionActionForget,
			),
		},
		Flags: tableFlags(),
		Action: listing(func(ctx context.Context, s *session, cmd *cli.Command) error {
			name, err := one(cmd, "a pool's name")
			if err != nil {
				return err
			}
			p, err := s.getPool(ctx, name)
			if err != nil {
				return err
			}
			if len(s.out.choice.columns) == 0 {
				if done, err := s.out.value(p); done {
					return err
				}
			}
			var rows [][]cell
			add := func(group, protection string, in []api.Member) {
				for _, m := range in {
					rows = append(
						rows,
						[]cell{
							{text: group},
							{text: protection},
							{text: m.Slot},
							{text: m.State},
							verdictCell(m.Verdict),
							{text: m.Tail, style: bold},
							{text: m.Bay},
							bytesCell(m.SizeBytes),
							{text: errorWords(m.Errors), right: true},
							{text: fmt.Sprint(m.Errors.Read), right: true, raw: m.Errors.Read},
							{text: fmt.Sprint(m.Errors.Write), right: true, raw: m.Errors.Write},
							{text: fmt.Sprint(m.Errors.Checksum), right: true, raw: m.Errors.Checksum},
						},
					)
				}
			}
			for _, g := range p.Groups {
				add(g.Name, g.Protection, g.Members)
			}
			add("spare", "", p.Spares)
			add("log device", "", p.Logs)
			if s.out.format == "table" {
				s.out.line(
					"%s  %s  %s%s",
					s.out.paint(p.Name, bold),
					p.Kind,
					s.out.paint(p.Margin.Words, bold)+limitedBy(p.Margin),
					map[bool]string{true: ", as last reported " + p.SeenAt.Local().Format("2006-01-02 15:04:05")}[p.Stale],
				)
				if len(p.Also) > 0 {
					s.out.line("also called %s", strings.Join(p.Also, ", "))
				}
				if p.Inconsistent {
					s.out.line(
						"%s",
						s.out.paint(
							"it changed while it was read, or is not plausible: what is shown may be inconsistent",
							loud,
						),
					)
				}
				switch {
				case !p.NotSeenSince.IsZero():
					s.out.line(
						"%s",
						s.out.paint(
							"not reported by its host since "+p.NotSeenSince.Local().Format(
								"2006-01-02 15:04:05",
							)+": what is shown is how it last was",
							loud,
						),
					)
				case p.Wrong != "":
					s.out.line("%s", s.out.paint("inconsistent report: "+p.Wrong, loud))
				}
				for _, d := range p.Witness.Differs {
					s.out.line("%s", s.out.paint("live view and on-disk metadata differ: "+d, loud))
				}
				if p.Watched {
					s.out.line("watch only: swaps in this pool have manual steps")
				}
				if says := prioritySays(p); says != "" {
					s.out.line("recoveries: %s", says)
				}
				used := decimal(p.UsedBytes)
				if p.UsedUnknown {
					used = "unknown"
				}
				s.out.line(
					"used: %s of %s, seen %s",
					used,
					decimal(p.CapacityBytes),
					p.SeenAt.Local().Format("2006-01-02 15:04:05"),
				)
			}
			if err := s.out.table(
				[]column{col("group").fold(12), col("protection").spare(2), col("slot"), col("state"), col("verdict"), col("tail"),
					col("bay"),
					col("size_bytes").as("SIZE").spare(1), col("errors").fold(8), col("read_errors").more(),
					col("write_errors").more(), col("checksum_errors").more()},
				rows,
			); err != nil || s.out.format != "table" || len(s.out.choice.columns) > 0 {
				return err
			}
			rows = nil
			for _, v := range p.Volumes {
				rows = append(
					rows,
					[]cell{
						{text: v.Name},
						{text: v.Protection},
						{text: v.Margin.Words + limitedBy(v.Margin)},
						bytesCell(v.UsedBytes),
					},
				)
			}
			s.out.line("")
			return s.out.table(
				[]column{col("volume"), col("protection"), col("margin").fold(16), col("used_bytes").as("USED")},
				rows,
			)
		}),
	}
}

// prioritySays is the priority of a pool's recoveries now, and by the hour; empty if it cannot be set.
func prioritySays(p api.Pool) string {
	if p.Priority == "" {
		return ""
	}
	says := "priority " + p.Priority + " now"
	if h := p.PriorityHours; h.From != "" {
		says += fmt.Sprintf(
			"; %s from %s to %s %s, %s otherwise",
			h.Within,
			h.From,
			h.To,
			cmp.Or(h.Zone, "UTC"),
			h.Otherwise,
		)
	}
	return says
}

// errorWords are a pool's own counters for a member.
func errorWords(e api.MemberErrors) string {
	var out []string
	for _, x := range []struct {
		n    int64
		what string
	}{{e.Read, "read"}, {e.Write, "write"}, {e.Checksum, "checksum"}} {
		if x.n > 0 {
			out = append(out, fmt.Sprintf("%d %s", x.n, x.what))
		}
	}
	if len(out) == 0 {
		return "none"
	}
	return strings.Join(out, ", ")
}

func (s *session) getPool(ctx context.Context, name string) (api.Pool, error) {
	return ask[api.Pool](s.client.GetPool(ctx, name))
}

// poolAction makes a command that gives an order for a pool and waits for its outcome.
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
	return poolAction(
		"scrub",
		"scrub a pool: read everything and repair damage",
		"lantern scrub logbook\n         lantern scrub soundscape",
		api.PoolActionActionScrub,
	)
}
func rebalanceCommand() *cli.Command {
	return &cli.Command{
		Name:        "rebalance",
		Usage:       "spread a pool's data evenly over its members",
		ArgsUsage:   "<pool>",
		Description: "Example: lantern rebalance specimens\n         lantern rebalance specimens --below 50",
		Flags: []cli.Flag{
			&cli.FloatFlag{
				Name:  "below",
				Usage: "only chunks that are less full than this, in percent, if the pool system supports it",
			},
		},
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			pool, err := one(cmd, "a pool's name")
			if err != nil {
				return err
			}
			below := cmd.Float("below")
			if below < 0 || below > 100 {
				return usage("--below takes 0 to 100 percent")
			}
			return s.actOnPool(ctx, pool, api.PoolAction{Action: api.PoolActionActionRebalance, Below: below / 100})
		}),
	}
}
func nudgeCommand() *cli.Command {
	return poolAction(
		"nudge",
		"start a recovery that waits",
		"lantern nudge tidegauge\n         lantern nudge driftnet",
		api.PoolActionActionNudge,
	)
}
func growCommand() *cli.Command {
	return poolAction(
		"grow",
		"grow a pool to the full size of members that were replaced by larger ones",
		"lantern grow tidegauge\n         lantern grow logbook",
		api.PoolActionActionGrow,
	)
}
func stopCommand() *cli.Command {
	return poolAction(
		"stop",
		"stop the scrub or rebalance that runs in a pool",
		"lantern stop logbook\n         lantern stop driftnet",
		api.PoolActionActionStop,
	)
}

func drainCommand() *cli.Command {
	return &cli.Command{
		Name:        "drain",
		Usage:       "drain a member: move its data to the others, so that it can be removed",
		ArgsUsage:   "<pool> <member>",
		Description: "Example: lantern drain specimens LV767\n         lantern drain driftnet CN261",
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			if cmd.Args().Len() != 2 {
				return usage("lantern drain needs a pool and a member\nExample: %s", example(cmd))
			}
			return s.actOnPool(
				ctx,
				cmd.Args().Get(0),
				api.PoolAction{Action: api.PoolActionActionDrain, Drive: cmd.Args().Get(1)},
			)
		}),
	}
}

func (s *session) actOnPool(ctx context.Context, pool string, a api.PoolAction) error {
	o, err := ask[api.Order](s.client.ActOnPool(ctx, pool, nil, a))
	if err != nil {
		return err
	}
	if a.Action == api.PoolActionActionForget {
		return tell(s, func(o api.Order) { s.out.line("%s", o.Says) }, o, nil)
	}
	fmt.Fprintf(s.errOut, "ordered; waiting for what %s observes\n", o.Host)
	return s.ordered(ctx, o, pool)
}

// ordered waits for the outcome of an order, and prints it.
func (s *session) ordered(ctx context.Context, o api.Order, on string) (err error) {
	for o.State == api.OrderStateWaiting {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(150 * time.Millisecond):
		}
		if o, err = ask[api.Order](s.client.GetOrder(ctx, o.Id)); err != nil {
			return err
		}
	}
	if done, err := s.out.value(o); done && o.State == api.OrderStateDone {
		return err
	}
	switch o.State {
	case api.OrderStateDone:
		s.out.line("%s: %s", on, o.Says)
		return nil
	case api.OrderStateRefused:
		return &Failure{Code: ExitRefused, Says: fmt.Sprintf("%s refused: %s", o.Host, o.Says)}
	}
	return &Failure{Code: ExitFailed, Says: fmt.Sprintf("%s on %s %s: %s", o.Kind, o.Host, o.State, o.Says)}
}
