package swap

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/record"
)

// skewMost is the greatest error of a host's clock at which its times can be compared with those of others.
const skewMost = 30 * time.Second

type checker struct {
	s   Situation
	out []record.Check
}

func (c *checker) add(id, title, looked string, r record.Result, found, do string) {
	c.out = append(c.out, record.Check{ID: id, Title: title, Looked: looked, Found: found, Do: do, Result: r})
}

// need gives a fact. When the fact is unknown, the check stops and says so.
func need[T any](c *checker, fact Known[T], id, title, looked string) (v T, ok bool) {
	if v, ok = fact.Get(); !ok {
		c.add(id, title, looked, record.Stops, "not known", "Wait for the next report; if it stays so, look by hand.")
	}
	return v, ok
}

// Checks before the start. All are answered, also after one that stops.
func Checks(s Situation) []record.Check {
	c := &checker{s: s}
	c.host()
	c.clock(record.Warns)
	c.identity()
	c.bay()
	c.moving()
	c.alone()
	c.uses()
	c.witness()
	c.margin()
	c.room()
	c.others()
	c.testing()
	c.scrub()
	c.backup()
	c.fit()
	return c.out
}

// Gate gives the checks that are repeated immediately before a step that gives an order or lowers the margin, and with
// every report while that step waits. Before the new drive is confirmed, they are those of the new drive.
func Gate(s Situation, at Phase) []record.Check {
	c := &checker{s: s}
	switch at {
	case Pull, Release, Rehouse:
		c.host()
		c.moving()
		c.testing()
		c.uses()
		c.witness()
	case Drain:
		c.host()
		c.moving()
		c.room()
	case Scrub, Refill:
		c.host()
		c.moving()
	case Still, Down:
		c.moving()
		if c.s.Pool != nil {
			c.down(true)
		}
	case Confirm:
		c.host()
		c.newcomer()
	case Up:
		c.host()
		c.clock(record.Stops)
		c.peers()
	}
	return c.out
}

func (c *checker) host() {
	p := c.s.Plan
	const id, title = "host-reports", "Reports of the host"
	seen := "report of " + p.Host + " of " + c.s.PoolSeen.UTC().Format("2006-01-02 15:04:05") + " UTC"
	host, ok := need(c, c.s.Host, id, title, seen)
	switch {
	case !ok:
	case host.Late:
		c.add(
			id,
			title,
			seen,
			record.Stops,
			p.Host+" has stopped reporting, so nothing below can be trusted",
			"Bring its agent back first.",
		)
	default:
		c.add(id, title, seen, record.Passes, p.Host+" reports", "")
	}
}

// clock checks whether the host's clock agrees with ours. A difference stops the swap after a power-down, when the
// clock may have been reset, and warns before the start.
func (c *checker) clock(wrong record.Result) {
	const id, title = "host-clock", "Clock of the host"
	looked := "the time in the newest report of " + c.s.Plan.Host
	host, ok := need(c, c.s.Host, id, title, looked)
	off := host.Skew.Abs()
	switch {
	case !ok:
	case host.Late:
		c.add(
			id,
			title,
			looked,
			wrong,
			"how far it is off is not known: "+c.s.Plan.Host+" has stopped reporting",
			"Bring its agent back first.",
		)
	case off > skewMost:
		c.add(id, title, looked, wrong, fmt.Sprintf("off by %s", off.Round(time.Second)), "Set it first.")
	default:
		c.add(id, title, looked, record.Passes, "off by less than 30 s", "")
	}
}

// peers checks whether all other members on the host came back with it.
func (c *checker) peers() {
	const id, title = "peers-back", "Other members on this host"
	looked := "members of all pools on " + c.s.Plan.Host
	away, ok := need(c, c.s.Peers, id, title, looked)
	switch {
	case !ok:
	case len(away) > 0:
		c.add(
			id,
			title,
			looked,
			record.Stops,
			strings.Join(away, ", ")+" did not come back",
			"Check that it sits firmly in its bay.",
		)
	default:
		c.add(id, title, looked, record.Passes, "all answer", "")
	}
}

