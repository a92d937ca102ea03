package service

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
)

// unwritten looks that something fails while nothing can be written, and changes nothing of what people are shown.
func (b *bench) unwritten(what string, do func() error) {
	b.t.Helper()
	before := b.everything()
	require.NoError(b.t, b.store.ReadOnly(true))
	require.Error(b.t, do(), what)
	require.NoError(b.t, b.store.ReadOnly(false))
	require.Empty(b.t, difference(before, b.everything()), "%s was not written", what)
}

// everything is what people are shown, whichever hosts there are.
func (b *bench) everything() string {
	if _, err := b.s.Bays.Layouts("fulmar"); err != nil {
		_, err = b.s.Fleet.Enrol("test", "fulmar", false)
		require.NoError(b.t, err)
	}
	return b.shown()
}

// TestRetire: a host is retired that is silent, and no other; what it told of is gone from the lists and from the
// notices, and is there again when it comes back.
func TestRetire(t *testing.T) {
	b := newBench(t)
	b.s.Fleet.GraceUntil = time.Time{}
	b.problem(b.s.Fleet.RetireHost("ida", "fulmar", "sold"), "host-reports", "would no longer be watched")
	b.problem(b.s.Fleet.RetireHost("ida", "fulmor", "sold"), "no-host", `did you mean "fulmar"?`)
	b.clock.forward(5 * time.Minute)
	b.problem(b.s.Fleet.RetireHost("ida", "fulmar", " "), "reason-needed", "reason")
	require.NoError(t, b.s.Tick())
	require.NotEmpty(t, b.told(), "it is told that the host is silent")
	b.unwritten("a host is retired", func() error { return b.s.Fleet.RetireHost("ida", "fulmar", "sold") })

	swap, err := b.s.Swaps.PlanSwap("ida", "AA001")
	require.NoError(t, err)
	b.problem(b.s.Fleet.RetireHost("ida", "fulmar", "sold"), "swap-open", "A swap is open on fulmar")
	b.problem(b.s.Fleet.ForgetDrive("ida", "AA001", "sold"), "in-use", "is reported by fulmar")
	_, err = b.s.Swaps.ActOnSwap("abandon", "ida", swap.Id, "", "not needed")
	require.NoError(t, err)

	token, err := b.s.Fleet.TokenFor("test", "fulmar")
	require.NoError(t, err)
	require.NoError(t, b.s.Fleet.RetireHost("ida", "fulmar", "sold"))
	for range 2 {
		_, known := b.s.Fleet.HostOf(token)
		require.False(t, known, "its token ended")
		require.Empty(t, b.s.Views.Hosts())
		require.Empty(t, b.s.Views.AllPools())
		d := b.drive("AA001")
		require.False(t, d.Present)
		require.Empty(t, d.Pool)
		b.clock.forward(time.Minute)
		require.NoError(t, b.s.Tick())
		require.NotContains(t, strings.Join(b.told(), "\n"), "fulmar")
		require.Empty(t, b.s.Views.Round().Lines)
		b.restart()
		b.s.Fleet.GraceUntil = time.Time{}
	}

	_, err = b.s.Fleet.Enrol("ida", "fulmar", false)
	require.NoError(t, err)
	b.report()
	require.True(t, b.drive("AA001").Present)
	require.Equal(t, "plankton", b.drive("AA001").Pool)
	require.Len(t, b.s.Views.AllPools(), 1)
}

