package swap

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/core/pool"
)

// Recipe is the list of steps of one swap, composed from the situation, with the reasons for them.
type Recipe struct {
	Name  string   `json:"name"` // in words, for people
	Why   []string `json:"why"`
	Steps []Phase  `json:"steps"` // all phases but the ends, from Planned to Verify
	// Beside is true where the new drive is filled while the old one is still in use; Into is the bay that it goes
	// into.
	Beside bool   `json:"beside,omitempty"`
	Into   string `json:"into,omitempty"`
	// Temporary is true where the new drive is filled in another bay than its final one.
	Temporary bool `json:"temporary,omitempty"`
	// Lost is true where the old drive no longer stores its share: removing it costs no margin.
	Lost bool `json:"lost,omitempty"`
	// Dark is true where the drive does not answer and is known only from earlier reports.
	Dark bool `json:"dark,omitempty"`
	// Unit are the members that depend on the drive when it is a log device: they are drained and filled with it.
	Unit []string `json:"unit,omitempty"`
	// Forgets is true where the pool system removes the place of a drained member.
	Forgets bool `json:"forgets,omitempty"`
	// Spare is the place of the spare of the pool that is filled beside the old drive and takes its place.
	Spare string `json:"spare,omitempty"`
	// Stood is the spare that stands in for the drive.
	Stood string `json:"stood,omitempty"`
	// Slow is true where filling the new drive is expected to be slow: many members write to one.
	Slow bool `json:"slow,omitempty"`
	// Stops are the pools that are unavailable while the host is down.
	Stops []string `json:"stops,omitempty"`
	// Hand is true where no pool of the drive accepts orders: a person does by hand what an order would do.
	Hand bool `json:"hand,omitempty"`
}

// Ground is what a recipe is composed from.
type Ground struct {
	Pool   *pool.Pool
	Slot   string
	Gone   bool     // the drive does not answer
	Offers []string // the capabilities of the pool system
	// Others are the drive's further places: in other pools, or in the same one.
	Others []OtherPlace
	// Layout is true where members are on partitions of the drive. Layers are the devices between the drive, or its
	// partitions, and the members that only a person can set up, such as an encrypted volume.
	Layout bool
	Layers []string
	// Free is a bay of the same section that is empty, or in which a drive waits that fits and was accepted; empty when
	// there is none. Outside is a free bay elsewhere, such as in an external enclosure of the same host.
	Free, Outside string
	// Waits is true when a drive that fits and was accepted is anywhere in the host.
	Waits bool
	// Spare is the place of a spare of the pool that fits; empty when there is none.
	Spare string
	// Cold is true where drives are replaced only while the host is down; Stops are the pools that are unavailable
	// then.
	Cold  bool
	Stops []string
	// Scrubbed is when the last scrub of the pool ended, Clean whether it left no errors; Now is the present time.
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

// without gives the least margin of all pools of the drive without all its places, and the volumes that are lost.
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

// fresh is the greatest age of the last clean scrub at which the other members count as readable.
const fresh = 30 * 24 * time.Hour

// Differs describes how a recipe differs from one that was shown before; empty when the steps are the same.
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

// has reports whether a step is part of it.
func (r Recipe) has(p Phase) bool { return slices.Contains(r.Steps, p) }

// Rank is a step's place in the procedure, from zero; -1 for one that is not part of it.
func (r Recipe) Rank(p Phase) int {
	if p == Closed {
		return len(r.Steps)
	}
	return slices.Index(r.Steps, p)
}

// inPlace is the simplest recipe.
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
