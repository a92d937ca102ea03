// Package accept is the acceptance test of a drive: its earlier use, its self-tests, its whole surface written and read
// back, and its error counters meanwhile. It is a deterministic state machine, like a swap: events go in, a new state
// and orders come out.
package accept

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/record"
)

// Stage is one part of the test.
type Stage string

// The stages, in their order. The person who begins the test chooses which of them apply.
const (
	Fresh    Stage = "fresh"    // its earlier use
	Short    Stage = "short"    // its short self-test
	Surface  Stage = "surface"  // write patterns to its whole surface and read them back
	Extended Stage = "extended" // its extended self-test
	Compare  Stage = "compare"  // its error counters meanwhile
)

// Outcome is the state of the test.
type Outcome string

// The outcomes.
const (
	Running Outcome = "running"
	Paused  Outcome = "paused"
	Passed  Outcome = "passed"
	Failed  Outcome = "failed"
	Stopped Outcome = "stopped"
)

// Open reports whether it has not ended.
func (o Outcome) Open() bool { return o == Running || o == Paused }

// Counts are the counters of a drive at one moment.
type Counts struct {
	At     time.Time                    `json:"at"`
	Values map[drive.MetricName]float64 `json:"values"`
}

// State is one acceptance.
type State struct {
	ID     string         `json:"id"`
	By     string         `json:"by"`
	Drive  drive.Identity `json:"drive"`
	Host   string         `json:"host"`
	Bay    string         `json:"bay"`
	Stages []Stage        `json:"stages"`
	At     int            `json:"at"` // index of the stage
	// Asked is true when the order of the stage was given and has not ended.
	Asked   bool    `json:"asked,omitempty"`
	Outcome Outcome `json:"outcome"`
	Rate    int64   `json:"rate,omitempty"` // greatest pace in bytes a second
	// Since is the time after which a reading shows the state after all stages but the last.
	Since   time.Time      `json:"since"`
	Before  Counts         `json:"before"`
	Checks  []record.Check `json:"checks"`
	Log     []record.Entry `json:"log"`
	BegunAt time.Time      `json:"begun_at"`
	EndedAt time.Time      `json:"ended_at,omitzero"`
	Surface SurfaceReport  `json:"surface"`
}

// Decode reads a stored state. Earlier versions stored checks as findings.
func Decode(doc []byte) (s State, err error) {
	if err := json.Unmarshal(doc, &s); err != nil {
		return s, err
	}
	var old struct {
		Findings []struct {
			record.Check
			Grave, Odd bool
		} `json:"findings"`
	}
	if err := json.Unmarshal(doc, &old); err != nil {
		return s, err
	}
	for _, f := range old.Findings {
		f.Result = record.Passes
		switch {
		case f.Grave:
			f.Result = record.Stops
		case f.Odd:
			f.Result = record.Warns
		}
		s.Checks = append(s.Checks, f.Check)
	}
	return s, nil
}

// Order is an order for the drive's host.
type Order struct {
	Kind OrderKind
	Test drive.SelfTestKind // a self-test
}

// OrderKind is what is ordered.
type OrderKind string

// The orders.
const (
	OrderTest    OrderKind = "test"
	OrderSurface OrderKind = "surface"
	OrderPause   OrderKind = "pause"
	OrderStop    OrderKind = "stop"
)

// grave are the counters that are zero on a new drive and must not grow while it is tested.
var grave = []struct {
	metric drive.MetricName
	words  string
}{
	{"reallocated_sectors", "reallocated sectors"},
	{"pending_sectors", "pending sectors"},
	{"offline_uncorrectable_sectors", "sectors that cannot be corrected"},
	{
		"reported_uncorrectable_errors",
		"errors that were reported as uncorrectable",
	},
	{"grown_defects", "grown defects"},
	{"uncorrected_read_errors", "reads that could not be corrected"},
	{"uncorrected_write_errors", "writes that could not be corrected"},
	{"media_errors", "media errors"},
}

// Greatest power-on time of a new drive: a longer one means earlier use.
const (
	newHours   = 48
	newCycles  = 50
	newWritten = 100e9
)

// Policy gives the stages of one acceptance.
func Policy(surface, extended bool) []Stage {
	out := []Stage{Fresh, Short}
	if surface {
		out = append(out, Surface)
	}
	if extended {
		out = append(out, Extended)
	}
	return append(out, Compare)
}

// Lacks lists the stages that a policy requires and that an acceptance did not have; empty when it had all.
func (s *State) Lacks(policy []Stage) string {
	var out []string
	for _, st := range policy {
		switch {
		case slices.Contains(s.Stages, st):
		case st == Surface:
			out = append(out, "its whole surface")
		default:
			out = append(out, "its "+string(st)+" self-test")
		}
	}
	return strings.Join(out, " and ")
}