// TestForget: what is gone can be forgotten, what may be there cannot; if it is reported again, it is listed again.
func TestForget(t *testing.T) {
	b := newBench(t)
	b.s.Fleet.GraceUntil = time.Time{}
	b.drives = append(b.drives, b.disk("DD004", 4))
	b.report()
	b.problem(b.s.Fleet.ForgetDrive("ida", "DD004", "sold"), "in-use", "is reported by fulmar")
	whole := b.drives
	b.drives = b.drives[:3]
	b.report()
	b.unwritten("a drive is forgotten", func() error { return b.s.Fleet.ForgetDrive("ida", "DD004", "sold") })
	require.NoError(t, b.s.Fleet.ForgetDrive("ida", "DD004", "sold"))
	for range 2 {
		_, err := b.s.Views.Drive("DD004")
		b.problem(err, "no-drive", "DD004")
		require.NoError(t, b.s.Tick())
		b.restart()
		b.s.Fleet.GraceUntil = time.Time{}
	}
	b.drives = whole
	b.report()
	require.True(t, b.drive("DD004").Present)
	require.NotEmpty(t, b.drive("DD004").Metrics)

	b.drives = b.drives[1:] // AA001 is gone, and has its place in the pool
	b.pool.Groups[0].Members[0] = api.MemberReport{Slot: "1", State: "missing", Domain: "fulmar", NeedsBytes: 8e12}
	b.report()
	b.problem(b.s.Fleet.ForgetDrive("ida", "AA001", "sold"), "is-member", "has a place in plankton")

	b.problem(b.s.Fleet.ForgetPool("ida", "plankton", "taken apart"), "pool-reported", "still reports plankton")
	r := b.next()
	r.Pools = []api.PoolReport{}
	b.take(r)
	require.Len(t, b.s.Views.AllPools(), 1, "it is unknown, not forgotten")
	b.clock.forward(5 * time.Minute)
	b.problem(b.s.Fleet.ForgetPool("ida", "plankton", "taken apart"), "host-quiet", "it is not known")
	r = b.next()
	r.Pools = []api.PoolReport{}
	b.take(r)
	b.unwritten("a pool is forgotten", func() error { return b.s.Fleet.ForgetPool("ida", "plankton", "taken apart") })
	require.NoError(t, b.s.Fleet.ForgetPool("ida", "plankton", "taken apart"))
	for range 2 {
		require.Empty(t, b.s.Views.AllPools())
		require.NoError(t, b.s.Fleet.ForgetDrive("ida", "AA001", "sold"))
		r = b.next()
		r.Pools, r.Drives = []api.PoolReport{}, b.drives
		b.take(r)
		b.restart()
		b.s.Fleet.GraceUntil = time.Time{}
		b.drives = append(b.drives, b.disk("AA001", 1))
		b.report()
		require.Len(t, b.s.Views.AllPools(), 1, "reported again, it is there again")
		b.drives = b.drives[:len(b.drives)-1]
		r = b.next()
		r.Pools, r.Drives = []api.PoolReport{}, b.drives
		b.take(r)
		require.NoError(t, b.s.Fleet.ForgetPool("ida", "plankton", "taken apart"))
	}
}

// TestRename: under its new name a host is what it was, before a restart and after it; its agent goes on under the old
// name or the new one. What names the host holds the change up.
func TestRename(t *testing.T) {
	b := newBench(t)
	b.s.Fleet.GraceUntil = time.Time{}
	rename := func(to string) error { _, err := b.s.RenameHost("ida", "fulmar", to); return err }
	b.problem(rename("Fulmar 2"), "bad-name", "cannot be a host's name")
	_, err := b.s.Fleet.Enrol("ida", "petrel", false)
	require.NoError(t, err)
	b.problem(rename("petrel"), "host-exists", "is there already")

	_, err = b.s.Bays.SetLayout(
		"ida",
		"fulmar",
		api.Layout{Name: "cage", Sections: []api.LayoutSection{{Name: "cage", Rows: 1, Columns: 2}}},
	)
	require.NoError(t, err)
	for _, c := range []struct {
		says     string
		do, undo func() error
	}{
		{"An open swap", func() error { _, err := b.s.Swaps.PlanSwap("ida", "AA001"); return err }, func() error {
			_, err := b.s.Swaps.ActOnSwap("abandon", "ida", b.s.Swaps.Swaps(true)[0].Id, "", "x")
			return err
		}},
		{"The plan of-fulmar", func() error {
			_, err := b.s.Selftests.SetPlan("ida", "of-fulmar",
				api.PlanChange{Covers: []api.PlanScope{{Kind: api.PlanScopeKindHost, Name: "fulmar"}},
					Zone: "UTC", Windows: []string{}, Barred: []string{},
					Limits: api.PlanLimits{Group: 1}, Tests: []api.PlanTest{{Kind: "short", Every: "day"}}})
			return err
		}, func() error { return b.s.Selftests.RemovePlan("ida", "of-fulmar") }},
		{"An order without an outcome", func() error {
			_, err := b.s.Bays.LightOn("ida", api.LightOn{Drive: "BB002", Seconds: 600})
			return err
		}, func() error {
			for id := range b.s.Orders.Waiting {
				if err := b.s.TakeOutcome("fulmar", id, api.Outcome{State: "done", Says: "it blinks"}); err != nil {
					return err
				}
			}
			return nil
		}},
		{"A light", func() error { return nil }, func() error {
			b.clock.forward(10 * time.Second)
			b.report()
			if _, err := b.s.Bays.LightOff(b.s.Bays.Lights()[0].Id); err != nil {
				return err
			}
			for id := range b.s.Orders.Waiting {
				if err := b.s.TakeOutcome("fulmar", id, api.Outcome{State: "done", Says: "it is dark"}); err != nil {
					return err
				}
			}
			return nil
		}},
	} {
		require.NoError(t, c.do(), c.says)
		b.problem(rename("gannet"), "in-use", c.says+" names fulmar")
		require.NoError(t, c.undo(), c.says)
	}

	b.report()
	before := b.shown()
	b.unwritten("a host is renamed", func() error { return rename("gannet") })
	require.NoError(t, rename("gannet"))
	named := func(s string) string { return strings.ReplaceAll(s, "fulmar", "gannet") }
	after := func() string {
		_, err := b.s.Bays.Layouts("gannet")
		require.NoError(t, err)
		b.renamed = "gannet"
		return regexp.MustCompile(`\n *"formerly": \[\s*"fulmar"\s*\],`).ReplaceAllString(b.shown(), "")
	}
	require.Empty(t, difference(named(before), named(after())))
	b.restart()
	b.s.Fleet.GraceUntil = time.Time{}
	require.Empty(t, difference(named(before), named(after())))

	for _, name := range []string{"fulmar", "gannet"} {
		r := b.next()
		r.Host = name
		require.NoError(t, b.s.TakeReport("gannet", r))
		require.Len(t, b.s.Views.AllPools(), 1)
		require.Equal(t, []string{"gannet"}, b.s.Views.AllPools()[0].Hosts)
		require.Equal(t, "gannet/front/1", b.drive("AA001").Bay)
	}
	_, err = b.s.Fleet.Enrol("ida", "fulmar", false)
	b.problem(err, "host-exists", "gannet was called fulmar before")
	_, err = b.s.RenameHost("ida", "petrel", "fulmar")
	b.problem(err, "host-exists", "gannet was called fulmar before")
	back, err := b.s.RenameHost("ida", "gannet", "fulmar")
	require.NoError(t, err)
	require.Equal(t, []string{"gannet"}, back.Formerly)
	_, err = b.s.RenameHost("ida", "fulmar", "gannet")
	require.NoError(t, err)
	r := b.next()
	r.Host = "petrel"
	b.problem(b.s.TakeReport("gannet", r), "unknown-host", "petrel")
}

