package selftests

import (
	"cmp"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"slices"
	"strconv"
	"time"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/selftest"
	"lantern/internal/service/problem"
	"lantern/internal/service/secret"
	"lantern/internal/store"
)

// calendarMost is the longest time that a calendar shows.
const calendarMost = 63 * 24 * time.Hour

// span parses the time that a calendar shows: by default five weeks from the beginning of this week.
func (s *State) calendarSpan(from, to time.Time) (selftest.Span, error) {
	loc := s.plans[theFleetPlan].Zone
	if from.IsZero() {
		y, m, d := s.Clock.Now().In(loc).Date()
		from = time.Date(y, m, d, 0, 0, 0, 0, loc)
		from = from.AddDate(0, 0, -(int(from.Weekday())+6)%7)
	}
	if to.IsZero() {
		to = from.In(loc).AddDate(0, 0, 35)
	}
	if !to.After(from) || to.Sub(from) > calendarMost {
		return selftest.Span{}, problem.New(
			422,
			"bad-span",
			"Ask for up to nine weeks, from an earlier time to a later one.",
			"A calendar cannot go from %s to %s.",
			from.Format(time.RFC3339),
			to.Format(time.RFC3339),
		)
	}
	return selftest.Span{From: from, To: to}, nil
}

// forecast is everything that ran and will run until a time, with the present or changed plans. Due tests that must
// wait are at the earliest time at which they can begin.
func (s *State) forecast(plans map[string]*plan, until time.Time) ([]selftest.Item, []selftest.Crowd) {
	now := s.Clock.Now()
	if until.Before(now.Add(planAhead)) {
		until = now.Add(planAhead)
	}
	members := s.membersUntil(plans, now, until)
	return selftest.Schedule(selftest.TestedAnyhow(s.Items, members), members, now)
}

// Calendar shows the tests of a span of time.
func (s *Service) Calendar(from, to time.Time) (api.Calendar, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	in, err := s.calendarSpan(from, to)
	if err != nil {
		return api.Calendar{}, err
	}
	items, crowds := s.forecast(s.plans, in.To)
	return s.viewCalendar(in, s.plans, items, crowds), nil
}

// PreviewPlans shows the calendar as it would be if a plan were changed, made or removed. Nothing is stored.
func (s *Service) PreviewPlans(by string, req api.PlanPreview) (api.Calendar, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	in, err := s.calendarSpan(req.From, time.Time{})
	if err == nil && req.Weeks > 0 {
		in, err = s.calendarSpan(in.From, in.From.AddDate(0, 0, 7*req.Weeks))
	}
	if err != nil {
		return api.Calendar{}, err
	}
	plans := map[string]*plan{}
	for n, p := range s.plans {
		plans[n] = p
	}
	switch {
	case req.Name == "":
	case req.Remove && (s.plans[req.Name] == nil || req.Name == theFleetPlan):
		return api.Calendar{}, problem.New(
			404,
			"no-plan",
			"List them with: lantern plan list",
			"No plan %q that could be removed.",
			req.Name,
		)
	case req.Remove:
		delete(plans, req.Name)
	default:
		p, err := s.changed(by, req.Name, req.Change)
		if err != nil {
			return api.Calendar{}, err
		}
		plans[req.Name] = p
	}
	now, crowdsNow := s.forecast(s.plans, in.To)
	then, crowds := s.forecast(plans, in.To)
	out := s.viewCalendar(in, plans, then, crowds)
	before := map[string]time.Time{}
	for _, it := range now {
		if it.State == selftest.Planned {
			before[ItemID(&it)] = it.At
		}
	}
	e := api.PlanEffect{UntestedNow: untested(crowdsNow), UntestedThen: untested(crowds)}
	for _, it := range then {
		at, known := before[ItemID(&it)]
		switch {
		case it.State != selftest.Planned:
			continue
		case !known:
			e.Begun++
		case !at.Equal(it.At):
			e.Moved++
		}
		delete(before, ItemID(&it))
	}
	e.Ended = len(before)
	out.Effect = e
	return out, nil
}

func untested(crowds []selftest.Crowd) (n int) {
	for _, c := range crowds {
		n += len(c.Left)
	}
	return n
}

