package service

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"lantern/internal/api"
	"lantern/internal/clock"
	"lantern/internal/core/drive"
	"lantern/internal/core/swap"
	"lantern/internal/service/ledger"
	"lantern/internal/service/people"
	"lantern/internal/service/problem"
	"lantern/internal/service/readings"
	"lantern/internal/service/swaps"
	"lantern/internal/store"

	"github.com/stretchr/testify/require"
)

var t0 = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

// standing is a clock that is moved by hand.
type standing struct {
	mu sync.Mutex
	at time.Time
}

func (c *standing) Now() time.Time                             { c.mu.Lock(); defer c.mu.Unlock(); return c.at }
func (c *standing) Sleep(context.Context, time.Duration) error { return nil }
func (c *standing) AtLeast(d, _ time.Duration) time.Duration   { return d }

func (c *standing) forward(
	d time.Duration,
) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.at = c.at.Add(d)
}

var _ clock.Clock = (*standing)(nil)

// bench is a service without a network, one host and a mirror.
type bench struct {
	t     *testing.T
	clock *standing
	file  string
	store *store.Store
	s     *Service
	n     int
	// What the host will report.
	drives []api.DriveReport
	pool   api.PoolReport
	more   []api.PoolReport // further pools

	renamed string // the later name of the host
}

func newBench(t *testing.T) *bench {
	b := &bench{t: t, clock: &standing{at: t0}, file: filepath.Join(t.TempDir(), "lantern.db")}
	b.open()
	_, err := b.s.Fleet.Enrol("test", "fulmar", false)
	require.NoError(t, err)
	for i, tail := range []string{"AA001", "BB002", "CC003"} {
		b.drives = append(b.drives, b.disk(tail, i+1))
	}
	b.pool = api.PoolReport{
		Id:            "p1",
		Offers:        []string{"join", "admit", "rebalance", "priority", "grow"},
		Witness:       api.Witness{Source: "marks on the members", At: t0},
		Name:          "plankton",
		Kind:          "mirrors",
		CapacityBytes: 8e12,
		UsedBytes:     4e12,
		Volumes:       []api.VolumeReport{},
		Spares:        []api.MemberReport{},
		Logs:          []api.MemberReport{},
		Groups: []api.GroupReport{
			{
				Name:       "mirror",
				Protection: api.Protection{Words: "three-way mirror", Tolerance: 2},
				Members: []api.MemberReport{
					b.member("1", "AA001"),
					b.member("2", "BB002"),
					b.member("3", "CC003"),
				},
			},
		},
	}
	b.report()
	return b
}

func (b *bench) open() {
	var err error
	b.store, err = store.Open(b.file)
	require.NoError(b.t, err)
	b.t.Cleanup(func() { b.store.Close() })
	b.s, err = New(b.store, b.clock, slog.New(slog.DiscardHandler))
	require.NoError(b.t, err)
}

// restart stops the service and starts it again on the same records.
func (b *bench) restart() {
	require.NoError(b.t, b.store.Close())
	b.open()
}

func (b *bench) disk(tail string, bay int) api.DriveReport {
	d := api.DriveReport{
		Identity: api.Identity{
			Wwn:    "502abe7" + fmt.Sprintf("%09d", bay),
			Model:  "OSSFELL OF-8T",
			Serial: "KH3" + tail,
		},
		CapacityBytes: 8e12, LogicalSectorBytes: 512, Medium: "rotating",
		Section: "front",
		Bay:     bay,
		Path:    fmt.Sprintf("/dev/x%d", bay),
		Looked:  true,
	}
	d.Reading = api.Reading{
		At:      b.clock.Now(),
		Metrics: map[string]float64{"pending_sectors": 0, "power_on_hours": 100},
	}
	return d
}

func (b *bench) member(slot, tail string) api.MemberReport {
	for _, d := range b.drives {
		if strings.HasSuffix(d.Identity.Serial, tail) {
			return api.MemberReport{
				Slot:       slot,
				State:      "online",
				Drive:      "wwn-" + d.Identity.Wwn,
				Domain:     "fulmar",
				SizeBytes:  8e12,
				UsedBytes:  4e12,
				NeedsBytes: 8e12,
			}
		}
	}
	return api.MemberReport{Slot: slot, State: "missing", Domain: "fulmar", NeedsBytes: 8e12}
}

func (b *bench) next() api.Report {
	b.n++
	b.clock.forward(time.Second)
	return api.Report{
		Id:              fmt.Sprintf("r%d", b.n),
		Host:            "fulmar",
		At:              b.clock.Now(),
		IntervalSeconds: 30,
		Drives:          slices.Clone(b.drives),
		Pools:           append([]api.PoolReport{b.pool}, b.more...),
		Enclosures: []api.EnclosureReport{
			{
				Name: "chassis",
				Sections: []api.SectionReport{
					{Name: "front", Rows: 2, Columns: 6, First: "top-left", Run: "rows", Lit: []int{}},
				},
			},
		},
	}
}

func (b *bench) report() { require.NoError(b.t, b.s.TakeReport("fulmar", b.next())) }

func (b *bench) problem(err error, kind, words string) {
	b.t.Helper()
	require.Error(b.t, err)
	p := problem.As(err)
	require.Equal(b.t, kind, p.Type, p.Error())
	require.Contains(b.t, p.Error(), words)
}

