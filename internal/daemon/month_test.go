package daemon

import (
	"io"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/agent"
	"lantern/internal/agent/pools"
	"lantern/internal/api"
	"lantern/internal/core/pool"
	"lantern/internal/lab"
)

// TestMonth lets the demo's fleet live through December, in steps of a quarter of an hour, with service, agents and
// loopback. The tests in the drives' own logs are compared with the plans.
func TestMonth(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes half a minute")
	}
	dir := t.TempDir()
	const step = 15 * time.Minute
	begin := time.Date(2026, 11, 30, 6, 0, 0, 0, time.UTC)
	fleet, err := lab.Open(filepath.Join(dir, "lab.json"), begin, 0, lab.HeronPoint(0))
	require.NoError(t, err)
	c := Demo{Serve: Serve{Listen: "127.0.0.1:0", Data: dir, Out: io.Discard, Log: slog.New(slog.DiscardHandler)}}
	r, err := c.start(t.Context(), fleet.Clock(), fleet)
	require.NoError(t, err)
	defer func() { require.NoError(t, r.stop()) }()
	limits := api.PlanLimits{Group: 1, Pool: 2, Enclosure: 4, Host: 5}
	covers := []api.PlanScope{{Kind: api.PlanScopeKindFleet}}
	_, err = r.service.Selftests.SetPlan(
		"ida",
		"fleet",
		api.PlanChange{
			Covers:      covers,
			Zone:        "UTC",
			Limits:      limits,
			BusyPercent: 50,
			Windows:     []string{"daily 18:00-12:00"},
			Barred:      []string{"Sun 00:00-24:00"},
			RunOver:     true,
			Tests: []api.PlanTest{
				{Kind: api.PlanTestKindShort, Every: "every Monday 00:00"},
				{Kind: api.PlanTestKindExtended, Every: "every month on the 1st 00:00"},
			},
		},
	)
	require.NoError(t, err)
	var agents []*agent.Agent
	for _, h := range fleet.Hosts {
		token, err := r.service.Fleet.Enrol("ida", h.Name, false)
		require.NoError(t, err)
		client, err := Client(r.url, token)
		require.NoError(t, err)
		a, err := agent.New(
			agent.Config{
				Host:     h.Name,
				Machine:  h,
				Pools:    []pools.Driver{lab.Keeper{Fleet: fleet, Host: h.Name}},
				Client:   client,
				Clock:    fleet.Clock(),
				Log:      c.Log,
				Dir:      filepath.Join(dir, h.Name),
				Interval: step,
				ReadEach: 3 * time.Hour,
			},
		)
		require.NoError(t, err)
		agents = append(agents, a)
	}
	recovering := map[string][]time.Time{}                                      // when a pool was seen to recover
	off := func(now time.Time) bool { return now.Day() >= 9 && now.Day() < 12 } // guillemot, for three days
	end := time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)
	for now := begin; now.Before(end); now = fleet.Clock().Now() {
		for turn := range 2 { // they report, and then do what is due
			for i, a := range agents {
				if fleet.Hosts[i].Name != "guillemot" || !off(now) {
					require.NoError(t, a.Step(t.Context()))
				}
			}
			if turn == 0 {
				require.NoError(t, r.service.Tick())
			}
		}
		for _, p := range r.service.Views.AllPools() {
			if p.Recovery.State == api.RecoveryStateRunning {
				recovering[p.Name] = append(recovering[p.Name], now)
			}
		}
		fleet.Clock().Forward(step)
	}

	cal, err := r.service.Selftests.Calendar(begin, end)
	require.NoError(t, err)
	for _, m := range cal.Missed {
		t.Logf("missed: %s %s %s %s: %s", m.Tail, m.Bay, m.Kind, m.PeriodFrom, m.Why)
	}
	for _, m := range cal.Crowds {
		t.Log(m.Says)
	}
	// What shares what, as the lab has it.
	type use struct {
		name  string
		limit int
	}
	shares := map[string][]use{}
	in := map[string]string{}
	for _, p := range fleet.Pools {
		p.Everyone(func(group string, m *pool.Member) {
			in[m.Drive] = p.Name
			shares[m.Drive] = append(shares[m.Drive], use{"pool " + p.Name, limits.Pool})
			if group != "" {
				shares[m.Drive] = append(shares[m.Drive], use{"group " + p.Name + group, limits.Group})
			}
		})
	}
	running := map[string][]lab.Run{}
	limitOf := map[string]int{}
	extended, short := 0, 0
	for _, d := range fleet.Drives {
		key := d.Desc.Key()
		host := d.Stays[len(d.Stays)-1].Host
		weeks := map[int]int{}
		months := map[time.Month]int{}
		for i, run := range d.Runs {
			if i > 0 {
				require.False(t, run.From.Before(d.Runs[i-1].Until), "%s begins a test while another runs", key)
			}
			require.NotEqual(t, time.Sunday, run.From.Weekday(), "barred")
			require.False(t, run.From.Hour() >= 12 && run.From.Hour() < 18, "outside the window: %s", run.From)
			require.False(t, host == "guillemot" && off(run.From))
			for _, at := range recovering[in[key]] {
				require.False(t, at.Equal(run.From), "%s recovers", in[key])
			}
			for _, u := range append(shares[key], use{"host " + host, limits.Host}) {
				running[u.name] = append(running[u.name], run)
				limitOf[u.name] = u.limit
			}
			_, week := run.From.ISOWeek()
			if run.Number == 1 {
				weeks[week]++
				short++
			} else {
				months[run.From.Month()]++
				extended++
			}
		}
		if stay := d.Stays[len(d.Stays)-1]; !stay.To.IsZero() || len(d.Runs) == 0 {
			require.Less(t, len(d.Runs), 2, "only a drive that left is not tested")
			continue
		}
		for week := 50; week <= 52; week++ { // in week 49 some had been tested before the lab began
			require.Equal(t, 1, weeks[week], "%s %s, week %d: %v", d.Desc.Serial, host, week, d.Runs)
		}
		require.Equal(t, 1, months[time.December], "%s %s was tested as its plan says: %v", key, host, d.Runs)
	}
	for name, all := range running {
		for _, one := range all {
			n := 0
			for _, other := range all {
				if !one.From.Before(other.From) && one.From.Before(other.Until) {
					n++
				}
			}
			require.LessOrEqual(t, n, limitOf[name], "%s at %s", name, one.From)
		}
	}
	t.Logf("%d short and %d extended tests", short, extended)
	v, err := r.service.Selftests.TestStanding(api.GetTestStandingParams{})
	require.NoError(t, err)
	require.Zero(t, v.Counts["overdue"])
	require.Zero(t, v.Counts["never"])
	require.Equal(t, 1, v.Counts["failed"], "the drive that has a bad place fails its extended test again")
}
