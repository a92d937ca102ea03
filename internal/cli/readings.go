package cli

import (
	"bufio"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"iter"
	"net/http"
	"os"
	"slices"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/api"
)

// reading is one line of an export.
type reading struct {
	Drive   string      `json:"drive"`
	At      time.Time   `json:"at"`
	Metrics api.Metrics `json:"metrics"`
	// Pool and Group are optional, for judging: latencies are compared within a group.
	Pool  string `json:"pool,omitempty"`
	Group string `json:"group,omitempty"`
}

func readingsCommand() *cli.Command {
	return &cli.Command{
		Name:        "readings",
		Usage:       "list all metrics that are read from drives",
		Description: "Example: lantern readings export ZU006 --since 90d\n         lantern readings latest -o csv",
		Commands: []*cli.Command{
			{
				Name:      "export",
				Usage:     "print readings as JSON Lines, or CSV with --output csv",
				ArgsUsage: "[drive ...]",
				Description: "Example: lantern readings export ZU006 --since 90d > zu006.jsonl\n         lantern " +
					"--output csv readings export\n\nWithout a drive, those of all drives are printed. One " +
					"reading a line:\n{\"drive\":…,\"at\":RFC 3339,\"metrics\":{name:value}}",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "since", Value: "30d", Usage: "how far back: 12h, 90d, 6w or 2y"},
				},
				Action: listing(func(ctx context.Context, s *session, cmd *cli.Command) error {
					ago, err := back("--since", cmd.String("since"))
					if err != nil {
						return err
					}
					names := cmd.Args().Slice()
					if len(names) == 0 {
						all, err := s.drives(ctx, api.ListDrivesParams{})
						if err != nil {
							return err
						}
						for _, d := range all {
							names = append(names, d.Key)
						}
					}
					return s.export(ctx, names, ago)
				}),
			},
			{
				Name:  "latest",
				Usage: "print the newest values of all drives, one drive per line",
				Description: "Example: lantern readings latest > now.jsonl\n         lantern --output csv " +
					"readings latest",
				Action: listing(func(ctx context.Context, s *session, _ *cli.Command) error {
					return s.exportAll(
						func(yield func(*http.Response, error) bool) { yield(s.client.ClientInterface.GetLatestReadings(ctx)) },
					)
				}),
			},
			{
				Name:      "import",
				Usage:     "import readings of the past: JSON Lines, as printed by export",
				ArgsUsage: "<file or ->",
				Description: "Example: lantern readings import zu006.jsonl\n         lantern readings import - < zu006.jsonl\n\n" +
					"Drives must be known; what is " +
					"known of a drive at a time stays as it is.",
				Action: with(func(ctx context.Context, s *session, cmd *cli.Command) error {
					name, err := one(cmd, "a file, or - for standard input")
					if err != nil {
						return err
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
					v, err := ask[api.Imported](s.client.ImportReadingsWithBody(ctx, "application/jsonl", in))
					if err != nil {
						return err
					}
					if done, err := s.out.value(v); done && err != nil {
						return err
					} else if !done {
						s.out.line("%d readings imported, %d were known already", v.Taken, v.Known)
					}
					for _, r := range v.Refused {
						fmt.Fprintf(s.errOut, "line %d was refused: %s\n", r.Line, r.Why)
					}
					if len(v.Refused) > 0 {
						return &Failure{Code: ExitFailed, Says: "some lines were refused; the others were imported"}
					}
					return nil
				}),
			},
		},
	}
}

func (s *session) export(ctx context.Context, names []string, back time.Duration) error {
	return s.exportAll(func(yield func(*http.Response, error) bool) {
		for _, name := range names {
			if !yield(
				s.client.ClientInterface.GetReadings(ctx, name, &api.GetReadingsParams{Hours: int(back / time.Hour)}),
			) {
				return
			}
		}
	})
}

// exportAll prints the lines of several answers.
func (s *session) exportAll(answers iter.Seq2[*http.Response, error]) error {
	var table *csv.Writer
	if s.out.format == "csv" {
		table = csv.NewWriter(s.out.w)
		if err := table.Write([]string{"drive", "at", "metric", "value"}); err != nil {
			return err
		}
	}
	for res, err := range answers {
		if err != nil {
			return unreachable(err)
		}
		if res.StatusCode != 200 {
			body, _ := io.ReadAll(res.Body)
			res.Body.Close()
			return told(res.StatusCode, body)
		}
		err = s.exportOne(res.Body, table)
		res.Body.Close()
		if err != nil {
			return err
		}
	}
	if table != nil {
		table.Flush()
		return table.Error()
	}
	return nil
}

func (s *session) exportOne(body io.Reader, table *csv.Writer) error {
	if table == nil {
		_, err := io.Copy(s.out.w, body)
		return err
	}
	lines := bufio.NewScanner(body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var r reading
		if err := json.Unmarshal(lines.Bytes(), &r); err != nil {
			return err
		}
		var metrics []string
		for n := range r.Metrics {
			metrics = append(metrics, n)
		}
		slices.Sort(metrics)
		for _, n := range metrics {
			if err := table.Write(
				[]string{r.Drive, r.At.Format(time.RFC3339Nano), n, strconv.FormatFloat(r.Metrics[n], 'g', -1, 64)},
			); err != nil {
				return err
			}
		}
	}
	return lines.Err()
}
