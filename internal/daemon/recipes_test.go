package daemon

import (
	"fmt"
	"io"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/agent"
	"lantern/internal/agent/pools"
	"lantern/internal/api"
	"lantern/internal/core/enclosure"
	"lantern/internal/core/pool"
	"lantern/internal/core/swap"
	"lantern/internal/lab"
)

// yard is the demo's fleet, service and agents over loopback, with a clock that is moved by hand.
type yard struct {
	dir    string
	spare  bool // a pool's spare may be used in a swap
	t      *testing.T
	fleet  *lab.Fleet
	r      *running
	agents map[string]*agent.Agent
	dark   map[string]bool // hosts without power
}

func newYard(t *testing.T, change func(f *lab.Fleet)) *yard {
	dir := t.TempDir()
	begin := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	fleet, err := lab.Open(filepath.Join(dir, "lab.json"), begin, 0, func(now time.Time) *lab.Fleet {
		f := lab.HeronPoint(0)(now)
		if change != nil {
			change(f)
		}
		return f
	})
	require.NoError(t, err)
	return openYard(t, dir, fleet)
}

// rehearse is a yard that is a copy of one pool of this one, and of its hosts.
func (y *yard) rehearse(t *testing.T, pool string) *yard {
	c, err := y.r.service.Rehearsal.Copy(pool)
	require.NoError(t, err)
	dir := t.TempDir()
	hosts, drives, ps := fromCopy(&c)
	fleet, err := lab.Copied(filepath.Join(dir, "lab.json"), c.At, hosts, drives, ps)
	require.NoError(t, err)
	require.NoError(t, fleet.SetSpeed(0))
	z := openYard(t, dir, fleet)
	require.NoError(t, z.r.service.Rehearsal.TakeOver(c))
	return z
}

func openYard(t *testing.T, dir string, fleet *lab.Fleet) *yard {
	c := Demo{
		Serve: Serve{Listen: "127.0.0.1:0", Data: dir, Out: io.Discard, Log: slog.New(slog.DiscardHandler), still: true},
	}
	r, err := c.start(t.Context(), fleet.Clock(), fleet)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, r.stop()) })
	y := &yard{dir: dir, t: t, fleet: fleet, r: r, agents: map[string]*agent.Agent{}, dark: map[string]bool{}}
	for _, h := range fleet.Hosts {
		y.dark[h.Name] = h.Off
		token, err := r.service.Fleet.Enrol("ida", h.Name, false)
		require.NoError(t, err)
		client, err := Client(r.url, token)
		require.NoError(t, err)
		a, err := agent.New(
			agent.Config{
				Host:     h.Name,
				Machine:  h,
				Pools:    []pools.Driver{lab.Keeper{Fleet: fleet, Host: h.Name}},
				Client:   client,
				Clock:    fleet.Clock(),
				Log:      c.Log,
				Dir:      filepath.Join(dir, h.Name),
				Interval: 30 * time.Second,
				ReadEach: time.Hour,
			},
		)
		require.NoError(t, err)
		y.agents[h.Name] = a
	}
	y.pass(time.Minute)
	return y
}

// pass lets time go by: agents look and report, the service does what is due, agents obey and report again.
func (y *yard) pass(d time.Duration) {
	y.t.Helper()
	y.fleet.Clock().Forward(d)
	for turn := range 2 {
		for _, h := range y.fleet.Hosts {
			if !y.dark[h.Name] {
				require.NoError(y.t, y.agents[h.Name].Step(y.t.Context()))
			}
		}
		if turn == 0 {
			require.NoError(y.t, y.r.service.Tick())
		}
		y.fleet.Clock().Forward(time.Second)
	}
}

func (y *yard) pool(name string) api.Pool {
	for _, p := range y.r.service.Views.AllPools() {
		if p.Name == name {
			return p
		}
	}
	require.Fail(y.t, "no pool "+name)
	return api.Pool{}
}

// tail is the label tail of the drive at a slot.
func (y *yard) tail(pool, slot string) string {
	p := y.pool(pool)
	members := append(p.Logs, p.Spares...)
	for _, g := range p.Groups {
		members = append(members, g.Members...)
	}
	for _, m := range members {
		if m.Slot == slot {
			return m.Tail
		}
	}
	require.Fail(y.t, "no slot "+slot)
	return ""
}

func (y *yard) power(host string, on bool) {
	require.NoError(y.t, y.fleet.Power(host, on))
	y.dark[host] = !on
}

func (y *yard) pull(bay string) lab.Moved {
	y.t.Helper()
	m, err := y.fleet.Pull(bay)
	require.NoError(y.t, err)
	return m
}

