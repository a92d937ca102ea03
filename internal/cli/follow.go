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
		Usage:       "resilvers, rebuilds, rebalances and scrubs, the newest first",
		Description: "Example: lantern recoveries --pool tidegauge",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "pool", Usage: "only of this pool"}},
		Commands:    []*cli.Command{exportCommand(), replayCommand()},
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			all, err := s.recoveries(ctx, cmd.String("pool"))
			if err != nil {
				return err
			}
			return list(
				s,
				all,
				"No recovery was seen yet.",
				[]string{"POOL", "KIND", "STATE", "DONE", "OF", "RATE", "TOOK", "FOUND/REPAIRED/LEFT", "BEGAN", "ID"},
				func(r api.Recovery) []cell {
					took := span(r.EndedAt.Sub(r.StartedAt))
					if r.EndedAt.IsZero() {
						took = "since " + span(r.SeenAt.Sub(r.StartedAt))
					}
					return []cell{
						{text: r.Pool, style: bold},
						{text: string(r.Kind)},
						{text: string(r.State)},
						{text: fmt.Sprintf("%.1f %%", 100*r.Share), right: true},
						{text: decimal(r.TodoBytes), right: true},
						{
							text:  decimal(int64(r.RateOverall)) + "/s",
							right: true,
						},
						{text: took, right: true},
						{text: fmt.Sprintf("%d/%d/%d", r.Found, r.Repaired, r.Unrepairable), right: true},
						{text: r.StartedAt.Local().Format("2006-01-02 15:04")},
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
		Usage:       "follow a pool's recovery live until it ends, or all that run",
		ArgsUsage:   "<pool>",
		Description: "Example: lantern follow soundscape\n         lantern follow --all",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "once", Usage: "print where it stands and end"},
			&cli.BoolFlag{Name: "all", Usage: "everything that runs, a line each"},
		},
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			if cmd.Bool("all") {
				return s.followAll(ctx, cmd.Bool("once"))
			}
			pool, err := one(cmd, "a pool's name")
			if err != nil {
				return err
			}
			return s.follow(ctx, pool, cmd.Bool("once"))
		}),
	}
}

// follow redraws whenever something happens; where the output is no terminal, it prints a line instead.
func (s *session) follow(ctx context.Context, pool string, once bool) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	happened := make(chan struct{}, 1)
	if !once {
		go s.listen(ctx, happened)
	}
	lines := 0
	quiet := false
	for {
		p, err := s.getPool(ctx, pool)
		if err != nil {
			return err
		}
		if p.Recovery.Id == "" {
			s.out.line("Nothing has moved in %s yet.", p.Name)
			return nil
		}
		// The whole of it, with its course, what each member gave, and the risk.
		if p.Recovery, err = ask[api.Recovery](s.client.GetRecovery(ctx, p.Recovery.Id)); err != nil {
			return err
		}
		r := p.Recovery
		// What must be put back is said before all else, whatever is followed.
		stops := s.stops(ctx)
		live := r.State == api.RecoveryStateRunning || r.State == api.RecoveryStatePaused
		if done, err := s.out.value(p); done && (once || !live) {
			return err
		} else if !done {
			s.out.again(lines)
			for _, stop := range stops {
				s.out.line("%s", s.out.paint("STOP  "+stop, loud))
			}
			if s.out.terminal || !live || once {
				lines = s.standing(p) + len(stops)
			} else if !quiet {
				s.recoveryLine(r, r.SeenAt)
			}
		}
		if once || !live {
			return nil
		}
		quiet = false
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-happened:
		case <-time.After(5 * time.Second):
			quiet = true // nothing happened; look again in case the stream was lost
		}
		// A burst of events is one redraw.
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// followAll redraws a line for each recovery that runs, until none does.
func (s *session) followAll(ctx context.Context, once bool) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	happened := make(chan struct{}, 1)
	if !once {
		go s.listen(ctx, happened)
	}
	lines := 0
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
			s.out.again(lines)
			stops := s.stops(ctx)
			for _, stop := range stops {
				s.out.line("%s", s.out.paint("STOP  "+stop, loud))
			}
			for _, r := range all {
				what := string(r.Kind)
				if r.Tail != "" {
					what += " of " + r.Tail
				}
				says := finish(r.SeenAt, r.Finish)
				if r.Why != "" {
					says = r.Why
				}
				s.out.line(
					"%s  %-22s %s %5.1f %%  %s/s  %s",
					s.out.paint(fmt.Sprintf("%-12s", r.Pool), bold),
					what,
					bar(r.Share, 20),
					100*r.Share,
					decimal(int64(r.RateNow)),
					says,
				)
			}
			lines = len(all) + len(stops)
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
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-happened:
		case <-time.After(5 * time.Second):
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// stops are the drives that must be put back at once.
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

// guard writes what must be put back as soon as it is told, while a command waits for somebody to type (R5).
func (s *session) guard(ctx context.Context) (end func()) {
	ctx, cancel := context.WithCancel(ctx)
	happened, done := make(chan struct{}, 1), make(chan struct{})
	happened <- struct{}{} // what stands already is said at once
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

// warn says on the error output what must be put back and was not said yet; a terminal rings.
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

// standing draws where a pool's recovery stands and says how many lines that took.
func (s *session) standing(p api.Pool) int {
	var b strings.Builder
	o := &printer{w: &b, format: "table", color: s.out.color}
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
				o.paint("it began again from its beginning at "+r.AgainAt.Local().Format("2006-01-02 15:04:05"), loud),
			)
		}
		o.line("  if      %s", cmp.Or(r.Cost, "what a second failure would cost is not known"))
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
	o.line("  margin  %s", o.paint(p.Margin.Words, bold))
	if p.Swap != "" {
		o.line("  swap    lantern swap show %s", p.Swap)
	}
	o.line("  %s", o.paint("seen "+r.SeenAt.Local().Format("2006-01-02 15:04:05"), dim))
	fmt.Fprint(s.out.w, b.String())
	return strings.Count(b.String(), "\n")
}

// listen tells of every event until ctx ends; a lost stream is taken up again where it broke off.
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
