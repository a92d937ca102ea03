package selftests

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"time"
	_ "time/tzdata"

	"lantern/internal/api"
	"lantern/internal/core/drive"
	"lantern/internal/core/selftest"
	"lantern/internal/recurrence"
	"lantern/internal/service/fleet"
	"lantern/internal/service/judging"
	"lantern/internal/service/ledger"
	"lantern/internal/service/problem"
	"lantern/internal/store"
)

// plan is a plan as people wrote it, and in the form of the core.
type plan struct {
	planDoc
	selftest.Plan
	tests []planTest
}

type planTest struct {
	kind   drive.SelfTestKind
	rule   *recurrence.Rule
	within time.Duration
}

// planDoc is the stored form of a plan.
type planDoc struct {
	Name   string         `json:"name"`
	Change api.PlanChange `json:"plan"`
	By     string         `json:"by"`
	Made   time.Time      `json:"made"` // when it was first stored: repetitions such as every other week count from there
	Since  time.Time      `json:"since"`
}

// theFleetPlan exists from the first start, and cannot be removed.
const theFleetPlan = "fleet"

func (s *State) LoadPlans() error {
	rows, err := store.All[store.Plan](s.Store, "name", "")
	if err != nil {
		return err
	}
	s.plans = map[string]*plan{}
	for _, row := range rows {
		var doc planDoc
		if err := json.Unmarshal(row.Doc, &doc); err != nil {
			return fmt.Errorf("plan %s: %w", row.Name, err)
		}
		p, err := newPlan(doc)
		if err != nil { // the rules of a time zone can change; the service starts anyway, and the next plan applies
			s.Log.Error("a plan is left out", "plan", row.Name, "error", err)
			continue
		}
		s.plans[row.Name] = p
	}
	if s.plans[theFleetPlan] == nil {
		now := s.Clock.Now()
		doc := planDoc{
			Name:  theFleetPlan,
			By:    "the first start",
			Made:  now,
			Since: now,
			Change: api.PlanChange{
				Covers: []api.PlanScope{{Kind: api.PlanScopeKindFleet}},
				Zone:   localZone(),
				Tests: []api.PlanTest{
					{Kind: api.PlanTestKindShort, Every: "every Monday 00:00"},
					{Kind: api.PlanTestKindExtended, Every: "every month on the 1st 00:00"},
				},
				Windows:     []string{},
				Barred:      []string{},
				Limits:      api.PlanLimits{Group: 1, Pool: 2, Enclosure: 4, Host: 6},
				BusyPercent: 50,
			},
		}
		p, err := newPlan(doc)
		if err != nil {
			return err
		}
		b := &store.Batch{}
		b.Add(p.row()) // an existing one that cannot be read is left unchanged
		if err := s.Store.Write(b); err != nil {
			return err
		}
		s.plans[theFleetPlan] = p
	}
	items, err := store.All[store.PlannedTest](s.Store, "drive, kind", "")
	if err != nil {
		return err
	}
	s.Items = make([]selftest.Item, 0, len(items))
	for _, row := range items {
		it, err := fleet.FromDocument[selftest.Item](row.Doc)
		if err != nil {
			return fmt.Errorf("planned test of %s: %w", row.Drive, err)
		}
		s.Items = append(s.Items, it)
	}
	s.planner.at, s.planner.draft, s.planner.unwritten, s.turnAt = time.Time{}, nil, nil, time.Time{}
	s.fleet.Names.Anew()
	return nil
}

func (p *plan) row() *store.Plan {
	return &store.Plan{Name: p.planDoc.Name, Doc: ledger.Document(p.planDoc)}
}

