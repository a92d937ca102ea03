package cli

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

func recoveriesCommand() *cli.Command {
	return &cli.Command{
		Name:        "recoveries",
		Usage:       "list resilvers, rebuilds, rebalances and scrubs, newest first",
		Description: "Example: lantern recoveries --pool tidegauge\n         lantern recoveries -o csv",
		Flags: append(
			[]cli.Flag{&cli.StringSliceFlag{Name: "pool", Usage: "only this pool; may be repeated", Local: true}},
			tableFlags()...),
		Commands: []*cli.Command{exportCommand(), compareCommand(), replayCommand()},
		Action: listing(func(ctx context.Context, s *session, cmd *cli.Command) error {
			if err := s.knownNames(ctx, cmd); err != nil {
				return err
			}
			all, err := s.recoveries(ctx, "")
			if err != nil {
				return err
			}
			if pools := cmd.StringSlice("pool"); len(pools) > 0 {
				all = slices.DeleteFunc(all, func(r api.Recovery) bool { return !slices.Contains(pools, r.Pool) })
			}
			return list(
				s,
				all,
				"No recovery was seen yet.",
				[]column{col("pool"), col("kind"), col("state"), col("done_percent").as("DONE"), col("bytes").as("OF").spare(3),
					col("bytes_per_second").as("RATE").spare(2), col("took_seconds").as("TOOK"),
					col("found").spare(4), col("repaired").spare(5), col("left").spare(6), col("began"),
					col("ended").more(), col("id").spare(1)},
				func(r api.Recovery) []cell {
					took := spanCell(r.EndedAt.Sub(r.StartedAt))
					if r.EndedAt.IsZero() {
						took = spanCell(r.SeenAt.Sub(r.StartedAt))
						took.text = "since " + took.text
					}
					return []cell{
						{text: r.Pool, style: bold},
						{text: string(r.Kind)},
						{text: string(r.State)},
						percentCell(r.Share),
						bytesCell(r.TodoBytes),
						rateCell(r.RateOverall),
						took,
						countCell(r.Found),
						countCell(r.Repaired),
						countCell(r.Unrepairable),
						timeCell(r.StartedAt, minutes),
						timeCell(r.EndedAt, minutes),
						{text: r.Id, style: dim},
					}
				},
			)
		}),
	}
}

func (s *session) recoveries(ctx context.Context, pool string) ([]api.Recovery, error) {
	return ask[[]api.Recovery](s.client.ListRecoveries(ctx, &api.ListRecoveriesParams{Pool: pool}))
}

func followCommand() *cli.Command {
	return &cli.Command{
		Name:        "follow",
		Usage:       "follow a pool's recovery live until it ends, or all running ones",
		ArgsUsage:   "<pool>",
		Description: "Example: lantern follow soundscape\n         lantern follow --all",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "once", Usage: "print the state once and exit"},
			&cli.BoolFlag{Name: "all", Usage: "everything that runs, one line each"},
		},
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			if cmd.Bool("all") {
				return follower{s}.followAll(ctx, cmd.Bool("once"))
			}
			pool, err := one(cmd, "a pool's name")
			if err != nil {
				return err
			}
			return follower{s}.follow(ctx, pool, cmd.Bool("once"))
		}),
	}
}

// follower shows the progress of recoveries.
type follower struct{ *session }

// follow redraws after each event; if the output is no terminal, it prints a line instead.
func (s follower) follow(ctx context.Context, pool string, once bool) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	happened := make(chan struct{}, 1)
	if !once {
		go s.listen(ctx, happened)
	}
	quiet := false
	for {
		p, err := s.getPool(ctx, pool)
		if err != nil {
			return err
		}
		if p.Recovery.Id == "" {
			s.out.line("No drive has moved in %s yet.", p.Name)
			return nil
		}
		// The whole recovery, with its course, the part of each member, and the risk.
		if p.Recovery, err = ask[api.Recovery](s.client.GetRecovery(ctx, p.Recovery.Id)); err != nil {
			return err
		}
		r := p.Recovery
		// A drive that must be put back is shown first, whatever is followed.
		stops := s.stops(ctx)
		live := r.State == api.RecoveryStateRunning || r.State == api.RecoveryStatePaused
		if done, err := s.out.value(p); done && (once || !live) {
			return err
		} else if !done {
			frame := s.out.frame()
			for _, stop := range stops {
				s.out.line("%s", s.out.paint("STOP  "+stop, loud))
			}
			if s.out.moves() || !live || once {
				s.standing(p)
			} else if !quiet {
				s.followLine(p)
			}
			frame.show()
		}
		if once || !live {
			return nil
		}
		if quiet, err = awaitEvent(ctx, happened); err != nil {
			return err
		}
	}
}