func TestReportsThatAreRefused(t *testing.T) {
	b := newBench(t)
	r := b.next()
	require.NoError(t, b.s.TakeReport("fulmar", r))
	b.problem(b.s.TakeReport("fulmar", r), "used-id", "accepted before")
	r = b.next()
	b.problem(b.s.TakeReport("petrel", r), "unknown-host", "lantern host enrol")
	r.Host = "petrel"
	b.problem(b.s.TakeReport("fulmar", r), "unknown-host", "petrel")
	r = b.next()
	r.At, r.Past = r.At.Add(time.Hour), true
	b.problem(b.s.TakeReport("fulmar", r), "bad-clock", "Set the clock")
	r = b.next()
	r.IntervalSeconds = 0
	b.problem(b.s.TakeReport("fulmar", r), "bad-report", "not complete")
}

// TestQuietHost: a stopped agent's drives become unknown after two missed reports, with the time of the last one, and
// come back with it (R7).
func TestQuietHost(t *testing.T) {
	b := newBench(t)
	last := b.clock.Now()
	b.clock.forward(59 * time.Second)
	require.NoError(t, b.s.Tick())
	d, err := b.s.Views.Drive("AA001")
	require.NoError(t, err)
	require.Equal(t, api.Sound, d.Verdict, "one missed report is no reason")
	b.clock.forward(3 * time.Second)
	require.NoError(t, b.s.Tick())
	d, err = b.s.Views.Drive("AA001")
	require.NoError(t, err)
	require.Equal(t, api.Unknown, d.Verdict)
	require.Equal(t, "unknown-since", d.Findings[0].Rule)
	require.Equal(t, last, d.SeenAt)
	require.True(t, b.s.Views.AllPools()[0].Stale)
	require.Equal(t, api.HostStateQuiet, b.s.Views.Hosts()[0].State)
	round := b.s.Views.Round()
	require.Len(t, round.Lines, 3)
	require.Equal(t, api.Unknown, round.Lines[0].Verdict)
	_, err = b.s.Bays.LightOn("ida", api.LightOn{Drive: "AA001", Seconds: 60})
	b.problem(err, "host-quiet", "does not report")
	w, err := b.s.Swaps.PlanSwap("ida", "AA001")
	require.NoError(t, err)
	_, err = b.s.Swaps.BeginSwap("ida", w.Id, "", api.BeginSwap{Reason: "", NoBackup: true})
	b.problem(err, "check-stops", "stopped reporting")
	b.report()
	d, _ = b.s.Views.Drive("AA001")
	require.Equal(t, api.Sound, d.Verdict)
}

// TestFullDisk: nothing is half written, nothing is shown that was not kept, and it goes on when there is room.
func TestFullDisk(t *testing.T) {
	b := newBench(t)
	require.NoError(t, b.store.Limit(1)) // as it is now, it must not grow
	for i := range b.drives {
		b.drives[i].Reading.Unreadable = []api.BadPage{
			{Kind: "ata-smart-data", Why: "checksum is wrong", Bytes: make([]byte, 200_000)},
		}
	}
	r := b.next()
	err := b.s.TakeReport("fulmar", r)
	b.problem(err, "store-full", "nothing was lost")
	d, err := b.s.Views.Drive("AA001")
	require.NoError(t, err)
	require.Empty(t, d.Unreadable, "what was not kept is not shown")
	require.NoError(t, b.store.Limit(1<<20))
	require.NoError(t, b.s.TakeReport("fulmar", r), "the same report is taken when there is room")
	d, _ = b.s.Views.Drive("AA001")
	require.Len(t, d.Unreadable, 1)
	require.Equal(t, api.Unknown, d.Verdict, "a page that cannot be believed is not healthy")
}

// TestLateReports: what was kept on an agent's disk comes later, in any order, and concerns only the past.
func TestLateReports(t *testing.T) {
	b := newBench(t)
	var kept []api.Report
	for i := range 5 {
		for j := range b.drives {
			b.drives[j].Reading = api.Reading{
				At:      b.clock.Now(),
				Metrics: map[string]float64{"pending_sectors": float64(i * 2)},
			}
		}
		kept = append(kept, b.next())
		b.clock.forward(time.Hour)
	}
	gone := b.drives[:2]
	b.drives = gone
	b.report()
	for _, i := range []int{3, 0, 4, 2, 1} {
		require.NoError(t, b.s.TakeReport("fulmar", kept[i]))
	}
	d, err := b.s.Views.Drive("CC003")
	require.NoError(t, err)
	require.False(t, d.Present, "an old report brings nothing back")
	check := func() {
		trend, err := b.s.Views.Trend("AA001", "pending_sectors", 48)
		require.NoError(t, err)
		var values []float64
		for _, p := range trend.Points {
			values = append(values, p.Value)
		}
		require.Equal(t, []float64{0, 0, 2, 4, 6, 8}, values)
	}
	check()
	b.restart()
	check()
}

