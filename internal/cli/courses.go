package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/recovery"
)

// exportCommand writes a recovery's course as JSON Lines.
func exportCommand() *cli.Command {
	return &cli.Command{
		Name:      "export",
		Usage:     "print the course of a recovery: time, bytes done and bytes to do, one line per moment",
		ArgsUsage: "<id>",
		Description: "Example: lantern recoveries export lab-02-tidegauge-1 > course.jsonl\n" +
			"         lantern recoveries export lab-02-tidegauge-1",
		Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
			id, err := one(cmd, "a recovery's id, as lantern recoveries lists them")
			if err != nil {
				return err
			}
			r, err := ask[api.Recovery](s.client.GetRecovery(ctx, id))
			if err != nil {
				return err
			}
			out := json.NewEncoder(s.out.w)
			for _, x := range r.Course {
				if err := out.Encode(x); err != nil {
					return err
				}
			}
			if r.Summary != "" {
				fmt.Fprintln(s.errOut, r.Summary)
			}
			return nil
		}),
	}
}

// said is the estimate of a recovery's finish at one moment.
type said struct {
	At        time.Time  `json:"at"`
	Share     float64    `json:"share"`
	RateNow   float64    `json:"rate_now"`
	Finish    *api.Range `json:"finish,omitempty"`
	Why       string     `json:"why,omitempty"`
	RuleOf3   time.Time  `json:"rule_of_three,omitzero"`
	Truth     time.Time  `json:"truth,omitzero"` // when it really ended, if the course has its end
	ErrorLeft float64    `json:"error_of_rest,omitempty"`
}

// replayCommand runs the estimator over a course.
func replayCommand() *cli.Command {
	return &cli.Command{
		Name:      "replay",
		Usage:     "replay the estimates of a recovery at each point of its course, without a service",
		ArgsUsage: "<file or ->",
		Description: "Example: lantern recoveries replay course.jsonl\n" +
			"         lantern recoveries replay course.jsonl -o csv\n\nEach line: " +
			"{\"at\":\"2026-03-01T00:00:00Z\",\"done_bytes\":1000,\"todo_bytes\":900000}",
		Flags: []cli.Flag{
			&cli.FloatFlag{Name: "every", Value: 5, Usage: "one line for each step of this many percent"},
			&cli.FloatFlag{
				Name:  "reach",
				Value: -1,
				Usage: "how far the data reach towards the innermost tracks, 0 to 1; default: unknown",
			},
		},
		Action: offline(func(s *session, cmd *cli.Command) error {
			name, err := one(cmd, "a file of a course, or -")
			if err != nil {
				return err
			}
			every := cmd.Float("every")
			if every <= 0 || every > 50 {
				return usage("--every takes more than 0 and up to 50 percent")
			}
			in := s.in
			if name != "-" {
				f, err := os.Open(name)
				if err != nil {
					return &Failure{Code: ExitFailed, Says: err.Error()}
				}
				defer f.Close()
				in = f
			}
			course, err := readCourse(in)
			if err != nil {
				return &Failure{Code: ExitFailed, Says: fmt.Sprintf("%s: %v", name, err)}
			}
			return list(
				s,
				replay(course, every/100, cmd.Float("reach")),
				"It never reached the first point.",
				[]column{
					col("done_percent").as("DONE"),
					col("at"),
					col("bytes_per_second").as("RATE NOW").spare(2),
					col("soonest"),
					col("likely"),
					col(
						"latest",
					),
					col("rule_of_three").as("RULE OF THREE").spare(1),
					col("off_by_percent").as("OFF BY"),
					col("why").fold(16),
				},
				func(x said) []cell {
					row := []cell{
						percentCell(x.Share),
						timeCell(x.At, "01-02 15:04:05"),
						rateCell(x.RateNow),
					}
					if x.Finish == nil {
						return append(row, cell{}, cell{}, cell{}, cell{}, cell{right: true}, cell{text: x.Why})
					}
					for _, t := range []time.Time{x.Finish.P10, x.Finish.P50, x.Finish.P90, x.RuleOf3} {
						row = append(row, timeCell(t, "01-02 15:04"))
					}
					off := cell{right: true, raw: ""}
					if !x.Truth.IsZero() {
						off.text, off.raw = fmt.Sprintf("%+.0f %%", 100*x.ErrorLeft), percent(x.ErrorLeft)
					}
					return append(row, off, cell{})
				},
			)
		}),
	}
}

// mostMoments is the greatest number of samples of a course.
const mostMoments = 2_000_000

// readCourse reads a course from JSON Lines.
func readCourse(in io.Reader) (out []recovery.Sample, err error) {
	lines := bufio.NewScanner(in)
	for n := 1; lines.Scan(); n++ {
		if len(lines.Bytes()) == 0 {
			continue
		}
		var x api.Sample
		if err := json.Unmarshal(lines.Bytes(), &x); err != nil {
			return nil, fmt.Errorf("line %d is not an entry of a course: %v", n, err)
		}
		switch {
		case x.At.IsZero() || x.DoneBytes < 0 || x.TodoBytes <= 0 || x.DoneBytes > x.TodoBytes:
			return nil, fmt.Errorf(
				"line %d: a moment has a time, and bytes done that are no more than the bytes to do",
				n,
			)
		case len(out) > 0 && !x.At.After(out[len(out)-1].At):
			return nil, fmt.Errorf("line %d is not later than the one before it", n)
		case len(out) == mostMoments:
			return nil, fmt.Errorf("a course has no more than %d moments", mostMoments)
		}
		out = append(out, recovery.Sample{At: x.At, Done: drive.Bytes(x.DoneBytes), Todo: drive.Bytes(x.TodoBytes)})
	}
	if len(out) == 0 && lines.Err() == nil {
		return nil, fmt.Errorf("it has no entries")
	}
	return out, lines.Err()
}

// replay gives the estimate at each point.
func replay(course []recovery.Sample, every, reach float64) (out []said) {
	last := course[len(course)-1]
	var truth time.Time
	if last.Done == last.Todo {
		truth = last.At
	}
	next := every
	for i, x := range course {
		share := float64(x.Done) / float64(x.Todo)
		if share < next-1e-9 {
			continue
		}
		for next <= share+1e-9 {
			next += every
		}
		v := recovery.Look(course[:i+1], recovery.Running, recovery.Known{Reach: reach}, x.At)
		one := said{At: x.At, Share: share, RateNow: v.RateNow, Why: v.Why, Truth: truth}
		if v.Finish != nil && share < 1 {
			one.Finish = &api.Range{P10: v.Finish.P10, P50: v.Finish.P50, P90: v.Finish.P90}
			gone := x.At.Sub(course[0].At).Seconds()
			one.RuleOf3 = x.At.Add(time.Duration(gone * (1 - share) / share * float64(time.Second)))
			if left := truth.Sub(x.At).Seconds(); left > 0 {
				one.ErrorLeft = v.Finish.P50.Sub(truth).Seconds() / left
			}
		}
		if share < 1 {
			out = append(out, one)
		}
	}
	return out
}
