package swap

import (
	"fmt"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/cockroachdb/datadriven"
	"github.com/stretchr/testify/require"

	"lantern/internal/core/drive"
	"lantern/internal/core/pool"
)

// TestCampaigns runs the stories under testdata/campaigns. Each command is a minute after the one before.
func TestCampaigns(t *testing.T) {
	datadriven.Walk(t, "testdata/campaigns", func(t *testing.T, path string) {
		var c Campaign
		now := t0
		datadriven.RunTest(t, path, func(t *testing.T, d *datadriven.TestData) string {
			now = now.Add(time.Minute)
			arg := func(key, otherwise string) string {
				for _, a := range d.CmdArgs {
					if a.Key == key && len(a.Vals) > 0 {
						return a.Vals[0]
					}
				}
				return otherwise
			}
			number := func(key string) int {
				n, err := strconv.Atoi(arg(key, "0"))
				require.NoError(t, err)
				return n
			}
			by, reason := arg("by", "ida"), strings.TrimSpace(d.Input)
			logged := len(c.Log)
			var out strings.Builder
			var err error
			switch d.Cmd {
			case "plan":
				var items []Item
				for _, line := range strings.Split(reason, "\n") { // group slot tail
					f := strings.Fields(line)
					items = append(
						items,
						Item{Group: f[0], Slot: f[1], Old: Drive{Identity: disk(f[2])}, State: ItemWaits},
					)
				}
				c = Campaign{
					ID:    "c",
					Pool:  "tidegauge",
					Lead:  by,
					State: Waiting,
					Items: InTurns(items),
					Grow:  d.HasArg("grow"),
				}
				logged = 0
				for _, it := range c.Items {
					fmt.Fprintf(&out, "%s %s %s\n", it.Group, it.Slot, it.Old.Tail())
				}
			case "next":
				var item *Item
				var grow bool
				if c, item, grow, err = c.Next(now, by, arg("open", "")); item != nil {
					item.Swap = "swap-of-" + item.Old.Tail()
					fmt.Fprintf(&out, "plan the swap of %s\n", item.Old.Tail())
				}
				if grow {
					c.Held = 4000
					out.WriteString("order that the pool grows\n")
				}
			case "ended":
				c = c.SwapEnded(now, "swap-of-"+arg("of", ""), d.HasArg("closed"), arg("by", ""))
			case "skip":
				c, err = c.Skip(now, by, reason)
			case "abandon":
				c, err = c.Abandon(now, by, reason)
			case "answered":
				c = c.Answered(now, d.HasArg("done"), reason)
			case "pool":
				c = c.PoolSeen(
					now,
					d.HasArg("moving"),
					arg("moving", ""),
					pool.Margin(number("margin")),
					!d.HasArg("unknown"),
					drive.Bytes(number("holds")),
				)
			case "later":
				now = now.Add(time.Hour)
			default:
				d.Fatalf(t, "no command %q", d.Cmd)
			}
			if err != nil {
				fmt.Fprintf(&out, "refused (%s): %s\n", err.(*Refusal).Type, err)
			}
			for _, l := range c.Log[logged:] {
				fmt.Fprintf(&out, "%s: %s\n", l.Who, l.Says)
			}
			fmt.Fprintf(&out, "%s: %s\n", c.State, c.Says())
			return out.String()
		})
	})
}