// TestLifeOfADrive: totals go on over resets, whatever order readings come in and whatever restarts; a drive that left
// the bus and came back by itself is counted; what happened to it is told.
func TestLifeOfADrive(t *testing.T) {
	b := newBench(t)
	say := func(crc, hours float64) {
		b.drives[0].Reading = api.Reading{
			At:      b.clock.Now(),
			Metrics: map[string]float64{"link_crc_errors": crc, "power_on_hours": hours},
			Tests:   []api.SelfTest{{Kind: "short", Result: "passed", Hours: 70_000 - 65_536 - 5, Lba: -1}},
		}
		b.report()
		b.clock.forward(time.Hour)
	}
	begun := b.clock.Now()
	say(0, 69_998)
	say(900, 69_999)
	late := b.next()
	late.Drives = slices.Clone(late.Drives)
	late.Drives[0].Reading = api.Reading{
		At:      b.clock.Now().Add(-90 * time.Minute),
		Metrics: map[string]float64{"link_crc_errors": 40},
	}
	say(10, 70_000)
	say(10, 70_000) // a second reading confirms it: the counter was reset
	metric := func() api.MetricValue {
		d, err := b.s.Views.Drive("AA001")
		require.NoError(t, err)
		for _, m := range d.Metrics {
			if m.Name == "link_crc_errors" {
				return m
			}
		}
		return api.MetricValue{}
	}
	require.Equal(t, 910.0, metric().Total)
	require.Equal(t, 1, metric().Resets)
	require.Equal(
		t,
		[]api.Growth{
			{Hours: 1, Grown: 0, Whole: true},
			{Hours: 24, Grown: 910},
			{Hours: 168, Grown: 910},
			{Hours: 2160, Grown: 910},
		},
		metric().Growth,
	)
	b.restart()
	require.Equal(t, 910.0, metric().Total)
	require.NoError(t, b.s.TakeReport("fulmar", late)) // 0, 40, 900, 10
	require.Equal(t, 910.0, metric().Total)
	late.Id, late.Drives[0].Reading.At, late.Drives[0].Reading.Metrics = "later", begun.Add(
		65*time.Minute,
	), map[string]float64{
		"link_crc_errors": 3,
	}
	require.NoError(t, b.s.TakeReport("fulmar", late)) // 0, 40, 900, 3, 10
	require.Equal(t, 910.0, metric().Total)
	require.Equal(t, 1, metric().Resets)

	all := b.drives
	drops := func(away time.Duration) float64 {
		b.drives = all[1:]
		b.clock.forward(time.Minute)
		b.report()
		b.clock.forward(away)
		b.drives = all
		b.report()
		d, err := b.s.Views.Drive("AA001")
		require.NoError(t, err)
		for _, m := range d.Metrics {
			if m.Name == "bus_drops" {
				return m.Value
			}
		}
		return 0
	}
	b.report()
	require.Equal(t, 1.0, drops(time.Minute))
	require.Equal(t, 1.0, drops(time.Hour), "hands take so long")
	require.Equal(t, 2.0, drops(time.Second))
	d, err := b.s.Views.Drive("AA001")
	require.NoError(t, err)
	said := map[string]int{}
	for i, h := range d.Happened {
		said[h.Says]++
		if i > 0 {
			require.False(t, h.At.After(d.Happened[i-1].At), "the newest first")
		}
		if h.Kind == api.HappeningKindTest {
			require.Equal(t, begun.Add(2*time.Hour-5*time.Hour), h.At, "16 bits of hours ran over once")
			require.True(t, h.About)
		}
	}
	require.Equal(t, 1, said["short self-test: passed"])
	require.Equal(t, 1, said["link_crc_errors was reset"])
	require.Equal(t, 3, said["AA001 came to bay fulmar/front/1"])
}

