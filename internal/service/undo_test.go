package service

import (
	"cmp"
	"database/sql"
	"encoding/json"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/store"
)

// shown is all that people are shown, as JSON, without the moments at which things were last seen.
func (b *bench) shown() string {
	b.t.Helper()
	page, err := b.s.Views.Drives(api.ListDrivesParams{})
	require.NoError(b.t, err)
	recoveries, err := b.s.Progress.Recoveries("", 0)
	require.NoError(b.t, err)
	notices, err := b.s.Notices.Notices(false)
	require.NoError(b.t, err)
	runs, err := b.s.Selftests.TestRuns("")
	require.NoError(b.t, err)
	layouts, err := b.s.Bays.Layouts(cmp.Or(b.renamed, "fulmar"))
	require.NoError(b.t, err)
	var drives []api.Drive
	for _, d := range page.Drives {
		one, err := b.s.Views.Drive(d.Key)
		require.NoError(b.t, err)
		drives = append(drives, one)
	}
	flagged, err := b.s.Views.Drives(api.ListDrivesParams{Verdict: []api.Verdict{api.Watch, api.Replace, api.Dead}})
	require.NoError(b.t, err)
	pools, _, err := b.s.Views.Pools(api.ListPoolsParams{Brief: true})
	require.NoError(b.t, err)
	round := b.s.Views.Round()
	round.Trouble = api.ServiceTrouble{} // the failed write is reported here, and is not part of what was known
	out, err := json.MarshalIndent(
		[]any{
			round,
			drives,
			flagged,
			pools,
			b.s.Views.Horizon(1),
			b.s.Views.Search("002"),
			b.s.Views.AllPools(),
			b.s.Views.Hosts(),
			recoveries,
			notices,
			runs,
			layouts,
			b.s.Swaps.Swaps(false),
			b.s.Swaps.Campaigns(),
			b.s.Bays.Lights(),
			b.s.Stock.Acceptances(),
			b.s.Stock.Stock(),
			b.s.Stock.AcceptPolicy(),
			b.s.Judging.Rules(),
			b.s.Selftests.Plans(),
			b.s.Notices.Channels(),
		},
		"",
		" ",
	)
	require.NoError(b.t, err)
	return regexp.MustCompile(
		`"(at|seen_at|age_seconds|skew_seconds|now|busy_percent)": [^\n]*`,
	).ReplaceAllString(
		string(out),
		"",
	)
}

// difference is where two texts begin to differ; empty when they do not.
func difference(a, b string) string {
	x, y := strings.Split(a, "\n"), strings.Split(b, "\n")
	for i := range max(len(x), len(y)) {
		if i >= len(x) || i >= len(y) || x[i] != y[i] {
			around := func(z []string) string { return strings.Join(z[min(len(z), max(0, i-6)):min(len(z), i+3)], "\n") }
			return around(x) + "\nand\n" + around(y)
		}
	}
	return ""
}

// free reports whether the lock can be had for reading.
func free(s *Service) bool {
	if !s.mu.TryRLock() {
		return false
	}
	s.mu.RUnlock()
	return true
}

// TestReadWhileWritten: while another process keeps the records from being written (for less than the five seconds
// after which a write fails), reports and requests of people wait, and what is known can be read. A report may be seen
// before it is written, a decision not.
func TestReadWhileWritten(t *testing.T) {
	b := newBench(t)
	b.s.Fleet.GraceUntil = time.Time{}
	other, err := sql.Open("sqlite", "file:"+b.file)
	require.NoError(t, err)
	defer other.Close()
	other.SetMaxOpenConns(1)
	during := func(change func() error, meanwhile func()) {
		_, err := other.Exec("begin immediate")
		require.NoError(t, err)
		writes, done := make(chan struct{}), make(chan error)
		b.s.Write = func(batches ...*store.Batch) error {
			close(writes)
			return b.store.Write(batches...)
		}
		go func() { done <- change() }()
		<-writes
		meanwhile()
		select {
		case err := <-done:
			require.Fail(t, "it was not written, and is done", "%v", err)
		default:
		}
		_, err = other.Exec("rollback")
		require.NoError(t, err)
		require.NoError(t, <-done)
	}
	b.report()
	b.clock.forward(time.Minute)
	b.drives[0].Reading = api.Reading{
		At:      b.clock.Now(),
		Metrics: map[string]float64{"pending_sectors": 40, "power_on_hours": 101},
	}
	report := b.next()
	during(func() error { return b.s.TakeReport("fulmar", report) }, func() {
		require.NotEmpty(t, b.drive("AA001").Findings)
	})
	require.NotEmpty(t, b.drive("AA001").Findings)

	during(func() error { _, err := b.s.Swaps.PlanSwap("ida", "AA001"); return err }, func() {
		require.False(t, free(b.s), "nobody sees a swap that is not recorded")
	})
	require.Len(t, b.s.Swaps.Swaps(true), 1)

	require.Panics(t, func() {
		b.s.mu.RLock()
		defer b.s.mu.RUnlock()
		_ = b.s.Commit(&store.Batch{})
	}, "who reads changes nothing")
}

