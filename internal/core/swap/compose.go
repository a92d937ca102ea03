package swap

import (
	"slices"
	"strings"

	"lantern/internal/core/pool"
)

// composer is a recipe under construction, with the facts about its situation.
type composer struct {
	Ground
	r      Recipe
	member pool.Member
	group  string

	log     bool // it is a log device
	multi   bool // the drive has more than one place
	spread  bool // data can be placed on any member: the content of the drive can move to the others
	hand    bool // all its pools are watch-only
	carries bool // it still stores data
	after   pool.Margin
	known   bool
	lost    []string // volumes that are lost without it
}

// shape is one way to replace a drive: when it applies, and its steps.
type shape struct {
	fits    func(c *composer) bool
	compose func(c *composer)
}

// shapes are all ways in order of preference: the one that costs least margin first. Where possible, a drive is removed
// only after its data is stored elsewhere. The last one always applies.
var shapes = []shape{
	{func(c *composer) bool { return !c.carries }, (*composer).lostAlready},
	// This applies even where a tested drive waits in the host: the old one cannot be removed while the host runs.
	{func(c *composer) bool { return c.Cold }, (*composer).hostDown},
	{func(c *composer) bool { return c.hand && c.needed() && c.Free == "" && !c.Waits }, (*composer).movedByHand},
	{(*composer).newFirstFits, (*composer).newFirst},
	{(*composer).spareFirstFits, (*composer).spareFirst},
	{func(c *composer) bool {
		return c.spread && c.offers("drain") && (len(c.lost) > 0 || c.r.Slow || c.log)
	}, (*composer).drainedFirst},
	{func(c *composer) bool {
		return c.offers("beside") && (c.needed() || c.known && c.after == 0 && c.Outside != "")
	}, (*composer).temporaryPlace},
	{func(*composer) bool { return true }, (*composer).outAndIn},
}

// Compose gives the steps that lead from the situation to a healthy pool.
func Compose(g Ground) Recipe {
	c := &composer{Ground: g}
	c.look()
	c.say()
	c.step(Planned)
	for _, x := range shapes {
		if x.fits(c) {
			x.compose(c)
			break
		}
	}
	c.step(Verify)
	c.layers()
	return c.r
}

func (c *composer) why(words string)  { c.r.Why = append(c.r.Why, words) }
func (c *composer) step(p ...Phase)   { c.r.Steps = append(c.r.Steps, p...) }
func (c *composer) needed() bool      { return c.known && (c.after < 0 || len(c.lost) > 0) }
func (c *composer) unread() bool      { return !c.Clean || c.Now.Sub(c.Scrubbed) > fresh }
func (c *composer) lostWords() string { return strings.Join(c.lost, ", ") }

// offers reports whether every pool of the drive has a capability.
func (c *composer) offers(what string) bool {
	return slices.Contains(c.Offers, what) &&
		!slices.ContainsFunc(c.Others, func(x OtherPlace) bool { return !slices.Contains(x.Offers, what) })
}

// look determines the facts that the shapes depend on.
func (c *composer) look() {
	c.member, c.group, _ = c.Pool.Slot(c.Slot)
	c.multi = len(c.Others) > 0
	c.after, c.lost, c.known = c.without()
	c.log = slices.ContainsFunc(c.Pool.Logs, func(l pool.Member) bool { return l.Slot == c.Slot })
	c.hand = c.Pool.Watched && !slices.ContainsFunc(c.Others, func(x OtherPlace) bool { return !x.Pool.Watched })
	for _, x := range c.Pool.Groups {
		c.spread = c.spread || x.Spread && (x.Name == c.group || c.log) && !c.multi
		if x.Name != c.group {
			continue
		}
		c.r.Slow = x.Heals
		for _, other := range x.Members {
			if other.StandsFor == c.Slot && c.member.State == pool.Out {
				c.r.Stood = other.Slot
			}
		}
	}
	if c.log {
		c.Pool.Everyone(func(_ string, x *pool.Member) {
			if x.Log == c.Slot && x.State != pool.Out {
				c.r.Unit = append(c.r.Unit, x.Slot)
			}
		})
	}
	// A pool that set the drive aside has restored its share, or has given its place to a spare.
	holds := func(m pool.Member) bool { return !c.Gone && !m.Lost() && m.State != pool.Out }
	c.carries = holds(c.member)
	for _, x := range c.Others {
		m, _, _ := x.Pool.Slot(x.Slot)
		c.carries = c.carries || holds(m)
	}
}