func (y *yard) insert(bay string, s lab.NewDrive) lab.Moved {
	m, err := y.fleet.Insert(bay, s)
	require.NoError(y.t, err)
	return m
}

// rest waits until nothing moves in a pool.
func (y *yard) rest(pool string) {
	y.t.Helper()
	for range 500 {
		if y.pool(pool).Recovery.State != api.RecoveryStateRunning {
			return
		}
		y.pass(20 * time.Minute)
	}
	require.Fail(y.t, pool+" does not come to rest")
}

// hand does what the screen says, no more and no less, from the plan to the end. Before each step it looks whether
// something happens that was not planned.
func (y *yard) hand(tail string, before func(w api.Swap)) api.Swap {
	y.t.Helper()
	w, err := y.r.service.Swaps.PlanSwapOf("ida", api.PlanSwap{Drive: tail, KeepSpare: !y.spare})
	require.NoError(y.t, err)
	return y.lead(w, lab.NewDrive{}, before)
}

func (y *yard) lead(w api.Swap, s lab.NewDrive, before func(w api.Swap)) api.Swap {
	y.t.Helper()
	svc := y.r.service
	label := ""
	say := func(kind swap.EventKind) {
		_, err := svc.Swaps.ActOnSwap(kind, "ida", w.Id, "", "as the screen says")
		require.NoError(y.t, err)
	}
	for range 1200 {
		var err error
		w, err = svc.Swaps.Swap(w.Id)
		require.NoError(y.t, err)
		if before != nil && w.Open {
			before(w)
			w, _ = svc.Swaps.Swap(w.Id)
		}
		into := w.Into
		if into == "" {
			into = w.Old.Bay
		}
		wait := 5 * time.Second
		i := slices.IndexFunc(w.Steps, func(st api.Step) bool { return st.State == api.StepStateNow })
		switch {
		case !w.Open:
			return w
		case len(w.Wrong) > 0:
			y.insert(w.Wrong[0].Bay, lab.NewDrive{Tail: w.Wrong[0].Tail})
		case w.Phase == api.SwapPhasePlanned:
			_, err := svc.Swaps.BeginSwap(
				"ida",
				w.Id,
				"",
				api.BeginSwap{Reason: "as the screen says", NoBackup: true},
			)
			require.NoError(y.t, err)
		case w.Phase == api.SwapPhasePull && w.Hold == "":
			require.Equal(y.t, w.Old.Tail, y.pull(w.Old.Bay).Tail, said(w))
		case w.Phase == api.SwapPhaseInsert:
			if s.Like == "" {
				s.Like = w.Old.Tail
			}
			label = y.insert(into, s).Tail
		case w.Phase == api.SwapPhaseConfirm:
			require.Empty(y.t, w.New.Tail, "the screen does not say what is on the label")
			if label == "" {
				label = y.fleet.At(w.New.Bay)
			}
			req := api.ConfirmTail{Tail: label}
			if slices.ContainsFunc(w.Gate, func(c api.Check) bool { return c.Result == api.Warns }) {
				req.Reason = "as the screen says"
			}
			for _, c := range w.Gate {
				require.NotContains(y.t, c.Found+c.Looked+c.Do, label, "nor do the checks")
			}
			_, err := svc.Swaps.ConfirmSwap("ida", w.Id, "", req)
			require.NoError(y.t, err)
		case w.Phase == api.SwapPhaseDown:
			y.power(w.Host, false)
			wait = 2 * time.Minute
		case w.Phase == api.SwapPhaseChange:
			if !w.OldGone {
				y.pull(w.Old.Bay)
			}
			label = y.insert(w.Old.Bay, lab.NewDrive{Like: w.Old.Tail}).Tail
			y.power(w.Host, true)
		case w.Phase == api.SwapPhaseRehouse && w.Hold == "":
			y.pull(w.New.Bay)
			y.pass(10 * time.Second)
			y.insert(w.Old.Bay, lab.NewDrive{Tail: label})
			if y.dark[w.Host] {
				y.power(w.Host, true)
			}
		case i >= 0 && w.Steps[i].Acts && w.Hold == "":
			say(swap.NextIt)
		default:
			wait = 20 * time.Minute
		}
		y.pass(wait)
	}
	require.Fail(
		y.t,
		"it comes to no end",
		"%s %s hold %q refused %q stuck %q\n%+v\n%s",
		w.Phase,
		w.Recipe,
		w.Hold,
		w.Refused,
		w.Stuck,
		w.Closing,
		said(w),
	)
	return w
}

