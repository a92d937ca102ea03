package health

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/core/drive"
	"lantern/internal/core/history"
	"lantern/internal/core/pool"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

// well is a drive without findings.
func well() Subject {
	return Subject{
		FirstAt: now.Add(-100 * day),
		LastAt:  now,
		Present: true,
		Member:  pool.Online,
		Record:  history.Record{},
	}
}

// told gives a metric the values it had, one a day, the last one now.
func (s Subject) told(m drive.MetricName, values ...float64) Subject {
	for i, v := range values {
		s.Record[m] = s.Record[m].Add(history.PointAt(now.Add(-time.Duration(len(values)-1-i)*day), v))
	}
	return s
}

// judge gives the findings that hold now, whatever stood before.
func judge(s Subject) ([]Finding, Verdict) {
	t := Usual()
	return Tell(Settle(nil, Evaluate(&s, &t), s.LastAt), s.HostLate, s.LastAt)
}

// TestWeakNeverExceedsWatch: no heap of weak signs makes a drive one to replace.
func TestWeakNeverExceedsWatch(t *testing.T) {
	s := well().told(
		"link_crc_errors",
		0,
		1e6,
		5e6,
	).told(
		"command_timeouts",
		0,
		0,
		1e6,
	).told(
		"spin_up_milliseconds",
		400,
		90000,
	).told(
		"power_on_hours",
		1,
		200000,
	)
	s.Siblings = []Sibling{{Tail: "A"}, {Tail: "B"}, {Tail: "C"}}
	findings, verdict := judge(s)
	require.Equal(t, Watch, verdict)
	require.Greater(t, len(findings), 3)
	for _, r := range Rules() {
		if r.Strength == drive.Weak || r.Strength == drive.Path {
			require.LessOrEqual(t, r.Level.Gravity(), Watch.Gravity(), r.ID)
		}
	}
}

func TestFailedTestUntilOnePasses(t *testing.T) {
	failed := drive.SelfTest{Kind: drive.SelfTestExtended, Result: drive.SelfTestFailed, Hours: 65530, LBA: 3118442904}
	s := well().told("power_on_hours", 65536+4)
	s.Tests = []drive.SelfTest{{Kind: drive.SelfTestShort, Result: drive.SelfTestPassed, Hours: 2}, failed}
	_, verdict := judge(s)
	require.Equal(t, Watch, verdict, "one bad place can be rewritten")
	s.Tests = append(s.Tests, failed)
	f, verdict := judge(s)
	require.Equal(t, Replace, verdict, "a short test that passed does not lift an extended one that failed")
	require.Contains(t, f[0].Says, "extended self-test at LBA 3118442904")
	require.Equal(t, now.Add(-10*time.Hour), f[0].Since, "the log's 16-bit hours have wrapped")
	s.Tests = append([]drive.SelfTest{{Kind: drive.SelfTestExtended, Result: drive.SelfTestAborted}}, s.Tests...)
	_, verdict = judge(s)
	require.Equal(t, Replace, verdict, "an aborted test says nothing")
	s.Tests = append([]drive.SelfTest{{Kind: drive.SelfTestExtended, Result: drive.SelfTestPassed}}, s.Tests...)
	f, _ = judge(s)
	require.NotEqual(t, "self-test-failed", f[0].Rule)
}

func TestRank(t *testing.T) {
	m := []Matter{
		{Key: "link", Verdict: Watch, MarginKnown: true, Stake: 0, PathOnly: true, Growth: 999},
		{Key: "old", Verdict: Replace, MarginKnown: true, Stake: 1, Since: now.Add(-time.Hour)},
		{Key: "dead, made whole", Verdict: Dead, MarginKnown: true, Stake: 2},
		{Key: "last straw", Verdict: Replace, MarginKnown: true, Stake: 0},
		{Key: "growing", Verdict: Replace, MarginKnown: true, Stake: 1, Growth: 4, Since: now},
		{Key: "watched where nothing is left", Verdict: Watch, MarginKnown: true, Stake: 0},
		{Key: "in no pool", Verdict: Dead},
	}
	Rank(m)
	var keys []string
	for _, x := range m {
		keys = append(keys, x.Key)
	}
	require.Equal(
		t,
		[]string{
			"last straw",
			"watched where nothing is left",
			"growing",
			"old",
			"dead, made whole",
			"in no pool",
			"link",
		},
		keys,
	)
}