// TestRulesOfPeople: thresholds hold for all, a model or a pool; a rule that is switched off or removed lets go at
// once; an own rule is tried on the past, kept, and refused when it is not understood. All of it survives a restart.
func TestRulesOfPeople(t *testing.T) {
	b := newBench(t)
	say := func(pending, warm float64) {
		b.clock.forward(time.Hour)
		for i := range b.drives[:2] {
			b.drives[i].Reading = api.Reading{
				At:        b.clock.Now(),
				SelfTests: true,
				Metrics:   map[string]float64{"pending_sectors": pending, "temperature_celsius": warm},
			}
		}
		b.report()
	}
	verdict := func() api.Verdict {
		d, err := b.s.Views.Drive("AA001")
		require.NoError(t, err)
		return d.Verdict
	}
	say(0, 41)
	say(4, 46)
	say(4, 46) // so many at once count when a second reading confirms it
	require.Equal(t, api.Watch, verdict())
	d, err := b.s.Views.Drive("AA001")
	require.NoError(t, err)
	_, err = b.s.Judging.SetThreshold("ida", api.ThresholdSet{Name: "burst_sectors", Value: 3, Pool: d.Pool})
	require.NoError(t, err)
	require.Equal(t, api.Replace, verdict(), "its pool is handled with care")
	b.restart()
	require.Equal(t, api.Replace, verdict())
	probe, err := b.s.Judging.TryThreshold(api.ThresholdSet{Name: "burst_sectors", Value: 4})
	require.NoError(t, err)
	require.Contains(t, probe.Rules, "pending-sectors")
	require.NotEmpty(t, probe.Flagged)
	require.Equal(t, api.Replace, probe.Flagged[0].Would)
	none, err := b.s.Judging.TryThreshold(api.ThresholdSet{Name: "burst_sectors", Value: 40, Model: "no such model"})
	require.NoError(t, err)
	require.Zero(t, none.Drives)
	require.Equal(t, api.Replace, verdict(), "nothing was changed by trying")
	_, err = b.s.Judging.SetThreshold("ida", api.ThresholdSet{Name: "burst_sectors", Usual: true, Pool: d.Pool})
	require.NoError(t, err)
	require.Equal(t, api.Watch, verdict(), "a threshold that was set back leaves no verdict behind")
	b.restart()
	require.Equal(t, api.Watch, verdict(), "nor in the database")
	_, err = b.s.Judging.SetThreshold("ida", api.ThresholdSet{Name: "burst_sectors", Value: -1})
	b.problem(err, "bad-setting", "bounds")
	_, err = b.s.Judging.SetThreshold("ida", api.ThresholdSet{Name: "burst_sectors", Value: 1, Pool: "nowhere"})
	require.Error(t, err)
	_, err = b.s.Judging.PutRule("ida", "pending-sectors", api.RulePut{})
	require.NoError(t, err)
	require.Equal(t, api.Sound, verdict(), "nobody wants to hear of it")
	_, err = b.s.Judging.PutRule("ida", "pending-sectors", api.RulePut{On: true})
	require.NoError(t, err)
	require.Equal(t, api.Watch, verdict())

	tried, err := b.s.Judging.PutRule(
		"ida",
		"warm-and-growing",
		api.RulePut{
			Expression: "pending_sectors_24h > 2 && temperature_celsius > 45",
			Says:       "is warm, and has new bad sectors",
			Verdict:    api.Replace,
		},
	)
	require.NoError(t, err)
	require.Len(t, tried.Flagged, 2)
	require.Equal(t, 2, tried.Flagged[0].Times)
	b.restart()
	require.Equal(t, api.Replace, verdict())
	d, err = b.s.Views.Drive("AA001")
	require.NoError(t, err)
	require.Equal(t, "is warm, and has new bad sectors", d.Findings[0].Says)
	require.Contains(t, d.Findings[0].Evidence[0].Says, "pending_sectors is 4 sectors")
	require.NoError(t, b.s.Judging.RemoveRule("ida", "warm-and-growing"))
	require.Equal(t, api.Watch, verdict())
	for kind, req := range map[string]api.RulePut{"bad-rule": {Expression: "pending_sector > 1", Says: "x",
		Verdict: api.Watch}, "no-words": {Expression: "true", Verdict: api.Watch},
		"bad-verdict": {Expression: "true", Says: "x", Verdict: api.Dead}} {
		_, err = b.s.Judging.PutRule("ida", "mine", req)
		b.problem(err, kind, "")
	}
	// Every finding is on record with its words and evidence, whatever became of its rule.
	require.NoError(t, b.s.Tick())
	logs := mustAll[store.FoundLog](t, b.store)
	var told []string
	for _, l := range logs {
		if l.Drive == d.Key {
			told = append(told, l.Rule+" "+l.Turn)
		}
	}
	require.Subset(
		t,
		told,
		[]string{
			"pending-sectors raised: watch",
			"pending-sectors became replace",
			"pending-sectors cleared",
			"own:warm-and-growing raised: replace",
			"own:warm-and-growing cleared",
		},
	)
	require.Contains(t, string(logs[len(logs)-1].Doc), `"evidence":[{"metric"`)
	d, err = b.s.Views.Drive("AA001")
	require.NoError(t, err)
	require.True(t, slices.ContainsFunc(d.Happened, func(h api.Happening) bool {
		return strings.HasPrefix(h.Says, "own:warm-and-growing raised: replace: is warm")
	}))
	b.problem(b.s.Judging.RemoveRule("ida", "link-crc"), "built-in", "Switch it off")
	b.problem(b.s.Judging.RemoveRule("ida", "mine"), "no-rule", "List them")
	require.Equal(t, 2, func() int {
		for _, r := range b.s.Judging.Rules().Rules {
			if r.Id == "pending-sectors" {
				return r.HoldsFor
			}
		}
		return -1
	}())
}