// said are the last lines of a swap's record.
func said(w api.Swap) string {
	var all []string
	for _, e := range w.Log[max(0, len(w.Log)-12):] {
		all = append(all, e.Who+": "+e.Says)
	}
	return strings.Join(all, "\n")
}

// steps are the ones that a swap went through, and the least margin on the way.
func (y *yard) steps(w api.Swap) (phases string, least int) {
	r, err := y.r.service.Views.Report(w.Id)
	require.NoError(y.t, err)
	var all []string
	for _, st := range r.Steps {
		if len(all) == 0 || all[len(all)-1] != st.Phase {
			all = append(all, st.Phase)
		}
	}
	least = 99
	for _, m := range r.Margins {
		if m.Margin.Known {
			least = min(least, m.Margin.Members)
		}
	}
	return strings.Join(all, " "), least
}

// TestRecipes: in each situation a hand follows the screen, and the pool is healthy at the end, with all its data;
// first the same is done in a rehearsal on a copy.
func TestRecipes(t *testing.T) {
	dock := func(f *lab.Fleet) { // an external place for two drives
		f.Hosts[1].Layout = append(
			f.Hosts[1].Layout,
			enclosure.Layout{
				Name: "dock",
				Sections: []enclosure.Section{
					{Name: "external", Rows: 1, Columns: 2, First: enclosure.TopLeft, Run: enclosure.AlongRows},
				},
			},
		)
	}
	fullFront := func(y *yard) {
		for _, bay := range []string{"fulmar/front/23", "fulmar/front/24"} {
			y.insert(bay, lab.NewDrive{Holds: "somebody's"})
		}
		y.pass(time.Minute)
	}
	for _, c := range []struct {
		name, pool, slot string
		change           func(f *lab.Fleet)
		prepare          func(y *yard)
		hidden           bool // nobody can see yet what was prepared, so it is in no copy
		before           func(y *yard) func(w api.Swap)
		spare            bool // the pool's spare may be used
		steps            string
		least            int // the least margin on the way
		end              func(y *yard, w api.Swap)
	}{
		{name: "no free bay, enough margin", pool: "soundscape", slot: "1.7", steps: "pull insert confirm join " +
			"recover verify", least: 1},
		{name: "no free bay, a spare stands by", pool: "soundscape", slot: "1.7", spare: true,
			steps: "confirm join recover pull verify", least: 2, end: func(y *yard, w api.Swap) {
				require.Empty(y.t, y.pool("soundscape").Spares, "it took the place")
				require.Contains(y.t, y.r.service.Views.Round().Pools[0].Says, "no spare stands by since it took "+
					"the place of "+w.Old.Tail)
			}},
		{name: "the same, and nobody has read the others lately", pool: "soundscape", slot: "1.7",
			change: func(f *lab.Fleet) {
				f.Pools[0].Recs = nil
			}, steps: "scrub pull insert confirm join recover verify", least: 1},
		{name: "a free bay", pool: "plankton", slot: "1.2", steps: "insert confirm join recover " +
			"pull verify", least: 0, end: func(y *yard, w api.Swap) {
			require.NotEqual(y.t, w.Old.Bay, w.New.Bay)
		}},
		{name: "a tested drive waits in a bay", pool: "soundscape", slot: "1.7", prepare: func(y *yard) {
			y.pull("skerry/front/24") // of driftnet, which heals
			y.pass(time.Minute)
			y.pass(30 * time.Minute)
			y.rest("driftnet")
			m := y.insert("skerry/front/24", lab.NewDrive{Like: "ZU006"})
			y.pass(time.Minute)
			_, err := y.r.service.Stock.Accept("ida", api.AcceptDrive{Drive: m.Tail})
			require.NoError(y.t, err)
			y.pass(10 * time.Second)
			for range 30 {
				y.pass(10 * time.Minute)
			}
			a, err := y.r.service.Stock.Acceptance(m.Tail)
			require.NoError(y.t, err)
			require.Equal(y.t, api.AcceptanceStatePassed, a.State, "%+v", a)
		}, steps: "insert confirm join recover pull verify", least: 2, end: func(y *yard, w api.Swap) {
			require.Equal(y.t, "skerry/front/24", w.New.Bay)
			require.Contains(y.t, w.Closing[4].Found, "accepted by test")
		}},
		{name: "no free bay, no margin without it: a temporary place, from which it moves on", pool: "plankton",
			slot: "1.2", change: dock, prepare: fullFront,
			steps: "insert confirm join recover pull rehouse verify", least: 0, end: func(y *yard, w api.Swap) {
				require.Equal(y.t, w.Old.Bay, w.New.Bay, "it is in the bay it stays in")
				require.Equal(y.t, "fulmar/external/2", w.Into)
			}},
		{name: "no free bay, no margin: a temporary place, and the host down to move it", pool: "plankton",
			slot: "1.2", change: dock, prepare: func(y *yard) {
				fullFront(y)
				for _, slot := range []string{"spare.1", "1.1"} {
					y.pull(y.bay("plankton", slot))
				}
				y.pass(time.Minute)
			}, steps: "insert confirm join recover pull still down rehouse up verify", least: 0, end: func(y *yard, w api.Swap) {
				require.Equal(y.t, w.Old.Bay, w.New.Bay, "it is in the bay it stays in")
			}},
		{name: "vanished, its copies made anew by others", pool: "driftnet", slot: "guillemot.1", prepare: func(y *yard) {
			y.pull(y.bay("driftnet", "guillemot.1"))
			y.pass(time.Minute)
			y.pass(15 * time.Minute)
			y.rest("driftnet")
		}, steps: "insert confirm join recover verify", least: 2},
		{name: "the spare took over", pool: "soundscape", slot: "2.2", prepare: func(y *yard) {
			y.pull(y.bay("soundscape", "2.2"))
			y.pass(time.Minute)
			y.pass(15 * time.Minute)
			y.rest("soundscape")
		}, steps: "insert confirm join recover verify", least: 2, end: func(y *yard, w api.Swap) {
			require.Equal(y.t, "standby", y.pool("soundscape").Spares[0].State, "the pool has its spare back")
		}},
		{name: "with the host down", pool: "logbook", slot: "data.2", prepare: func(y *yard) {
			_, err := y.r.service.Views.SetCold("ida", "guillemot", true)
			require.NoError(y.t, err)
		}, steps: "still down change up insert confirm join recover verify", least: 0},
		{name: "a volume without redundancy", pool: "specimens", slot: "3", steps: "drain pull insert confirm " +
			"join recover verify", least: 0},
		{name: "dedicated parity, a data drive", pool: "logbook", slot: "data.3", steps: "pull insert confirm " +
			"join recover verify", least: 0},
		{name: "dedicated parity, the parity drive", pool: "logbook", slot: "parity", steps: "pull insert " +
			"confirm join recover verify", least: 0},
		{name: "pieces over hosts", pool: "driftnet", slot: "petrel.2", steps: "drain release pull insert " +
			"confirm join recover verify", least: 2},
		{name: "a log device, a bay free", pool: "plankton", slot: "log.1", steps: "insert confirm join recover " +
			"pull verify", least: 0},
		{name: "a log device, drained with all that depend on it", pool: "driftnet", slot: "skerry.log",
			change: func(f *lab.Fleet) {
				for i := range f.Pools[4].Groups[0].Members { // the one that vanished did not: there is space
					f.Pools[4].Groups[0].Members[i].State = pool.Online
				}
				for _, d := range f.Drives {
					d.Stays[0].To = time.Time{}
				}
			}, steps: "drain pull insert confirm join recover refill verify", least: 2},
		{name: "it does not begin to recover", pool: "soundscape", slot: "1.7", hidden: true, prepare: func(y *yard) {
			require.NoError(y.t, y.fleet.Stick("soundscape", true))
		}, steps: "pull insert confirm join recover verify", least: 1, end: func(y *yard, w api.Swap) {
			require.True(y.t, slices.ContainsFunc(w.Log, func(e api.LogEntry) bool {
				return strings.Contains(e.Says, "nudged soundscape, because recoveries of soundscape were put "+
					"off by hand")
			}), "%+v", w.Log)
		}},
		{name: "the new drive passes the acceptance test first", pool: "soundscape", slot: "1.7",
			before: func(y *yard) func(w api.Swap) {
				tested := false
				return func(w api.Swap) {
					if w.Phase != api.SwapPhaseConfirm || tested {
						return
					}
					tested = true
					svc, label := y.r.service, y.fleet.At(w.New.Bay)
					_, err := svc.Swaps.ConfirmSwap("ida", w.Id, "", api.ConfirmTail{Tail: label})
					require.ErrorContains(y.t, err, "Acceptance test of the new drive: not run")
					_, err = svc.Stock.Accept("bo", api.AcceptDrive{Drive: w.New.Bay})
					require.ErrorContains(y.t, err, "ida leads")
					_, err = svc.Stock.Accept("ida", api.AcceptDrive{Drive: w.New.Bay})
					require.NoError(y.t, err)
					_, err = svc.Swaps.ConfirmSwap("ida", w.Id, "", api.ConfirmTail{Tail: label, Reason: "no time"})
					require.ErrorContains(y.t, err, "is being tested, and not accepted yet")
					y.pass(10 * time.Second)
					for range 30 {
						y.pass(10 * time.Minute)
					}
				}
			}, steps: "pull insert confirm join recover verify", least: 1, end: func(y *yard, w api.Swap) {
				at := slices.IndexFunc(w.Admitted, func(c api.Check) bool { return c.Id == "new-accepted" })
				require.Contains(y.t, w.Admitted[at].Found, "accepted by test on")
				for _, c := range w.Admitted {
					require.Equal(y.t, api.Passes, c.Result, "%+v", c)
				}
				require.True(y.t, slices.ContainsFunc(w.Log,
					func(e api.LogEntry) bool { return strings.HasSuffix(e.Says, "and confirmed") }), "no reason was asked")
			}},
		{name: "it returns by itself, in another bay", pool: "soundscape", slot: "1.7",
			before: func(y *yard) func(w api.Swap) {
				back := false
				return func(w api.Swap) {
					if w.Phase == api.SwapPhaseInsert && !back {
						back = true
						y.insert("skerry/inner/4", lab.NewDrive{Tail: w.Old.Tail})
						y.pass(time.Second)
					}
				}
			}, steps: "pull insert pull insert confirm join recover verify", least: 1, end: func(y *yard, w api.Swap) {
				require.Equal(y.t, "skerry/inner/4", w.Old.Bay, "it is asked for where it is")
			}},
	} {
		t.Run(c.name, func(t *testing.T) {
			y := newYard(t, c.change)
			tail := y.tail(c.pool, c.slot)
			if c.prepare != nil {
				c.prepare(y)
			}
			through := func(y *yard) {
				y.spare = c.spare
				var before func(w api.Swap)
				if c.before != nil {
					before = c.before(y)
				}
				w := y.hand(tail, before)
				require.Equal(t, api.SwapPhaseClosed, w.Phase, "%+v", w.Log)
				steps, least := y.steps(w)
				require.Equal(t, c.steps, steps)
				require.Equal(t, c.least, least)
				require.NoError(t, y.fleet.ReadBack(c.pool), "all that was written is read back")
				if c.end != nil {
					c.end(y, w)
				}
			}
			practice := y.rehearse(t, c.pool)
			if c.hidden {
				c.prepare(practice)
			}
			through(practice)
			through(y) // and the rehearsal has not changed it
		})
	}
}