// newPlan parses what people wrote. Its errors are for people.
func newPlan(doc planDoc) (*plan, error) {
	c := doc.Change
	p := &plan{planDoc: doc}
	p.Change.Windows, p.Change.Barred = []string{}, []string{} // to be written as they are read
	loc, err := time.LoadLocation(c.Zone)
	if err != nil || c.Zone == "" || c.Zone == "Local" {
		return nil, problem.New(
			422,
			"bad-zone",
			"Name it as Europe/Berlin, America/New_York or UTC.",
			"No time zone %q.",
			c.Zone,
		)
	}
	p.Plan = selftest.Plan{
		Name:   doc.Name,
		Zone:   loc,
		Over:   c.RunOver,
		Margin: c.LeastMargin,
		Busy:   c.BusyPercent / 100,
		Wake:   c.Wake,
		Limits: selftest.Limits{
			Group:     c.Limits.Group,
			Pool:      c.Limits.Pool,
			Enclosure: c.Limits.Enclosure,
			Host:      c.Limits.Host,
		},
	}
	if c.BusyPercent < 0 || c.BusyPercent > 100 || c.LeastMargin < 0 ||
		min(c.Limits.Group, c.Limits.Pool, c.Limits.Enclosure, c.Limits.Host) < 0 {
		return nil, problem.New(
			422,
			"bad-plan",
			"Give numbers from 0 on; 0 is no limit.",
			"A limit of a plan cannot be negative, and a share is between 0 and 100 %%.",
		)
	}
	seen := map[api.PlanTestKind]bool{}
	for _, t := range c.Tests {
		if !t.Kind.Valid() || seen[t.Kind] {
			return nil, problem.New(
				422,
				"bad-plan",
				"Name each of short, extended and conveyance at most once.",
				"A plan cannot have %q tests twice, or not at all.",
				t.Kind,
			)
		}
		seen[t.Kind] = true
		if t.WithinHours < 0 || t.WithinHours > 24*366 {
			return nil, problem.New(
				422,
				"bad-plan",
				"Say how many hours after it comes; 0 is until it comes again.",
				"%g hours are not a valid time for tests.",
				t.WithinHours,
			)
		}
		r, err := recurrence.Parse(t.Every, loc, doc.Made)
		if err != nil {
			return nil, problem.New(
				422,
				"bad-recurrence",
				"See: lantern plan set --help",
				"The %s tests of the plan: %s.",
				t.Kind,
				err,
			)
		}
		p.tests = append(
			p.tests,
			planTest{drive.SelfTestKind(t.Kind), r, time.Duration(t.WithinHours * float64(time.Hour))},
		)
	}
	for _, list := range []struct {
		of   string
		text []string
		to   *[]selftest.Window
		as   *[]string
	}{{"window", c.Windows, &p.Windows, &p.Change.Windows}, {"barred time", c.Barred, &p.Plan.Barred, &p.Change.Barred}} {
		for _, text := range list.text {
			w, err := selftest.ParseWindow(text)
			if err != nil {
				return nil, problem.New(
					422,
					"bad-window",
					"See: lantern plan set --help",
					"A %s of the plan: %s.",
					list.of,
					err,
				)
			}
			if day, empty := w.Vanishes(loc, doc.Since); empty && list.of == "window" {
				return nil, problem.New(
					422,
					"bad-window",
					"Use another start or end.",
					"The window %s is empty on %s: in %s the clocks are put forward over it.",
					w,
					day.Format("Monday 2 January 2006"),
					c.Zone,
				)
			}
			*list.to, *list.as = append(*list.to, w), append(*list.as, w.String())
		}
	}
	for _, sc := range c.Covers {
		p.Scopes = append(p.Scopes, selftest.Scope{Kind: selftest.ScopeKind(sc.Kind), Name: sc.Id})
	}
	return p, nil
}

// settle resolves the scopes of a plan.
func (s *State) settle(c *api.PlanChange) error {
	if len(c.Covers) == 0 {
		return problem.New(422, "bad-plan", "Name a pool, a host, drives, or the fleet.", "The plan applies to nothing.")
	}
	for i := range c.Covers {
		sc := &c.Covers[i]
		switch sc.Kind {
		case api.PlanScopeKindFleet:
			sc.Name, sc.Id = "", ""
		case api.PlanScopeKindHost:
			if s.fleet.Hosts[sc.Name] == nil {
				return fleet.NoHost(s.fleet, sc.Name)
			}
			sc.Id = sc.Name
		case api.PlanScopeKindPool:
			p, err := s.fleet.FindPool(cmp.Or(sc.Id, sc.Name))
			if err != nil {
				return err
			}
			sc.Name, sc.Id = p.Name, p.ID
		case api.PlanScopeKindDrive:
			d, err := s.fleet.FindDrive(cmp.Or(sc.Id, sc.Name))
			if err != nil {
				return err
			}
			sc.Name, sc.Id = d.Tail(), d.Key()
		default:
			return problem.New(
				422,
				"bad-plan",
				"A plan is for the fleet, a host, a pool or a drive.",
				"%q is not something a plan can apply to.",
				sc.Kind,
			)
		}
	}
	return nil
}

