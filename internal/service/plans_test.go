package service

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/selftest"
	"lantern/internal/service/problem"
	"lantern/internal/service/selftests"

	"github.com/cockroachdb/datadriven"
	"github.com/stretchr/testify/require"
)

// testHost is a host whose drives do what they are told: a test takes the time that the drive reports, and is written
// into its log.
type testHost struct {
	*bench
	t0      time.Time
	running map[string]*ranTest // by tail
	logs    map[string][]api.SelfTest
	takes   map[string]map[string]int // minutes
	stuck   map[string]bool
	busy    float64
	off     bool
	told    map[string]string // the last words about an item
}

type ranTest struct {
	kind string
	from time.Time
}

func newTestHost(t *testing.T) *testHost {
	h := &testHost{
		bench:   newBench(t),
		running: map[string]*ranTest{},
		logs:    map[string][]api.SelfTest{},
		takes:   map[string]map[string]int{},
		stuck:   map[string]bool{},
		told:    map[string]string{},
	}
	h.t0 = h.clock.Now()
	return h
}

func (h *testHost) hours() int { return 1000 + int(h.clock.Now().Sub(h.t0).Hours()) }

// step lets ten minutes pass, and gives what became of tests in them.
func (h *testHost) step() []string {
	now := h.clock.Now()
	if !h.off {
		for i := range h.drives {
			d := &h.drives[i]
			tail := strings.TrimPrefix(d.Identity.Serial, "KH3")
			takes := h.takes[tail]
			if takes == nil {
				takes = map[string]int{"short": 2, "extended": 240}
			}
			r := api.Reading{
				At:          now,
				SelfTests:   true,
				Metrics:     map[string]float64{"power_on_hours": float64(h.hours())},
				TestMinutes: map[string]float64{"short": 2, "extended": 240},
			}
			if run := h.running[tail]; run != nil {
				whole := time.Duration(takes[run.kind]) * time.Minute
				left := run.from.Add(whole).Sub(now)
				switch {
				case h.stuck[tail]:
					r.Testing = api.Testing{RemainingPercent: 50}
				case left > 0:
					r.Testing = api.Testing{RemainingPercent: max(1, int(100*left/whole))}
				default:
					h.ends(tail, "passed")
				}
			}
			r.Tests = h.logs[tail]
			d.Reading, d.Busy = r, h.busy
		}
		r := h.next()
		r.IntervalSeconds = 600
		require.NoError(h.t, h.s.TakeReport("fulmar", r))
	}
	require.NoError(h.t, h.s.Tick())
	if !h.off {
		orders, err := h.s.Orders.TakeOrders(h.t.Context(), "fulmar", time.Millisecond)
		require.NoError(h.t, err)
		for _, o := range orders {
			tail := strings.TrimPrefix(o.Drive.Serial, "KH3")
			if o.On {
				require.Nil(h.t, h.running[tail], "a test begins while another runs")
				h.running[tail] = &ranTest{o.Test, now}
			} else if h.running[tail] != nil {
				h.ends(tail, "aborted")
			}
			require.NoError(
				h.t,
				h.s.TakeOutcome("fulmar", o.Id, api.Outcome{State: api.OutcomeStateDone, Says: "the drive accepted it"}),
			)
		}
	}
	out := h.changes()
	h.clock.forward(10*time.Minute - h.clock.Now().Sub(now))
	return out
}

func (h *testHost) ends(tail, result string) {
	h.logs[tail] = append(
		[]api.SelfTest{{Kind: h.running[tail].kind, Result: result, Hours: h.hours(), Lba: -1}},
		h.logs[tail]...)
	delete(h.running, tail)
}

