package swap

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/core/pool"
)

// Recipe is the steps of one swap, composed from the situation, and why it is these.
type Recipe struct {
	Name  string   `json:"name"` // in words, for people
	Why   []string `json:"why"`
	Steps []Phase  `json:"steps"` // all but the ends, from Planned to Verify
	// Beside is true where the new drive is filled while the old one still helps, Into the bay it goes into then.
	Beside bool   `json:"beside,omitempty"`
	Into   string `json:"into,omitempty"`
	// Temporary is true where the new drive is not in the bay it stays in.
	Temporary bool `json:"temporary,omitempty"`
	// Lost is true where the old drive does not carry its share any more: that it leaves costs nothing.
	Lost bool `json:"lost,omitempty"`
	// Dark is true where the drive is known only by what was remembered: it does not answer.
	Dark bool `json:"dark,omitempty"`
	// Unit are the members that depend on the drive, a log device: they are drained and filled with it.
	Unit []string `json:"unit,omitempty"`
	// Forgets is true where the pool system drops the place of a member that was drained.
	Forgets bool `json:"forgets,omitempty"`
	// Spare is the place of the spare of the pool that is filled beside the old drive and takes its place.
	Spare string `json:"spare,omitempty"`
	// Stood is the spare that stands in for the drive.
	Stood string `json:"stood,omitempty"`
	// Slow is true where a new drive is expected to be slow at first: it takes what many others send.
	Slow bool `json:"slow,omitempty"`
	// Stops are the pools that cannot be reached while the host is down.
	Stops []string `json:"stops,omitempty"`
	// Hand is true where no pool of the drive can be ordered: a person does what an order would do.
	Hand bool `json:"hand,omitempty"`
}

// Ground is what a recipe is composed from.
type Ground struct {
	Pool   *pool.Pool
	Slot   string
	Gone   bool     // the drive does not answer
	Offers []string // what the pool system can be asked for
	// Others are the drive's further places: in other pools, or in the same one.
	Others []OtherPlace
	// Layout is true where members lie on partitions of the drive; Layers are what stands between the drive, or its
	// partitions, and members, which only a person can set up, such as an encrypted volume.
	Layout bool
	Layers []string
	// Free is a bay of the same section that is empty, or in which a drive waits that fits and was accepted; empty when
	// there is none. Outside is a free bay elsewhere, such as in an external enclosure of the same host.
	Free, Outside string
	// Waits is true when a drive that fits and was accepted is in the host, wherever.
	Waits bool
	// Spare is the place of a spare of the pool that fits; empty when there is none.
	Spare string
	// Cold is true where drives are changed only while the host is down; Stops are the pools that cannot be reached
	// then.
	Cold  bool
	Stops []string
	// Scrubbed is when the pool was last read through, Clean whether that left nothing; Now is the time it is.
	Scrubbed time.Time
	Clean    bool
	Now      time.Time
}

// OtherPlace is a further place of the drive.
type OtherPlace struct {
	Pool   *pool.Pool
	Slot   string
	Offers []string
}

// without is what is left of all pools of the drive when it is gone with all its places: the least margin, and the
// volumes that are lost.
func (g Ground) without() (after pool.Margin, lost []string, known bool) {
	known = true
	done := map[string]bool{}
	for _, x := range append([]OtherPlace{{Pool: g.Pool, Slot: g.Slot}}, g.Others...) {
		if done[x.Pool.ID] {
			continue
		}
		done[x.Pool.ID] = true
		slots := []string{}
		for _, y := range append([]OtherPlace{{Pool: g.Pool, Slot: g.Slot}}, g.Others...) {
			if y.Pool.ID == x.Pool.ID {
				slots = append(slots, y.Slot)
			}
		}
		q := x.Pool.Losing(slots...)
		m, ok := q.Margin()
		known = known && ok
		if len(done) == 1 || m < after {
			after = m
		}
		for _, v := range q.Volumes {
			if vm, ok := q.VolumeMargin(v); ok && vm < 0 {
				lost = append(lost, v.Name)
			}
		}
	}
	return after, lost, known
}