func (c *checker) identity() {
	const id, title = "identity", "Identity"
	p := c.s.Plan
	looked := "identities of all drives"
	if p.Old.WWN == "" && p.Old.Serial == "" {
		c.add(
			id,
			title,
			looked,
			record.Stops,
			"it reports neither a WWN nor a serial",
			"It cannot be identified safely, so it gets no orders; check the pool system by hand.",
		)
		return
	}
	twin, ok := need(c, c.s.Twin, id, title, looked)
	switch {
	case !ok:
	case twin != "":
		c.add(
			id,
			title,
			looked,
			record.Warns,
			"another drive, in "+twin+", has the same label tail "+p.Old.Tail(),
			"Compare the whole serial: "+p.Old.Serial+".",
		)
	default:
		c.add(id, title, looked, record.Passes, "serial "+p.Old.Serial+", no other drive has its label tail", "")
	}
}

func (c *checker) bay() {
	const id, title = "bay", "Bay of the drive"
	p := c.s.Plan
	switch {
	case c.s.BayKnown && p.OldGone:
		c.add(
			id,
			title,
			"where it was last seen on "+p.Host,
			record.Passes,
			p.Old.Tail()+" was last in bay "+p.Old.Bay,
			"",
		)
	case c.s.BayKnown:
		c.add(id, title, "enclosure of "+p.Host, record.Passes, p.Old.Tail()+" is in bay "+p.Old.Bay, "")
	default:
		c.add(
			id,
			title,
			"enclosures of "+p.Host,
			record.Warns,
			p.Old.Tail()+" has no known bay",
			"Compare the serial on the label before you pull anything.",
		)
	}
}

func (c *checker) moving() {
	const id, title = "no-recovery", "Recovery in this pool"
	looked := "recoveries of " + c.s.Plan.Pool
	what, ok := need(c, c.s.Recovery, id, title, looked)
	switch {
	case !ok:
	case what != "":
		c.add(id, title, looked, record.Stops, what+" running", "Wait until it has ended.")
	default:
		c.add(id, title, looked, record.Passes, "none running", "")
	}
}

// alone checks for other open matters of the pool and the host.
func (c *checker) alone() {
	p := c.s.Plan
	const swaps = "Other swaps of this pool"
	other, ok := need(c, c.s.OtherSwap, "one-swap", swaps, "swaps under way")
	switch {
	case !ok:
	case other != "":
		c.add("one-swap", swaps, "swaps under way", record.Stops, "one is led by "+other, "End that one first.")
	default:
		c.add("one-swap", swaps, "swaps under way", record.Passes, "none", "")
	}
	const id, title = "only-matter", "Other open issues"
	looked := "findings, parts of shelves and swaps of " + p.Pool + " and " + p.Host
	onHost, ok := need(c, c.s.OnHost, id, title, looked)
	if !ok {
		return
	}
	matters, ok := need(c, c.s.Matters, id, title, looked)
	if !ok {
		return
	}
	var open []string
	if onHost != "" {
		open = append(open, "a swap in "+onHost+" is under way on "+p.Host+": two people may work there")
	}
	if open = append(open, matters...); len(open) > 0 {
		c.add(
			id,
			title,
			looked,
			record.Warns,
			strings.Join(open, "; "),
			"Make sure that this one is replaced first.",
		)
		return
	}
	c.add(id, title, looked, record.Passes, "none", "")
}

func (c *checker) room() {
	p := c.s.Plan
	if c.s.Pool == nil || !p.Recipe.has(Drain) {
		return
	}
	const id, title = "room", "Room on the other members"
	slots := p.Recipe.Unit
	if len(slots) == 0 {
		slots = []string{p.Slot}
	}
	r := c.s.Pool.Room(slots, 0)
	looked := "free room on the other members of " + p.Pool
	if !r.Fits {
		c.add(id, title, looked, record.Stops, r.Why, "Make space first, or add a drive.")
		return
	}
	c.add(id, title, looked, record.Passes, grouped(r.Need)+" bytes move, "+grouped(r.Free)+" are free", "")
}

func (c *checker) others() {
	const id, title = "others-sound", "Health of the other members"
	looked := "verdicts of the members of " + c.s.Plan.Pool
	worst, ok := need(c, c.s.Gravest, id, title, looked)
	switch {
	case !ok:
	case worst.Tail != "":
		c.add(
			id,
			title,
			looked,
			record.Warns,
			fmt.Sprintf("%s has the verdict %s as well", worst.Tail, worst.Verdict),
			"Decide which of them to replace first.",
		)
	case len(worst.Unknown) > 0:
		some := worst.Unknown[:min(len(worst.Unknown), 5)]
		found := "not known for " + strings.Join(some, ", ")
		if more := len(worst.Unknown) - len(some); more > 0 {
			found += fmt.Sprintf(" and %d more", more)
		}
		c.add(id, title, looked, record.Warns, found, "Find out why first: lantern drive "+some[0])
	default:
		c.add(id, title, looked, record.Passes, "none has verdict replace or dead", "")
	}
}

