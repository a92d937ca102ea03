package swap

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/cockroachdb/datadriven"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lantern/internal/core/drive"
	"lantern/internal/core/health"
	"lantern/internal/core/pool"
	"lantern/internal/core/record"
)

var t0 = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func disk(tail string) drive.Identity {
	return drive.Identity{Model: "VELDRUN VR4-4000", Serial: "VR7" + tail}
}

// replay builds the state that a record of events leads to.
func replay(events []Event) State {
	var s State
	for _, e := range events {
		s, _, _ = Apply(s, e)
	}
	return s
}

// script is one swap, told step by step.
type script struct {
	state  State
	events []Event
	now    time.Time
}

// apply gives an event to the swap and writes what came of it: orders, refusals, new lines of the record, the phase.
func (s *script) apply(e Event) string {
	s.now = s.now.Add(time.Minute)
	e.At = s.now
	before := s.state
	next, orders, err := Apply(s.state, e)
	var b strings.Builder
	if err != nil {
		fmt.Fprintf(&b, "refused (%s): %s\n", err.(*Refusal).Type, strings.TrimSpace(err.Error()))
		if fmt.Sprint(next) != fmt.Sprint(before) {
			b.WriteString("STATE CHANGED BY A REFUSAL\n")
		}
	}
	s.events = append(s.events, e)
	for _, l := range next.Log[len(before.Log):] {
		fmt.Fprintf(&b, "%s: %s\n", l.Who, l.Says)
	}
	for _, o := range orders {
		fmt.Fprintf(&b, "order %s", o.Kind)
		if o.Number > 0 {
			fmt.Fprintf(&b, " #%d %s", o.Number, o.Drive.Tail())
		}
		if o.Seat.Partition > 0 || len(o.Seat.Layers) > 0 {
			fmt.Fprintf(
				&b,
				" into %s place %s, partition %d %v",
				o.Seat.Pool,
				o.Seat.Slot,
				o.Seat.Partition,
				o.Seat.Layers,
			)
		}
		if len(o.Slots) > 0 {
			fmt.Fprintf(&b, " with %s", strings.Join(o.Slots, ", "))
		}
		b.WriteString("\n")
	}
	for _, c := range next.Closing {
		if c.Result != record.Passes && (next.Phase == Verify || next.Phase == Closed) {
			fmt.Fprintf(&b, "closing %s %s: %s\n", c.ID, c.Result, c.Found)
		}
	}
	for _, w := range next.Wrong {
		fmt.Fprintf(&b, "put back %s into %s\n", w.Tail(), w.Bay)
	}
	s.state = next
	fmt.Fprintf(&b, "at %s", next.Phase)
	if next.Phase != before.Phase && next.Phase.Open() {
		fmt.Fprintf(&b, ": %s", next.Now().Title)
	}
	return b.String() + "\n"
}