// Stage is the present stage.
func (s *State) Stage() Stage { return s.Stages[min(s.At, len(s.Stages)-1)] }

func (s *State) say(at time.Time, who, format string, args ...any) {
	s.Log = append(slices.Clip(s.Log), record.Entry{At: at, Who: who, Says: fmt.Sprintf(format, args...)})
}

// logLag is the greatest age of the reading that shows the end of a self-test.
const logLag = time.Minute

// found records a check. A check that stops fails the drive.
func (s *State) found(c record.Check) {
	s.Checks = append(slices.Clip(s.Checks), c)
	if c.Result == record.Stops {
		s.Outcome = Failed
	}
}

// tells reports whether a drive has error counters at all: without them it is not known to be good (R7).
func (c Counts) tells() bool {
	for _, g := range grave {
		if _, ok := c.Values[g.metric]; ok {
			return true
		}
	}
	return false
}

const untold = "not reported by this drive"

// Past checks the counters of a drive: its earlier use and its errors, two checks in this order.
func Past(now Counts) []record.Check {
	looked := "its own counters of " + now.At.UTC().Format("2006-01-02 15:04:05") + " UTC"
	hours, told := now.Values["power_on_hours"]
	cycles := now.Values["power_cycles"]
	fresh := record.Check{ID: "fresh", Title: "Earlier use", Looked: looked, Result: record.Warns}
	const sendBack = "If it was sold as new, send it back."
	switch {
	case !told:
		fresh.Found = "power-on hours are not reported"
	case hours > newHours:
		fresh.Found, fresh.Do = fmt.Sprintf("not new: %.0f h powered on", hours), sendBack
	case cycles > newCycles:
		fresh.Found, fresh.Do = fmt.Sprintf("not new: %.0f power cycles", cycles), sendBack
	case now.Values["bytes_written"] > newWritten:
		fresh.Found, fresh.Do = fmt.Sprintf("not new: %.0f GB written", now.Values["bytes_written"]/1e9), sendBack
	default:
		fresh.Found, fresh.Result = fmt.Sprintf("%.0f h powered on", hours), record.Passes
	}
	clean := record.Check{
		ID:     "clean",
		Title:  "Error counters",
		Looked: looked,
		Found:  "all zero",
		Result: record.Passes,
	}
	for _, g := range grave {
		if v := now.Values[g.metric]; v > 0 {
			clean.Found, clean.Result, clean.Do = fmt.Sprintf("%.0f %s", v, g.words), record.Stops, "Send it back."
			break
		}
	}
	if !now.tells() {
		clean.Found, clean.Result = untold, record.Warns
	}
	return []record.Check{fresh, clean}
}

// Begin checks the earlier use of the drive and goes to the first test.
func Begin(s State, at time.Time, now Counts) (State, []Order) {
	s.BegunAt, s.Outcome, s.Before = at, Running, now
	s.say(at, s.By, "started the acceptance test of %s", s.Drive.Tail())
	for _, c := range Past(now) {
		s.found(c)
	}
	if s.Outcome == Failed {
		s.end(at)
		return s, nil
	}
	return s.goOn(at)
}

// goOn goes to the next stage and gives its orders.
func (s State) goOn(at time.Time) (State, []Order) {
	s.At, s.Asked = s.At+1, false
	return s.Orders(at)
}

// Orders gives the orders of the present stage that were not given yet.
func (s State) Orders(at time.Time) (State, []Order) {
	if s.Outcome != Running || s.Asked {
		return s, nil
	}
	switch s.Stage() {
	case Short:
		s.Asked = true
		return s, []Order{{Kind: OrderTest, Test: drive.SelfTestShort}}
	case Extended:
		s.Asked = true
		return s, []Order{{Kind: OrderTest, Test: drive.SelfTestExtended}}
	case Surface:
		s.Asked = true
		return s, []Order{{Kind: OrderSurface}}
	}
	return s, nil
}

// TestEnded records the end of a self-test. If something else stopped the test, the acceptance pauses until a person
// resumes it.
func (s State) TestEnded(at time.Time, kind drive.SelfTestKind, passed, failed bool, says string) (State, []Order) {
	mine := s.Stage() == Short && kind == drive.SelfTestShort || s.Stage() == Extended && kind == drive.SelfTestExtended
	if !s.Outcome.Open() || !mine {
		return s, nil
	}
	c := record.Check{
		ID:     string(s.Stage()),
		Title:  "Its " + string(s.Stage()) + " self-test",
		Looked: "its self-test log",
		Found:  says,
		Result: record.Passes,
	}
	switch {
	case passed:
		s.found(c)
		s.say(at, record.Seen, "its %s self-test: %s", kind, says)
		s.Since = at.Add(-logLag) // the reading that shows its end is newer than the end
		return s.goOn(at)
	case failed:
		c.Result, c.Do = record.Stops, "Send it back."
		s.found(c)
		s.end(at)
		return s, nil
	}
	s.Asked, s.Outcome = false, Paused
	s.say(at, record.Seen, "its %s self-test did not come to an end: %s", kind, says)
	return s, nil
}

