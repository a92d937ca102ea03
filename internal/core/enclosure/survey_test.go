package enclosure

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func walk(drives ...string) *Survey {
	s := &Survey{Host: "petrel", Tail: map[string]string{}}
	for _, d := range drives {
		s.Todo = append(s.Todo, d)
		s.Tail[d] = d
	}
	return s
}

// TestWalk: a drive is found, passed, taken back; no bay is given twice.
func TestWalk(t *testing.T) {
	s := walk("AA111", "BB222", "CC333")
	at := func(n int) Spot { return Spot{Section: "front", Number: n, By: "ida", At: noon} }
	require.NoError(t, s.Tap(at(4)))
	require.ErrorContains(t, s.Tap(at(4)), "AA111 was found in bay front/4")
	require.Equal(t, "BB222", s.Now(), "a refused tap changes nothing")
	require.NoError(t, s.Pass())
	require.Equal(t, "CC333", s.Now())
	require.NoError(t, s.Tap(at(1)))
	require.Equal(t, "BB222", s.Now(), "what was passed comes again")
	require.NoError(t, s.Back())
	require.Equal(t, "CC333", s.Now())
	require.NoError(t, s.Tap(at(2)))
	require.NoError(t, s.Pass())
	require.Empty(t, s.Now(), "what was passed twice is left out")
	require.ErrorContains(t, s.Pass(), "nothing is looked for")
	require.ErrorContains(t, s.Tap(at(9)), "nothing is looked for")
	require.Equal(
		t,
		[]Spot{
			{Section: "front", Number: 4, Drive: "AA111", By: "ida", At: noon},
			{Section: "front", Number: 2, Drive: "CC333", By: "ida", At: noon},
		},
		s.Done,
	)
	require.ErrorContains(t, walk().Back(), "nothing to take back")
}

// TestReadLabels: tails in the order of the bays, all or none.
func TestReadLabels(t *testing.T) {
	sec := Section{Name: "front", Rows: 2, Columns: 3, First: TopLeft, Run: AlongRows, Gaps: [][2]int{{1, 2}}}
	port := func(d string) string { return "port of " + d }
	s := walk("AA111", "BB211", "CC333")
	for why, tails := range map[string][]string{
		`no drive of petrel has a label that ends in "X"`: {"AA111", "X"}, `"11" fits 2 drives`: {"11"},
		`was read twice, in bays 1 and 3`: {"AA111", "-", "aa111"},
		"front ends with bay 5":           {"-", "-", "-", "-", "-", "AA111"},
	} {
		require.ErrorContains(t, s.Read(sec, 1, tails, noon, "ida", port), why)
		require.Len(t, s.Todo, 3, "none was taken")
	}
	require.ErrorContains(t, s.Read(sec, 6, []string{"AA111"}, noon, "ida", port), "no bay 6")
	require.NoError(t, s.Read(sec, 2, []string{"333", "-", "b211"}, noon, "ida", port))
	require.Equal(t, []string{"AA111"}, s.Todo)
	require.Equal(
		t,
		[]Spot{
			{"front", 2, "CC333", "port of CC333", "ida", noon, false},
			{"front", 4, "BB211", "port of BB211", "ida", noon, false},
		},
		s.Done,
	)
}

// TestFind: a person's observation is valid as long as the drive is at the same port; the next drive at the port is a
// guess.
func TestFind(t *testing.T) {
	spots := []Spot{
		{Section: "front", Number: 1, Drive: "a", Port: "p1"},
		{Section: "front", Number: 2, Drive: "b", Port: "p2"},
		{Section: "front", Number: 3, Drive: "c"},
	}
	for _, c := range []struct {
		drive, port string
		bay         int
		how         How
	}{{"a", "p1", 1, Confirmed}, {"a", "p2", 2, Guessed}, {"a", "p9", 0, ""}, {"new", "p1", 1, Guessed},
		{"new", "", 0, ""}, {"c", "p7", 3, Confirmed}, {"b", "", 2, Confirmed}} {
		s, how := Find(spots, c.drive, c.port)
		require.Equal(t, c.bay, s.Number, "%+v", c)
		require.Equal(t, c.how, how, "%+v", c)
		require.Equal(t, c.how == Confirmed, how.Sure())
	}
	// An enclosure was moved to another host after its drives were confirmed: its cables were touched, so places are
	// guesses.
	_, how := Find([]Spot{{Section: "side", Number: 3, Drive: "AA111", Moved: true}}, "AA111", "another port")
	require.Equal(t, Guessed, how)
}

func TestMovements(t *testing.T) {
	at := func(key, bay, before string, ago time.Duration) Whereabouts {
		return Whereabouts{Key: key, Tail: key, Bay: bay, Before: before, Since: noon.Add(-ago)}
	}
	say := func(all ...Whereabouts) (out []string) {
		for _, m := range Movements(all, noon) {
			out = append(out, string(m.Kind)+": "+m.Says)
		}
		return out
	}
	require.Empty(t, say(at("A", "s/1", "", 0), at("B", "s/2", "", 0), at("C", "", "", 0), at("D", "", "", 0)))
	require.Equal(
		t,
		[]string{"moved: A is in s/3 now; it was in s/1"},
		say(at("A", "s/3", "s/1", time.Hour), at("B", "s/2", "", 0)),
	)
	require.Empty(t, say(at("A", "s/3", "s/1", 4*24*time.Hour)), "old news")
	require.Equal(
		t,
		[]string{"exchanged: A and B changed places: A is in s/2 now, B in s/1"},
		say(at("B", "s/1", "s/2", time.Minute), at("A", "s/2", "s/1", time.Hour)),
	)
	require.Equal(
		t,
		[]string{"claimed twice: A and B are both said to be in bay s/1"},
		say(at("A", "s/1", "", 0), at("B", "s/1", "", 0)),
	)
	moved := at("A", "s/3", "s/1", time.Hour)
	moved.Expected = true
	require.Empty(t, say(moved), "a swap moved it")
}