// TestScenarios runs the stories under testdata/swaps.
func TestScenarios(t *testing.T) {
	datadriven.Walk(t, "testdata/swaps", func(t *testing.T, path string) {
		s := &script{now: t0}
		datadriven.RunTest(t, path, func(t *testing.T, d *datadriven.TestData) string {
			arg := func(key, otherwise string) string {
				for _, a := range d.CmdArgs {
					if a.Key == key && len(a.Vals) > 0 {
						return strings.Join(a.Vals, " ")
					}
				}
				return otherwise
			}
			has := func(key string) bool { return d.HasArg(key) }
			who := arg("by", "ida")
			number := func(key string, otherwise uint64) uint64 {
				n, err := strconv.ParseUint(arg(key, fmt.Sprint(otherwise)), 10, 64)
				require.NoError(t, err)
				return n
			}
			one := func() *Drive {
				return &Drive{
					Identity: disk(arg("tail", "")),
					Capacity: drive.Bytes(number("size", 4000)),
					Bay:      strings.Trim(arg("bay", "skerry/front/7"), "-"),
					Sector: drive.Bytes(
						number("sector", 512),
					),
					Zoned:    drive.Zoning(arg("zoned", "")),
					Promised: arg("promised", ""),
					Holds: strings.ReplaceAll(
						arg("holds", ""),
						"_",
						" ",
					),
					Ill:     strings.ReplaceAll(arg("ill", ""), "_", " "),
					Member:  arg("member", ""),
					Testing: has("testing"),
					Blank:   arg("holds", "") == "" && !has("unread"),
				}
			}
			switch d.Cmd {
			case "plan":
				p := State{
					ID:      "s1",
					Pool:    "soundscape",
					PoolID:  "p1",
					Slot:    "1.7",
					Host:    "skerry",
					Old:     *one(),
					OldGone: has("gone"),
					Needs:   drive.Bytes(number("needs", 4000)),
					AtMost:  drive.Bytes(number("most", 0)),
					Margin:  pool.Margin(number("margin", 2)),
				}
				if d.Input != "" {
					p.Pool, p.Recipe = ground(t, d.Input, p.OldGone)
				}
				if p.Recipe.Spare != "" {
					p.Early = &Drive{
						Identity: disk("SPR09"),
						Capacity: 4000,
						Sector:   512,
						Bay:      "skerry/front/9",
						Member:   p.Pool,
						Spare:    true,
						Holds:    "a mark",
					}
				}
				// seats=soundscape/1.7/2,tidegauge/3/4/encrypted: pool, slot, partition, and a layer above it; a pool
				// in capitals is done by hand.
				for _, text := range strings.FieldsFunc(arg("seats", ""), func(r rune) bool { return r == ';' }) {
					f := strings.Split(text, "/")
					x := Seat{
						Pool:   strings.ToLower(f[0]),
						PoolID: strings.ToLower(f[0]),
						Slot:   f[1],
						Hand:   f[0] != strings.ToLower(f[0]),
						Margin: 1,
					}
					x.Partition, _ = strconv.Atoi(f[2])
					if x.Partition > 0 {
						x.Layers = []string{"partition"}
					}
					x.Layers = append(x.Layers, f[3:]...)
					p.Seats = append(p.Seats, x)
				}
				if len(p.Seats) > 0 {
					p.Margin = 1
					p.Recipe = inPlace(p.OldGone)
					at := p.Recipe.Rank(Join)
					for _, step := range strings.FieldsFunc(arg("extra", ""), func(r rune) bool { return r == ';' }) {
						p.Recipe.Steps = append(
							p.Recipe.Steps[:at:at],
							append([]Phase{Phase(step)}, p.Recipe.Steps[at:]...)...)
						at++
					}
				}
				out := s.apply(Event{Kind: PlanIt, By: who, Plan: &p})
				for _, w := range s.state.Recipe.Why {
					out += "because " + w + "\n"
				}
				if d.Input != "" {
					out += "steps: " + strings.Trim(fmt.Sprint(s.state.Recipe.Steps), "[]") + "\n"
				}
				return out
			case "begin":
				e := Event{Kind: BeginIt, By: who, Reason: strings.TrimSpace(d.Input)}
				e.Checks = []record.Check{
					{
						ID:     "margin",
						Title:  "Enough is left when it is out",
						Found:  "found so",
						Do:     "Do so.",
						Result: record.Result(arg("check", "passes")),
					},
				}
				if v := arg("loses", ""); v != "" {
					e.Checks[0].Loses = strings.Split(v, " ")
				}
				if has("zero") {
					e.Checks = append(
						e.Checks,
						record.Check{ID: "backup", Title: "There is a backup", Result: record.Warns},
					)
				}
				e.TypedPool, e.NoBackup = arg("typed", ""), has("no-backup")
				if v := arg("backup", ""); v != "" {
					day, err := time.Parse(time.DateOnly, v)
					require.NoError(t, err)
					e.Backup = day
				}
				return s.apply(e)
			case "next", "back", "hold", "resume", "lead", "fate":
				e := Event{
					Kind:   EventKind(d.Cmd),
					By:     who,
					Reason: strings.TrimSpace(d.Input),
					To:     arg("to", ""),
					Fate:   FateKind(arg("kind", "")),
				}
				if c := arg("check", ""); c != "" {
					e.Checks = []record.Check{
						{
							ID:     "room",
							Title:  "What is on it finds room",
							Found:  "there is none",
							Do:     "Make room.",
							Result: record.Result(c),
						},
					}
				}
				return s.apply(e)
			case "host":
				return s.apply(Event{Kind: HostSeen, Quiet: has("quiet")})
			case "later":
				s.now = s.now.Add(time.Hour)
				return "an hour later\n"
			case "steps":
				var b strings.Builder
				for _, st := range s.state.Steps() {
					fmt.Fprintf(&b, "%s (%s): %s\n", st.Title, st.Kind, st.What)
				}
				return b.String()
			case "gone":
				return s.apply(Event{Kind: DriveGone, Drive: one(), Margin: pool.Margin(number("margin", 1))})
			case "came":
				return s.apply(Event{Kind: DriveCame, Drive: one()})
			case "confirm":
				e := Event{Kind: ConfirmIt, By: who, Tail: arg("tail", ""), Reason: strings.TrimSpace(d.Input)}
				var out strings.Builder
				if has("looked") { // with what is known of the new drive by now
					e.Drive = one()
					e.Drive.Accepted = strings.ReplaceAll(arg("accepted", ""), "_", " ")
					x := told(
						Situation{
							Plan:       s.state,
							PoolSeen:   s.now,
							NewVerdict: health.Verdict(arg("verdict", string(health.Sound))),
						},
					)
					x.Plan.New = e.Drive
					e.Checks = Gate(x, Confirm)
					for _, c := range e.Checks {
						assert.NotContains(
							t,
							c.Found+c.Looked+c.Do+c.Title,
							e.Drive.Tail(),
							"who confirms must have read the label",
						)
						if c.Result != record.Passes || has("all") {
							fmt.Fprintf(&out, "%s %s: %s\n", c.Result, c.Title, c.Found)
						}
					}
				}
				return out.String() + s.apply(e)
			case "outcome":
				return s.apply(
					Event{
						Kind:    OrderDone,
						Order:   int(number("order", 1)),
						Done:    has("done"),
						Outcome: strings.TrimSpace(d.Input),
					},
				)
			case "pool":
				v := &PoolView{
					Member:       pool.MemberState(arg("member", "online")),
					Drive:        disk(arg("drive", "")).Key(),
					MarginKnown:  !has("unknown"),
					Without:      pool.Margin(number("margin", 2)) - pool.Margin(number("needed", 1)),
					Recovering:   has("recovering"),
					Filling:      has("filling"),
					Recovery:     arg("id", ""),
					Unrepairable: number("left", 0),
					NewVerdict:   arg("verdict", string(health.Sound)),
					LightOn:      has("lit"),
					New: pool.MemberState(
						arg("new", ""),
					),
					Drained:    has("drained"),
					ScrubClean: !has("dirty"),
					Stuck:      strings.ReplaceAll(arg("stuck", ""), "_", " "),
					Spare:      arg("spare", ""),
					Moving:     pool.Margin(number("margin", 2)) - 1,
				}
				if has("scrubbed") {
					v.Scrubbed = s.now
				}
				if l := arg("lost", ""); l != "" {
					v.Lost = strings.Split(l, " ")
				}
				v.Prepared = has("prepared")
				for _, c := range arg("joined", "") {
					v.Joined = append(v.Joined, c == '1')
				}
				if has("forgotten") {
					v.Drive = ""
				}
				e := Event{Kind: PoolSeen, Pool: v, Margin: pool.Margin(number("margin", 2))}
				if w := arg("peer", ""); w != "" {
					x := told(Situation{Plan: s.state})
					x.Peers = Told([]string{w})
					e.Checks = Gate(x, s.state.Phase)
				}
				if has("skew") {
					x := told(Situation{Plan: s.state})
					x.Host = Told(HostFacts{Skew: time.Minute})
					e.Checks = Gate(x, s.state.Phase)
				}
				return s.apply(e)
			case "abandon":
				return s.apply(Event{Kind: AbandonIt, By: who, Reason: strings.TrimSpace(d.Input)})
			case "restart":
				again := replay(s.events)
				if !assert.ObjectsAreEqual(s.state, again) {
					return "ANOTHER STATE AFTER A RESTART\n"
				}
				s.state = again
				return fmt.Sprintf("at %s, as before\n", again.Phase)
			}
			t.Fatalf("no command %q", d.Cmd)
			return ""
		})
	})
}

