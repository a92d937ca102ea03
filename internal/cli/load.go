package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/link"
	"lantern/internal/load"
)

// mostHosts is the greatest number of simulated hosts on one machine: each has a connection.
const mostHosts = 20000

func labLoadCommand() *cli.Command {
	return &cli.Command{
		Name:  "load",
		Usage: "run a service under the load of a large fleet, and print how long agents and people waited",
		Description: "Example: lantern lab load --hosts 20 --drives 1200 --people 5 --for 1m\n" +
			"         lantern lab load --drives 100000 --hosts 1667 -o json\n\n" +
			"Made-up hosts report as agents do, made-up people look at pages and listen to events; now and then a drive\n" +
			"vanishes, once all drives of a host, and at the end all hosts report at once. It needs an empty service of its\n" +
			"own: hosts that are not made up are refused. make load starts one, and ends it.",
		Flags: append([]cli.Flag{
			&cli.IntFlag{Name: "hosts", Value: 167, Usage: "number of hosts"},
			&cli.IntFlag{Name: "drives", Value: 10000, Usage: "number of drives in all"},
			&cli.IntFlag{Name: "people", Value: 50, Usage: "number of people"},
			&cli.StringFlag{Name: "every", Value: "5m", Usage: "between two reports of a host"},
			&cli.StringFlag{Name: "for", Value: "10m", Usage: "duration of the load after all hosts have started"},
			&cli.Uint64Flag{Name: "seed", Value: 1, Usage: "the same seed makes the same fleet"},
			&cli.StringFlag{Name: "metrics", Usage: "address of the service's metrics, if not /metrics"},
		}, tableFlags()...),
		Action: listing(labLoad),
	}
}

// labLoad is the action of lantern lab load.
func labLoad(ctx context.Context, s *session, cmd *cli.Command) error {
	c, err := loadConfig(s, cmd)
	if err != nil {
		return err
	}
	out, err := load.Run(ctx, c)
	switch {
	case errors.Is(err, load.ErrNotYours):
		return &Failure{Code: ExitRefused, Says: err.Error() + "\nStart one with an empty folder, or run: make load"}
	case err != nil:
		return err
	}
	if done, err := s.out.value(out); done {
		return err
	}
	if err := s.out.table([]column{
		col("what").fold(20), col("times"), col("failed"), col("median_seconds").as("MEDIAN"),
		col("p99_seconds").as("99 OF 100"), col("longest_seconds").as("LONGEST"), col("last_error").more(),
	}, waitRows(out.Waits)); err != nil || s.out.format == "csv" {
		return err
	}
	for _, w := range out.Waits {
		if w.Failed > 0 {
			s.out.line("%s failed %s, at last: %s", w.What, plural(w.Failed, "time"), w.LastError)
		}
	}
	s.out.line("")
	for _, p := range []struct {
		name string
		load.Phase
	}{{"first report of all hosts", out.Filling}, {"one after another", out.Steady}, {"all at once", out.Rush}} {
		s.out.line(
			"%s: %d reports, %d readings in %.1f s (%.0f readings a second); the service took %.0f %% of a core",
			p.name, p.Reports, p.Readings, p.Seconds, float64(p.Readings)/max(p.Seconds, 1e-9), 100*p.Cores(),
		)
		if p.Stolen.Most >= 0.01 {
			s.out.line("  meanwhile other virtual machines took %.0f %% of the processors' time, at most %.0f %% in 10 s: "+
				"times are longer by that", 100*p.Stolen.Mean, 100*p.Stolen.Most)
		}
	}
	s.out.line("at the end the service held %s of memory", decimal(int64(out.MemoryBytes)))
	return nil
}

// loadConfig is the load that is asked for.
func loadConfig(s *session, cmd *cli.Command) (c load.Config, err error) {
	server, token, trust, err := settings(cmd)
	if err != nil {
		return c, err
	}
	c = load.Config{
		Server: server, Token: token, Says: s.errOut, Metrics: cmd.String("metrics"), Seed: cmd.Uint64("seed"),
		Hosts: cmd.Int("hosts"), Drives: cmd.Int("drives"), People: cmd.Int("people"),
	}
	if c.Every, err = ParseDuration(cmd.String("every")); err != nil {
		return c, usage("--every: %v", err)
	}
	if c.For, err = ParseDuration(cmd.String("for")); err != nil {
		return c, usage("--for: %v", err)
	}
	switch {
	case c.Hosts < 1 || c.Hosts > mostHosts:
		return c, usage("--hosts is 1 to %d, not %d", mostHosts, c.Hosts)
	case c.Drives < c.Hosts || c.Drives > 1000*c.Hosts:
		return c, usage("--drives is one to 1000 for each host, not %d for %d hosts", c.Drives, c.Hosts)
	case c.People < 1 || c.People > 1000:
		return c, usage("--people is 1 to 1000, not %d", c.People)
	case c.Every < 5*time.Second || c.For < time.Second || c.For > 24*time.Hour:
		return c, usage("--every is 5s or longer, --for is 1s to 24h")
	}
	if c.Transport, err = link.Transport(server, trust); err != nil {
		return c, usage("%v", err)
	}
	return c, nil
}

// waitRows are the waits as cells.
func waitRows(all []load.Row) (out [][]cell) {
	wait := func(d time.Duration) cell {
		return cell{text: fmt.Sprintf("%.1f ms", float64(d)/float64(time.Millisecond)), right: true, raw: d.Seconds()}
	}
	for _, w := range all {
		out = append(out, []cell{
			{text: w.What}, countCell(w.Count), countCell(w.Failed), wait(w.Median), wait(w.P99), wait(w.Longest),
			{text: w.LastError},
		})
	}
	return out
}