// TestReadBesides: people read everything while reports come, drives go and pools change; in the end all is shown as it
// is after a restart. The race detector watches.
func TestReadBesides(t *testing.T) {
	b := newBench(t)
	b.s.Fleet.GraceUntil = time.Time{}
	ended := make(chan struct{})
	var readers sync.WaitGroup
	for range 3 {
		readers.Go(func() {
			for {
				select {
				case <-ended:
					return
				default:
					b.shown()
				}
			}
		})
	}
	all := slices.Clone(b.drives)
	for n := range 40 {
		b.drives = slices.Clone(all)
		for i := range b.drives {
			b.drives[i].Reading = api.Reading{
				At:      b.clock.Now(),
				Metrics: map[string]float64{"pending_sectors": float64((n + i) % 3 * 8), "power_on_hours": float64(100 + n)},
			}
		}
		b.pool.Groups[0].Members[2].State = "online"
		if n%4 == 3 {
			b.drives = b.drives[:2]
			b.pool.Groups[0].Members[2].State = "missing"
		}
		b.report()
		require.NoError(t, b.s.Tick())
	}
	close(ended)
	readers.Wait()
	before := b.shown()
	b.restart()
	b.s.Fleet.GraceUntil = time.Time{}
	require.Empty(t, difference(before, b.shown()), "after a restart it is as it was")
}