// bay is where the drive at a slot sits.
func (y *yard) bay(pool, slot string) string {
	d, err := y.r.service.Views.Drive(y.tail(pool, slot))
	require.NoError(y.t, err)
	return d.Bay
}

// TestLostOnPurpose: data without a copy that cannot be moved are lost only after a person saw which volumes these are,
// typed the pool's name and gave a reason (R1); nothing else is lost.
func TestLostOnPurpose(t *testing.T) {
	y := newYard(t, func(f *lab.Fleet) {
		for _, p := range f.Pools {
			if p.Name == "specimens" {
				p.Can = []pools.Offer{pools.OfferJoin, pools.OfferScrub}
			}
		}
	})
	svc := y.r.service
	w, err := svc.Swaps.PlanSwap("ida", y.tail("specimens", "3"))
	require.NoError(t, err)
	at := slices.IndexFunc(w.Checks, func(c api.Check) bool { return len(c.Loses) > 0 })
	require.NotEqual(t, -1, at, "%+v", w.Checks)
	loses := w.Checks[at].Loses
	for words, req := range map[string]api.BeginSwap{
		"would be lost":                              {Reason: "they are made anew", NoBackup: true},
		"is not the name of the pool":                {Reason: "they are made anew", NoBackup: true, Pool: "plankton"},
		"a reason is required":                       {NoBackup: true, Pool: "specimens"},
		"so the date of the newest backup is needed": {Reason: "they are made anew", Pool: "specimens"},
	} {
		_, err := svc.Swaps.BeginSwap("ida", w.Id, "", req)
		require.ErrorContains(t, err, words)
	}
	w, err = svc.Swaps.BeginSwap(
		"ida",
		w.Id,
		"",
		api.BeginSwap{Reason: "they are made anew", NoBackup: true, Pool: "specimens"},
	)
	require.NoError(t, err)
	require.NoError(t, y.fleet.ReadBack("specimens"), "until the drive is out all is there")
	w = y.lead(w, lab.NewDrive{}, nil)
	require.Equal(t, api.SwapPhaseClosed, w.Phase)
	require.Equal(t, loses, w.Loses)
	require.Contains(
		t,
		said(w)+fmt.Sprint(w.Log),
		"was told that "+strings.Join(loses, ", ")+" would be lost, typed the pool's name, and confirmed it",
	)
	lost := y.fleet.ReadBack("specimens")
	require.Error(t, lost)
	for _, v := range y.pool("specimens").Volumes {
		if slices.Contains(loses, v.Name) {
			require.ErrorContains(t, lost, v.Name)
		} else {
			require.NotContains(t, lost.Error(), v.Name, "and no other volume")
		}
	}
}