// fresh is how old the last clean scrub may be for what the others hold to count as read.
const fresh = 30 * 24 * time.Hour

// Compose puts the steps together that lead from the situation to a healthy pool. The order of preference is what costs
// least margin: nothing is taken out before its share lies elsewhere, where that can be had.
func Compose(g Ground) Recipe {
	m, group, _ := g.Pool.Slot(g.Slot)
	multi := len(g.Others) > 0
	offers := func(what string) bool {
		for _, x := range g.Others {
			if !slices.Contains(x.Offers, what) {
				return false
			}
		}
		return slices.Contains(g.Offers, what)
	}
	after, lost, known := g.without()
	var r Recipe
	why := func(words string) { r.Why = append(r.Why, words) }
	step := func(p ...Phase) { r.Steps = append(r.Steps, p...) }
	step(Planned)
	served := false // from parity, meanwhile
	for _, x := range g.Pool.Groups {
		if x.Name == group {
			for _, other := range x.Members {
				served = served || other.Parity
				if other.StandsFor == g.Slot && m.State == pool.Out {
					r.Stood = other.Slot
				}
			}
			r.Slow = x.Heals
		}
	}
	if served {
		if m.Parity {
			why(
				"it is the parity drive: the data stay whole without it, but the pool cannot lose another drive " +
					"until it is filled again",
			)
		} else {
			why("the pool serves what lies on it from parity until the new one is filled")
		}
	}
	log := false
	for _, l := range g.Pool.Logs {
		log = log || l.Slot == g.Slot
	}
	if log {
		g.Pool.Everyone(func(_ string, x *pool.Member) {
			if x.Log == g.Slot && x.State != pool.Out {
				r.Unit = append(r.Unit, x.Slot)
			}
		})
	}
	// A pool that marked it out restored its share, or gave its place to a spare.
	carries := !g.Gone && !m.Lost() && m.State != pool.Out
	for _, x := range g.Others {
		n, _, _ := x.Pool.Slot(x.Slot)
		carries = carries || !g.Gone && !n.Lost() && n.State != pool.Out
	}
	spread := false
	for _, x := range g.Pool.Groups {
		spread = spread || x.Spread && (x.Name == group || log) && !multi
	}
	hand := g.Pool.Watched
	for _, x := range g.Others {
		hand = hand && x.Pool.Watched
	}
	if multi {
		var names []string
		for _, x := range g.Others {
			if x.Pool.ID != g.Pool.ID && !slices.Contains(names, x.Pool.Name) {
				names = append(names, x.Pool.Name)
			}
		}
		if len(names) > 0 {
			why(
				"the drive is also a member of " + strings.Join(
					names,
					", ",
				) + ": all its places are filled in one swap",
			)
		}
	}
	if hand {
		r.Hand = true
		why(g.Pool.Name + " is watch only: you do by hand what would be an order elsewhere, and the result is checked")
	}

	switch {
	case !carries:
		r.Name, r.Lost = "the drive is lost already", true
		if g.Gone {
			r.Dark = true
			r.Name = "the drive does not answer"
			why("it is known by what was remembered of it: its label tail, its bay, its place in the pool")
		}
		if r.Stood != "" {
			why("the spare at " + r.Stood + " took over: when the new drive holds all, the pool has its spare back")
		}
		if g.Cold {
			r.cold(step, why, g.Stops)
		} else if !g.Gone {
			step(Pull, Insert)
		} else {
			step(Insert)
		}
		r.rejoin(step)
	case g.Cold: // even where a tested drive waits in the host: the old one cannot come out while it runs
		r.Name = "with the host down"
		if !g.Clean || g.Now.Sub(g.Scrubbed) > fresh {
			r.scrub(step, why, offers("scrub"))
		}
		if spread && offers("drain") && (len(lost) > 0 || r.Slow) {
			r.drain(step, why, offers, lost)
		}
		r.cold(step, why, g.Stops)
		r.rejoin(step)
	case hand && known && (after < 0 || len(lost) > 0) && g.Free == "" && !g.Waits:
		r.Name = "moved away by hand, then out and in"
		why("without it data would be lost: what lies on it moves to the others first")
		step(Drain, Pull, Insert, Confirm, Join, Recover)
	case (offers("beside") || hand) && (g.Free != "" || g.Waits) && (!spread || log || g.Waits):
		r.Name, r.Beside, r.Into = "the new drive first, into a free bay", true, g.Free
		if g.Waits {
			r.Name = "the new drive first: a tested one waits in the host"
			why("a tested drive that fits is in the host already, so the old one helps until the new one holds all")
		} else {
			why("bay " + g.Free + " can take the new drive, so the old one helps until the new one holds all")
		}
		if len(r.Unit) > 0 {
			why(plural(len(r.Unit), "member depends", "members depend") + " on it: they never lose it")
		}
		step(Insert, Confirm, Join, Recover, Pull)
	case g.Spare != "" && offers("spare") && !multi && !log && !g.Layout && len(g.Layers) == 0:
		r.Name, r.Beside, r.Spare = "the spare first, beside the old one", true, g.Spare
		why(
			"the spare at " + g.Spare + " is filled while the old one helps, so the margin never falls and the " +
				"pool is filled once; a new drive becomes the spare",
		)
		step(Confirm, Join, Recover, Pull)
	case spread && offers("drain") && (len(lost) > 0 || r.Slow || log):
		r.Name = "drained first"
		r.drain(step, why, offers, lost)
		step(Pull, Insert)
		r.rejoin(step)
	case offers("beside") && known && (after < 0 || len(lost) > 0 || after == 0 && g.Outside != ""):
		r.Name, r.Beside, r.Temporary, r.Into = "through a temporary place", true, true, g.Outside
		if after < 0 || len(lost) > 0 {
			why(
				"no bay of its section is known to be free, and without it data would be lost: another place " +
					"takes the new drive first",
			)
		} else {
			why("without it nothing more might fail, and bay " + g.Outside + " can take the new drive first")
		}
		step(Insert, Confirm, Join, Recover, Pull)
		if after < 0 || len(lost) > 0 {
			// Nothing may be out while it moves, so the pool stands still meanwhile.
			r.Stops = g.Stops
			step(Still, Down, Rehouse, Up)
		} else {
			step(Rehouse)
		}
	default:
		r.Name = "out and in, in one bay"
		if g.Spare != "" {
			why(
				"the spare at " + g.Spare + " takes over only when the old one is out: " + g.Pool.Name + " cannot fill it beside one that still helps",
			)
		}
		bay := "no bay is known to be free"
		if g.Free != "" {
			bay = g.Pool.Name + " cannot fill a new drive beside the old one"
		}
		switch {
		case len(lost) > 0:
			why(
				bay + ", and " + g.Pool.Name + " offers nothing that would move what lies on it: " + strings.Join(
					lost,
					", ",
				) + " would be lost with it",
			)
		case known && after < 0:
			why(bay + ", and without it data would be lost")
		default:
			why(bay + ", and enough is left without the old one")
		}
		if offers("scrub") && (!g.Clean || g.Now.Sub(g.Scrubbed) > fresh) {
			r.scrub(step, why, true)
		}
		step(Pull, Insert, Confirm, Join, Recover)
	}
	step(Verify)
	if g.Layout || len(g.Layers) > 0 {
		at := slices.Index(r.Steps, Confirm) + 1
		if g.Layout {
			why("its members are partitions: the new drive gets the same partitions, with new identifiers")
			r.Steps = slices.Insert(r.Steps, at, Layout)
			at++
		}
		if len(g.Layers) > 0 {
			why("between drive and pool: " + strings.Join(g.Layers, ", ") + "; you set that up on the new drive")
			r.Steps = slices.Insert(r.Steps, at, Prepare)
		}
	}
	return r
}

