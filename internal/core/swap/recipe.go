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
	// Layout is true where members are on partitions of the drive; Layers are what stands between the drive, or its
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