// TestNothingBreaksTheRules throws thousands of events in any order at swaps and looks at every state on the way.
func TestNothingBreaksTheRules(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	tails := []string{"OLD01", "NEW02", "SML03", "HLD04", "OTH05"}
	var closed, joins int
	for range 4000 {
		s := State{}
		s, _, _ = Apply(
			s,
			Event{
				Kind: PlanIt,
				By:   "ida",
				Plan: &State{
					ID:     "s",
					Pool:   "p",
					Slot:   "1",
					Host:   "h",
					Old:    Drive{Identity: disk("OLD01"), Bay: "h/f/1"},
					Needs:  4000,
					Margin: 1,
				},
			},
		)
		var events []Event
		for range 40 {
			d := Drive{Identity: disk(tails[r.IntN(len(tails))]), Capacity: 4000, Sector: 512, Bay: "h/f/1",
				Blank: r.IntN(8) > 0}
			switch d.Tail() {
			case "SML03":
				d.Capacity = 3999
			case "HLD04":
				d.Holds = "somebody"
			}
			e := Event{
				Kind: []EventKind{BeginIt, ConfirmIt, AbandonIt, DriveGone, DriveCame, PoolSeen, OrderDone,
					DriveCame, DriveGone, ConfirmIt, PoolSeen, NextIt, BackIt, HostSeen}[r.IntN(14)],
				By:     "ida",
				Drive:  &d,
				Tail:   tails[r.IntN(len(tails))],
				Order:  r.IntN(3),
				Done:   r.IntN(2) == 0,
				Margin: pool.Margin(r.IntN(2)),
				Reason: "why",
			}
			if e.Kind == AbandonIt && r.IntN(8) > 0 {
				continue
			}
			e.Pool = &PoolView{
				Member:      []pool.MemberState{pool.Online, pool.Recovering, pool.Missing}[r.IntN(3)],
				Drive:       disk(tails[r.IntN(2)]).Key(),
				MarginKnown: r.IntN(5) > 0,
				Recovering:  r.IntN(3) == 0,
				NewVerdict:  "sound",
			}
			before := s
			next, orders, err := Apply(s, e)
			if err != nil {
				require.Equal(t, before, next, "a refusal changes nothing")
			}
			for _, o := range orders {
				if !o.Kind.Writes() {
					continue
				}
				joins++
				require.Equal(t, ConfirmIt, e.Kind, "only a person's confirmation leads to writing (R3)")
				require.True(t, o.Drive.TailMatches(e.Tail))
				require.Contains(
					t,
					[]string{"NEW02", "OTH05"},
					o.Drive.Tail(),
					"too small, taken, and old drives are never written to",
				)
				require.Empty(t, before.Wrong, "never while another drive is out (R5)")
				require.Equal(t, Confirm, before.Phase)
			}
			if next.Phase != before.Phase && (next.Phase == Verify || next.Phase == Closed) {
				require.Equal(t, PoolSeen, e.Kind, "done is what the pool showed (R6)")
			}
			if next.Phase == Closed && before.Phase != Closed {
				closed++
				require.True(
					t,
					e.Pool.MarginKnown && e.Margin >= next.Margin && e.Pool.Member == pool.Online &&
						!e.Pool.Recovering,
					"healthy is what was seen",
				)
			}
			if !before.Phase.Open() {
				require.Equal(t, before.Phase, next.Phase, "what has ended stays so")
			}
			events = append(events, e)
			s = next
		}
		again := State{}
		again, _, _ = Apply(
			again,
			Event{
				Kind: PlanIt,
				By:   "ida",
				Plan: &State{
					ID:     "s",
					Pool:   "p",
					Slot:   "1",
					Host:   "h",
					Old:    Drive{Identity: disk("OLD01"), Bay: "h/f/1"},
					Needs:  4000,
					Margin: 1,
				},
			},
		)
		for _, e := range events {
			again, _, _ = Apply(again, e)
		}
		require.Equal(t, s, again, "the same events lead to the same state")
	}
	require.Greater(t, closed, 5, "some of them come to a good end")
	require.Greater(t, joins, 60)
}