// TestCampaign: a whole pool is changed for larger drives, one at a time, and grows after the last.
func TestCampaign(t *testing.T) {
	y := newYard(t, nil)
	y.rest("tidegauge")
	before := y.pool("tidegauge").CapacityBytes
	svc := y.r.service
	c, err := svc.Swaps.PlanCampaign("ida", api.PlanCampaign{Pool: "tidegauge", NeedsBytes: 8e12, Grow: true})
	require.NoError(t, err)
	require.Len(t, c.Items, 5)
	_, err = svc.Swaps.PlanCampaign("bo", api.PlanCampaign{Pool: "tidegauge"})
	require.ErrorContains(t, err, "led by ida")
	for i := range c.Items {
		c, err = svc.Swaps.NextInCampaign("ida", c.Id)
		require.NoError(t, err)
		_, err = svc.Swaps.NextInCampaign("ida", c.Id)
		require.ErrorContains(t, err, "one at a time")
		w, err := svc.Swaps.Swap(c.Swap)
		require.NoError(t, err)
		if i == 1 { // one is abandoned, and planned again
			_, err := svc.Swaps.ActOnSwap(swap.AbandonIt, "ida", w.Id, "", "lunch")
			require.NoError(t, err)
			c, err = svc.Swaps.NextInCampaign("ida", c.Id)
			require.NoError(t, err)
			w, err = svc.Swaps.Swap(c.Swap)
			require.NoError(t, err)
		}
		require.GreaterOrEqual(t, w.NeedsBytes, int64(8e12))
		require.Equal(t, before, y.pool("tidegauge").CapacityBytes, "it does not grow before the last")
		w = y.lead(w, lab.NewDrive{Capacity: 8_001_563_222_016}, nil)
		require.Equal(t, api.SwapPhaseClosed, w.Phase)
	}
	c, err = svc.Swaps.NextInCampaign("ida", c.Id)
	require.NoError(t, err)
	require.Equal(t, api.CampaignStateGrowing, c.State)
	y.pass(time.Minute)
	c, _ = svc.Swaps.Campaign(c.Id)
	require.Equal(t, "grow", string(c.Recovery.Kind), "its own recovery is followed: %+v", c.Log)
	y.rest("tidegauge")
	y.pass(time.Minute)
	c, _ = svc.Swaps.Campaign(c.Id)
	require.Equal(t, api.CampaignStateDone, c.State, "%+v", c.Log)
	require.InEpsilon(t, float64(before)*8001563/6001175, float64(y.pool("tidegauge").CapacityBytes), 0.001)
	require.NoError(t, y.fleet.ReadBack("tidegauge"))
}

