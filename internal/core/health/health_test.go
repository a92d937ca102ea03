package health

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/core/drive"
	"lantern/internal/core/history"
	"lantern/internal/core/pool"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

// well is a drive with nothing to say.
func well() Subject {
	return Subject{FirstAt: now.Add(-100 * day), LastAt: now, Present: true, Member: pool.Online, Record: history.Record{}}
}

// told gives a metric the values it had, one a day, the last one now.
func (s Subject) told(m drive.MetricName, values ...float64) Subject {
	for i, v := range values {
		s.Record[m] = s.Record[m].Add(history.Point{At: now.Add(-time.Duration(len(values)-1-i) * day), Value: v})
	}
	return s
}

func (s Subject) with(f func(*Subject)) Subject { f(&s); return s }

func TestRules(t *testing.T) {
	ninety := make([]float64, 120)
	for i := range ninety {
		ninety[i] = 8
	}
	ninety[0] = 7
	for name, c := range map[string]struct {
		s       Subject
		verdict Verdict
		rule    string
		says    string
	}{
		"nothing":                       {well().told("pending_sectors", 0, 0), Sound, "", ""},
		"pending that rise":             {well().told("pending_sectors", 0, 30, 34, 38), Replace, "pending-sectors", "38 sectors that cannot be read, 4 more than a day before"},
		"pending that stand":            {well().told("pending_sectors", 4, 4, 4), Watch, "pending-sectors", "has 4 sectors"},
		"one old scar":                  {well().told("reallocated_sectors", ninety...), Watch, "reallocated-sectors", "unmoved for 118 days"},
		"many that stand":               {well().told("reallocated_sectors", 400, 400), Replace, "reallocated-sectors", "has 400"},
		"cleared and grown again":       {well().told("reallocated_sectors", 9, 9, 2), Replace, "reallocated-sectors", "2 more than a day before"},
		"seen once only":                {well().told("pending_sectors", 3), Watch, "pending-sectors", "has 3"},
		"link errors":                   {well().told("link_crc_errors", 0, 50, 5000), Watch, "link-crc", "bad link"},
		"link errors of last year":      {well().told("link_crc_errors", 5000, 5000, 5000, 5000, 5000, 5000, 5000, 5000, 5000), Sound, "", ""},
		"time-outs, however many":       {well().told("command_timeouts", 0, 0, 100000), Watch, "command-timeouts", "100000 commands"},
		"slow":                          {well().told("read_latency_seconds", .008, .09).with(func(s *Subject) { s.PeerLatency = .009 }), Replace, "slower-than-peers", "10 times as long"},
		"slow while it is filled":       {well().told("read_latency_seconds", .008, .09).with(func(s *Subject) { s.PeerLatency = .009; s.Filling = true }), Sound, "", ""},
		"slow but quick":                {well().told("read_latency_seconds", .0001, .002).with(func(s *Subject) { s.PeerLatency = .0001 }), Sound, "", ""},
		"vanished":                      {well().with(func(s *Subject) { s.Present = false; s.GoneAt = now.Add(-time.Hour) }), Dead, "vanished", "does not answer"},
		"taken out on purpose":          {well().with(func(s *Subject) { s.Present = false; s.Removed = true }), Sound, "", ""},
		"put out by its pool":           {well().with(func(s *Subject) { s.Member = pool.Faulty }), Dead, "faulted-by-pool", "faulty"},
		"predicts its failure":          {well().with(func(s *Subject) { s.Failing = true }), Replace, "own-failing-status", "predicts"},
		"pool writes that fail":         {well().told("pool_write_errors", 0, 67), Replace, "pool-errors", "67 errors (writes that failed)"},
		"pool errors that were cleared": {well().told("pool_read_errors", 0, 4, 0, 0), Watch, "pool-errors", "4 errors"},
		"sibling":                       {well().with(func(s *Subject) { s.Siblings = []Sibling{{Tail: "LM417", Why: "same model", At: now}} }), Watch, "sibling-failed", "LM417"},
		"unreadable": {well().with(func(s *Subject) {
			s.Bad = &drive.Unreadable{Kind: drive.PageSmartData, Why: "checksum is wrong", Bytes: make([]byte, 512)}
		}), Unknown, "unreadable", "checksum is wrong"},
		"blind":                     {well().with(func(s *Subject) { s.Blind = "a loop device has no SMART" }), Unknown, "blind", "a loop device has no SMART"},
		"host went quiet":           {well().told("pending_sectors", 0, 30, 34, 38).with(func(s *Subject) { s.HostLate = true }), Unknown, "pending-sectors", "38"},
		"quiet host, missing drive": {well().with(func(s *Subject) { s.HostLate = true; s.Present = false }), Unknown, "unknown-since", "went quiet"},
	} {
		t.Run(name, func(t *testing.T) {
			findings, verdict := Judge(c.s)
			require.Equal(t, c.verdict, verdict, "%+v", findings)
			if c.rule == "" {
				require.Empty(t, findings)
				return
			}
			f := findings[0]
			require.Equal(t, c.rule, f.Rule)
			require.Contains(t, f.Says, c.says)
			require.NotEmpty(t, f.Do, "every finding says what to do")
			require.NotEmpty(t, f.Evidence, "and shows what it rests on")
			for _, e := range f.Evidence {
				require.NotEmpty(t, e.Says)
				require.NotEmpty(t, e.Source)
				require.False(t, e.At.IsZero())
			}
		})
	}
}