// TestChecks: every check has a result, with its facts; those that must stop a swap do.
func TestChecks(t *testing.T) {
	members := []pool.Member{
		{Slot: "1", Drive: "a", State: pool.Online, Log: "log"},
		{Slot: "2", Drive: "b", State: pool.Online, Log: "log"},
	}
	p := &pool.Pool{
		Name:   "plankton",
		Groups: []pool.Group{{Name: "mirror", Protect: pool.Protection{Tolerance: 1}, Members: members}},
		Logs:   []pool.Member{{Slot: "log", State: pool.Online}},
	}
	base := Situation{
		PoolSeen: t0,
		Pool:     p,
		BayKnown: true,
		Plan: State{
			Pool:  "plankton",
			Slot:  "1",
			Host:  "fulmar",
			Old:   Drive{Identity: disk("AA111"), Bay: "fulmar/front/8"},
			Needs: 8_001_563_222_016,
		},
	}
	base = told(base)
	result := func(s Situation, id string) record.Check {
		for _, c := range Checks(s) {
			require.NotEmpty(t, c.Looked)
			require.NotEmpty(t, c.Found)
			if c.ID == id {
				return c
			}
		}
		require.Fail(t, "no check "+id)
		return record.Check{}
	}
	require.Equal(t, record.Warns, result(base, "margin").Result, "the pool cannot lose another drive then")
	require.Contains(t, result(base, "fit").Found, "8,001,563,222,016 bytes")
	for id, change := range map[string]func(*Situation){
		"host-reports": func(s *Situation) { s.Host = Told(HostFacts{Late: true}) },
		"no-recovery":  func(s *Situation) { s.Recovery = Told("resilver") },
		"one-swap":     func(s *Situation) { s.OtherSwap = Told("bo") },
		"margin":       func(s *Situation) { s.Pool = nil },
	} {
		s := base
		change(&s)
		c := result(s, id)
		require.Equal(t, record.Stops, c.Result, id)
		require.NotEmpty(t, c.Do, id)
	}
	s := base
	s.Plan.Slot, s.Plan.Recipe.Unit = "log", []string{"1", "2"}
	require.Contains(t, result(s, "margin").Found, "2 members would be lost with it")
	q := p.With(pool.Missing, "2")
	s = base
	s.Pool = &q
	require.Equal(t, record.Stops, result(s, "margin").Result, "the last member is never let go (R1)")
	v := *p
	v.Volumes = []pool.Volume{{Name: "thumbnails", Group: "mirror"}}
	s.Pool = &v
	require.Contains(t, result(s, "margin").Found, "thumbnails would be lost")
	s = base
	s.Host = Told(HostFacts{Late: true})
	require.Equal(t, record.Warns, result(s, "host-clock").Result, "of a silent host no clock is known (R7)")
	s = base
	s.Host, s.Matters, s.OnHost = Told(
		HostFacts{Skew: -time.Minute},
	), Told(
		[]string{"a fan of shelf-1 has failed"},
	), Told(
		"tidegauge",
	)
	require.Equal(t, record.Warns, result(s, "host-clock").Result, "before the start; after a power-down it stops")
	require.Equal(
		t,
		"a swap in tidegauge is under way on fulmar: two people may work there; a fan of shelf-1 has failed",
		result(s, "only-matter").Found,
	)
	require.Equal(t, record.Passes, result(base, "only-matter").Result)
	// A host that shuts down takes members of other pools offline: if their margin is missing, this warns before the
	// start and stops when it must shut down.
	spread := &pool.Pool{
		Name: "driftnet",
		Groups: []pool.Group{
			{
				Name:    "g",
				Protect: pool.Protection{Tolerance: 1},
				Members: []pool.Member{
					{Slot: "1", State: pool.Online, Domain: "fulmar"},
					{Slot: "2", State: pool.Online, Domain: "skerry"},
				},
			},
		},
	}
	thin := spread.With(pool.Missing, "2")
	s = base
	s.Plan.Recipe = Recipe{Steps: []Phase{Planned, Still, Down, Change, Up, Insert, Confirm, Join, Recover, Verify}}
	gate := func() record.Check { all := Gate(s, Down); return all[len(all)-1] }
	for found, n := range map[string]Neighbour{"": {Pool: spread}, "a resilver is running in driftnet, which " +
		"has members on fulmar": {spread, "resilver"}, "without fulmar data of driftnet would be missing": {Pool: &thin}} {
		s.Neighbours = Told([]Neighbour{n})
		early, now := result(s, "host-down"), gate()
		require.Equal(t, "host-down", now.ID)
		if found == "" {
			require.Equal(t, []record.Result{record.Passes, record.Passes}, []record.Result{early.Result, now.Result})
			continue
		}
		require.Equal(t, []string{found, found}, []string{early.Found, now.Found})
		require.Equal(t, []record.Result{record.Warns, record.Stops}, []record.Result{early.Result, now.Result})
	}
	s = base
	s.Scrub = Told(ScrubFacts{})
	require.Equal(t, record.Warns, result(s, "last-scrub").Result, "not known is not clean (R7)")
}

