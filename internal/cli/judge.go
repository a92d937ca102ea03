package cli

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"runtime"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/history"
)

func judgeCommand() *cli.Command {
	return &cli.Command{
		Name:  "judge",
		Usage: "run the rules over readings of the past; no service is needed",
		Description: "Example: lantern readings export --since 1y | lantern judge --readings -\n         " +
			"lantern judge --readings past.jsonl --labels failures.csv\n\n" +
			"Readings are JSON Lines, as export prints them: {\"drive\":…,\"at\":RFC " +
			"3339,\"metrics\":{name:value}}, those of each drive in\norder of time. Each change of verdict is " +
			"printed as a line. Labels are lines of drive,time: when a drive failed; with them\na last line " +
			"tells how many failures were predicted, how long before, and how many alarms were false.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "readings", Usage: "file of readings, or - for standard input"},
			&cli.StringFlag{Name: "labels", Usage: "file of drive,time: when each drive failed"},
			&cli.StringFlag{
				Name: "groups",
				Usage: "file of drive,pool,group: the peers for comparing latency; a reading may have " +
					"\"pool\" and \"group\" instead",
			},
		},
		Action: offline(func(s *session, cmd *cli.Command) error {
			if cmd.String("readings") == "" {
				return usage("lantern judge needs --readings <file or ->\nExample: %s", example(cmd))
			}
			in, done, err := s.open(cmd.String("readings"))
			if err != nil {
				return err
			}
			defer done()
			var labels map[string]time.Time
			if name := cmd.String("labels"); name != "" {
				f, done, err := s.open(name)
				if err != nil {
					return err
				}
				defer done()
				if labels, err = parseLabels(f); err != nil {
					return usage("%s: %s", name, err)
				}
			}
			var groups map[string]string
			if name := cmd.String("groups"); name != "" {
				f, done, err := s.open(name)
				if err != nil {
					return err
				}
				defer done()
				if groups, err = parseGroups(f); err != nil {
					return usage("%s: %s", name, err)
				}
			}
			return s.judge(in, labels, groups, cmd.String("labels") != "")
		}),
	}
}

// open opens a file; - is standard input.
func (s *session) open(name string) (io.Reader, func(), error) {
	if name == "-" {
		return s.in, func() {}, nil
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, nil, &Failure{Code: ExitFailed, Says: err.Error()}
	}
	return f, func() { f.Close() }, nil
}

// parseLabels reads lines of drive,time. Lines that begin with # and a header line are ignored.
func parseLabels(r io.Reader) (map[string]time.Time, error) {
	out := map[string]time.Time{}
	lines := bufio.NewScanner(r)
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(strings.TrimPrefix(lines.Text(), "\ufeff"))
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		name, when, ok := strings.Cut(line, ",")
		at, err := time.Parse(time.RFC3339, strings.TrimSpace(when))
		if err != nil {
			at, err = time.Parse(time.DateOnly, strings.TrimSpace(when))
		}
		switch {
		case ok && err == nil:
			out[strings.TrimSpace(name)] = at
		case n == 1 && ok:
		default:
			return nil, fmt.Errorf("line %d: %q is not drive,time such as KH3AB123,2026-05-01T08:00:00Z", n, line)
		}
	}
	return out, lines.Err()
}

// replayed is the state of one drive while its past is judged.
type replayed struct {
	*health.Replay
	flagged time.Time // when it was first flagged replace
	rule    string
	last    time.Time
	group   string
}

// parsed is one decoded line; why says why it cannot be judged.
type parsed struct {
	nr      int
	reading reading
	metrics map[drive.MetricName]float64
	why     string
}

// batch is a number of lines in order; done is closed when all are decoded.
type batch struct {
	first int
	text  [][]byte
	lines []parsed
	done  chan struct{}
}

const batchLines = 400

