package selftests

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/selftest"
	"lantern/internal/service/fleet"
	"lantern/internal/service/problem"
)

// States of a drive's tests. A drive can be in several.
const (
	standFailed  = "failed"  // its newest test of a kind failed
	standNever   = "never"   // its log holds none that ended
	standOverdue = "overdue" // a period passed without its test, or this one will
	standHeld    = "held"    // a test is due, and kept back
	standCannot  = "cannot"  // it supports no self-tests, or cannot be reached
)

// TestsOf are the planned tests of a drive.
func (s *State) TestsOf(key string) (out []*selftest.Item) {
	if s.at.of == nil || len(s.Items) > 0 && s.at.first != &s.Items[0] || s.at.n != len(s.Items) {
		s.at = itemIndex{of: make(map[string][]int32), n: len(s.Items)}
		for i := range s.Items {
			s.at.of[s.Items[i].Drive] = append(s.at.of[s.Items[i].Drive], int32(i))
		}
		if s.at.n > 0 {
			s.at.first = &s.Items[0]
		}
	}
	for _, i := range s.at.of[key] {
		out = append(out, &s.Items[i])
	}
	return out
}

// itemIndex finds the planned tests of a drive. It is made again when Items is replaced.
type itemIndex struct {
	of    map[string][]int32 // places in Items, by drive
	n     int                // length of Items when this was made
	first *selftest.Item     // first item when this was made
}

// DriveTests is the state of a drive's tests.
func (s *State) DriveTests(
	d *fleet.Drive,
	at fleet.Place,
	core []*selftest.Plan,
	items []*selftest.Item,
	now time.Time,
) (out api.DriveTests, stands []string) {
	key := d.Key()
	out = api.DriveTests{Drive: key, Tail: d.Tail(), Bay: d.BayName(), Next: []api.PlannedTest{}}
	if at.Pool != nil {
		out.Pool = at.Pool.Name
	}
	says := planOf(&out, selftest.Choose(core, s.fleet.Where(d, at)))
	last := s.fleet.LastTests(d)
	show := func(kind drive.SelfTestKind) api.LastTest {
		l, ok := last[kind]
		if !ok {
			return api.LastTest{Result: "never"}
		}
		return api.LastTest{At: l.At, About: l.About, Result: l.Result}
	}
	out.Short, out.Extended = show(drive.SelfTestShort), show(drive.SelfTestExtended)
	if stand, why := ableToTest(d, len(last)); stand != "" {
		stands, says = append(stands, stand), append(says, why)
	}
	for _, kind := range []drive.SelfTestKind{drive.SelfTestExtended, drive.SelfTestShort, drive.SelfTestConveyance} {
		if last[kind].Result == string(drive.SelfTestFailed) {
			stands, says = append(
				stands,
				standFailed,
			), append(
				says,
				fmt.Sprintf("its newest %s self-test failed", kind),
			)
		}
	}
	if run := s.Runs[key]; run != nil && !run.StalledSince.IsZero() {
		says = append(says, fmt.Sprintf("its %s self-test: %s", run.Kind, run.Says))
	}
	newest := map[drive.SelfTestKind]*selftest.Item{}
	for _, it := range items {
		if n := newest[it.Kind]; !it.Period.From.After(now) && (n == nil || it.Period.From.After(n.Period.From)) {
			newest[it.Kind] = it
		}
		if it.State == selftest.Planned || it.State == selftest.Running {
			v := s.viewItem(it, now)
			out.Next = append(out.Next, v)
			switch v.State {
			case api.PlannedTestStateHeld:
				stands, says = append(
					stands,
					standHeld,
				), append(
					says,
					fmt.Sprintf("its %s self-test is held back: %s", it.Kind, it.Why),
				)
			case api.PlannedTestStateUnplaced:
				if it.Period.From.After(now) {
					continue // predicted, for all drives with the same reason: it is not overdue yet
				}
				stands, says = append(stands, standOverdue), append(says, v.Why)
			}
		}
	}
	for _, kind := range []drive.SelfTestKind{drive.SelfTestExtended, drive.SelfTestShort, drive.SelfTestConveyance} {
		if it := newest[kind]; it != nil && missed(it) {
			stands, says = append(
				stands,
				standOverdue,
			), append(
				says,
				fmt.Sprintf("%s of %s self-tests passed without it", periods(max(1, it.Misses)), kind),
			)
		}
	}
	slices.SortFunc(
		out.Next,
		func(a, b api.PlannedTest) int { return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Kind, b.Kind)) },
	)
	out.Says = strings.Join(says, "; ")
	return out, stands
}

// planOf adds the plan that a drive follows, and names other plans that are equally specific.
func planOf(out *api.DriveTests, r selftest.Rules) (says []string) {
	if r.Plan == nil {
		return nil
	}
	out.Plan, out.PlanWhy = r.Plan.Name, r.Why
	if r.Else != nil {
		out.PlanElse = r.Else.Name
	}
	if len(r.Also) > 0 {
		says = append(
			says,
			fmt.Sprintf(
				"the plans %s and %s are both for it, and neither is more specific: the first is followed",
				r.Plan.Name,
				r.Also[0].Name,
			),
		)
	}
	return says
}

