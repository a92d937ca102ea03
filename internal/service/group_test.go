package service

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lantern/internal/api"
	"lantern/internal/service/fleet"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// together has reports wait for the lock in order, and then processes them. It returns the error of each.
func (b *bench) together(tokens []string, reports []api.Report) []error {
	b.t.Helper()
	errs := make([]error, len(reports))
	var all sync.WaitGroup
	b.s.mu.Lock()
	for i, r := range reports {
		all.Go(func() { errs[i] = b.s.TakeReport(tokens[i], r) })
		for deadline := time.Now().Add(time.Minute); ; time.Sleep(10 * time.Microsecond) {
			b.s.waiting.mu.Lock()
			n := len(b.s.waiting.reports)
			b.s.waiting.mu.Unlock()
			if n == i+1 {
				break
			}
			require.True(b.t, time.Now().Before(deadline), "%d of %d reports wait", n, i+1)
		}
	}
	b.s.mu.Unlock()
	all.Wait()
	return errs
}

// ownIDs are names that a service gives itself.
var ownIDs = regexp.MustCompile(`[0-9A-HJKMNP-TV-Z]{26}`)

// state is what people are shown, and all events, without the names that a service gives itself.
func (b *bench) state() string {
	events, err := store.All[store.Event](b.store, "id", "")
	require.NoError(b.t, err)
	out, err := json.MarshalIndent(events, "", " ")
	require.NoError(b.t, err)
	return ownIDs.ReplaceAllString(b.shown()+string(out), "")
}

// kinds are the types of the problems, "" for none.
func kinds(errs []error) (out []string) {
	for _, err := range errs {
		if err == nil {
			out = append(out, "")
			continue
		}
		out = append(out, problem.As(err).Type)
	}
	return out
}

// TestGroup: reports that are written together have the same effect as the same reports one after another, whatever is
// in them; also after a restart.
func TestGroup(t *testing.T) {
	hosts := []string{"fulmar", "petrel", "skua", "gannet", "plover"}
	enrolled := func() *bench {
		b := newTwo(t)
		for _, h := range hosts[2:] {
			_, err := b.s.Fleet.Enrol("test", h, false)
			require.NoError(t, err)
		}
		return b
	}
	one, many := enrolled(), enrolled()
	r := rand.New(rand.NewPCG(4, 2))
	used := []string{"r1"}
	largest := 0
	for round := range 40 {
		var tokens []string
		var reports []api.Report
		for range 1 + r.IntN(12) {
			host := hosts[r.IntN(len(hosts))]
			one.clock.forward(time.Second)
			many.clock.forward(time.Second)
			rep := one.next() // as a template: the clocks of both are equal
			many.clock.forward(time.Second)
			rep.Host, rep.Id = host, fmt.Sprintf("%s-%d-%d", host, round, len(reports))
			if host != "fulmar" {
				rep.Pools, rep.Enclosures = nil, nil
			}
			// Drives are at several hosts at once, and move between them.
			rep.Drives = slices.DeleteFunc(rep.Drives, func(api.DriveReport) bool {
				if host == "fulmar" {
					return r.IntN(10) == 0
				}
				return r.IntN(3) > 0
			})
			for i := range rep.Drives {
				rep.Drives[i].Bay = 1 + r.IntN(6)
				rep.Drives[i].Reading = api.Reading{At: rep.At, Metrics: map[string]float64{
					"pending_sectors": float64(r.IntN(40)), "power_on_hours": float64(100 + round)}}
			}
			token := host
			switch r.IntN(12) {
			case 0:
				token = hosts[r.IntN(len(hosts))]
			case 1:
				rep.Id = used[r.IntN(len(used))]
			case 2:
				rep.IntervalSeconds = 0
			case 3:
				rep.At, rep.Past = rep.At.Add(-time.Hour), true
			}
			used = append(used, rep.Id)
			tokens, reports = append(tokens, token), append(reports, rep)
		}
		largest = max(largest, len(reports))
		var errs []error
		for i, rep := range reports {
			errs = append(errs, one.s.TakeReport(tokens[i], clone(t, rep)))
		}
		together := make([]api.Report, len(reports))
		for i, rep := range reports {
			together[i] = clone(t, rep)
		}
		require.Equal(t, kinds(errs), kinds(many.together(tokens, together)), "round %d", round)
		require.Empty(t, difference(one.state(), many.state()), "round %d", round)
	}
	require.Greater(t, largest, 8)
	one.restart()
	many.restart()
	require.Empty(t, difference(one.state(), many.state()), "after a restart")
}

// clone is a deep copy of a report: the service corrects times in it.
func clone(t *testing.T, r api.Report) (out api.Report) {
	b, err := json.Marshal(r)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(b, &out))
	return out
}

