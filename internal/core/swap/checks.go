package swap

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/pool"
)

// Result is what a check says.
type Result string

// A check that warns asks for a reason; one that stops cannot be talked over.
const (
	Passes Result = "passes"
	Warns  Result = "warns"
	Stops  Result = "stops"
)

// Check is one thing that was looked at, with its evidence: the same value in all three faces.
type Check struct {
	ID     string `json:"id"`
	Title  string `json:"title"`
	Looked string `json:"looked"` // at what
	Found  string `json:"found"`
	Do     string `json:"do,omitempty"`
	Result Result `json:"result"`
}

// Situation is what the checks before the start look at.
type Situation struct {
	Plan       State
	Pool       *pool.Pool // nil when nothing is known of it
	PoolSeen   time.Time
	HostLate   bool
	Recovery   string // what moves in the pool now; empty when nothing does
	OtherSwap  string // who leads another swap on this pool; empty when there is none
	Gravest    string // tail of another member of the pool in a bad state; empty when there is none
	GravestIs  health.Verdict
	BayKnown   bool
	LastScrub  time.Time
	ScrubClean bool
}

// Checks before the start. Every one is answered, also when an earlier one stops.
func Checks(s Situation) []Check {
	p := s.Plan
	var out []Check
	add := func(id, title, looked string, r Result, found, do string) {
		out = append(out, Check{ID: id, Title: title, Looked: looked, Found: found, Do: do, Result: r})
	}
	seen := "report of " + p.Host + " of " + s.PoolSeen.UTC().Format("2006-01-02 15:04:05") + " UTC"

	if s.HostLate {
		add("host-reports", "The host is heard", seen, Stops, p.Host+" has stopped reporting, so nothing below can be trusted", "Bring its agent back first.")
	} else {
		add("host-reports", "The host is heard", seen, Passes, p.Host+" reports", "")
	}

	if s.BayKnown {
		add("bay", "The bay is known", "enclosure of "+p.Host, Passes, p.Old.Tail()+" is in bay "+p.Old.Bay, "")
	} else {
		add("bay", "The bay is known", "enclosures of "+p.Host, Warns, p.Old.Tail()+" has no known bay", "Compare the serial on the label before you pull anything.")
	}

	if s.Recovery != "" {
		add("no-recovery", "Nothing recovers in this pool", "recoveries of "+p.Pool, Stops, "a "+s.Recovery+" is running", "Wait until it has ended.")
	} else {
		add("no-recovery", "Nothing recovers in this pool", "recoveries of "+p.Pool, Passes, "none is running", "")
	}

	if s.OtherSwap != "" {
		add("one-swap", "This is the pool's only swap", "swaps under way", Stops, "another is led by "+s.OtherSwap, "End that one first.")
	} else {
		add("one-swap", "This is the pool's only swap", "swaps under way", Passes, "there is no other", "")
	}

	marginCheck(s, add)

	if s.Gravest != "" {
		add("others-sound", "The other members are sound", "verdicts of the members of "+p.Pool, Warns,
			fmt.Sprintf("%s has the verdict %s as well", s.Gravest, s.GravestIs), "Be sure which of them to replace first.")
	} else {
		add("others-sound", "The other members are sound", "verdicts of the members of "+p.Pool, Passes, "none is to be replaced or dead", "")
	}

	switch {
	case s.LastScrub.IsZero():
		add("last-scrub", "The pool was read through lately", "recoveries of "+p.Pool, Warns, "no scrub is on record, so hidden damage is not ruled out", "Scrub the pool first, or say why not.")
	case !s.ScrubClean:
		add("last-scrub", "The pool was read through lately", "scrub of "+s.LastScrub.UTC().Format("2006-01-02"), Warns, "it left damage it could not repair", "Find out what is damaged first.")
	default:
		add("last-scrub", "The pool was read through lately", "scrub of "+s.LastScrub.UTC().Format("2006-01-02"), Passes, "it left nothing unrepaired", "")
	}

	add("fit", "What fits is known", "slot "+p.Slot+" of "+p.Pool, Passes, "a new drive needs at least "+grouped(p.Needs)+" bytes", "")
	return out
}

