package notice

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/core/health"
)

var t0 = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func finding(rule string, v health.Verdict) health.Finding {
	return health.Finding{Rule: rule, Verdict: v, Says: "shows " + rule, Do: "see to it"}
}

func ids() func() string {
	n := 0
	return func() string { n++; return fmt.Sprint("n", n) }
}

func turns(changes []Change) (out []string) {
	for _, c := range changes {
		out = append(out, c.Key+" "+string(c.Turn))
	}
	return out
}

// TestOneMatterOneNotice: it opens once, follows the matter, is sent again when it gets worse, and closes by itself.
func TestOneMatterOneNotice(t *testing.T) {
	id := ids()
	at := func(h int) time.Time { return t0.Add(time.Duration(h) * time.Hour) }
	said := func(v health.Verdict) []Matter {
		return OfDrives(
			[]Said{
				{
					Key:  "k1",
					Tail: "ZU006",
					Findings: []health.Finding{
						finding("pending-sectors", v),
						finding("reallocated-sectors", health.Watch),
					},
				},
			},
		)
	}
	open, changes := Update(nil, said(health.Watch), at(0), id)
	require.Equal(t, []string{"drive/k1 opened"}, turns(changes), "two findings, one notice")
	for h := range 5 {
		open, changes = Update(open, said(health.Watch), at(h), id)
		require.Empty(t, changes, "not one per reading")
	}
	open[0].Acknowledged = &Ack{By: "ida", At: at(5), Severity: health.Watch}
	open[0].Muted = at(100)
	require.True(t, open[0].Quiet(at(6)))
	open, changes = Update(open, said(health.Replace), at(7), id)
	require.Equal(t, []string{"drive/k1 got worse"}, turns(changes))
	require.False(t, open[0].Quiet(at(7)), "severity never hides behind an acknowledgement")
	open[0].Acknowledged = &Ack{By: "ida", At: at(8), Severity: health.Replace}
	open, changes = Update(open, said(health.Watch), at(9), id)
	require.Equal(t, []string{"drive/k1 got better"}, turns(changes))
	open, changes = Update(open, said(health.Replace), at(10), id)
	require.Equal(t, []string{"drive/k1 got worse"}, turns(changes))
	require.True(t, open[0].Quiet(at(10)), "it was as bad when it was acknowledged")
	open, changes = Update(open, nil, at(11), id)
	require.Equal(t, []string{"drive/k1 closed"}, turns(changes))
	require.Empty(t, open)
	_, changes = Update(open, said(health.Watch), at(12), id)
	require.Equal(t, "n2", changes[0].ID, "another time is another notice")
}

// TestADeadShelf: twelve drives of one section that vanish at once make one notice; one of them with a matter of its
// own keeps it; idle findings and remarks make none.
func TestADeadShelf(t *testing.T) {
	var all []Said
	for i := range 12 {
		s := Said{
			Key:      fmt.Sprint("k", i),
			Tail:     fmt.Sprint("T", i),
			Host:     "skerry",
			Section:  "rear",
			Verdict:  health.Dead,
			Findings: []health.Finding{finding("vanished", health.Dead)},
		}
		if i == 3 {
			s.Findings = append(s.Findings, finding("pending-sectors", health.Replace))
		}
		all = append(all, s)
	}
	all = append(
		all,
		Said{Key: "a", Host: "skerry", Section: "front", Findings: []health.Finding{finding("vanished", health.Dead)}},
		Said{
			Key:     "b",
			Host:    "fulmar",
			Section: "rear",
			Findings: []health.Finding{
				{Rule: "reallocated-sectors", Verdict: health.Watch, Idle: true},
				finding("never-tested", health.Sound),
			},
		},
	)
	open, changes := Update(nil, OfDrives(all), t0, ids())
	require.ElementsMatch(
		t,
		[]string{"section/skerry/rear/vanished opened", "drive/k3 opened", "drive/a opened"},
		turns(changes),
	)
	Rank(open, t0)
	require.Equal(t, health.Dead, open[0].Severity)
	require.Equal(t, health.Replace, open[2].Severity)
	for _, n := range open {
		if n.Kind == Section {
			require.Len(t, n.Drives, 12)
			require.Contains(t, n.Says, "12 drives of skerry/rear do not answer any more")
		}
	}
}

