package swap

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
	"lantern/internal/core/record"
)

// Campaign is an ordered list of swaps in one pool. They run one at a time; the next is planned only when the one
// before has ended healthy. The pool grows only after the last one.
type Campaign struct {
	ID      string        `json:"id"`
	Pool    string        `json:"pool"`
	PoolID  string        `json:"pool_id"`
	Lead    string        `json:"lead"`
	State   CampaignState `json:"state"`
	Items   []Item        `json:"items"`
	Needs   drive.Bytes   `json:"needs,omitempty"` // least size of every new drive; 0: the size that each place needs
	Grow    bool          `json:"grow,omitempty"`
	Ordered bool          `json:"ordered,omitempty"` // the order to grow was given and its outcome is awaited
	// GrownAt is when the pool system reported that it had grown, Held the capacity of the pool when the order was
	// given.
	GrownAt   time.Time      `json:"grown_at,omitzero"`
	Held      drive.Bytes    `json:"held,omitempty"`
	Recovery  string         `json:"recovery,omitempty"`
	Log       []record.Entry `json:"log"`
	PlannedAt time.Time      `json:"planned_at"`
	EndedAt   time.Time      `json:"ended_at,omitzero"`
}

// CampaignState is where a campaign stands.
type CampaignState string

// The states. Waiting is between two swaps, and before growing.
const (
	Waiting        CampaignState = "waiting"
	Swapping       CampaignState = "swapping"
	Growing        CampaignState = "growing"
	CampaignDone   CampaignState = "done"
	CampaignEnded  CampaignState = "abandoned"
	ItemWaits                    = "waiting"
	ItemNow                      = "now"
	ItemDone                     = "done"
	ItemSkipped                  = "skipped"
	campaignClosed               = "The campaign has ended"
)

// Open reports whether it has not ended.
func (s CampaignState) Open() bool { return s == Waiting || s == Swapping || s == Growing }

// Item is one place whose drive is to be replaced.
type Item struct {
	Slot  string `json:"slot"`
	Group string `json:"group"`
	Old   Drive  `json:"old"`
	State string `json:"state"`
	Swap  string `json:"swap,omitempty"`
	New   string `json:"new,omitempty"` // label tail
}

// InTurns orders places so that the groups alternate: no group has two swaps in a row while another group waits.
func InTurns(items []Item) []Item {
	var groups []string
	of := map[string][]Item{}
	for _, it := range items {
		if of[it.Group] == nil {
			groups = append(groups, it.Group)
		}
		of[it.Group] = append(of[it.Group], it)
	}
	out := make([]Item, 0, len(items))
	last := ""
	for len(out) < len(items) {
		// Take the group with most places left, so that the last ones need not follow each other; not the previous
		// group, if there is a choice.
		best := ""
		for _, g := range groups {
			if len(of[g]) > 0 && g != last && (best == "" || len(of[g]) > len(of[best])) {
				best = g
			}
		}
		if best == "" {
			best = last
		}
		out = append(out, of[best][0])
		of[best], last = of[best][1:], best
	}
	return out
}

// now is the item that is under way or next; nil when all have ended.
func (c *Campaign) now() *Item {
	for i := range c.Items {
		if c.Items[i].State == ItemNow || c.Items[i].State == ItemWaits {
			return &c.Items[i]
		}
	}
	return nil
}

// past summarises the results when no place is left.
func (c *Campaign) past() string {
	left := 0
	for _, it := range c.Items {
		if it.State == ItemSkipped {
			left++
		}
	}
	if left > 0 {
		return "all places are changed but " + plural(left, "that was left out", "that were left out")
	}
	return "all places are changed"
}

// Says describes the present or next item in words.
func (c *Campaign) Says() string {
	it := c.now()
	switch {
	case c.State == CampaignDone:
		return c.past()
	case c.State == CampaignEnded:
		return "it was abandoned"
	case c.State == Growing:
		return c.Pool + " grows"
	case it == nil:
		return c.past() + "; next, " + c.Pool + " grows"
	case it.State == ItemNow:
		return it.Old.Tail() + " at place " + it.Slot + " is being replaced"
	}
	return "next is " + it.Old.Tail() + " at place " + it.Slot
}

func (c *Campaign) say(at time.Time, who, says string) {
	if who == "" {
		who = record.Seen
	}
	c.Log = append(slices.Clip(c.Log), record.Entry{At: at, Who: who, Says: says})
}

// Noted adds an observation to its record.
func (c Campaign) Noted(at time.Time, says string) Campaign {
	c.say(at, "", says)
	return c
}

// acts gives the reason why a person must not act on the campaign.
func (c *Campaign) acts(by string) *Refusal {
	switch {
	case !c.State.Open():
		return refuse("campaign-ended", "Plan a new one.", "%s.", campaignClosed)
	case by != c.Lead:
		return refuse("led-by-another", "Ask them.", "%s leads this campaign.", c.Lead)
	}
	return nil
}