// TestSwapOverRestarts: the service is restarted after every single thing that happens, and the swap goes on.
func TestSwapOverRestarts(t *testing.T) {
	b := newBench(t)
	b.restart()
	w, err := b.s.Swaps.PlanSwap("ida", "AA001")
	require.NoError(t, err)
	again, err := b.s.Swaps.PlanSwap("bo", "aa001")
	require.NoError(t, err)
	require.Equal(t, w.Id, again.Id, "one drive has one plan")
	b.restart()
	_, err = b.s.Swaps.BeginSwap("ida", w.Id, `"7"`, api.BeginSwap{Reason: "because", NoBackup: true})
	b.problem(err, "swap-changed", "Look at it again")
	w, err = b.s.Swaps.BeginSwap(
		"ida",
		w.Id,
		swaps.ETag(w.Version),
		api.BeginSwap{Reason: "scrub is due tonight", NoBackup: true},
	)
	require.NoError(t, err)
	other, err := b.s.Swaps.PlanSwap("bo", "BB002")
	require.NoError(t, err)
	_, err = b.s.Swaps.BeginSwap("bo", other.Id, "", api.BeginSwap{Reason: "why not", NoBackup: true})
	b.problem(err, "check-stops", "led by ida")
	b.restart()

	// The drive leaves while the service is down: it is seen afterwards.
	b.drives = b.drives[1:]
	b.pool.Groups[0].Members[0].State = "missing"
	b.report()
	b.restart()
	w, _ = b.s.Swaps.Swap(w.Id)
	require.Equal(t, api.SwapPhaseInsert, w.Phase)
	b.drives = append(b.drives, b.disk("DD004", 1))
	b.drives[2].Identity.Wwn = "502abe7999999999"
	b.report()
	b.restart()
	w, _ = b.s.Swaps.Swap(w.Id)
	require.Equal(t, api.SwapPhaseConfirm, w.Phase)
	seen := swaps.ETag(w.Version)
	w, err = b.s.Swaps.ConfirmSwap("ida", w.Id, seen, api.ConfirmTail{Tail: "DD004", Reason: "so"})
	require.NoError(t, err)
	again, err = b.s.Swaps.ConfirmSwap("ida", w.Id, seen, api.ConfirmTail{Tail: "DD004", Reason: "so"})
	require.NoError(
		t,
		err,
		"confirmed twice is confirmed once, though it has changed since: the first answer was lost",
	)
	require.Equal(t, w.Version, again.Version)
	_, err = b.s.Swaps.ActOnSwap(swap.HoldIt, "ida", w.Id, seen, "wait")
	b.problem(err, "swap-changed", "Look at it again")
	b.restart()
	orders, err := b.s.Orders.TakeOrders(t.Context(), "fulmar", 0)
	require.NoError(t, err)
	require.Len(t, orders, 1)
	require.Equal(t, api.OrderKindJoin, orders[0].Kind)
	require.Equal(t, "KH3DD004", orders[0].Drive.Serial, "an order names a drive by identity, never by path (R2)")
	require.NotContains(t, string(ledger.Document(orders[0])), "/dev/")
	require.NoError(
		t,
		b.s.TakeOutcome("fulmar", orders[0].Id, api.Outcome{State: api.OutcomeStateDone, Says: "begun"}),
	)
	require.NoError(
		t,
		b.s.TakeOutcome("fulmar", orders[0].Id, api.Outcome{State: api.OutcomeStateFailed, Says: "reported twice"}),
	)
	b.restart()
	w, _ = b.s.Swaps.Swap(w.Id)
	require.Equal(t, api.SwapPhaseRecover, w.Phase, "that it was ordered is not that it is done (R6)")

	b.pool.Groups[0].Members[0] = b.member("1", "DD004")
	b.pool.Groups[0].Members[0].State = "recovering"
	b.pool.Recoveries = []api.RecoveryReport{
		{
			Id:        "r1",
			Kind:      "resilver",
			State:     "running",
			StartedAt: b.clock.Now(),
			Slot:      "1",
			DoneBytes: 1e12,
			TodoBytes: 4e12,
		},
	}
	b.report()
	b.restart()
	_, err = b.s.Views.ActOnPool("ida", "plankton", api.PoolAction{Action: api.PoolActionActionRebalance})
	b.problem(err, "recovering", "resilver is running")
	b.pool.Groups[0].Members[0].State = "online"
	b.pool.Recoveries[0].State, b.pool.Recoveries[0].DoneBytes, b.pool.Recoveries[0].EndedAt = "finished", 4e12,
		b.clock.Now()
	b.report()
	b.restart()
	w, _ = b.s.Swaps.Swap(w.Id)
	require.Equal(t, api.SwapPhaseClosed, w.Phase, "%+v", w.Closing)
	old, err := b.s.Views.Drive("AA001")
	require.NoError(t, err, "what was once seen is remembered")
	require.Equal(t, "fulmar/front/1", old.Bay)
	for _, l := range b.s.Views.Round().Lines {
		require.NotEqual(t, "AA001", l.Tail, "a drive that was swapped out needs nobody")
	}
}

// TestOrdersRunOut: an order nobody carried out is told, and the person can go on.
func TestOrdersRunOut(t *testing.T) {
	b := newBench(t)
	l, err := b.s.Bays.LightOn("ida", api.LightOn{Bay: "fulmar/front/2", Seconds: 3600})
	require.NoError(t, err)
	require.Equal(t, "BB002", l.Tail)
	b.clock.forward(10 * time.Minute)
	require.NoError(t, b.s.Tick())
	require.Empty(t, b.s.Bays.Lights())
	orders, err := b.s.Orders.TakeOrders(t.Context(), "fulmar", 0)
	require.NoError(t, err)
	require.Empty(t, orders, "a host that comes back does not do old things")
	for _, bay := range []string{"fulmar/front/99", "nowhere/front/1", "fulmar", "fulmar/rear/1"} {
		_, err = b.s.Bays.LightOn("ida", api.LightOn{Bay: bay, Seconds: 60})
		require.Error(t, err, bay)
	}
}

// TestLightEnds: a light goes out by itself, also over a restart, and one that nobody asked for gets an end.
func TestLightEnds(t *testing.T) {
	b := newBench(t)
	answer := func() (on []bool) {
		orders, err := b.s.Orders.TakeOrders(t.Context(), "fulmar", 0)
		require.NoError(t, err)
		for _, o := range orders {
			on = append(on, o.On)
			require.NoError(
				t,
				b.s.TakeOutcome("fulmar", o.Id, api.Outcome{State: api.OutcomeStateDone, Says: "seen"}),
			)
		}
		return on
	}
	_, err := b.s.Bays.LightOn("ida", api.LightOn{Drive: "BB002", Seconds: 60})
	require.NoError(t, err)
	require.Equal(t, []bool{true}, answer())
	_, err = b.s.Bays.LightOn("bo", api.LightOn{Drive: "BB002", Seconds: 120})
	require.NoError(t, err)
	answer()
	require.Len(t, b.s.Bays.Lights(), 1, "one bay has one light")
	b.clock.forward(90 * time.Second)
	require.NoError(t, b.s.Tick())
	require.Empty(t, answer(), "the later end counts")
	b.restart()
	b.clock.forward(40 * time.Second)
	require.NoError(t, b.s.Tick())
	require.Equal(t, []bool{false}, answer())
	require.Empty(t, b.s.Bays.Lights())

	r := b.next()
	r.Enclosures[0].Sections[0].Lit = []int{5}
	require.NoError(t, b.s.TakeReport("fulmar", r))
	b.clock.forward(11 * time.Minute)
	require.NoError(t, b.s.Tick())
	require.Equal(t, []bool{false}, answer(), "nobody asked for it: it goes out")
}