// parse decodes lines on all processors and passes them on in their order. It ends early when stop is closed.
func parse(in io.Reader, stop <-chan struct{}) (<-chan *batch, func() error) {
	ordered, work := make(chan *batch, 8), make(chan *batch, 8)
	var failed error
	for range runtime.GOMAXPROCS(0) {
		go func() {
			for b := range work {
				for i, text := range b.text {
					if len(bytes.TrimSpace(text)) > 0 {
						p := parsed{nr: b.first + i}
						if err := json.Unmarshal(text, &p.reading); err != nil {
							p.why = err.Error()
						} else {
							p.metrics, p.why = known(p.reading)
						}
						b.lines = append(b.lines, p)
					}
				}
				b.text = nil
				close(b.done)
			}
		}()
	}
	go func() {
		defer close(ordered)
		defer close(work)
		lines := bufio.NewScanner(in)
		lines.Buffer(nil, 1<<24)
		b := &batch{first: 1, done: make(chan struct{})}
		send := func() bool {
			select {
			case ordered <- b:
			case <-stop:
				return false
			}
			work <- b
			return true
		}
		for n := 1; lines.Scan(); n++ {
			text := lines.Bytes()
			if n == 1 {
				text = bytes.TrimPrefix(
					text,
					[]byte("\xef\xbb\xbf"),
				) // a byte-order mark, as some editors put before the first line
			}
			b.text = append(b.text, bytes.Clone(text))
			if len(b.text) == batchLines {
				if !send() {
					return
				}
				b = &batch{first: n + 1, done: make(chan struct{})}
			}
		}
		failed = lines.Err()
		if len(b.text) > 0 {
			send()
		}
	}()
	return ordered, func() error { return failed }
}

// peers are the newest latencies of the members of each group.
type peers map[string]map[string]history.Point

// of gives those of a drive's group that are no older than a day.
func (p peers) of(group, name string, at time.Time) health.Group {
	var values []float64
	for other, x := range p[group] {
		if other != name && at.Sub(x.At()) < 24*time.Hour {
			values = append(values, x.Value)
		}
	}
	return health.Robust(values)
}

func (s *session) judge(in io.Reader, labels map[string]time.Time, groups map[string]string, tally bool) error {
	j := judgement{
		limits: health.Usual(), drives: map[string]*replayed{}, labels: labels, groups: groups,
		out: json.NewEncoder(s.out.w), errOut: s.errOut, beside: peers{},
	}
	stop := make(chan struct{})
	defer close(stop)
	batches, failed := parse(in, stop)
	for b := range batches {
		<-b.done
		for _, p := range b.lines {
			if err := j.line(p); err != nil {
				return err
			}
		}
	}
	if err := failed(); err != nil {
		return &Failure{Code: ExitFailed, Says: err.Error()}
	}
	if tally {
		if err := s.tally(j.out, j.drives, labels); err != nil {
			return err
		}
	}
	if j.refused > 20 {
		fmt.Fprintf(s.errOut, "and %d more lines\n", j.refused-20)
	}
	if j.refused > 0 {
		return &Failure{Code: ExitFailed, Says: "some lines were skipped; the others were judged"}
	}
	return nil
}

// judgement is the state of judging a stream of readings.
type judgement struct {
	limits  health.Thresholds
	drives  map[string]*replayed
	labels  map[string]time.Time // when a drive failed
	groups  map[string]string    // its pool and group
	beside  peers
	refused int
	out     *json.Encoder
	errOut  io.Writer
}

func (j *judgement) refuse(n int, why string) {
	if j.refused++; j.refused <= 20 {
		fmt.Fprintf(j.errOut, "line %d was skipped: %s\n", n, why)
	}
}