// told is a situation in which every fact that is not there yet is told, and good.
func told(s Situation) Situation {
	s.Now = t0
	s.Host, s.Recovery, s.OtherSwap, s.OnHost, s.Twin = Told(HostFacts{}), Told(""), Told(""), Told(""), Told("")
	s.Gravest, s.Scrub = Told(Grave{}), Told(ScrubFacts{At: t0.Add(-time.Hour), Clean: true})
	s.Testing, s.Matters, s.Peers = Told([]string(nil)), Told([]string(nil)), Told([]string(nil))
	s.Neighbours, s.Uses, s.Above = Told([]Neighbour(nil)), Told([]OtherUse(nil)), Told([]*pool.Pool(nil))
	return s
}

// TestEveryFactIsNeeded: a missing fact stops a check, before the start or at some step, and no check's title claims
// its result.
func TestEveryFactIsNeeded(t *testing.T) {
	members := []pool.Member{
		{Slot: "1", Drive: "a", State: pool.Online, Domain: "fulmar"},
		{Slot: "2", Drive: "b", State: pool.Online, Domain: "skerry"},
		{Slot: "3", Drive: "c", State: pool.Online, Domain: "petrel"},
	}
	p := &pool.Pool{
		ID:     "p",
		Name:   "plankton",
		Groups: []pool.Group{{Name: "mirror", Protect: pool.Protection{Tolerance: 2}, Members: members}},
	}
	plan := State{
		Pool:   "plankton",
		PoolID: "p",
		Slot:   "1",
		Host:   "fulmar",
		Old:    Drive{Identity: disk("AA111"), Bay: "fulmar/front/8"},
		Recipe: Recipe{Steps: []Phase{Planned, Still, Down, Change, Up, Insert, Confirm, Join, Recover, Verify}},
	}
	base := told(
		Situation{
			Plan:     plan,
			PoolSeen: t0,
			Pool:     p,
			BayKnown: true,
			Seats:    []SeatFacts{{Pool: p, Slot: "1", Witness: "superblocks", WitnessAt: t0}},
		},
	)
	stops := func(s Situation) (ids []string) {
		all := Checks(s)
		for _, at := range []Phase{Scrub, Drain, Release, Refill, Pull, Still, Down, Up, Rehouse} {
			all = append(all, Gate(s, at)...)
		}
		for _, c := range all {
			require.NotRegexp(t, `^(It|This|That|The .* (is|are|has|agrees)|No|Nothing|All|Enough|There)\b`, c.Title)
			if c.Result == record.Stops {
				ids = append(ids, c.ID)
				require.NotEmpty(t, c.Do, c.ID)
			}
		}
		return ids
	}
	require.Empty(t, stops(base))
	facts := 0
	for i := range reflect.TypeFor[Situation]().NumField() {
		f := reflect.TypeFor[Situation]().Field(i)
		if !strings.HasPrefix(f.Type.Name(), "Known[") {
			continue
		}
		facts++
		s := base
		reflect.ValueOf(&s).Elem().Field(i).SetZero()
		require.NotEmpty(t, stops(s), "%s was not told, and nothing stops", f.Name)
	}
	require.Equal(t, 13, facts)
	s := base
	s.Pool, s.Seats = nil, nil
	require.NotEmpty(t, stops(s))
}