// followAll redraws a line for each running recovery, until none runs.
func (s follower) followAll(ctx context.Context, once bool) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	happened := make(chan struct{}, 1)
	if !once {
		go s.listen(ctx, happened)
	}
	for {
		all, err := s.recoveries(ctx, "")
		if err != nil {
			return err
		}
		all = slices.DeleteFunc(all, func(r api.Recovery) bool {
			return r.State != api.RecoveryStateRunning && r.State != api.RecoveryStatePaused
		})
		if done, err := s.out.value(all); done && (once || len(all) == 0) {
			return err
		} else if !done {
			frame := s.out.frame()
			if !s.out.moves() && !once {
				s.out.line("%s", time.Now().Format("2006-01-02 15:04:05"))
			}
			for _, stop := range s.stops(ctx) {
				s.out.line("%s", s.out.paint("STOP  "+stop, loud))
			}
			for _, r := range all {
				s.movingLine(r)
			}
			frame.show()
		}
		if len(all) == 0 {
			if s.out.format == "table" {
				s.out.line("Nothing moves.")
			}
			return nil
		}
		if once {
			return nil
		}
		if _, err := awaitEvent(ctx, happened); err != nil {
			return err
		}
	}
}

// movingLine is the line of one recovery in a list of several.
func (s follower) movingLine(r api.Recovery) {
	what := string(r.Kind)
	if r.Tail != "" {
		what += " of " + r.Tail
	}
	s.out.line(
		"%s  %-22s %s %5.1f %%  %s/s  %s",
		s.out.paint(fmt.Sprintf("%-12s", r.Pool), bold),
		what,
		bar(r.Share, 20),
		100*r.Share,
		decimal(int64(r.RateNow)),
		cmp.Or(r.Why, finish(r.SeenAt, r.Finish)),
	)
}

// awaitEvent waits for an event and for the end of its burst: that is one redraw. After 5 s it returns in any case,
// with quiet, because the stream may be lost.
func awaitEvent(ctx context.Context, happened <-chan struct{}) (quiet bool, err error) {
	select {
	case <-ctx.Done():
		return false, ctx.Err()
	case <-happened:
	case <-time.After(5 * time.Second):
		quiet = true
	}
	select {
	case <-ctx.Done():
		return quiet, ctx.Err()
	case <-time.After(300 * time.Millisecond):
	}
	return quiet, nil
}

// stops are the drives that must be put back immediately (R5).
func (s *session) stops(ctx context.Context) (out []string) {
	round, err := ask[api.Round](s.client.GetRound(ctx))
	if err != nil {
		return nil
	}
	for _, u := range round.Underway {
		if u.Alarm != "" {
			out = append(out, u.Alarm)
		}
	}
	return out
}

// guard prints drives that must be put back as soon as they are reported, while a command waits for input (R5).
func (s *session) guard(ctx context.Context) (end func()) {
	ctx, cancel := context.WithCancel(ctx)
	happened, done := make(chan struct{}, 1), make(chan struct{})
	happened <- struct{}{} // alarms that are open already are printed immediately
	go s.listen(ctx, happened)
	go func() {
		defer close(done)
		said := map[string]bool{}
		for {
			select {
			case <-ctx.Done():
				return
			case <-happened:
			case <-time.After(5 * time.Second):
			}
			s.warn(ctx, said)
		}
	}()
	return func() { cancel(); <-done }
}

// warn prints new alarms on the error output, with a bell on a terminal.
func (s *session) warn(ctx context.Context, said map[string]bool) {
	now := map[string]bool{}
	for _, stop := range s.stops(ctx) {
		if now[stop] = true; !said[stop] {
			bell := map[bool]string{true: "\a", false: ""}[s.rings]
			fmt.Fprintf(s.errOut, "%s\nSTOP  %s\n", bell, stop)
		}
	}
	clear(said)
	maps.Copy(said, now)
}