// TestAcceptance: the tests of a new drive, and that a bad one is found; no data are lost.
func TestAcceptance(t *testing.T) {
	y := newYard(t, nil)
	svc := y.r.service
	until := func(tail string, is func(a api.Acceptance) bool) api.Acceptance {
		t.Helper()
		var a api.Acceptance
		// Writing continues at the machine's speed while the test moves the clock.
		for begun := time.Now(); time.Since(begun) < 2*time.Minute; {
			var err error
			a, err = svc.Stock.Acceptance(tail)
			require.NoError(t, err)
			if is(a) {
				return a
			}
			y.pass(10 * time.Minute)
		}
		require.Fail(t, "it comes to no end", "%+v", a)
		return a
	}
	over := func(a api.Acceptance) bool { return !a.EndedAt.IsZero() }
	fresh := y.insert("fulmar/front/23", lab.NewDrive{Like: y.tail("plankton", "1.1")})
	used := y.insert("fulmar/front/24", lab.NewDrive{Like: y.tail("plankton", "1.1"), Hours: 9000, Weak: true})
	y.pass(time.Minute)

	_, err := svc.Stock.Accept("ida", api.AcceptDrive{Drive: fresh.Tail, Surface: true, Tail: used.Tail})
	require.ErrorContains(t, err, "not the label tail", "its surface is not written before its label was read (R3)")
	_, err = svc.Stock.Accept(
		"ida",
		api.AcceptDrive{Drive: y.tail("plankton", "1.1"), Surface: true, Tail: y.tail("plankton", "1.1")},
	)
	require.ErrorContains(t, err, "member of plankton")
	_, err = svc.Stock.Accept(
		"ida",
		api.AcceptDrive{Drive: fresh.Tail, Surface: true, Extended: true, Tail: fresh.Tail},
	)
	require.NoError(t, err)
	_, err = svc.Stock.Accept("ida", api.AcceptDrive{Drive: used.Tail, Surface: true, Tail: used.Tail})
	require.NoError(t, err)

	y.pass(10 * time.Second)
	writing := func(a api.Acceptance) bool { return a.Stage == "surface" && a.Surface.DoneBytes > 1e12 }
	until(fresh.Tail, writing)
	_, err = svc.Stock.ActOnAcceptance("ida", fresh.Tail, "pause", "the users complain")
	require.NoError(t, err)
	y.pass(5 * time.Second)
	a := until(fresh.Tail, func(a api.Acceptance) bool { return a.Surface.State == "paused" })
	at := a.Surface.DoneBytes
	y.pass(time.Hour)
	// The agent is restarted; and a swap does not use the drive before it passed.
	w, err := svc.Swaps.PlanSwap("ida", y.tail("plankton", "1.2"))
	require.NoError(t, err)
	require.NotContains(t, fmt.Sprint(w.Checks), fresh.Tail+" in bay", "it is not offered")
	_, err = svc.Stock.ActOnAcceptance("ida", fresh.Tail, "resume", "")
	require.NoError(t, err)
	y.pass(5 * time.Second)
	a = until(
		fresh.Tail,
		func(a api.Acceptance) bool { return a.Surface.State == "running" && a.Surface.DoneBytes > at },
	)
	require.Equal(t, api.AcceptanceStateRunning, a.State)

	bad := until(used.Tail, over)
	require.Equal(t, api.AcceptanceStateFailed, bad.State)
	require.Contains(
		t,
		fmt.Sprint(bad.Checks),
		"not new: 9000 h powered on",
		"a used drive sold as new is told",
	)
	require.Contains(t, bad.Says, "gave back something else than was written")
	good := until(fresh.Tail, over)
	require.Equal(t, api.AcceptanceStatePassed, good.State, "%+v", good)
	require.Equal(t, []string{"fresh", "short", "surface", "extended", "compare"}, good.Stages)

	for _, x := range svc.Stock.Stock() {
		switch x.Tail {
		case fresh.Tail:
			require.Equal(t, api.StockItemAcceptedPassed, x.Accepted, "it carries its result with it")
			require.Contains(t, x.Fits, "plankton")
		case used.Tail:
			require.Equal(t, api.StockItemAcceptedFailed, x.Accepted)
		}
	}
	w, err = svc.Swaps.PlanSwap("ida", y.tail("plankton", "2.2"))
	require.NoError(t, err)
	require.Equal(t, "fulmar/front/23", w.Into, "it is what the next swap takes")
}