// marginCheck looks at what is left when the drive is out (R1), and at what depends on it.
func marginCheck(s Situation, add func(id, title, looked string, r Result, found, do string)) {
	const id, title = "margin", "Enough is left when it is out"
	looked := "groups and volumes of " + s.Plan.Pool
	if s.Pool == nil {
		add(id, title, looked, Stops, "nothing is known of the pool", "Wait for a report of it.")
		return
	}
	for _, l := range s.Pool.Logs {
		if l.Slot != s.Plan.Slot {
			continue
		}
		var n int
		s.Pool.Everyone(func(_ string, m *pool.Member) {
			if m.Log == l.Slot {
				n++
			}
		})
		if n > 0 {
			add(id, title, looked, Stops, fmt.Sprintf("it is a log device; %d members would be lost with it", n), "It must be replaced with its members as one unit; that is not offered here.")
			return
		}
	}
	before, known := s.Pool.Margin()
	after, volumes, _ := s.Pool.Without(s.Plan.Slot)
	switch {
	case !known:
		add(id, title, looked, Stops, "the margin of the pool is unknown", "Wait for a report of it.")
	case len(volumes) > 0:
		add(id, title, looked, Stops, "without it "+strings.Join(volumes, ", ")+" would be lost", "Drain the drive first.")
	case after < 0:
		add(id, title, looked, Stops, "without it data would be lost", "Restore redundancy first.")
	case after == 0:
		add(id, title, looked, Warns, "now "+before.String()+"; without it "+after.String(), "Have a backup at hand.")
	default:
		add(id, title, looked, Passes, "now "+before.String()+"; without it "+after.String(), "")
	}
}

// closing gives the checks that must all hold before the swap is closed as verified.
func (s *State) closing(e Event) []Check {
	p := e.Pool
	seen := "report of " + e.At.UTC().Format("2006-01-02 15:04:05") + " UTC"
	check := func(id, title string, ok bool, found, do string) Check {
		c := Check{ID: id, Title: title, Looked: seen, Found: found, Result: Passes}
		if !ok {
			c.Result, c.Do = Stops, do
		}
		return c
	}
	left := strconv.FormatUint(p.Unrepairable, 10) + " blocks were left unrecovered"
	margin := e.Margin.String()
	if !p.MarginKnown {
		margin = "unknown"
	}
	lights, verdict := "none is lit", p.NewVerdict
	if p.LightOn {
		lights = "the bay is still lit"
	}
	// A drive that cannot tell about itself is unknown, and one may be watched for weak reasons: neither is a reason to
	// leave the swap open for ever, but it is said.
	drive := check("new-drive", "The new drive is enrolled and well", verdict == string(health.Sound) || verdict == string(health.Unknown), s.New.Tail()+" has the verdict "+verdict, "Look at its findings.")
	if verdict == string(health.Watch) {
		drive.Result = Warns
	}
	return []Check{
		check("pool-healthy", "The pool has its member", p.Member == pool.Online, "slot "+s.Slot+" is "+string(p.Member), "Look at the pool."),
		check("margin-restored", "The margin is restored", p.MarginKnown && e.Margin >= s.Margin, margin, "Another member is gone; see the round."),
		check("nothing-left", "Nothing was left unrecovered", p.Unrepairable == 0, left, "Find out which files they belong to, and restore them."),
		drive,
		check("lights-out", "Lights are out", !p.LightOn, lights, "It is being put out."),
	}
}

// grouped writes an exact number of bytes in groups of three, for people to compare.
func grouped(b drive.Bytes) string {
	s := strconv.FormatUint(uint64(b), 10)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}