// followLine is the progress of a pool's recovery in one line, with the pool's name and the time.
func (s follower) followLine(p api.Pool) {
	r := p.Recovery
	what := string(r.Kind)
	if r.Tail != "" {
		what += " of " + r.Tail
	}
	says := finish(r.SeenAt, r.Finish)
	if r.Stalled {
		says = "stalled: " + r.Why
	}
	s.out.line(
		"%s  %s  %s  %s, %.1f %%, %s/s, %s",
		r.SeenAt.Local().Format("2006-01-02 15:04:05"),
		p.Name,
		what,
		r.State,
		100*r.Share,
		decimal(int64(r.RateNow)),
		says,
	)
}

// standing draws the progress of a pool's recovery.
func (s *session) standing(p api.Pool) {
	o := s.out
	r := p.Recovery
	what := string(r.Kind)
	if r.Tail != "" {
		what += " of " + r.Tail
	}
	o.line("%s  %s  %s", o.paint(p.Name, bold), what, o.paint(string(r.State), good))
	o.line("  %s %5.1f %%   %s of %s", bar(r.Share, 48), 100*r.Share, decimal(r.DoneBytes), decimal(r.TodoBytes))
	switch r.State {
	case api.RecoveryStateRunning:
		o.line("  rate    %s/s now, %s/s overall", decimal(int64(r.RateNow)), decimal(int64(r.RateOverall)))
		if r.Stalled {
			o.line("  finish  %s", o.paint("stalled: "+r.Why, loud))
		} else if r.Finish.P50.IsZero() {
			o.line("  finish  not yet: %s", r.Why)
		} else {
			o.line("  finish  %s", finish(r.SeenAt, r.Finish))
			o.line(
				"          %s",
				o.paint("an estimate from the course so far: one in ten ends sooner, one in ten later", dim),
			)
		}
		if r.Phase != "" {
			o.line("  phase   %s", r.Phase)
		}
		if r.Slowest != "" {
			o.line("  slowest %s", r.Slowest)
		}
		if !r.AgainAt.IsZero() {
			o.line(
				"  %s",
				o.paint("it started again from the beginning at "+r.AgainAt.Local().Format("2006-01-02 15:04:05"), loud),
			)
		}
		o.line("  if      %s", cmp.Or(r.Cost, "effect of a second failure: unknown"))
		if k := r.Risk; k.Another != "" {
			o.line(
				"          chance that data is lost before the end: %s%s",
				k.Another,
				map[bool]string{true: "; to meet an unreadable sector: " + k.Unreadable}[k.Unreadable != ""],
			)
			if len(k.Volumes) > 0 {
				o.line("          what would go: %s", strings.Join(k.Volumes, ", "))
			}
		}
	default:
		o.line(
			"  took    %s",
			cmp.Or(
				r.Summary,
				fmt.Sprintf("%s, %s/s overall", span(r.EndedAt.Sub(r.StartedAt)), decimal(int64(r.RateOverall))),
			),
		)
	}
	o.line("  errors  %d found, %d repaired, %d left", r.Found, r.Repaired, r.Unrepairable)
	if says := prioritySays(p); says != "" {
		o.line("  users   %s", says)
	}
	o.line("  margin  %s", o.paint(p.Margin.Words, bold))
	if p.Swap != "" {
		o.line("  swap    lantern swap show %s", p.Swap)
	}
	o.line("  %s", o.paint("seen "+r.SeenAt.Local().Format("2006-01-02 15:04:05"), dim))
}

// listen passes on every event until ctx ends; a lost stream is continued after the last event.
func (s *session) listen(ctx context.Context, happened chan<- struct{}) {
	last := ""
	for ctx.Err() == nil {
		res, err := s.client.ClientInterface.StreamEvents(ctx, &api.StreamEventsParams{LastEventID: last})
		if err == nil && res.StatusCode == 200 {
			for lines := bufio.NewScanner(res.Body); lines.Scan(); {
				if id, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
					last = id
				}
				if strings.HasPrefix(lines.Text(), "data: ") {
					select {
					case happened <- struct{}{}:
					default:
					}
				}
			}
		}
		if err == nil {
			res.Body.Close()
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Second):
		}
	}
}
