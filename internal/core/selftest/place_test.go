package selftest

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lantern/internal/core/drive"
)

var monday = time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)

func hour(n int) time.Time { return monday.Add(time.Duration(n) * time.Hour) }

// drawJobs makes jobs on a grid of hours, and room for them.
func drawJobs(t *rapid.T, most, hours int) ([]Job, Room) {
	room := Room{Now: monday, Allowed: map[string][]Span{}, Limits: map[string]int{}}
	for _, plan := range []string{"a", "b"} {
		var spans []Span
		for n := rapid.IntRange(1, 3).Draw(t, "windows"); n > 0; n-- {
			from := rapid.IntRange(0, hours-1).Draw(t, "from")
			spans = append(spans, Span{hour(from), hour(from + rapid.IntRange(1, hours).Draw(t, "length"))})
		}
		room.Allowed[plan] = Merge(spans)
	}
	for i := range 3 {
		room.Limits[fmt.Sprint("host ", i)] = rapid.IntRange(0, 2).Draw(t, "limit")
	}
	jobs := make([]Job, rapid.IntRange(1, most).Draw(t, "jobs"))
	for i := range jobs {
		from := rapid.IntRange(0, hours/2).Draw(t, "period")
		jobs[i] = Job{
			Drive: fmt.Sprint("d", rapid.IntRange(0, most).Draw(t, "drive")),
			Kind:  drive.SelfTestShort,
			Plan:  rapid.SampledFrom([]string{"a", "b"}).Draw(t, "plan"),
			Period: Span{
				hour(from),
				hour(from + rapid.IntRange(1, hours).Draw(t, "long")),
			},
			Takes: time.Duration(rapid.IntRange(1, 3).Draw(t, "takes")) * time.Hour,
			Over: rapid.Bool().Draw(
				t,
				"over",
			),
			Uses:  []string{fmt.Sprint("host ", rapid.IntRange(0, 2).Draw(t, "host"))},
			Share: Share(i),
		}
	}
	return jobs, room
}

// breaks says which rule a placing breaks, worked out minute by minute of nothing but the jobs' times.
func breaks(jobs []Job, room Room) string {
	for _, j := range jobs {
		if j.At.IsZero() || j.Fixed {
			continue
		}
		end := j.At.Add(j.Takes)
		if j.At.Before(j.Period.From) || end.After(j.Period.To) || j.At.Before(room.Now) {
			return fmt.Sprint(j.Drive, " lies outside its period")
		}
		if !slices.ContainsFunc(
			room.Allowed[j.Plan],
			func(s Span) bool { return s.Holds(j.At) && (j.Over || !end.After(s.To)) },
		) {
			return fmt.Sprint(j.Drive, " lies outside its windows")
		}
	}
	for _, at := range jobs { // a number can only rise where something begins
		users := map[string]int{}
		for _, j := range jobs {
			if !j.At.IsZero() && !at.At.IsZero() && (Span{j.At, j.At.Add(j.Takes)}).Holds(at.At) {
				users["drive "+j.Drive]++
				for _, u := range j.Uses {
					users[u]++
				}
			}
		}
		for u, n := range users {
			limit := room.Limits[u]
			if u[:5] == "drive" {
				limit = 1
			}
			if limit > 0 && n > limit {
				return fmt.Sprint(n, " at once in ", u)
			}
		}
	}
	return ""
}

func placed(jobs []Job) (n int) {
	for _, j := range jobs {
		if !j.At.IsZero() {
			n++
		}
	}
	return n
}

// most is how many of a few jobs can be placed at all: every beginning on the grid is tried for every job.
func most(jobs []Job, room Room, hours int) (best int) {
	jobs = slices.Clone(jobs)
	var try func(i int)
	try = func(i int) {
		if i == len(jobs) {
			best = max(best, placed(jobs))
			return
		}
		if placed(jobs[:i])+len(jobs)-i <= best {
			return
		}
		for h := range hours * 2 {
			jobs[i].At = hour(h)
			if breaks(jobs[:i+1], room) == "" {
				try(i + 1)
			}
		}
		jobs[i].At = time.Time{}
		try(i + 1)
	}
	try(0)
	return best
}

