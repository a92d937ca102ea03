package service

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/service/fleet"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// from makes a report as of a host that has run for up, and whose clock is wrong by off.
func (b *bench) from(boot string, up, off time.Duration) api.Report {
	r := b.next()
	r.Boot, r.BootSeconds, r.SentBootSeconds = boot, up.Seconds(), up.Seconds()
	r.At = b.clock.Now().Add(off)
	for i := range r.Drives {
		r.Drives[i].Reading.At = r.At
	}
	return r
}

// ofHosts are the open notices about hosts.
func (b *bench) ofHosts() (out []string) {
	open, err := b.s.Notices.Notices(false)
	require.NoError(b.t, err)
	for _, n := range open {
		if n.Kind == "host" {
			out = append(out, n.Says)
		}
	}
	return out
}

// TestClocks: whatever a host's clock shows, its newest report counts, its silence is noticed in time, and readings
// have the right times. Reports that are repeated, late or out of order do not change the present state.
func TestClocks(t *testing.T) {
	rng := rand.New(rand.NewPCG(19, 2))
	for range 15 {
		b := newBench(t)
		b.clock.forward(time.Minute)
		up, boot := time.Hour, "a"
		off := time.Duration(0)
		var old []api.Report
		bay := 1
		for n := range 30 {
			switch rng.IntN(6) {
			case 0: // the clock is set to any time
				off = []time.Duration{0, 24 * time.Hour, -24 * time.Hour, 10 * time.Second, -50 * 365 * 24 * time.Hour,
					20 * 365 * 24 * time.Hour}[rng.IntN(6)]
			case 1: // the host is started again
				boot, up = boot+"a", 10*time.Second
			case 2: // our own clock is set back
				back := time.Duration(120+rng.IntN(7200)) * time.Second
				b.clock.forward(-back)
				off += back
				require.NoError(t, b.s.Tick())
			}
			step := time.Duration(5+rng.IntN(20)) * time.Second
			up += step + time.Second // a second for the report
			b.clock.forward(step)
			bay = 1 + bay%6
			b.drives[0].Bay = bay
			b.drives[0].Reading.Metrics = map[string]float64{"temperature_celsius": float64(20 + n)}
			r := b.from(boot, up, off)
			if rng.IntN(3) == 0 { // it waited in the queue, and a newer one came before it
				up += time.Second
				later := b.from(boot, up, off)
				r.Drives[0].Bay = 7
				require.NoError(t, b.s.TakeReport("fulmar", later))
			}
			require.NoError(t, b.s.TakeReport("fulmar", r))
			old = append(old, r)
			if stale := old[rng.IntN(len(old))]; stale.Id != r.Id {
				stale.Id += fmt.Sprint("-again-", len(old)) // the worst case: its id does not show it
				stale.Drives[0].Bay = 8
				require.NoError(t, b.s.TakeReport("fulmar", stale))
			}
			d, err := b.s.Views.Drive("AA001")
			require.NoError(t, err)
			require.Equal(t, bay, bayOf(t, d), "the newest report is what is known; clock off by %s", off)
			require.WithinDuration(t, b.clock.Now(), d.SeenAt, time.Minute)
			require.WithinDuration(t, b.clock.Now(), d.ReadAt, time.Minute)
			require.Equal(t, 20+n, d.TemperatureCelsius, "the newest reading counts; clock off by %s", off)
			h := b.s.Views.Hosts()[0]
			require.Equal(t, api.HostStateReporting, h.State)
			require.InDelta(t, off.Seconds(), h.ClockOffSeconds, 3, "how wrong its clock is, is told")
		}
		require.NoError(t, b.s.Tick())
		if off.Abs() > time.Minute {
			require.Contains(t, b.ofHosts()[0], "the clock of fulmar is wrong")
		}
		b.clock.forward(61 * time.Second)
		require.NoError(t, b.s.Tick())
		require.Equal(t, api.HostStateQuiet, b.s.Views.Hosts()[0].State, "its silence is noticed")
	}
}

func bayOf(t *testing.T, d api.Drive) int {
	require.Regexp(t, `^fulmar/front/\d$`, d.Bay)
	return int(d.Bay[len(d.Bay)-1] - '0')
}