// scrub reads what the others hold before anything is taken out: what cannot be read then is found while the old drive
// can still help.
func (r *Recipe) scrub(step func(...Phase), why func(string), can bool) {
	if can {
		why(
			"nobody has read lately what the other members hold: hidden damage is found while the old drive " +
				"still helps",
		)
		step(Scrub)
	}
}

// cold takes the host down for the work at the rack.
func (r *Recipe) cold(step func(...Phase), why func(string), stops []string) {
	why("drives of this bay are changed only while the host is down")
	r.Stops = stops
	step(Still, Down, Change, Up, Insert)
}

// drain empties the drive, and all that depend on it, first.
func (r *Recipe) drain(step func(...Phase), why func(string), offers func(string) bool, lost []string) {
	switch {
	case len(r.Unit) > 0:
		why(
			plural(
				len(r.Unit),
				"member depends",
				"members depend",
			) + " on it, and would be lost with it: they are drained together",
		)
	case len(lost) > 0:
		why(strings.Join(lost, ", ") + " would be lost with it: what lies on it moves to the others first")
	default:
		why("its pieces find room on the others, so no copy is missing at any time")
	}
	r.Forgets = !offers("release") && offers("admit")
	step(Drain)
	if offers("release") && len(r.Unit) == 0 {
		step(Release)
	}
}