// TestLayoutsOfAnyShape: whatever a layout that passes its check looks like, every number has a place of its own in the
// grid, and no place is a gap.
func TestLayoutsOfAnyShape(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := Section{
			Name:    "front",
			Rows:    rapid.IntRange(-1, 7).Draw(t, "rows"),
			Columns: rapid.IntRange(0, 7).Draw(t, "columns"),
			First: rapid.SampledFrom(
				[]Corner{TopLeft, TopRight, BottomLeft, BottomRight, "middle"},
			).Draw(
				t,
				"first",
			),
			Run: rapid.SampledFrom([]Run{AlongRows, DownColumns, "zigzag"}).Draw(t, "run"),
		}
		place := rapid.Custom(func(t *rapid.T) [2]int {
			return [2]int{rapid.IntRange(0, 8).Draw(t, "row"), rapid.IntRange(1, 7).Draw(t, "column")}
		})
		s.Gaps = rapid.SliceOfN(place, 0, 4).Draw(t, "gaps")
		if rapid.Bool().Draw(t, "named") {
			s.Named = rapid.MapOfN(rapid.IntRange(1, 9), place, 1, 5).Draw(t, "bays")
		}
		if (Layout{Name: "shelf", Sections: []Section{s}}).Check() != nil {
			return
		}
		seen := map[Place]bool{}
		for _, n := range s.Numbers() {
			p, ok := s.Place(n)
			require.True(t, ok)
			require.False(t, seen[p], "bay %d shares its place", n)
			require.True(t, p.Row >= 0 && p.Row < s.Rows && p.Column >= 0 && p.Column < s.Columns)
			if len(s.Named) == 0 {
				require.NotContains(t, s.Gaps, [2]int{p.Row + 1, p.Column + 1}, "bay %d is in a gap", n)
			}
			seen[p] = true
		}
		require.Len(t, seen, s.Bays())
		_, ok := s.Place(1000)
		require.False(t, ok)
	})
	for why, l := range map[string]Layout{"not a valid name for a layout": {Name: "Shelf 1"},
		"1 to 12 sections":               {Name: "shelf"},
		"two sections":                   {Name: "shelf", Sections: []Section{good("a"), good("a")}},
		"not a valid name for a section": {Name: "shelf", Sections: []Section{good("a/b")}},
		"it is all gaps": {Name: "shelf",
			Sections: []Section{{Name: "a", Rows: 1, Columns: 1, First: TopLeft, Run: AlongRows, Gaps: [][2]int{{1, 1}}}}},
		"both named": {Name: "shelf", Sections: []Section{{Name: "a", Rows: 1, Columns: 2, First: TopLeft,
			Run: AlongRows, Names: map[int]string{1: "A1", 2: "A1"}}}}} {
		require.ErrorContains(t, l.Check(), why, fmt.Sprint(l))
	}
}

func good(name string) Section {
	return Section{Name: name, Rows: 1, Columns: 2, First: TopLeft, Run: AlongRows}
}

// TestSurveySteps: whatever a person does, a step that is refused changes nothing, every drive is in one list alone,
// and no bay has two drives.
func TestSurveySteps(t *testing.T) {
	sec := Section{Name: "front", Rows: 2, Columns: 3, First: "top-left", Run: "rows"}
	g := SurveyGround{
		Section: func(name string) (Section, bool) { return sec, name == "front" },
		Port:    func(drive string) string { return "port of " + drive },
	}
	for seed := range uint64(50) {
		r := rand.New(rand.NewPCG(seed, 7))
		s := Survey{Host: "fulmar", Tail: map[string]string{}}
		for _, k := range []string{"AA111", "BB222", "CC333", "DD444"} {
			s.Todo, s.Tail[k] = append(s.Todo, k), k
		}
		for range 40 {
			bay := fmt.Sprintf(
				"%s/%s/%d",
				[]string{"fulmar", "fulmar", "skerry"}[r.IntN(3)],
				[]string{"front", "front", "rear"}[r.IntN(3)],
				1+r.IntN(8),
			)
			step := SurveyStep{
				Kind: []StepKind{StepTap, StepTap, StepPass, StepBack, StepRead, "dance"}[r.IntN(6)],
				Bay:  bay,
				By:   "ida",
			}
			for range r.IntN(4) {
				step.Tails = append(step.Tails, []string{"111", "BB222", "-", "3", "zz"}[r.IntN(5)])
			}
			before := fmt.Sprintf("%+v", s)
			next, err := s.Do(step, g)
			require.Equal(t, before, fmt.Sprintf("%+v", s), "a step changes its survey in place: %+v", step)
			if err != nil {
				continue
			}
			s = next.Survey
			drives, bays := map[string]int{}, map[string]int{}
			for _, k := range s.Todo {
				drives[k]++
			}
			for _, d := range s.Done {
				drives[d.Drive]++
				bays[fmt.Sprint(d.Section, d.Number)]++
			}
			for k, n := range drives {
				require.Equal(t, 1, n, "%s after %+v: %+v", k, step, s)
			}
			for k, n := range bays {
				require.Equal(t, 1, n, k)
			}
		}
		end, err := s.Do(SurveyStep{Kind: StepLeave}, g)
		require.NoError(t, err)
		require.True(t, end.Over)
		require.Equal(t, s.Done, end.Forget)
	}
}