// Next gives the next action: plan the swap of an item, or order the pool to grow. swaps gives the reason why the pool
// must not be changed.
func (c Campaign) Next(at time.Time, by string, open string) (next Campaign, item *Item, grow bool, err error) {
	c.Items = slices.Clone(c.Items)
	if r := c.acts(by); r != nil {
		return c, nil, false, r
	}
	it := c.now()
	switch {
	case c.State == Swapping:
		return c, nil, false, refuse(
			"swap-open",
			"Go on with that one: lantern swap show "+it.Old.Tail(),
			"%s is being replaced, one at a time.",
			it.Old.Tail(),
		)
	case c.State == Growing:
		return c, nil, false, refuse("growing", "Wait until it has ended.", "%s grows.", c.Pool)
	case open != "":
		return c, nil, false, refuse(
			"swap-open",
			"End that one first.",
			"Another swap in %s is led by %s.",
			c.Pool,
			open,
		)
	case it != nil:
		c.State, it.State = Swapping, ItemNow
		c.say(at, by, "comes to "+it.Old.Tail()+" at place "+it.Slot)
		return c, it, false, nil
	}
	c.State, c.Ordered = Growing, true
	c.say(at, by, "ordered that "+c.Pool+" uses all of its members")
	return c, nil, true, nil
}

// SwapEnded records how the swap under way ended.
func (c Campaign) SwapEnded(at time.Time, id string, closed bool, newTail string) Campaign {
	c.Items = slices.Clone(c.Items)
	it := c.now()
	if c.State != Swapping || it == nil || it.Swap != id {
		return c
	}
	c.State = Waiting
	if !closed {
		it.State, it.Swap = ItemWaits, ""
		c.say(at, "", "the swap of "+it.Old.Tail()+" was abandoned; it is still to be replaced")
		return c
	}
	it.State, it.New = ItemDone, newTail
	c.say(at, "", it.Old.Tail()+" was replaced by "+newTail)
	c.finish(at)
	return c
}

// finish ends a campaign with nothing left to do.
func (c *Campaign) finish(at time.Time) {
	if c.now() == nil && !c.Grow {
		c.State, c.EndedAt = CampaignDone, at
		c.say(at, "", c.past())
	}
}

// Skip skips the next place.
func (c Campaign) Skip(at time.Time, by, reason string) (Campaign, error) {
	c.Items = slices.Clone(c.Items)
	if r := c.acts(by); r != nil {
		return c, r
	}
	it := c.now()
	switch {
	case c.State != Waiting || it == nil:
		return c, refuse(
			"nothing-to-skip",
			"Abandon the swap first, if it is to be left out.",
			"There is nothing to skip.",
		)
	case strings.TrimSpace(reason) == "":
		return c, refuse("reason-needed", "Say why.", "A reason is required.")
	}
	it.State = ItemSkipped
	c.say(at, by, "left out "+it.Old.Tail()+" at place "+it.Slot+because(reason))
	c.finish(at)
	return c, nil
}

// Answered records the outcome of the order to grow.
func (c Campaign) Answered(at time.Time, done bool, says string) Campaign {
	if c.State != Growing || !c.Ordered {
		return c
	}
	if c.Ordered = false; !done {
		c.State = Waiting
		c.say(at, "", c.Pool+" does not grow: "+says)
		return c
	}
	c.GrownAt = at
	c.say(at, "", says)
	return c
}

// growsWithin is how long a pool may show its old capacity after it reported that it has grown.
const growsWithin = 5 * time.Minute

// PoolSeen records the state of the pool: it has grown when its capacity is larger than before and no recovery runs.
// capacity is in bytes.
func (c Campaign) PoolSeen(
	at time.Time,
	recovering bool,
	recovery string,
	margin pool.Margin,
	known bool,
	capacity drive.Bytes,
) Campaign {
	if c.State != Growing {
		return c
	}
	if recovery != "" {
		c.Recovery = recovery
	}
	switch {
	case c.GrownAt.IsZero() || recovering || !known || margin < 0:
	case capacity > c.Held:
		c.State, c.EndedAt = CampaignDone, at
		c.say(at, "", fmt.Sprintf("%s has grown by %d bytes, and come to rest", c.Pool, capacity-c.Held))
	case at.Sub(c.GrownAt) > growsWithin:
		c.State, c.GrownAt = Waiting, time.Time{}
		c.say(at, "", c.Pool+" holds as much as before: it has not grown")
	}
	return c
}

// Abandon ends the campaign early.
func (c Campaign) Abandon(at time.Time, by, reason string) (Campaign, error) {
	if c.State == CampaignEnded {
		return c, nil
	}
	if r := c.acts(by); r != nil {
		return c, r
	}
	if strings.TrimSpace(reason) == "" {
		return c, refuse("reason-needed", "Say why it is abandoned.", "A reason is required.")
	}
	left := 0
	for _, it := range c.Items {
		if it.State == ItemWaits || it.State == ItemNow {
			left++
		}
	}
	says := "abandoned it" + because(reason) + "; " + plural(left, "place is", "places are") + " not changed"
	if left == 0 {
		says = "abandoned it" + because(reason) + "; " + c.past() + ", and " + c.Pool + " has not grown"
	}
	if c.State == Swapping {
		says += ", and the swap under way goes on by itself"
	}
	c.State, c.EndedAt = CampaignEnded, at
	c.say(at, by, says)
	return c, nil
}
