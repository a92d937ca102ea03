package health

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
)

const (
	day = 24 * time.Hour
	// standstill is how long a counter must not have moved to count as an old scar.
	standstill = 90 * day
	// slowFactor is how many times its peers' median latency makes a member slow.
	slowFactor = 8
	// slowFloor is the latency, in seconds, under which no member is called slow.
	slowFloor = 0.02
	// manySectors is an amount that says replace without growing.
	manySectors = 100
)

type rule struct {
	id       string
	strength drive.Strength
	holds    func(Subject) (Finding, bool)
}

// rules are tried one by one; each speaks for itself.
var rules = []rule{
	{"vanished", drive.Strong, vanished},
	{"faulted-by-pool", drive.Strong, faulted},
	{"own-failing-status", drive.Strong, ownStatus},
	{"self-test-failed", drive.Strong, selfTestFailed},
	{"pending-sectors", drive.Strong, sectors("pending_sectors", "sectors that cannot be read")},
	{"offline-uncorrectable", drive.Strong, sectors("offline_uncorrectable_sectors", "sectors found unreadable by its own scan")},
	{"reallocated-sectors", drive.Strong, sectors("reallocated_sectors", "sectors moved to its reserve")},
	{"reported-uncorrectable", drive.Strong, sectors("reported_uncorrectable_errors", "errors it could not correct")},
	{"pool-errors", drive.Strong, poolErrors},
	{"slower-than-peers", drive.Strong, slow},
	{"link-crc", drive.Path, linkErrors},
	{"command-timeouts", drive.Weak, timeouts},
	{"sibling-failed", drive.Weak, sibling},
	{"unreadable", drive.Background, unreadablePage},
	{"unknown-since", drive.Background, unknown},
	{"blind", drive.Background, blind},
}

func vanished(s Subject) (Finding, bool) {
	if s.Present || s.HostLate || s.Removed || s.Member == "" {
		return Finding{}, false
	}
	return Finding{
		Verdict: Dead, Since: s.GoneAt,
		Says:     "does not answer any more",
		Do:       "Look at its bay: reseat it if it came loose, else replace it.",
		Evidence: []Evidence{{Says: "last answered", At: s.GoneAt, Source: "host report"}},
	}, true
}

func faulted(s Subject) (Finding, bool) {
	if s.Member != pool.Faulty && !(s.Member == pool.Missing && s.Present) {
		return Finding{}, false
	}
	return Finding{
		Verdict: Dead, Since: s.LastAt,
		Says:     "was put out of its pool, which calls it " + string(s.Member),
		Do:       "Replace it.",
		Evidence: []Evidence{{Says: "member is " + string(s.Member), At: s.LastAt, Source: "pool"}},
	}, true
}

func ownStatus(s Subject) (Finding, bool) {
	if !s.Failing || !s.Present {
		return Finding{}, false
	}
	return Finding{
		Verdict: Replace, Since: s.LastAt,
		Says:     "predicts its own failure",
		Do:       "Replace it.",
		Evidence: []Evidence{{Says: "threshold exceeded", At: s.LastAt, Source: "SMART RETURN STATUS"}},
	}, true
}

// selfTestFailed holds while the newest test that ended says so; a later pass of the same kind lifts it.
func selfTestFailed(s Subject) (Finding, bool) {
	passed := map[drive.SelfTestKind]bool{}
	for _, t := range s.Tests {
		if t.Result == drive.SelfTestPassed {
			passed[t.Kind] = true
		}
		if t.Result != drive.SelfTestFailed || passed[t.Kind] {
			continue
		}
		at := testTime(s, t)
		where := ""
		if t.LBA >= 0 {
			where = fmt.Sprintf(" at LBA %d", t.LBA)
		}
		return Finding{
			Verdict: Replace, Since: at,
			Says:     fmt.Sprintf("failed its %s self-test%s", t.Kind, where),
			Do:       "Replace it; its siblings deserve a test.",
			Evidence: []Evidence{{Says: fmt.Sprintf("%s self-test failed%s, %d power-on hours", t.Kind, where, t.Hours), At: at, Source: "SMART self-test log"}},
		}, true
	}
	return Finding{}, false
}

// testTime dates a test: the log has power-on hours, 16 bits wide, and the newest reading has them now.
func testTime(s Subject, t drive.SelfTest) time.Time {
	p, ok := s.Record["power_on_hours"].Last()
	if !ok {
		return s.LastAt
	}
	ago := (int64(p.Value) - int64(t.Hours)) & 0xFFFF
	return p.At.Add(-time.Duration(ago) * time.Hour)
}