func (s *State) viewCalendar(
	in selftest.Span,
	plans map[string]*plan,
	items []selftest.Item,
	crowds []selftest.Crowd,
) api.Calendar {
	now := s.Clock.Now()
	out := api.Calendar{
		From:      in.From,
		To:        in.To,
		Zone:      plans[theFleetPlan].Change.Zone,
		Hours:     []api.CalendarHour{},
		Times:     []api.PlanTimes{},
		Held:      []api.PlannedTest{},
		Missed:    []api.PlannedTest{},
		Crowds:    []api.Crowd{},
		Unsettled: []string{},
	}
	for at := in.From; at.Before(in.To); at = at.Add(time.Hour) {
		out.Hours = append(out.Hours, api.CalendarHour{At: at})
	}
	for i := range items {
		it := &items[i]
		if it.State == selftest.Missed && in.Holds(it.Period.To.Add(-1)) {
			out.Missed = append(out.Missed, s.viewItem(it, now))
		}
		if it.At.IsZero() || it.State == selftest.Missed {
			continue
		}
		if it.Due(now) {
			out.Held = append(out.Held, s.viewItem(it, now))
			continue
		}
		if in.Holds(it.At) {
			out.Tests++
		}
		from, to := int(it.At.Sub(in.From)/time.Hour), int((it.At.Add(it.Takes).Sub(in.From)-1)/time.Hour)
		if it.At.Before(in.From) {
			from = 0
		}
		for h := from; h <= min(to, len(out.Hours)-1); h++ {
			if it.Kind == drive.SelfTestExtended {
				out.Hours[h].Extended++
			} else {
				out.Hours[h].Short++
			}
		}
	}
	slices.SortFunc(
		out.Held,
		func(a, b api.PlannedTest) int { return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Tail, b.Tail)) },
	)
	slices.SortFunc(out.Missed, func(a, b api.PlannedTest) int {
		return cmp.Or(b.PeriodTo.Compare(a.PeriodTo), cmp.Compare(a.Tail, b.Tail))
	})
	const most = 200
	out.Held, out.Missed = out.Held[:min(most, len(out.Held))], out.Missed[:min(most, len(out.Missed))]
	for _, c := range crowds {
		v := api.Crowd{
			Plan:   c.Plan,
			Kind:   string(c.Kind),
			From:   c.Period.From,
			To:     c.Period.To,
			Drives: c.Drives,
			Says:   c.Says,
			Left:   []string{},
		}
		for _, key := range c.Left {
			if d := s.fleet.Drives[key]; d != nil {
				v.Left = append(v.Left, d.Tail())
			}
		}
		out.Crowds = append(out.Crowds, v)
	}
	for name, p := range plans {
		t := api.PlanTimes{Plan: name, Allowed: []api.Span{}}
		for _, span := range p.Allowed(in) {
			t.Allowed = append(t.Allowed, api.Span{From: span.From, To: span.To})
		}
		out.Times = append(out.Times, t)
	}
	slices.SortFunc(out.Times, func(a, b api.PlanTimes) int { return cmp.Compare(a.Plan, b.Plan) })
	var core []*selftest.Plan
	for _, p := range plans {
		core = append(core, &p.Plan)
	}
	places := s.judging.Places()
	for _, d := range s.fleet.ByAge() {
		if r := selftest.Choose(core, s.fleet.Where(d, places[d.Key()])); len(r.Also) > 0 {
			out.Unsettled = append(out.Unsettled, d.Tail()+": "+r.Plan.Name+" and "+r.Also[0].Name)
		}
	}
	return out
}

// viewItem is one planned test for display.
func (s *State) viewItem(it *selftest.Item, now time.Time) api.PlannedTest {
	v := api.PlannedTest{
		Drive:        it.Drive,
		Kind:         string(it.Kind),
		Plan:         it.Plan,
		State:        api.PlannedTestState(it.State),
		At:           it.At,
		TakesMinutes: int(it.Takes / time.Minute),
		PeriodFrom:   it.Period.From,
		PeriodTo:     it.Period.To,
		Why:          it.Why,
		Since:        it.Since,
	}
	if !it.At.IsZero() {
		v.Until = it.At.Add(it.Takes)
	}
	switch {
	case it.State == selftest.Planned && it.At.IsZero():
		v.State, v.Why = api.PlannedTestStateUnplaced, "no place was found for it"
		if says := s.unplaced[noPlace{it.Drive, it.Kind, it.Period}]; says != "" {
			v.Why = says
		}
	case it.Due(now):
		if v.State = api.PlannedTestStateHeld; v.Why == "" {
			v.Why = "its time has come"
		}
	}
	if d := s.fleet.Drives[it.Drive]; d != nil {
		v.Tail, v.Bay, v.Host = d.Tail(), d.BayName(), d.Host
		if at, ok := s.judging.Places()[it.Drive]; ok {
			v.Pool = at.Pool.Name
		}
		if it.State == selftest.Done {
			v.Result = s.fleet.LastTests(d)[it.Kind].Result
		}
	}
	return v
}