// say adds the explanations that are common to all shapes.
func (c *composer) say() {
	for _, x := range c.Pool.Groups {
		if x.Name != c.group || !slices.ContainsFunc(x.Members, func(m pool.Member) bool { return m.Parity }) {
			continue
		}
		if c.member.Parity {
			c.why("it is the parity drive: the data stay whole without it, but the pool cannot lose another drive " +
				"until it is filled again")
		} else {
			c.why("the pool serves what is on it from parity until the new one is filled")
		}
	}
	var names []string
	for _, x := range c.Others {
		if x.Pool.ID != c.Pool.ID && !slices.Contains(names, x.Pool.Name) {
			names = append(names, x.Pool.Name)
		}
	}
	if len(names) > 0 {
		c.why("the drive is also a member of " + strings.Join(names, ", ") + ": all its places are filled in one swap")
	}
	if c.hand {
		c.r.Hand = true
		c.why(c.Pool.Name + " is watch only: you do by hand what would be an order elsewhere, and the result is " +
			"checked")
	}
}

// lostAlready is for a drive that stores no data any more.
func (c *composer) lostAlready() {
	c.r.Name, c.r.Lost = "the drive is lost already", true
	if c.Gone {
		c.r.Dark = true
		c.r.Name = "the drive does not answer"
		c.why("it is known by what was remembered of it: its label tail, its bay, its place in the pool")
	}
	if c.r.Stood != "" {
		c.why("the spare at " + c.r.Stood + " took over: when the new drive holds all, the pool has its spare back")
	}
	switch {
	case c.Cold:
		c.cold()
	case c.Gone:
		c.step(Insert)
	default:
		c.step(Pull, Insert)
	}
	c.rejoin()
}

// hostDown is for a bay that must be opened only while its host is down.
func (c *composer) hostDown() {
	c.r.Name = "with the host down"
	if c.unread() && c.offers("scrub") {
		c.scrub()
	}
	if c.spread && c.offers("drain") && (len(c.lost) > 0 || c.r.Slow) {
		c.drain()
	}
	c.cold()
	c.rejoin()
}

// movedByHand is for a watch-only pool that does not work without the drive.
func (c *composer) movedByHand() {
	c.r.Name = "moved away by hand, then out and in"
	c.why("without it data would be lost: what is on it moves to the others first")
	c.step(Drain, Pull, Insert, Confirm, Join, Recover)
}

func (c *composer) newFirstFits() bool {
	return (c.offers("beside") || c.hand) && (c.Free != "" || c.Waits) && (!c.spread || c.log || c.Waits)
}

// newFirst fills the new drive while the old one is still in use.
func (c *composer) newFirst() {
	c.r.Name, c.r.Beside, c.r.Into = "the new drive first, into a free bay", true, c.Free
	if c.Waits {
		c.r.Name = "the new drive first: a tested one waits in the host"
		c.why("a tested drive that fits is in the host already, so the old one helps until the new one holds all")
	} else {
		c.why("bay " + c.Free + " can take the new drive, so the old one helps until the new one holds all")
	}
	if n := len(c.r.Unit); n > 0 {
		c.why(plural(n, "member depends", "members depend") + " on it: they never lose it")
	}
	c.step(Insert, Confirm, Join, Recover, Pull)
}

func (c *composer) spareFirstFits() bool {
	return c.Spare != "" && c.offers("spare") && !c.multi && !c.log && !c.Layout && len(c.Layers) == 0
}

// spareFirst fills the pool's spare while the old drive is still in use.
func (c *composer) spareFirst() {
	c.r.Name, c.r.Beside, c.r.Spare = "the spare first, beside the old one", true, c.Spare
	c.why("the spare at " + c.Spare + " is filled while the old one helps, so the margin never falls and the pool is " +
		"filled once; a new drive becomes the spare")
	c.step(Confirm, Join, Recover, Pull)
}

