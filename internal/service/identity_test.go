package service

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/service/people"
	"lantern/internal/store"
)

// TestRenamePool: a pool with a new name is the same pool, before and after a restart, whatever its host calls it; open
// work that uses the name prevents the change, and the name of another pool is refused.
func TestRenamePool(t *testing.T) {
	b := newBench(t)
	b.s.Fleet.GraceUntil = time.Time{}
	other := b.pool
	other.Id, other.Name, other.Groups = "p2", "krill", []api.GroupReport{{Name: "g",
		Protection: api.Protection{
			Words: "no protection",
		}, Members: []api.MemberReport{{Slot: "1", State: "missing", NeedsBytes: 1}}}}
	b.more = []api.PoolReport{other}
	b.report()
	rename := func(from, to string) error { _, err := b.s.RenamePool("ida", from, to); return err }
	for _, bad := range []string{"", " ", "two words", strings.Repeat("x", 65), "a\"b", "-x", "tab\tx", "a,b"} {
		b.problem(rename("plankton", bad), "bad-name", "cannot be the name")
	}
	b.problem(rename("plankton", "krill"), "in-use", "krill on fulmar")
	b.problem(rename("plankton", "p2"), "in-use", "krill on fulmar")
	b.problem(rename("plancton", "x"), "no-pool", `did you mean "plankton"?`)

	for _, c := range []struct {
		says     string
		do, undo func() error
	}{
		{"An open swap", func() error {
			_, err := b.s.Swaps.PlanSwap("ida", "AA001")
			return err
		}, func() error {
			_, err := b.s.Swaps.ActOnSwap("abandon", "ida", b.s.Swaps.Swaps(true)[0].Id, "", "x")
			return err
		}},
		{"A threshold of its own", func() error {
			_, err := b.s.Judging.SetThreshold("ida", api.ThresholdSet{Name: "hot_limit", Pool: "plankton", Value: 44})
			return err
		}, func() error {
			_, err := b.s.Judging.SetThreshold("ida", api.ThresholdSet{Name: "hot_limit", Pool: "plankton", Usual: true})
			return err
		}},
		{"The channel office", func() error {
			_, err := b.s.Notices.PutChannel(t.Context(), "ida", "office",
				api.ChannelPut{Kind: "webhook", Url: "https://127.0.0.1:1/", Secret: "0123456789abcdef0123",
					Pools: []string{"plankton"}})
			return err
		}, func() error { return b.s.Notices.RemoveChannel("ida", "office") }},
		{"What bo may act on", func() error {
			_, err := b.s.People.AddPerson(people.Rights{Name: "ida", Role: api.Admin},
				api.AddPerson{Name: "bo", Role: "operator", Pools: []string{"plankton"}})
			return err
		}, func() error { return b.s.People.RemovePerson("ida", "bo") }},
	} {
		require.NoError(t, c.do(), c.says)
		b.problem(rename("plankton", "samples"), "in-use", c.says+" names plankton")
		require.NoError(t, c.undo(), c.says)
	}
	for id := range b.s.Orders.Waiting {
		require.NoError(t, b.s.TakeOutcome("fulmar", id, api.Outcome{State: "done", Says: "it blinks"}))
	}
	_, err := b.s.People.AddPerson(
		people.Rights{Name: "ida", Role: api.Admin},
		api.AddPerson{Name: "bo", Role: "operator", Pools: []string{"krill"}},
	)
	require.NoError(t, err)
	// A pool that is gone, and can be changed freely.
	b.more = nil
	b.report()
	require.NoError(t, b.s.Fleet.ForgetPool("ida", "krill", "taken apart"))
	b.problem(rename("plankton", "krill"), "in-use", "What bo may act on names krill")
	require.NoError(t, b.s.People.RemovePerson("ida", "bo"))
	b.more = []api.PoolReport{other}
	b.report()

	b.unwritten("a pool is renamed", func() error { return rename("plankton", "samples") })
	require.NoError(t, rename("plankton", "samples"))
	for range 2 {
		p, err := b.s.Views.Pool("samples")
		require.NoError(t, err)
		require.Equal(t, "p1", p.Id)
		require.Equal(t, []string{"plankton"}, p.Also)
		require.Equal(t, "samples", b.drive("AA001").Pool)
		_, err = b.s.Views.Pool("plankton")
		b.problem(err, "no-pool", "plankton")
		b.report()
		b.restart()
		b.s.Fleet.GraceUntil = time.Time{}
	}
	b.problem(rename("krill", "plankton"), "in-use", "samples on fulmar has or had that name")
	require.NoError(t, rename("samples", "archive"))
	b.problem(rename("krill", "samples"), "in-use", "archive on fulmar has or had that name")
	_, err = b.s.Story("pool", "archive", api.GetStoryParams{})
	require.NoError(t, err)
	require.NoError(t, rename("archive", "plankton"), "the reported name takes the given one away")
	b.restart()
	_, err = b.s.Views.Pool("plankton")
	require.NoError(t, err)
}