// TestAcceptPolicy: a drive that was tested for less than the policy asks for needs a reason; tests that say nothing
// else follow the policy.
func TestAcceptPolicy(t *testing.T) {
	y := newYard(t, nil)
	svc := y.r.service
	y.rest("tidegauge")
	require.False(t, svc.Stock.AcceptPolicy().Extended)
	tested := func(bay string, req api.AcceptDrive) lab.Moved {
		m := y.insert(bay, lab.NewDrive{Like: y.tail("tidegauge", "2")})
		y.pass(time.Minute)
		req.Drive = m.Tail
		_, err := svc.Stock.Accept("ida", req)
		require.NoError(t, err)
		y.pass(10 * time.Second)
		for range 400 {
			y.pass(10 * time.Minute)
			if a, err := svc.Stock.Acceptance(m.Tail); err == nil && a.State == api.AcceptanceStatePassed {
				return m
			}
		}
		require.Fail(t, "it is not accepted")
		return m
	}
	little := tested("fulmar/front/23", api.AcceptDrive{})
	_, err := svc.Stock.SetAcceptPolicy("ida", api.AcceptPolicy{RateBytes: -1})
	require.ErrorContains(t, err, "A rate is not negative")
	p, err := svc.Stock.SetAcceptPolicy("ida", api.AcceptPolicy{Extended: true})
	require.NoError(t, err)
	require.Equal(t, "ida", p.SetBy)
	w, err := svc.Swaps.PlanSwap("ida", y.tail("tidegauge", "2"))
	require.NoError(t, err)
	_, err = svc.Swaps.BeginSwap("ida", w.Id, "", api.BeginSwap{Reason: "so", NoBackup: true})
	require.NoError(t, err)
	y.pass(time.Second)
	_, err = svc.Swaps.ConfirmSwap("ida", w.Id, "", api.ConfirmTail{Tail: little.Tail})
	require.ErrorContains(t, err, "the policy also requires its extended self-test")
	_, err = svc.Swaps.ActOnSwap(swap.AbandonIt, "ida", w.Id, "", "it is tested for more first")
	require.NoError(t, err)
	y.pull("fulmar/front/23")
	y.pass(time.Minute)

	much := tested("fulmar/front/24", api.AcceptDrive{ByPolicy: true})
	a, err := svc.Stock.Acceptance(much.Tail)
	require.NoError(t, err)
	require.Equal(t, []string{"fresh", "short", "extended", "compare"}, a.Stages)
	w, err = svc.Swaps.PlanSwap("ida", y.tail("tidegauge", "2"))
	require.NoError(t, err)
	require.Equal(t, api.SwapPhaseClosed, y.lead(w, lab.NewDrive{}, nil).Phase)
	w, _ = svc.Swaps.Swap(w.Id)
	require.Equal(t, much.Tail, w.New.Tail)
	for _, c := range w.Admitted {
		require.Equal(t, api.Passes, c.Result, "%+v", c)
	}
}