// rejoin makes the new drive a member after the old one was drained, and fills it.
func (r *Recipe) rejoin(step func(...Phase)) {
	step(Confirm, Join, Recover)
	if r.Forgets || len(r.Unit) > 0 {
		step(Refill)
	}
	if r.Slow && slices.Contains(r.Steps, Drain) {
		r.Why = append(r.Why, "while it is refilled the new drive is slower than its peers: that is expected")
	}
}

// Differs says in words how a recipe is another than one that was shown before; empty when it leads the same way.
func (r Recipe) Differs(before Recipe) (out []string) {
	say := func(what, was, is string) {
		if was != is {
			out = append(out, fmt.Sprintf("%s: %s, before: %s", what, cmp.Or(is, "none"), cmp.Or(was, "none")))
		}
	}
	titles := func(x Recipe) string {
		var names []string
		for _, p := range x.Steps {
			names = append(names, string(p))
		}
		return strings.Join(names, ", ")
	}
	say("procedure", before.Name, r.Name)
	say("steps", titles(before), titles(r))
	say("bay for the new drive", before.Into, r.Into)
	say("pools stopped meanwhile", strings.Join(before.Stops, ", "), strings.Join(r.Stops, ", "))
	say("members that depend on it", strings.Join(before.Unit, ", "), strings.Join(r.Unit, ", "))
	return out
}

// after is the step that follows p.
func (r Recipe) after(p Phase) Phase {
	i := slices.Index(r.Steps, p)
	if i < 0 || i+1 >= len(r.Steps) {
		return Verify
	}
	return r.Steps[i+1]
}

// has says whether a step is part of it.
func (r Recipe) has(p Phase) bool { return slices.Contains(r.Steps, p) }

// Rank is a step's place in the procedure, from zero; -1 for one that is not part of it.
func (r Recipe) Rank(p Phase) int {
	if p == Closed {
		return len(r.Steps)
	}
	return slices.Index(r.Steps, p)
}

// inPlace is the plainest recipe.
func inPlace(dark bool) Recipe {
	if dark {
		return Recipe{
			Name:  "the drive does not answer",
			Lost:  true,
			Dark:  true,
			Steps: []Phase{Planned, Insert, Confirm, Join, Recover, Verify},
		}
	}
	return Recipe{Name: "out and in, in one bay", Steps: []Phase{Planned, Pull, Insert, Confirm, Join, Recover, Verify}}
}

func plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