// line judges one reading, and writes what changes.
func (j *judgement) line(p parsed) error {
	r := p.reading
	if p.why != "" {
		j.refuse(p.nr, p.why)
		return nil
	}
	d := j.drives[r.Drive]
	if d == nil {
		d = &replayed{Replay: health.NewReplay(&j.limits), group: j.groups[r.Drive]}
		j.drives[r.Drive] = d
	}
	if r.Group != "" {
		d.group = r.Pool + "/" + r.Group
	}
	if !d.last.IsZero() && !r.At.After(d.last) {
		j.refuse(p.nr, "it is not newer than the line before of the same drive")
		return nil
	}
	if failed, ok := j.labels[r.Drive]; ok && r.At.After(failed) {
		return nil // readings after the failure predict nothing
	}
	d.last = r.At
	if latency, ok := p.metrics["read_latency_seconds"]; ok && d.group != "" {
		d.Peers = j.beside.of(d.group, r.Drive, r.At)
		if j.beside[d.group] == nil {
			j.beside[d.group] = map[string]history.Point{}
		}
		j.beside[d.group][r.Drive] = history.PointAt(r.At, latency)
	}
	c, changed := d.Read(r.At, p.metrics)
	if !changed {
		return nil
	}
	c.Drive = r.Drive
	if d.flagged.IsZero() && c.Verdict.Gravity() >= health.Replace.Gravity() {
		d.flagged, d.rule = c.At, c.Findings[0].Rule
	}
	return j.out.Encode(c)
}

// parseGroups reads lines of drive,pool,group. Lines that begin with # and a header line are ignored.
func parseGroups(r io.Reader) (map[string]string, error) {
	out := map[string]string{}
	lines := bufio.NewScanner(r)
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(strings.TrimPrefix(lines.Text(), "\ufeff"))
		if line == "" || strings.HasPrefix(line, "#") || n == 1 && strings.HasPrefix(strings.ToLower(line), "drive,") {
			continue
		}
		f := strings.Split(line, ",")
		if len(f) != 3 || strings.TrimSpace(f[0]) == "" || strings.TrimSpace(f[2]) == "" {
			return nil, fmt.Errorf("line %d: %q is not drive,pool,group such as KH3AB123,soundscape,group 1", n, line)
		}
		out[strings.TrimSpace(f[0])] = strings.TrimSpace(f[1]) + "/" + strings.TrimSpace(f[2])
	}
	return out, lines.Err()
}

// known gives a reading's metrics if all are in the catalogue, else the reason why it cannot be judged.
func known(r reading) (map[drive.MetricName]float64, string) {
	if r.Drive == "" || r.At.IsZero() || len(r.Metrics) == 0 {
		return nil, "it needs a drive, a time and metrics"
	}
	out := make(map[drive.MetricName]float64, len(r.Metrics))
	for n, v := range r.Metrics {
		m, ok := drive.MetricByName(drive.MetricName(n))
		if !ok {
			return nil, fmt.Sprintf("no metric %q; did you mean %s?", n, drive.Nearest(n))
		}
		if why := m.Implausible(v); why != "" {
			return nil, fmt.Sprintf("%s: %s", n, why)
		}
		out[drive.MetricName(n)] = v
	}
	return out, ""
}

func (s *session) tally(out *json.Encoder, drives map[string]*replayed, labels map[string]time.Time) error {
	var t health.Tally
	for name, d := range drives {
		t.Add(d.FirstAt, d.LastAt, labels[name], d.flagged, d.rule)
	}
	unseen := []string{}
	for name := range labels {
		if drives[name] == nil {
			unseen = append(unseen, name)
		}
	}
	hours := func(q float64) float64 { return t.Lead(q).Hours() }
	return out.Encode(
		map[string]any{"tally": map[string]any{
			"drives":              t.Drives,
			"failures":            t.Failures,
			"flagged_before":      t.Flagged,
			"flagged_48_h_before": t.InTime,
			"median_lead_hours": hours(
				0.5,
			),
			"tenth_percentile_lead_hours":        hours(0.1),
			"sound_drive_years":                  t.SoundFor,
			"false_replace":                      t.False,
			"false_replace_per_1000_drive_years": t.FalsePer1000(),
			"by_rule":                            t.ByRule,
			"false_by_rule":                      t.FalseRule,
			"labels_without_readings":            unseen,
		}},
	)
}