// ableToTest says why a drive cannot run self-tests, or that it never ran one; empty otherwise.
func ableToTest(d *fleet.Drive, tests int) (stand, why string) {
	switch {
	case !d.Present:
		return standCannot, "it does not answer"
	case d.Blind != "":
		return standCannot, "it reports no health data: " + d.Blind
	case !d.Reading.SelfTests:
		return standCannot, "it has no self-tests"
	case tests == 0:
		return standNever, "it was never tested"
	}
	return "", ""
}

// missed describes tests that did not run in their period, or in earlier ones.
func missed(it *selftest.Item) bool {
	return it.State == selftest.Missed ||
		it.Misses > 0 && it.State != selftest.Done && it.State != selftest.Dropped && it.State != selftest.Running
}

func periods(n int) string {
	if n == 1 {
		return "a period"
	}
	return fmt.Sprintf("%d periods", n)
}

// standing is one drive's tests, with the states that it is in.
type standing struct {
	api.DriveTests
	stands []string
}

// drivesAtOnce is how many drives are looked at before others get the lock.
const drivesAtOnce = 500

// standings are the tests of all drives, or of those in one pool. Each is as it is when the lock is held for it.
func (s *Service) standings(pool string) (out []standing, err error) {
	all, id, err := s.drivesOf(pool)
	for some := range slices.Chunk(all, drivesAtOnce) {
		out = append(out, s.standingsNow(some, id)...)
	}
	return out, err
}

// drivesOf gives all drives, and the id of a pool that is given by its name.
func (s *Service) drivesOf(pool string) (all []*fleet.Drive, id string, err error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if pool == "" {
		return s.fleet.ByPlace(), "", nil
	}
	p, err := s.fleet.FindPool(pool)
	if err != nil {
		return nil, "", err
	}
	return s.fleet.ByPlace(), p.ID, nil
}

// standingsNow are the tests of some drives, or of those of them that are in one pool.
func (s *Service) standingsNow(some []*fleet.Drive, pool string) (out []standing) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	now, places, core := s.Clock.Now(), s.judging.Places(), s.CorePlans(nil, "")
	for _, d := range some {
		key := d.Key()
		at := places[key]
		if s.fleet.Drives[key] != d || d.Replaced || !d.Present && at.Pool == nil ||
			pool != "" && (at.Pool == nil || at.Pool.ID != pool) {
			continue
		}
		v, stands := s.DriveTests(d, at, core, s.TestsOf(key), now)
		slices.Sort(stands)
		out = append(out, standing{v, slices.Compact(stands)})
	}
	return out
}

// countOf counts drives by the states that they are in.
func countOf(all []standing) map[string]int {
	out := map[string]int{"all": 0, standFailed: 0, standNever: 0, standOverdue: 0, standHeld: 0, standCannot: 0}
	for _, d := range all {
		out["all"]++
		for _, one := range d.stands {
			out[one]++
		}
	}
	return out
}

// counts are the newest counts of all drives.
type counts struct {
	mu   sync.Mutex // guards what follows
	of   map[string]int
	pace pace
}

// Counts are the numbers of drives by the states of their tests. Counting a large fleet takes long, so it is done again
// only after twenty times the duration of the last count.
func (s *Service) Counts() (map[string]int, error) {
	c := &s.counts
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.pace.ready() {
		return c.of, nil
	}
	c.pace.begin()
	all, err := s.standings("")
	if err != nil {
		return nil, err
	}
	c.of = countOf(all)
	c.pace.end()
	return c.of, nil
}

// TestStanding lists which drives were tested and when, and which were not.
func (s *Service) TestStanding(f api.GetTestStandingParams) (api.TestStanding, error) {
	all, err := s.standings(f.Pool)
	out := api.TestStanding{Counts: countOf(all), Drives: []api.DriveTests{}}
	if err != nil {
		return out, err
	}
	var fits []api.DriveTests
	for _, d := range all {
		if w := string(f.Which); w == "" || w == "all" || slices.Contains(d.stands, w) {
			fits = append(fits, d.DriveTests)
		}
	}
	// Problems first, then the drives that were tested longest ago.
	slices.SortStableFunc(fits, func(a, b api.DriveTests) int {
		return cmp.Or(
			first(a.Says != "", b.Says != ""),
			a.Extended.At.Compare(b.Extended.At),
			a.Short.At.Compare(b.Short.At),
		)
	})
	out.Total = len(fits)
	from := 0
	if f.Cursor != "" {
		i := slices.IndexFunc(fits, func(v api.DriveTests) bool { return v.Drive == f.Cursor })
		if i < 0 {
			return out, problem.New(
				422,
				"bad-cursor",
				"Begin again without a cursor.",
				"The cursor is of another list.",
			)
		}
		from = i + 1
	}
	to := min(len(fits), from+cmp.Or(f.Limit, 200))
	out.Drives = append(out.Drives, fits[from:to]...)
	if to < len(fits) {
		out.Next = fits[to-1].Drive
	}
	return out, nil
}

func first(a, b bool) int {
	switch {
	case a && !b:
		return -1
	case b && !a:
		return 1
	}
	return 0
}