// TestPlaceFindsWhatThereIs: as many tests find a place as any placing could give one.
func TestPlaceFindsWhatThereIs(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		jobs, room := drawJobs(t, 5, 6)
		got := Place(jobs, room)
		require.Empty(t, breaks(got, room))
		require.Equal(t, most(jobs, room, 6), placed(got))
	})
}

// TestPlaceKeepsItsWord: limits and windows hold in larger cases, equal inputs give equal results, a test keeps its
// time when a drive is added, unless that drive would have no test otherwise.
func TestPlaceKeepsItsWord(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		jobs, room := drawJobs(t, 40, 60)
		first := Place(jobs, room)
		require.Empty(t, breaks(first, room))
		require.Equal(t, first, Place(jobs, room))
		require.Equal(t, first, Place(first, room), "placed again, nothing moves")
		extra, _ := drawJobs(t, 1, 60)
		extra[0].Drive, extra[0].Uses = "new", []string{"host 1"}
		second := Place(append(slices.Clone(first), extra[0]), room)
		require.Empty(t, breaks(second, room))
		require.GreaterOrEqual(t, placed(second), placed(first))
		moved := false
		for i := range first {
			moved = moved || !second[i].At.Equal(first[i].At)
		}
		if moved {
			require.Greater(t, placed(second), placed(first), "a move has a reason")
			alone := slices.Clone(first)
			for i := range alone {
				alone[i].Fixed = true
			}
			for _, one := range append(first, extra[0]) {
				if one.At.IsZero() {
					p := newPlacer(append(alone, one), room)
					for i := range alone {
						if !alone[i].At.IsZero() {
							p.occupy(i)
						}
					}
					if _, ok := p.next(len(alone), one.Period.From); ok {
						require.NotEqual(t, "new", one.Drive, "it would have found a place without a move")
					}
				}
			}
		}
	})
}

// TestNobodyStarves: if there is room for some only, drives that were left out are first in the next period.
func TestNobodyStarves(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		drives := rapid.IntRange(2, 30).Draw(t, "drives")
		nights := rapid.IntRange(1, 5).Draw(t, "windows a period")
		plan := &Plan{Name: "p", Zone: time.UTC, Limits: Limits{Host: rapid.IntRange(1, 3).Draw(t, "limit")}}
		for d := range nights {
			var w Window
			w.Days[1+d], w.From, w.To = true, 60, 180
			plan.Windows = append(plan.Windows, w)
		}
		var members []Member
		for i := range drives {
			members = append(
				members,
				Member{
					Where: Where{Drive: fmt.Sprintf("d%02d", i), Host: "h"},
					Plan:  plan,
					Takes: map[drive.SelfTestKind]time.Duration{drive.SelfTestExtended: 2 * time.Hour},
				},
			)
		}
		weekly := make([]Span, 40)
		for i := range weekly {
			weekly[i] = Span{monday.AddDate(0, 0, 7*i), monday.AddDate(0, 0, 7*i+7)}
		}
		capacity := nights * plan.Limits.Host
		within := (drives+capacity-1)/capacity + 1 // periods
		last := map[string]int{}
		var items []Item
		for week := range weekly {
			for i := range members {
				members[i].Dues = []Due{{drive.SelfTestExtended, weekly[week : week+1]}}
			}
			var crowds []Crowd
			items, crowds = Schedule(items, members, weekly[week].From)
			require.Equal(t, drives > capacity, len(crowds) > 0)
			for i := range items {
				it := &items[i]
				if it.Period != weekly[week] {
					continue
				}
				if it.State = Missed; !it.At.IsZero() {
					it.State = Done
					require.LessOrEqual(t, week-last[it.Drive], within, "%s waited too long", it.Drive)
					last[it.Drive] = week
				}
			}
		}
		require.Len(t, last, drives)
	})
}