func (c *checker) testing() {
	const id, title = "self-tests", "Self-tests of the members"
	looked := "self-tests of the members of " + c.s.Plan.Pool
	running, ok := need(c, c.s.Testing, id, title, looked)
	switch {
	case !ok:
	case len(running) > 0:
		c.add(
			id,
			title,
			looked,
			record.Warns,
			"running on "+strings.Join(running, ", ")+", slower for it",
			"Let it end, or stop it.",
		)
	default:
		c.add(id, title, looked, record.Passes, "none running", "")
	}
}

func (c *checker) scrub() {
	const id, title = "last-scrub", "Last scrub"
	p := c.s.Plan
	looked := "recoveries of " + p.Pool
	last, ok := need(c, c.s.Scrub, id, title, looked)
	of := "scrub of " + last.At.UTC().Format("2006-01-02")
	switch {
	case !ok:
	case p.Recipe.has(Scrub):
		c.add(id, title, looked, record.Passes, "it is read through as a step of this swap", "")
	case last.At.IsZero():
		c.add(
			id,
			title,
			looked,
			record.Warns,
			"none on record, so hidden damage is not ruled out",
			"Scrub the pool first, or say why not.",
		)
	case !last.Clean:
		c.add(id, title, of, record.Warns, "it left damage it could not repair", "Find out what is damaged first.")
	case c.s.Now.IsZero():
		c.add(id, title, of, record.Stops, "how long ago it was is not known", "Wait for the next report.")
	case c.s.Now.Sub(last.At) > fresh:
		c.add(
			id,
			title,
			of,
			record.Warns,
			fmt.Sprintf("it left nothing unrepaired, but is %d days old", int(c.s.Now.Sub(last.At).Hours()/24)),
			"Scrub the pool first, or say why not.",
		)
	default:
		c.add(id, title, of, record.Passes, "it left nothing unrepaired", "")
	}
}

// backup asks for the date of the backup where the margin reaches zero during the swap.
func (c *checker) backup() {
	p := c.s.Plan
	if c.s.Pool == nil {
		return
	}
	const id, title = "backup", "Backup"
	now, after, lost, known := c.left()
	least := after
	if p.Recipe.Beside || p.Recipe.has(Drain) {
		least = now
	}
	if !known || least > 0 && len(lost) == 0 {
		return
	}
	c.add(
		id,
		title,
		"the statement of the person who begins",
		record.Warns,
		"on the way the pool cannot lose another drive",
		"Give the date of the newest backup, or say that there is none.",
	)
}

func (c *checker) fit() {
	p := c.s.Plan
	found := "a new drive needs at least " + grouped(p.Needs) + " bytes"
	if p.AtMost > 0 {
		found += " and at most " + grouped(p.AtMost)
	}
	if p.Old.Sector > 0 {
		found += fmt.Sprintf(", in sectors of at most %d", p.Old.Sector)
	}
	if p.Old.Medium != "" && p.Old.Medium != drive.MediumUnknown {
		found += ", " + string(p.Old.Medium)
		if p.Old.Medium == drive.MediumRotating {
			found += " or faster"
		}
	}
	if c.s.Stock != "" {
		found += "; " + c.s.Stock + " of the stock fits"
	}
	c.add("fit", "Replacement size", "slot "+p.Slot+" of "+p.Pool, record.Passes, found, "")
}

// grouped writes an exact number of bytes with its digits in groups of three, so that people can compare it.
func grouped(b drive.Bytes) string {
	s := fmt.Sprint(uint64(b))
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// gated reports whether checks precede a step.
func gated(p Phase) bool {
	return slices.Contains([]Phase{Scrub, Drain, Release, Refill, Pull, Still, Down, Up, Rehouse}, p)
}

// Gated reports whether an observation of the pool must carry the checks of Gate.
func (s *State) Gated() bool { return s.Phase.Open() && gated(s.Phase) }
