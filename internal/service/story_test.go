package service

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// TestStory: what was observed, judged, told, seen, ordered and done comes in order of time; a time in which the host
// was silent is marked, whole; a story of something else tells nothing of it.
func TestStory(t *testing.T) {
	b := newBench(t)
	b.s.Fleet.GraceUntil = time.Time{}
	begin := b.clock.Now()
	for range 2 {
		b.clock.forward(10 * time.Minute)
		b.drives[0].Reading = api.Reading{
			At:      b.clock.Now(),
			Metrics: map[string]float64{"pending_sectors": 400, "power_on_hours": 5000},
		}
		b.report()
	}
	b.clock.forward(time.Minute)
	require.NoError(t, b.s.Tick())
	open, err := b.s.Notices.Notices(false)
	require.NoError(t, err)
	for _, n := range open {
		if strings.Contains(n.Says, "AA001") || strings.Contains(n.Says, "400") {
			_, err := b.s.Notices.Acknowledge("bo", n.Id, "on my way")
			require.NoError(t, err)
		}
	}
	b.report()
	_, err = b.s.Bays.LightOn("ida", api.LightOn{Drive: "AA001", Seconds: 600})
	require.NoError(t, err)
	for id := range b.s.Orders.Waiting {
		require.NoError(t, b.s.TakeOutcome("fulmar", id, api.Outcome{State: "done", Says: "it blinks"}))
	}
	_, err = b.s.Swaps.PlanSwap("ida", "AA001")
	require.NoError(t, err)
	silentFrom := b.clock.Now()
	b.report()
	b.clock.forward(30 * time.Minute)
	require.NoError(t, b.s.Tick())
	b.clock.forward(30 * time.Minute)
	b.report()
	_, err = b.s.Inventory.SetItem("ida", "AA001", api.InventorySet{Note: "the seller was told"})
	require.NoError(t, err)

	for _, about := range [][2]string{{"drive", "AA001"}, {"pool", "plankton"}, {"host", "fulmar"}} {
		v, err := b.s.Story(about[0], about[1], api.GetStoryParams{From: begin.Add(-time.Hour)})
		require.NoError(t, err)
		text, at := "", time.Time{}
		for _, e := range v.Entries {
			require.False(t, e.At.Before(at), "in order")
			at = e.At
			text += e.What + " " + e.Who + ": " + e.Says + "\n"
		}
		for _, words := range []string{"judged : AA001: pending-sectors raised: replace", "told : a notice opened: ",
			"seen bo: saw the notice: ", ": on my way",
			"ordered ida: light of fulmar: done: it blinks", "done ida: swap of AA001 in plankton", "unknown fulmar: nothing " +
				"is known of fulmar"} {
			require.Contains(t, text, words, about)
		}
		require.Equal(t, 1, strings.Count(text, "unknown fulmar"), text)
		for _, e := range v.Entries {
			if e.What == "unknown" {
				require.WithinDuration(t, silentFrom, e.At, 5*time.Second, "since the last report, not since it was noticed")
				require.WithinDuration(t, silentFrom.Add(time.Hour), e.Until, 5*time.Second)
			}
		}
	}
	v, err := b.s.Story("drive", "CC003", api.GetStoryParams{From: begin.Add(-time.Hour)})
	require.NoError(t, err)
	for _, e := range v.Entries {
		require.NotContains(t, e.Says, "AA001", "that is another drive's story")
	}
	within, err := b.s.Story(
		"drive",
		"AA001",
		api.GetStoryParams{From: silentFrom.Add(10 * time.Minute), To: silentFrom.Add(20 * time.Minute)},
	)
	require.NoError(t, err)
	require.Len(t, within.Entries, 1, "a silence that reaches into it is told: %v", within.Entries)
	require.Equal(t, "unknown", within.Entries[0].What)
	for _, wrong := range [][2]string{{"drive", "NOSUCH"}, {"pool", "plancton"}, {"host", "fulmor"}, {"shelf", "x"}} {
		_, err := b.s.Story(wrong[0], wrong[1], api.GetStoryParams{})
		require.Error(t, err)
	}
}