// CannotTest records that the drive does not support this self-test: the check says so, and the stage ends.
func (s State) CannotTest(at time.Time, why string) (State, []Order) {
	if s.Outcome != Running || s.Stage() != Short && s.Stage() != Extended {
		return s, nil
	}
	s.found(
		record.Check{
			ID:     string(s.Stage()),
			Title:  "Its " + string(s.Stage()) + " self-test",
			Looked: "what it says it can do",
			Found:  why,
			Result: record.Warns,
		},
	)
	return s.goOn(at)
}

// NoCounts records that the drive reports no counters.
func (s State) NoCounts(at time.Time, why string) State {
	if s.Outcome != Running || s.Stage() != Compare {
		return s
	}
	s.found(
		record.Check{
			ID:     "compare",
			Title:  "Errors during the test",
			Looked: "its counters before and after",
			Found:  "it tells none: " + why,
			Result: record.Warns,
		},
	)
	s.Outcome = Passed
	s.end(at)
	return s
}

// OrderFailed records that an order was not carried out: nothing was written.
func (s State) OrderFailed(at time.Time, why string) State {
	if s.Outcome == Running && s.Asked {
		s.Outcome, s.Asked = Paused, false
		s.say(at, record.Seen, "the host did not do it: %s", why)
	}
	return s
}

// CountsSeen compares the counters at the end with those at the beginning.
func (s State) CountsSeen(now Counts) State {
	if s.Outcome != Running || s.Stage() != Compare || !now.At.After(s.BegunAt) || s.At == 0 {
		return s
	}
	if now.At.Before(s.Since) {
		return s // a reading from before the end of the last stage does not count
	}
	c := record.Check{
		ID:     "compare",
		Title:  "Errors during the test",
		Looked: "its counters before and after",
		Found:  "no counter of bad sectors moved",
		Result: record.Passes,
	}
	if !now.tells() {
		c.Found, c.Result = untold, record.Warns
	}
	for _, g := range grave {
		if before, after := s.Before.Values[g.metric], now.Values[g.metric]; after > before {
			c.Found, c.Result, c.Do = fmt.Sprintf(
				"%s went from %.0f to %.0f",
				g.words,
				before,
				after,
			), record.Stops, "Send it back."
			break
		}
	}
	if before, after := s.Before.Values["link_crc_errors"], now.Values["link_crc_errors"]; c.Result != record.Stops &&
		after > before {
		c.Found, c.Result, c.Do = fmt.Sprintf(
			"its link had %.0f errors: the cable or the bay is to blame",
			after-before,
		), record.Warns, "Try it in another bay."
	}
	s.found(c)
	if s.Outcome == Running {
		s.Outcome = Passed
	}
	s.end(now.At)
	return s
}

func (s *State) end(at time.Time) {
	s.EndedAt, s.Asked = at, false
	words := s.Words()
	if words != "" {
		words = ": " + words
	}
	s.say(at, record.Seen, "%s%s", s.Outcome, words)
}

// Words is the worst result in words.
func (s *State) Words() string {
	best := ""
	for _, c := range s.Checks {
		if c.Result == record.Stops {
			return c.Found
		}
		if c.Result == record.Warns && best == "" {
			best = c.Found
		}
	}
	if best == "" && s.Outcome == Passed {
		best = "no objection"
	}
	return best
}

// Act performs a person's action: pause, resume, stop. why is the reason why it is impossible.
func (s State) Act(at time.Time, by, what, reason string) (next State, orders []Order, why string) {
	if !s.Outcome.Open() {
		return s, nil, "the test has ended: " + string(s.Outcome)
	}
	because := ""
	if reason = strings.TrimSpace(reason); reason != "" {
		because = " (" + reason + ")"
	}
	switch what {
	case "pause":
		if s.Outcome == Paused {
			return s, nil, ""
		}
		if s.Stage() != Surface {
			return s, nil, "only the writing of its surface can be paused; stop it instead"
		}
		s.Outcome, s.Asked = Paused, false
		s.say(at, by, "paused it%s", because)
		return s, []Order{{Kind: OrderPause}}, ""
	case "resume":
		if s.Outcome == Running {
			return s, nil, ""
		}
		s.Outcome, s.Surface.State = Running, ""
		s.say(at, by, "lets it go on%s", because)
		s, orders = s.Orders(at)
		return s, orders, ""
	}
	s.Outcome = Stopped
	s.say(at, by, "stopped it%s", because)
	s.end(at)
	return s, []Order{{Kind: OrderStop}}, ""
}