// sectors is the rule for counts of damaged places: growth within a day or a large amount says replace, an amount that
// stands still says watch.
func sectors(metric drive.MetricName, words string) func(Subject) (Finding, bool) {
	m, _ := drive.MetricByName(metric)
	return func(s Subject) (Finding, bool) {
		series := s.Record[metric]
		last, ok := series.Last()
		if !ok || last.Value <= 0 {
			return Finding{}, false
		}
		grown, known := series.Growth(last.At.Add(-day))
		since := series.FirstAbove(0)
		f := Finding{Verdict: Watch, Since: since, Metric: metric, Growth: grown,
			Evidence: []Evidence{{metric, amount(last.Value, m.Unit), last.At, m.Source()}}}
		switch {
		case known && grown > 0:
			f.Verdict = Replace
			f.Says = fmt.Sprintf("has %s %s, %s more than a day before", number(last.Value), words, number(grown))
			f.Do = "Replace it today: the number is growing."
			f.Evidence = append(f.Evidence, Evidence{metric, "+" + amount(grown, m.Unit) + " in 24 h", last.At, m.Source()})
		case last.Value >= manySectors:
			f.Verdict = Replace
			f.Says = fmt.Sprintf("has %s %s", number(last.Value), words)
			f.Do = "Replace it: there are many."
		default:
			f.Says = fmt.Sprintf("has %s %s", number(last.Value), words)
			f.Do = "Leave it; it will be called out if the number moves."
			f.Idle = true
		}
		if changed := series.LastChange(); f.Verdict == Watch && !changed.IsZero() && last.At.Sub(changed) > standstill {
			f.Says += ", unmoved for " + strconv.Itoa(int(last.At.Sub(changed)/day)) + " days"
		}
		return f, true
	}
}

func poolErrors(s Subject) (Finding, bool) {
	var worst Finding
	found := false
	for _, metric := range []drive.MetricName{"pool_read_errors", "pool_write_errors", "pool_checksum_errors"} {
		series := s.Record[metric]
		last, ok := series.Last()
		if !ok {
			continue
		}
		// The total is ours, not the pool's: a counter that was cleared does not take the memory with it.
		total, _ := series.Growth(time.Time{})
		total += series[0].Value
		if total == 0 {
			continue
		}
		m, _ := drive.MetricByName(metric)
		grown, known := series.Growth(last.At.Add(-day))
		if !known {
			grown = total // counted since it was first looked at
		}
		f := Finding{Verdict: Watch, Since: series.FirstAbove(0), Metric: metric, Growth: grown,
			Says: fmt.Sprintf("gave its pool %s (%s)", amount(total, "errors"), poolErrorWords[metric]),
			Do:   "Scrub the pool; replace the drive if they come back.",
			Evidence: []Evidence{{metric, amount(total, "errors") + " since first watched, " +
				number(last.Value) + " by the pool's own count", last.At, m.Source()}}}
		if f.Since.IsZero() {
			f.Since = series.LastChange()
		}
		// Lost writes cannot be explained by a single bad sector, and damage that keeps coming is not an old scar.
		if grown > 0 && (metric == "pool_write_errors" || grown >= manySectors) {
			f.Verdict = Replace
			f.Do = "Replace it; check its cable when you are there."
		}
		if !found || f.Verdict.Gravity() > worst.Verdict.Gravity() {
			worst, found = f, true
		}
	}
	return worst, found
}

var poolErrorWords = map[drive.MetricName]string{
	"pool_read_errors": "reads that failed", "pool_write_errors": "writes that failed", "pool_checksum_errors": "wrong checksums",
}

func slow(s Subject) (Finding, bool) {
	last, ok := s.Record["read_latency_seconds"].Last()
	if !ok || s.PeerLatency <= 0 || s.Filling || last.Value < slowFloor || last.Value < slowFactor*s.PeerLatency {
		return Finding{}, false
	}
	since := s.Record["read_latency_seconds"].FirstAbove(slowFactor * s.PeerLatency)
	return Finding{
		Verdict: Replace, Since: since, Metric: "read_latency_seconds",
		Says: fmt.Sprintf("takes %s for a read, %.0f times as long as its peers", Seconds(last.Value), last.Value/s.PeerLatency),
		Do:   "Replace it: it holds its whole group back.",
		Evidence: []Evidence{
			{"read_latency_seconds", Seconds(last.Value) + " mean read latency", last.At, "host I/O statistics"},
			{"read_latency_seconds", Seconds(s.PeerLatency) + " median of its group's other members", last.At, "host I/O statistics"},
		},
	}, true
}