// TestMoveLayout: an enclosure that goes to another host takes its bays along; where drives were seen is a guess there
// until somebody looks again, so that no hand goes by it.
func TestMoveLayout(t *testing.T) {
	b := newBench(t)
	b.s.Fleet.GraceUntil = time.Time{}
	_, err := b.s.Fleet.Enrol("ida", "petrel", false)
	require.NoError(t, err)
	shelf := api.Layout{Name: "shelf", Sections: []api.LayoutSection{{Name: "side", Rows: 2, Columns: 2}}}
	_, err = b.s.Bays.SetLayout("ida", "fulmar", shelf)
	require.NoError(t, err)
	d := b.disk("DD004", 4)
	d.Section, d.Bay = "", 0
	b.drives = append(b.drives, d)
	b.report()
	require.NoError(t, b.s.Bays.ConfirmBay("ida", api.Spot{Bay: "fulmar/side/3", Drive: "DD004"}))
	require.True(t, b.drive("DD004").BayConfirmed)
	b.problem(b.s.Bays.MoveLayout("ida", "fulmar", "shelves", "petrel"), "no-layout", "no described enclosure")
	b.problem(b.s.Bays.MoveLayout("ida", "fulmar", "shelf", "petrol"), "no-host", "petrol")
	b.problem(b.s.Bays.MoveLayout("ida", "fulmar", "shelf", "fulmar"), "bad-layout", "has it already")
	b.unwritten("an enclosure is moved", func() error { return b.s.Bays.MoveLayout("ida", "fulmar", "shelf", "petrel") })
	require.NoError(t, b.s.Bays.MoveLayout("ida", "fulmar", "shelf", "petrel"))
	b.drives = b.drives[:3]
	b.report()
	b.clock.forward(time.Second)
	require.NoError(
		t,
		b.s.TakeReport(
			"petrel",
			api.Report{Id: "p1", Host: "petrel", At: b.clock.Now(), IntervalSeconds: 30, Drives: []api.DriveReport{d},
				Pools: []api.PoolReport{}, Enclosures: []api.EnclosureReport{}},
		),
	)
	for range 2 {
		moved := b.drive("DD004")
		require.Equal(t, "petrel/side/3", moved.Bay)
		require.False(t, moved.BayConfirmed, "nobody has looked since")
		b.restart()
		b.s.Fleet.GraceUntil = time.Time{}
	}
	require.NoError(t, b.s.Bays.ConfirmBay("ida", api.Spot{Bay: "petrel/side/3", Drive: "DD004"}))
	require.True(t, b.drive("DD004").BayConfirmed)
}
