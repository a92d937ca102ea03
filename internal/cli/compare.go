package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/recovery"
)

// mostCompared is how many recoveries fit side by side.
const mostCompared = 4

func compareCommand() *cli.Command {
	return &cli.Command{
		Name:      "compare",
		Usage:     "compare recoveries: duration, rate, waits and errors",
		ArgsUsage: "<id> <id> [id ...]",
		Description: "Example: lantern recoveries compare lab-02-tidegauge-1 lab-02-tidegauge-2\n" +
			"         lantern recoveries compare lab-02-tidegauge-1 lab-02-tidegauge-2 -o csv",
		Flags: tableFlags(),
		Action: listing(func(ctx context.Context, s *session, cmd *cli.Command) error {
			ids := cmd.Args().Slice()
			if len(ids) < 2 || len(ids) > mostCompared {
				return usage(
					"name two to %d recoveries by their ids: lantern recoveries --columns id,pool,kind,started\nExample: %s",
					mostCompared,
					example(cmd),
				)
			}
			var all []api.Recovery
			for _, id := range ids {
				r, err := ask[api.Recovery](s.client.GetRecovery(ctx, id))
				if err != nil {
					return err
				}
				all = append(all, r)
			}
			if s.out.format == "json" {
				_, err := s.out.value(all)
				return err
			}
			heads := []column{col("what")}
			for i, r := range all {
				heads = append(heads, col(fmt.Sprintf("recovery_%d", i+1)).as(r.Id).fold(16))
			}
			return list(s, compared(all), "", heads, func(row []cell) []cell { return row })
		}),
	}
}

// seenWell is the least number of samples for which a course's middle is shown.
const seenWell = 20

// compared are the rows of a comparison: a name, and the value of each recovery.
func compared(all []api.Recovery) (rows [][]cell) {
	cells := func(what string, of func(r api.Recovery, s []recovery.Sample) cell) {
		row := []cell{{text: what, style: dim}}
		for _, r := range all {
			row = append(row, of(r, samplesOf(r)))
		}
		if slices.ContainsFunc(row[1:], func(c cell) bool { return c.text != "" }) {
			rows = append(rows, row)
		}
	}
	add := func(what string, of func(r api.Recovery, s []recovery.Sample) string) {
		cells(what, func(r api.Recovery, s []recovery.Sample) cell { return cell{text: of(r, s)} })
	}
	lasted := func(d time.Duration) cell { return cell{text: span(d), raw: int64(d.Seconds())} }
	took := func(r api.Recovery) time.Duration {
		end := r.EndedAt
		if end.IsZero() {
			end = r.SeenAt
		}
		return end.Sub(r.StartedAt)
	}
	add("pool", func(r api.Recovery, _ []recovery.Sample) string { return r.Pool })
	add("kind", func(r api.Recovery, _ []recovery.Sample) string {
		return strings.TrimSpace(string(r.Kind) + " " + string(r.State) + " " + r.Tail)
	})
	cells("began", func(r api.Recovery, _ []recovery.Sample) cell { return timeCell(r.StartedAt, minutes) })
	cells("took (seconds)", func(r api.Recovery, _ []recovery.Sample) cell { return lasted(took(r)) })
	cells("data (bytes)", func(r api.Recovery, _ []recovery.Sample) cell {
		return cell{text: decimal(r.DoneBytes), raw: r.DoneBytes}
	})
	cells("mean rate (bytes a second)", func(r api.Recovery, _ []recovery.Sample) cell {
		d := took(r).Seconds()
		if d <= 0 {
			return cell{}
		}
		rate := int64(float64(r.DoneBytes) / d)
		return cell{text: decimal(rate) + "/s", raw: rate}
	})
	for _, share := range []float64{0.25, 0.5, 0.75} {
		cells(fmt.Sprintf("%.0f %% after (seconds)", 100*share), func(r api.Recovery, s []recovery.Sample) cell {
			i := slices.IndexFunc(
				s,
				func(x recovery.Sample) bool { return x.Todo > 0 && float64(x.Done) >= share*float64(x.Todo) },
			)
			if i < 0 || len(s) < seenWell {
				return cell{}
			}
			return lasted(s[i].At.Sub(r.StartedAt))
		})
	}
	cells("longest pause (seconds)", func(_ api.Recovery, s []recovery.Sample) cell {
		if len(s) < seenWell {
			return cell{}
		}
		return lasted(recovery.LongestPause(s))
	})
	add("found, repaired, not", func(r api.Recovery, _ []recovery.Sample) string {
		return fmt.Sprintf("%d, %d, %d", r.Found, r.Repaired, r.Unrepairable)
	})
	add("priorities", func(r api.Recovery, _ []recovery.Sample) string {
		var out []string
		for _, p := range r.Priorities {
			text := p.Priority
			if p.Rate > 0 {
				text += " " + decimal(int64(p.Rate)) + "/s"
			}
			if p.LatencySeconds > 0 {
				text += fmt.Sprintf(", reads %.1f ms", 1000*p.LatencySeconds)
			}
			out = append(out, text)
		}
		return strings.Join(out, "; ")
	})
	add("held up by", func(r api.Recovery, _ []recovery.Sample) string {
		if r.State != api.RecoveryStateRunning && r.State != api.RecoveryStatePaused {
			return r.Slowest
		}
		return strings.TrimSpace(r.Slowest + " " + r.Why)
	})
	return rows
}

func samplesOf(r api.Recovery) (out []recovery.Sample) {
	for _, x := range r.Course {
		out = append(out, recovery.Sample{At: x.At, Done: drive.Bytes(x.DoneBytes), Todo: drive.Bytes(x.TodoBytes)})
	}
	return out
}