// changed gives the plan after a change, and refuses contradictions.
func (s *State) changed(by, name string, c api.PlanChange) (*plan, error) {
	if !judging.RuleID.MatchString(name) {
		return nil, problem.New(
			422,
			"bad-name",
			"Use lower-case letters, digits and hyphens.",
			"%q is not a valid name for a plan.",
			name,
		)
	}
	if err := s.settle(&c); err != nil {
		return nil, err
	}
	fleet := slices.ContainsFunc(c.Covers, func(sc api.PlanScope) bool { return sc.Kind == api.PlanScopeKindFleet })
	if fleet != (name == theFleetPlan) {
		return nil, problem.New(
			409,
			"plan-rank",
			"Change the plan fleet instead: lantern plan set fleet",
			"The plan for all drives is named %s, and applies to nothing else.",
			theFleetPlan,
		)
	}
	now := s.Clock.Now()
	doc := planDoc{Name: name, Change: c, By: by, Made: now, Since: now}
	if was := s.plans[name]; was != nil {
		doc.Made = was.Made
	}
	for i := range doc.Change.Tests {
		doc.Change.Tests[i].Rrule, doc.Change.Tests[i].Skips = "", ""
	}
	p, err := newPlan(doc)
	if err != nil {
		return nil, err
	}
	// Two equally specific plans for a drive: it is ambiguous which one is meant.
	plans := s.CorePlans(p, name)
	var both []string
	other := ""
	for _, d := range s.fleet.ByAge() {
		r := selftest.Choose(plans, s.fleet.Where(d, s.judging.Places()[d.Key()]))
		for _, also := range append([]*selftest.Plan{r.Plan}, r.Also...) {
			if len(r.Also) > 0 &&
				slices.ContainsFunc(
					append([]*selftest.Plan{r.Plan}, r.Also...),
					func(x *selftest.Plan) bool { return x.Name == name },
				) &&
				also.Name != name {
				both, other = append(both, d.Tail()), also.Name
			}
		}
	}
	if len(both) > 0 {
		return nil, problem.New(
			409,
			"plan-rank",
			fmt.Sprintf(
				"Take them out of one of the two, or give them a more specific plan (a drive's own stands "+
					"before its pool's, that before its host's): lantern plan show %s",
				other,
			),
			"The plans %s and %s would both be for %s, and neither is more specific.",
			name,
			other,
			listed(both, 4),
		)
	}
	return p, nil
}

// CorePlans are all plans, with one of them replaced, or removed when it is nil.
func (s *State) CorePlans(with *plan, name string) (out []*selftest.Plan) {
	for n, p := range s.plans {
		if n != name {
			out = append(out, &p.Plan)
		}
	}
	if with != nil {
		out = append(out, &with.Plan)
	}
	slices.SortFunc(out, func(a, b *selftest.Plan) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// Plans lists all plans, the most specific first.
func (s *Service) Plans() []api.Plan {
	s.mu.RLock()
	defer s.mu.RUnlock()
	follow := map[string]int{}
	for _, m := range s.members(s.plans, s.Clock.Now()) {
		follow[m.Plan.Name]++
	}
	out := []api.Plan{}
	for _, p := range s.plans {
		out = append(out, viewPlan(p, follow[p.planDoc.Name]))
	}
	rank := map[api.PlanScopeKind]int{api.PlanScopeKindHost: 1, api.PlanScopeKindPool: 2, api.PlanScopeKindDrive: 3}
	top := func(p api.Plan) (n int) {
		for _, sc := range p.Covers {
			n = max(n, rank[sc.Kind])
		}
		return n
	}
	slices.SortFunc(
		out,
		func(a, b api.Plan) int { return cmp.Or(cmp.Compare(top(b), top(a)), cmp.Compare(a.Name, b.Name)) },
	)
	return out
}

// SetPlan stores a new or changed plan; its tests that have not begun are planned again.
func (s *Service) SetPlan(by, name string, c api.PlanChange) (api.Plan, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p, err := s.changed(by, name, c)
	if err != nil {
		return api.Plan{}, err
	}
	b := &store.Batch{}
	b.Put(p.row())
	s.AddEvent(b, api.EventKindPlan, name, fmt.Sprintf("%s wrote the plan %s: %s", by, name, sentence(p)))
	s.plans[name] = p
	s.replan(b, s.Clock.Now())
	if err := s.Commit(b); err != nil {
		return api.Plan{}, err
	}
	n := 0
	for _, m := range s.members(s.plans, s.Clock.Now()) {
		if m.Plan.Name == name {
			n++
		}
	}
	return viewPlan(p, n), nil
}

// RemovePlan removes a plan.
func (s *Service) RemovePlan(by, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	p := s.plans[name]
	switch {
	case p == nil:
		return problem.New(404, "no-plan", "List them with: lantern plan list", "No plan %q.", name)
	case name == theFleetPlan:
		return problem.New(
			409,
			"plan-rank",
			"Give it no tests instead: lantern plan set fleet --short never --extended never",
			"The plan for all drives stays: without it nothing would be tested.",
		)
	}
	b := &store.Batch{}
	b.Drop(p.row())
	s.AddEvent(b, api.EventKindPlan, name, by+" removed the plan "+name)
	delete(s.plans, name)
	s.replan(b, s.Clock.Now())
	return s.Commit(b)
}