// TestGroupFails: if a group is not written, or one report in it makes the service fail, nothing of it has an effect,
// and each agent must send its report again, unless its own is invalid. Then each is accepted.
func TestGroupFails(t *testing.T) {
	b := newTwo(t)
	_, err := b.s.Fleet.Enrol("test", "skua", false)
	require.NoError(t, err)
	hosts := []string{"fulmar", "petrel", "skua"}
	reports := func() []api.Report {
		mine := b.next()
		mine.Drives = slices.Clone(mine.Drives)
		mine.Drives[1].Bay = 7
		moved := b.other(nil, 0, 1)
		moved.Drives = append(moved.Drives, b.disk("NN009", 9))
		third := b.other(nil, 2)
		third.Host, third.Id = "skua", third.Id+"-skua"
		mine.At, moved.At = third.At, third.At
		return []api.Report{mine, moved, third}
	}
	// One drive of petrel went and comes back with its next report: a stage asks for work on the host.
	first := reports()[1]
	require.NoError(t, b.s.TakeReport("petrel", first))
	b.clock.forward(time.Second)
	first.Id, first.Drives, first.At = "without", first.Drives[:2], b.clock.Now()
	require.NoError(t, b.s.TakeReport("petrel", first))
	before := b.everything()
	waiting := reports()
	check := func(what string, errs []error) {
		for i, err := range errs {
			require.Error(t, err, what)
			require.False(t, problem.As(err).Permanent, "%s: the agent of %s must send it again", what, hosts[i])
			require.NotEqual(t, "used-id", problem.As(err).Type, what)
		}
		require.Empty(t, difference(before, b.everything()), what)
	}
	require.NoError(t, b.store.ReadOnly(true))
	check("nothing can be written", b.together(hosts, waiting))
	require.NoError(t, b.store.ReadOnly(false))

	prepare := b.s.Before
	b.s.Before = func(*store.Batch) { panic("a fault") }
	check("a fault before writing", b.together(hosts, waiting))
	b.s.Before = prepare

	// A fault in a stage, of one report: only that one must not come again.
	work := b.s.Fleet.Work
	b.s.Fleet.Work = faultyAt{work, "petrel"}
	errs := b.together(hosts, waiting)
	b.s.Fleet.Work = work
	require.Equal(t, []string{"internal", "bad-report", "internal"}, kinds(errs))
	require.Empty(t, difference(before, b.everything()), "a fault in a stage")

	require.Equal(t, []string{"", "", ""}, kinds(b.together(hosts, waiting)), "sent again")
	require.Equal(t, "fulmar/front/7", b.drive("BB002").Bay)
	require.Equal(t, []string{"used-id", "used-id", "used-id"}, kinds(b.together(hosts, waiting)), "once more")
}

// faultyAt panics when it is asked about a host.
type faultyAt struct {
	fleet.Work
	host string
}

func (f faultyAt) OnHost(host string) bool {
	if host == f.host {
		panic("a fault in a stage")
	}
	return f.Work.OnHost(host)
}

// BenchmarkTakeReports: reports of 60 drives from 8 hosts at the same time.
func BenchmarkTakeReports(b *testing.B) {
	s, c, reports := large(b, 8)
	var mu sync.Mutex // guards the clock
	n := 0
	for b.Loop() {
		var all sync.WaitGroup
		mu.Lock()
		n++
		c.forward(time.Second)
		at := c.Now()
		mu.Unlock()
		for i := range reports {
			r := reports[i]
			r.Id, r.At = fmt.Sprintf("n%d-%d", n, i), at
			r.Drives = slices.Clone(r.Drives)
			for j := range r.Drives {
				r.Drives[j].Reading.At = at
			}
			all.Go(func() {
				if err := s.TakeReport(r.Host, r); err != nil {
					b.Error(err)
				}
			})
		}
		all.Wait()
	}
	b.ReportMetric(float64(n*len(reports)*60)/b.Elapsed().Seconds(), "readings/s")
}

// TestGroupsApart: a waiting report processes one group at a time, and others get the lock in between.
func TestGroupsApart(t *testing.T) {
	b := newTwo(t)
	var last *intake
	for i := range 2*groupMost + 1 {
		last = &intake{from: fmt.Sprint("stranger-", i), report: api.Report{Id: fmt.Sprint("r", i)}}
		b.s.waiting.add(last)
	}
	for _, done := range []bool{false, false, true} {
		require.Equal(t, done, takeGroup(b.s, last))
		Alive(b.s) // would wait forever if the lock were not free after each group
	}
	require.Equal(t, "unknown-host", problem.As(last.err).Type)

	// While people wait, groups are smaller.
	for i := range groupMost {
		b.s.waiting.add(&intake{from: fmt.Sprint("stranger-", i)})
	}
	answered := BeginRequest(b.s)
	require.Len(t, b.s.waiting.group(), groupBeside)
	answered()
	require.Len(t, b.s.waiting.group(), groupMost-groupBeside)
}