// TestRemembers: a member whose drive is gone is still known by the drive that was seen there.
func TestRemembers(t *testing.T) {
	b := newBench(t)
	b.drives = b.drives[1:]
	b.pool.Groups[0].Members[0] = api.MemberReport{
		Slot:       "1",
		State:      "missing",
		Domain:     "fulmar",
		NeedsBytes: 8e12,
		Errors:     api.MemberErrors{Write: 67},
	}
	b.report()
	p, err := b.s.Views.Pool("plankton")
	require.NoError(t, err)
	require.Equal(t, "AA001", p.Groups[0].Members[0].Tail)
	require.Equal(t, "can lose 1 more drive", p.Margin.Words)
	d, err := b.s.Views.Drive("AA001")
	require.NoError(t, err)
	require.Equal(t, api.Dead, d.Verdict)
	require.Equal(t, "fulmar/front/1", d.Bay)
	b.pool.Groups[0].Members[0].Errors.Write = 0 // somebody cleared the counters
	b.clock.forward(time.Hour)
	b.report()
	d, _ = b.s.Views.Drive("AA001")
	require.Contains(t, fmt.Sprint(d.Findings), "67 errors since first watched, 0 by the pool's own count")
	bays, err := b.s.Bays.Bays("fulmar")
	require.NoError(t, err)
	require.True(t, bays.Sections[0].Bays[0].Missing)
	require.Equal(t, "AA001", bays.Sections[0].Bays[0].Tail)
	for _, extended := range []bool{true, false} {
		_, err = b.s.Stock.SetAcceptPolicy("ida", api.AcceptPolicy{Surface: true, Extended: extended, RateBytes: 1e8})
		require.NoError(t, err)
	}
	b.restart()
	require.Equal(
		t,
		[]any{true, false, int64(1e8), "ida"},
		[]any{
			b.s.Stock.AcceptPolicy().Surface,
			b.s.Stock.AcceptPolicy().Extended,
			b.s.Stock.AcceptPolicy().RateBytes,
			b.s.Stock.AcceptPolicy().SetBy,
		},
		"the newest policy holds",
	)
}

// TestNames: a name that fits two things asks for more; one that fits none says how to look.
func TestNames(t *testing.T) {
	b := newBench(t)
	b.drives = append(b.drives, b.disk("ZA001", 7))
	b.drives[3].Identity.Wwn = "502abe7777777777"
	b.report()
	_, err := b.s.Views.Drive("A001")
	b.problem(err, "ambiguous", "KH3AA001, KH3ZA001")
	_, err = b.s.Views.Drive("Q")
	b.problem(err, "no-drive", "lantern drives --find")
	_, err = b.s.Views.Pool("nope")
	b.problem(err, "no-pool", "lantern pools")
	_, err = b.s.Swaps.PlanSwap("ida", "ZA001")
	b.problem(err, "no-member", "in no pool")
	hits := b.s.Views.Search("a001")
	require.Len(t, hits, 2)
	page, err := b.s.Views.Drives(api.ListDrivesParams{Limit: 3})
	require.NoError(t, err)
	require.Equal(t, 4, page.Total)
	rest, err := b.s.Views.Drives(api.ListDrivesParams{Limit: 3, Cursor: page.Next})
	require.NoError(t, err)
	require.Len(t, rest.Drives, 1)
	_, err = b.s.Views.Drives(api.ListDrivesParams{Cursor: "gone"})
	b.problem(err, "bad-cursor", "Begin again")
}

// TestEvents: a listener that was away is told what it missed.
func TestEvents(t *testing.T) {
	b := newBench(t)
	_, live, stop, err := b.s.Listen(0)
	require.NoError(t, err)
	b.drives = b.drives[1:]
	b.report()
	e := <-live
	require.Equal(t, api.EventKindDrive, e.Kind)
	require.Contains(t, e.Says, "AA001 left bay fulmar/front/1")
	stop()
	_, err = b.s.Fleet.TokenFor("ida", "petrel")
	require.NoError(t, err)
	past, _, stop, err := b.s.Listen(e.Id)
	require.NoError(t, err)
	defer stop()
	require.Len(t, past, 1)
	require.Contains(t, past[0].Says, "ida enrolled petrel")
}

// TestSecrets: tokens and sessions are kept as hashes only.
func TestSecrets(t *testing.T) {
	b := newBench(t)
	admin, fresh, err := b.s.People.FirstToken()
	require.NoError(t, err)
	require.True(t, fresh)
	_, fresh, _ = b.s.People.FirstToken()
	require.False(t, fresh, "it is made once")
	host, err := b.s.Fleet.TokenFor("ida", "fulmar")
	require.NoError(t, err)
	session, err := b.s.People.SignIn(admin, people.Caller{})
	require.NoError(t, err)
	code, err := b.s.People.SignInLink("ida")
	require.NoError(t, err)
	_, err = b.s.People.UseLink(code, people.Caller{})
	require.NoError(t, err)
	_, err = b.s.People.UseLink(code, people.Caller{})
	b.problem(err, "link-used", "used already")
	who, _, err := b.s.People.SessionOf(session)
	require.NoError(t, err)
	require.Equal(t, "admin", who.Name)
	_, err = b.s.People.Person(host)
	require.ErrorIs(t, err, store.ErrNone, "a host is no person")
	_, ok := b.s.Fleet.HostOf(admin)
	require.False(t, ok)
	for _, dump := range []any{mustAll[store.Token](t, b.store), mustAll[store.Session](t, b.store),
		mustAll[store.Host](t, b.store), mustAll[store.Event](t, b.store)} {
		text, err := json.Marshal(dump)
		require.NoError(t, err)
		for _, secret := range []string{admin, host, session, code} {
			require.NotContains(t, string(text), secret)
		}
	}
}