// ground composes a recipe from a few words: what kind of pool, what is offered, what is free.
func ground(t *testing.T, words string, gone bool) (string, Recipe) {
	g := Ground{Slot: "1", Now: t0, Scrubbed: t0.Add(-48 * time.Hour), Clean: true, Gone: gone}
	p := &pool.Pool{
		Name:   "soundscape",
		Groups: []pool.Group{{Name: "g", Protect: pool.Protection{Tolerance: 1, Data: 1}}},
	}
	member := func(slot string, change func(m *pool.Member)) {
		m := pool.Member{
			Slot:   slot,
			Drive:  slot,
			State:  pool.Online,
			Domain: "skerry",
			Size:   4000,
			Used:   1000,
			Needs:  4000,
		}
		change(&m)
		p.Groups[0].Members = append(p.Groups[0].Members, m)
	}
	plain := func(*pool.Member) {}
	for _, line := range strings.Split(strings.TrimSpace(words), "\n") {
		f := strings.Fields(line)
		switch f[0] {
		case "mirror":
			member("1", plain)
			member("2", plain)
		case "triple":
			p.Groups[0].Protect.Tolerance = 2
			member("1", plain)
			member("2", plain)
			member("3", plain)
		case "lost": // another member is gone
			*p = p.With(pool.Missing, f[1])
		case "out":
			*p = p.With(pool.Out, f[1])
		case "faulty":
			*p = p.With(pool.Faulty, f[1])
		case "spare-in":
			member("spare", func(m *pool.Member) { m.StandsFor = "1" })
		case "dedicated":
			member("1", plain)
			member("2", plain)
			member("parity", func(m *pool.Member) { m.Parity = true })
		case "spread":
			p.Groups[0].Spread = true
			for _, s := range []string{"1", "2", "3", "4", "5"} {
				member(s, plain)
			}
			p.Volumes = []pool.Volume{
				{Name: "scans", Group: "g", Protect: pool.Protection{Tolerance: 1, Data: 1}, Used: 1000},
			}
			p.Groups[0].Protect = pool.Protection{None: true}
		case "bare": // a volume without redundancy
			p.Volumes = append(
				p.Volumes,
				pool.Volume{Name: "thumbnails", Group: "g", Protect: pool.Protection{Data: 1}, Used: 10},
			)
		case "heals":
			p.Groups[0].Heals = true
		case "log":
			p.Logs = []pool.Member{{Slot: "log", State: pool.Online, Domain: "skerry"}}
			for i := range f[1:] {
				for j := range p.Groups[0].Members {
					if m := &p.Groups[0].Members[j]; m.Slot == f[i+1] {
						m.Log = "log"
					}
				}
			}
			g.Slot = "log"
		case "free":
			g.Free = f[1]
		case "outside":
			g.Outside = f[1]
		case "cold":
			g.Cold, g.Stops = true, f[1:]
		case "stops":
			g.Stops = f[1:]
		case "unread":
			g.Scrubbed = t0.Add(-90 * 24 * time.Hour)
		case "spare-stands":
			g.Spare = f[1]
		case "offers":
			g.Offers = f[1:]
		default:
			t.Fatalf("no word %q", f[0])
		}
	}
	g.Pool = p
	return p.Name, Compose(g)
}