// TestMerge: a drive that reports another identity keeps all its readings and notes; with any evidence of two drives,
// nothing is merged.
func TestMerge(t *testing.T) {
	b := newBench(t)
	b.s.Fleet.GraceUntil = time.Time{}
	shelf := b.disk("DD004", 4)
	shelf.Identity.Wwn = ""
	b.drives = append(b.drives, shelf)
	spare := b.disk("EE005", 5)
	spare.Identity.Wwn = ""
	b.drives = append(b.drives, spare)
	for n := range 40 {
		b.drives[3].Reading.Metrics = map[string]float64{"pending_sectors": 8, "power_on_hours": 100 + float64(n)}
		for i := range b.drives {
			b.drives[i].Reading.At = b.clock.Now()
		}
		b.report()
		b.clock.forward(10 * time.Minute)
	}
	b.s.mu.Lock()
	require.NoError(t, b.s.Readings.Fold())
	b.s.mu.Unlock()
	_, err := b.s.Inventory.SetItem(
		"ida",
		"DD004",
		api.InventorySet{Fields: map[string]string{"supplier": "Kelp", "batch": "B-1"}, Note: "loud"},
	)
	require.NoError(t, err)
	old := b.drive("DD004")
	require.NotEmpty(t, old.Findings, "it has bad sectors")

	// The firmware reports the serial in another form from now on.
	b.drives[3].Identity.Serial = "0000-KH3-DD004-R"
	b.drives[3].Reading.At = b.clock.Now()
	b.report()
	_, err = b.s.Inventory.SetItem(
		"ida",
		"0000-KH3-DD004-R",
		api.InventorySet{Fields: map[string]string{"supplier": "Kelp & Sons"}},
	)
	require.NoError(t, err)
	merge := func(from, into, why string) error { _, err := b.s.MergeDrives("ida", from, into, why); return err }
	b.problem(merge("KH3DD004", "004-R", ""), "reason-needed", "reason")
	b.problem(merge("KH3DD004", "KH3DD004", "x"), "bad-name", "one identity")
	b.problem(merge("004-R", "KH3DD004", "x"), "two-drives", "is reported by fulmar")
	b.problem(merge("KH3DD004", "EE005", "x"), "two-drives", "was still reported")
	for _, differs := range []func(d *api.DriveReport){
		func(d *api.DriveReport) { d.CapacityBytes = 4e12 },
		func(d *api.DriveReport) { d.Reading.Metrics = map[string]float64{"power_on_hours": 3} },
	} {
		young := b.disk("FF006", 6)
		young.Identity.Wwn = ""
		differs(&young)
		b.drives = append(b.drives, young)
		b.report()
		b.problem(merge("KH3DD004", "FF006", "x"), "two-drives", "Check the label")
		b.drives = b.drives[:5]
		b.report()
		require.NoError(t, b.s.Fleet.ForgetDrive("ida", "FF006", "a test"))
	}

	b.unwritten("a drive is merged", func() error { return merge("KH3DD004", "004-R", "same label") })
	before, err := store.All[store.Block](b.store, "first", "")
	require.NoError(t, err)
	require.NoError(t, merge("KH3DD004", "004-R", "same label"))
	for range 2 {
		d := b.drive("004-R")
		require.Equal(t, old.FirstSeenAt, d.FirstSeenAt)
		require.Len(t, d.Before, 1)
		require.Equal(t, "KH3DD004", d.Before[0].Serial)
		require.Equal(t, d.Key, b.drive("KH3DD004").Key, "its earlier serial finds it")
		v, err := b.s.Views.Trend(d.Key, "power_on_hours", 24)
		require.NoError(t, err)
		require.Equal(t, 100.0, v.Points[0].Value, "what was measured before is part of its past")
		require.Contains(t, fmt.Sprint(d.Happened), "KH3DD004")
		i := d.Inventory
		require.Equal(t, map[string]string{"supplier": "Kelp & Sons", "batch": "B-1"}, i.Fields)
		require.Equal(t, "loud", i.Notes[0].Text)
		page, err := b.s.Views.Drives(api.ListDrivesParams{})
		require.NoError(t, err)
		require.Len(t, page.Drives, 5)
		b.report()
		b.restart()
		b.s.Fleet.GraceUntil = time.Time{}
	}
	after, err := store.All[store.Block](b.store, "first", "")
	require.NoError(t, err)
	require.Len(t, after, len(before), "no block was lost")
	left, err := store.All[store.Reading](b.store, "at", "drive = ?", old.Key)
	require.NoError(t, err)
	require.Empty(t, left)
}