// TestNotWritten: whatever is done while nothing can be written changes nothing of what people are shown, and succeeds
// afterwards.
func TestNotWritten(t *testing.T) {
	b := newBench(t)
	b.s.Fleet.GraceUntil = time.Time{}
	b.drives = append(b.drives, b.disk("DD004", 4))
	var swap api.Swap
	var light api.Light
	report := func(change func()) func() error {
		done := false
		return func() error {
			if !done {
				change()
				done = true
			}
			return b.s.TakeReport("fulmar", b.next())
		}
	}
	recovery := func(state string, done int64) func() {
		return func() {
			b.pool.Recoveries = []api.RecoveryReport{
				{Id: "v1", Kind: "scrub", State: state, StartedAt: t0, DoneBytes: done, TodoBytes: 4e12},
			}
		}
	}
	steps := []struct {
		what string
		do   func() error
	}{
		{"a drive comes", report(func() {})},
		{"a reading", report(func() {
			b.drives[0].Reading = api.Reading{
				At:         b.clock.Now(),
				Metrics:    map[string]float64{"pending_sectors": 40, "power_on_hours": 101},
				Unreadable: []api.BadPage{{Kind: "ata-smart-data", Why: "checksum is wrong"}},
			}
		})},
		{"a scrub begins", report(recovery("running", 0))},
		{"it goes on", report(recovery("running", 1e12))},
		{"it ends", report(recovery("finished", 4e12))},
		{"a room", func() error { _, err := b.s.Views.SetRoom("ida", "fulmar", "north"); return err }},
		{"a threshold", func() error {
			_, err := b.s.Judging.SetThreshold("ida", api.ThresholdSet{Name: "burst_sectors", Value: 51})
			return err
		}},
		{"a rule", func() error {
			_, err := b.s.Judging.PutRule(
				"ida",
				"old-drive",
				api.RulePut{Expression: "power_on_hours > 50", Says: "is old", Verdict: api.Watch},
			)
			return err
		}},
		{"a light", func() (err error) {
			light, err = b.s.Bays.LightOn("ida", api.LightOn{Drive: "BB002", Seconds: 600})
			return err
		}},
		{"an outcome", func() error {
			for id := range b.s.Orders.Waiting {
				return b.s.TakeOutcome("fulmar", id, api.Outcome{State: "done", Says: "it blinks"})
			}
			return nil
		}},
		{"the light out", func() error { _, err := b.s.Bays.LightOff(light.Id); return err }},
		{"a layout", func() error {
			_, err := b.s.Bays.SetLayout(
				"ida",
				"fulmar",
				api.Layout{Name: "cage", Sections: []api.LayoutSection{{Name: "cage", Rows: 1, Columns: 2}}},
			)
			return err
		}},
		{"stock", func() error { _, err := b.s.Stock.KeepInStock("ida", "DD004", "bought"); return err }},
		{"a policy", func() error {
			_, err := b.s.Stock.SetAcceptPolicy("ida", api.AcceptPolicy{Extended: true})
			return err
		}},
		{"a test of a new drive", func() error {
			_, err := b.s.Stock.Accept("ida", api.AcceptDrive{Drive: "DD004", Extended: true})
			return err
		}},
		{"hours", func() error {
			_, err := b.s.Views.SetPriorityHours(
				"ida",
				"plankton",
				api.PriorityHours{From: "22:00", To: "06:00", Within: "high", Otherwise: "low"},
			)
			return err
		}},
		{"a channel", func() error {
			_, err := b.s.Notices.PutChannel(
				t.Context(),
				"ida",
				"pager",
				api.ChannelPut{
					Kind:   api.ChannelPutKindWebhook,
					Url:    "https://192.0.2.1/x",
					Secret: "k3y-of-the-pager",
					Least:  api.Watch,
				},
			)
			return err
		}},
		{"a swap", func() (err error) { swap, err = b.s.Swaps.PlanSwap("ida", "BB002"); return err }},
		{"its begin", func() error {
			_, err := b.s.Swaps.BeginSwap("ida", swap.Id, "", api.BeginSwap{Reason: "so", NoBackup: true})
			return err
		}},
		{"another report", report(func() {})},
		{"the drive is pulled", report(func() {
			b.drives = append(append([]api.DriveReport(nil), b.drives[:1]...), b.drives[2:]...)
			b.pool.Groups[0].Members[1].State = "missing"
		})},
		{"notices", b.s.Tick},
		{
			"it is given up",
			func() error { _, err := b.s.Swaps.ActOnSwap("abandon", "ida", swap.Id, "", "enough"); return err },
		},
		{"the host is quiet", b.s.Tick},
		{"and back", report(func() {})},
	}
	// What is being written may be read meanwhile, or not, and none of it stays.
	read := false
	b.s.Write = func(batches ...*store.Batch) error {
		if read = free(b.s); read {
			b.shown()
		}
		return b.store.Write(batches...)
	}
	reads := map[string]bool{}
	for _, x := range steps {
		if x.what == "the host is quiet" {
			b.clock.forward(10 * time.Minute)
		}
		before := b.shown()
		require.NoError(t, b.store.ReadOnly(true))
		b.s.Disk.Failed = ""
		require.Error(t, x.do(), x.what)
		reads[x.what] = read
		require.Empty(t, difference(before, b.shown()), "%s was not written, and is shown", x.what)
		require.NoError(t, b.store.ReadOnly(false))
		require.NoError(t, x.do(), x.what)
		require.NotEmpty(t, difference(before, b.shown()), "%s changes nothing", x.what)
	}
	for what, observed := range map[string]bool{
		"a drive comes":       true,
		"a reading":           true,
		"it goes on":          true,
		"and back":            true,
		"a room":              false,
		"a threshold":         false,
		"a light":             false,
		"an outcome":          false,
		"its begin":           false,
		"the drive is pulled": false, // it is a step of the swap
	} {
		require.Equal(t, observed, reads[what], "%s can be seen while it is written", what)
	}
	before := b.shown()
	b.restart()
	b.s.Fleet.GraceUntil = time.Time{}
	require.Empty(t, difference(before, b.shown()), "after a restart it is as it was")
}

// TestTakenOverInVain: a pool that another host reports, in a report that cannot be written, stays what it was, with
// the host that reported it before. If it were removed, its drives would look unused (R7).
func TestTakenOverInVain(t *testing.T) {
	b := newBench(t)
	_, err := b.s.Fleet.Enrol("test", "skerry", false)
	require.NoError(t, err)
	r := b.next()
	r.Host, r.Id = "skerry", "other"
	before := b.shown()
	require.NoError(t, b.store.ReadOnly(true))
	require.Error(t, b.s.TakeReport("skerry", r))
	require.NoError(t, b.store.ReadOnly(false))
	require.Empty(t, difference(before, b.shown()))
	p, err := b.s.Views.Pool("plankton")
	require.NoError(t, err)
	require.Equal(t, []string{"fulmar"}, p.Hosts)
	for _, tail := range []string{"AA001", "BB002", "CC003"} {
		d, err := b.s.Views.Drive(tail)
		require.NoError(t, err)
		require.Equal(t, "plankton", d.Pool, tail)
	}
	_, err = b.s.Stock.Accept("ida", api.AcceptDrive{Drive: "AA001", Surface: true, Tail: "AA001"})
	b.problem(err, "is-member", "is a member of plankton")
}