// TestColdBaysAreOpenedWithTheHostDownOnly: whatever else is known of the ground, no recipe for a bay that is changed
// cold takes a drive out of a running host, or puts one into it.
func TestColdBaysAreOpenedWithTheHostDownOnly(t *testing.T) {
	all := []string{"join", "beside", "drain", "refill", "release", "admit", "scrub", "spare"}
	for n := range 1 << (len(all) + 6) {
		var offers []string
		for i, what := range all {
			if n>>i&1 == 1 {
				offers = append(offers, what)
			}
		}
		is := func(i int) bool { return n>>(len(all)+i)&1 == 1 }
		p := &pool.Pool{
			ID:      "p",
			Name:    "p",
			Watched: is(3),
			Groups: []pool.Group{
				{
					Name:    "g",
					Spread:  is(4),
					Protect: pool.Protection{Tolerance: 1},
					Members: []pool.Member{{Slot: "0", State: pool.Online}, {Slot: "1", State: pool.Online}},
				},
			},
		}
		g := Ground{
			Pool:   p,
			Slot:   "0",
			Cold:   true,
			Gone:   is(0),
			Waits:  is(1),
			Offers: offers,
			Clean:  true,
			Layout: is(5),
		}
		if is(1) {
			g.Free = "h/f/9"
		}
		if is(2) {
			g.Spare = "s"
		}
		r := Compose(g)
		down := slices.Index(r.Steps, Down)
		require.GreaterOrEqual(t, down, 0, "%+v: %v", g, r.Steps)
		for i, step := range r.Steps {
			require.False(
				t,
				step == Pull || step == Rehouse && i < down || step == Insert && i < down,
				"%+v: %v",
				g,
				r.Steps,
			)
		}
	}
}