func mustAll[T any](t *testing.T, s *store.Store) []T {
	t.Helper()
	all, err := store.All[T](s, "1", "")
	require.NoError(t, err)
	return all
}

func BenchmarkTakeReport(b *testing.B) {
	st, err := store.Open(filepath.Join(b.TempDir(), "lantern.db"))
	require.NoError(b, err)
	defer st.Close()
	c := &standing{at: t0}
	s, err := New(st, c, slog.New(slog.DiscardHandler))
	require.NoError(b, err)
	require.NoError(b, s.KeepPast()) // as the service runs
	_, err = s.Fleet.Enrol("bench", "h", false)
	require.NoError(b, err)
	const drives = 60
	r := api.Report{Host: "h", IntervalSeconds: 30, Enclosures: []api.EnclosureReport{}, Pools: []api.PoolReport{}}
	for i := range drives {
		r.Drives = append(
			r.Drives,
			api.DriveReport{
				Identity: api.Identity{
					Wwn:    fmt.Sprintf("5%015x", i+1),
					Model:  "M",
					Serial: fmt.Sprintf("S%06d", i),
				},
				CapacityBytes: 8e12,
			},
		)
	}
	n := 0
	for b.Loop() {
		n++
		c.forward(time.Hour)
		r.Id, r.At = fmt.Sprint(n), c.Now()
		for i := range r.Drives {
			r.Drives[i].Reading = api.Reading{At: c.Now(), Metrics: map[string]float64{}}
			for j, m := range drive.Catalogue[:25] {
				v := float64(j) // levels stay possible: impossible ones are stored separately, like an unreadable page
				if m.Kind == drive.Counter {
					v = float64(n * j)
				}
				r.Drives[i].Reading.Metrics[string(m.Name)] = v
			}
		}
		if err := s.TakeReport("h", r); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(drives*n)/b.Elapsed().Seconds(), "readings/s")
}

// TestFolding: readings become blocks, a late one finds its place, and a year can be drawn from what is on disk.
func TestFolding(t *testing.T) {
	b := newBench(t)
	began := b.clock.Now()
	const hours = 200 * 24
	for h := range hours {
		b.clock.forward(time.Hour - time.Second)
		for j := range b.drives {
			b.drives[j].Reading = api.Reading{
				At: b.clock.Now(),
				Metrics: map[string]float64{
					"load_cycles":          float64(h / 7),
					"temperature_celsius":  float64(30 + h%9),
					"read_latency_seconds": float64(7000+h%50) / 1e6,
				},
			}
		}
		if h == 100 {
			b.next() // one report is late
			continue
		}
		b.report()
		if h%20 == 0 {
			require.NoError(t, b.s.Tick())
		}
	}
	for range 40 {
		require.NoError(t, b.s.Tick())
	}
	blocks := mustAll[store.Block](t, b.store)
	require.Less(t, len(blocks), 3*(hours/readings.LargeSize+readings.LargeSize/readings.FoldSize))
	require.Greater(
		t,
		slices.MaxFunc(blocks, func(a, b store.Block) int { return a.Count - b.Count }).Count,
		readings.LargeSize-1,
		"small ones were merged",
	)
	require.Less(t, len(mustAll[store.Reading](t, b.store)), 3*readings.FoldAt)
	late := b.next()
	late.At, late.Drives = began.Add(101*time.Hour), b.drives[:1]
	late.Drives[0].Reading = api.Reading{At: late.At, Metrics: map[string]float64{"load_cycles": 1e9}}
	require.NoError(t, b.s.TakeReport("fulmar", late))
	check := func() {
		trend, err := b.s.Views.Trend("AA001", "load_cycles", 24*365)
		require.NoError(t, err)
		require.Len(t, trend.Points, hours)
		for i := 1; i < len(trend.Points); i++ {
			require.True(t, trend.Points[i].At.After(trend.Points[i-1].At))
		}
		require.Equal(t, 1e9, trend.Points[100].Value)
		require.Equal(t, float64((hours-1)/7), trend.Points[hours-1].Value)
	}
	check()
	b.restart()
	check()
}