// TestQueuedReports: reports that lay in a queue stand in the past as long as they lay there, though the clock of the
// host was wrong when they were made.
func TestQueuedReports(t *testing.T) {
	b := newBench(t)
	b.clock.forward(time.Minute)
	made := b.clock.Now()
	r := b.from("a", time.Hour, 24*time.Hour)
	r.Drives[0].Reading.Metrics["pending_sectors"] = 5
	b.clock.forward(10 * time.Minute)
	r.SentBootSeconds += 600
	require.NoError(t, b.s.TakeReport("fulmar", r))
	d, err := b.s.Views.Drive("AA001")
	require.NoError(t, err)
	require.WithinDuration(t, made, d.SeenAt, time.Second)
	require.WithinDuration(t, made, d.ReadAt, time.Second)
	require.Equal(t, api.HostStateQuiet, b.s.Views.Hosts()[0].State, "it is of ten minutes ago")
}

// TestDelayedReport: a report that was long on its way does not make a clock wrong that is right.
func TestDelayedReport(t *testing.T) {
	b := newBench(t)
	up := time.Hour
	for _, delay := range []time.Duration{0, 0, 40 * time.Second, 0, 10 * time.Minute, 0} {
		b.clock.forward(20 * time.Second)
		up += 21 * time.Second // a second for the report
		r := b.from("a", up, 0)
		made := r.At
		b.clock.forward(delay)
		up += delay
		require.NoError(t, b.s.TakeReport("fulmar", r))
		d := b.drive("AA001")
		require.Equal(t, made, d.SeenAt)
		require.Equal(t, made, d.ReadAt)
		require.Zero(t, b.s.Views.Hosts()[0].ClockOffSeconds)
	}
}

// TestReadingOfTheFuture: a reading that is dated after its report is refused, and later ones still count.
func TestReadingOfTheFuture(t *testing.T) {
	b := newBench(t)
	b.clock.forward(30 * time.Second)
	r := b.next()
	r.Drives[0].Reading.At = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)
	r.Drives[0].Reading.Metrics = map[string]float64{"pending_sectors": 70}
	require.NoError(t, b.s.TakeReport("fulmar", r))
	pages, err := b.s.Views.Drive("AA001")
	require.NoError(t, err)
	require.Equal(t, api.Sound, pages.Verdict)
	b.clock.forward(30 * time.Second)
	b.drives[0].Reading = api.Reading{At: b.clock.Now(), Metrics: map[string]float64{"pending_sectors": 3}}
	b.report()
	trend, err := b.s.Views.Trend("AA001", "pending_sectors", 24)
	require.NoError(t, err)
	require.EqualValues(t, 3, trend.Points[len(trend.Points)-1].Value)
}

// TestRefusedForGood: a permanent refusal makes a notice, once and not for ever.
func TestRefusedForGood(t *testing.T) {
	b := newBench(t)
	b.clock.forward(2 * time.Minute)
	b.report()
	b.s.Fleet.Refuse("fulmar", errTaken)
	b.s.Fleet.Refuse("fulmar", errTaken)
	require.NoError(t, b.s.Tick())
	require.Len(t, b.ofHosts(), 1)
	require.Contains(t, b.ofHosts()[0], "sent reports that were refused, 2 times")
	require.Equal(t, 2, b.s.Views.Hosts()[0].Refused.Count)
	r := b.next()
	r.Refused = api.RefusedReports{Count: 7, At: b.clock.Now(), Says: "The report could not be read."}
	b.restart()
	b.clock.forward(2 * time.Minute)
	require.NoError(t, b.s.TakeReport("fulmar", r))
	b.report()
	require.NoError(t, b.s.Tick())
	require.Empty(t, b.ofHosts(), "the newest report has no refusals: its agent was set up anew")
}

// TestFault: a fault of ours in a report or in a tick ends neither the service nor its lock; nothing of the report is
// stored, and later reports of its host are accepted.
func TestFault(t *testing.T) {
	b := newTwo(t)
	before := b.s.Before
	b.s.Before = func(*store.Batch) { panic("a fault") }
	b.clock.forward(time.Second)
	b.drives[0].Bay = 5
	err := b.s.TakeReport("fulmar", b.next())
	b.problem(err, "bad-report", "The service failed on this report: a fault")
	require.True(t, problem.As(err).Permanent)
	b.s.Before = before
	require.Equal(t, "fulmar/front/1", b.drive("AA001").Bay, "nothing of it is kept")
	b.report()
	require.Equal(t, "fulmar/front/5", b.drive("AA001").Bay)
	work := b.s.Fleet.Work
	b.s.Fleet.Work = faulty{work}
	b.clock.forward(2 * time.Minute)
	require.NoError(t, b.s.Tick(), "the other parts did their work")
	b.s.Fleet.Work = work
	b.clock.forward(10 * time.Second)
	require.NoError(t, b.s.Tick())
	require.Contains(t, strings.Join(b.told(), "; "), "fulmar has not reported")
}

type faulty struct{ fleet.Work }

func (faulty) AskedDown(string, time.Time) bool { panic("another fault") }