func TestFilling(t *testing.T) {
	_, ok := OfFilling(Fullness{Used: 79, Capacity: 100}, t0)
	require.False(t, ok)
	m, ok := OfFilling(Fullness{Pool: "specimens", ID: "p", Used: 82, Capacity: 100, PerDay: 2}, t0)
	require.True(t, ok)
	require.Equal(t, Filling, m.Kind)
	require.Equal(t, "specimens is 82 % full, and full on about 2026-12-02 at the present rate", m.Says)
	m, _ = OfFilling(Fullness{Pool: "specimens", Used: 93, Capacity: 100, PerDay: -1}, t0)
	require.Equal(t, health.Replace, m.Severity)
	require.Equal(t, "specimens is 93 % full", m.Says)
	_, ok = OfFilling(Fullness{}, t0)
	require.False(t, ok)
}

// TestWhateverHappens: over any course of matters, acknowledgements and mutes, one matter has one open notice, each
// notice opens once and closes at most once, a matter that gets worse is sent, and what is sent is true.
func TestWhateverHappens(t *testing.T) {
	severities := []health.Verdict{health.Watch, health.Replace, health.Dead}
	for seed := range uint64(300) {
		rng := rand.New(rand.NewPCG(seed, 9))
		id := ids()
		var open []Notice
		opened, closed := map[string]int{}, map[string]int{}
		for step := range 120 {
			now := t0.Add(time.Duration(step) * time.Hour)
			var matters []Matter
			truth := map[string]health.Verdict{}
			for k := range 4 {
				if rng.IntN(3) == 0 {
					continue
				}
				m := Matter{Key: fmt.Sprint("m", k), Severity: severities[rng.IntN(3)]}
				matters = append(matters, m)
				truth[m.Key] = m.Severity
				if rng.IntN(10) == 0 { // the same matter twice
					matters = append(matters, Matter{Key: m.Key, Severity: health.Watch})
				}
			}
			before := map[string]Notice{}
			for _, n := range open {
				before[n.ID] = n
			}
			var changes []Change
			open, changes = Update(open, matters, now, id)
			seen := map[string]bool{}
			for _, n := range open {
				require.False(t, seen[n.Key], "two notices of one matter")
				seen[n.Key] = true
				require.Equal(t, truth[n.Key], n.Severity)
				require.GreaterOrEqual(t, n.Worst.Gravity(), n.Severity.Gravity())
				if was, ok := before[n.ID]; ok && was.Acknowledged != nil &&
					n.Severity.Gravity() > was.Acknowledged.Severity.Gravity() {
					require.False(t, n.Quiet(now), "it is worse than anybody acknowledged")
				}
				if was, ok := before[n.ID]; ok && n.Severity.Gravity() > was.Severity.Gravity() {
					require.True(t, n.Muted.IsZero(), "a mute ends when it gets worse")
				}
			}
			require.Len(t, seen, len(truth))
			for _, c := range changes {
				switch c.Turn {
				case Opened:
					opened[c.ID]++
				case Closed:
					closed[c.ID]++
					require.NotContains(t, truth, c.Key)
				}
			}
			for i := range open {
				switch rng.IntN(8) {
				case 0:
					open[i].Acknowledged = &Ack{By: "ida", At: now, Severity: open[i].Severity}
				case 1:
					open[i].Muted = now.Add(time.Duration(rng.IntN(20)) * time.Hour)
				}
			}
		}
		for n, times := range opened {
			require.Equal(t, 1, times)
			require.LessOrEqual(t, closed[n], 1)
		}
		require.Equal(t, len(opened), len(closed)+len(open))
	}
}

// TestSame: two matters say the same only if nothing of them differs.
func TestSame(t *testing.T) {
	for i := range reflect.TypeFor[Matter]().NumField() {
		m := Matter{Drives: []string{"a"}}
		require.True(t, m.Same(Matter{Drives: []string{"a"}}))
		switch f := reflect.ValueOf(&m).Elem().Field(i); f.Kind() {
		case reflect.String:
			f.SetString("x")
		case reflect.Slice:
			m.Drives = []string{"b"}
		default:
			t.Fatal("a field of a new kind: look whether Same compares it")
		}
		require.False(t, m.Same(Matter{Drives: []string{"a"}}), reflect.TypeFor[Matter]().Field(i).Name)
	}
}