// PlannedTests lists tests in order of time.
func (s *Service) PlannedTests(f api.ListPlannedTestsParams) (api.PlannedTestPage, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	page := api.PlannedTestPage{Tests: []api.PlannedTest{}}
	in, err := s.calendarSpan(f.From, f.To)
	if err != nil {
		return page, err
	}
	key, id := "", ""
	if f.Drive != "" {
		d, err := s.fleet.FindDrive(f.Drive)
		if err != nil {
			return page, err
		}
		key = d.Key()
	}
	if f.Pool != "" {
		p, err := s.fleet.FindPool(f.Pool)
		if err != nil {
			return page, err
		}
		id = p.ID
	}
	items, _ := s.forecast(s.plans, in.To)
	places := s.judging.Places()
	items = slices.DeleteFunc(items, func(it selftest.Item) bool {
		at := places[it.Drive]
		return it.At.IsZero() || it.State == selftest.Missed || !it.At.Before(in.To) ||
			!it.At.Add(it.Takes).After(in.From) ||
			key != "" && it.Drive != key ||
			id != "" && (at.Pool == nil || at.Pool.ID != id)
	})
	slices.SortFunc(items, func(a, b selftest.Item) int {
		return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Drive, b.Drive), cmp.Compare(a.Kind, b.Kind))
	})
	page.Total = len(items)
	from := 0
	if f.Cursor != "" {
		if from, err = strconv.Atoi(f.Cursor); err != nil || from < 0 || from > len(items) {
			return page, problem.New(
				422,
				"bad-cursor",
				"Begin again without a cursor.",
				"The cursor is of another list.",
			)
		}
	}
	to := min(len(items), from+cmp.Or(f.Limit, 200))
	now := s.Clock.Now()
	for i := range items[from:to] {
		page.Tests = append(page.Tests, s.viewItem(&items[from+i], now))
	}
	if to < len(items) {
		page.Next = strconv.Itoa(to)
	}
	return page, nil
}

// MakeFeed makes the address of a calendar feed; an earlier one becomes invalid.
func (s *State) MakeFeed(by string) (api.Feed, error) {
	bytes := make([]byte, 24)
	if _, err := rand.Read(bytes); err != nil {
		return api.Feed{}, err
	}
	token := hex.EncodeToString(bytes)
	if err := s.EndFeed(); err != nil {
		return api.Feed{}, err
	}
	b := &store.Batch{}
	b.Put(&store.Feed{Hash: secret.Hash(token), By: by, Made: s.Clock.Now()})
	if err := s.Store.Write(b); err != nil {
		return api.Feed{}, err
	}
	return api.Feed{Path: "/calendar/" + token + ".ics"}, nil
}

// EndFeed makes the address invalid, if there is one.
func (s *State) EndFeed() error {
	_, err := store.Remove[store.Feed](s.Store, "1 = 1")
	return err
}

// FeedKnown reports whether a feed's secret is valid.
func (s *State) FeedKnown(token string) (bool, error) {
	_, err := store.One[store.Feed](s.Store, "hash = ?", secret.Hash(token))
	if errors.Is(err, store.ErrNone) {
		return false, nil
	}
	return err == nil, err
}

// FeedDay are the tests of one kind that are planned in one pool, or on the drives of a host that are in no pool, on
// one day.
type FeedDay struct {
	ID       string // constant for a plan, kind, place and day
	From, To time.Time
	Kind     string
	Place    string
	Tests    []api.PlannedTest
}

// FeedDays are the days of a calendar feed: from a month ago to five weeks ahead.
func (s *Service) FeedDays() []FeedDay {
	s.mu.RLock()
	defer s.mu.RUnlock()
	now := s.Clock.Now()
	items, _ := s.forecast(s.plans, now.AddDate(0, 0, 35))
	places := s.judging.Places()
	loc := s.plans[theFleetPlan].Zone
	days := map[string]*FeedDay{}
	for i := range items {
		it := &items[i]
		if it.At.IsZero() || it.State == selftest.Missed || it.State == selftest.Dropped {
			continue
		}
		place := ""
		if d := s.fleet.Drives[it.Drive]; d != nil {
			place = d.Host
		}
		if at, ok := places[it.Drive]; ok {
			place = at.Pool.Name
		}
		id := it.At.In(loc).Format("20060102") + "-" + string(it.Kind) + "-" + place
		day := days[id]
		if day == nil {
			day = &FeedDay{ID: id, From: it.At, To: it.At.Add(it.Takes), Kind: string(it.Kind), Place: place}
			days[id] = day
		}
		if it.At.Before(day.From) {
			day.From = it.At
		}
		if end := it.At.Add(it.Takes); end.After(day.To) {
			day.To = end
		}
		day.Tests = append(day.Tests, s.viewItem(it, now))
	}
	out := make([]FeedDay, 0, len(days))
	for _, d := range days {
		slices.SortFunc(
			d.Tests,
			func(a, b api.PlannedTest) int { return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Tail, b.Tail)) },
		)
		out = append(out, *d)
	}
	slices.SortFunc(out, func(a, b FeedDay) int { return cmp.Or(a.From.Compare(b.From), cmp.Compare(a.ID, b.ID)) })
	return out
}