// TestWeakNeverExceedsWatch: no heap of weak signs makes a drive one to replace.
func TestWeakNeverExceedsWatch(t *testing.T) {
	s := well().told("link_crc_errors", 0, 1e6, 5e6).told("command_timeouts", 0, 0, 1e6).told("spin_up_milliseconds", 400, 90000).told("power_on_hours", 1, 200000)
	s.Siblings = []Sibling{{Tail: "A"}, {Tail: "B"}, {Tail: "C"}}
	findings, verdict := Judge(s)
	require.Equal(t, Watch, verdict)
	require.Len(t, findings, 3)
}

func TestFailedTestUntilOnePasses(t *testing.T) {
	failed := drive.SelfTest{Kind: drive.SelfTestExtended, Result: drive.SelfTestFailed, Hours: 65530, LBA: 3118442904}
	s := well().told("power_on_hours", 65536+4)
	s.Tests = []drive.SelfTest{{Kind: drive.SelfTestShort, Result: drive.SelfTestPassed, Hours: 2}, failed}
	f, verdict := Judge(s)
	require.Equal(t, Replace, verdict, "a short test that passed does not lift an extended one that failed")
	require.Contains(t, f[0].Says, "extended self-test at LBA 3118442904")
	require.Equal(t, now.Add(-10*time.Hour), f[0].Since, "the log's 16-bit hours have wrapped")
	s.Tests = append([]drive.SelfTest{{Kind: drive.SelfTestExtended, Result: drive.SelfTestAborted}}, s.Tests...)
	_, verdict = Judge(s)
	require.Equal(t, Replace, verdict, "an aborted test says nothing")
	s.Tests = append([]drive.SelfTest{{Kind: drive.SelfTestExtended, Result: drive.SelfTestPassed}}, s.Tests...)
	_, verdict = Judge(s)
	require.Equal(t, Sound, verdict)
}

func TestRank(t *testing.T) {
	m := []Matter{
		{Key: "link", Verdict: Watch, MarginKnown: true, After: 0, PathOnly: true, Growth: 999},
		{Key: "old", Verdict: Replace, MarginKnown: true, After: 1, Since: now.Add(-time.Hour)},
		{Key: "dead, made whole", Verdict: Dead, MarginKnown: true, After: 2},
		{Key: "last straw", Verdict: Replace, MarginKnown: true, After: 0},
		{Key: "growing", Verdict: Replace, MarginKnown: true, After: 1, Growth: 4, Since: now},
		{Key: "watched", Verdict: Watch, MarginKnown: true, After: 0},
	}
	Rank(m)
	var keys []string
	for _, x := range m {
		keys = append(keys, x.Key)
	}
	require.Equal(t, []string{"last straw", "growing", "old", "dead, made whole", "watched", "link"}, keys)
}

func TestSameBatch(t *testing.T) {
	id := func(serial string) drive.Identity {
		return drive.Identity{WWN: "5" + serial, Model: "VR4", Serial: serial}
	}
	require.True(t, SameBatch(id("VR5LM417"), id("VR5LM409")))
	require.False(t, SameBatch(id("VR5LM417"), id("VR5LN418")), "another prefix")
	require.False(t, SameBatch(id("VR5LM417"), id("VR5LM917")), "too far apart")
	require.False(t, SameBatch(drive.Identity{Model: "loop device", Serial: "L28-00000001"}, drive.Identity{Model: "loop device", Serial: "L28-00000002"}), "not from a factory")
}

func BenchmarkJudge(b *testing.B) {
	s := well().told("pending_sectors", 0, 30, 34, 38).told("reallocated_sectors", 3, 3, 3).told("link_crc_errors", 0, 0, 0).told("power_on_hours", 1, 2, 3)
	for b.Loop() {
		Judge(s)
	}
}
