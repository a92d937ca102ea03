package health_test

import (
	"fmt"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/cockroachdb/datadriven"
	"github.com/stretchr/testify/require"

	"lantern/internal/core/drive"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/health"
	"lantern/internal/core/history"
	"lantern/internal/core/notice"
	"lantern/internal/core/pool"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

// teller plays one drive: readings come in, findings, verdicts and notices come out.
type teller struct {
	t        *testing.T
	s        health.Subject
	limits   health.Thresholds
	at       time.Time
	standing []health.Standing
	values   map[drive.MetricName]float64
	last     string
	notices  []notice.Notice
	told     int
}

func newTeller(t *testing.T) *teller {
	x := &teller{
		t:      t,
		s:      health.Subject{Present: true, Member: pool.Online, Record: history.Record{}},
		limits: health.Usual(),
		at:     now,
		values: map[drive.MetricName]float64{},
	}
	x.s.CanTest, x.s.TestsTold, x.s.FirstAt = true, true, now
	x.s.Record.Add(now, map[drive.MetricName]float64{"power_cycles": 4}) // a value of its own
	return x
}

// judge evaluates now, and writes what changed.
func (x *teller) judge() string {
	x.s.LastAt = x.at
	x.standing = health.Settle(x.standing, health.Evaluate(&x.s, &x.limits), x.at)
	findings, verdict := health.Tell(x.standing, x.s.HostLate, x.at)
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n", verdict)
	for _, f := range findings {
		idle := ""
		if f.Idle {
			idle = ", idle"
		}
		fmt.Fprintf(&b, "  %s (%s, %s%s): %s. %s\n", f.Rule, f.Verdict, f.Strength, idle, f.Says, f.Do)
		if last := f.Evidence[len(f.Evidence)-1]; strings.HasPrefix(last.Says, "no longer true") {
			fmt.Fprintf(&b, "    %s\n", last.Says)
		}
	}
	// People get one notice, whatever is found.
	var changes []notice.Change
	x.notices, changes = notice.Update(
		x.notices,
		notice.OfDrives([]notice.Said{{Key: "it", Tail: "It", Findings: findings, Verdict: verdict}}),
		x.at,
		func() string { x.told++; return fmt.Sprint(x.told) },
	)
	for _, c := range changes {
		fmt.Fprintf(&b, "  notice %s %s\n", c.ID, c.Turn)
	}
	if whole := b.String(); len(changes) == 0 && whole == x.last {
		return ""
	}
	x.last, _, _ = strings.Cut(b.String(), "  notice ")
	return fmt.Sprintf("day %s: %s", strconv.FormatFloat(x.at.Sub(now).Hours()/24, 'f', 2, 64), b.String())
}

// read takes a reading of all values, as they are now.
func (x *teller) read() string {
	x.s.Record.Add(x.at, x.values)
	return x.judge()
}

func (x *teller) run(d *datadriven.TestData) string {
	var out strings.Builder
	lines := strings.Split(strings.TrimSpace(d.Input), "\n")
	switch d.Cmd {
	case "drive": // a new one
		*x = *newTeller(x.t)
		return ""
	case "threshold":
		for _, l := range lines {
			name, v, _ := strings.Cut(l, " ")
			n, err := strconv.ParseFloat(v, 64)
			require.NoError(x.t, err)
			if err := x.limits.Set(name, n); err != nil {
				fmt.Fprintln(&out, err)
			}
		}
		return out.String()
	case "read": // read [after=1h] [times=1]: lines of metric and value, or metric and +growth each time
		after, times := time.Hour, 1
		for _, a := range d.CmdArgs {
			var err error
			switch a.Key {
			case "after":
				after, err = time.ParseDuration(a.Vals[0])
			case "times":
				times, err = strconv.Atoi(a.Vals[0])
			}
			require.NoError(x.t, err)
		}
		for range times {
			x.at = x.at.Add(after)
			for _, l := range lines {
				name, v, ok := strings.Cut(l, " ")
				if !ok {
					continue
				}
				m, known := drive.MetricByName(drive.MetricName(name))
				require.True(x.t, known, name)
				n, err := strconv.ParseFloat(v, 64)
				require.NoError(x.t, err)
				if strings.HasPrefix(v, "+") {
					n += x.values[m.Name]
				}
				x.values[m.Name] = n
			}
			out.WriteString(x.read())
		}
	case "know": // facts besides its numbers
		for _, l := range lines {
			x.know(l)
		}
		out.WriteString(x.judge())
	default:
		x.t.Fatalf("%s: unknown command %s", d.Pos, d.Cmd)
	}
	if out.Len() == 0 {
		return "no change\n"
	}
	return out.String()
}

func (x *teller) know(line string) {
	what, rest, _ := strings.Cut(line, " ")
	var a, b float64
	var n int
	switch what {
	case "gone":
		x.s.Present, x.s.GoneAt = false, x.at
	case "back":
		x.s.Present = true
	case "quiet-host":
		x.s.HostLate = rest == "yes"
	case "contested":
		x.s.Contested = rest
	case "blind":
		x.s.Blind = rest
	case "unreadable":
		x.s.Bad = nil
		if rest != "" {
			x.s.Bad = &drive.Unreadable{Kind: drive.PageSmartData, Why: rest, Bytes: make([]byte, 512)}
		}
	case "failing":
		x.s.Failing = rest == "yes"
	case "warnings":
		x.s.Warnings = nil
		if rest != "" {
			x.s.Warnings = strings.Split(rest, ", ")
		}
	case "member":
		x.s.Member = pool.MemberState(rest)
	case "removed":
		x.s.Removed = rest == "yes"
	case "used":
		x.s.Used = rest == "yes"
	case "paths": // sda works, sdb gone
		x.s.Paths = nil
		for _, p := range strings.Split(rest, ", ") {
			name, state, _ := strings.Cut(p, " ")
			x.s.Paths = append(x.s.Paths, health.Path{Name: name, Works: state == "works", SeenAt: x.at})
		}
	case "filling":
		x.s.Filling = rest == "yes"
	case "peers":
		_, err := fmt.Sscanf(rest, "%d of %f apart %f", &n, &a, &b)
		require.NoError(x.t, err)
		x.s.Peers = health.Group{N: n, Median: a, MAD: b}
	case "neighbours":
		_, err := fmt.Sscanf(rest, "%d at %f apart %f", &n, &a, &b)
		require.NoError(x.t, err)
		x.s.Neighbours = health.Group{N: n, Median: a, MAD: b}
	case "bay":
		if k := len(x.s.Stays); k > 0 {
			x.s.Stays[k-1].To = x.at
		}
		x.s.Stays = append(x.s.Stays, health.Stay{Bay: rest, From: x.at})
	case "shift": // "shift moved: where it is, and where it was"
		kind, says, _ := strings.Cut(rest, ": ")
		x.s.Shift = health.Shift{Kind: enclosure.MoveKind(kind), Says: says, Do: "Go by the labels.", Since: x.at}
	case "bay-mates":
		x.s.BayMates = strings.Fields(rest)
	case "clean-scrub":
		x.s.CleanScrub = x.at
	case "sibling", "same-hours":
		x.s.Siblings = append(
			x.s.Siblings,
			health.Sibling{Tail: rest, Why: "same model", At: x.at, Hours: what == "same-hours"},
		)
	case "test":
		var kind, result string
		lba := int64(-1)
		_, _ = fmt.Sscanf(rest, "%s %s %d", &kind, &result, &lba)
		one := drive.SelfTest{
			Kind:   drive.SelfTestKind(kind),
			Result: drive.SelfTestResult(result),
			LBA:    lba,
			Hours:  int(x.values["power_on_hours"]) & 0xFFFF,
		}
		x.s.Tests = append([]drive.SelfTest{one}, x.s.Tests...)
	case "lies": // what its pool says about the address at which its test failed
		_, _ = fmt.Sscanf(rest, "%d", &x.s.FailedLBA)
		_, x.s.SectorHolds, _ = strings.Cut(rest, " ")
	case "stalled": // its self-test makes no progress from now on; "stalled no": it does again
		x.s.Stalled = x.at
		if rest == "no" {
			x.s.Stalled = time.Time{}
		}
	case "no-reading":
		clear(x.s.Record)
		x.s.TestsTold = false
	case "no-self-tests":
		x.s.CanTest = false
	default:
		x.t.Fatalf("nobody knows %q", line)
	}
}

// TestStories: readings come in, findings, verdicts and notices come out, a story or more for each rule.
func TestStories(t *testing.T) {
	told := map[string]bool{}
	datadriven.Walk(t, "testdata", func(t *testing.T, path string) {
		x := newTeller(t)
		datadriven.RunTest(t, path, func(_ *testing.T, d *datadriven.TestData) string {
			out := x.run(d)
			for _, s := range x.standing {
				told[s.Rule] = true
			}
			return out
		})
	})
	for _, r := range health.Rules() {
		require.True(t, told[r.ID], "no story has %s", r.ID)
		require.NotEmpty(t, r.Title)
		require.NotEmpty(t, r.When)
		require.NotEmpty(t, r.Why)
		require.NotEmpty(t, r.Do)
	}
}