func linkErrors(s Subject) (Finding, bool) {
	series := s.Record["link_crc_errors"]
	last, ok := series.Last()
	if !ok || last.Value == 0 {
		return Finding{}, false
	}
	// Of a drive that was watched for less than 7 days, what grew since then counts.
	grown, _ := series.Growth(last.At.Add(-7 * day))
	if grown == 0 {
		return Finding{}, false // old ones that stand still are nobody's matter
	}
	perDay, _ := series.Growth(last.At.Add(-day))
	m, _ := drive.MetricByName("link_crc_errors")
	return Finding{
		Verdict: Watch, Since: series.FirstAbove(last.Value - grown), Metric: "link_crc_errors", Growth: perDay,
		Says:     fmt.Sprintf("has a bad link: %s damaged transfers in 7 days; the drive itself shows nothing", number(grown)),
		Do:       "Reseat it and check cable and bay. Do not replace the drive for this.",
		Evidence: []Evidence{{"link_crc_errors", amount(last.Value, m.Unit) + ", +" + number(grown) + " in 7 days", last.At, m.Source()}},
	}, true
}

func timeouts(s Subject) (Finding, bool) {
	series := s.Record["command_timeouts"]
	last, ok := series.Last()
	if !ok {
		return Finding{}, false
	}
	grown, known := series.Growth(last.At.Add(-day))
	if !known || grown < 3 {
		return Finding{}, false
	}
	return Finding{
		Verdict: Watch, Since: series.LastChange(), Metric: "command_timeouts", Growth: grown,
		Says:     fmt.Sprintf("did not finish %s commands in time since yesterday", number(grown)),
		Do:       "Check power and cabling.",
		Evidence: []Evidence{{"command_timeouts", "+" + amount(grown, "commands") + " in 24 h", last.At, "SMART attribute 188"}},
	}, true
}

func sibling(s Subject) (Finding, bool) {
	if len(s.Siblings) == 0 {
		return Finding{}, false
	}
	f := Finding{Verdict: Watch, Since: s.Siblings[0].At, Do: "Run an extended self-test."}
	tails := make([]string, len(s.Siblings))
	for i, b := range s.Siblings {
		tails[i] = b.Tail
		f.Evidence = append(f.Evidence, Evidence{Says: b.Why, At: b.At, Source: "identity"})
	}
	f.Says = "is of the same batch as " + strings.Join(tails, ", ") + ", which failed"
	return f, true
}

func unreadablePage(s Subject) (Finding, bool) {
	if s.Bad == nil {
		return Finding{}, false
	}
	return Finding{
		Verdict: Unknown, Since: s.LastAt,
		Says:     fmt.Sprintf("answered with a page that is unreadable: %s", s.Bad.Why),
		Do:       "The bytes are kept for a report. Check firmware and cable.",
		Evidence: []Evidence{{Says: fmt.Sprintf("%d bytes kept", len(s.Bad.Bytes)), At: s.LastAt, Source: string(s.Bad.Kind)}},
	}, true
}

func unknown(s Subject) (Finding, bool) {
	if !s.HostLate {
		return Finding{}, false
	}
	return Finding{
		Verdict: Unknown, Since: s.LastAt,
		Says:     "has not been heard of since its host went quiet",
		Do:       "Look at the host and its agent.",
		Evidence: []Evidence{{Says: "last report", At: s.LastAt, Source: "host report"}},
	}, true
}

func blind(s Subject) (Finding, bool) {
	if s.Blind == "" || s.HostLate || !s.Present {
		return Finding{}, false
	}
	return Finding{
		Verdict: Unknown, Since: s.FirstAt,
		Says:     "is blind: " + s.Blind,
		Do:       "Judge it by what its pool says.",
		Evidence: []Evidence{{Says: s.Blind, At: s.LastAt, Source: "host report"}},
	}, true
}

// SameBatch says whether two drives were made together: the same model, and serials that differ only in their last three
// characters, by at most near. Only what has a world wide name came out of a factory.
func SameBatch(a, b drive.Identity) bool {
	const near = 40
	if a.WWN == "" || b.WWN == "" || a.Model != b.Model || len(a.Serial) != len(b.Serial) || len(a.Serial) < 6 || a.Serial == b.Serial {
		return false
	}
	cut := len(a.Serial) - 3
	if a.Serial[:cut] != b.Serial[:cut] {
		return false
	}
	x, err1 := strconv.ParseInt(a.Serial[cut:], 36, 64)
	y, err2 := strconv.ParseInt(b.Serial[cut:], 36, 64)
	return err1 == nil && err2 == nil && max(x-y, y-x) <= near
}

func amount(v float64, unit string) string {
	if v == 1 && strings.HasSuffix(unit, "s") && len(unit) > 2 {
		unit = strings.TrimSuffix(unit, "s")
	}
	return number(v) + " " + unit
}

func number(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

// Seconds writes a duration given in seconds with the unit that suits it.
func Seconds(v float64) string {
	if v < 1 {
		return fmt.Sprintf("%.3g ms", v*1000)
	}
	return fmt.Sprintf("%.3g s", v)
}