// TestHold: what was right to pull when the swap began is looked at again with every report (R1, R4).
func TestHold(t *testing.T) {
	b := newBench(t)
	w, err := b.s.Swaps.PlanSwap("ida", "AA001")
	require.NoError(t, err)
	_, err = b.s.Swaps.BeginSwap("ida", w.Id, "", api.BeginSwap{Reason: "scrub is due tonight", NoBackup: true})
	require.NoError(t, err)
	now := func() api.Step {
		w, err := b.s.Swaps.Swap(w.Id)
		require.NoError(t, err)
		for _, st := range w.Steps {
			if st.State == api.StepStateNow {
				return st
			}
		}
		return api.Step{}
	}
	b.report()
	require.Equal(t, "Pull AA001", now().Title)
	for _, i := range []int{1, 2} {
		b.pool.Groups[0].Members[i].State = "faulty"
	}
	b.report()
	require.Equal(t, "Do not pull AA001 now", now().Title)
	require.Contains(t, now().What, "data would be lost")
	b.restart()
	require.Equal(t, "Do not pull AA001 now", now().Title)
	b.pool.Groups[0].Members[1].State = "online"
	b.report()
	require.Equal(t, "Pull AA001", now().Title)
	b.pool.Recoveries = []api.RecoveryReport{
		{Id: "r9", Kind: "resilver", State: "running", StartedAt: b.clock.Now(), Slot: "2", TodoBytes: 5},
	}
	b.report()
	require.Contains(t, now().What, "a recovery is running")
}

// TestEverybodyHasAName: a token is one person's; renewing it ends the old one and what it opened, and nobody is
// removed whose hand something still waits for.
func TestEverybodyHasAName(t *testing.T) {
	b := newBench(t)
	first, _, err := b.s.People.FirstToken()
	require.NoError(t, err)
	bo, err := b.s.People.AddPerson(people.Rights{Name: "admin", Role: api.Admin}, api.AddPerson{Name: " bo "})
	require.NoError(t, err)
	is := func(token string) string { who, _ := b.s.People.Person(token); return who.Name }
	require.Equal(t, []string{"admin", "bo"}, []string{is(first), is(bo.Token)})
	session, err := b.s.People.SignIn(bo.Token, people.Caller{})
	require.NoError(t, err)
	for _, name := range []string{"bo", "Bo", "BO"} {
		_, err = b.s.People.AddPerson(people.Rights{Name: "admin", Role: api.Admin}, api.AddPerson{Name: name})
		b.problem(err, "person-exists", "lantern person renew bo")
	}
	_, err = b.s.People.AddPerson(people.Rights{Name: "Bo", Role: api.Admin}, api.AddPerson{Name: "Bo", Renew: true})
	b.problem(err, "no-person", "Known people: admin, bo")
	require.Equal(t, "bo", is(bo.Token), "another spelling touches nobody's token")
	for _, name := range []string{"seen", "", "9 lives", "a\nb", strings.Repeat("x", 41)} {
		_, err = b.s.People.AddPerson(people.Rights{Name: "admin", Role: api.Admin}, api.AddPerson{Name: name})
		b.problem(err, "bad-name", "beginning with a letter")
	}
	admin := people.Rights{Name: "admin", Role: api.Admin}
	_, err = b.s.People.AddPerson(admin, api.AddPerson{Name: "bo", Renew: true})
	b.problem(err, "not-yourself", "only their own token")
	_, err = b.s.People.AddPerson(people.Rights{Name: "bo", Role: api.Operator}, api.AddPerson{Name: "eve"})
	b.problem(err, "role-too-low", "needs the role admin")
	again, err := b.s.People.AddPerson(
		people.Rights{Name: "bo", Role: api.Operator},
		api.AddPerson{Name: "bo", Renew: true,
			Role: api.Admin},
	)
	require.NoError(t, err)
	who, err := b.s.People.Person(again.Token)
	require.NoError(t, err)
	require.Equal(t, api.Operator, who.Role, "nobody gives themselves another role")
	require.Equal(t, []string{"", "bo"}, []string{is(bo.Token), is(again.Token)})
	_, _, err = b.s.People.SessionOf(session)
	require.ErrorIs(t, err, store.ErrNone, "what the old one opened has ended")

	w, err := b.s.Swaps.PlanSwap("bo", "AA001")
	require.NoError(t, err)
	b.problem(b.s.People.RemovePerson("admin", "bo"), "leads-swap", "Take the lead over first")
	_, err = b.s.People.AddPerson(admin, api.AddPerson{Name: "vi", Role: api.Viewer})
	require.NoError(t, err)
	_, err = b.s.Swaps.LeadSwap("bo", w.Id, "", api.LeadSwap{To: "vi"})
	b.problem(err, "cannot-lead", "their role is viewer")
	require.NoError(t, b.s.People.RemovePerson("admin", "vi"))
	_, err = b.s.Swaps.LeadSwap("bo", w.Id, "", api.LeadSwap{To: "nobody"})
	b.problem(err, "no-person", "Known people: admin, bo")
	_, err = b.s.Swaps.LeadSwap("bo", w.Id, "", api.LeadSwap{To: "admin"})
	require.NoError(t, err)
	_, err = b.s.Swaps.ActOnSwap(swap.AbandonIt, "admin", w.Id, "", "enough")
	require.NoError(t, err)
	c, err := b.s.Swaps.PlanCampaign("bo", api.PlanCampaign{Pool: "plankton"})
	require.NoError(t, err)
	b.problem(b.s.People.RemovePerson("admin", "bo"), "leads-campaign", "It goes on only with them")
	_, err = b.s.Swaps.AbandonCampaign("bo", c.Id, "enough")
	require.NoError(t, err)
	b.problem(b.s.People.RemovePerson("bo", "bo"), "yourself", "Another admin must")
	b.problem(b.s.People.RemovePerson("admin", "Bo"), "no-person", "No person named")
	require.NoError(t, b.s.People.RemovePerson("admin", "bo"))
	require.Empty(t, is(again.Token))
}