// changes are what is new of planned tests since it was last asked.
func (h *testHost) changes() (out []string) {
	for i := range h.s.Selftests.Items {
		it := &h.s.Selftests.Items[i]
		if it.State == selftest.Planned && !it.Due(h.clock.Now()) {
			continue
		}
		says := string(it.State)
		if it.State == selftest.Planned {
			says = "held"
		}
		if it.Why != "" {
			says += ": " + it.Why
		}
		id := selftests.ItemID(it)
		if h.told[id] != says && says != "held" {
			h.told[id] = says
			out = append(
				out,
				fmt.Sprintf(
					"%s %s %s %s",
					h.clock.Now().Format("Mon 02 15:04"),
					h.s.Fleet.Drives[it.Drive].Tail(),
					it.Kind,
					says,
				),
			)
		}
	}
	slices.Sort(out)
	return out
}

// TestPlans tells stories of plans.
func TestPlans(t *testing.T) {
	datadriven.Walk(t, "testdata/plans", func(t *testing.T, path string) {
		h := newTestHost(t)
		datadriven.RunTest(t, path, func(t *testing.T, d *datadriven.TestData) string {
			out := h.command(d.Cmd, d)
			return strings.Join(append(out, ""), "\n")
		})
	})
}

func (h *testHost) command(cmd string, d *datadriven.TestData) (out []string) {
	switch cmd {
	case "plan": // plan <name>: lines of what is set
		change := api.PlanChange{
			Covers:  []api.PlanScope{{Kind: api.PlanScopeKindFleet}},
			Zone:    "UTC",
			Windows: []string{},
			Barred:  []string{},
			Limits:  api.PlanLimits{Group: 1},
		}
		for _, line := range strings.Split(d.Input, "\n") {
			what, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
			switch what {
			case "short", "extended":
				change.Tests = append(change.Tests, api.PlanTest{Kind: api.PlanTestKind(what), Every: rest})
			case "window":
				change.Windows = append(change.Windows, rest)
			case "bar":
				change.Barred = append(change.Barred, rest)
			case "zone":
				change.Zone = rest
			case "over":
				change.RunOver = true
			case "busy":
				change.BusyPercent, _ = strconv.ParseFloat(rest, 64)
			case "margin":
				change.LeastMargin, _ = strconv.Atoi(rest)
			case "pool", "host", "drive":
				change.Covers = []api.PlanScope{{Kind: api.PlanScopeKind(what), Name: rest}}
			}
		}
		p, err := h.s.Selftests.SetPlan("ida", d.CmdArgs[0].Key, change)
		if err != nil {
			return []string{problem.As(err).Error()}
		}
		return []string{fmt.Sprintf("%d drives: %s", p.Drives, p.Says)}
	case "remove":
		if err := h.s.Selftests.RemovePlan("ida", d.CmdArgs[0].Key); err != nil {
			return []string{problem.As(err).Error()}
		}
	case "planned": // what is planned for the next days, in order
		page, err := h.s.Selftests.PlannedTests(
			api.ListPlannedTestsParams{From: h.clock.Now(), To: h.clock.Now().AddDate(0, 0, 8)},
		)
		require.NoError(h.t, err)
		for _, t := range page.Tests {
			out = append(out, fmt.Sprintf("%s %s %s %s", t.At.UTC().Format("Mon 02 15:04"), t.Tail, t.Kind, t.State))
		}
		c, err := h.s.Selftests.Calendar(time.Time{}, time.Time{})
		require.NoError(h.t, err)
		for _, k := range c.Crowds {
			out = append(out, k.Says)
		}
	case "standing":
		v, err := h.s.Selftests.TestStanding(api.GetTestStandingParams{})
		require.NoError(h.t, err)
		for _, d := range v.Drives {
			out = append(
				out,
				fmt.Sprintf(
					"%s short %s, extended %s; %s (%s). %s",
					d.Tail,
					d.Short.Result,
					d.Extended.Result,
					d.Plan,
					d.PlanWhy,
					d.Says,
				),
			)
		}
	case "go": // go <duration>
		length, err := time.ParseDuration(d.CmdArgs[0].Key)
		require.NoError(h.t, err)
		for end := h.clock.Now().Add(length); h.clock.Now().Before(end); {
			out = append(out, h.step()...)
		}
	case "host":
		if h.off = d.HasArg("off"); !h.off {
			h.running = map[string]*ranTest{} // its power was cut
		}
	case "recovers":
		if h.pool.Recoveries = nil; !d.HasArg("over") {
			h.pool.Recoveries = []api.RecoveryReport{
				{
					Id:        "rec" + h.clock.Now().String(),
					Kind:      "scrub",
					State:     "running",
					StartedAt: h.clock.Now(),
					TodoBytes: 100,
				},
			}
		}
	case "busy":
		h.busy, _ = strconv.ParseFloat(d.CmdArgs[0].Key, 64)
	case "reset": // its bus, while it is tested
		tail := d.CmdArgs[0].Key
		if h.running[tail] != nil {
			h.ends(tail, "interrupted")
		}
	case "stuck":
		h.stuck[d.CmdArgs[0].Key] = !d.HasArg("no")
	case "slow": // its extended test takes so many minutes
		n, _ := strconv.Atoi(d.CmdArgs[1].Key)
		h.takes[d.CmdArgs[0].Key] = map[string]int{"short": 2, "extended": n}
	case "stop": // by hand
		_, err := h.s.Selftests.StopTests("bo", api.TestOrder{Drive: d.CmdArgs[0].Key})
		require.NoError(h.t, err)
	case "start":
		all, err := h.s.Selftests.StartTests(
			"bo",
			api.TestOrder{Drive: d.CmdArgs[0].Key, Kind: api.TestOrderKind(d.CmdArgs[1].Key)},
		)
		require.NoError(h.t, err)
		out = append(out, string(all[0].State)+": "+all[0].Says)
	case "new": // a drive comes
		tail := d.CmdArgs[0].Key
		h.drives = append(h.drives, h.disk(tail, len(h.drives)+1))
	case "gone":
		h.drives = slices.DeleteFunc(
			h.drives,
			func(r api.DriveReport) bool { return strings.HasSuffix(r.Identity.Serial, d.CmdArgs[0].Key) },
		)
		for i, tail := range []string{"AA001", "BB002", "CC003"} {
			h.pool.Groups[0].Members[i] = h.member(strconv.Itoa(i+1), tail)
		}
	case "restart":
		h.restart()
		h.clock.forward(10 * time.Minute)
	case "finding":
		v, err := h.s.Views.Drive(d.CmdArgs[0].Key)
		require.NoError(h.t, err)
		for _, f := range v.Findings {
			out = append(out, f.Rule+": "+f.Says)
		}
	default:
		h.t.Fatalf("nobody knows %q", cmd)
	}
	return out
}

// TestTakesAreLearned: how long a test of a drive took corrects what is planned for it, and for others of its model.
func TestTakesAreLearned(t *testing.T) {
	h := newTestHost(t)
	h.takes["AA001"] = map[string]int{"short": 2, "extended": 360}
	h.step()
	_, err := h.s.Selftests.StartTests("ida", api.TestOrder{Drive: "AA001", Kind: api.TestOrderKindExtended})
	require.NoError(t, err)
	for range 50 {
		h.step()
	}
	takes := func(tail string) time.Duration {
		d, err := h.s.Fleet.FindDrive(tail)
		require.NoError(t, err)
		return h.s.Selftests.TestTakes(d, drive.SelfTestExtended, h.s.Selftests.TestRatios())
	}
	require.Equal(
		t,
		6*time.Hour+41*time.Minute,
		takes("AA001"),
		"six hours, a tenth, and what passes until its end is known",
	)
	require.Equal(
		t,
		7*time.Hour+35*time.Minute,
		takes("BB002"),
		"of the same model: half as long again as it thinks, a quarter, and the same",
	)
}