// drainedFirst moves the data of the drive to the other members.
func (c *composer) drainedFirst() {
	c.r.Name = "drained first"
	c.drain()
	c.step(Pull, Insert)
	c.rejoin()
}

// temporaryPlace fills the new drive in another place, and moves it into the bay afterwards.
func (c *composer) temporaryPlace() {
	c.r.Name, c.r.Beside, c.r.Temporary, c.r.Into = "through a temporary place", true, true, c.Outside
	if c.needed() {
		c.why("no bay of its section is known to be free, and without it data would be lost: another place takes the " +
			"new drive first")
	} else {
		c.why("without it nothing more might fail, and bay " + c.Outside + " can take the new drive first")
	}
	c.step(Insert, Confirm, Join, Recover, Pull)
	if c.needed() {
		// No member may be missing while the drive moves, so the pool is stopped meanwhile.
		c.r.Stops = c.Stops
		c.step(Still, Down, Rehouse, Up)
	} else {
		c.step(Rehouse)
	}
}

// outAndIn applies when no better way is possible.
func (c *composer) outAndIn() {
	c.r.Name = "out and in, in one bay"
	if c.Spare != "" {
		c.why("the spare at " + c.Spare + " takes over only when the old one is out: " + c.Pool.Name +
			" cannot fill it beside one that still helps")
	}
	bay := "no bay is known to be free"
	if c.Free != "" {
		bay = c.Pool.Name + " cannot fill a new drive beside the old one"
	}
	switch {
	case len(c.lost) > 0:
		c.why(bay + ", and " + c.Pool.Name + " offers nothing that would move what is on it: " + c.lostWords() +
			" would be lost with it")
	case c.known && c.after < 0:
		c.why(bay + ", and without it data would be lost")
	default:
		c.why(bay + ", and enough is left without the old one")
	}
	if c.unread() && c.offers("scrub") {
		c.scrub()
	}
	c.step(Pull, Insert, Confirm, Join, Recover)
}

// layers adds the steps for the device layers between the new drive and its pools.
func (c *composer) layers() {
	at := slices.Index(c.r.Steps, Confirm) + 1
	if c.Layout {
		c.why("its members are partitions: the new drive gets the same partitions, with new identifiers")
		c.r.Steps = slices.Insert(c.r.Steps, at, Layout)
		at++
	}
	if len(c.Layers) > 0 {
		c.why("between drive and pool: " + strings.Join(c.Layers, ", ") + "; you set that up on the new drive")
		c.r.Steps = slices.Insert(c.r.Steps, at, Prepare)
	}
}

// scrub reads all members before one is removed: unreadable data is found while the old drive can still supply it.
func (c *composer) scrub() {
	c.why("nobody has read lately what the other members hold: hidden damage is found while the old drive still helps")
	c.step(Scrub)
}

// cold shuts the host down for the work at the rack.
func (c *composer) cold() {
	c.why("drives of this bay are changed only while the host is down")
	c.r.Stops = c.Stops
	c.step(Still, Down, Change, Up, Insert)
}

// drain first empties the drive and all members that depend on it.
func (c *composer) drain() {
	switch n := len(c.r.Unit); {
	case n > 0:
		c.why(plural(n, "member depends", "members depend") +
			" on it, and would be lost with it: they are drained together")
	case len(c.lost) > 0:
		c.why(c.lostWords() + " would be lost with it: what is on it moves to the others first")
	default:
		c.why("its pieces find room on the others, so no copy is missing at any time")
	}
	c.r.Forgets = !c.offers("release") && c.offers("admit")
	c.step(Drain)
	if c.offers("release") && len(c.r.Unit) == 0 {
		c.step(Release)
	}
}

// rejoin makes the new drive a member after the old one was drained, and fills it.
func (c *composer) rejoin() {
	c.step(Confirm, Join, Recover)
	if c.r.Forgets || len(c.r.Unit) > 0 {
		c.step(Refill)
	}
	if c.r.Slow && slices.Contains(c.r.Steps, Drain) {
		c.why("while it is refilled the new drive is slower than its peers: that is expected")
	}
}