// TestShare: any number of drives lie evenly.
func TestShare(t *testing.T) {
	for _, n := range []int{5, 24, 100, 1000} {
		var all []float64
		for i := range n {
			all = append(all, Share(i))
		}
		slices.Sort(all)
		widest := all[0] + 1 - all[n-1]
		for i := 1; i < n; i++ {
			widest = max(widest, all[i]-all[i-1])
		}
		require.Less(t, widest, 2.7/float64(n))
	}
}

// TestForecast: tests that cannot fit are predicted, with the limit that is too small.
func TestForecast(t *testing.T) {
	nights, err := ParseWindow("Mon,Wed 22:00-06:00")
	require.NoError(t, err)
	plan := &Plan{Name: "p", Zone: time.UTC, Windows: []Window{nights}, Limits: Limits{Group: 1}}
	period := Span{monday, monday.AddDate(0, 0, 30)}
	say := func(n int, takes time.Duration) (out []string) {
		var members []Member
		for i := range n {
			members = append(
				members,
				Member{
					Where: Where{
						Drive:    fmt.Sprintf("d%02d", i),
						Host:     "h",
						Pool:     "p",
						PoolName: "soundscape",
						Group:    "g1",
					},
					Plan: plan,
					Dues: []Due{
						{drive.SelfTestExtended, []Span{period}},
					},
					Takes: map[drive.SelfTestKind]time.Duration{drive.SelfTestExtended: takes},
				},
			)
		}
		_, crowds := Schedule(nil, members, monday)
		for _, c := range crowds {
			out = append(out, fmt.Sprintf("%d: %s", len(c.Left), c.Says))
		}
		return out
	}
	require.Empty(t, say(9, 7*time.Hour))
	require.Equal(
		t,
		[]string{
			"5: extended self-tests of 14 drives in group g1 of soundscape need 14 nights; the windows allow 9. " +
				"Allow more at once, widen the windows, or test less often.",
		},
		say(14, 7*time.Hour),
	)
	require.Equal(
		t,
		[]string{
			"2: extended self-tests of 2 drives: they take up to 9 h, and the longest window is 8 h. Widen the " +
				"windows, or let tests run past their end.",
		},
		say(2, 9*time.Hour),
	)
	plan.Over = true
	require.Empty(t, say(2, 9*time.Hour))
	plan.Barred = []Window{{Days: [7]bool{true, true, true, true, true, true, true}, From: 0, To: dayMinutes}}
	require.Equal(
		t,
		[]string{"1: extended self-test of 1 drive: the plan has no window at all in this period. Give it one."},
		say(1, time.Hour),
	)
}

// A month of 10,000 drives: short tests weekly, extended ones monthly, at night, few at once.
func BenchmarkMonth(b *testing.B) {
	night, err := ParseWindow("daily 19:00-07:00")
	require.NoError(b, err)
	plan := &Plan{
		Name:    "fleet",
		Zone:    time.UTC,
		Windows: []Window{night},
		Limits:  Limits{Group: 1, Pool: 2, Enclosure: 4, Host: 6},
	}
	var weeks []Span
	for i := range 4 {
		weeks = append(weeks, Span{monday.AddDate(0, 0, 7*i), monday.AddDate(0, 0, 7*i+7)})
	}
	var members []Member
	for i := range 10_000 {
		members = append(
			members,
			Member{
				Where: Where{
					Drive:     fmt.Sprintf("d%05d", i),
					Host:      fmt.Sprint("h", i/48),
					Enclosure: fmt.Sprint("e", i/24%2),
					Pool:      fmt.Sprint("p", i/24),
					PoolName:  fmt.Sprint("p", i/24),
					Group:     fmt.Sprint(i / 12 % 2),
				},
				Plan: plan,
				Dues: []Due{
					{drive.SelfTestShort, weeks},
					{drive.SelfTestExtended, []Span{{monday, monday.AddDate(0, 0, 28)}}},
				},
				Takes: map[drive.SelfTestKind]time.Duration{
					drive.SelfTestShort:    2 * time.Minute,
					drive.SelfTestExtended: 430 * time.Minute,
				},
			},
		)
	}
	for b.Loop() {
		items, crowds := Schedule(nil, members, monday)
		if len(items) != 50_000 || len(crowds) > 0 {
			b.Fatal(len(items), crowds)
		}
	}
}
