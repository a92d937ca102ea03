package service

import (
	"testing"
	"time"

	"lantern/internal/api"

	"github.com/stretchr/testify/require"
)

// TestShelvesAndPlaces: what is odd about an enclosure is told, and over when it is; a drive without a told bay is
// where somebody saw it, as long as it hangs on the same port; an enclosure that does not tell how it looks may be
// drawn.
func TestShelvesAndPlaces(t *testing.T) {
	b := newBench(t)
	b.s.Fleet.GraceUntil = time.Time{}
	shelf := api.EnclosureReport{
		Name: "shelf",
		Sections: []api.SectionReport{
			{
				Name:     "shelf-01",
				Rows:     1,
				Columns:  4,
				First:    "top-left",
				Run:      "rows",
				Lit:      []int{},
				Plain:    true,
				Occupied: []int{1, 2},
			},
		},
		Parts: []api.PartReport{
			{Type: "cooling", Name: "2", Condition: "critical", Says: "cooling 2 is critical", Grave: true},
			{Type: "cooling", Name: "1", Condition: "ok"},
		},
	}
	tell := func(change func(r *api.Report)) {
		b.clock.forward(time.Minute)
		r := b.next()
		r.IntervalSeconds = 600
		r.Enclosures = append(r.Enclosures, shelf)
		for i := range r.Drives {
			r.Drives[i].Reading = api.Reading{}
		}
		if change != nil {
			change(&r)
		}
		require.NoError(t, b.s.TakeReport("fulmar", r))
		require.NoError(t, b.s.Tick())
	}
	open := func() (out []string) {
		all, err := b.s.Notices.Notices(false)
		require.NoError(t, err)
		for _, n := range all {
			if n.Kind == api.NoticeKindShelf || n.Kind == api.NoticeKindPlace {
				out = append(out, n.Says)
			}
		}
		return out
	}
	in := func(bay int) func(*api.Report) {
		return func(r *api.Report) { r.Drives[0].Section, r.Drives[0].Bay = "shelf-01", bay }
	}
	tell(in(1))
	require.ElementsMatch(
		t,
		[]string{"fulmar/shelf: cooling 2 is critical", "AA001 is in fulmar/shelf-01/1 now; it was in fulmar/front/1"},
		open(),
		"a drive is given time to spin up",
	)
	tell(in(1))
	tell(in(1))
	require.Contains(
		t,
		open(),
		"the enclosure says that something is in bay fulmar/shelf-01/2, and no drive answers there",
	)
	shelf.Sections[0].Occupied, shelf.Parts[0].Says = []int{1}, ""
	tell(in(1))
	require.Equal(t, []string{"AA001 is in fulmar/shelf-01/1 now; it was in fulmar/front/1"}, open())

	// Drawn over what the enclosure reports; its slots stay its own.
	_, err := b.s.Bays.SetLayout(
		"ida",
		"fulmar",
		api.Layout{
			Name:     "drawn",
			Sections: []api.LayoutSection{{Name: "shelf-01", Rows: 2, Columns: 2, First: "bottom-left"}},
		},
	)
	require.NoError(t, err)
	_, err = b.s.Bays.SetLayout(
		"ida",
		"fulmar",
		api.Layout{Name: "other", Sections: []api.LayoutSection{{Name: "front", Rows: 2, Columns: 2}}},
	)
	b.problem(err, "bad-layout", "reports a section front itself")
	m, err := b.s.Bays.Bays("fulmar")
	require.NoError(t, err)
	require.Equal(t, "shelf-01", m.Sections[1].Name)
	require.Equal(t, 2, m.Sections[1].Rows)
	require.Equal(t, 1, m.Sections[1].Bays[0].Row, "number one is at the bottom")
	require.Equal(t, "AA001", m.Sections[1].Bays[0].Tail)

	// A drive whose enclosure does not report bays.
	_, err = b.s.Bays.SetLayout(
		"ida",
		"fulmar",
		api.Layout{Name: "cage", Sections: []api.LayoutSection{{Name: "cage", Rows: 1, Columns: 4}}},
	)
	require.NoError(t, err)
	lose := func(port string) func(*api.Report) {
		return func(r *api.Report) {
			in(1)(r)
			r.Drives[1].Section, r.Drives[1].Bay, r.Drives[1].Port = "", 0, port
		}
	}
	tell(lose("p7"))
	unknown := func() bool {
		m, err := b.s.Bays.Bays("fulmar")
		require.NoError(t, err)
		return m.Sections[len(m.Sections)-1].Bays[0].Unknown
	}
	require.True(t, unknown(), "it may be in any of the cage's bays: none is called empty (R7)")
	err = b.s.Bays.ConfirmBay("ida", api.Spot{Bay: "fulmar/cage/3", Drive: "BB002"})
	require.NoError(t, err)
	how := func() string {
		d, err := b.s.Views.Drive("BB002")
		require.NoError(t, err)
		return d.Bay + " " + d.BayHow
	}
	require.Equal(t, "fulmar/cage/3 confirmed", how())
	require.False(t, unknown())
	b.restart()
	b.s.Fleet.GraceUntil = time.Time{}
	tell(lose("p7"))
	require.Equal(t, "fulmar/cage/3 confirmed", how())
	tell(lose("p8"))
	require.Equal(t, " ", how(), "it hangs elsewhere now, and nobody saw where")
	err = b.s.Bays.ConfirmBay("ida", api.Spot{Bay: "fulmar/cage/9", Drive: "BB002"})
	b.problem(err, "no-bay", "has a bay")
	// Two are confirmed in one bay.
	tell(func(r *api.Report) { in(1)(r); r.Drives[2].Section, r.Drives[2].Bay = "shelf-01", 1 })
	require.Contains(t, open(), "AA001 and CC003 are both said to be in bay fulmar/shelf-01/1")
	// Lights have an end, and a dead drive in an enclosure without lights has none.
	_, err = b.s.Bays.LightOn("ida", api.LightOn{Drive: "AA001", Seconds: 25 * 3600})
	b.problem(err, "bad-light", "within 24 hours")
}