// TestTwoPeople: two people and a script at once on one pool: one swap begins, the others are refused with the name of
// its lead; a request that is sent twice is done once.
func TestTwoPeople(t *testing.T) {
	y := newYard(t, nil)
	svc := y.r.service
	// No notice was sent yet: the service has only just started.
	plan, err := svc.Swaps.PlanSwapOf("ida", api.PlanSwap{Drive: y.tail("soundscape", "1.7"), KeepSpare: true})
	require.NoError(t, err)
	matter := plan.Checks[slices.IndexFunc(plan.Checks, func(c api.Check) bool { return c.Id == "only-matter" })]
	require.Equal(t, api.Warns, matter.Result)
	require.Contains(t, matter.Found, "LM417 failed its extended self-test")
	require.NotContains(t, matter.Found, "ZU006", "the old drive itself is no other matter")
	_, err = svc.Swaps.ActOnSwap(swap.AbandonIt, "ida", plan.Id, "", "looked only")
	require.NoError(t, err)
	for round, slots := range [][3]string{{"1.1", "1.7", "2.4"}, {"2.1", "2.2", "2.3"}, {"1.7", "1.7", "1.7"}} {
		people := [3]string{"ida", "bo", "a script"}
		errs := make([]error, len(people))
		ids := make([]string, len(people))
		var all sync.WaitGroup
		for i, who := range people {
			all.Go(func() {
				w, err := svc.Swaps.PlanSwapOf(
					who,
					api.PlanSwap{Drive: y.tail("soundscape", slots[i]), KeepSpare: true},
				)
				if err == nil {
					ids[i] = w.Id
					_, err = svc.Swaps.BeginSwap(
						who,
						w.Id,
						"",
						api.BeginSwap{Reason: "it is my turn", NoBackup: true},
					)
				}
				errs[i] = err
			})
		}
		all.Wait()
		leader := -1
		for i, err := range errs {
			if err == nil {
				require.Equal(t, -1, leader, "round %d: one begins, not two: %v", round, errs)
				leader = i
			}
		}
		require.NotEqual(t, -1, leader, "round %d: %v", round, errs)
		for i, err := range errs {
			if i != leader {
				require.ErrorContains(t, err, people[leader], "it is told who leads")
			}
		}
		w, err := svc.Swaps.Swap(ids[leader])
		require.NoError(t, err)
		require.Equal(t, people[leader], w.Lead)
		// The others may look, and take over only with a reason.
		other := people[(leader+1)%3]
		_, err = svc.Swaps.ActOnSwap(swap.HoldIt, other, w.Id, "", "let me")
		require.ErrorContains(t, err, people[leader]+" leads")
		_, err = svc.Swaps.LeadSwap(other, w.Id, "", api.LeadSwap{})
		require.ErrorContains(t, err, "a reason is required")
		_, err = svc.Swaps.LeadSwap(other, w.Id, "", api.LeadSwap{Reason: "the shift has changed"})
		require.NoError(t, err)
		_, err = svc.Swaps.ActOnSwap(swap.AbandonIt, other, w.Id, "", "enough")
		require.NoError(t, err)
		for i, id := range ids {
			if _, err := svc.Swaps.ActOnSwap(swap.AbandonIt, people[i], id, "", "enough"); err != nil {
				t.Log(err)
			}
		}
	}
}