func TestSameBatch(t *testing.T) {
	id := func(serial string) drive.Identity {
		return drive.Identity{WWN: "5" + serial, Model: "VR4", Serial: serial}
	}
	require.True(t, SameBatch(id("VR5LM417"), id("VR5LM409")))
	require.False(t, SameBatch(id("VR5LM417"), id("VR5LN418")), "another prefix")
	require.False(t, SameBatch(id("VR5LM417"), id("VR5LM917")), "too far apart")
	require.False(
		t,
		SameBatch(
			drive.Identity{Model: "loop device", Serial: "L28-00000001"},
			drive.Identity{Model: "loop device", Serial: "L28-00000002"},
		),
		"not from a factory",
	)
}

// history90 is a drive that was read every hour for 90 days.
func history90(f func(h int, m map[drive.MetricName]float64)) Subject {
	s := well()
	s.CanTest, s.TestsTold = true, true
	for h := range 90 * 24 {
		m := map[drive.MetricName]float64{
			"power_on_hours":       float64(9000 + h),
			"temperature_celsius":  float64(30 + h%5),
			"read_latency_seconds": 0.007 + float64(h%7)/1e4,
		}
		for _, c := range drive.Catalogue {
			if _, ok := m[c.Name]; !ok && c.Kind == drive.Counter && c.Attribute != 0 {
				m[c.Name] = 0
			}
		}
		if f != nil {
			f(h, m)
		}
		s.Record.Add(now.Add(time.Duration(h-90*24)*time.Hour), m)
	}
	s.Record.Thin(now)
	s.Tests = []drive.SelfTest{
		{Kind: drive.SelfTestShort, Result: drive.SelfTestPassed, Hours: 11000},
		{Kind: drive.SelfTestExtended, Result: drive.SelfTestPassed, Hours: 10900},
	}
	return s
}

// BenchmarkJudge: what one reading costs to judge, of a drive that was read every hour for 90 days: one without
// findings, and one with three.
func BenchmarkJudge(b *testing.B) {
	t := Usual()
	for name, s := range map[string]Subject{
		"sound": history90(nil),
		"three findings": history90(func(h int, m map[drive.MetricName]float64) {
			m["pending_sectors"], m["reallocated_sectors"], m["link_crc_errors"] = float64(h/200), 3, float64(h/50)
		}),
	} {
		b.Run(name, func(b *testing.B) {
			var standing []Standing
			for b.Loop() {
				standing = Settle(standing, Evaluate(&s, &t), now)
				VerdictOf(standing, false)
			}
			b.ReportMetric(float64(len(standing)), "findings")
		})
	}
}

// TestSettle: over any sequence of hits, a rule has one finding, which stays while the rule holds and for its hold time
// after; a verdict gets worse immediately and better only after the hold time; it was raised when the rule first held.
func TestSettle(t *testing.T) {
	ids := []string{"pending-sectors", "link-crc", "vanished", "too-hot"}
	verdicts := []Verdict{Watch, Replace, Dead}
	for seed := range uint64(200) {
		rng := rand.New(rand.NewPCG(seed, 4))
		var standing []Standing
		type told struct{ held, grave, raised time.Time }
		last := map[string]told{}
		gravest := map[string]Verdict{}
		for step := range 300 {
			at := now.Add(time.Duration(step) * 3 * time.Hour)
			var hits []Hit
			for _, id := range ids {
				if rng.IntN(4) == 0 {
					hits = append(hits, Hit{Rule: id, Verdict: verdicts[rng.IntN(3)], At: at})
				}
			}
			standing = Settle(standing, hits, at)
			by := map[string]Standing{}
			for _, s := range standing {
				_, twice := by[s.Rule]
				require.False(t, twice)
				by[s.Rule] = s
			}
			for _, id := range ids {
				hold := ruleOf(id).Hold
				i := slices.IndexFunc(hits, func(h Hit) bool { return h.Rule == id })
				s, stands := by[id]
				was, before := last[id]
				if i < 0 {
					require.Equal(t, before && at.Sub(was.held) < hold, stands, "%s at step %d", id, step)
					if !stands {
						delete(last, id)
					}
					continue
				}
				require.True(t, stands)
				h := hits[i]
				switch {
				case !before || h.Verdict.Gravity() >= gravest[id].Gravity():
					require.Equal(t, h.Verdict, s.Verdict, "it rises at once")
					was.grave = at
				case at.Sub(was.grave) < hold:
					require.Equal(t, gravest[id], s.Verdict, "it does not fall at once")
				default:
					require.Equal(t, h.Verdict, s.Verdict)
					was.grave = at
				}
				if !before {
					was.raised = at
				}
				require.Equal(t, was.raised, s.Raised)
				was.held = at
				last[id], gravest[id] = was, s.Verdict
			}
		}
	}
}
